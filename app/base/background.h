#pragma once
// Work that would make the window wait, done beside it.

#include <atomic>
#include <functional>
#include <future>
#include <memory>
#include <thread>
#include <vector>

#include <QObject>

#include "base/cancel.h"

namespace hedgerow::app {

/// How long the window waits for what mostly takes no time at all, before it goes on without it: ms.
inline int patience = 150;

/// One piece of work at a time; of those asked for meanwhile only the newest comes next.
class Background : public QObject {
public:
    /// Runs beside the window and ends early when it is cancelled; what it returns runs in the window, unless something
    /// newer was asked for.
    using Work = std::function<std::function<void()>(const CancelToken& cancel)>;

    using QObject::QObject;
    ~Background() override;

    void start(Work work);
    /// Forgets what is on its way.
    void drop();
    /// Waits for what is on its way, and forgets what was to come after it.
    void finish();
    /// Waits a moment for what is on its way: what is ready by then is delivered before this returns. @return whether
    bool waitFor(int milliseconds);
    bool busy() const { return busy_; }

private:
    /// What a thread has found; whoever sees it first delivers it.
    struct Outcome {
        std::promise<void> promise;
        std::shared_future<void> ready = promise.get_future().share();
        std::function<void()> deliver;
        bool delivered = false;
    };
    void launch();
    void deliver(Outcome& outcome, const CancelToken& cancel);

    std::thread thread_;
    std::shared_ptr<Outcome> outcome_;
    CancelToken cancel_;
    Work next_;
    bool busy_ = false;
};

/// Work beside the window that is finished whatever becomes of the window, and joined at the latest with its end.
class Finishers {
public:
    ~Finishers() { finish(); }
    void start(std::function<void()> work);
    /// Waits for all of them.
    void finish();

private:
    struct Finisher {
        std::thread thread;
        std::shared_ptr<std::atomic<bool>> over;
    };
    std::vector<Finisher> all_;
};

}  // namespace hedgerow::app

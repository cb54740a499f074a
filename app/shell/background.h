#pragma once
// Work that would make the window wait, done beside it.

#include <functional>
#include <thread>

#include <QObject>

#include "base/cancel.h"

namespace hedgerow::app {

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
    bool busy() const { return busy_; }

private:
    void launch();

    std::thread thread_;
    CancelToken cancel_;
    Work next_;
    bool busy_ = false;
};

}  // namespace hedgerow::app

#include "base/background.h"

#include <new>
#include <utility>

#include "base/machine.h"

namespace hedgerow::app {

Background::~Background() {
    cancel_.cancel();
    if (thread_.joinable()) thread_.join();
}

void Background::drop() {
    next_ = nullptr;
    cancel_.cancel();
}

void Background::finish() {
    next_ = nullptr;
    if (thread_.joinable()) thread_.join();
}

void Background::start(Work work) {
    drop();
    next_ = std::move(work);
    if (!busy_) launch();
}

void Background::launch() {
    busy_ = true;
    cancel_ = CancelToken();
    if (thread_.joinable()) thread_.join();  // it has delivered
    outcome_ = std::make_shared<Outcome>();
    thread_ = std::thread([this, work = std::exchange(next_, nullptr), cancel = cancel_, outcome = outcome_] {
        try {
            outcome->deliver = work(cancel);
        } catch (const std::bad_alloc&) {
            keepMemoryReserve();  // there is no room for it now: what is shown stays
        }
        outcome->promise.set_value();
        QMetaObject::invokeMethod(this, [this, outcome, cancel] { deliver(*outcome, cancel); });
    });
}

void Background::deliver(Outcome& outcome, const CancelToken& cancel) {
    if (std::exchange(outcome.delivered, true)) return;
    busy_ = false;
    if (next_)
        launch();
    else if (const auto found = std::exchange(outcome.deliver, nullptr); found && !cancel.cancelled())
        found();
}

bool Background::waitFor(int milliseconds) {
    const std::shared_ptr<Outcome> outcome = outcome_;
    if (!busy_) return true;
    if (outcome->ready.wait_for(std::chrono::milliseconds(milliseconds)) != std::future_status::ready) return false;
    deliver(*outcome, cancel_);
    return !busy_;
}

void Finishers::finish() {
    for (Finisher& finisher : all_) finisher.thread.join();
    all_.clear();
}

void Finishers::start(std::function<void()> work) {
    std::erase_if(all_, [](Finisher& finisher) {
        if (!*finisher.over) return false;
        finisher.thread.join();
        return true;
    });
    auto over = std::make_shared<std::atomic<bool>>(false);
    all_.push_back({std::thread([work = std::move(work), over]() mutable {
                        work();
                        work = nullptr;  // what it holds goes here, not in the window
                        *over = true;
                    }),
                    over});
}

}  // namespace hedgerow::app

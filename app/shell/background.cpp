#include "shell/background.h"

#include <utility>

namespace hedgerow::app {

Background::~Background() {
    cancel_.cancel();
    if (thread_.joinable()) thread_.join();
}

void Background::drop() {
    next_ = nullptr;
    cancel_.cancel();
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
    thread_ = std::thread([this, work = std::exchange(next_, nullptr), cancel = cancel_] {
        auto deliver = work(cancel);
        QMetaObject::invokeMethod(this, [this, deliver = std::move(deliver), cancel] {
            busy_ = false;
            if (next_)
                launch();
            else if (!cancel.cancelled())
                deliver();
        });
    });
}

}  // namespace hedgerow::app

#pragma once
// A request to stop, shared between the one who asks and the one who works.

#include <atomic>
#include <memory>

namespace hedgerow {

/// Copies share one flag. Safe to use from several threads.
class CancelToken {
public:
    void cancel() const { flag_->store(true, std::memory_order_relaxed); }
    bool cancelled() const { return flag_->load(std::memory_order_relaxed); }

private:
    std::shared_ptr<std::atomic<bool>> flag_ = std::make_shared<std::atomic<bool>>(false);
};

}  // namespace hedgerow

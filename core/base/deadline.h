#pragma once
// A stop that comes by itself.

#include <chrono>
#include <condition_variable>
#include <mutex>
#include <thread>

#include "base/cancel.h"

namespace hedgerow {

/// Stops some work after a time, or when another stop is asked for; as long as it lives.
class Deadline {
public:
    Deadline(double seconds, const CancelToken& work, const CancelToken& all)
        : thread_([this, seconds, &work, &all] {
              std::unique_lock lock(mutex_);
              const auto end = std::chrono::steady_clock::now() + std::chrono::duration<double>(seconds);
              while (!done_ && !all.cancelled() && std::chrono::steady_clock::now() < end)
                  over_.wait_for(lock, std::chrono::milliseconds(5));
              if (!done_) work.cancel();
          }) {}
    ~Deadline() {
        {
            const std::lock_guard lock(mutex_);
            done_ = true;
        }
        over_.notify_all();
        thread_.join();
    }
    Deadline(const Deadline&) = delete;
    Deadline& operator=(const Deadline&) = delete;

private:
    std::mutex mutex_;
    std::condition_variable over_;
    bool done_ = false;
    std::thread thread_;  ///< last: it uses the others
};

}  // namespace hedgerow

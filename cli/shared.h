#pragma once
// What several commands share: reading a project, settings of a run, messages, interrupts.

#include <atomic>
#include <chrono>
#include <memory>
#include <optional>
#include <string>
#include <thread>

#include "base/cancel.h"
#include "commands.h"
#include "runs/run.h"

namespace hedgerow::cli {

Json toJson(const Error& error);
/// What is no UTF-8 is replaced: names in a project may be any bytes.
void printJson(const Json& json);
/// An error, as JSON on standard output or as a line on standard error.
void say(const Error& error, bool json);
/// Loads a project or reports why not.
std::shared_ptr<const Project> load(const std::string& path, bool json, bool allowOutside = false);
/// Nothing after a message.
std::optional<RunSettings> settingsOf(const RunOptions& options);
/// The project with the tolerance that was asked for in all its plans.
std::shared_ptr<const Project> withTolerance(std::shared_ptr<const Project> project, const RunOptions& options);

/// From here on an interrupt is noted.
void listenForInterrupts();
bool wasInterrupted();

/// Passes an interrupt on while it lives.
class Watcher {
public:
    explicit Watcher(const CancelToken& cancel)
        : thread_([this, cancel] {
              while (!over_) {
                  if (wasInterrupted()) cancel.cancel();
                  std::this_thread::sleep_for(std::chrono::milliseconds(20));
              }
          }) {}
    ~Watcher() {
        over_ = true;
        thread_.join();
    }
    Watcher(const Watcher&) = delete;
    Watcher& operator=(const Watcher&) = delete;

private:
    std::atomic<bool> over_ = false;
    std::thread thread_;
};

}  // namespace hedgerow::cli

#include "session/recovery.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>
#include <algorithm>
#include <cstdlib>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "formats/file.h"
#include "formats/hedge/hedge.h"

namespace hedgerow {

namespace {

std::filesystem::path lockOf(const std::filesystem::path& slot) { return slot.string() + ".lock"; }

/// Opens the lock file of a slot and takes the lock; -1 when somebody holds it.
int takeLock(const std::filesystem::path& slot, bool create) {
    const int lock = ::open(lockOf(slot).c_str(), O_RDWR | O_CLOEXEC | (create ? O_CREAT : 0), 0600);
    if (lock < 0) return -1;
    if (::flock(lock, LOCK_EX | LOCK_NB) == 0) return lock;
    ::close(lock);
    return -1;
}

}  // namespace

RecoverySlot::RecoverySlot(std::filesystem::path folder) {
    std::error_code ignored;
    std::filesystem::create_directories(folder, ignored);
    for (int n = 0; n < 1000 && lock_ < 0; ++n) {
        file_ = folder / fmt::format("{}-{}.json", ::getpid(), n);
        if (!std::filesystem::exists(file_, ignored)) lock_ = takeLock(file_, true);
    }
}

RecoverySlot::~RecoverySlot() {
    if (lock_ < 0) return;
    clear();
    std::error_code ignored;
    std::filesystem::remove(lockOf(file_), ignored);
    ::close(lock_);
}

Status RecoverySlot::keep(const Project& project, const std::string& originalPath) {
    if (lock_ < 0)
        return Error{ErrorCode::file,
                     "unsaved work cannot be kept: " + file_.parent_path().string() + " is not writable"};
    const nlohmann::ordered_json json = {{"original", originalPath}, {"project", writeHedge(project)}};
    return writeFileAtomically(file_, json.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace));
}

void RecoverySlot::clear() {
    std::error_code ignored;
    std::filesystem::remove(file_, ignored);
}

std::vector<RecoveredWork> RecoverySlot::pending(const std::filesystem::path& folder) {
    std::vector<RecoveredWork> found;
    std::vector<std::filesystem::directory_entry> entries;
    std::error_code error;
    for (std::filesystem::directory_iterator at(folder, error), end; !error && at != end; at.increment(error))
        if (at->path().extension() == ".json") entries.push_back(*at);
    std::sort(entries.begin(), entries.end(), [](const auto& a, const auto& b) {
        std::error_code ignored;
        return a.last_write_time(ignored) < b.last_write_time(ignored);
    });
    for (const auto& entry : entries) {
        const int lock = takeLock(entry.path(), true);
        if (lock < 0) continue;
        ::close(lock);
        const auto text = readFile(entry.path());
        if (!text) continue;
        const auto json = nlohmann::ordered_json::parse(*text, nullptr, false);
        if (!json.is_object() || !json.contains("project") || !json["project"].is_string()) continue;
        auto loaded = readHedge(json["project"].get<std::string>());
        if (!loaded) continue;
        const bool named = json.contains("original") && json["original"].is_string();
        found.push_back({entry.path(), named ? json["original"].get<std::string>() : "", std::move(loaded->project)});
    }
    return found;
}

void RecoverySlot::discard(const std::filesystem::path& slot) {
    std::error_code ignored;
    std::filesystem::remove(slot, ignored);
    std::filesystem::remove(lockOf(slot), ignored);
}

std::filesystem::path RecoverySlot::standardFolder() {
    const char* state = std::getenv("XDG_STATE_HOME");
    const char* home = std::getenv("HOME");
    const std::filesystem::path base = state && *state
                                           ? std::filesystem::path(state)
                                           : std::filesystem::path(home ? home : "/tmp") / ".local" / "state";
    return base / "hedgerow" / "recovery";
}

}  // namespace hedgerow

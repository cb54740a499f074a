#include "files/recovery.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>
#include <algorithm>
#include <cstdlib>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "formats/hedge/json_place.h"

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

Status RecoverySlot::keep(const Project& project, const std::string& originalPath, const std::string& stamp) {
    if (lock_ < 0)
        return Error{ErrorCode::file,
                     "unsaved work cannot be kept: " + file_.parent_path().string() + " is not writable"};
    const nlohmann::ordered_json json = {{"original", originalPath},
                                         {"stamp", stamp},
                                         {"folder", project.folder.path().string()},
                                         {"project", writeHedge(project)}};
    return writeFileAtomically(file_, json.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace));
}

void RecoverySlot::clear() {
    std::error_code ignored;
    std::filesystem::remove(file_, ignored);
}

namespace {

/// Locks that guard nothing, and copies half written, of processes that died.
void tidy(const std::filesystem::path& folder) {
    const auto opened = OpenFolder::open(folder);
    if (!opened) return;
    constexpr std::string_view slotEnding = ".json", lockEnding = ".json.lock";
    for (const std::string& name : opened->names()) {
        const std::size_t end = name.find(slotEnding);
        if (end == std::string::npos) continue;
        const std::string slot = name.substr(0, end + slotEnding.size());
        const bool guardsNothing =
            name.ends_with(lockEnding) && opened->entry(slot) == OpenFolder::Entry::none;
        if (!guardsNothing && !isHalfWritten(name, slot)) continue;
        const int lock = takeLock(folder / slot, false);
        if (lock < 0 && opened->entry(slot + ".lock") != OpenFolder::Entry::none) continue;  // its owner lives
        (void)opened->removeFile(name);
        if (lock >= 0) ::close(lock);
    }
}

}  // namespace

std::vector<RecoveredWork> RecoverySlot::pending(const std::filesystem::path& folder) {
    tidy(folder);
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
        if (!text || !beyondBounds(*text).empty()) continue;
        const auto json = nlohmann::ordered_json::parse(*text, nullptr, false);
        if (!json.is_object() || !json.contains("project") || !json["project"].is_string()) continue;
        auto loaded = readHedge(json["project"].get<std::string>());
        if (!loaded) continue;
        const auto field = [&](const char* key) {
            return json.contains(key) && json[key].is_string() ? json[key].get<std::string>() : std::string();
        };
        loaded->project.folder.moveTo(field("folder"));
        found.push_back({entry.path(), field("original"), field("stamp"), std::move(loaded->project)});
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

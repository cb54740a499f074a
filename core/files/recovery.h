#pragma once
// Copies of unsaved work that outlive a crash.
//
// Each running window owns one slot: a file with the project beside a lock file that the process holds. A slot whose
// lock nobody holds belongs to a process that died, and is offered at the next start.

#include <filesystem>
#include <string>
#include <vector>

#include "base/result.h"
#include "model/project.h"

namespace hedgerow {

struct RecoveredWork {
    std::filesystem::path slot;
    std::string originalPath;  ///< "" when it was never saved
    std::string stamp;         ///< of the original when it was last read or written (fileStamp)
    Project project;           ///< with the folder it had
};

class RecoverySlot {
public:
    /// Opens a slot of its own in `folder`, which is made when it is missing.
    explicit RecoverySlot(std::filesystem::path folder);
    /// Removes the slot: the process ends in an orderly way.
    ~RecoverySlot();
    RecoverySlot(const RecoverySlot&) = delete;
    RecoverySlot& operator=(const RecoverySlot&) = delete;

    /// @param stamp  of the original, as it was read
    Status keep(const Project& project, const std::string& originalPath, const std::string& stamp = "");
    /// Nothing unsaved is left.
    void clear();

    /// What processes that died have left, oldest first. Unreadable slots are left alone; locks that guard nothing, and
    /// copies half written, are removed.
    static std::vector<RecoveredWork> pending(const std::filesystem::path& folder);
    static void discard(const std::filesystem::path& slot);
    /// $XDG_STATE_HOME/hedgerow/recovery, or below ~/.local/state.
    static std::filesystem::path standardFolder();

private:
    std::filesystem::path file_;
    int lock_ = -1;
};

}  // namespace hedgerow

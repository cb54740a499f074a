#pragma once
// A study in a folder, for processes that share nothing but files: of one machine, of a cluster, or of both.
//
//     question.study        the question with the project, and the rows once they are gathered
//     chunks/000012.json    what one task has made: written whole or not at all; it may be made twice, or lost and made again

#include <filesystem>
#include <vector>

#include "base/folder.h"
#include "studies/study_file.h"

namespace hedgerow {

class StudyFolder {
public:
    /// A new folder. @param chunk  rows of a task, at least 1. Errors: it exists, or cannot be written.
    static Result<StudyFolder> create(const std::filesystem::path& folder, const StudySetup& setup, std::size_t chunk);
    static Result<StudyFolder> open(const std::filesystem::path& folder);

    std::size_t runs() const { return runs_; }
    std::size_t chunkSize() const { return chunk_; }
    std::size_t chunks() const { return (runs_ + chunk_ - 1) / chunk_; }
    /// Those whose results are not there yet.
    std::vector<std::size_t> missing() const;
    /// Runs a chunk with one thread and writes what came of it. Errors: no such chunk; the disk; stopped.
    /// @param anywhere  as in StudyFile::setup
    Status work(std::size_t chunk, const CancelToken& cancel, bool anywhere = false) const;
    /// Takes the results that are there into the file of the study. @return how many chunks there are in all of them
    Result<std::size_t> gather() const;
    /// The same into a file that is held open, row by row: a window looks at them as they come.
    Result<std::size_t> gather(StudySink& rows) const;
    const std::filesystem::path& path() const { return folder_; }
    /// The folder held open, whatever links lead to it: what is written in it goes nowhere else.
    Result<OpenFolder> held() const;
    std::filesystem::path question() const { return folder_ / "question.study"; }

private:
    std::filesystem::path chunkFile(std::size_t chunk) const;

    std::filesystem::path folder_;
    std::size_t runs_ = 0, chunk_ = 1;
};

}  // namespace hedgerow

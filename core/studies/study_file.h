#pragma once
// The file of a study: one SQLite database with the question, the project as it was, and a row for each run. Each row is written as soon as
// its run is over: a crash loses those that are on their way, and no other.

#include <filesystem>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "studies/study.h"

struct sqlite3;

namespace hedgerow {

/// What a file holds, column by column: what is shown, exported and counted.
struct StudyTable {
    std::string name = {}, started = {}, asked = {};  ///< `asked`: which runs, as typed
    std::size_t runs = 0;  ///< that were asked for
    std::vector<std::string> varied = {}, variedUnits = {};      ///< targets
    std::vector<std::string> measured = {}, measuredUnits = {};  ///< as typed
    std::vector<std::optional<double>> above = {}, below = {};   ///< limits of the measures
    std::vector<std::size_t> index = {};            ///< number of each row, from 0, in rising order
    std::vector<std::vector<std::string>> points = {};  ///< of each row
    std::vector<std::vector<double>> values = {};   ///< of each measure, by row; not a number where the run failed
    std::vector<std::string> errors = {};
    std::vector<double> seconds = {}, building = {};
    std::vector<char> good = {};
    std::vector<std::string> conclusion = {};  ///< of a search that is over, in sentences
    std::size_t rows() const { return index.size(); }
    std::vector<std::vector<double>> numbers = {};  ///< of each thing that varies, by row; not a number where it is a word
    /// A value of a point as a number; not a number where it is a word.
    double number(std::size_t row, std::size_t axis) const { return numbers[axis][row]; }
    /// A row behind the others.
    void add(StudyRow row);
};

class StudyFile final : public StudySink {
public:
    /// A new file. Errors: it exists, or cannot be written.
    static Result<std::unique_ptr<StudyFile>> create(const std::filesystem::path& file, const StudySetup& setup);
    /// One that is there, to go on with or to look at. Errors: it is none.
    static Result<std::unique_ptr<StudyFile>> open(const std::filesystem::path& file, bool readOnly = false);
    ~StudyFile() override;
    StudyFile(const StudyFile&) = delete;
    StudyFile& operator=(const StudyFile&) = delete;

    const std::filesystem::path& path() const { return path_; }
    /// The question as it was asked, with the project as it was. Files that it names are read where they lie in the folder of the study or in
    /// the one above; the file may come from a stranger. @param anywhere  in the folder of the project, wherever that was
    Result<StudySetup> setup(bool anywhere = false) const;
    Result<StudyTable> table() const;

    bool has(std::size_t index) const override { return index < known_.size() && known_[index]; }
    /// @pre it was not opened read-only
    Status take(StudyRow row) override;
    Result<std::vector<StudyRow>> rows() const override;
    Status conclude(const std::vector<std::string>& words) override;
    /// Other runs of the same question: "random 400" behind "random 200", a longer list, a finer grid. Rows that are there keep their values and get
    /// the numbers that their points have now. @param before  the file's own question
    /// Errors: the question differs in more than which runs there are; a row has no place among them, or its kept traces would need another
    /// name; tasks of a cluster work on this file.
    Status extend(const StudySetup& before, const StudySetup& setup);

private:
    StudyFile() = default;
    Error fault(const std::string& what) const;
    std::string meta(const std::string& key) const;
    Status run(const char* statement);
    Status setQuestion(const StudySetup& setup);
    bool setMeta(const std::string& key, const std::string& value);

    std::filesystem::path path_;
    sqlite3* database_ = nullptr;
    std::vector<bool> known_;
};

/// The file that says how a study's folder is cut into tasks; it lies beside the file of such a study (study_folder.h).
inline constexpr std::string_view studyLayoutName = "layout.json";

/// A name for the file of a study that starts now, in the folder of a project's runs.
std::string studyFileName(const std::string& study);
/// Beside it, where tasks work on it: the name of their folder.
std::string studyTasksName(const std::string& study);
/// Those in a folder, the newest first; without opening them. Of those that tasks work on the file in their folder.
std::vector<std::string> studyFiles(const std::filesystem::path& folder);

/// The rows as .csv, .json, .h5, or .html with what they say together. Errors: another ending; the disk.
Status exportStudy(const StudyTable& table, const std::filesystem::path& path);

}  // namespace hedgerow

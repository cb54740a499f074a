#include "studies/study_file.h"

#include <hdf5.h>
#include <sqlite3.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <ctime>
#include <limits>
#include <map>
#include <random>
#include <utility>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "base/version.h"
#include "formats/file.h"
#include "formats/hdf5/hdf5_file.h"
#include "formats/hedge/hedge.h"
#include "ledger/statement.h"
#include "model/values.h"
#include "studies/study_statistics.h"

namespace hedgerow {

namespace {

using Json = nlohmann::ordered_json;
namespace fs = std::filesystem;

constexpr int formatVersion = 1, longestText = 64 << 20;
constexpr std::string_view prefix = "study-of-", ending = ".study", tasks = "-tasks", layoutName = studyLayoutName;

constexpr char schema[] = R"(
PRAGMA journal_mode = WAL;
PRAGMA synchronous = NORMAL;
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE rows (number INTEGER PRIMARY KEY, point TEXT NOT NULL, measured TEXT NOT NULL, error TEXT NOT NULL,
  seconds REAL NOT NULL, building REAL NOT NULL, good INTEGER NOT NULL);
)";

std::string now() {
    const std::time_t seconds = std::chrono::system_clock::to_time_t(std::chrono::system_clock::now());
    std::tm parts{};
    gmtime_r(&seconds, &parts);
    char text[32];
    std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &parts);
    return text;
}

Json numbers(const std::vector<double>& values) {
    Json json = Json::array();
    for (const double value : values) json.push_back(std::isfinite(value) ? Json(value) : Json(nullptr));
    return json;
}

std::string quoted(const std::string& text) {
    if (text.find_first_of(",\"\n\r") == std::string::npos) return text;
    std::string made = "\"";
    for (const char c : text) made += c == '"' ? "\"\"" : std::string(1, c);
    return made + "\"";
}

std::string escaped(const std::string& text) {
    std::string made;
    for (const char c : text)
        made += c == '<' ? "&lt;" : c == '>' ? "&gt;" : c == '&' ? "&amp;" : c == '"' ? "&quot;" : std::string(1, c);
    return made;
}

std::string headed(const std::string& name, const std::string& unit) { return unit.empty() ? name : name + " [" + unit + "]"; }

std::string csvOf(const StudyTable& table) {
    std::string text = "run";
    for (std::size_t i = 0; i < table.varied.size(); ++i) text += "," + quoted(headed(table.varied[i], table.variedUnits[i]));
    for (std::size_t i = 0; i < table.measured.size(); ++i) text += "," + quoted(headed(table.measured[i], table.measuredUnits[i]));
    text += ",keeps limits,CPU time [s],failure\n";
    for (std::size_t row = 0; row < table.rows(); ++row) {
        text += std::to_string(table.index[row] + 1);
        for (const std::string& value : table.points[row]) text += "," + quoted(value);
        for (const auto& column : table.values) text += std::isfinite(column[row]) ? fmt::format(",{}", column[row]) : ",";
        text += fmt::format(",{},{},{}\n", table.good[row] ? "yes" : "no", table.seconds[row], quoted(table.errors[row]));
    }
    return text;
}

Json jsonOf(const StudyTable& table) {
    Json json{{"hedgerow study", formatVersion}, {"name", table.name},   {"started", table.started}, {"runs", table.runs},
              {"varied", table.varied},          {"measured", table.measured}, {"units", table.measuredUnits},
              {"rows", Json::array()}};
    for (std::size_t row = 0; row < table.rows(); ++row) {
        Json one{{"run", table.index[row] + 1}, {"point", table.points[row]}};
        std::vector<double> values;
        for (const auto& column : table.values) values.push_back(column[row]);
        one["values"] = numbers(values);
        one["good"] = table.good[row] != 0;
        one["seconds"] = table.seconds[row];
        if (!table.errors[row].empty()) one["error"] = table.errors[row];
        json["rows"].push_back(std::move(one));
    }
    return json;
}

std::string htmlOf(const StudyTable& table) {
    std::string html = fmt::format(
        "<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>Study</title><style>body{{font-family:sans-serif;"
        "max-width:70em;margin:2em auto}}td,th{{padding:2px 10px 2px 0;text-align:left;vertical-align:top}}</style></head><body>"
        "<h1>Study: {}</h1><p>{} of {} runs.</p><ul>",
        escaped(table.name), table.rows(), table.runs);
    for (const std::string& line : studySummary(table)) html += "<li>" + escaped(line) + "</li>";
    html += "</ul><table><tr><th>run</th>";
    for (std::size_t i = 0; i < table.varied.size(); ++i) html += "<th>" + escaped(table.varied[i]) + "</th>";
    for (const std::string& name : table.measured) html += "<th>" + escaped(name) + "</th>";
    html += "</tr>";
    constexpr std::size_t shown = 5000;
    for (std::size_t row = 0; row < std::min(shown, table.rows()); ++row) {
        html += fmt::format("<tr><td>{}</td>", table.index[row] + 1);
        for (const std::string& value : table.points[row]) html += "<td>" + escaped(value) + "</td>";
        if (!table.errors[row].empty())
            html += fmt::format("<td colspan=\"{}\">{}</td>", table.measured.size(), escaped(table.errors[row]));
        else
            for (std::size_t m = 0; m < table.values.size(); ++m)
                html += "<td>" + escaped(formatQuantity(table.values[m][row], table.measuredUnits[m], 5)) + "</td>";
        html += "</tr>";
    }
    html += "</table>";
    if (table.rows() > shown) html += fmt::format("<p>The first {} of {} rows.</p>", shown, table.rows());
    return html + fmt::format("<p>Hedgerow {}</p></body></html>\n", hedgerow::version);
}

}  // namespace

void StudyTable::add(StudyRow row) {
    constexpr double none = std::numeric_limits<double>::quiet_NaN();
    numbers.resize(varied.size()), values.resize(measured.size());
    row.point.resize(varied.size());
    for (std::size_t axis = 0; axis < varied.size(); ++axis) {
        const auto value = evaluate(row.point[axis]);
        numbers[axis].push_back(value ? value->value : none);
    }
    for (std::size_t m = 0; m < values.size(); ++m) values[m].push_back(m < row.values.size() ? row.values[m] : none);
    index.push_back(row.index);
    points.push_back(std::move(row.point));
    errors.push_back(std::move(row.error));
    seconds.push_back(row.seconds), building.push_back(row.building);
    good.push_back(row.good);
}

std::string studyFileName(const std::string& study) {
    std::string plain;
    for (const char c : study) plain += std::isalnum(static_cast<unsigned char>(c)) ? c : '_';
    std::random_device random;
    return fmt::format("{}{}-{}-{:08x}{}", prefix, now(), plain.substr(0, 60), random(), ending);
}

std::string studyTasksName(const std::string& study) {
    const std::string file = studyFileName(study);
    return file.substr(0, file.size() - ending.size()) + std::string(tasks);
}

std::vector<std::string> studyFiles(const fs::path& folder) {
    std::vector<std::string> names;
    std::error_code failed;
    for (fs::directory_iterator at(folder, failed), end; !failed && at != end; at.increment(failed)) {
        const std::string name = at->path().filename().string();
        if (name.starts_with(prefix) && name.ends_with(ending) && fs::is_regular_file(at->symlink_status())) names.push_back(name);
        if (name.starts_with(prefix) && name.ends_with(tasks) && fs::is_regular_file(fs::symlink_status(at->path() / "question.study", failed)))
            names.push_back(name + "/question.study");
    }
    std::sort(names.rbegin(), names.rend());
    return names;
}

StudyFile::~StudyFile() { sqlite3_close(database_); }

Error StudyFile::fault(const std::string& what) const {
    return {ErrorCode::file, fmt::format("{} {}: {}", path_.string(), what, database_ ? sqlite3_errmsg(database_) : "no memory")};
}

std::string StudyFile::meta(const std::string& key) const {
    Statement one(database_, "SELECT value FROM meta WHERE key = ?", {key});
    return one.step() == SQLITE_ROW ? one.text(0) : "";
}
bool StudyFile::setMeta(const std::string& key, const std::string& value) {
    return Statement(database_, "INSERT OR REPLACE INTO meta VALUES (?, ?)", {key, value}).step() == SQLITE_DONE;
}

Status StudyFile::setQuestion(const StudySetup& setup) {
    Project project = *setup.project;
    project.parameterStudies = {setup.study};
    Json measures = Json::array();
    for (const StudyMeasure& m : setup.measures)
        measures.push_back({{"text", m.text}, {"unit", m.unit}, {"above", m.above ? Json(*m.above) : Json(nullptr)},
                            {"below", m.below ? Json(*m.below) : Json(nullptr)}});
    Json varied = Json::array();
    for (const Varied& v : setup.points.varied()) varied.push_back({{"target", v.target}, {"unit", v.unit}});
    if (setMeta("name", setup.study.name) && setMeta("asked", setup.study.runs) && setMeta("runs", std::to_string(setup.points.size())) &&
        setMeta("measures", measures.dump()) && setMeta("varied", varied.dump()) && setMeta("project", writeHedge(project)))
        return {};
    return fault("cannot be written");
}

Status StudyFile::run(const char* statement) {
    if (sqlite3_exec(database_, statement, nullptr, nullptr, nullptr) == SQLITE_OK) return {};
    return fault("cannot be written");
}

Result<std::unique_ptr<StudyFile>> StudyFile::create(const fs::path& file, const StudySetup& setup) {
    std::unique_ptr<StudyFile> made(new StudyFile);
    made->path_ = file;
    std::error_code failed;
    if (fs::exists(fs::symlink_status(file, failed)))
        return Error{ErrorCode::file, file.string() + " is there already"};
    if (sqlite3_open_v2(file.c_str(), &made->database_, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_NOFOLLOW, nullptr) !=
        SQLITE_OK)
        return made->fault("cannot be written");
    restrictDatabase(made->database_, longestText);
    if (sqlite3_exec(made->database_, schema, nullptr, nullptr, nullptr) != SQLITE_OK) return made->fault("cannot be written");
    made->setMeta("hedgerow study", std::to_string(formatVersion));
    made->setMeta("program", fmt::format("Hedgerow {}", hedgerow::version));
    made->setMeta("started", now());
    made->setMeta("folder", setup.project->folder.path().string());
    if (auto written = made->setQuestion(setup); !written) return written.error();
    return made;
}

Result<std::unique_ptr<StudyFile>> StudyFile::open(const fs::path& file, bool readOnly) {
    std::unique_ptr<StudyFile> made(new StudyFile);
    made->path_ = file;
    const int flags = (readOnly ? SQLITE_OPEN_READONLY : SQLITE_OPEN_READWRITE) | SQLITE_OPEN_NOFOLLOW;
    if (sqlite3_open_v2(file.c_str(), &made->database_, flags, nullptr) != SQLITE_OK) return made->fault("cannot be opened");
    restrictDatabase(made->database_, longestText);
    const Error none{ErrorCode::file, file.string() + " is no study"};
    if (const std::string version = made->meta("hedgerow study"); version != std::to_string(formatVersion))
        return version.empty() ? none : Error{ErrorCode::file, file.string() + " was written by another version"};
    Statement rows(made->database_, "SELECT number FROM rows ORDER BY number");
    int code = rows.step();
    for (; code == SQLITE_ROW; code = rows.step()) {
        const std::int64_t number = rows.whole(0);
        if (number < 0 || number >= static_cast<std::int64_t>(mostStudyRuns)) return none;
        if (static_cast<std::size_t>(number) >= made->known_.size()) made->known_.resize(static_cast<std::size_t>(number) + 1);
        made->known_[static_cast<std::size_t>(number)] = true;
    }
    if (code != SQLITE_DONE) return made->fault("cannot be read");
    return made;
}

Result<StudySetup> StudyFile::setup(bool anywhere) const {
    auto loaded = readHedge(meta("project"));
    if (!loaded) return loaded.error();
    if (loaded->project.parameterStudies.empty()) return Error{ErrorCode::file, path_.string() + " has no question"};
    const ParameterStudy study = loaded->project.parameterStudies.front();
    std::error_code failed;
    const fs::path own = fs::weakly_canonical(fs::absolute(path_), failed).parent_path(), was = fs::weakly_canonical(meta("folder"), failed);
    loaded->project.folder.moveTo(anywhere || was == own.parent_path() ? was : own);
    return prepareStudy(std::make_shared<const Project>(std::move(loaded->project)), study);
}

Status StudyFile::take(StudyRow row) {
    Json point = row.point;
    Statement insert(database_, "INSERT OR REPLACE INTO rows VALUES (?, ?, ?, ?, ?, ?, ?)",
                     {std::to_string(row.index), point.dump(-1, ' ', false, Json::error_handler_t::replace), numbers(row.values).dump(),
                      row.error, fmt::format("{}", row.seconds), fmt::format("{}", row.building), row.good ? "1" : "0"});
    if (insert.step() != SQLITE_DONE) return fault("cannot be written");
    if (row.index >= known_.size()) known_.resize(std::max(row.index + 1, known_.size() * 2));
    known_[row.index] = true;
    return {};
}

Result<std::vector<StudyRow>> StudyFile::rows() const {
    const auto all = table();
    if (!all) return all.error();
    std::vector<StudyRow> rows;
    for (std::size_t i = 0; i < all->rows(); ++i) {
        StudyRow row{.index = all->index[i], .point = all->points[i]};
        if (all->errors[i].empty())
            for (const auto& column : all->values) row.values.push_back(column[i]);
        row.error = all->errors[i];
        row.seconds = all->seconds[i], row.building = all->building[i], row.good = all->good[i] != 0;
        rows.push_back(std::move(row));
    }
    return rows;
}

Status StudyFile::conclude(const std::vector<std::string>& words) {
    if (setMeta("conclusion", Json(words).dump(-1, ' ', false, Json::error_handler_t::replace))) return {};
    return fault("cannot be written");
}

Status StudyFile::extend(const StudySetup& before, const StudySetup& setup) {
    std::error_code failed;
    if (fs::exists(path_.parent_path() / layoutName, failed))
        return Error{ErrorCode::range, "tasks of a cluster work on these runs: start a new study for others", {}, {}, "runs"};
    ParameterStudy now = setup.study;
    // Lists and ranges may be longer; what varies, and all else, is the same.
    const auto targets = [](const StudySetup& of) {
        std::vector<std::string> names;
        for (const Varied& one : of.points.varied()) names.push_back(one.target);
        return names;
    };
    now.runs = before.study.runs, now.name = before.study.name, now.extra = before.study.extra, now.varied = before.study.varied;
    if (!(now == before.study) || targets(setup) != targets(before))
        return Error{ErrorCode::range, "more runs are of the same question: what varies, what is measured, plan, scene and seed stay"};
    Project then = *before.project, present = *setup.project;
    then.parameterStudies = present.parameterStudies = {};
    if (writeHedge(then) != writeHedge(present))
        return Error{ErrorCode::range, "the project has changed since these runs: more runs are of the same project"};
    auto made = rows();
    if (!made) return made.error();
    std::size_t lost = 0, moved = 0;
    if (!setup.searched()) {
        std::map<StudyPoint, std::vector<std::size_t>> places;
        for (std::size_t i = setup.points.size(); i-- > 0;) places[setup.points.at(i)].push_back(i);
        for (StudyRow& row : *made) {
            const auto found = places.find(row.point);
            if (found == places.end() || found->second.empty()) {
                ++lost;
                continue;
            }
            moved += row.index == found->second.back() ? 0 : 1;
            row.index = found->second.back();
            found->second.pop_back();
        }
    }
    if (lost > 0)
        return Error{ErrorCode::range, fmt::format("{} of {} runs that are done are none of these: start a new study", lost, made->size()), {}, {},
                     "runs"};
    if (moved > 0 && !setup.keep.empty())
        return Error{ErrorCode::range, "runs would get other numbers, by which their kept traces are named: start a new study", {}, {}, "runs"};
    if (auto begun = run("BEGIN"); !begun) return begun.error();
    std::vector<bool> known = std::exchange(known_, {});
    Status outcome = setQuestion(setup);
    if (outcome) outcome = run("DELETE FROM rows; DELETE FROM meta WHERE key = 'conclusion'");
    for (StudyRow& row : *made)
        if (outcome) outcome = take(std::move(row));
    if (outcome) outcome = run("COMMIT");
    if (outcome) return {};
    (void)run("ROLLBACK");
    known_ = std::move(known);
    return outcome;
}

Result<StudyTable> StudyFile::table() const {
    const Error broken{ErrorCode::file, path_.string() + " is damaged: its rows do not fit its question"};
    try {
        StudyTable table{.name = meta("name"), .started = meta("started"), .asked = meta("asked")};
        table.runs = static_cast<std::size_t>(std::clamp(numberIn(meta("runs")).value_or(0), 0.0, static_cast<double>(mostStudyRuns)));
        for (const Json& v : Json::parse(meta("varied")))
            table.varied.push_back(v.at("target").get<std::string>()), table.variedUnits.push_back(v.at("unit").get<std::string>());
        for (const Json& m : Json::parse(meta("measures"))) {
            table.measured.push_back(m.at("text").get<std::string>());
            table.measuredUnits.push_back(m.at("unit").get<std::string>());
            const auto limit = [&](const char* key) {
                return m.at(key).is_number() ? std::optional(m.at(key).get<double>()) : std::nullopt;
            };
            table.above.push_back(limit("above")), table.below.push_back(limit("below"));
        }
        table.values.resize(table.measured.size()), table.numbers.resize(table.varied.size());
        if (const std::string words = meta("conclusion"); !words.empty()) table.conclusion = Json::parse(words).get<std::vector<std::string>>();
        Statement rows(database_, "SELECT number, point, measured, error, seconds, building, good FROM rows ORDER BY number");
        int code = rows.step();
        for (; code == SQLITE_ROW; code = rows.step()) {
            auto point = Json::parse(rows.text(1)).get<std::vector<std::string>>();
            const Json values = Json::parse(rows.text(2));
            std::string error = rows.text(3);
            if (rows.whole(0) < 0 || point.size() != table.varied.size() ||
                (error.empty() && values.size() != table.measured.size()))
                return broken;
            StudyRow row{.index = static_cast<std::size_t>(rows.whole(0)), .point = std::move(point)};
            for (std::size_t m = 0; m < table.measured.size() && error.empty(); ++m)
                row.values.push_back(values.at(m).is_number() ? values.at(m).get<double>() : std::numeric_limits<double>::quiet_NaN());
            row.error = std::move(error);
            row.seconds = rows.real(4), row.building = rows.real(5), row.good = rows.whole(6) != 0;
            table.add(std::move(row));
        }
        if (code != SQLITE_DONE) return fault("cannot be read");
        return table;
    } catch (const Json::exception&) {
        return broken;
    }
}

Status exportStudy(const StudyTable& table, const fs::path& path) {
    const std::string kind = lowerCase(path.extension().string());
    if (kind == ".csv") return writeFileAtomically(path, csvOf(table));
    if (kind == ".json") return writeFileAtomically(path, jsonOf(table).dump(1, ' ', false, Json::error_handler_t::replace) + "\n");
    if (kind == ".html") return writeFileAtomically(path, htmlOf(table));
    if (kind != ".h5") return Error{ErrorCode::name, path.filename().string() + ": a study is written as .csv, .h5, .json or .html"};
    return replaceAtomically(path, [&](const fs::path& temporary) -> Status {
        const auto held = hdf5::lock();
        hdf5::Handle file(hdf5::createFile(temporary.string()), H5Fclose);
        bool good = file.good() && hdf5::writeAttribute(file, "hedgerow study", std::to_string(formatVersion)) &&
                    hdf5::writeAttribute(file, "name", table.name);
        const auto column = [&](const std::string& name, const std::string& unit, const std::string& what, auto value) {
            good = good && hdf5::writeColumn(file, name, unit, table.rows(),
                                             [&](hsize_t i) { return value(static_cast<std::size_t>(i)); });
            if (!what.empty()) good = good && hdf5::writeAttribute(file, name, what);
        };
        column("run", "", "", [&](std::size_t i) { return static_cast<double>(table.index[i] + 1); });
        for (std::size_t a = 0; a < table.varied.size(); ++a)
            column(fmt::format("varied_{}", a + 1), table.variedUnits[a], table.varied[a], [&](std::size_t i) { return table.number(i, a); });
        for (std::size_t m = 0; m < table.measured.size(); ++m)
            column(fmt::format("measured_{}", m + 1), table.measuredUnits[m], table.measured[m],
                   [&](std::size_t i) { return table.values[m][i]; });
        column("keeps_limits", "", "", [&](std::size_t i) { return table.good[i] ? 1.0 : 0.0; });
        column("cpu_time", "s", "", [&](std::size_t i) { return table.seconds[i]; });
        good = good && hdf5::writeText(file, "table", jsonOf(table).dump(-1, ' ', false, Json::error_handler_t::replace));
        good = good && H5Fflush(file, H5F_SCOPE_GLOBAL) >= 0 && file.close();
        if (good) return {};
        return Error{ErrorCode::file, path.string() + " cannot be written: the disk may be full"};
    });
}

}  // namespace hedgerow

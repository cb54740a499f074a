#include "studies/study_folder.h"

#include <algorithm>
#include <cmath>
#include <fstream>
#include <limits>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "formats/file.h"

namespace hedgerow {

namespace {

using Json = nlohmann::json;
namespace fs = std::filesystem;

constexpr std::size_t mostBytes = std::size_t{1} << 30;
constexpr std::string_view chunkName = "chunks", layoutName = studyLayoutName;

}  // namespace

Result<StudyFolder> StudyFolder::create(const fs::path& folder, const StudySetup& setup, std::size_t chunk) {
    std::error_code failed;
    if (fs::exists(fs::symlink_status(folder, failed))) return Error{ErrorCode::file, folder.string() + " is there already"};
    fs::create_directories(folder / chunkName, failed);
    if (failed) return Error{ErrorCode::file, fmt::format("{} cannot be made: {}", folder.string(), failed.message())};
    StudyFolder made;
    made.folder_ = folder, made.runs_ = setup.points.size(), made.chunk_ = std::max<std::size_t>(1, chunk);
    if (auto file = StudyFile::create(made.question(), setup); !file) return file.error();
    const Json layout{{"runs", made.runs_}, {"chunk", made.chunk_}};
    if (auto written = writeFileAtomically(folder / layoutName, layout.dump() + "\n"); !written) return written.error();
    return made;
}

Result<StudyFolder> StudyFolder::open(const fs::path& folder) {
    const Error none{ErrorCode::file, folder.string() + " holds no study"};
    const auto text = readFile(folder / layoutName, 1 << 20);
    if (!text) return none;
    const Json layout = Json::parse(*text, nullptr, false);
    if (!layout.is_object() || !layout.contains("runs") || !layout.contains("chunk") || !layout["runs"].is_number_unsigned() ||
        !layout["chunk"].is_number_unsigned())
        return none;
    StudyFolder opened;
    opened.folder_ = folder;
    opened.runs_ = layout["runs"].get<std::size_t>(), opened.chunk_ = layout["chunk"].get<std::size_t>();
    if (opened.chunk_ == 0 || opened.runs_ > mostStudyRuns) return none;
    return opened;
}

fs::path StudyFolder::chunkFile(std::size_t chunk) const { return folder_ / chunkName / fmt::format("{:06}.json", chunk); }

Result<OpenFolder> StudyFolder::held() const {
    std::error_code failed;
    const fs::path real = fs::canonical(folder_, failed);
    return OpenFolder::open(failed ? folder_ : real);
}

std::vector<std::size_t> StudyFolder::missing() const {
    std::vector<std::size_t> all;
    for (std::size_t chunk = 0; chunk < chunks(); ++chunk)
        if (!fs::exists(chunkFile(chunk))) all.push_back(chunk);
    return all;
}

Status StudyFolder::work(std::size_t chunk, const CancelToken& cancel, bool anywhere) const {
    if (chunk >= chunks()) return Error{ErrorCode::range, fmt::format("chunks are counted from 0 to {}", chunks() - 1)};
    const auto file = StudyFile::open(question(), true);
    if (!file) return file.error();
    const auto setup = (*file)->setup(anywhere);
    if (!setup) return setup.error();
    StudyRows list;
    const auto done = runStudy(*setup, list, {.threads = 1, .from = chunk * chunk_, .to = std::min(runs_, (chunk + 1) * chunk_),
                                              .traces = folder_ / chunkName},
                               cancel);
    if (!done) return done;
    Json rows = Json::array();
    for (const StudyRow& row : list.made) {
        Json values = Json::array();
        for (const double value : row.values) values.push_back(std::isfinite(value) ? Json(value) : Json(nullptr));
        rows.push_back({{"index", row.index}, {"point", row.point}, {"values", values}, {"error", row.error},
                        {"seconds", row.seconds}, {"building", row.building}, {"good", row.good}});
    }
    const auto root = held();
    const auto into = root ? root->folder(std::string(chunkName)) : Result<OpenFolder>(root.error());
    if (!into) return into.error();
    return writeFileAtomically(*into, chunkFile(chunk).filename(), rows.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n");
}

Result<std::size_t> StudyFolder::gather() const {
    auto file = StudyFile::open(question());
    if (!file) return file.error();
    return gather(**file);
}

Result<std::size_t> StudyFolder::gather(StudySink& sink) const {
    std::size_t there = 0;
    for (std::size_t chunk = 0; chunk < chunks(); ++chunk) {
        const fs::path path = chunkFile(chunk);
        std::error_code failed;
        if (!fs::exists(path, failed)) continue;
        ++there;
        if (sink.has(chunk * chunk_) && sink.has(std::min(runs_, (chunk + 1) * chunk_) - 1)) continue;
        const auto text = readFile(path, mostBytes);
        if (!text) return text.error();
        const Error broken{ErrorCode::file, path.string() + " is no result of this study"};
        try {
            for (const Json& one : Json::parse(*text)) {
                StudyRow row{.index = one.at("index").get<std::size_t>(), .point = one.at("point").get<std::vector<std::string>>()};
                if (row.index < chunk * chunk_ || row.index >= std::min(runs_, (chunk + 1) * chunk_)) return broken;
                for (const Json& value : one.at("values"))
                    row.values.push_back(value.is_number() ? value.get<double>() : std::numeric_limits<double>::quiet_NaN());
                row.error = one.at("error").get<std::string>();
                row.seconds = one.at("seconds").get<double>(), row.building = one.at("building").get<double>();
                row.good = one.at("good").get<bool>();
                if (!sink.has(row.index))
                    if (auto taken = sink.take(std::move(row)); !taken) return taken.error();
            }
        } catch (const Json::exception&) {
            return broken;
        }
    }
    return there;
}

}  // namespace hedgerow

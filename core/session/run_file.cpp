#include "session/run_file.h"

#include <map>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "formats/file.h"
#include "formats/hdf5/hdf5_file.h"
#include "formats/hedge/hedge.h"

namespace hedgerow {

namespace {

using Json = nlohmann::ordered_json;
constexpr int runFileVersion = 1;

/// ---- what is known of a run, as JSON

Json toJson(const Terms& terms) {
    Json json = Json::array();
    for (const auto& [column, factor] : terms) json.push_back({column, factor});
    return json;
}

Terms termsOf(const Json& json) {
    Terms terms;
    for (const Json& item : json) terms.emplace_back(item.at(0).get<int>(), item.at(1).get<double>());
    return terms;
}

Json toJson(const QuantityInfo& q) {
    Json json{{"name", q.name}, {"unit", q.unit}, {"sort", static_cast<int>(q.sort)}};
    if (!q.a.empty()) json["a"] = toJson(q.a);
    if (!q.b.empty()) json["b"] = toJson(q.b);
    if (q.index >= 0) json["index"] = q.index;
    return json;
}

QuantityInfo quantityOf(const Json& json) {
    QuantityInfo q{json.at("name").get<std::string>(), json.at("unit").get<std::string>()};
    const int sort = json.at("sort").get<int>();
    if (sort < 0 || sort > static_cast<int>(QuantityInfo::Sort::conducting)) throw std::out_of_range("sort");
    q.sort = static_cast<QuantityInfo::Sort>(sort);
    if (json.contains("a")) q.a = termsOf(json["a"]);
    if (json.contains("b")) q.b = termsOf(json["b"]);
    q.index = json.value("index", -1);
    return q;
}

Json toJson(const RunSummary& s) {
    Json json{{"end", static_cast<int>(s.end)}, {"reached", s.reached}, {"engine", s.engine}};
    if (s.error) json["error"] = {{"message", s.error->message}, {"part", s.error->part}, {"net", s.error->net}};
    for (const auto& [name, count] : s.counters) json["counters"][name] = count;
    for (const auto& [name, seconds] : s.seconds) json["seconds"][name] = seconds;
    for (const auto& [part, count] : s.eventsByPart) json["events"][part] = count;
    return json;
}

RunSummary summaryOf(const Json& json) {
    RunSummary s;
    const int end = json.at("end").get<int>();
    if (end < 0 || end > static_cast<int>(RunEnd::failed)) throw std::out_of_range("end");
    s.end = static_cast<RunEnd>(end);
    s.reached = json.at("reached").get<Tick>();
    s.engine = json.at("engine").get<std::string>();
    if (json.contains("error"))
        s.error = Error{ErrorCode::numeric, json["error"].at("message").get<std::string>(),
                        json["error"].at("part").get<std::string>(), json["error"].at("net").get<std::string>()};
    const auto fill = [&](const char* key, auto add) {
        if (json.contains(key))
            for (const auto& [name, value] : json[key].items()) add(name, value);
    };
    fill("counters", [&](const std::string& n, const Json& v) { s.counters.emplace_back(n, v.get<std::int64_t>()); });
    fill("seconds", [&](const std::string& n, const Json& v) { s.seconds.emplace_back(n, v.get<double>()); });
    fill("events", [&](const std::string& n, const Json& v) { s.eventsByPart[n] = v.get<std::int64_t>(); });
    return s;
}

/// The name of the column of an unknown.
std::string columnName(const std::vector<QuantityInfo>& quantities, int unknown) {
    for (const QuantityInfo& q : quantities)
        if (q.sort == QuantityInfo::Sort::linear && q.a.size() == 1 && q.a[0].first == unknown && q.a[0].second == 1.0)
            return q.name;
    return fmt::format("u{}", unknown);
}

bool writeGroup(hid_t file, const char* name, int count, const std::function<bool(hid_t, int)>& writeOne) {
    const hdf5::Handle group(H5Gcreate2(file, name, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Gclose);
    bool good = group.good();
    for (int i = 0; i < count && good; ++i) good = writeOne(group, i);
    return good;
}

/// ---- reading

class RunFile final : public RunRecord {
public:
    explicit RunFile(std::filesystem::path path) : path_(std::move(path)) {}

    Status open() {
        const auto held = hdf5::lock();
        const auto fault = [&](const char* what) {
            return Error{ErrorCode::file, fmt::format("{}: {}", path_.filename().string(), what)};
        };
        const hdf5::Handle file(H5Fopen(path_.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
        if (!file.good()) return fault("this is no readable run: the file is missing or damaged");
        const auto version = hdf5::readAttribute(file, "hedgerow run");
        if (!version) return fault("this is HDF5, but no run");
        if (*version != std::to_string(runFileVersion)) return fault("this run was kept by a newer version");
        const auto project = hdf5::readText(file, "project"), about = hdf5::readText(file, "run");
        auto ticks = hdf5::readTicks(file, "ticks");
        if (!project || !about || !ticks) return fault("this run is damaged: parts of it are missing");
        for (std::size_t i = 1; i < ticks->size(); ++i)
            if ((*ticks)[i] < (*ticks)[i - 1]) return fault("this run is damaged: its instants do not rise");
        times_ = std::make_shared<const std::vector<Tick>>(std::move(*ticks));
        auto loaded = readHedge(*project);
        if (!loaded) return fault("this run is damaged: its project cannot be read");
        project_ = std::move(loaded->project);
        try {
            const Json json = Json::parse(*about);
            plan_ = json.at("plan").get<std::string>();
            scene_ = json.at("scene").get<std::string>();
            end_ = json.at("end").get<Tick>();
            summary_ = summaryOf(json.at("summary"));
            for (const Json& item : json.at("quantities")) quantities_.push_back(quantityOf(item));
            for (const Json& item : json.at("ratings"))
                ratings_.push_back({item.at(0).get<std::string>(), item.at(1).get<std::string>(),
                                    item.at(2).get<std::string>(), item.at(3).get<double>()});
            for (const Json& item : json.at("switching"))
                placeOfElement_[item.at(0).get<int>()] = item.at(1).get<int>();
            for (const auto& [key, text] : json.at("provenance").items())
                provenance_.emplace_back(key, text.get<std::string>());
        } catch (const std::exception&) {
            return fault("this run is damaged: what is known of it cannot be read");
        }
        return {};
    }

    const Project& project() const override { return project_; }
    const std::string& plan() const override { return plan_; }
    const std::string& scene() const override { return scene_; }
    Tick end() const override { return end_; }
    Tick reached() const override { return summary_.reached; }
    const RunSummary& summary() const override { return summary_; }
    const std::vector<QuantityInfo>& quantities() const override { return quantities_; }
    const std::vector<RatingInfo>& ratings() const override { return ratings_; }
    std::size_t points() const override { return times_->size(); }
    std::size_t bytes() const override {
        std::size_t sum = times_->size();
        for (const auto& [name, column] : columns_)
            if (column) sum += column->size();
        return sum * sizeof(double);
    }
    std::vector<std::pair<std::string, std::string>> provenance() const override { return provenance_; }

    std::unique_ptr<Trace> trace(std::string_view name, std::size_t) const override {
        const QuantityInfo* info = findQuantity(name);
        if (!info) return nullptr;
        const auto held = hdf5::lock();
        const hdf5::Handle file(H5Fopen(path_.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
        if (!file.good()) return nullptr;
        std::optional<std::vector<double>> first, second;
        bool holds = false;
        switch (info->sort) {
            case QuantityInfo::Sort::signal:
                first = copyOf(file, fmt::format("signals/{}", info->index));
                holds = true;
                break;
            case QuantityInfo::Sort::conducting: {
                const auto place = placeOfElement_.find(info->index);
                if (place != placeOfElement_.end()) first = copyOf(file, fmt::format("conducting/{}", place->second));
                break;
            }
            case QuantityInfo::Sort::product:
                second = sumOf(file, info->b);
                if (!second) return nullptr;
                [[fallthrough]];
            case QuantityInfo::Sort::linear:
                first = sumOf(file, info->a);
                break;
        }
        if (!first) return nullptr;
        auto points = std::make_unique<ColumnPoints>(times_, std::move(*first),
                                                     second ? std::move(*second) : std::vector<double>{}, holds);
        return std::make_unique<Trace>(std::move(points), info->name, info->unit, Trace::mayBeLogic(*info));
    }

private:
    using Column = std::shared_ptr<const std::vector<double>>;
    /// Read once; nullptr when it is missing or does not fit.
    Column column(hid_t file, const std::string& name) const {
        const auto known = columns_.find(name);
        if (known != columns_.end()) return known->second;
        auto values = hdf5::readColumn(file, name);
        Column read;
        if (values && values->size() == times_->size())
            read = std::make_shared<const std::vector<double>>(std::move(*values));
        return columns_[name] = read;
    }
    std::optional<std::vector<double>> copyOf(hid_t file, const std::string& name) const {
        const Column read = column(file, name);
        return read ? std::optional(*read) : std::nullopt;
    }
    std::optional<std::vector<double>> sumOf(hid_t file, const Terms& terms) const {
        std::vector<double> sum(times_->size(), 0.0);
        for (const auto& [unknown, factor] : terms) {
            const Column read = column(file, "unknowns/" + columnName(quantities_, unknown));
            if (!read) return {};
            for (std::size_t i = 0; i < sum.size(); ++i) sum[i] += factor * (*read)[i];
        }
        return sum;
    }

    std::filesystem::path path_;
    Project project_;
    std::string plan_, scene_;
    Tick end_ = 0;
    RunSummary summary_;
    std::vector<QuantityInfo> quantities_;
    std::vector<RatingInfo> ratings_;
    std::map<int, int> placeOfElement_;
    std::vector<std::pair<std::string, std::string>> provenance_;
    ColumnPoints::Times times_;
    mutable std::map<std::string, Column> columns_;
};

}  // namespace

Status writeRunFile(const Run& run, const std::filesystem::path& path) {
    const Network& network = run.elaboration().network;
    const RowLayout& layout = run.layout();
    Json about{{"plan", run.plan()}, {"scene", run.scene()}, {"end", run.end()}, {"summary", toJson(run.summary())}};
    about["quantities"] = about["ratings"] = about["switching"] = Json::array();
    for (const QuantityInfo& q : network.quantities) about["quantities"].push_back(toJson(q));
    for (const RatingInfo& r : network.ratings) about["ratings"].push_back({r.part, r.quantity, r.label, r.limit});
    for (std::size_t place = 0; place < layout.switching.size(); ++place)
        about["switching"].push_back({layout.switching[place], place});
    about["provenance"] = Json::object();
    for (const auto& [key, text] : run.provenance()) about["provenance"][key] = text;

    const auto unitOf = [](UnknownSort sort) {
        return sort == UnknownSort::voltage ? "V" : sort == UnknownSort::current ? "A" : "";
    };
    const auto read = [&](QuantityInfo quantity) {
        auto trace = std::make_unique<Trace>(run.storePointer(), quantity, layout);
        trace->update();
        return trace;
    };
    return replaceAtomically(path, [&](const std::filesystem::path& temporary) -> Status {
        const auto held = hdf5::lock();
        const Error failure{ErrorCode::file, path.string() + " cannot be written: the disk may be full"};
        const hdf5::Handle file(hdf5::createFile(temporary.string()), H5Fclose);
        if (!file.good()) return failure;
        bool good = hdf5::writeAttribute(file, "hedgerow run", std::to_string(runFileVersion));
        for (const auto& [key, text] : run.provenance()) good = good && hdf5::writeAttribute(file, key, text);
        good = good && hdf5::writeText(file, "project", writeHedge(run.project())) &&
               hdf5::writeText(file, "run", about.dump(-1, ' ', false, Json::error_handler_t::replace));
        const auto clock = read({"", "", QuantityInfo::Sort::linear, {}, {}, -1});
        const hsize_t count = clock->size();
        good = good && hdf5::writeTicks(file, "ticks", count, [&](hsize_t i) { return clock->time(i); }) &&
               hdf5::writeColumn(file, "time", "s", count, [&](hsize_t i) { return toSeconds(clock->time(i)); });
        const auto column = [&](hid_t group, const std::string& name, const std::string& unit, QuantityInfo quantity) {
            const auto trace = read(std::move(quantity));
            return hdf5::writeColumn(group, name, unit, count, [&](hsize_t i) { return trace->value(i); });
        };
        good = good && writeGroup(file, "unknowns", layout.unknowns, [&](hid_t group, int i) {
                   return column(group, columnName(network.quantities, i), unitOf(network.sortOf(i)),
                                 {"", "", QuantityInfo::Sort::linear, {{i, 1.0}}, {}, -1});
               });
        good = good && writeGroup(file, "signals", network.signalCount, [&](hid_t group, int i) {
                   return column(group, std::to_string(i), "", {"", "", QuantityInfo::Sort::signal, {}, {}, i});
               });
        good =
            good && writeGroup(file, "conducting", static_cast<int>(layout.switching.size()), [&](hid_t group, int i) {
                const int element = layout.switching[static_cast<std::size_t>(i)];
                return column(group, std::to_string(i), "", {"", "", QuantityInfo::Sort::conducting, {}, {}, element});
            });
        if (!good || H5Fflush(file, H5F_SCOPE_GLOBAL) < 0) return failure;
        return {};
    });
}

Result<std::shared_ptr<RunRecord>> openRunFile(const std::filesystem::path& path) {
    auto file = std::make_shared<RunFile>(path);
    if (auto status = file->open(); !status) return status.error();
    return std::shared_ptr<RunRecord>(std::move(file));
}

}  // namespace hedgerow

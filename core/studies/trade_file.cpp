#include "studies/trade_file.h"

#include <hdf5.h>

#include <cmath>
#include <limits>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "base/version.h"
#include "formats/file.h"
#include "formats/hdf5/hdf5_file.h"
#include "formats/hedge/json_place.h"

namespace hedgerow {

namespace {

using Json = nlohmann::ordered_json;

constexpr int formatVersion = 1;
constexpr std::size_t most = 100'000;  ///< points, features, verdicts

Json numbers(const std::vector<double>& values) {
    Json json = Json::array();
    for (const double value : values) json.push_back(std::isfinite(value) ? Json(value) : Json(nullptr));
    return json;
}
double numberOf(const Json& json) { return json.is_null() ? std::numeric_limits<double>::infinity() : json.get<double>(); }
std::vector<double> numbersOf(const Json& json) {
    std::vector<double> values;
    for (const Json& one : json) values.push_back(numberOf(one));
    return values;
}

std::string quoted(const std::string& text) {
    std::string made = "\"";
    for (const char c : text) made += c == '"' ? "\"\"" : std::string(1, c);
    return made + "\"";
}

std::string csvOf(const TradeResult& result) {
    std::string text = "solved by,CPU time [s],largest error over accuracy,good enough,front,engine,points,events";
    for (std::size_t f = 0; f < result.features.size(); ++f)
        text += "," + quoted(result.features[f] + " [" + result.units[f] + "]") + "," +
                quoted("error over accuracy of " + result.features[f]);
    text += ",failure\n";
    const auto row = [&](const std::string& line, double seconds, double worst, const char* good, const char* front,
                         const std::string& engine, const std::string& counts) {
        return fmt::format("{},{},{},{},{},{},{}", quoted(line), seconds, worst, good, front, quoted(engine), counts);
    };
    text += row("reference: " + result.referenceLine, result.referenceSeconds, 0, "yes", "", "", ",");
    for (std::size_t f = 0; f < result.features.size(); ++f) text += fmt::format(",{},0", result.reference[f]);
    text += ",\n";
    for (const TradePoint& point : result.points) {
        text += row(point.line, point.seconds, point.error ? NAN : point.worst, point.good ? "yes" : "no",
                    point.front ? "yes" : "", point.engine, fmt::format("{},{}", point.points, point.events));
        for (std::size_t f = 0; f < result.features.size(); ++f)
            text += f < point.errors.size() ? fmt::format(",{},{}", point.values[f], point.errors[f]) : ",,";
        text += "," + (point.error ? quoted(point.error->message) : "") + "\n";
    }
    if (!result.verdicts.empty()) {
        text += "\npart,rung,highest rung,needed,why\n";
        for (const PartVerdict& verdict : result.verdicts)
            text += fmt::format("{},{},{},{},{}\n", quoted(verdict.part), verdict.rung, verdict.highest,
                                verdict.needed ? "yes" : "no", quoted(verdict.why));
    }
    return text;
}

}  // namespace

std::string writeTrade(const TradeResult& result) {
    Json json{{"hedgerow trade study", formatVersion},
              {"program", fmt::format("Hedgerow {}", hedgerow::version)},
              {"study", result.study},
              {"scene", result.scene},
              {"plan", result.plan},
              {"features", result.features},
              {"units", result.units},
              {"reference", numbers(result.reference)},
              {"moved", numbers(result.moved)},
              {"reference line", result.referenceLine},
              {"converged", result.converged},
              {"reference seconds", result.referenceSeconds},
              {"answer", result.answer},
              {"runs", result.runs},
              {"seconds", result.seconds},
              {"points", Json::array()},
              {"verdicts", Json::array()}};
    for (const TradePoint& point : result.points) {
        Json one{{"line", point.line},       {"values", numbers(point.values)}, {"errors", numbers(point.errors)},
                 {"worst", std::isfinite(point.worst) ? Json(point.worst) : Json(nullptr)},
                 {"seconds", point.seconds}, {"points", point.points},          {"events", point.events},
                 {"engine", point.engine},   {"good", point.good},              {"front", point.front},
                 {"present", point.present}};
        if (point.error) one["error"] = point.error->message;
        json["points"].push_back(std::move(one));
    }
    for (const PartVerdict& v : result.verdicts)
        json["verdicts"].push_back(
            {{"part", v.part}, {"rung", v.rung}, {"highest", v.highest}, {"needed", v.needed}, {"why", v.why}});
    return json.dump(1, ' ', false, Json::error_handler_t::replace) + "\n";
}

Result<TradeResult> readTrade(std::string_view text) {
    const auto fault = [](const std::string& what) {
        return Error{ErrorCode::file, "this is no result of a trade study: " + what};
    };
    if (const std::string bounds = beyondBounds(text); !bounds.empty()) return fault("the text " + bounds);
    try {
        const Json json = Json::parse(text);
        if (json.at("hedgerow trade study").get<int>() != formatVersion) return fault("another version wrote it");
        TradeResult result{.study = json.at("study").get<std::string>(),
                           .scene = json.at("scene").get<std::string>(),
                           .plan = json.at("plan").get<std::string>(),
                           .features = json.at("features").get<std::vector<std::string>>(),
                           .units = json.at("units").get<std::vector<std::string>>(),
                           .reference = numbersOf(json.at("reference")),
                           .moved = numbersOf(json.at("moved")),
                           .referenceLine = json.at("reference line").get<std::string>(),
                           .converged = json.at("converged").get<bool>(),
                           .referenceSeconds = json.at("reference seconds").get<double>(),
                           .answer = json.at("answer").get<std::string>(),
                           .runs = json.at("runs").get<int>(),
                           .seconds = json.at("seconds").get<double>()};
        const std::size_t features = result.features.size();
        if (result.units.size() != features || result.reference.size() != features || features > most ||
            json.at("points").size() > most || json.at("verdicts").size() > most)
            return fault("its tables do not fit together");
        for (const Json& one : json.at("points")) {
            TradePoint point{.line = one.at("line").get<std::string>()};
            point.values = numbersOf(one.at("values")), point.errors = numbersOf(one.at("errors"));
            point.worst = numberOf(one.at("worst"));
            point.seconds = one.at("seconds").get<double>();
            point.points = one.at("points").get<std::int64_t>(), point.events = one.at("events").get<std::int64_t>();
            point.engine = one.at("engine").get<std::string>();
            point.good = one.at("good").get<bool>(), point.front = one.at("front").get<bool>();
            point.present = one.at("present").get<bool>();
            if (one.contains("error")) point.error = Error{ErrorCode::numeric, one["error"].get<std::string>()};
            const bool whole = point.values.size() == features && point.errors.size() == features;
            if (!point.error && !whole) return fault("a row of it is not whole");
            result.points.push_back(std::move(point));
        }
        for (const Json& one : json.at("verdicts"))
            result.verdicts.push_back({.part = one.at("part").get<std::string>(),
                                       .rung = one.at("rung").get<int>(),
                                       .highest = one.at("highest").get<int>(),
                                       .needed = one.at("needed").get<bool>(),
                                       .why = one.at("why").get<std::string>()});
        return result;
    } catch (const Json::exception& exception) {
        return fault(exception.what());
    }
}

Status exportTrade(const TradeResult& result, const std::filesystem::path& path) {
    const std::string ending = lowerCase(path.extension().string());
    if (ending == ".csv") return writeFileAtomically(path, csvOf(result));
    if (ending == ".json") return writeFileAtomically(path, writeTrade(result));
    if (ending != ".h5")
        return Error{ErrorCode::name, path.filename().string() + ": a study is written as .csv, .h5 or .json"};
    return replaceAtomically(path, [&](const std::filesystem::path& temporary) -> Status {
        const auto held = hdf5::lock();
        hdf5::Handle file(hdf5::createFile(temporary.string()), H5Fclose);
        bool good = file.good() && hdf5::writeAttribute(file, "hedgerow trade study", std::to_string(formatVersion)) &&
                    hdf5::writeText(file, "result", writeTrade(result));
        const auto column = [&](const std::string& name, const std::string& unit, auto value) {
            good = good && hdf5::writeColumn(file, name, unit, result.points.size(), [&](hsize_t i) {
                       return value(result.points[static_cast<std::size_t>(i)]);
                   });
        };
        column("cpu_time", "s", [](const TradePoint& p) { return p.seconds; });
        column("worst_error_over_accuracy", "", [](const TradePoint& p) { return p.error ? NAN : p.worst; });
        for (std::size_t f = 0; f < result.features.size(); ++f) {
            column(fmt::format("value_{}", f + 1), result.units[f],
                   [f](const TradePoint& p) { return f < p.values.size() ? p.values[f] : NAN; });
            column(fmt::format("error_over_accuracy_{}", f + 1), "",
                   [f](const TradePoint& p) { return f < p.errors.size() ? p.errors[f] : NAN; });
            good = good && hdf5::writeAttribute(file, fmt::format("feature_{}", f + 1), result.features[f]);
        }
        good = good && H5Fflush(file, H5F_SCOPE_GLOBAL) >= 0 && file.close();
        if (good) return {};
        return Error{ErrorCode::file, path.string() + " cannot be written: the disk may be full"};
    });
}

}  // namespace hedgerow

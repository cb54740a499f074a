#include "studies/trade_file.h"

#include <hdf5.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "base/version.h"
#include "formats/file.h"
#include "formats/hdf5/hdf5_file.h"
#include "formats/hedge/json_place.h"
#include "model/quantity.h"

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
    std::string text = "solved by,CPU time [s],largest error over accuracy,good enough,front,engine,points,events,step [s],"
                       "computing over step,longest computing over step";
    for (std::size_t f = 0; f < result.features.size(); ++f)
        text += "," + quoted(result.features[f] + " [" + result.units[f] + "]") + "," +
                quoted("error over accuracy of " + result.features[f]);
    text += ",failure\n";
    const auto row = [&](const std::string& line, double seconds, double worst, const char* good, const char* front,
                         const std::string& engine, const std::string& counts) {
        return fmt::format("{},{},{},{},{},{},{}", quoted(line), seconds, worst, good, front, quoted(engine), counts);
    };
    text += row("reference: " + result.referenceLine, result.referenceSeconds, 0, "yes", "", "", ",,,,");
    for (std::size_t f = 0; f < result.features.size(); ++f) text += fmt::format(",{},0", result.reference[f]);
    text += ",\n";
    for (const TradePoint& point : result.points) {
        text += row(point.line, point.seconds, point.error ? NAN : point.worst, point.good ? "yes" : "no",
                    point.front ? "yes" : "", point.engine, fmt::format("{},{},{}", point.points, point.events,
                                point.step > 0 ? fmt::format("{},{},{}", point.step, point.load, point.longestLoad) : ",,"));
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

std::string escaped(const std::string& text) {
    std::string made;
    for (const char c : text)
        made += c == '<' ? "&lt;" : c == '>' ? "&gt;" : c == '&' ? "&amp;" : c == '"' ? "&quot;" : std::string(1, c);
    return made;
}

/// Error over accuracy against CPU time, both logarithmic.
std::string svgOf(const TradeResult& result) {
    constexpr double width = 640, height = 360, left = 60, right = 20, top = 20, bottom = 46, leastError = 1e-4;
    double low = result.referenceSeconds, high = result.referenceSeconds, good = 0.3, bad = 3;
    const auto drawn = [=](double worst) { return std::clamp(worst, leastError, 1e6); };
    for (const TradePoint& point : result.points) {
        if (point.error) continue;
        low = std::min(low, point.seconds), high = std::max(high, point.seconds);
        good = std::min(good, drawn(point.worst)), bad = std::max(bad, drawn(point.worst));
    }
    low = std::max(1e-9, low / 1.5), high = std::max(low * 2, high * 1.5), good /= 2, bad *= 2;
    const auto x = [&](double seconds) {
        return left + (width - left - right) * std::log(std::max(seconds, low) / low) / std::log(high / low);
    };
    const auto y = [&](double worst) {
        return height - bottom - (height - top - bottom) * std::log(drawn(worst) / good) / std::log(bad / good);
    };
    std::string svg = fmt::format("<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {} {}\" width=\"{}\" "
                                  "font-family=\"sans-serif\" font-size=\"11\">",
                                  width, height, width);
    svg += fmt::format("<rect x=\"{}\" y=\"{:.1f}\" width=\"{}\" height=\"{:.1f}\" fill=\"#DCE9D7\"/>", left, y(1),
                       width - left - right, height - bottom - y(1));
    svg += fmt::format("<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" fill=\"none\" stroke=\"#D3CEBD\"/>", left, top,
                       width - left - right, height - top - bottom);
    for (int decade = -9; decade <= 6; ++decade) {
        const double value = std::pow(10.0, decade);
        if (value > low && value < high)
            svg += fmt::format("<text x=\"{:.1f}\" y=\"{}\" text-anchor=\"middle\">{}</text>", x(value), height - bottom + 16,
                               formatQuantity(value, "s", 1));
        if (value >= good && value <= bad)
            svg += fmt::format("<text x=\"{}\" y=\"{:.1f}\" text-anchor=\"end\">{:g}</text>", left - 6, y(value) + 4, value);
    }
    for (const TradePoint& point : result.points)
        if (!point.error)
            svg += fmt::format("<circle cx=\"{:.1f}\" cy=\"{:.1f}\" r=\"4\" fill=\"{}\" stroke=\"#2C4FA3\"><title>{}</title></circle>",
                               x(point.seconds), y(point.worst), point.front ? "#2C4FA3" : "none", escaped(point.line));
    return svg + fmt::format("<text x=\"{}\" y=\"{}\" text-anchor=\"middle\">CPU time; error over the accuracy wanted</text></svg>",
                             width / 2, height - 8);
}

std::string htmlOf(const TradeResult& result) {
    std::string html = fmt::format(
        "<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>Trade study</title><style>body{{font-family:sans-serif;"
        "max-width:60em;margin:2em auto}}td,th{{padding:2px 10px 2px 0;text-align:left;vertical-align:top}}</style></head><body>"
        "<h1>Trade study: {}</h1><p>Plan {}, scene {}. Reference: {}, {}.</p>",
        escaped(result.study), escaped(result.plan), escaped(result.scene.empty() ? "the first" : result.scene),
        escaped(result.referenceLine),
        escaped(standingText(result)));
    html += "<table><tr><th>what matters</th><th>reference</th></tr>";
    for (std::size_t f = 0; f < result.features.size(); ++f)
        html += fmt::format("<tr><td>{}</td><td>{}</td></tr>", escaped(result.features[f]),
                            escaped(formatQuantity(result.reference[f], result.units[f], 5)));
    html += "</table>" + svgOf(result);
    html += result.answer.empty() ? "<p>Nothing tried is as accurate as wanted.</p>"
                                  : fmt::format("<p><b>The cheapest that is good enough: {}</b></p>", escaped(result.answer));
    if (const TradePoint* const largest = largestGoodStep(result))
        html += fmt::format("<p>The largest step that is good enough: {}; {}.</p>", escaped(largest->line), escaped(headroomText(*largest)));
    html += "<table><tr><th>solved by</th><th>CPU time</th><th>error over accuracy</th><th></th></tr>";
    for (const TradePoint& point : result.points)
        html += fmt::format("<tr><td>{}{}</td><td>{}</td><td>{}</td><td>{}</td></tr>", escaped(point.line),
                            point.present ? " (the plan)" : "", escaped(formatQuantity(point.seconds, "s", 2)),
                            point.error ? std::string("–") : fmt::format("{:.2g}", point.worst),
                            point.error ? escaped(point.error->message) : (point.good ? "good enough" : "too far off") +
                                std::string(point.step > 0 ? "; " : "") + escaped(headroomText(point)));
    html += "</table>";
    if (!result.verdicts.empty()) {
        html += "<table><tr><th>part</th><th>rung</th><th>why</th></tr>";
        for (const PartVerdict& v : result.verdicts)
            html += fmt::format("<tr><td>{}</td><td>{}{}</td><td>{}</td></tr>", escaped(v.part), v.rung,
                                v.needed ? ", needed" : "", escaped(v.why));
        html += "</table>";
    }
    return html + fmt::format("<p>{} runs; Hedgerow {}.</p></body></html>\n", result.runs, hedgerow::version);
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
              {"long double", result.apart < 0 || !std::isfinite(result.apart) ? Json(nullptr) : Json(result.apart)},
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
        if (point.step > 0)
            one["step"] = point.step, one["load"] = point.load, one["longest load"] = point.longestLoad;
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
        if (json.contains("long double") && json["long double"].is_number()) result.apart = json["long double"].get<double>();
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
            point.step = one.value("step", 0.0), point.load = one.value("load", 0.0);
            point.longestLoad = one.value("longest load", 0.0);
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
    if (ending == ".html") return writeFileAtomically(path, htmlOf(result));
    if (ending != ".h5")
        return Error{ErrorCode::name, path.filename().string() + ": a study is written as .csv, .h5, .json or .html"};
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

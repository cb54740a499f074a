#include "measuring.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <numbers>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

#include "base/text.h"
#include "commands.h"
#include "model/periods.h"
#include "runs/registry.h"
#include "runs/run.h"
#include "traces/spectrum.h"

namespace hedgerow::cli {

namespace {

constexpr std::size_t largeFile = 100'000'000;  ///< bytes

/// The part of the time that a trace has.
std::pair<Tick, Tick> windowOf(const Trace& trace, const Reading& reading) {
    if (trace.size() == 0) return {0, 0};
    return {std::max(reading.extract.from, trace.time(0)), std::min(reading.extract.to, trace.time(trace.size() - 1))};
}

/// Of those that IEC 61000-4-7 asks for: ten periods or twelve are needed.
std::optional<GroupedHarmonics> groupsOf(const Trace& trace, const Reading& reading) {
    const auto [from, to] = windowOf(trace, reading);
    return groupedHarmonics(trace, from, to, *reading.fundamental, std::min(reading.orders, 40));
}

std::string sizeText(double bytes) {
    return bytes >= 1e9   ? fmt::format("{:.1f} GB", bytes / 1e9)
           : bytes >= 1e6 ? fmt::format("{:.0f} MB", bytes / 1e6)
                          : fmt::format("{:.0f} kB", bytes / 1e3);
}

}  // namespace

Result<Reading> readingOf(const ReadOptions& options, const RunRecord& record) {
    const ParameterTable parameters(record.project().parameters);
    const auto about = [](const char* option, const std::string& text, const std::string& why) {
        return Error{ErrorCode::range, fmt::format("{} {}: {}", option, text, why), {}, {}, option};
    };
    Reading reading;
    reading.orders = options.orders;
    if (!options.fundamental.empty()) {
        const auto f = evaluateField(options.fundamental, *findUnit("Hz"), parameters.lookup());
        if (!f) return about("--harmonics", options.fundamental, f.error().message);
        if (!(*f > 0)) return about("--harmonics", options.fundamental, "a frequency above 0 was expected");
        reading.fundamental = *f;
    }
    const auto time = [&](const char* option, const std::string& text) -> Result<double> {
        auto value = evaluateTime(text, record.project(), partLibrary().catalogue(), parameters.lookup());
        if (!value) return about(option, text, value.error().message);
        if (!(std::abs(*value) <= longestRunSeconds)) return about(option, text, "a time of a run was expected");
        return value;
    };
    Extract& extract = reading.extract;
    const Tick end = record.reached() > 0 ? record.reached() : record.end();
    extract.to = end;
    if (!options.to.empty()) {
        const auto to = time("--to", options.to);
        if (!to) return to.error();
        extract.to = std::min(extract.to, toTicks(*to));
    }
    if (!options.from.empty()) {
        const auto from = time("--from", options.from);
        if (!from) return from.error();
        extract.from = toTicks(*from);
    }
    if (!options.last.empty()) {
        if (!options.from.empty()) return about("--last", options.last, "give --from or --last, not both");
        // Of the harmonics' fundamental, where no source is named.
        std::string text(trimmed(options.last));
        for (const std::string_view end : {" periods", " period"})
            if (text.ends_with(end) && reading.fundamental) {
                text = fmt::format("({})*{}", text.substr(0, text.size() - end.size()), 1 / *reading.fundamental);
                break;
            }
        const auto span = time("--last", text);
        if (!span) return about("--last", options.last, span.error().message);
        if (!(*span > 0)) return about("--last", options.last, "a time above 0 was expected");
        extract.from = extract.to - toTicks(*span);
    }
    if (extract.from >= extract.to && end > 0)
        return about(options.from.empty() ? "--to" : "--from", options.from.empty() ? options.to : options.from,
                     "nothing is recorded in this part of the time");
    if (!options.every.empty()) {
        const auto every = time("--every", options.every);
        if (!every) return every.error();
        extract.every = *every;
        if (toTicks(*every) <= 0) return about("--every", options.every, "a time of at least 1 ps was expected");
    }
    return reading;
}

Json measuresJson(const Trace& trace, const Reading& reading) {
    const auto [from, to] = windowOf(trace, reading);
    const auto measures = trace.measure(from, to);
    if (!measures) return {};
    Json json = {{"unit", trace.unit()},
                 {"min", measures->min},
                 {"max", measures->max},
                 {"mean", measures->mean},
                 {"rms", measures->rms}};
    if (!reading.fundamental) return json;
    const auto found = harmonics(trace, from, to, *reading.fundamental, reading.orders);
    if (!found) return json;
    Json& all = json["harmonics"];
    all = {{"fundamental", found->fundamental}, {"mean", found->mean}};
    all["THD"] = {{"orders", fmt::format("2 to {}", reading.orders)}, {"value", found->distortion(reading.orders)}};
    for (int k = 1; k <= reading.orders; ++k)
        all["orders"].push_back(
            {{"order", k},
             {"rms", found->peak(k) / std::numbers::sqrt2},
             {"phase", std::arg(found->peaks[static_cast<std::size_t>(k - 1)]) * 180 / std::numbers::pi}});
    if (const auto groups = groupsOf(trace, reading)) {
        const std::string to = fmt::format("2 to {}", groups->groups.size());
        all["IEC 61000-4-7"] = {{"groups", groups->groups},
                                {"subgroups", groups->subgroups},
                                {"interharmonic groups", groups->interharmonicGroups},
                                {"interharmonic centred subgroups", groups->interharmonics},
                                {"THDG", {{"orders", to}, {"value", groups->groupDistortion}}},
                                {"THDS", {{"orders", to}, {"value", groups->subgroupDistortion}}}};
    }
    return json;
}

void printMeasures(const std::string& name, const Trace& trace, const Reading& reading) {
    const auto [from, to] = windowOf(trace, reading);
    const auto m = trace.measure(from, to);
    if (!m) return;
    const auto shown = [&](double value) { return formatQuantity(value, trace.unit()); };
    fmt::print("  {:<23} min {}, mean {}, max {}, rms {}\n", name, shown(m->min), shown(m->mean), shown(m->max),
               shown(m->rms));
    if (!reading.fundamental) return;
    const auto found = harmonics(trace, from, to, *reading.fundamental, reading.orders);
    if (!found) {
        fmt::print("    no whole period of {} is recorded here\n", formatQuantity(*reading.fundamental, "Hz"));
        return;
    }
    fmt::print("    harmonics of {}, rms; THD of orders 2 to {}: {:.3f} %\n", formatQuantity(found->fundamental, "Hz"),
               reading.orders, 100 * found->distortion(reading.orders));
    const auto groups = groupsOf(trace, reading);
    if (groups)
        fmt::print("    IEC 61000-4-7 over {} periods; THDG of orders 2 to {}: {:.3f} %, THDS {:.3f} %\n",
                   found->fundamental < 55 ? 10 : 12, groups->groups.size(), 100 * groups->groupDistortion,
                   100 * groups->subgroupDistortion);
    for (int k = 1; k <= reading.orders; ++k) {
        const auto at = static_cast<std::size_t>(k - 1);
        std::string line = fmt::format("    {:>3}  {:>12}  {:>7.1f}°", k, shown(found->peak(k) / std::numbers::sqrt2),
                                       std::arg(found->peaks[at]) * 180 / std::numbers::pi);
        if (groups && at < groups->groups.size())
            line += fmt::format("   group {}, subgroup {}", shown(groups->groups[at]), shown(groups->subgroups[at]));
        if (groups && at < groups->interharmonics.size())
            line += fmt::format(", interharmonic group {}, centred subgroup {}", shown(groups->interharmonicGroups[at]),
                                shown(groups->interharmonics[at]));
        fmt::print("{}\n", line);
    }
}

std::string formatOf(const std::string& file) {
    const std::string extension = lowerCase(std::filesystem::path(file).extension().string());
    std::vector<std::string> known;
    for (const auto& format : traceFormats()) {
        if (format->extension() == extension) return std::string(format->name());
        known.emplace_back(format->extension());
    }
    spdlog::error("{}: the ending says no known format; known are {}", file, listed(known));
    return "";
}

int writeFiles(const RunRecord& record, const ReadOptions& options, const Reading& reading, bool quiet) {
    Extract extract = reading.extract;
    if (extract.to >= record.reached()) extract.to = neverTick;
    for (const std::string& file : options.outputs) {
        const std::string format = formatOf(file);
        if (format.empty()) return usage;
        const std::size_t columns = options.quantities.empty() ? record.quantities().size() : options.quantities.size();
        std::size_t rows = record.points();
        const Tick to = std::min(extract.to, record.reached()), from = std::max<Tick>(extract.from, 0);
        if (extract.every > 0)
            rows = static_cast<std::size_t>(toSeconds(std::max<Tick>(0, to - from)) / extract.every) + 1;
        else if (record.reached() > 0)
            rows = static_cast<std::size_t>(static_cast<double>(rows) * static_cast<double>(to - from) /
                                            static_cast<double>(record.reached()));
        if (const std::size_t bytes = bytesAsText(rows, columns); format == "csv" && bytes > largeFile && !quiet)
            fmt::print(
                "  {} will take about {}: {} rows of {} quantities; --quantity, --from, --last and --every make it "
                "smaller\n",
                file, sizeText(static_cast<double>(bytes)), rows, columns);
        if (auto status = exportRun(record, format, file, options.quantities, {}, extract); !status) {
            spdlog::error("{}", status.error().text());
            return unwritable;
        }
        std::error_code unknown;
        const auto size = std::filesystem::file_size(file, unknown);
        if (!quiet) fmt::print("  wrote {}{}\n", file, unknown ? "" : ", " + sizeText(static_cast<double>(size)));
    }
    return success;
}

}  // namespace hedgerow::cli

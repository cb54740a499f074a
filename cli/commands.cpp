#include "commands.h"

#include <unistd.h>
#include <atomic>
#include <csignal>
#include <ctime>
#include <filesystem>
#include <thread>

#include <fmt/format.h>
#include <spdlog/spdlog.h>
#include <nlohmann/json.hpp>

#include "analysis/losses.h"
#include "analysis/observations.h"
#include "base/text.h"
#include "desk/card_import.h"
#include "files/outside_files.h"
#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "ledger/measured_run.h"
#include "model/event_text.h"
#include "model/modules.h"
#include "model/values.h"
#include "network/advice.h"
#include "network/scene.h"
#include "runs/registry.h"
#include "runs/run.h"
#include "runs/state_file.h"
#include "runs/verify.h"
#include "shared.h"

namespace hedgerow::cli {

namespace {

using cli::toJson;

constexpr std::size_t mostCardBytes = std::size_t{64} << 20;

/// Shows progress on a terminal and passes an interrupt on, until the run is over.
void watch(const Run& run, const std::atomic<bool>& over, bool quiet) {
    const bool terminal = isatty(STDERR_FILENO) && !quiet;
    const Stopwatch watch;
    while (!over) {
        if (wasInterrupted()) run.cancel();
        std::this_thread::sleep_for(std::chrono::milliseconds(50));
        if (!terminal || over) continue;
        if (run.settles() && run.store().count() == 0) {
            const SettleProgress at = run.searched();
            fmt::print(stderr, "\rsettling: {} periods, {} iterations, residual {:.1e}   ", at.periods, at.iterations,
                       at.residual);
            continue;
        }
        const double reached = toSeconds(run.store().reached()), end = toSeconds(run.end());
        fmt::print(stderr, "\r{:5.1f} %  {} of {}, {} points, {} per second of waiting   ", 100 * reached / end,
                   formatQuantity(reached, "s", 3), formatQuantity(end, "s", 3), run.store().count(),
                   formatQuantity(reached / watch.seconds(), "s", 3));
    }
    if (terminal) fmt::print(stderr, "\r{:100}\r", "");
}

Json toJson(const Settled& settled) {
    Json json = {
        {"period", settled.seconds()},
        {"made of", settled.made},
        {"logic repeats after", settled.multiple},
        {"residual", settled.residual},
        {"worst", settled.worst},
        {"mean capacitor current", settled.meanCurrent},
        {"mean winding voltage", settled.meanVoltage},
        {"stored power", settled.storedPower},
        {"iterations", settled.iterations},
        {"periods", settled.periods},
        {"plain periods", settled.plainPeriods},
        {"plain equivalent", std::isfinite(settled.plainEquivalent) ? Json(settled.plainEquivalent) : Json(nullptr)},
        {"stable", settled.stable},
        {"multipliers", Json::array()}};
    for (const Multiplier& one : settled.multipliers)
        json["multipliers"].push_back(
            {{"real", one.value.real()}, {"imaginary", one.value.imag()}, {"parts", one.parts}, {"words", one.words}});
    return json;
}

Json toJson(const SpanOutcome& span) {
    Json json{{"text", span.text},
              {"from", toSeconds(span.from)},
              {"to", toSeconds(span.to)},
              {"engine", span.engine},
              {"times", span.times},
              {"seconds", span.seconds},
              {"points", span.points},
              {"events", span.events}};
    if (!span.ended.empty()) json["ended"] = span.ended;
    if (!span.takesOver()) return json;
    json["hand-over"] = {{"energy before", span.energyBefore}, {"energy after", span.energyAfter},
                         {"energy gone", span.energyGone},     {"energy new", span.energyNew},
                         {"gone", span.gone},                  {"new", span.added}};
    for (const Jump& jump : span.jumps)
        json["hand-over"]["jumps"].push_back({{"quantity", jump.quantity},
                                              {"before", jump.before},
                                              {"after", jump.after},
                                              {"caution", jump.caution}});
    return json;
}

Json toJson(const RunSummary& summary) {
    Json json = {{"end", describe(summary.end)}, {"reached", toSeconds(summary.reached)}, {"engine", summary.engine}};
    if (summary.error) json["error"] = toJson(*summary.error);
    for (const auto& [name, count] : summary.counters) json["counters"][name] = count;
    for (const auto& [name, value] : summary.seconds) json["seconds"][name] = value;
    for (const auto& [part, count] : summary.eventsByPart) json["events by part"][part] = count;
    for (const SpanOutcome& span : summary.spans) json["spans"].push_back(toJson(span));
    return json;
}

/// The quantities of the lanes, or those asked for.
std::vector<std::string> shownQuantities(const Run& run, const RunOptions& options) {
    if (!options.read.quantities.empty()) return options.read.quantities;
    std::vector<std::string> names;
    for (const Lane& lane : run.project().lanes)
        names.insert(names.end(), lane.quantities.begin(), lane.quantities.end());
    return names;
}

Json toJson(const Verification& v) {
    Json all = Json::array();
    for (const auto& d : v.differences)
        all.push_back({{"quantity", d.quantity},
                       {"largest", d.largest},
                       {"relative", d.relative},
                       {"between points", d.between}});
    return {{"same events", v.sameEvents},
            {"events", v.events},
            {"reference events", v.referenceEvents},
            {"largest shift", v.largestShift},
            {"differences", all}};
}

/// The second run in long double, as a table of the quantities that differ most.
void report(const Verification& v) {
    fmt::print("\nagainst long double, finer steps, no shortcuts\n");
    if (v.sameEvents)
        fmt::print("  {} events, the same in both; the largest shift is {}\n", v.events,
                   formatQuantity(v.largestShift, "s", 3));
    else
        fmt::print("  the events differ: {} here, {} in the check\n", v.events, v.referenceEvents);
    for (const auto& d : v.differences)
        fmt::print("  {:<16} {:>12}  {:.1e} of its largest value; lines between points {:.1e} of its swing\n",
                   d.quantity, formatQuantity(d.largest, d.unit, 3), d.relative, d.between);
}

/// Over the time before the end that was asked for.
std::vector<LossRow> lossesOf(const Run& run, const RunOptions& options) {
    const auto span = evaluateField(options.losses, *findUnit("s"), ParameterTable(run.project().parameters).lookup());
    const Tick end = run.summary().reached;
    return hedgerow::lossesOf(run, span ? std::max<Tick>(0, end - toTicks(*span)) : 0, end);
}

Json toJson(const LossRow& row) {
    Json json{{"part", row.part},    {"conduction", row.conduction}, {"on", row.on},
              {"off", row.off},      {"recovery", row.rr},           {"core", row.core},
              {"total", row.total()}};
    if (row.mean) json["junction"] = {{"mean", *row.mean}, {"peak", *row.peak}};
    return json;
}

void print(const LossRow& row) {
    const auto watts = [](double value) { return formatQuantity(value, "W", 3); };
    if (row.core > 0) {
        fmt::print("  {:<23} loses {}: winding {}, core {}\n", row.part, watts(row.total()), watts(row.conduction),
                   watts(row.core));
        return;
    }
    fmt::print("  {:<23} loses {}: conducting {}, turning on {}, off {}, recovery {}", row.part, watts(row.total()),
               watts(row.conduction), watts(row.on), watts(row.off), watts(row.rr));
    if (row.mean) fmt::print("; junction {:.1f} °C, up to {:.1f} °C", *row.mean, *row.peak);
    fmt::print("\n");
}

/// Writes the file for the states at the end, if there is one. @return an exit code
int keepEnd(const Run& run, const RunOptions& options) {
    if (options.keep.empty()) return success;
    if (auto status = writeStates(options.keep, run.summary().snapshot); !status) {
        spdlog::error("{}", status.error().text());
        return unwritable;
    }
    if (!options.json) fmt::print("  kept the end in {}\n", options.keep);
    return success;
}

/// Of a run that stores nothing. @return an exit code
int runMeasured(Run& run, const RunOptions& options, const Reading& reading) {
    const std::vector<std::string> names = shownQuantities(run, options);
    const auto measures =
        run.executeMeasured(names, std::max<Tick>(0, reading.extract.from), reading.extract.to, run.cancelToken());
    if (!measures) {
        spdlog::error("--measures-only: {}; expressions need stored points", measures.error().message);
        return usage;
    }
    Json json = toJson(run.summary());
    if (!options.json) fmt::print("{}", run.summary().full());
    for (std::size_t i = 0; i < names.size(); ++i) {
        const auto& m = (*measures)[i];
        json["measures"][names[i]] =
            m ? Json{{"min", m->min}, {"mean", m->mean}, {"max", m->max}, {"rms", m->rms}} : Json(nullptr);
        if (options.json || !m) continue;
        const std::string unit = run.findQuantity(names[i])->unit;
        const auto shown = [&](double value) { return formatQuantity(value, unit, 6); };
        fmt::print("  {:<23} min {}, mean {}, max {}, rms {}\n", names[i], shown(m->min), shown(m->mean), shown(m->max),
                   shown(m->rms));
    }
    if (options.json) printJson(json);
    return success;
}

/// @param verification  nullptr when the run was not checked
void report(const Run& run, const RunOptions& options, const Reading& reading, const Verification* verification) {
    const RunSummary& summary = run.summary();
    if (options.json) {
        Json json = toJson(summary);
        if (run.settled()) json["settled"] = toJson(*run.settled());
        for (const std::string& name : shownQuantities(run, options))
            if (const auto trace = readTrace(run, name)) json["measures"][name] = measuresJson(**trace, reading);
        if (verification) json["verify"] = toJson(*verification);
        if (!options.losses.empty())
            for (const LossRow& row : lossesOf(run, options)) json["losses"].push_back(toJson(row));
        for (const auto& [at, what] : run.events()) json["events"].push_back({{"at", at}, {"what", what}});
        for (const Observation& seen : observe(run)) {
            json["observations"].push_back(toJson(seen.error));
            json["observations"].back()["at"] = seen.at;
        }
        printJson(json);
        return;
    }
    fmt::print("{}", summary.full());
    for (const auto& [at, what] : run.events()) fmt::print("  at {:<20} {}\n", formatQuantity(at, "s", 6), what);
    for (const Observation& seen : observe(run))
        fmt::print("  look at {:<15} {}\n", formatQuantity(seen.at, "s", 4), seen.error.message);
    for (const std::string& name : shownQuantities(run, options))
        if (const auto trace = readTrace(run, name)) printMeasures(name, **trace, reading);
    if (!options.losses.empty())
        for (const LossRow& row : lossesOf(run, options)) print(row);
    if (verification) report(*verification);
}

}  // namespace

int check(const std::string& path, bool json, bool allowOutside) {
    const auto project = load(path, json, allowOutside);
    if (!project) return unreadable;
    std::vector<Error> errors = checkProject(*project, partLibrary()), cautions;
    const FlatProject flat = flattened(*project, partLibrary().catalogue());
    if (errors.empty()) {
        for (const Scene& scene : project->scenes)
            if (const auto planned = sceneIntervals(scene, *project, partLibrary(), toTicks(longestRunSeconds));
                !planned)
                errors.push_back(planned.error());
        cautions = advise(flat.project, partLibrary(), flat.nets, ParameterTable(flat.project.parameters));
    }
    if (json) {
        Json list = Json::array();
        for (const Error& error : errors) list.push_back(toJson(error));
        Json doubts = Json::array();
        for (const Error& error : cautions) doubts.push_back(toJson(error));
        printJson(Json{{"errors", list}, {"cautions", doubts}});
    } else if (errors.empty()) {
        fmt::print("{}: sound, {} parts\n", path, project->sheet().parts.size());
    }
    if (!json) {
        for (const Error& error : errors) fmt::print("{}: {}\n", path, error.text());
        for (const Error& error : cautions) fmt::print("{}: caution: {}\n", path, error.text());
    }
    return errors.empty() ? success : unsound;
}

namespace {

/// The values in force that nobody typed: those of the rungs up to that of the part.
std::string defaultsOf(const Part& part, const PartKind* kind) {
    std::string text;
    if (kind)
        for (const ParameterKind& p : kind->parameters) {
            if (part.values.find(p.key) || p.standard.empty() || p.rung > part.rung || p.rating) continue;
            text += fmt::format("{}{} {}", text.empty() ? "; by default " : ", ", p.key, p.standard);
        }
    return text;
}

}  // namespace

int info(const std::string& path, bool json, bool allowOutside) {
    const auto project = load(path, json, allowOutside);
    if (!project) return unreadable;
    const NetList nets = findNets(project->sheet(), partLibrary().catalogue());
    Json result = {{"title", project->title}, {"description", project->description}};
    result["parameters"] = Json::object();
    for (const Parameter& p : project->parameters)
        result["parameters"][p.name] = p.value + (p.unit.empty() ? "" : " " + p.unit);
    for (const Plan& plan : project->plans)
        result["plans"][plan.name] =
            fmt::format("until {}, {} engine, trace tolerance {}", plan.end, plan.engine, plan.tolerance);
    for (const Scene& scene : project->scenes) {
        std::vector<std::string> lines;
        for (const SceneEvent& event : scene.events) lines.push_back(eventText(event));
        result["scenes"][scene.name] = lines.empty() ? "no events" : joined(lines, "; ");
    }
    result["parts"] = Json::object();
    for (const Part& part : project->sheet().parts) {
        const PartKind* kind = partLibrary().catalogue().find(part.kind);
        std::string line = (kind ? kind->title : part.kind) + fmt::format(", rung {}", part.rung);
        for (const auto& [key, text] : part.values.all()) line += fmt::format(", {} {}", key, text);
        line += defaultsOf(part, kind);
        result["parts"][part.name] = line;
    }
    result["nets"] = Json::array();
    for (const Net& net : nets.nets)
        if (!net.name.empty()) result["nets"].push_back(net.name);
    result["quantities"] = Json::array();
    if (const auto elaboration = elaborate(*project, partLibrary()))
        for (const QuantityInfo& quantity : elaboration->network.quantities)
            result["quantities"].push_back(quantity.name);
    if (json) {
        printJson(result);
        return success;
    }
    for (const auto& [heading, content] : result.items()) {
        if (content.is_string())
            fmt::print("{}: {}\n", heading, content.get<std::string>());
        else if (content.is_array())
            fmt::print("{}: {}\n", heading, joined(content.get<std::vector<std::string>>(), ", "));
        else {
            fmt::print("{}:\n", heading);
            for (const auto& [name, text] : content.items()) fmt::print("  {:<12} {}\n", name, text.get<std::string>());
        }
    }
    return success;
}

namespace {

Json toJson(const PartKind& kind) {
    Json json = {{"kind", kind.id}, {"title", kind.title}, {"summary", kind.summary}, {"group", kind.group}};
    for (const PinKind& pin : kind.pins) json["pins"].push_back(pin.name);
    for (const RungKind& rung : kind.rungs)
        json["rungs"].push_back({{"rung", rung.rung}, {"adds", rung.adds}, {"equations", rung.equations}});
    for (const ParameterKind& p : kind.parameters) {
        Json one = {{"key", p.key}, {"label", p.label}, {"rung", p.rung}};
        if (!p.unit.empty()) one["unit"] = p.unit;
        if (!p.choices.empty())
            one["choices"] = p.choices, one["default"] = p.standard.empty() ? p.choices.front() : p.standard;
        else if (!p.standard.empty())
            one["default"] = p.standard;
        if (p.text) one["text"] = true;
        if (p.none) one["none"] = *p.none == 0 ? Json(0) : Json("infinite");
        if (std::isfinite(p.least)) one[p.aboveLeast ? "above" : "least"] = p.least;
        if (std::isfinite(p.most)) one["most"] = p.most;
        json["values"].push_back(std::move(one));
    }
    return json;
}

void print(const PartKind& kind) {
    fmt::print("{}  {}: {}\n", kind.id, kind.title, kind.summary);
    std::vector<std::string> pins, rungs;
    for (const PinKind& pin : kind.pins) pins.push_back(pin.name);
    if (!pins.empty()) fmt::print("  pins {}\n", joined(pins, ", "));
    for (const RungKind& rung : kind.rungs) fmt::print("  rung {}: {}\n", rung.rung, rung.adds);
    for (const ParameterKind& p : kind.parameters) {
        std::string line = p.choices.empty()
                               ? p.standard.empty() ? (p.text || p.rating ? "not given" : "must be given") : p.standard
                               : joined(p.choices, " or ");
        if (!p.unit.empty() && p.choices.empty() && !p.standard.empty() && p.standard != noneWord) line += " " + p.unit;
        if (std::isfinite(p.least)) line += fmt::format(", {} {:g}", p.aboveLeast ? "above" : "at least", p.least);
        if (std::isfinite(p.most)) line += fmt::format(", at most {:g}", p.most);
        if (p.none && p.standard != noneWord) line += ", or none";
        fmt::print("  {:<10} {}: {}{}\n", p.key, p.label, line,
                   p.rung > 1 ? fmt::format(", from rung {} on", p.rung) : "");
    }
}

}  // namespace

int kinds(const std::string& name, bool json) {
    const Catalogue& catalogue = partLibrary().catalogue();
    std::vector<const PartKind*> chosen = catalogue.all();
    if (!name.empty()) {
        const PartKind* const kind = catalogue.find(name) ? catalogue.find(name) : catalogue.findByWord(name);
        if (!kind) {
            spdlog::error("there is no kind of part called '{}'", name);
            return usage;
        }
        chosen = {kind};
    }
    Json list = Json::array();
    for (const PartKind* kind : chosen) {
        if (json)
            list.push_back(toJson(*kind));
        else
            print(*kind);
    }
    if (json) printJson(list);
    return success;
}

int readCards(const std::string& file, const std::string& library, double current, int lines) {
    const auto text = readFile(file, mostCardBytes);
    if (!text) {
        spdlog::error("{}", text.error().message);
        return unreadable;
    }
    if (!(current > 0)) {
        fmt::print(stderr, "--current must be above 0\n");
        return usage;
    }
    const CardImport import = importCards(*text, current, CancelToken(), lines);
    for (const ImportedDevice& device : import.devices) {
        fmt::print("{}  {}", device.part.name, device.part.kind);
        for (const auto& [key, value] : device.part.values.all()) fmt::print("  {} {}", key, value);
        if (device.residual > 0) fmt::print("  (rung 2 within {})", formatQuantity(device.residual, "V", 2));
        fmt::print("\n");
    }
    for (const Sheet& module : import.modules) fmt::print("{}  module of {} parts\n", module.name, module.parts.size());
    for (const CardRemark& remark : import.remarks)
        fmt::print("line {}: {}: {}\n", remark.line, remark.text, remark.why);
    if (library.empty()) return success;
    const Status saved = saveHedge(projectOf(import, std::filesystem::path(file).stem().string()), library);
    if (!saved) {
        spdlog::error("{}", saved.error().message);
        return unwritable;
    }
    fmt::print("wrote {}\n", library);
    return success;
}

int run(const RunOptions& options) {
    const auto settings = settingsOf(options);
    if (!settings) return usage;
    if (!options.losses.empty())
        if (auto span = evaluateField(options.losses, *findUnit("s"),
                                      [](std::string_view name) -> Result<Quantity> {
                                          return Error{ErrorCode::name, fmt::format("'{}' is no time", name)};
                                      });
            !span || !(*span > 0)) {
            spdlog::error("--losses {}: a time above 0 was expected", options.losses);
            return usage;
        }
    for (const std::string& file : options.read.outputs)
        if (formatOf(file).empty()) return usage;
    if (options.measuresOnly && (!options.read.outputs.empty() || options.verify || !options.losses.empty() ||
                                 !options.read.fundamental.empty())) {
        spdlog::error("--measures-only stores no points: --out, --verify, --losses and --harmonics need them");
        return usage;
    }
    auto project = load(options.project, options.json, options.allowOutside);
    if (!project) return unreadable;
    project = withTolerance(project, options);
    auto prepared = Run::prepare(project, *settings);
    if (!prepared) {
        if (options.json)
            printJson(Json{{"error", toJson(prepared.error())}});
        else
            spdlog::error("{}", prepared.error().text());
        return unsound;
    }
    Run& theRun = **prepared;
    for (const std::string& name : options.read.quantities)
        if (const auto trace = readTrace(theRun, name); !trace) {
            spdlog::error("--quantity {}: {}; 'info' lists the quantities", name, trace.error().message);
            return usage;
        }
    if (const auto sound = readingOf(options.read, theRun); !sound) {  // of a time typed wrongly, before the run
        spdlog::error("{}", sound.error().message);
        return usage;
    }
    listenForInterrupts();
    std::atomic<bool> over = false;
    std::thread watcher([&] { watch(theRun, over, options.quiet); });
    if (options.measuresOnly) {
        const int code = runMeasured(theRun, options, *readingOf(options.read, theRun));
        over = true;
        watcher.join();
        if (code != success) return code;
        if (const int kept = keepEnd(theRun, options); kept != success) return kept;
        const RunEnd end = theRun.summary().end;
        return end == RunEnd::finished ? success : end == RunEnd::failed ? runFailed : stopped;
    }
    theRun.execute();
    std::optional<Result<Verification>> verification;
    if (options.verify && theRun.summary().end == RunEnd::finished) verification = verify(theRun, theRun.cancelToken());
    over = true;
    watcher.join();
    const auto reading = readingOf(options.read, theRun);
    report(theRun, options, reading ? *reading : Reading{},
           verification && *verification ? &verification->value() : nullptr);
    if (!reading) {
        spdlog::error("{}", reading.error().message);
        if (!options.read.outputs.empty()) return unwritable;
    } else if (const int code = writeFiles(theRun, options.read, *reading, options.json); code != success) {
        return code;
    }
    if (const int code = keepEnd(theRun, options); code != success) return code;
    switch (theRun.summary().end) {
        case RunEnd::finished:
            if (!verification) return success;
            if (*verification) return (*verification)->sameEvents ? success : differs;
            spdlog::error("the check: {}", verification->error().text());
            return wasInterrupted() ? stopped : runFailed;
        case RunEnd::failed:
            return runFailed;
        default:
            return stopped;
    }
}

int measure(const std::string& file, const ReadOptions& options, bool json) {
    const auto record = openMeasured(file);
    if (!record) {
        if (json)
            printJson(Json{{"error", toJson(record.error())}});
        else
            spdlog::error("{}", record.error().text());
        return unreadable;
    }
    const auto reading = readingOf(options, **record);
    if (!reading) {
        spdlog::error("{}", reading.error().message);
        return usage;
    }
    Json all;
    for (const std::string& name : options.quantities.empty() ? (*record)->quantityNames() : options.quantities) {
        const auto trace = readTrace(**record, name);
        if (!trace) {
            spdlog::error("--quantity {}: {}", name, trace.error().message);
            return usage;
        }
        if (json)
            all["measures"][name] = measuresJson(**trace, *reading);
        else
            printMeasures(name, **trace, *reading);
    }
    if (json) printJson(all);
    return writeFiles(**record, options, *reading, json);
}

}  // namespace hedgerow::cli

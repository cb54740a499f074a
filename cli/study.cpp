// Studies: many runs from one, on all cores, by processes, or through the queue of a cluster.

#include <sys/wait.h>
#include <unistd.h>
#include <algorithm>
#include <csignal>
#include <map>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "commands.h"
#include "formats/file.h"
#include "ledger/ledger.h"
#include "model/quantity.h"
#include "shared.h"
#include "studies/optimise.h"
#include "studies/study_folder.h"
#include "studies/study_statistics.h"

namespace hedgerow::cli {

namespace {

namespace fs = std::filesystem;

int fail(const Error& error, bool json, int code) {
    say(error, json);
    return code;
}

/// What the table says, and the files that were asked for.
int report(const StudyFile& file, const StudyOptions& options) {
    const auto table = file.table();
    if (!table) return fail(table.error(), options.json, unreadable);
    if (options.json) {
        Json json{{"file", file.path().string()}, {"runs", table->runs}, {"rows", table->rows()}, {"summary", studySummary(*table)},
                  {"measures", Json::array()}, {"without effect", withoutEffect(*table)}};
        for (std::size_t m = 0; m < table->measured.size(); ++m) {
            const MeasureStatistics s = statisticsOf(*table, m);
            Json one{{"measure", table->measured[m]}, {"unit", table->measuredUnits[m]}, {"rows", s.rows},   {"failed", s.failed},
                     {"mean", s.mean},                {"deviation", s.deviation},        {"least", s.least}, {"greatest", s.greatest},
                     {"median", s.median},            {"yield", s.yield},                {"moved by", Json::array()}};
            for (const Sensitivity& by : sensitivitiesOf(*table, m))
                one["moved by"].push_back({{"what", table->varied[by.axis]}, {"swing", by.swing}, {"share", by.share},
                                           {"slope", by.line ? Json(by.slope) : Json(nullptr)}});
            json["measures"].push_back(std::move(one));
        }
        printJson(json);
    } else {
        for (const std::string& line : studySummary(*table)) fmt::print("{}\n", line);
        std::size_t told = 0;
        for (std::size_t row = 0; row < table->rows() && told < 5; ++row)
            if (!table->errors[row].empty()) {
                fmt::print("run {} failed: {}\n", table->index[row] + 1, table->errors[row]);
                ++told;
            }
        fmt::print("kept in {}\n", file.path().string());
    }
    for (const std::string& path : options.outputs)
        if (auto written = exportStudy(*table, path); !written) return fail(written.error(), options.json, unwritable);
    return success;
}

/// The question of the options, on top of one of the project's.
Result<ParameterStudy> questionOf(const Project& project, const StudyOptions& options) {
    ParameterStudy study{.name = "from the command line", .extra = {}};
    if (!options.study.empty() || (options.varied.empty() && !project.parameterStudies.empty())) {
        const auto found = std::find_if(project.parameterStudies.begin(), project.parameterStudies.end(),
                                        [&](const ParameterStudy& one) { return options.study.empty() || one.name == options.study; });
        if (found == project.parameterStudies.end())
            return Error{ErrorCode::name, fmt::format("the project has no study '{}'", options.study)};
        study = *found;
    }
    if (!options.varied.empty()) study.varied = options.varied;
    if (!options.measured.empty()) study.measured = options.measured;
    if (!options.runs.empty()) study.runs = options.runs;
    if (!options.seed.empty()) study.seed = options.seed;
    if (!options.keep.empty()) study.keep = options.keep;
    if (!options.scene.empty()) study.scene = options.scene;
    if (!options.plan.empty()) study.plan = options.plan;
    study.settle = study.settle || options.settle;
    return study;
}

Result<StudySetup> setupOf(const StudyOptions& options) {
    const auto project = load(options.project, options.json, options.allowOutside);
    if (!project) return Error{ErrorCode::file, ""};
    const auto study = questionOf(*project, options);
    if (!study) return study.error();
    return prepareStudy(project, *study);
}

/// What is known before the first run: how many, what varies and whether it arrives, what the first one takes.
Status announce(const StudySetup& setup, const StudyOptions& options) {
    std::vector<std::string> lost;
    for (const Arrival& arrival : arrivals(setup))
        if (!arrival.reached()) lost.push_back(arrival.target);
    if (!lost.empty())
        return Error{ErrorCode::range,
                     fmt::format("'{}' does not reach the circuit: two of its values give the same equations, sources and start values",
                                 lost.front()), {}, {}, "varied"};
    if (!options.dry) return {};
    const StudyRow first = runStudyRow(setup, 0, CancelToken());
    const double all = first.seconds * static_cast<double>(setup.points.size());
    const double cores = options.threads > 0 ? options.threads : std::max(1u, std::thread::hardware_concurrency());
    fmt::print("{} runs; the first one takes {} ({} to build the circuit){}\n", setup.points.size(),
               formatQuantity(first.seconds, "s", 2), formatQuantity(first.building, "s", 2),
               first.error.empty() ? "" : " and fails: " + first.error);
    fmt::print("all of them about {} of CPU time, {} on {} cores\n", formatQuantity(all, "s", 2), formatQuantity(all / cores, "s", 2), cores);
    for (const Arrival& arrival : arrivals(setup))
        fmt::print("{}: {}\n", arrival.target, arrival.equations ? "the equations change" : "the equations stay, values change");
    for (std::size_t i = 0; i < std::min<std::size_t>(5, setup.points.size()); ++i) {
        std::string text;
        const StudyPoint point = setup.points.at(i);
        for (std::size_t a = 0; a < point.size(); ++a)
            text += (a ? ", " : "") + setup.points.varied()[a].target + " = " + point[a];
        fmt::print("run {}: {}\n", i + 1, text);
    }
    return {};
}

/// Processes of this machine work on chunks until all are there.
Status workers(const StudyFolder& folder, int count, bool anywhere, const CancelToken& cancel) {
    std::vector<std::size_t> waiting = folder.missing();
    std::reverse(waiting.begin(), waiting.end());
    std::map<pid_t, std::pair<std::size_t, int>> running;  // chunk and how often it was tried
    std::map<std::size_t, int> tries;
    const std::string path = folder.question().parent_path().string(), self = fs::read_symlink("/proc/self/exe").string();
    while (!waiting.empty() || !running.empty()) {
        while (!waiting.empty() && static_cast<int>(running.size()) < count && !cancel.cancelled()) {
            const std::size_t chunk = waiting.back();
            waiting.pop_back();
            const std::string number = std::to_string(chunk);
            const pid_t child = fork();
            if (child == 0) {
                execl(self.c_str(), self.c_str(), "study", "work", path.c_str(), number.c_str(), anywhere ? "--allow-outside" : nullptr,
                      static_cast<char*>(nullptr));
                _exit(127);
            }
            if (child < 0) return Error{ErrorCode::resource, "no process can be started"};
            running[child] = {chunk, ++tries[chunk]};
        }
        if (cancel.cancelled()) {
            for (const auto& [pid, work] : running) kill(pid, SIGTERM);
            for (const auto& [pid, work] : running) waitpid(pid, nullptr, 0);
            return Error{ErrorCode::stop, "stopped"};
        }
        int outcome = 0;
        const pid_t ended = waitpid(-1, &outcome, WNOHANG);
        if (ended <= 0) {
            usleep(5000);
            continue;
        }
        const auto [chunk, tried] = running[ended];
        running.erase(ended);
        if (WIFEXITED(outcome) && WEXITSTATUS(outcome) == success) continue;
        constexpr int mostTries = 3;
        if (tried >= mostTries)
            return Error{ErrorCode::resource, fmt::format("chunk {} ended {} times before its time; rows that are done are kept", chunk, tried)};
        waiting.push_back(chunk);
    }
    return {};
}

}  // namespace

int study(const StudyOptions& options) {
    listenForInterrupts();
    const CancelToken cancel;
    const bool terminal = isatty(STDERR_FILENO) && !options.quiet;
    std::unique_ptr<StudyFile> file;
    std::optional<StudySetup> setup;
    if (fs::path(options.project).extension() == ".study") {
        auto opened = StudyFile::open(options.project, options.show);
        if (!opened) return fail(opened.error(), options.json, unreadable);
        file = std::move(*opened);
        if (options.show) return report(*file, options);
        auto made = file->setup(options.allowOutside);
        if (!made) return fail(made.error(), options.json, unsound);
        setup = std::move(*made);
    } else {
        auto made = setupOf(options);
        if (!made) return made.error().message.empty() ? unreadable : fail(made.error(), options.json, unsound);
        setup = std::move(*made);
        if (auto arrived = announce(*setup, options); !arrived) return fail(arrived.error(), options.json, unsound);
        if (options.dry) return success;
        fs::path path = options.file;
        if (path.empty()) {
            const fs::path folder = Ledger::folderOf(options.project);
            std::error_code failed;
            fs::create_directories(folder, failed);
            path = folder / studyFileName(setup->study.name);
        }
        auto created = StudyFile::create(path, *setup);
        if (!created) return fail(created.error(), options.json, unwritable);
        file = std::move(*created);
    }
    StudyRunning running{.threads = options.threads};
    if (!setup->keep.empty()) {
        running.traces = file->path().string() + "-traces";
        std::error_code failed;
        fs::create_directories(running.traces, failed);
    }
    running.progress = [terminal](const StudyProgress& at) {
        if (terminal)
            fmt::print(stderr, "\r{} of {} runs{}, {} left, {:.1f} times as fast as one core   ", at.done, at.of,
                       at.failed > 0 ? fmt::format(", {} failed", at.failed) : "", formatQuantity(at.left, "s", 2), at.speedup);
    };
    const Status done = [&] {
        const Watcher watcher(cancel);
        return runStudy(*setup, *file, running, cancel);
    }();
    if (terminal) fmt::print(stderr, "\r{:90}\r", "");
    if (!done && done.error().code != ErrorCode::stop) return fail(done.error(), options.json, unwritable);
    const int told = report(*file, options);
    if (!done) {
        if (!options.json) fmt::print("stopped; go on with: hedgerow-cli study {}\n", file->path().string());
        return stopped;
    }
    return told;
}

int studyOptimise(const StudyOptions& options) {
    listenForInterrupts();
    if (options.minimise.empty() == options.maximise.empty())
        return fail({ErrorCode::syntax, "say what is to be made small or large: --minimise 'ripple', with --measure 'ripple = pp of out.v'"},
                    options.json, usage);
    StudyOptions asked = options;
    if (asked.runs.empty()) asked.runs = "random 1";  // which runs there are is found on the way
    auto setup = setupOf(asked);
    if (!setup) return setup.error().message.empty() ? unreadable : fail(setup.error(), options.json, unsound);
    fs::path path = options.file;
    if (path.empty()) {
        std::error_code failed;
        fs::create_directories(Ledger::folderOf(options.project), failed);
        path = Ledger::folderOf(options.project) / studyFileName(setup->study.name);
    }
    const auto file = StudyFile::create(path, *setup);
    if (!file) return fail(file.error(), options.json, unwritable);
    const CancelToken cancel;
    const bool large = !options.maximise.empty();
    const auto found = [&] {
        const Watcher watcher(cancel);
        return optimise({.setup = *setup, .objective = large ? options.maximise : options.minimise, .most = large, .global = options.global,
                         .evaluations = options.evaluations}, **file, cancel);
    }();
    if (!found) return fail(found.error(), options.json, found.error().code == ErrorCode::stop ? stopped : unsound);
    if (options.json) {
        Json json{{"value", found->value}, {"point", Json::object()}, {"measures", Json::object()}, {"binding", found->binding},
                  {"flatness", found->flatness}, {"runs", found->evaluations}, {"ended by itself", found->ended}, {"file", path.string()}};
        for (std::size_t i = 0; i < found->best.point.size(); ++i) json["point"][setup->points.varied()[i].target] = found->best.point[i];
        for (std::size_t m = 0; m < setup->measures.size(); ++m) json["measures"][setup->measures[m].text] = found->best.values[m];
        printJson(json);
    } else {
        for (const std::string& line : found->words) fmt::print("{}\n", line);
        fmt::print("kept in {}\n", path.string());
    }
    if (!options.outputs.empty()) {
        const auto table = (*file)->table();
        if (!table) return fail(table.error(), options.json, unreadable);
        for (const std::string& out : options.outputs)
            if (auto written = exportStudy(*table, out); !written) return fail(written.error(), options.json, unwritable);
    }
    return wasInterrupted() ? stopped : success;
}

int studySplit(const StudyOptions& options) {
    auto setup = setupOf(options);
    if (!setup) return setup.error().message.empty() ? unreadable : fail(setup.error(), options.json, unsound);
    if (auto arrived = announce(*setup, {}); !arrived) return fail(arrived.error(), options.json, unsound);
    const auto folder = StudyFolder::create(options.folder, *setup, static_cast<std::size_t>(std::max(1, options.chunk)));
    if (!folder) return fail(folder.error(), options.json, unwritable);
    fmt::print("{} runs in {} chunks of {}: hedgerow-cli study work {} 0 to {}\n", folder->runs(), folder->chunks(), folder->chunkSize(),
               options.folder, folder->chunks() - 1);
    return success;
}

int studyWork(const StudyOptions& options) {
    listenForInterrupts();
    const CancelToken cancel;
    const auto folder = StudyFolder::open(options.folder);
    if (!folder) return fail(folder.error(), options.json, unreadable);
    const Watcher watcher(cancel);
    if (options.workers > 0) {
        const auto done = workers(*folder, options.workers, options.allowOutside, cancel);
        if (!done) return fail(done.error(), options.json, done.error().code == ErrorCode::stop ? stopped : unsound);
        return success;
    }
    const auto done = folder->work(static_cast<std::size_t>(std::max(0, options.chunk)), cancel, options.allowOutside);
    if (!done) return fail(done.error(), options.json, done.error().code == ErrorCode::stop ? stopped : unsound);
    return success;
}

int studyGather(const StudyOptions& options) {
    const auto folder = StudyFolder::open(options.folder);
    if (!folder) return fail(folder.error(), options.json, unreadable);
    const auto there = folder->gather();
    if (!there) return fail(there.error(), options.json, unreadable);
    auto file = StudyFile::open(folder->question());
    if (!file) return fail(file.error(), options.json, unreadable);
    if (!options.json) fmt::print("{} of {} chunks\n", *there, folder->chunks());
    return report(**file, options);
}

}  // namespace hedgerow::cli

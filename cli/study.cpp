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
    const StudyPrice price = priceStudy(setup, CancelToken());
    const double cores = options.threads > 0 ? options.threads : std::max(1u, std::thread::hardware_concurrency());
    fmt::print("{} runs; the first one takes {} ({} to build the circuit){}\n", price.runs, formatQuantity(price.first.seconds, "s", 2),
               formatQuantity(price.first.building, "s", 2), price.first.error.empty() ? "" : " and fails: " + price.first.error);
    fmt::print("all of them about {} of CPU time, {} on {} cores; {} of memory for a run, {} on the disk for all\n",
               formatQuantity(price.all, "s", 2), formatQuantity(price.all / cores, "s", 2), cores,
               formatQuantity(static_cast<double>(price.memory), "B", 2), formatQuantity(static_cast<double>(price.disk), "B", 2));
    for (const Arrival& arrival : price.arrivals)
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

namespace {

/// A study that goes on, or a new one.
struct Opened {
    std::unique_ptr<StudyFile> file = {};
    std::optional<StudySetup> setup = {};
    int code = success;  ///< what the program ends with, where there is no setup
};

/// Of a *.study file, with more runs where they are asked for.
Opened goingOn(const StudyOptions& options) {
    auto opened = StudyFile::open(options.project);
    if (!opened) return {.code = fail(opened.error(), options.json, unreadable)};
    auto made = (*opened)->setup(options.allowOutside);
    if (!made) return {.code = fail(made.error(), options.json, unsound)};
    if (!options.runs.empty() || !options.varied.empty()) {
        ParameterStudy more = made->study;
        if (!options.runs.empty()) more.runs = options.runs;
        if (!options.varied.empty()) more.varied = options.varied;
        auto longer = prepareStudy(made->project, more);
        if (!longer) return {.code = fail(longer.error(), options.json, unsound)};
        if (auto extended = (*opened)->extend(*made, *longer); !extended) return {.code = fail(extended.error(), options.json, unsound)};
        made = std::move(longer);
    }
    return {.file = std::move(*opened), .setup = std::move(*made)};
}

Opened begun(const StudyOptions& options) {
    auto made = setupOf(options);
    if (!made) return {.code = made.error().message.empty() ? unreadable : fail(made.error(), options.json, unsound)};
    if (auto arrived = announce(*made, options); !arrived) return {.code = fail(arrived.error(), options.json, unsound)};
    if (options.dry) return {};
    fs::path path = options.file;
    if (path.empty()) {
        const fs::path folder = Ledger::folderOf(options.project);
        std::error_code failed;
        fs::create_directories(folder, failed);
        path = folder / studyFileName(made->study.name);
    }
    auto created = StudyFile::create(path, *made);
    if (!created) return {.code = fail(created.error(), options.json, unwritable)};
    return {.file = std::move(*created), .setup = std::move(*made)};
}

Opened openStudy(const StudyOptions& options) {
    return fs::path(options.project).extension() == ".study" ? goingOn(options) : begun(options);
}

/// How it is run: on how many cores, with its traces beside its file, with a line on a terminal.
StudyRunning runningOf(const StudyOptions& options, const Opened& opened) {
    StudyRunning running{.threads = options.threads};
    if (!opened.setup->keep.empty()) {
        running.traces = opened.file->path().string() + "-traces";
        std::error_code failed;
        fs::create_directories(running.traces, failed);
    }
    if (isatty(STDERR_FILENO) && !options.quiet)
        running.progress = [](const StudyProgress& at) {
            fmt::print(stderr, "\r{} of {} runs{}{}, {:.1f} times as fast as one core   ", at.done, at.of,
                       at.failed > 0 ? fmt::format(", {} failed", at.failed) : "",
                       at.left > 0 ? fmt::format(", {} left", formatQuantity(at.left, "s", 2)) : "", at.speedup);
        };
    return running;
}

void clearProgress(const StudyRunning& running) {
    if (running.progress) fmt::print(stderr, "\r{:90}\r", "");
}

}  // namespace

int study(const StudyOptions& options) {
    listenForInterrupts();
    const CancelToken cancel;
    if (options.show && fs::path(options.project).extension() == ".study") {
        const auto shown = StudyFile::open(options.project, true);
        if (!shown) return fail(shown.error(), options.json, unreadable);
        return report(**shown, options);
    }
    const Opened opened = openStudy(options);
    if (!opened.setup) return opened.code;
    const StudyRunning running = runningOf(options, opened);
    const Status done = [&] {
        const Watcher watcher(cancel);
        return runStudy(*opened.setup, *opened.file, running, cancel);
    }();
    clearProgress(running);
    if (!done && done.error().code != ErrorCode::stop)
        return fail(done.error(), options.json, done.error().code == ErrorCode::file ? unwritable : unsound);
    const int told = report(*opened.file, options);
    if (!done) {
        if (!options.json) fmt::print("stopped; go on with: hedgerow-cli study {}\n", opened.file->path().string());
        return stopped;
    }
    return told;
}

int studyOptimise(const StudyOptions& options) {
    listenForInterrupts();
    StudyOptions asked = options;
    const bool known = fs::path(options.project).extension() == ".study";
    if (!known || !options.minimise.empty() || !options.maximise.empty()) {
        if (options.minimise.empty() == options.maximise.empty())
            return fail({ErrorCode::syntax, "say what is to be made small or large: --minimise 'ripple', with --measure 'ripple = pp of out.v'"},
                        options.json, usage);
        using Way = Sampling::Search::Way;
        const bool large = !options.maximise.empty();
        asked.runs = samplingText({.sort = Sampling::Sort::search, .count = static_cast<std::size_t>(options.evaluations > 0 ? options.evaluations : 200),
                                   .search = {.objective = large ? options.maximise : options.minimise, .most = large,
                                              .way = options.global ? Way::global : options.gradient ? Way::gradient : Way::local}});
    }
    if (known && asked.runs.empty() && options.evaluations > 0) {
        const auto file = StudyFile::open(options.project, true);
        const auto setup = file ? (*file)->setup(options.allowOutside) : Result<StudySetup>(file.error());
        if (!setup) return fail(setup.error(), options.json, unreadable);
        Sampling longer = setup->points.sampling();
        longer.count = static_cast<std::size_t>(options.evaluations);
        asked.runs = samplingText(longer);
    }
    const Opened opened = openStudy(asked);
    if (!opened.setup) return opened.code;
    const StudySetup& setup = *opened.setup;
    if (!setup.searched()) return fail({ErrorCode::range, options.project + " looks for no best values"}, options.json, unsound);
    const StudyRunning running = runningOf(options, opened);
    const CancelToken cancel;
    const auto found = [&] {
        const Watcher watcher(cancel);
        return searchStudy(setup, *opened.file, running, cancel);
    }();
    clearProgress(running);
    if (!found) return fail(found.error(), options.json, found.error().code == ErrorCode::stop ? stopped : unsound);
    if (options.json) {
        Json json{{"value", found->value}, {"point", Json::object()}, {"measures", Json::object()}, {"binding", found->binding},
                  {"flatness", found->flatness}, {"runs", found->evaluations}, {"ended by itself", found->ended},
                  {"file", opened.file->path().string()}};
        for (std::size_t i = 0; i < found->best.point.size(); ++i) json["point"][setup.points.varied()[i].target] = found->best.point[i];
        for (std::size_t m = 0; m < setup.measures.size(); ++m) json["measures"][setup.measures[m].text] = found->best.values[m];
        printJson(json);
    } else {
        for (const std::string& line : found->words) fmt::print("{}\n", line);
        fmt::print("kept in {}\n", opened.file->path().string());
    }
    if (!options.outputs.empty()) {
        const auto table = opened.file->table();
        if (!table) return fail(table.error(), options.json, unreadable);
        for (const std::string& out : options.outputs)
            if (auto written = exportStudy(*table, out); !written) return fail(written.error(), options.json, unwritable);
    }
    return cancel.cancelled() ? stopped : success;
}

int studySplit(const StudyOptions& options) {
    auto setup = setupOf(options);
    if (!setup) return setup.error().message.empty() ? unreadable : fail(setup.error(), options.json, unsound);
    if (setup->searched())
        return fail({ErrorCode::range, "a search goes from run to run: it cannot be split; grids, rows, corners and random runs can", {}, {}, "runs"},
                    options.json, unsound);
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

namespace {

/// A folder with what was sent of it to a cluster.
struct Tasks {
    StudyFolder folder;
    SlurmJobs jobs;
};
Result<Tasks> tasksOf(const StudyOptions& options) {
    const auto folder = StudyFolder::open(options.folder);
    if (!folder) return folder.error();
    auto jobs = SlurmJobs::open(*folder);
    if (!jobs) return jobs.error();
    return Tasks{.folder = *folder, .jobs = std::move(*jobs)};
}

}  // namespace

int studySubmit(const StudyOptions& options) {
    listenForInterrupts();
    const CancelToken cancel;
    const Watcher watcher(cancel);
    auto tasks = tasksOf(options);
    if (!tasks) return fail(tasks.error(), options.json, unreadable);
    const StudyFolder& folder = tasks->folder;
    if (!slurmHere()) return fail({ErrorCode::resource, "this machine has no Slurm: sbatch and squeue are not found"}, options.json, unsound);
    SlurmSetting setting = options.slurm;
    setting.anywhere = options.allowOutside;
    const auto ended = [&](const Error& error) {
        return fail(error, options.json, error.code == ErrorCode::stop ? stopped : unsound);
    };
    if (!options.wait) {
        const auto sent = tasks->jobs.submit(setting, cancel);
        if (!sent) return ended(sent.error());
        fmt::print("{} of {} chunks sent; how far they are: hedgerow-cli study status {}\n", *sent, folder.chunks(), options.folder);
        return success;
    }
    auto file = StudyFile::open(folder.question());
    if (!file) return fail(file.error(), options.json, unreadable);
    const auto done = workBySlurm(folder, setting, **file,
                                  [&](const SlurmState& state, std::size_t again) {
                                      if (options.json || options.quiet) return;
                                      if (again > 0) fmt::print("{} chunks were lost and are sent again\n", again);
                                      if (isatty(STDERR_FILENO))
                                          fmt::print(stderr, "\r{} of {} chunks done, {} running, {} waiting   ", state.done, folder.chunks(),
                                                     state.running, state.waiting);
                                  },
                                  cancel);
    if (!done) return ended(done.error());
    return studyGather(options);
}

int studyStatus(const StudyOptions& options) {
    listenForInterrupts();
    const CancelToken cancel;
    const Watcher watcher(cancel);
    const auto tasks = tasksOf(options);
    if (!tasks) return fail(tasks.error(), options.json, unreadable);
    const StudyFolder& folder = tasks->folder;
    const auto state = slurmHere() ? tasks->jobs.state(cancel)
                                   : Result<SlurmState>(SlurmState{.done = folder.chunks() - folder.missing().size(),
                                                                   .lost = folder.missing().size()});
    if (!state) return fail(state.error(), options.json, unsound);
    if (options.json)
        printJson({{"chunks", folder.chunks()}, {"done", state->done}, {"running", state->running}, {"waiting", state->waiting},
                   {"not sent", state->lost}});
    else
        fmt::print("{} of {} chunks done, {} running, {} waiting, {} not in the queue\n", state->done, folder.chunks(), state->running,
                   state->waiting, state->lost);
    return success;
}

int studyCancel(const StudyOptions& options) {
    const CancelToken cancel;
    const auto tasks = tasksOf(options);
    if (!tasks) return fail(tasks.error(), options.json, unreadable);
    const auto stopped = tasks->jobs.stop(cancel);
    if (!stopped) return fail(stopped.error(), options.json, unsound);
    return success;
}

}  // namespace hedgerow::cli

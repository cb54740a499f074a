#include "studies/slurm.h"

#include <algorithm>
#include <charconv>
#include <chrono>
#include <cstdlib>
#include <map>
#include <set>
#include <thread>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "base/process.h"
#include "base/text.h"
#include "formats/file.h"

namespace hedgerow {

namespace {

using Json = nlohmann::json;
namespace fs = std::filesystem;

constexpr double patience = 60, shortPatience = 5;  ///< s, for an answer of Slurm; where somebody leaves
constexpr std::size_t usualArray = 1001;    ///< tasks of an array where the site does not say (its own default)
constexpr std::size_t largestArray = 10000; ///< beyond it, a list of single tasks gets too long for an argument

/// What a program of Slurm said; its own words where it failed.
Result<std::string> ask(const std::vector<std::string>& command, const CancelToken& cancel, double seconds = patience) {
    auto outcome = runProcess(command, seconds, cancel);
    if (!outcome) return outcome.error();
    if (outcome->code == 0) return std::move(outcome->out);
    const std::string said(trimmed(outcome->err.empty() ? outcome->out : outcome->err));
    return Error{ErrorCode::resource, fmt::format("{}: {}", command.front(), said.empty() ? "it failed without a word" : said.substr(0, 2000))};
}

/// How many tasks an array of this site can have.
std::size_t arrayLimit(const CancelToken& cancel) {
    const auto told = ask({"scontrol", "show", "config"}, cancel);
    if (!told) return usualArray;
    const std::size_t at = told->find("MaxArraySize");
    if (at == std::string::npos) return usualArray;
    const std::size_t equals = told->find('=', at);
    const auto value = equals == std::string::npos
                           ? std::nullopt
                           : numberIn(trimmed(std::string_view(*told).substr(equals + 1, told->find('\n', equals) - equals - 1)));
    return value && *value >= 1 ? std::min(largestArray, static_cast<std::size_t>(*value)) : usualArray;
}

/// As one word of a shell.
std::string quoted(const std::string& text) {
    std::string made = "'";
    for (const char c : text) made += c == '\'' ? "'\\''" : std::string(1, c);
    return made + "'";
}

}  // namespace

bool slurmHere() { return !programOnPath("sbatch").empty() && !programOnPath("squeue").empty(); }

bool slurmKnowsACluster() {
    if (!slurmHere()) return false;
    if (std::getenv("SLURM_CONF")) return true;
    std::error_code failed;
    for (const char* file : {"/etc/slurm/slurm.conf", "/etc/slurm-llnl/slurm.conf", "/run/slurm/conf/slurm.conf"})
        if (fs::exists(file, failed)) return true;
    return false;
}

std::string commandLineProgram() {
    constexpr const char* name = "hedgerow-cli";
    std::error_code failed;
    const fs::path self = fs::read_symlink("/proc/self/exe", failed);
    if (failed) return programOnPath(name);
    if (self.filename() == name) return self;
    for (const fs::path& place : {self.parent_path() / name, self.parent_path().parent_path() / "cli" / name})
        if (fs::exists(place, failed)) return place;
    return programOnPath(name);
}

std::string arrayText(const std::vector<std::size_t>& numbers) {
    std::string text;
    for (std::size_t i = 0; i < numbers.size();) {
        std::size_t last = i;
        while (last + 1 < numbers.size() && numbers[last + 1] == numbers[last] + 1) ++last;
        if (!text.empty()) text += ',';
        text += last == i ? fmt::format("{}", numbers[i]) : fmt::format("{}-{}", numbers[i], numbers[last]);
        i = last + 1;
    }
    return text;
}

Result<std::vector<std::size_t>> arrayNumbers(std::string_view text) {
    const Error wrong{ErrorCode::syntax, fmt::format("'{}' is no list of tasks", text.substr(0, 100))};
    std::vector<std::size_t> numbers;
    const auto number = [](std::string_view digits) -> std::optional<std::size_t> {
        std::size_t value = 0;
        const auto read = std::from_chars(digits.data(), digits.data() + digits.size(), value);
        if (digits.empty() || read.ec != std::errc() || read.ptr != digits.data() + digits.size()) return std::nullopt;
        return value;
    };
    while (!text.empty()) {
        const std::size_t comma = text.find(',');
        const std::string_view piece = text.substr(0, comma);
        const std::size_t dash = piece.find('-');
        const auto first = number(piece.substr(0, dash)), last = dash == std::string_view::npos ? first : number(piece.substr(dash + 1));
        if (!first || !last || *last < *first || *last - *first > mostStudyRuns || numbers.size() > mostStudyRuns) return wrong;
        for (std::size_t i = *first; i <= *last; ++i) numbers.push_back(i);
        text = comma == std::string_view::npos ? std::string_view() : text.substr(comma + 1);
    }
    return numbers;
}

Result<SlurmJobs> SlurmJobs::open(const StudyFolder& folder) {
    SlurmJobs jobs(folder);
    const fs::path path = folder.path() / "jobs.json";
    std::error_code failed;
    if (!fs::exists(path, failed)) return jobs;
    const Error damaged{ErrorCode::file, path.string() + " is damaged: remove it, and what is missing is sent again"};
    const auto text = readFile(path);
    if (!text) return text.error();
    try {
        for (const Json& one : Json::parse(*text)) {
            Job job{.id = one.at("job").get<std::string>(), .offset = one.at("offset").get<std::size_t>()};
            const bool plain = !job.id.empty() && std::all_of(job.id.begin(), job.id.end(), [](unsigned char c) { return std::isdigit(c); });
            auto chunks = arrayNumbers(one.at("chunks").get<std::string>());
            if (!plain || !chunks) return damaged;
            job.chunks = std::move(*chunks);
            jobs.jobs_.push_back(std::move(job));
        }
    } catch (const Json::exception&) {
        return damaged;
    }
    return jobs;
}

Status SlurmJobs::save() const {
    Json json = Json::array();
    for (const Job& job : jobs_) json.push_back({{"job", job.id}, {"offset", job.offset}, {"chunks", arrayText(job.chunks)}});
    const auto held = folder_.held();
    return held ? writeFileAtomically(*held, "jobs.json", json.dump(1) + "\n") : Status(held.error());
}

Result<std::vector<std::pair<std::size_t, bool>>> SlurmJobs::queued(const CancelToken& cancel, double seconds) const {
    std::vector<std::pair<std::size_t, bool>> chunks;
    if (jobs_.empty()) return chunks;
    // All of the user's tasks: a job that is over is unknown to squeue, and asking for it by number would fail.
    const auto told = ask({"squeue", "--noheader", "--array", "--me", "--format=%F %K %T"}, cancel, seconds);
    if (!told) return told.error();
    std::map<std::string, std::size_t> offsets;
    for (const Job& job : jobs_) offsets[job.id] = job.offset;
    std::string_view rest = *told;
    while (!rest.empty()) {
        const std::size_t end = rest.find('\n');
        const std::string_view line = trimmed(rest.substr(0, end));
        rest = end == std::string_view::npos ? std::string_view() : rest.substr(end + 1);
        const std::size_t first = line.find(' '), second = line.find(' ', first + 1);
        if (first == std::string_view::npos || second == std::string_view::npos) continue;
        const auto offset = offsets.find(std::string(line.substr(0, first)));
        const auto index = numberIn(line.substr(first + 1, second - first - 1));
        if (offset == offsets.end() || !index || *index < 0) continue;
        const std::string_view how = trimmed(line.substr(second));
        // What has ended, and waits only to be forgotten, is not in the queue.
        static constexpr std::string_view over[] = {"COMPLETED", "CANCELLED", "FAILED", "TIMEOUT", "OUT_OF_MEMORY", "BOOT_FAIL", "DEADLINE", "NODE_FAIL", "PREEMPTED"};
        if (std::find(std::begin(over), std::end(over), how) != std::end(over)) continue;
        const std::size_t chunk = offset->second + static_cast<std::size_t>(*index);
        if (chunk < folder_.chunks()) chunks.emplace_back(chunk, how == "RUNNING" || how == "COMPLETING");
    }
    return chunks;
}

Result<std::size_t> SlurmJobs::submit(const SlurmSetting& setting, const CancelToken& cancel) {
    const auto there = queued(cancel, patience);
    if (!there) return there.error();
    std::set<std::size_t> inQueue;
    for (const auto& [chunk, running] : *there) inQueue.insert(chunk);
    std::map<std::size_t, int> tries;
    for (const Job& job : jobs_)
        for (const std::size_t chunk : job.chunks) ++tries[chunk];
    std::vector<std::size_t> wanted;
    for (const std::size_t chunk : folder_.missing())
        if (!inQueue.contains(chunk)) {
            if (tries[chunk] >= mostTries)
                return Error{ErrorCode::resource, fmt::format("chunk {} was sent {} times and made nothing: see {}", chunk, tries[chunk],
                                                              (folder_.path() / "logs").string())};
            wanted.push_back(chunk);
        }
    if (wanted.empty()) return std::size_t{0};

    const std::string program = setting.program.empty() ? commandLineProgram() : setting.program;
    if (program.empty()) return Error{ErrorCode::resource, "hedgerow-cli is not found on this machine"};
    const fs::path folder = fs::absolute(folder_.path()), script = folder / "task.sh";
    const auto held = folder_.held();
    if (!held) return held.error();
    if (held->entry("logs") == OpenFolder::Entry::none)
        if (auto made = held->makeFolder("logs"); !made) return made.error();
    if (held->entry("logs") != OpenFolder::Entry::folder) return Error{ErrorCode::file, (folder / "logs").string() + " is no folder"};
    const std::string text = fmt::format("#!/bin/sh\n# One chunk of a study: $1 and the number of the task in its array.\nexec {} study work {} $(($1 + SLURM_ARRAY_TASK_ID)){}\n",
                                         quoted(program), quoted(folder.string()), setting.anywhere ? " --allow-outside" : "");
    if (auto written = writeFileAtomically(*held, "task.sh", text); !written) return written.error();

    const std::size_t most = arrayLimit(cancel);
    std::size_t sent = 0;
    for (std::size_t i = 0; i < wanted.size();) {
        Job job{.id = "", .offset = wanted[i] / most * most};
        std::vector<std::size_t> tasks;
        for (; i < wanted.size() && wanted[i] < job.offset + most; ++i) {
            job.chunks.push_back(wanted[i]);
            tasks.push_back(wanted[i] - job.offset);
        }
        std::vector<std::string> command{"sbatch", "--parsable", "--requeue", "--job-name=hedgerow-study", "--ntasks=1", "--cpus-per-task=1",
                                         "--chdir=" + folder.string(), "--output=" + (folder / "logs" / "%A-%a.txt").string(),
                                         fmt::format("--array={}{}", arrayText(tasks), setting.together > 0 ? fmt::format("%{}", setting.together) : "")};
        for (const auto& [option, value] : {std::pair{"--partition=", &setting.partition}, {"--account=", &setting.account},
                                            {"--time=", &setting.time}, {"--mem=", &setting.memory}})
            if (!value->empty()) command.push_back(option + *value);
        for (const std::string& option : setting.more) command.push_back(option);
        command.push_back(script.string());
        command.push_back(std::to_string(job.offset));
        const auto told = ask(command, cancel);
        if (!told) return told.error();
        // "1234" or "1234;cluster".
        job.id = trimmed(std::string_view(*told).substr(0, told->find(';')));
        if (job.id.empty() || !std::all_of(job.id.begin(), job.id.end(), [](unsigned char c) { return std::isdigit(c); }))
            return Error{ErrorCode::resource, fmt::format("sbatch: its answer '{}' is no number of a job", trimmed(*told).substr(0, 200))};
        sent += job.chunks.size();
        jobs_.push_back(std::move(job));
        if (auto saved = save(); !saved) return saved.error();
    }
    return sent;
}

Result<SlurmState> SlurmJobs::state(const CancelToken& cancel) const {
    const auto there = queued(cancel, patience);
    if (!there) return there.error();
    SlurmState state;
    std::set<std::size_t> inQueue;
    for (const auto& [chunk, running] : *there) {
        inQueue.insert(chunk);
        ++(running ? state.running : state.waiting);
    }
    const auto missing = folder_.missing();
    state.done = folder_.chunks() - missing.size();
    for (const std::size_t chunk : missing) state.lost += inQueue.contains(chunk) ? 0 : 1;
    return state;
}

Status SlurmJobs::stop(const CancelToken& cancel) const {
    const auto there = queued(cancel, shortPatience);
    if (!there) return there.error();
    if (there->empty()) return {};
    std::vector<std::string> command{"scancel"};
    for (const Job& job : jobs_) command.push_back(job.id);
    const auto told = ask(command, cancel, shortPatience);
    return told ? Status() : Status(told.error());
}

Status workBySlurm(const StudyFolder& folder, const SlurmSetting& setting, StudySink& rows,
                   const std::function<void(const SlurmState&, std::size_t)>& progress, const CancelToken& cancel) {
    constexpr int lookEvery = 2000, lookTwice = 3;  // ms, and how often something has to be missing before it is lost
    auto jobs = SlurmJobs::open(folder);
    if (!jobs) return jobs.error();
    if (auto sent = jobs->submit(setting, cancel); !sent) return sent.error();
    int missed = 0;
    for (;;) {
        const auto there = folder.gather(rows);
        if (!there) return there.error();
        if (*there == folder.chunks()) return {};
        const auto state = jobs->state(cancel);
        std::size_t again = 0;
        missed = state && state->lost > 0 ? missed + 1 : 0;
        if (missed >= lookTwice) {
            const auto sent = jobs->submit(setting, cancel);
            if (!sent) return sent.error();
            again = *sent, missed = 0;
        }
        if (state && progress) progress(*state, again);
        for (int waited = 0; waited < lookEvery && !cancel.cancelled(); waited += 20)
            std::this_thread::sleep_for(std::chrono::milliseconds(20));
        if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped waiting; the tasks go on"};
    }
}

}  // namespace hedgerow

#include "shared.h"

#include <atomic>
#include <csignal>
#include <ctime>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

#include "files/outside_files.h"
#include "formats/hedge/hedge.h"

namespace hedgerow::cli {

namespace {

/// Set by the signal handler, which may run in any thread.
std::atomic<bool> interrupted = false;
static_assert(std::atomic<bool>::is_always_lock_free);

}  // namespace

Json toJson(const Error& error) {
    Json json = {{"message", error.message}};
    if (!error.part.empty()) json["part"] = error.part;
    if (!error.net.empty()) json["net"] = error.net;
    if (!error.field.empty()) json["field"] = error.field;
    if (error.line > 0) json["line"] = error.line, json["column"] = error.column;
    return json;
}

void printJson(const Json& json) { fmt::print("{}\n", json.dump(2, ' ', false, Json::error_handler_t::replace)); }

void say(const Error& error, bool json) {
    if (json)
        printJson(Json{{"error", toJson(error)}});
    else
        spdlog::error("{}", error.text());
}

std::shared_ptr<const Project> load(const std::string& path, bool json, bool allowOutside) {
    auto loaded = loadHedge(path);
    if (!loaded) {
        if (json)
            printJson(Json{{"error", toJson(loaded.error())}});
        else
            spdlog::error("{}", loaded.error().text());
        return nullptr;
    }
    ProjectFolder& folder = loaded->project.folder;
    folder.allow(AllowedFiles::ofUser().of(path));
    if (allowOutside) folder.allowAll();
    for (const std::string& file : outsideFiles(loaded->project))
        spdlog::warn("{} lies outside of the project's folder and is not read: --allow-outside allows it", file);
    if (!loaded->notice.empty()) spdlog::warn("{}", loaded->notice);
    return std::make_shared<const Project>(std::move(loaded->project));
}

std::optional<RunSettings> settingsOf(const RunOptions& options) {
    RunSettings settings;
    settings.scene = options.scene;
    settings.plan = options.plan;
    settings.end = options.end;
    settings.start = options.start;
    settings.engine = options.engine;
    settings.step = options.step;
    settings.method = options.method;
    settings.roundEdges = options.roundEdges;
    settings.evenOut = options.evenOut;
    settings.settle = options.settle;
    settings.periods = options.periods;
    settings.period = options.period;
    settings.spans = options.spans;
    for (const std::string& set : options.sets) {
        const std::size_t equals = set.find('=');
        if (equals == std::string::npos || equals == 0) {
            spdlog::error("--set {}: NAME=VALUE was expected", set);
            return {};
        }
        settings.parameters.emplace_back(set.substr(0, equals), set.substr(equals + 1));
    }
    return settings;
}

std::shared_ptr<const Project> withTolerance(std::shared_ptr<const Project> project, const RunOptions& options) {
    if (!options.tolerance.empty()) {
        auto changed = std::make_shared<Project>(*project);
        for (Plan& plan : changed->plans) plan.tolerance = options.tolerance;
        project = changed;
    }
    return project;
}

void listenForInterrupts() {
    // The first one stops the run, and what was computed is written; who goes on interrupting ends the program.
    const auto interrupt = [](int signal) {
        constexpr std::time_t patience = 3;  // s
        static std::atomic<std::time_t> first{0};
        const std::time_t now = std::time(nullptr);
        std::time_t none = 0;
        if (!first.compare_exchange_strong(none, now) && now - first > patience) {
            std::signal(signal, SIG_DFL);
            std::raise(signal);
        }
        interrupted = true;
    };
    std::signal(SIGINT, interrupt);
    std::signal(SIGTERM, interrupt);
}

bool wasInterrupted() { return interrupted; }

}  // namespace hedgerow::cli

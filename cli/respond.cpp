// Frequency responses.

#include <atomic>
#include <chrono>
#include <thread>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

#include "analysis/tune.h"
#include "base/text.h"
#include "formats/response_file.h"
#include "formats/hedge/hedge.h"
#include "model/values.h"
#include "runs/responses.h"
#include "shared.h"

namespace hedgerow::cli {

namespace {

/// A quantity typed after an option.
std::optional<double> typed(const std::string& text, const char* unit, const char* option) {
    const auto value = evaluateField(text, *findUnit(unit), [](std::string_view name) -> Result<Quantity> {
        return Error{ErrorCode::name, fmt::format("'{}' is no number", name)};
    });
    if (value) return *value;
    spdlog::error("{} {}: {}", option, text, value.error().message);
    return {};
}

/// Nothing after a message.
std::optional<ResponseQuestion> questionOf(const RespondOptions& options) {
    ResponseQuestion question;
    const int named = !options.from.empty() + !options.loop.empty() + !options.impedance.empty();
    if (named != 1 || (options.from.empty() != options.to.empty())) {
        spdlog::error("one of --from with --to, --loop and --impedance was expected");
        return {};
    }
    question.from = options.from, question.to = options.to;
    if (!options.loop.empty()) question.sort = ResponseQuestion::Sort::loop, question.from = options.loop;
    if (!options.impedance.empty())
        question.sort = ResponseQuestion::Sort::impedance, question.from = options.impedance;
    if (!options.span.empty()) {
        const std::size_t colon = options.span.find(':');
        if (colon == std::string::npos) {
            spdlog::error("--span {}: two frequencies were expected, such as 10:1M", options.span);
            return {};
        }
        const auto least = typed(options.span.substr(0, colon), "Hz", "--span"),
                   most = typed(options.span.substr(colon + 1), "Hz", "--span");
        if (!least || !most) return {};
        question.least = *least, question.most = *most;
    }
    question.points = options.points;
    if (!options.tone.empty()) {
        question.tone = typed(options.tone, "", "--tone");
        if (!question.tone) return {};
        if (!(*question.tone > 0)) {
            spdlog::error("--tone {}: an amplitude above 0 was expected", options.tone);
            return {};
        }
    }
    if (const auto sound = frequenciesOf(question); !sound) {
        spdlog::error("{}", sound.error().message);
        return {};
    }
    return question;
}

Json toJson(const FrequencyResponse& response) {
    Json json{{"name", response.name}, {"unit", response.unit}};
    const std::vector<double> phase = phaseOf(response);
    for (std::size_t i = 0; i < response.values.size(); ++i)
        json["points"].push_back({{"frequency", response.frequencies[i]},
                                  {"gain", std::abs(response.values[i])},
                                  {"phase", phase[i]},
                                  {"real", response.values[i].real()},
                                  {"imaginary", response.values[i].imag()}});
    const Margins margins = marginsOf(response);
    const auto put = [&](const char* name, const std::optional<double>& value) {
        if (value) json["margins"][name] = *value;
    };
    put("crossover", margins.crossover), put("phase margin", margins.phaseMargin);
    put("phase crossover", margins.phaseCrossover), put("gain margin", margins.gainMargin);
    put("bandwidth", margins.bandwidth), put("peak", margins.peak), put("peak at", margins.peakAt);
    return json;
}

void print(const FrequencyResponse& response, bool loop) {
    const Margins margins = marginsOf(response);
    fmt::print("{}\n", response.name);
    if (loop && margins.crossover)
        fmt::print("  crossover {}, phase margin {:.2f} degrees\n", formatQuantity(*margins.crossover, "Hz", 5),
                   *margins.phaseMargin);
    if (loop && margins.gainMargin)
        fmt::print("  gain margin {:.2f} dB at {}\n", 20 * std::log10(*margins.gainMargin),
                   formatQuantity(*margins.phaseCrossover, "Hz", 5));
    if (!loop) {
        fmt::print("  at most {} at {}\n", formatQuantity(margins.peak, response.unit, 5),
                   formatQuantity(margins.peakAt, "Hz", 5));
        if (margins.bandwidth) fmt::print("  bandwidth {}\n", formatQuantity(*margins.bandwidth, "Hz", 5));
    }
    const std::vector<double> phase = phaseOf(response);
    constexpr std::size_t rows = 12;
    const std::size_t every = std::max<std::size_t>(1, response.values.size() / rows);
    for (std::size_t i = 0; i < response.values.size(); i += every)
        fmt::print("  {:>12}  {:10.4f} dB {:10.3f}°\n", formatQuantity(response.frequencies[i], "Hz", 5),
                   20 * std::log10(std::abs(response.values[i])), phase[i]);
}

}  // namespace

int respond(const RespondOptions& options) {
    const auto question = questionOf(options);
    if (!question) return usage;
    for (const std::string& file : options.outputs) {
        const std::string ending = lowerCase(std::filesystem::path(file).extension().string());
        if (ending == ".csv" || ending == ".h5") continue;
        spdlog::error("--out {}: responses are written as .csv and .h5", file);
        return usage;
    }
    auto settings = settingsOf(options.run);
    if (!settings) return usage;
    settings->settle = true;
    auto project = load(options.run.project, options.run.json, options.run.allowOutside);
    if (!project) return unreadable;
    const auto prepared = Run::prepare(withTolerance(project, options.run), *settings);
    if (!prepared) return say(prepared.error(), options.run.json), unsound;
    listenForInterrupts();
    const CancelToken cancel;
    const auto responses = [&] {
        const Watcher watcher(cancel);
        return respondTo(**prepared, *question, cancel);
    }();
    if (!responses) {
        say(responses.error(), options.run.json);
        return responses.error().code == ErrorCode::stop   ? stopped
               : responses.error().code == ErrorCode::name ? unsound
                                                           : runFailed;
    }
    if (options.run.json) {
        Json all = Json::array();
        for (const FrequencyResponse& one : *responses) all.push_back(toJson(one));
        printJson(all);
    } else {
        for (const FrequencyResponse& one : *responses) print(one, question->sort == ResponseQuestion::Sort::loop);
    }
    for (const std::string& file : options.outputs) {
        if (auto written = writeResponses(file, *responses); !written) {
            spdlog::error("{}", written.error().text());
            return unwritable;
        }
        if (!options.run.json) fmt::print("  wrote {}\n", file);
    }
    return success;
}

int tune(const TuneOptions& options) {
    const auto crossover = typed(options.crossover, "Hz", "--crossover"),
               margin = typed(options.margin, "", "--margin");
    if (!crossover || !margin) return usage;
    auto settings = settingsOf(options.run);
    if (!settings) return usage;
    auto project = load(options.run.project, options.run.json, options.run.allowOutside);
    if (!project) return unreadable;
    const CancelToken cancel;
    listenForInterrupts();
    const Watcher watcher(cancel);
    const auto tuned =
        tuneRegulator(withTolerance(project, options.run), *settings, options.part, *crossover, *margin, cancel);
    if (!tuned) {
        say(tuned.error(), options.run.json);
        return tuned.error().code == ErrorCode::stop ? stopped : unsound;
    }
    if (options.run.json) {
        Json json = toJson(tuned->after);
        for (const auto& [key, value] : tuned->values) json["values"][key] = value;
        printJson(json);
    } else {
        for (const auto& [key, value] : tuned->values) fmt::print("{}.{} = {}\n", options.part, key, value);
        print(tuned->after, true);
    }
    if (!options.write) return success;
    Project changed = *project;
    if (Part* const part = changed.findPart(changed.findPart(options.part)->id))
        for (const auto& [key, value] : tuned->values) part->values.set(key, value);
    if (auto saved = saveHedge(changed, options.run.project); !saved) {
        spdlog::error("{}", saved.error().text());
        return unwritable;
    }
    if (!options.run.json) fmt::print("  wrote {}\n", options.run.project);
    return success;
}

}  // namespace hedgerow::cli

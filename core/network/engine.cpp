#include "network/engine.h"

#include <cmath>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow {

std::string_view describe(RunEnd end) {
    switch (end) {
        case RunEnd::finished:
            return "finished";
        case RunEnd::stopped:
            return "stopped";
        case RunEnd::memory:
            return "memory limit reached";
        case RunEnd::failed:
            return "failed";
    }
    return "";
}

Error notFinite(const Network& network, int unknown, double value, Tick t) {
    Error error{ErrorCode::numeric,
                fmt::format("{} {} at {}: a value of the circuit is far too large or too small there",
                            network.describeUnknown(unknown),
                            std::isnan(value) ? "is no number any more" : "grows beyond all numbers",
                            formatQuantity(toSeconds(t), "s"))};
    if (unknown < network.nodeCount())
        error.net = network.nodes[static_cast<std::size_t>(unknown)];
    else
        error.part = network.partOfBranch(unknown);
    return error;
}

RunEnd endOf(std::optional<Error>& error, bool stopped, bool full) {
    if (error && error->code == ErrorCode::stop && error->part.empty()) error.reset(), stopped = true;
    if (error) return error->code == ErrorCode::stop ? RunEnd::stopped : RunEnd::failed;
    return full ? RunEnd::memory : stopped ? RunEnd::stopped : RunEnd::finished;
}

std::int64_t RunSummary::counter(std::string_view name) const {
    for (const auto& [key, count] : counters)
        if (key == name) return count;
    return 0;
}

double RunSummary::second(std::string_view name) const {
    for (const auto& [key, value] : seconds)
        if (key == name) return value;
    return 0.0;
}

std::string RunSummary::headroom() const {
    const double step = second("step of the grid"), steps = static_cast<double>(counter("steps"));
    if (step <= 0 || steps <= 0) return "";
    const double mean = second("total") / steps;
    return fmt::format("a step of {} took {} to compute, {:.2g} times as long; the longest took {}",
                       formatQuantity(step, "s"), formatQuantity(mean, "s", 2), mean / step,
                       formatQuantity(second("longest step"), "s", 2));
}

std::string RunSummary::brief() const {
    std::string line = fmt::format("{}{} at {} after {}", settled.empty() ? "" : settledMark, describe(end), formatQuantity(toSeconds(reached), "s"),
                                   formatQuantity(second("total"), "s", 3));
    if (error) line += ": " + error->text();
    return line;
}

std::vector<std::string> SpanOutcome::words() const {
    std::vector<std::string> lines;
    std::string line = fmt::format("{}: {} to {}", engine.empty() ? "not solved" : engine, formatQuantity(toSeconds(from), "s", 6),
                                   formatQuantity(toSeconds(to), "s", 6));
    if (times > 1) line += fmt::format(", {} times", times);
    lines.push_back(line + fmt::format(", {} events, {} points, computed in {}", events, points,
                                       formatQuantity(seconds, "s", 3)) +
                    (priced > 0 ? fmt::format(", expected {}", formatQuantity(priced, "s", 2)) : ""));
    if (!ruled.empty()) lines.push_back("as short as they are because of " + ruled);
    if (!ended.empty()) lines.push_back(ended);
    if (!takesOver()) return lines;
    std::string energy = fmt::format("takes over {} of stored energy", formatQuantity(energyBefore, "J", 4));
    if (energyBefore != energyAfter) energy += fmt::format(", {} afterwards", formatQuantity(energyAfter, "J", 4));
    lines.push_back(energy);
    constexpr std::size_t told = 4;
    const auto some = [](std::vector<std::string> names) {
        const std::size_t more = names.size() > told ? names.size() - told : 0;
        if (more > 0) names.resize(told), names.push_back(fmt::format("{} more", more));
        return listed(names);
    };
    if (!gone.empty())
        lines.push_back(fmt::format("{} of it went with {}", formatQuantity(energyGone, "J", 3), some(gone)));
    if (!added.empty())
        lines.push_back(fmt::format("{} of it is in {}, which started in equilibrium", formatQuantity(energyNew, "J", 3), some(added)));
    for (std::size_t i = 0; i < jumps.size() && (i < told || jumps[i].caution); ++i)
        lines.push_back(fmt::format("{}{} jumps from {} to {}", jumps[i].caution ? "caution: " : "", jumps[i].quantity,
                                    formatQuantity(jumps[i].before, jumps[i].unit, 4),
                                    formatQuantity(jumps[i].after, jumps[i].unit, 4)));
    return lines;
}

std::string RunSummary::full() const {
    std::string text = brief() + fmt::format("\n  engine                  {}\n", engine);
    for (std::size_t i = 0; i < spans.size(); ++i) {
        text += fmt::format("  span {:<18} {}\n", i + 1, spans[i].text);
        for (const std::string& line : spans[i].words()) text += fmt::format("  {:<23} {}\n", "", line);
    }
    if (const std::string room = headroom(); !room.empty()) text += "  " + room + "\n";
    for (const auto& [name, words] : settled) text += fmt::format("  {:<23} {}\n", "settled: " + name, words);
    for (const auto& [name, count] : counters) text += fmt::format("  {:<23} {}\n", name, count);
    for (const auto& [name, value] : seconds)
        text += fmt::format("  {:<23} {}\n", "time: " + name, formatQuantity(value, "s", 3));
    for (const auto& [part, count] : stepsByPart) text += fmt::format("  {:<23} {}\n", "steps ruled by " + part, count);
    for (const auto& [part, count] : eventsByPart) text += fmt::format("  {:<23} {}\n", "events of " + part, count);
    return text;
}

RunSummary Engine::run(const Network& network, const RunRequest& request, RunSink& sink,
                       const CancelToken& cancel) const {
    const std::unique_ptr<Simulation> simulation = begin(network, request, sink, cancel);
    if (simulation->start()) simulation->advance(request.end);
    return simulation->summary();
}

RowLayout::RowLayout(const Network& network) : unknowns(network.unknownCount()) {
    placeOfElement.assign(network.elements.size(), -1);
    for (std::size_t i = 0; i < network.elements.size(); ++i) {
        if (network.elements[i]->segmentCount() < 2) continue;
        placeOfElement[i] = static_cast<int>(switching.size());
        switching.push_back(static_cast<int>(i));
    }
}

}  // namespace hedgerow

#include "network/engine.h"

#include <cmath>

#include <fmt/format.h>

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

std::string RunSummary::full() const {
    std::string text = brief() + fmt::format("\n  engine                  {}\n", engine);
    if (const std::string room = headroom(); !room.empty()) text += "  " + room + "\n";
    for (const auto& [name, words] : settled) text += fmt::format("  {:<23} {}\n", "settled: " + name, words);
    for (const auto& [name, count] : counters) text += fmt::format("  {:<23} {}\n", name, count);
    for (const auto& [name, value] : seconds)
        text += fmt::format("  {:<23} {}\n", "time: " + name, formatQuantity(value, "s", 3));
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

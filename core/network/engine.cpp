#include "network/engine.h"

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

std::string RunSummary::brief() const {
    std::string line = fmt::format("{} at {} after {}", describe(end), formatQuantity(toSeconds(reached), "s"),
                                   formatQuantity(second("total"), "s", 3));
    if (error) line += ": " + error->text();
    return line;
}

std::string RunSummary::full() const {
    std::string text = brief() + fmt::format("\n  engine                  {}\n", engine);
    for (const auto& [name, count] : counters) text += fmt::format("  {:<23} {}\n", name, count);
    for (const auto& [name, value] : seconds)
        text += fmt::format("  {:<23} {}\n", "time: " + name, formatQuantity(value, "s", 3));
    for (const auto& [part, count] : eventsByPart) text += fmt::format("  {:<23} {}\n", "events of " + part, count);
    return text;
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

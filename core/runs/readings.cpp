#include "runs/readings.h"

#include <algorithm>

#include <fmt/format.h>

#include "model/values.h"
#include "traces/expression.h"

namespace hedgerow {

namespace {

constexpr double mostInstants = 2e8;

/// Instants of a trace in a window, with both ends.
std::vector<Tick> storedInstants(const Trace& trace, Tick from, Tick to) {
    std::vector<Tick> times;
    const std::size_t first = trace.firstAtOrAfter(from);
    if (first >= trace.size() || trace.time(first) != from) times.push_back(from);
    std::size_t i = first;
    for (; i < trace.size() && trace.time(i) <= to; ++i) times.push_back(trace.time(i));
    if (times.back() != to) times.push_back(to);
    return times;
}

/// Point i of a trace, or what its lines have at an instant between two points.
std::pair<double, double> factorsAt(const Trace& trace, Tick t, std::size_t next) {
    if (next < trace.size() && trace.time(next) == t) return {trace.first(next), trace.second(next)};
    if (next == 0 || next >= trace.size()) return {trace.at(t).value_or(0.0), 1.0};
    const std::size_t last = next - 1;
    if (trace.holds()) return {trace.first(last), trace.second(last)};
    const double part =
        static_cast<double>(t - trace.time(last)) / static_cast<double>(trace.time(next) - trace.time(last));
    return {trace.first(last) + part * (trace.first(next) - trace.first(last)),
            trace.second(last) + part * (trace.second(next) - trace.second(last))};
}

}  // namespace

Result<std::shared_ptr<Trace>> readTrace(const RunRecord& record, const std::string& text) {
    if (record.findQuantity(text)) return std::shared_ptr<Trace>(record.trace(text));
    const auto quantity = [&](std::string_view name) -> std::shared_ptr<const Trace> {
        return record.findQuantity(name) ? std::shared_ptr<const Trace>(record.trace(name)) : nullptr;
    };
    const ParameterTable parameters(record.project().parameters);
    return traceOf(text, quantity, parameters.lookup());
}

Result<std::vector<std::shared_ptr<Trace>>> extracted(const std::vector<std::shared_ptr<Trace>>& traces,
                                                      const Extract& extract) {
    if (extract.whole() || traces.empty()) return traces;
    const Trace& leading = *traces.front();
    if (leading.size() == 0) return Error{ErrorCode::range, "nothing is recorded yet"};
    const Tick from = std::max(extract.from, leading.time(0)),
               to = std::min(extract.to, leading.time(leading.size() - 1));
    if (from > to) return Error{ErrorCode::range, "nothing is recorded in this part of the time"};
    auto times = std::make_shared<std::vector<Tick>>();
    if (extract.every > 0) {
        const double steps = toSeconds(to - from) / extract.every;
        if (steps > mostInstants)
            return Error{ErrorCode::range, fmt::format("the grid has more than {:g} instants", mostInstants)};
        // Ticks do not add up to steps: each instant is rounded by itself.
        for (double k = 0; k <= steps * (1 + 1e-12) + 1e-9; ++k)
            times->push_back(std::min(to, from + toTicks(k * extract.every)));
    } else {
        *times = storedInstants(leading, from, to);
    }
    std::vector<std::shared_ptr<Trace>> all;
    for (const auto& trace : traces) {
        std::vector<double> first, second;
        first.reserve(times->size());
        std::size_t next = trace->firstAtOrAfter(from);
        for (std::size_t k = 0; k < times->size(); ++k) {
            const Tick t = (*times)[k];
            if (extract.every > 0) {
                first.push_back(trace->at(t).value_or(0.0));
                continue;
            }
            const auto [a, b] = factorsAt(*trace, t, next);
            first.push_back(a);
            if (trace->product()) second.push_back(b);
            if (next < trace->size() && trace->time(next) == t) ++next;
        }
        all.push_back(std::make_shared<Trace>(
            std::make_unique<ColumnPoints>(times, std::move(first), std::move(second), trace->holds()), trace->name(),
            trace->unit()));
    }
    return all;
}

std::size_t bytesAsText(std::size_t instants, std::size_t quantities) { return instants * (19 * (quantities + 1)); }

}  // namespace hedgerow

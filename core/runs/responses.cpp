#include "runs/responses.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "base/text.h"
#include "network/injection.h"
#include "network/scene.h"
#include "periodic/response/response.h"
#include "runs/registry.h"
#include "runs/settling.h"

namespace hedgerow {

namespace {

constexpr double lowest = 1e-3, highest = 1e9;  // Hz
constexpr int mostPoints = 100000;

/// The nets of "out" or "out from ret".
struct Port {
    std::string net, back;
};
Result<Port> portOf(const std::string& text) {
    const std::vector<std::string> said = words(std::string(trimmed(text)));
    if (said.size() == 1) return Port{said[0], ""};
    if (said.size() == 3 && said[1] == "from") return Port{said[0], said[2]};
    return Error{ErrorCode::name, fmt::format("'{}': write a net, or 'net from net', to say where to look in", text)};
}

/// The full name of the output that a wire is cut at: "REG1.y".
Result<std::string> wireOf(const Run& run, const std::string& text) {
    const FlatProject flat = flattened(run.project(), partLibrary().catalogue());
    const auto injection = injectionOf(text, flat, partLibrary().catalogue());
    if (!injection) return injection.error();
    if (injection->sort != Injection::Sort::wire)
        return Error{ErrorCode::name,
                     fmt::format("'{}' is no signal: a loop is looked at where a signal of the control runs", text)};
    return injection->at;
}

std::string prefixOf(const std::string& wire) {
    const std::string part = wire.substr(0, wire.rfind('.'));
    const std::size_t inside = part.rfind('.');
    return inside == std::string::npos ? "" : part.substr(0, inside + 1);
}

}  // namespace

Result<std::vector<double>> frequenciesOf(const ResponseQuestion& question) {
    const auto bad = [](std::string message) { return Error{ErrorCode::range, std::move(message), {}, {}, "span"}; };
    if (!(question.least >= lowest) || !(question.most <= highest) || !(question.least <= question.most))
        return bad(fmt::format("the span must rise, from {} on and up to {} at most", formatQuantity(lowest, "Hz"),
                               formatQuantity(highest, "Hz")));
    if (question.points < 1 || question.points > mostPoints)
        return bad(fmt::format("the number of points must be from 1 to {}", mostPoints));
    std::vector<double> all;
    const double ratio = std::log(question.most / question.least);
    for (int i = 0; i < question.points; ++i)
        all.push_back(question.points == 1 ? question.least
                                           : question.least * std::exp(ratio * i / (question.points - 1)));
    return all;
}

Result<std::vector<FrequencyResponse>> respondTo(const Run& run, const ResponseQuestion& question,
                                                 const CancelToken& cancel,
                                                 const std::function<void(std::size_t)>& progress) {
    const auto frequencies = frequenciesOf(question);
    if (!frequencies) return frequencies.error();
    std::string tone = question.from;
    std::vector<std::string> outputs = question.to;
    std::vector<FrequencyResponse> curves;
    switch (question.sort) {
        case ResponseQuestion::Sort::transfer:
            if (outputs.empty()) return Error{ErrorCode::name, "no quantity is named that answers"};
            for (const std::string& output : outputs) curves.push_back({output + " / " + tone, "", {}, {}});
            break;
        case ResponseQuestion::Sort::loop: {
            const auto wire = wireOf(run, question.from);
            if (!wire) return wire.error();
            outputs = {*wire, prefixOf(*wire) + actingName + ".y"};
            curves.push_back({"loop at " + *wire, "", {}, {}});
            break;
        }
        case ResponseQuestion::Sort::impedance: {
            const auto port = portOf(question.from);
            if (!port) return port.error();
            tone = "into " + port->net + (port->back.empty() ? "" : " from " + port->back);
            outputs = {port->net + ".v"};
            if (!port->back.empty()) outputs.push_back(port->back + ".v");
            curves.push_back({"impedance at " + question.from, "Ω", {}, {}});
            break;
        }
    }
    const Scene* const scene = run.project().findScene(run.scene());
    const auto intervals = sceneIntervals(*scene, run.project(), partLibrary(), run.request().end);
    if (!intervals) return intervals.error();
    const auto network = [&]() -> Result<Network> {
        auto made = elaborateWith(tone, run.project(), partLibrary(), intervals->front().changes);
        if (!made) return made.error();
        if (auto accepted = run.engine().accepts(made->network); !accepted) return accepted.error();
        return std::move(made->network);
    };
    // What is wrong in the question is said before the search.
    const auto trial = network();
    if (!trial) return trial.error();
    for (const std::string& output : outputs) {
        const QuantityInfo* const info = trial->findQuantity(output);
        if (!info) return Error{ErrorCode::name, fmt::format("the circuit has no quantity '{}'", output)};
    }
    if (question.sort == ResponseQuestion::Sort::transfer)
        for (std::size_t i = 0; i < outputs.size(); ++i) curves[i].unit = trial->findQuantity(outputs[i])->unit;
    const std::string unit = tone.starts_with("into ")                             ? "A"
                             : trial->findQuantity(std::string(actingName) + ".v") ? "V"
                                                                                   : "";
    const auto settled = settleCircuit(run.toSettle(), cancel);
    if (!settled) return settled.error();
    ResponseRequest request{.run = run.request(),
                            .start = settled->start,
                            .period = settled->period,
                            .outputs = outputs,
                            .unit = unit,
                            .frequencies = *frequencies,
                            .progress = progress};
    const auto table = question.tone ? respondByTone(run.engine(), network, request, *question.tone, cancel)
                                     : respond(run.engine(), network, request, cancel);
    if (!table) return table.error();
    for (FrequencyResponse& curve : curves) curve.frequencies = *frequencies;
    for (const std::vector<std::complex<double>>& row : *table) {
        if (question.sort == ResponseQuestion::Sort::loop) {
            curves[0].values.push_back(-row[0] / row[1]);
        } else if (question.sort == ResponseQuestion::Sort::impedance) {
            curves[0].values.push_back(row.size() > 1 ? row[0] - row[1] : row[0]);
        } else {
            for (std::size_t i = 0; i < curves.size(); ++i) curves[i].values.push_back(row[i]);
        }
    }
    return curves;
}

}  // namespace hedgerow

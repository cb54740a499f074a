// Why no configuration fits: messages that name parts, nets, and what would help.

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "base/text.h"
#include "engines/exact/commutation.h"
#include "model/quantity.h"
#include "network/contradictions.h"

namespace hedgerow::exact {

namespace {

/// The parts and nets along a direction of z, the largest share first come.
template <class Real>
void partsAlong(const Network& network, const Vector<Real>& direction, std::vector<std::string>& parts,
                std::vector<std::string>& nets) {
    const Real largest = direction.cwiseAbs().maxCoeff();
    for (int column = 0; column < direction.size(); ++column) {
        if (!(std::abs(direction(column)) > Real(1e-6) * largest)) continue;
        if (column < network.nodeCount()) {
            if (nets.size() < 6) nets.push_back(network.describeUnknown(column));
            continue;
        }
        const std::string& part = network.partOfBranch(column);
        if (std::find(parts.begin(), parts.end(), part) == parts.end()) parts.push_back(part);
    }
}

}  // namespace

template <class Real>
std::string Commutation<Real>::when(Tick t, const Cause& cause) const {
    const std::string instant = "at " + formatQuantity(toSeconds(t), "s", 6);
    const std::string part =
        cause.element < 0 ? "" : layout_.network.elements[static_cast<std::size_t>(cause.element)]->part();
    switch (cause.sort) {
        case Cause::Sort::none:
            return instant;
        case Cause::Sort::start:
            return "as the run starts " + instant;
        case Cause::Sort::gateOn:
            return "when " + part + " turns on " + instant;
        case Cause::Sort::gateOff:
            return "when " + part + " turns off " + instant;
        case Cause::Sort::change:
        case Cause::Sort::timeout:
            return "when " + part + " changes " + instant;
    }
    return instant;
}

template <class Real>
Status Commutation<Real>::lostCurrents(const Mode<Real>& mode, const Vector<Real>& before, Tick t,
                                       const Cause& cause) const {
    for (const int i : mode.lost) {
        if (std::abs(before(i)) <= 100 * scales_.currentNoise()) continue;
        const StateInfo& state = layout_.network.states[static_cast<std::size_t>(i)];
        return cutCurrent(state, static_cast<double>(before(i)), when(t, cause));
    }
    return {};
}

template <class Real>
Error Commutation<Real>::failure(Mode<Real>& mode, const Vector<Real>& before, Tick t, const Cause& cause) const {
    const Network& network = layout_.network;
    const std::string instant = when(t, cause);
    if (!mode.configuration().illPosedUnknowns.empty()) return illPosed(mode, instant);
    if (auto error = impossible(mode, before, instant)) return *error;
    std::vector<std::string> parts;
    for (const auto& element : network.elements)
        if (element->segmentCount() > 1) parts.push_back(element->part());
    return {ErrorCode::illPosed, fmt::format("no state of {} fits the circuit {}", listed(parts), instant),
            parts.empty() ? "" : parts.front()};
}

template <class Real>
Error Commutation<Real>::illPosed(const Mode<Real>& mode, const std::string& instant) const {
    std::vector<std::string> names, parts;
    for (const int column : mode.configuration().illPosedUnknowns) {
        if (column >= layout_.network.nodeCount()) parts.push_back(layout_.network.partOfBranch(column));
        if (names.size() < 6) names.push_back(layout_.network.describeUnknown(column));
    }
    return {ErrorCode::illPosed,
            fmt::format("{} {} no unique value {}: add a resistance there", listed(names),
                        names.size() == 1 ? "has" : "have", instant),
            parts.empty() ? "" : parts.front()};
}

/// A short circuit, or a current without a path.
template <class Real>
std::optional<Error> Commutation<Real>::impossible(Mode<Real>& mode, const Vector<Real>& before,
                                                   const std::string& instant) const {
    if (mode.configuration().contradiction.rows() == 0) return {};
    // Where the loop is still without a voltage now (a source at its zero crossing), what comes next tells.
    Vector<Real> y = before;
    Trial trial;
    if (!contradicted(mode, y, trial))
        mode.propagator().advance(y, std::max(mode.propagator().baseStep(), toTicks(1e-9)));
    std::vector<std::string> parts, nets;
    partsAlong<Real>(layout_.network, mode.configuration().infinite * (mode.configuration().contradiction * y), parts,
                     nets);
    if (!parts.empty())
        return Error{ErrorCode::illPosed,
                     fmt::format("{} form a short circuit without any resistance {}", listed(parts), instant),
                     parts.front()};
    if (!nets.empty())
        return Error{
            ErrorCode::illPosed,
            fmt::format("a current is forced into {} and every path from there is open {}: give it a way, a diode for "
                        "instance",
                        listed(nets), instant),
            "", nets.front().substr(4)};
    return {};
}

template Error Commutation<double>::failure(Mode<double>&, const Vector<double>&, Tick, const Cause&) const;
template Error Commutation<long double>::failure(Mode<long double>&, const Vector<long double>&, Tick,
                                                 const Cause&) const;
template Status Commutation<double>::lostCurrents(const Mode<double>&, const Vector<double>&, Tick, const Cause&) const;
template Status Commutation<long double>::lostCurrents(const Mode<long double>&, const Vector<long double>&, Tick,
                                                       const Cause&) const;

template <class Real>
Error beyondNumbers(const StateLayout<Real>& layout, const Vector<Real>& y, Tick t) {
    Eigen::Index at = 0;
    while (at + 1 < y.size() && std::isfinite(y(at))) ++at;
    const bool state = at < layout.states;
    const StateInfo* info = state ? &layout.network.states[static_cast<std::size_t>(at)] : nullptr;
    const char* what = !info                                     ? "a source"
                       : info->sort == StateSort::windingCurrent ? "the current of "
                       : info->sort == StateSort::signal         ? "the signal of "
                                                                 : "the voltage of ";
    return {ErrorCode::numeric,
            fmt::format("{}{} grew beyond all bounds at {}: look for a growing oscillation, or a value that is far too "
                        "large or too small",
                        what, info ? info->part : "", formatQuantity(toSeconds(t), "s", 6)),
            info ? info->part : ""};
}

template Error beyondNumbers(const StateLayout<double>&, const Vector<double>&, Tick);
template Error beyondNumbers(const StateLayout<long double>&, const Vector<long double>&, Tick);

}  // namespace hedgerow::exact

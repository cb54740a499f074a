#include "network/same_equations.h"

#include <algorithm>

namespace hedgerow {

namespace {

bool same(const std::vector<Triplet>& a, const std::vector<Triplet>& b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const Triplet& x, const Triplet& y) {
        return x.row == y.row && x.column == y.column && x.value == y.value;
    });
}

bool same(const Element& a, const Element& b, int nodes) {
    if (a.part() != b.part() || a.segmentCount() != b.segmentCount() || a.smooth() || b.smooth() ||
        a.branch() != b.branch() || a.logicSignal() != b.logicSignal())
        return false;
    for (int segment = 0; segment < a.segmentCount(); ++segment) {
        if (a.equations(segment) != b.equations(segment) || a.conducts(segment) != b.conducts(segment)) return false;
        const auto first = a.timeout(segment), second = b.timeout(segment);
        if (first.has_value() != second.has_value()) return false;
        const auto guards = a.guards(segment), others = b.guards(segment);
        if (!std::equal(guards.begin(), guards.end(), others.begin(), others.end(), [](const Guard& x, const Guard& y) {
                return x.terms == y.terms && x.constant == y.constant && x.next == y.next;
            }))
            return false;
        LinearStamp one(nodes), other(nodes);
        a.stamp(one, segment);
        b.stamp(other, segment);
        if (!same(one.f, other.f) || !same(one.hx, other.hx) || !same(one.bw, other.bw) || !same(one.k, other.k) ||
            !same(one.e, other.e))
            return false;
    }
    return true;
}

bool same(const SourceGenerator& a, const SourceGenerator& b) {
    if (a.size() != b.size() || a.angularFrequency() != b.angularFrequency()) return false;
    const auto size = static_cast<std::size_t>(a.size());
    std::vector<double> one(size * size, 0.0), other = one;
    a.dynamics(one);
    b.dynamics(other);
    return one == other;
}

}  // namespace

bool sameEquations(const Network& a, const Network& b) {
    if (&a == &b) return true;
    if (a.nodes != b.nodes || a.branchSorts != b.branchSorts || a.elements.size() != b.elements.size() ||
        a.states.size() != b.states.size() || a.sources.size() != b.sources.size() ||
        a.sourceOffsets != b.sourceOffsets || a.sourceCount != b.sourceCount ||
        a.heldSources.size() != b.heldSources.size())
        return false;
    for (std::size_t i = 0; i < a.states.size(); ++i)
        if (a.states[i].sort != b.states[i].sort || a.states[i].storage != b.states[i].storage) return false;
    for (std::size_t i = 0; i < a.heldSources.size(); ++i)
        if (a.heldSources[i].source != b.heldSources[i].source || a.heldSources[i].signal != b.heldSources[i].signal)
            return false;
    for (std::size_t i = 0; i < a.sources.size(); ++i)
        if (!same(*a.sources[i], *b.sources[i])) return false;
    for (std::size_t i = 0; i < a.elements.size(); ++i)
        if (!same(*a.elements[i], *b.elements[i], a.nodeCount())) return false;
    return true;
}

}  // namespace hedgerow

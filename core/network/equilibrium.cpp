#include "network/equilibrium.h"

#include <algorithm>

namespace hedgerow {

namespace {

/// Where states go when some of them are held.
struct Places {
    std::vector<int> states;   ///< per state: among those that are left, or -1
    std::vector<int> sources;  ///< per state: the source that holds it, or -1
    std::vector<double> values;
};

/// A constant.
class Constants final : public SourceGenerator {
public:
    explicit Constants(std::vector<double> values) : values_(std::move(values)) {}
    int size() const override { return static_cast<int>(values_.size()); }
    void valueAt(Tick, std::span<double> w) const override { std::copy(values_.begin(), values_.end(), w.begin()); }
    void dynamics(std::span<double>) const override {}

private:
    std::vector<double> values_;
};

/// An element of a network in which some states are held.
class HeldElement final : public Element {
public:
    HeldElement(const Element& of, int segment, std::shared_ptr<const Places> places)
        : Element(of.part()), of_(of), segment_(segment), places_(std::move(places)) {}

    void stamp(LinearStamp& stamp, int segment) const override {
        LinearStamp whole(stamp.branchRow(0));  // the first row after the nodes
        of_.stamp(whole, segment);
        stamp.f.insert(stamp.f.end(), whole.f.begin(), whole.f.end());
        stamp.bw.insert(stamp.bw.end(), whole.bw.begin(), whole.bw.end());
        stamp.e.insert(stamp.e.end(), whole.e.begin(), whole.e.end());
        for (const Triplet& entry : whole.hx) {
            const auto state = static_cast<std::size_t>(entry.column);
            if (places_->states[state] >= 0)
                stamp.hx.push_back({entry.row, places_->states[state], entry.value});
            else
                stamp.bw.push_back({entry.row, places_->sources[state], entry.value});
        }
        for (const Triplet& entry : whole.k)
            if (const int state = places_->states[static_cast<std::size_t>(entry.row)]; state >= 0)
                stamp.k.push_back({state, entry.column, entry.value});
    }
    int segmentCount() const override { return of_.segmentCount(); }
    int equations(int segment) const override { return of_.equations(segment); }
    int initialSegment(bool) const override { return segment_; }
    std::vector<Guard> guards(int segment) const override { return of_.guards(segment); }
    int branch() const override { return of_.branch(); }
    bool conducts(int segment) const override { return of_.conducts(segment); }
    bool smooth() const override { return of_.smooth(); }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        std::vector<double> states = places_->values;
        for (std::size_t i = 0; i < states.size(); ++i)
            if (places_->states[i] >= 0) states[i] = at.states[static_cast<std::size_t>(places_->states[i])];
        const std::size_t before = out.states.size();
        of_.evaluate({at.unknowns, states}, out);
        // Entries stay in their order; what is by a held state is nowhere.
        for (std::size_t i = before; i < out.states.size(); ++i) {
            SmoothStamp::Entry& entry = out.states[i];
            entry.column = places_->states[static_cast<std::size_t>(entry.column)];
            if (entry.column < 0) entry.row = -1;
        }
    }
    void tame(std::span<const double> before, std::span<double> after) const override { of_.tame(before, after); }

private:
    const Element& of_;
    int segment_;
    std::shared_ptr<const Places> places_;
};

}  // namespace

HeldNetwork::HeldNetwork(const Network& of, Tick t, const Carried& carried, const std::vector<int>& segments)
    : values_(carried.states) {
    auto places = std::make_shared<Places>();
    places->values = carried.states;
    held_.nodes = of.nodes;
    held_.branchCount = of.branchCount;
    held_.branchParts = of.branchParts;
    held_.branchSorts = of.branchSorts;
    held_.dynamic = of.dynamic;
    held_.sourceCount = of.sourceCount;
    std::vector<double> constants;
    for (std::size_t i = 0; i < of.states.size(); ++i) {
        if (carried.knownStates[i]) {
            places->states.push_back(-1);
            places->sources.push_back(held_.sourceCount + static_cast<int>(constants.size()));
            constants.push_back(carried.states[i]);
            continue;
        }
        places->states.push_back(static_cast<int>(held_.states.size()));
        places->sources.push_back(-1);
        held_.states.push_back(of.states[i]);
        held_.states.back().given = false;
    }
    for (std::size_t i = 0; i < of.sources.size(); ++i) {
        std::vector<double> now(static_cast<std::size_t>(of.sources[i]->size()), 0.0);
        of.sources[i]->valueAt(t, now);
        held_.sources.push_back(std::make_unique<Constants>(std::move(now)));
        held_.sourceOffsets.push_back(of.sourceOffsets[i]);
    }
    for (const HeldSource& source : of.heldSources) {
        held_.sourceOffsets.push_back(source.source);
        held_.sources.push_back(std::make_unique<Constants>(
            std::vector<double>{carried.signalValues[static_cast<std::size_t>(source.signal)]}));
    }
    if (!constants.empty()) {
        held_.sourceOffsets.push_back(held_.sourceCount);
        held_.sourceCount += static_cast<int>(constants.size());
        held_.sources.push_back(std::make_unique<Constants>(std::move(constants)));
    }
    places_ = places->states;
    for (std::size_t i = 0; i < of.elements.size(); ++i)
        held_.elements.push_back(std::make_unique<HeldElement>(*of.elements[i], segments[i], places));
}

std::vector<double> HeldNetwork::all(const std::vector<double>& rest) const {
    std::vector<double> states = values_;
    for (std::size_t i = 0; i < states.size(); ++i)
        if (places_[i] >= 0) states[i] = rest[static_cast<std::size_t>(places_[i])];
    return states;
}

std::vector<double> withNewAtRest(const Network& network, Tick t, const Carried& carried,
                                  const std::vector<int>& segments, const RestOf& restOf, bool heatToo) {
    if (std::find(carried.knownStates.begin(), carried.knownStates.end(), 0) == carried.knownStates.end())
        return carried.states;
    // What the losses of one instant would lead to in the long run is no temperature of this instant.
    Carried with = carried;
    for (std::size_t i = 0; i < network.states.size(); ++i)
        if (network.states[i].heat && !heatToo) with.knownStates[i] = 1;
    if (std::find(with.knownStates.begin(), with.knownStates.end(), 0) == with.knownStates.end()) return carried.states;
    const HeldNetwork held(network, t, with, segments);
    const auto rest = restOf(held.network());
    return rest ? held.all(*rest) : carried.states;
}

}  // namespace hedgerow

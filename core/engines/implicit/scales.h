#pragma once
// How large each unknown and each state has been: errors count relative to that.

#include <algorithm>
#include <array>
#include <cmath>
#include <span>
#include <vector>

#include "network/network.h"

namespace hedgerow::implicit {

class Scales {
public:
    explicit Scales(const Network& network)
        : network_(network),
          unknowns_(static_cast<std::size_t>(network.unknownCount()), 0.0),
          states_(network.states.size(), 0.0),
          unknownScales_(unknowns_.size(), least),
          stateScales_(states_.size(), least) {
        for (const StateInfo& state : network.states)
            ofState_.push_back(state.sort == StateSort::capacitorVoltage ? UnknownSort::voltage
                               : state.sort == StateSort::windingCurrent ? UnknownSort::current
                                                                         : UnknownSort::signal);
    }

    void see(std::span<const double> z, std::span<const double> x) {
        bool grew = false;
        for (std::size_t i = 0; i < z.size(); ++i) grew |= take(z[i], unknowns_[i], sortOf(i));
        for (std::size_t i = 0; i < x.size(); ++i) grew |= take(x[i], states_[i], ofState_[i]);
        if (!grew) return;
        for (std::size_t i = 0; i < unknowns_.size(); ++i)
            unknownScales_[i] = std::max(unknowns_[i], floorOf(sortOf(i))) + least;
        for (std::size_t i = 0; i < states_.size(); ++i)
            stateScales_[i] = std::max(states_[i], floorOf(ofState_[i])) + least;
    }
    double ofUnknown(std::size_t i) const { return unknownScales_[i]; }
    double ofState(std::size_t i) const { return stateScales_[i]; }
    /// Of a linear form, for what counts as zero of a guard.
    double ofTerms(const Terms& terms) const {
        double sum = 0;
        for (const auto& [column, factor] : terms) {
            const auto i = static_cast<std::size_t>(column);
            const UnknownSort sort = sortOf(i);
            sum = std::max(sum, std::abs(factor) * (sort == UnknownSort::signal ? unknowns_[i] : largest(sort)));
        }
        return sum + least;
    }
    double voltage() const { return largest(UnknownSort::voltage); }
    double current() const { return largest(UnknownSort::current); }

private:
    bool take(double value, double& own, UnknownSort sort) {
        const double size = std::abs(value);
        if (!(size > own)) return false;
        own = size;
        largest(sort) = std::max(largest(sort), size);
        return true;
    }
    UnknownSort sortOf(std::size_t unknown) const { return network_.sortOf(static_cast<int>(unknown)); }
    double largest(UnknownSort sort) const { return largest_[static_cast<std::size_t>(sort)]; }
    double& largest(UnknownSort sort) { return largest_[static_cast<std::size_t>(sort)]; }
    /// Signals have no common size: a duty may stand beside a speed.
    double floorOf(UnknownSort sort) const {
        return (sort == UnknownSort::signal ? smallSignal : small) * largest(sort);
    }
    static constexpr double small = 1e-3, smallSignal = 1e-7, least = 1e-6;
    const Network& network_;
    std::vector<double> unknowns_, states_;            ///< the largest magnitudes
    std::vector<double> unknownScales_, stateScales_;  ///< what errors count against
    std::vector<UnknownSort> ofState_;
    std::array<double, 3> largest_ = {};
};

}  // namespace hedgerow::implicit

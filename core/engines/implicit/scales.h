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
          states_(network.states.size(), 0.0) {
        for (const StateInfo& state : network.states)
            ofState_.push_back(state.sort == StateSort::capacitorVoltage ? UnknownSort::voltage
                               : state.sort == StateSort::windingCurrent ? UnknownSort::current
                                                                         : UnknownSort::signal);
    }

    void see(std::span<const double> z, std::span<const double> x) {
        for (std::size_t i = 0; i < z.size(); ++i) {
            unknowns_[i] = std::max(unknowns_[i], std::abs(z[i]));
            double& all = largest(sortOf(i));
            all = std::max(all, std::abs(z[i]));
        }
        for (std::size_t i = 0; i < x.size(); ++i) {
            states_[i] = std::max(states_[i], std::abs(x[i]));
            double& all = largest(ofState_[i]);
            all = std::max(all, std::abs(x[i]));
        }
    }
    double ofUnknown(std::size_t i) const { return std::max(unknowns_[i], floorOf(sortOf(i))) + least; }
    double ofState(std::size_t i) const { return std::max(states_[i], floorOf(ofState_[i])) + least; }
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
    UnknownSort sortOf(std::size_t unknown) const { return network_.sortOf(static_cast<int>(unknown)); }
    double largest(UnknownSort sort) const { return largest_[static_cast<std::size_t>(sort)]; }
    double& largest(UnknownSort sort) { return largest_[static_cast<std::size_t>(sort)]; }
    /// Signals have no common size: a duty may stand beside a speed.
    double floorOf(UnknownSort sort) const {
        return (sort == UnknownSort::signal ? smallSignal : small) * largest(sort);
    }
    static constexpr double small = 1e-3, smallSignal = 1e-7, least = 1e-6;
    const Network& network_;
    std::vector<double> unknowns_, states_;
    std::vector<UnknownSort> ofState_;
    std::array<double, 3> largest_ = {};
};

}  // namespace hedgerow::implicit

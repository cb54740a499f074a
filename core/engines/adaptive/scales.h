#pragma once
// How large each unknown and each state has been: errors count relative to that.

#include <algorithm>
#include <cmath>
#include <span>
#include <vector>

#include "network/network.h"

namespace hedgerow::adaptive {

class Scales {
public:
    explicit Scales(const Network& network)
        : network_(network),
          unknowns_(static_cast<std::size_t>(network.unknownCount()), 0.0),
          states_(network.states.size(), 0.0) {}

    void see(std::span<const double> z, std::span<const double> x) {
        for (std::size_t i = 0; i < z.size(); ++i) {
            unknowns_[i] = std::max(unknowns_[i], std::abs(z[i]));
            double& all = network_.isPotential(static_cast<int>(i)) ? voltage_ : current_;
            all = std::max(all, std::abs(z[i]));
        }
        for (std::size_t i = 0; i < x.size(); ++i) {
            states_[i] = std::max(states_[i], std::abs(x[i]));
            double& all = ofVoltage(i) ? voltage_ : current_;
            all = std::max(all, std::abs(x[i]));
        }
    }
    double ofUnknown(std::size_t i) const {
        return std::max(unknowns_[i], small * (network_.isPotential(static_cast<int>(i)) ? voltage_ : current_)) +
               least;
    }
    double ofState(std::size_t i) const {
        return std::max(states_[i], small * (ofVoltage(i) ? voltage_ : current_)) + least;
    }
    /// Of a linear form, for what counts as zero of a guard.
    double ofTerms(const Terms& terms) const {
        double sum = 0;
        for (const auto& [column, factor] : terms)
            sum = std::max(sum, std::abs(factor) * (network_.isPotential(column) ? voltage_ : current_));
        return sum + least;
    }
    double voltage() const { return voltage_; }
    double current() const { return current_; }

private:
    bool ofVoltage(std::size_t state) const { return network_.states[state].sort == StateSort::capacitorVoltage; }
    static constexpr double small = 1e-3, least = 1e-6;
    const Network& network_;
    std::vector<double> unknowns_, states_;
    double voltage_ = 0, current_ = 0;
};

}  // namespace hedgerow::adaptive

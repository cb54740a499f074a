#pragma once
// Which diodes conduct: finding a configuration that is consistent with the states after an event.
//
// Ideal diodes pose a linear complementarity problem: per diode, current >= 0 and voltage <= knee, one of them tight.
// All violators are flipped together first; should that cycle, one at a time by least index (K. G. Murty, Linear
// Complementarity, Linear and Nonlinear Programming, 1988, ch. 4), then every combination is tried.

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "base/result.h"
#include "engines/exact/configuration.h"
#include "engines/exact/propagator.h"

namespace hedgerow::exact {

/// A configuration with its propagator.
struct Mode {
    Mode(const Frame& frame, std::vector<int> chosen)
        : segments(std::move(chosen)), configuration(frame, segments), propagator(frame, configuration) {}
    std::vector<int> segments;
    Configuration configuration;
    Propagator propagator;
};

/// The size of what is zero: a guard below a small part of the largest voltage or current seen is noise, and so is what
/// rounding of the states can make of it (a residual current into a high off-resistance).
class Magnitudes {
public:
    explicit Magnitudes(const Frame& frame);

    void seeVoltage(double v) { voltage_ = std::max(voltage_, std::abs(v)); }
    void seeCurrent(double i) { current_ = std::max(current_, std::abs(i)); }
    double voltage() const { return voltage_; }
    double current() const { return current_; }
    double currentNoise() const { return part * current_ + least; }
    double chargeNoise() const { return part * voltage_ * largestC_ + least * least; }
    double fluxNoise() const { return part * current_ * largestL_ + least * least; }
    double noise(const GuardRow& guard, const Vector& y) const;

private:
    static constexpr double part = 1e-11, rounding = 1e-13, least = 1e-18;
    const Frame& frame_;
    double voltage_ = 0.0, current_ = 0.0;
    double largestL_ = 0.0, largestC_ = 0.0;
};

class Commutation {
public:
    Commutation(const Frame& frame, Magnitudes& magnitudes);

    /// Finds the consistent mode just after an event and projects `y` onto it.
    /// @param y  in: states just before, sources just after; out: consistent states just after
    /// @param wanted  segments with the gates as they now are; the first guess for the others
    /// @param cause  "when S1 turns off", for messages
    /// @return the mode (owned by this object), or an error that names parts
    Result<Mode*> settle(Vector& y, const std::vector<int>& wanted, Tick t, const std::string& cause);

    std::int64_t configurationsBuilt() const { return built_; }
    double secondsBuilding() const { return secondsBuilding_; }
    std::int64_t products() const;
    std::size_t bytes() const;

private:
    using Segments = std::vector<int>;
    enum class Verdict { consistent, violated, impossible };
    struct Trial {
        Verdict verdict = Verdict::consistent;
        std::vector<std::size_t> violators;  ///< indices into the guards of the mode
    };

    Mode& mode(const Segments& segments);
    Trial judge(Mode& mode, const Vector& before, Vector& after);
    bool contradicted(const Mode& mode, const Vector& y, Trial& trial) const;
    void judgeImpulse(const Mode& mode, const Vector& before, Trial& trial) const;
    void judgeGuards(Mode& mode, const Vector& after, Trial& trial);
    std::vector<std::size_t> shadowed(const Mode& mode) const;
    Mode* enumerate(const Segments& wanted, const Vector& before, Vector& after);
    Status lostCurrents(const Mode& mode, const Vector& before, Tick t, const std::string& cause) const;
    Error failure(Mode& mode, const Vector& before, Tick t, const std::string& cause) const;
    void trim(const Mode* keep);

    const Frame& frame_;
    Magnitudes& magnitudes_;
    std::map<Segments, std::unique_ptr<Mode>> modes_;
    std::map<Segments, Segments> guesses_;  ///< from wanted segments to what came of them last time
    std::int64_t built_ = 0;
    std::int64_t retiredProducts_ = 0;
    double secondsBuilding_ = 0.0;
};

}  // namespace hedgerow::exact

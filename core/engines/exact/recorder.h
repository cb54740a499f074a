#pragma once
// Writes a run as straight lines: every event twice, and between events just enough points.

#include <span>
#include <vector>

#include "engines/exact/commutation.h"
#include "network/engine.h"

namespace hedgerow::exact {

class Recorder {
public:
    Recorder(const Network& network, const RunRequest& request, RunSink& sink, Magnitudes& magnitudes,
             const CancelToken& cancel);

    /// Writes the values at one instant.
    void instant(const Mode& mode, const Vector& y, Tick t);
    /// Writes the way from y0 at t0 to y1 at t0 + length, the first point excluded.
    void way(Mode& mode, const Vector& y0, const Vector& y1, Tick t0, Tick length);
    void setSignals(std::span<const double> signals);

    bool full() const { return full_; }
    std::int64_t points() const { return points_; }
    double secondsOfWays() const { return secondsOfWays_; }
    double secondsOfInstants() const { return secondsOfInstants_; }

private:
    /// States at an instant with the unknowns and their slopes.
    struct Sample {
        Sample(const Mode& mode, Vector states)
            : y(std::move(states)), z(mode.configuration.readout * y), rate(mode.configuration.readoutRate * y) {}
        Vector y, z, rate;
    };
    void split(Mode& mode, const Sample& start, const Sample& end, Tick t0, Tick length, int depth);
    double allowed(int unknown, double a, double b) const;
    double deviation(const Sample& start, const Sample& end, double h) const;
    double bow(const Sample& start, const Sample& middle, const Sample& end) const;
    void write(const Mode& mode, const Vector& z, Tick t);

    const Network& network_;
    RowLayout layout_;
    double tolerance_, forgetting_;
    RunSink& sink_;
    const CancelToken& cancel_;  ///< a way may need many points: it is left unfinished when the run is to stop
    Magnitudes& magnitudes_;
    std::vector<double> row_, low_, high_;
    bool first_ = true, full_ = false;
    std::int64_t points_ = 0;
    double secondsOfWays_ = 0.0, secondsOfInstants_ = 0.0;
};

}  // namespace hedgerow::exact

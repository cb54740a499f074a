#pragma once
// Writes a run as straight lines: every event twice, and between events just enough points.

#include <span>
#include <vector>

#include "engines/exact/commutation.h"
#include "network/engine.h"

namespace hedgerow::exact {

class Recorder {
public:
    Recorder(const Network& network, const RunRequest& request, RunSink& sink, Magnitudes& magnitudes);

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
    void split(Mode& mode, const Vector& y0, const Vector& y1, const Vector& z0, const Vector& rate0, Tick t0, Tick length, int depth);
    double deviation(const Vector& z0, const Vector& rate0, const Vector& z1, const Vector& rate1, double h) const;
    void write(const Mode& mode, const Vector& z, Tick t);

    const Network& network_;
    RowLayout layout_;
    double tolerance_;
    RunSink& sink_;
    Magnitudes& magnitudes_;
    std::vector<double> row_, low_, high_;
    bool first_ = true, full_ = false;
    std::int64_t points_ = 0;
    double secondsOfWays_ = 0.0, secondsOfInstants_ = 0.0;
};

}  // namespace hedgerow::exact

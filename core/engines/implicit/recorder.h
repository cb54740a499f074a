#pragma once
// Writes a run as straight lines that stay within the tolerance of the polynomials of its steps.

#include <array>
#include <functional>
#include <map>
#include <optional>
#include <vector>

#include "engines/implicit/newton.h"
#include "network/engine.h"

namespace hedgerow::implicit {

class Recorder {
public:
    Recorder(const Network& network, const RunRequest& request, RunSink& sink);

    void setSignals(std::span<const double> signals);
    void setSegments(const std::vector<int>& segments);
    /// A point that stays: the values just before or after an event.
    void event(Tick t, std::span<const double> z);
    /// A straight line to a point, which a longer line may still pass over.
    void line(Tick t, std::span<const double> z);
    /// Writes the unknowns within a step: at a part of it, 0 to 1.
    using Within = std::function<void(double part, std::span<double> z)>;
    /// The curved way of a step, its start excluded; its end may still be passed over by a longer line.
    void way(const Within& within, Tick t, Tick length, std::span<const double> end);
    /// How far the stored line of an unknown may stray from its course.
    double allowed(std::size_t unknown) const;
    void allowances(std::span<double> all) const;
    /// Writes what is held back.
    void flush();
    /// Whether no more can be stored: for lack of room, or because of a fault.
    bool full() const { return full_ || fault_; }
    /// The first number that was none, or infinite: it is not stored, and the run ends there.
    const std::optional<Error>& fault() const { return fault_; }
    std::int64_t points() const { return points_; }

private:
    struct Point {
        Tick t;
        Values z;
    };
    bool see(Tick t, std::span<const double> z);
    double toleranceOf(std::size_t unknown) const;
    double sizeOf(std::size_t unknown) const;
    void remember(std::size_t unknown, double value);
    void add(Tick t, std::span<const double> z);
    void write(Tick t, std::span<const double> z);
    bool straightTo(Tick t, std::span<const double> z) const;

    const Network& network_;
    const RunRequest& request_;
    RunSink& sink_;
    RowLayout layout_;
    std::map<std::vector<int>, std::uint32_t> views_;
    std::uint32_t view_ = 0, signals_ = 0;
    /// The stretch of a trace that is on: its swing, the last extreme, where it goes from there, and turns.
    struct Course {
        double low = 0, high = 0, peak = 0;
        bool rises = true;
        int turns = 0;
    };
    Values low_, high_, between_;  ///< low_, high_: of late
    Values sizes_;                        ///< the largest magnitude of each
    std::vector<Course> courses_;
    std::array<double, 3> largest_ = {};  ///< the largest seen of each sort
    Point written_;                       ///< the last point in the store
    std::vector<Point> held_;             ///< later points that a line may still pass over
    bool full_ = false, first_ = true;
    std::optional<Error> fault_;
    std::int64_t points_ = 0;
};

}  // namespace hedgerow::implicit

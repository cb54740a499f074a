#pragma once
// Period maps: a whole period of the control as a few matrices.
//
// Where all gates repeat with one period, the same intervals follow each other in each period: a period map puts their
// maps together. Intervals that lead from edge to edge become one matrix. Where a guard ends, or where an interval that
// starts there meets the next edge, a new stage begins: its states depend on an instant that is not known beforehand.
// Interval maps round their lengths to ticks; a period map takes lengths as the cycles of the signals give them.

#include <memory>
#include <vector>

#include "engines/exact/interval_map.h"

namespace hedgerow::exact {

/// Points of several periods and their rows, before they go to the recorder together.
struct PeriodPoints {
    std::vector<PointRef> list;
    std::vector<double> numbers;
};

template <class Real>
class PeriodMap {
public:
    /// The period that begins with `map`, at the instant of the last edge of the clock, or several of them where these
    /// are one matrix; nullptr when it is no period map.
    static std::unique_ptr<PeriodMap> along(IntervalMap<Real>& map, const Clock& clock, IntervalMaps<Real>& maps,
                                            Recorder<Real>& recorder, const StateLayout<Real>& layout);

    /// Makes room for the points of so many periods, or leaves those of the first ones.
    /// @param writing  whether they are still to come
    void makeRoom(std::size_t periods, bool writing, PeriodPoints& points) const;
    /// Goes through the period number `count` of those in `points`, which begins at `start`: y becomes the values at
    /// its end. @return false when something else happens in it; y is then as it was
    bool go(Vector<Real>& y, FineTime start, std::size_t count, Commutation<Real>& commutation, PeriodPoints& points);
    /// The values at the end of a map in the last of the periods.
    void valuesAtEnd(std::size_t map, const PeriodPoints& points, Vector<Real>& y) const;

    /// What valuesAtEnd() reads of them.
    PeriodPoints lastOf(const PeriodPoints& points) const;

    std::size_t bytes() const;
    /// Whether it failed so often that it should be made anew.
    bool useless() const { return misses_ > 8 + passed_ / 8; }
    std::size_t points() const { return pointCount_; }
    /// Whether a period that began at another edge would have one stage less: its end is none of a stage.
    bool cutsStage() const;

    int periods = 1;      ///< of the control, in one period map
    FineTime period = 0;  ///< of the period map
    std::vector<IntervalMap<Real>*> maps;
    std::vector<Mode<Real>*> before, after;  ///< per map: the modes at both sides of its end
    std::vector<std::int64_t> turns;         ///< per element: events in a period
    std::int64_t gateEvents = 0, crossings = 0;
    int generation = 0;

private:
    struct Part {
        IntervalMap<Real>* map;
        FineTime start, end;  ///< of the edges at or before its start and at or after its end, from that of the period
        std::uint32_t signalsBefore, signalsAfter;
    };
    /// A stored point whose distance from the start of its stage is known.
    struct Point {
        Tick ticks;
        std::uint32_t fraction;  ///< and 2^-32 ticks
        std::uint32_t view, signalSet, row;
    };
    /// What one matrix leads through.
    struct Stage {
        bool afterCrossing = false;  ///< begins where a guard ended, not at an edge
        bool tail = false;           ///< ends at a guard, or at an edge whose distance is not known
        int crossing = -1;           ///< the guard
        std::vector<Companion<Real>> companions;
        FineTime start = 0, end = 0;     ///< of the edges at or before its start and at or after its end
        FineTime length = 0, slack = 0;  ///< without the tail, and of the tail at most
        int order = 0;
        Real tau = -1;             ///< the tail's length the last time
        Mode<Real>* to = nullptr;  ///< what comes at its end, nullptr when that is part of the conditions
        std::uint32_t viewBefore = 0, viewAfter = 0, signalsBefore = 0, signalsAfter = 0;
        Conditions<Real> conditions;
        Conditions<Real> entry;  ///< enough to know that `to` comes
        int entryNoise = -1;     ///< version of the noise that they were made for
        int unsure = 0;          ///< passes in which they were not
        Matrix<Real> rows;       ///< stored rows, then the end minus the start, or the tail and the guard's polynomial
        int storedRows = 0;
        std::vector<Point> points;
    };
    struct Builder;

    static std::unique_ptr<PeriodMap> made(const std::vector<Part>& once, int periods, const Clock& clock,
                                           Recorder<Real>& recorder, const StateLayout<Real>& layout);
    static bool collect(IntervalMap<Real>& map, Clock clock, IntervalMaps<Real>& maps, std::uint32_t signalSet,
                        std::vector<Part>& parts);
    /// Where in PeriodPoints to write.
    struct Pen {
        PointRef* point;
        double* number;
        std::uint32_t offset;  ///< of `number`
    };
    bool pass(Stage& stage, Vector<Real>& y, FineTime& at, FineTime start, Commutation<Real>& commutation, Pen& pen);
    bool passTail(Stage& stage, const Real* rows, Vector<Real>& y, FineTime& at, FineTime start);
    bool enter(Stage& stage, Vector<Real>& y, Commutation<Real>& commutation);
    void keep(const Vector<Real>& y, Pen& pen) const;

    std::vector<Stage> stages_;
    std::vector<int> endRows_;  ///< per map: the row of a period at its end
    int periodRows_ = 0;        ///< in a period
    std::size_t pointCount_ = 0;
    bool stores_ = true;           ///< else nobody asks for points
    int states_ = 0, width_ = 0;   ///< of y that come before the constant, which is not stored; of a stored row
    int passed_ = 0, misses_ = 0;  ///< how often the map was gone along, and not
    Vector<Real> out_, start_;
};

/// The difference matrix of a length that need not be a whole number of ticks.
template <class Real>
Matrix<Real> composedFine(const Mode<Real>& mode, FineTime length);

}  // namespace hedgerow::exact

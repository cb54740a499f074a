#pragma once
// Rounds: a whole period of the control as one matrix.
//
// Where all gates repeat with one period and nothing else happens, the legs of a period follow each other without a
// question: a round puts their rows together. It is exact where legs are rounded to ticks: lengths are taken as the
// cycles of the signals give them.

#include <memory>
#include <vector>

#include "engines/exact/leg.h"

namespace hedgerow::exact {

template <class Real>
struct Round {
    /// A stored point: when, counted from the start of the period, and of which view and signals.
    struct Point {
        Tick ticks;              ///< from the start of the period
        std::uint32_t fraction;  ///< and 2^-32 ticks
        std::uint32_t view, signalSet, row;
    };

    /// The period that begins with `leg`, at the instant of the last edge of the clock; nullptr when it is no round.
    static std::unique_ptr<Round> along(Leg<Real>& leg, const Clock& clock, Legs<Real>& legs, Recorder<Real>& recorder,
                                        const Frame<Real>& frame);

    std::size_t bytes() const { return sizeof(Real) * static_cast<std::size_t>(rows.size() + conditions.numbers()); }

    FineTime period = 0;
    std::vector<Leg<Real>*> legs;
    std::vector<int> endRows;  ///< per leg: the stored row at its end
    std::vector<Point> points;
    Conditions<Real> conditions;  ///< of all its legs
    Matrix<Real> rows;            ///< stored rows, the end minus the start: below each other
    int storedRows = 0, rowWidth = 0;
    std::vector<int> columns;         ///< of y that are stored: all but the constant
    std::vector<std::int64_t> turns;  ///< per element: gate events in a period
    std::int64_t gateEvents = 0;
    int generation = 0;

private:
    struct Part {
        Leg<Real>* leg;
        FineTime start, end;  ///< from the start of the period
        std::uint32_t signalsBefore, signalsAfter;
    };
    static bool collect(Leg<Real>& leg, Clock clock, Legs<Real>& legs, std::uint32_t signalSet,
                        std::vector<Part>& parts);
    void assemble(const std::vector<Part>& parts, Recorder<Real>& recorder, int n);
};

/// The difference matrix of a length that need not be a whole number of ticks.
template <class Real>
Matrix<Real> composedFine(const Mode<Real>& mode, FineTime length);

}  // namespace hedgerow::exact

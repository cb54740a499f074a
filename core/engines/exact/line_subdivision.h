#pragma once
// The straight lines in which a map is stored: where its points lie, and how far the lines bend.

#include <map>
#include <vector>

#include "engines/exact/commutation.h"

namespace hedgerow::exact {

/// The matrix that leads from the start of a map to an instant in it, as difference, and that of the slope there.
template <class Real>
struct Mark {
    Matrix<Real> difference, slope;
};

template <class Real>
class LineSubdivision {
public:
    /// @param watch  rows that make bends of unknowns from bends of states, in units of what is allowed
    /// @param sizes  the largest values seen of each entry of y
    /// @param slack  by how much the last line may be longer
    LineSubdivision(const Mode<Real>& mode, Tick length, Tick slack, const Matrix<Real>& watch,
                    const Vector<Real>& sizes)
        : mode_(mode), length_(length), slack_(slack), watch_(watch), sizes_(sizes) {}

    /// Divides the interval into lines. From `start`, no line bends further than `room` times what is allowed. Points
    /// are spaced evenly where few are enough, else closer where the course bends most.
    /// @return false when it would take too many points
    bool divide(const Vector<Real>& start, Real room);

    /// After divide(): the instants of the points between start and end, and rows whose products with y at the start
    /// tell how far each line bends, in units of what is allowed.
    const std::vector<Tick>& points() const { return points_; }
    Matrix<Real> bends() const;
    const Mark<Real>& mark(Tick at);

private:
    Real bend(Tick from, Tick to, const Vector<Real>& start);
    bool evenly(int count, const Vector<Real>& start, Real room, Real& worst);
    bool split(Tick from, Tick to, const Vector<Real>& start, Real room);

    const Mode<Real>& mode_;
    Tick length_, slack_;
    const Matrix<Real>& watch_;
    const Vector<Real>& sizes_;
    std::map<Tick, Mark<Real>> marks_;
    std::vector<Tick> points_;
    std::vector<Vector<Real>> bends_;
};

}  // namespace hedgerow::exact

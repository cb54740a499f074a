#pragma once
// Under which conditions a map or a round may be gone along.
//
// In steady operation the values at the start hardly change, and most conditions hold wherever they may be. So a box is
// kept around the values: as long as they are inside, only those conditions are computed that some point of the box
// does not meet.

#include "engines/exact/state_layout.h"

namespace hedgerow::exact {

template <class Real>
class Conditions {
public:
    /// rows * y must be above `least`, row by row.
    void demand(const Matrix<Real>& rows, const std::vector<Real>& least);
    /// The scales of rows * y may not be above one.
    void limit(const Matrix<Real>& rows);
    /// Adds all conditions of another interval that begins at whole * y.
    void follow(const Conditions& other, const Matrix<Real>& whole);
    /// Adds the first `count` demands of such an interval.
    void followStart(const Conditions& other, Eigen::Index count, const Matrix<Real>& whole);

    /// Whether all of them hold.
    bool hold(const Vector<Real>& y);
    Eigen::Index size() const { return demands_.rows() + limits_.rows(); }
    Eigen::Index numbers() const { return demands_.size() + limits_.size(); }

private:
    bool inside(const Vector<Real>& y) const;
    void centre(const Vector<Real>& y);

    Matrix<Real> demands_, limits_;
    std::vector<Real> least_;

    Vector<Real> centre_, reach_;  ///< the box: empty at first
    Matrix<Real> asked_;           ///< the rows that must be looked at inside of it: demands, then limits
    std::vector<Real> askedLeast_;
    std::vector<Real> values_;
    int visits_ = 0, moves_ = 0;
    bool boxed_ = true;  ///< false when the values move too much
};

}  // namespace hedgerow::exact

#pragma once
// What all configurations of a network have in common.
//
// Most rows of F z = Hx x + Bw w are the same whatever the switches do: current laws, resistors, sources, storages.
// They are solved once, and leave as many unknowns open as there are rows that change: z = solution y + kernel u. A
// configuration then solves for u alone. In a plant of many converters each new combination of their states so costs a
// small system of sparse rows, not the whole plant anew.

#include <vector>

#include "engines/exact/elimination.h"

namespace hedgerow::exact {

template <class Real>
class Skeleton {
public:
    explicit Skeleton(const Frame<Real>& frame);

    /// The rows that `segments` give and that the skeleton has not solved.
    struct Rest {
        std::vector<SparseRow<Real>> rows;  ///< [F H] over u and y, its largest entry of F made about one
        std::vector<SparseRow<Real>> e;     ///< of vanishing resistances, over z, divided likewise
        Sparse<Real> rates;                 ///< K with rows of zeros for the sources, size x unknowns
    };
    /// @param segments  one entry per element of the network
    Rest rest(const std::vector<int>& segments) const;

    const Frame<Real>& frame() const { return frame_; }
    /// The number of unknowns u.
    int open() const { return static_cast<int>(kernel_.cols()); }
    const Sparse<Real>& solution() const { return solution_; }        ///< unknowns x size
    const Sparse<Real>& kernel() const { return kernel_; }            ///< unknowns x open
    const Sparse<Real>& consistency() const { return consistency_; }  ///< rows that must vanish on y, from F alone
    const Sparse<Real>& sourceDynamics() const { return sources_; }   ///< S in its place, size x size

private:
    void findChanges();
    SparseRow<Real> reduced(const SparseRow<Real>& row, RowSum<Real>& sum) const;

    const Frame<Real>& frame_;
    std::vector<std::size_t> changing_;  ///< elements whose equations depend on their segment
    std::vector<int> placeOf_;           ///< per row: among those that change, or -1
    int changingRows_ = 0;
    LinearStamp steady_;  ///< what the other elements put into rows that change, and all their rates
    Sparse<Real> solution_, kernel_, consistency_, sources_;
};

}  // namespace hedgerow::exact

#pragma once
// What all configurations of a network have in common, and into which subnetworks the rest falls.
//
// Most rows of F z = Hx x + Bw w are the same whatever the switches do: current laws, resistors, sources, storages.
// They are solved once, and leave as many unknowns open as there are rows that change: z = solution y + kernel u. A
// configuration then solves for u alone.
//
// Rows that change and have no u in common belong to different subnetworks: the maps of two converters at one dc link,
// for instance, whose potentials its capacitor fixes. Each subnetwork keeps what it came to in each of its own
// configurations. A new combination of known ones then is put together, not solved.
//
// Where the capacitor has a series resistance the potential of the link depends on all of them. Nodes at which much
// switches are therefore torn: their potentials p are among the free unknowns, subnetworks are solved for any p, and
// their current laws, a few rows, fix it in the end (diakoptics; G. Kron 1963).

#include <vector>

#include "engines/exact/sparse.h"

namespace hedgerow::exact {

/// Elements, rows and free unknowns that have nothing to do with those of other subnetworks.
struct Subnetwork {
    std::vector<std::size_t> elements;  ///< whose equations depend on their segment
    std::vector<int> rows;              ///< of the network
    std::vector<int> open;              ///< of u, rising
    std::vector<int> consistency;       ///< rows of StaticReduction::consistency()
    LinearStamp steady{0};              ///< what other elements put into its rows
};

template <class Real>
class StaticReduction {
public:
    /// @param torn  whether nodes may be torn: of no use where the network is always solved as a whole
    explicit StaticReduction(const StateLayout<Real>& layout, bool torn = true);

    const StateLayout<Real>& stateLayout() const { return layout_; }
    /// The number of unknowns u. The last ones are potentials of torn nodes.
    int open() const { return static_cast<int>(kernel_.cols()); }
    int torn() const { return torn_; }
    const Sparse<Real>& solution() const { return solution_; }        ///< unknowns x size
    const Sparse<Real>& kernel() const { return kernel_; }            ///< unknowns x open
    const Sparse<Real>& consistency() const { return consistency_; }  ///< rows that must vanish on y, from F alone
    /// K of the elements that never change, with rows of zeros for the sources: size x unknowns.
    const Sparse<Real>& rates() const { return rates_; }
    /// S in its place + rates() solution, and rates() kernel: slopes of y by y and by u.
    const Sparse<Real>& slopes() const { return slopes_; }
    const Sparse<Real>& slopesByOpen() const { return slopesByOpen_; }
    const Sparse<Real>& sourceDynamics() const { return sources_; }  ///< S in its place, size x size

    const std::vector<Subnetwork>& subnetworks() const { return subnetworks_; }
    /// All of them as one, with the rows that join them.
    const Subnetwork& whole() const { return whole_; }
    /// The subnetwork whose elements change the derivative of a state, or -1.
    int changesRateOf(int state) const { return rateSubnetwork_[static_cast<std::size_t>(state)]; }

    /// Rows that join subnetworks: byOpen u = byY y, of as many rows as there are torn potentials and unknowns of no
    /// subnetwork.
    struct InterfaceRows {
        Sparse<Real> byOpen, byY;
        std::vector<int> open;  ///< of u, rising: what they fix
    };
    const InterfaceRows& interfaceRows() const { return interfaceRows_; }

    /// A row of [F H] over z and y as one over u and y. What cancels is left out.
    SparseRow<Real> reduced(const SparseRow<Real>& row, RowSum<Real>& sum) const;

private:
    struct Pattern;
    void solveSteady(const Pattern& pattern, const std::vector<int>& tears);
    LinearStamp staying(const Pattern& pattern) const;
    void findInterfaceRows(const Sparse<Real>& left, const LinearStamp& stays, const std::vector<int>& tears);
    void divide(const Pattern& pattern, const std::vector<int>& tears);
    std::vector<int> tearable(const Pattern& pattern) const;
    std::size_t largestSubnetwork() const;

    const StateLayout<Real>& layout_;
    int torn_ = 0;
    Sparse<Real> solution_, kernel_, consistency_, rates_, slopes_, slopesByOpen_, sources_;
    std::vector<Subnetwork> subnetworks_;
    Subnetwork whole_;
    InterfaceRows interfaceRows_;
    std::vector<int> rateSubnetwork_;
};

}  // namespace hedgerow::exact

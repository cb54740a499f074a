#pragma once
// Where elements write their equations.

#include <span>
#include <utility>
#include <vector>

namespace hedgerow {

/// A linear form over the unknowns z.
using Terms = std::vector<std::pair<int, double>>;

struct Triplet {
    int row, column;
    double value;
};

/// Collects the entries of F, Hx, Bw, K and E. Entries at the same place add up. The reference node is -1: what is
/// stamped in its row or column is dropped.
class LinearStamp {
public:
    explicit LinearStamp(int nodeCount) : nodes_(nodeCount) {}

    int branchRow(int branch) const { return nodes_ + branch; }
    int branchCurrent(int branch) const { return nodes_ + branch; }

    /// The branch current leaves `from` and enters `to`.
    void currentLaw(int branch, int from, int to) {
        unknown(from, branchCurrent(branch), 1.0);
        unknown(to, branchCurrent(branch), -1.0);
    }
    /// factor * (potential of `from` - potential of `to`) in `row`.
    void voltage(int row, int from, int to, double factor) {
        unknown(row, from, factor);
        unknown(row, to, -factor);
    }
    void unknown(int row, int column, double value) { put(f, row, column, value); }
    void state(int row, int state, double value) { put(hx, row, state, value); }
    void source(int row, int source, double value) { put(bw, row, source, value); }
    /// Adds `value` times an unknown to the derivative of a state.
    void rate(int state, int column, double value) { put(k, state, column, value); }
    void relax(int row, int column, double value) { put(e, row, column, value); }
    /// A vanishing conductance from a node to the reference: where nothing else fixes an island, it floats around zero.
    void relaxNode(int node) { relax(node, node, 1.0); }

    std::vector<Triplet> f, hx, bw, k, e;

private:
    static void put(std::vector<Triplet>& list, int row, int column, double value) {
        if (row >= 0 && column >= 0) list.push_back({row, column, value});
    }
    int nodes_;
};

/// Where a smooth element writes its share g(z, x) of the equations  F z + g(z, x) = Hx x + Bw w  and its derivatives.
/// An element writes to the same places in the same order, whatever the values are.
class SmoothStamp {
public:
    explicit SmoothStamp(int nodeCount) : nodes_(nodeCount) {}
    int branchRow(int branch) const { return nodes_ + branch; }

    struct Entry {
        int row, column;  ///< -1 where the reference drops it
        double value;
    };
    void flow(int row, double value) { flows.push_back({row, 0, value}); }
    void byUnknown(int row, int column, double value) { unknowns.push_back({row, column, value}); }
    void byState(int row, int state, double value) { states.push_back({row, state, value}); }
    void clear() { flows.clear(), unknowns.clear(), states.clear(); }

    std::vector<Entry> flows, unknowns, states;

private:
    int nodes_;
};

/// Where a smooth element is evaluated.
struct SmoothPoint {
    std::span<const double> unknowns, states;
    /// The potential of a node; 0 for the reference.
    double potential(int node) const { return node < 0 ? 0.0 : unknowns[static_cast<std::size_t>(node)]; }
    double unknown(int column) const { return unknowns[static_cast<std::size_t>(column)]; }
    double state(int state) const { return states[static_cast<std::size_t>(state)]; }
};

}  // namespace hedgerow

#pragma once
// The algebra of one switch configuration: from the stamped equations to x' = A x + B w, and what happens at the
// instant in which the configuration is entered.
//
// With N = ker F and L = ker F^T, the consistency condition L^T (Hx x + Bw w) = 0 restricts the states. Its derivative
// fixes the part of z that F leaves open, through Q = L^T Hx K N. Where Q itself is singular, the vanishing
// resistances E decide (the limit for E -> 0): closed loops of ideal switches share their current by least norm, and an
// island behind open switches floats so that the voltages across its open switches sum to zero. (Index reduction of
// linear descriptor systems: P. Kunkel and V. Mehrmann, Differential-Algebraic Equations, EMS 2006, ch. 2.)
//
// Everything acts on y = [x; w].

#include <string>
#include <vector>

#include <Eigen/Dense>

#include "network/network.h"

namespace hedgerow::exact {

using Matrix = Eigen::MatrixXd;
using Vector = Eigen::VectorXd;

/// The sizes of a network and what does not change between configurations.
struct Frame {
    explicit Frame(const Network& network);
    const Network& network;
    int states, sources, unknowns;
    Matrix sourceDynamics;  ///< S, sources x sources
    Vector stateScale;      ///< sqrt of the storage of each state: y scaled by it has energy as its square
    int size() const { return states + sources; }
};

struct GuardRow {
    int element;
    int next;
    Terms terms;               ///< over z, for impulses
    Eigen::RowVectorXd value;  ///< g = value * y
    Eigen::RowVectorXd rate;   ///< dg/dt = rate * y
    Eigen::RowVectorXd reach;  ///< magnitudes of value: what rounding of y does to g
    bool ofVoltage;            ///< unit of g: volts, else amperes
};

struct Configuration {
    /// Builds the algebra. @param segments one entry per element of the network
    Configuration(const Frame& frame, const std::vector<int>& segments);

    /// The unknowns in whose direction the equations have no unique solution; empty when all is well.
    std::vector<int> illPosedUnknowns;

    Matrix readout;         ///< z = readout * y, unknowns x size
    Matrix readoutRate;     ///< z' = readoutRate * y
    Matrix projector;       ///< y just after entering = projector * y just before, size x size
    bool projects = false;  ///< false when the projector is the identity
    Matrix impulse;         ///< integral of z over the instant of entering = impulse * y before; empty without
    Matrix contradiction;   ///< rows that must vanish on y, else an infinite current or voltage results; often empty
    Matrix infinite;        ///< direction of z in that case, unknowns x rows of contradiction
    Matrix shared;     ///< directions of z along which current is shared by least norm, unknowns x count; often empty
    Matrix generator;  ///< y' = generator * y, restricted to consistent y
    std::vector<GuardRow> guards;

private:
    void solve(const Frame& frame, const LinearStamp& stamp);
    void addGuards(const Frame& frame, const std::vector<int>& segments);
};

}  // namespace hedgerow::exact

#pragma once
// The equations of a network in one configuration of its switching elements, and their linear algebra.
//
//     F z + g(z, x) = Hx x + Bw w,   x' = K z
//
// A stage of an implicit method looks for z where x = x0 + alpha K z: its Jacobian over z is
// F + g_z + alpha (g_x - Hx) K. The pattern of non-zeros is that of all configurations together, so that it is analysed
// once (T. A. Davis, E. Palamadai Natarajan, ACM TOMS 37 (2010), 36: KLU).

#include <memory>
#include <span>
#include <string>
#include <vector>

#include "network/network.h"

namespace hedgerow::implicit {

class System {
public:
    explicit System(const Network& network);
    ~System();
    System(const System&) = delete;
    System& operator=(const System&) = delete;

    const Network& network() const { return network_; }
    std::size_t unknowns() const { return unknowns_; }
    std::size_t states() const { return states_; }
    /// Whether a configuration is linear: an iteration ends with its first step.
    bool linear() const { return smooth_.empty(); }

    /// Takes the equations of these segments, one per element.
    /// @param weights  by what K is multiplied, one per state: 0 holds a state; empty for 1 everywhere
    void configure(const std::vector<int>& segments, std::span<const double> weights = {});
    /// r = F z + g(z, x) - Hx x - Bw w. @param w  values of the sources, w[0] = 1
    void residual(std::span<const double> z, std::span<const double> x, std::span<const double> w, std::span<double> r);
    /// x' = K z.
    void rates(std::span<const double> z, std::span<double> rates) const;
    /// Evaluates and factorises the Jacobian. False when it is singular, or has values that are no numbers.
    bool factor(std::span<const double> z, std::span<const double> x, double alpha);
    /// Whether a smooth slope at the last point that was looked at is much flatter than it was for the factors: steps
    /// by them are then too short, and say nothing of how near a solution is.
    bool flatter() const;
    /// r becomes the solution of J d = r. @pre factor() was true
    void solve(std::span<double> r);
    /// out = (Hx - g_x) e at the point of the last factor(): what a change of the states does to the residual.
    void ofStates(std::span<const double> e, std::span<double> out) const;
    /// Where a singular Jacobian has no pivot: "net out".
    std::string singularPlace() const;
    /// Lets every smooth element shorten a step of the iteration.
    void tame(std::span<const double> before, std::span<double> after) const;

    std::int64_t factorisations() const { return factorisations_; }
    std::int64_t evaluations() const { return evaluations_; }

private:
    void findIslands();
    void findPattern();
    std::size_t slot(int row, int column) const;
    void addSmooth(double alpha);

    const Network& network_;
    std::size_t unknowns_, states_;
    std::vector<const Element*> smooth_;
    /// What ties islands to the reference, and the nodes of these islands.
    std::vector<Triplet> ties_;
    std::vector<char> tied_;
    std::vector<Triplet> f_, hx_, bw_, k_;  ///< of the configuration; f_ with the vanishing terms
    std::vector<std::vector<std::pair<int, double>>> kOfState_;
    SmoothStamp stamp_;
    std::vector<double> factored_;  ///< slopes of stamp_ at the last factor()

    std::vector<int> starts_, rows_;          ///< the pattern by columns
    std::vector<double> constant_, byAlpha_;  ///< J = constant_ + alpha byAlpha_ + what is smooth
    std::vector<double> values_;
    /// Places of the smooth entries in the order in which they are stamped; filled at the first evaluation.
    std::vector<std::size_t> unknownSlots_;
    std::vector<std::vector<std::pair<std::size_t, double>>> stateSlots_;  ///< with what alpha is multiplied by
    bool slotsKnown_ = false;

    struct Factors;
    std::unique_ptr<Factors> factors_;
    bool fresh_ = true;  ///< pivots are sought anew
    std::int64_t factorisations_ = 0, evaluations_ = 0;
};

}  // namespace hedgerow::implicit

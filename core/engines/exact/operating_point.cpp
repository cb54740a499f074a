#include "engines/exact/operating_point.h"

#include <cmath>
#include <set>

#include <fmt/format.h>
#include <Eigen/Dense>

#include "network/clock.h"

namespace hedgerow::exact {

namespace {

using Matrix = Eigen::MatrixXd;
using Vector = Eigen::VectorXd;
using Segments = std::vector<int>;

constexpr int blockRounds = 8, pivotRounds = 200;
constexpr double noise = 1e-9;
constexpr std::size_t mostUnknowns = 4000;  ///< of a dense solution: beyond this it takes minutes

/// F z - Hx x = Bw w, K z = 0 in one configuration; unknowns are z and how far x lies from the given values.
class RestProblem {
public:
    explicit RestProblem(const Network& network) : network_(network), clock_(network) {
        w_ = Vector::Zero(network.sourceCount);
        w_(0) = 1;
        for (const HeldSource& held : network.heldSources)
            w_(held.source) = clock_.signals()[static_cast<std::size_t>(held.signal)];
        for (std::size_t i = 0; i < network.sources.size(); ++i)
            network.sources[i]->valueAt(
                0, {w_.data() + network.sourceOffsets[i], static_cast<std::size_t>(network.sources[i]->size())});
        given_ = Vector::Zero(static_cast<Eigen::Index>(network.states.size()));
        for (std::size_t i = 0; i < network.states.size(); ++i)
            given_(static_cast<Eigen::Index>(i)) = network.states[i].initial;
    }

    Result<std::vector<double>> solve() {
        Segments segments;
        for (std::size_t i = 0; i < network_.elements.size(); ++i)
            segments.push_back(network_.elements[i]->initialSegment(clock_.gate(i)));
        std::set<Segments> visited;
        for (int round = 0; round < blockRounds + pivotRounds; ++round) {
            solveIn(segments);
            auto violated = violations(segments);
            if (violated.empty()) return finished(segments);
            if (round >= blockRounds) {
                if (!visited.insert(segments).second) break;
                violated.resize(1);
            }
            for (const auto& [element, next] : violated) segments[element] = next;
        }
        return Error{ErrorCode::numeric, "no operating point was found: start from given values instead"};
    }

private:
    void solveIn(const Segments& segments) {
        LinearStamp stamp(network_.nodeCount());
        for (std::size_t i = 0; i < segments.size(); ++i) network_.elements[i]->stamp(stamp, segments[i]);
        const Eigen::Index m = network_.unknownCount(), nx = given_.size();
        system_ = Matrix::Zero(m + nx, m + nx);
        right_ = Vector::Zero(m + nx);
        for (const Triplet& t : stamp.f) system_(t.row, t.column) += t.value;
        for (const Triplet& t : stamp.hx) {
            system_(t.row, m + t.column) -= t.value;
            right_(t.row) += t.value * given_(t.column);
        }
        for (const Triplet& t : stamp.bw) right_(t.row) += t.value * w_(t.column);
        for (const Triplet& t : stamp.k) system_(m + t.row, t.column) += t.value;
        for (Eigen::Index r = 0; r < system_.rows(); ++r) {
            const double largest = system_.row(r).lpNorm<Eigen::Infinity>();
            if (largest == 0) continue;
            system_.row(r) /= largest;
            right_(r) /= largest;
        }
        Eigen::CompleteOrthogonalDecomposition<Matrix> solver;
        solver.setThreshold(1e-11);
        solver.compute(system_);
        solution_ = solver.solve(right_);
        solution_ += solver.solve(Vector(right_ - system_ * solution_));
    }

    std::vector<std::pair<std::size_t, int>> violations(const Segments& segments) const {
        std::vector<std::pair<std::size_t, int>> found;
        const double size = noise * std::max(1e-9, solution_.lpNorm<Eigen::Infinity>());
        for (std::size_t i = 0; i < segments.size(); ++i) {
            for (const Guard& guard : network_.elements[i]->guards(segments[i])) {
                double value = guard.constant;
                for (const auto& [column, factor] : guard.terms) value += factor * solution_(column);
                if (value >= -size) continue;
                found.emplace_back(i, guard.next);
                break;
            }
        }
        return found;
    }

    Result<std::vector<double>> finished(const Segments&) const {
        const Vector residual = right_ - system_ * solution_;
        Eigen::Index worst = 0;
        if (residual.size() > 0 &&
            residual.cwiseAbs().maxCoeff(&worst) > noise * std::max(1.0, right_.lpNorm<Eigen::Infinity>())) {
            // A winding with a voltage across it, or a capacitor with a current, says more than the source that drives
            // it.
            const Eigen::Index m = network_.unknownCount();
            Eigen::Index restless = 0;
            if (given_.size() > 0 && residual.tail(given_.size()).cwiseAbs().maxCoeff(&restless) > noise)
                worst = m + restless;
            const std::string part = worst >= m ? network_.states[static_cast<std::size_t>(worst - m)].part
                                     : worst >= network_.nodeCount() ? network_.partOfBranch(static_cast<int>(worst))
                                                                     : "";
            return Error{ErrorCode::illPosed,
                         fmt::format("{} finds no rest, so that there is no operating point: start from given values",
                                     part.empty() ? network_.describeUnknown(static_cast<int>(worst)) : part),
                         part};
        }
        std::vector<double> states;
        for (Eigen::Index i = 0; i < given_.size(); ++i)
            states.push_back(given_(i) + solution_(network_.unknownCount() + i));
        return states;
    }

    const Network& network_;
    Clock clock_;
    Vector w_, given_, right_, solution_;
    Matrix system_;
};

}  // namespace

Result<std::vector<double>> operatingPoint(const Network& network) {
    const auto unknowns = static_cast<std::size_t>(network.unknownCount()) + network.states.size();
    if (unknowns > mostUnknowns)
        return Error{ErrorCode::resource,
                     fmt::format("an operating point is found for up to {} potentials, currents and storages, this "
                                 "circuit has {}: start from given values instead",
                                 mostUnknowns, unknowns)};
    return RestProblem(network).solve();
}

}  // namespace hedgerow::exact

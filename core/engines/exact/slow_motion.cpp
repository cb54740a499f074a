#include "engines/exact/slow_motion.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <limits>

#include <Eigen/Eigenvalues>

namespace hedgerow::exact {

namespace {

constexpr double lifetime = 40.0;        ///< time constants after which a mode is below rounding
constexpr double gap = 30.0;             ///< by which the slow modes are slower than the fast ones
constexpr double seen = 1e-12;           ///< of the fastest mode: slower ones are not told apart from rounding
constexpr double shortAgainst = 125.0;   ///< a cut is worth a step of its own where what follows is longer by this
constexpr double tooStiff = 1e9;         ///< 1/s times s: from there on points and steps show rounding
constexpr std::size_t mostReduced = 64;  ///< networks that are kept
constexpr int mostChoices = 4;           ///< rounds in which fast states are chosen
constexpr int mostIterations = 200;
constexpr int smallEntries = 12;  ///< iterations for them: each gains at least the gap

/// An element in the network in which some states are unknowns.
class ReducedElement : public Element {
public:
    /// @param placeOf  per state: its place among the slow ones, or -1 - its place among the fast ones
    ReducedElement(const Element& whole, const std::vector<int>& placeOf, int nodes, int unknowns)
        : Element(whole.part()), whole_(whole), placeOf_(placeOf), nodes_(nodes), unknowns_(unknowns) {}
    int segmentCount() const override { return whole_.segmentCount(); }
    int equations(int segment) const override { return whole_.equations(segment); }
    void stamp(LinearStamp& stamp, int segment) const override {
        LinearStamp own(nodes_);
        whole_.stamp(own, segment);
        const auto append = [](std::vector<Triplet>& to, const std::vector<Triplet>& from) {
            to.insert(to.end(), from.begin(), from.end());
        };
        append(stamp.f, own.f);
        append(stamp.bw, own.bw);
        append(stamp.e, own.e);
        for (const Triplet& t : own.hx) {
            const int place = placeOf_[static_cast<std::size_t>(t.column)];
            place >= 0 ? stamp.state(t.row, place, t.value) : stamp.unknown(t.row, unknowns_ - 1 - place, -t.value);
        }
        for (const Triplet& t : own.k) {
            const int place = placeOf_[static_cast<std::size_t>(t.row)];
            place >= 0 ? stamp.rate(place, t.column, t.value) : stamp.unknown(unknowns_ - 1 - place, t.column, t.value);
        }
    }

private:
    const Element& whole_;
    const std::vector<int>& placeOf_;
    int nodes_, unknowns_;
};

/// The slopes of the fast states are given.
class GivenSlopes : public Element {
public:
    GivenSlopes(int count, int unknowns, int sources)
        : Element(""), count_(count), unknowns_(unknowns), sources_(sources) {}
    void stamp(LinearStamp& stamp, int) const override {
        for (int i = 0; i < count_; ++i) stamp.source(unknowns_ + i, sources_ + i, 1.0);
    }

private:
    int count_, unknowns_, sources_;
};

class SharedSource : public SourceGenerator {
public:
    explicit SharedSource(const SourceGenerator& whole) : whole_(whole) {}
    int size() const override { return whole_.size(); }
    void valueAt(Tick t, std::span<double> w) const override { whole_.valueAt(t, w); }
    void dynamics(std::span<double> s) const override { whole_.dynamics(s); }
    double angularFrequency() const override { return whole_.angularFrequency(); }

private:
    const SourceGenerator& whole_;
};

class SlopeSource : public SourceGenerator {
public:
    explicit SlopeSource(int count) : count_(count) {}
    int size() const override { return count_; }
    void valueAt(Tick, std::span<double>) const override {}
    void dynamics(std::span<double>) const override {}

private:
    int count_;
};

/// exp(a h) - 1, by doubling.
Eigen::MatrixXd grown(const Eigen::MatrixXd& a, double h) {
    double norm = std::sqrt(a.cwiseAbs().rowwise().sum().maxCoeff() * a.cwiseAbs().colwise().sum().maxCoeff()) * h;
    int halvings = 0;
    while (norm > 1e-2 && halvings < 200) norm /= 2, h /= 2, ++halvings;
    const Eigen::MatrixXd step = a * h;
    Eigen::MatrixXd term = step, sum = step;
    for (int j = 2; j <= 8; ++j) {
        term = term * step / j;
        sum += term;
    }
    for (; halvings > 0; --halvings) sum = Eigen::MatrixXd(2 * sum + sum * sum);
    return sum;
}

/// The states that take most part in modes that have died out after h, at most `count` of them; fewer where the others
/// take no part of their own. @param candidates  places that may be chosen
std::vector<int> mostInvolved(const Eigen::MatrixXd& scaled, double h, int count, const std::vector<int>& candidates) {
    Eigen::MatrixXd dead = -grown(scaled, h);
    std::vector<int> chosen;
    for (int k = 0; k < count; ++k) {
        int best = -1;
        for (const int i : candidates)
            if (std::find(chosen.begin(), chosen.end(), i) == chosen.end() &&
                (best < 0 || std::abs(dead(i, i)) > std::abs(dead(best, best))))
                best = i;
        if (best < 0 || !(std::abs(dead(best, best)) > 1e-3)) break;
        chosen.push_back(best);
        const Eigen::VectorXd column = dead.col(best);
        const Eigen::RowVectorXd row = dead.row(best) / dead(best, best);
        dead -= column * row;
    }
    return chosen;
}

/// The generator over the states, in the energy norm.
template <class Real>
Eigen::MatrixXd inEnergy(const Matrix<Real>& generator, const StateLayout<Real>& layout) {
    const Eigen::Index n = layout.states;
    Eigen::MatrixXd scaled(n, n);
    for (Eigen::Index i = 0; i < n; ++i)
        for (Eigen::Index j = 0; j < n; ++j)
            scaled(i, j) = static_cast<double>(generator(i, j) * layout.stateScale(i) / layout.stateScale(j));
    return scaled;
}

/// Iterates until nothing changes but rounding: of the largest entry of each row at first, and then of every entry, for
/// small ones are currents through off-resistances. @return whether it came to rest
template <class Real, class Next>
bool rests(Matrix<Real>& value, Next&& next) {
    constexpr Real digits = 8 * std::numeric_limits<Real>::epsilon();
    int after = 0;
    for (int i = 0; i < mostIterations; ++i) {
        const Matrix<Real> fresh = next(value);
        if (!fresh.allFinite()) return false;
        const Matrix<Real> change = (fresh - value).cwiseAbs(), size = fresh.cwiseAbs();
        value = fresh;
        if (((change - digits * size).array() <= 0).all()) return true;
        const bool nearly = ((change.rowwise().maxCoeff() - digits * size.rowwise().maxCoeff()).array() <= 0).all();
        if (nearly && ++after > smallEntries) return true;
    }
    return false;
}

}  // namespace

/// The network in which some states are unknowns, and what its configurations have in common.
template <class Real>
struct SlowMotions<Real>::Reduced {
    Reduced(const StateLayout<Real>& whole, const std::vector<int>& fast)
        : placeOf(static_cast<std::size_t>(whole.states), 0) {
        const Network& from = whole.network;
        const auto count = static_cast<int>(fast.size());
        for (int k = 0; k < count; ++k) placeOf[static_cast<std::size_t>(fast[static_cast<std::size_t>(k)])] = -1 - k;
        for (int i = 0; i < whole.states; ++i) {
            int& place = placeOf[static_cast<std::size_t>(i)];
            if (place < 0) continue;
            place = static_cast<int>(network.states.size());
            slow.push_back(i);
            network.states.push_back(from.states[static_cast<std::size_t>(i)]);
        }
        for (int i = 0; i < whole.sources; ++i) slow.push_back(whole.states + i);
        network.nodes = from.nodes;
        network.branchCount = from.branchCount + count;
        network.branchParts = from.branchParts;
        network.branchSorts = from.branchSorts;
        for (const int state : fast) {
            const StateInfo& info = from.states[static_cast<std::size_t>(state)];
            network.branchParts.push_back(info.part);
            network.branchSorts.push_back(info.sort == StateSort::capacitorVoltage ? UnknownSort::voltage
                                                                                   : UnknownSort::current);
        }
        for (const auto& element : from.elements)
            network.elements.push_back(
                std::make_unique<ReducedElement>(*element, placeOf, from.nodeCount(), whole.unknowns));
        network.elements.push_back(std::make_unique<GivenSlopes>(count, whole.unknowns, whole.sources));
        network.sourceOffsets = from.sourceOffsets;
        for (const auto& source : from.sources) network.sources.push_back(std::make_unique<SharedSource>(*source));
        network.sources.push_back(std::make_unique<SlopeSource>(count));
        network.sourceOffsets.push_back(whole.sources);
        network.sourceCount = whole.sources + count;
        layout.emplace(network);
        reduction.emplace(*layout, false);
        subnetworks.emplace(*reduction, false);
    }
    /// Of the network's own elements. @return null where the equations have no unique solution
    std::unique_ptr<Configuration<Real>> configuration(Segments segments) {
        segments.push_back(0);
        auto made = std::make_unique<Configuration<Real>>(*reduction, *subnetworks, segments);
        if (!made->illPosedUnknowns.empty() || made->contradiction.rows() > 0) return nullptr;
        return made;
    }
    std::vector<int> placeOf;  ///< per state: its place among the slow ones, or -1 - its place among the fast ones
    std::vector<int> slow;     ///< entries of y that are left
    Network network;
    std::optional<StateLayout<Real>> layout;
    std::optional<StaticReduction<Real>> reduction;
    std::optional<SubnetworkStates<Real>> subnetworks;
};

template <class Real>
bool SlowMotions<Real>::findCuts(Algebra<Real>& algebra) const {
    if (algebra.cuts) return !algebra.cuts->empty();
    algebra.cuts.emplace();
    std::vector<std::complex<double>> modes = algebra.propagator.modes();
    std::sort(modes.begin(), modes.end(), [](const auto& a, const auto& b) { return a.real() < b.real(); });
    std::vector<double> largestFrom(modes.size() + 1, 0.0);  // magnitude among the modes from here on
    for (std::size_t i = modes.size(); i-- > 0;) largestFrom[i] = std::max(largestFrom[i + 1], std::abs(modes[i]));
    for (std::size_t i = 0; i < modes.size(); ++i) {
        const double decay = -modes[i].real();
        if (!(decay > 0) || decay < gap * seen * largestFrom[0]) break;
        if (largestFrom[i + 1] * gap > decay) continue;
        const double ticks = std::ceil(lifetime / decay / tickSeconds / 64) * 64;
        if (ticks > 1e18) break;
        algebra.cuts->push_back(
            {.slowest = decay, .modes = static_cast<int>(i) + 1, .after = static_cast<Tick>(ticks), .motion = {}});
    }
    return !algebra.cuts->empty();
}

template <class Real>
std::shared_ptr<SlowMotion<Real>> SlowMotions<Real>::atOnceWithout(Algebra<Real>& algebra, const std::vector<int>& fast,
                                                                   const Segments& segments) {
    if (static_cast<double>(algebra.propagator.norm()) * toSeconds(atOnce) < lifetime || !findCuts(algebra))
        return nullptr;
    for (Cut<Real>& cut : *algebra.cuts) {
        if (cut.after > atOnce) break;
        if (!std::exchange(cut.tried, true)) cut.motion = make(algebra, cut, fast, segments);
        if (cut.motion) return cut.motion;
    }
    return nullptr;
}

template <class Real>
Cut<Real>* SlowMotions<Real>::within(Algebra<Real>& algebra, Tick horizon, const std::vector<int>& fast,
                                     const Segments& segments, bool rare) {
    const double least = rare ? tooStiff : lifetime * shortAgainst;
    if (static_cast<double>(algebra.propagator.norm()) * toSeconds(horizon) < least || !findCuts(algebra))
        return nullptr;
    for (Cut<Real>& cut : *algebra.cuts) {
        if (cut.slowest * toSeconds(horizon) < least) break;
        if (!std::exchange(cut.tried, true)) cut.motion = make(algebra, cut, fast, segments);
        if (cut.motion) return &cut;
    }
    return nullptr;
}

template <class Real>
typename SlowMotions<Real>::Reduced& SlowMotions<Real>::reduced(const std::vector<int>& fast) {
    if (const auto known = reduced_.find(fast); known != reduced_.end()) return *known->second;
    // One that is asked for again stays: a configuration that was just made of it refers to it.
    if (reduced_.size() > mostReduced) reduced_.clear();
    return *(reduced_[fast] = std::make_shared<Reduced>(reduction_.stateLayout(), fast));
}

/// Chooses states without which no mode is left that is as fast as the cut, beside those that are in `fast` already.
/// @return the configuration without them; null where they are not found
template <class Real>
std::unique_ptr<Configuration<Real>> SlowMotions<Real>::choose(Algebra<Real>& algebra, const Cut<Real>& cut,
                                                               std::vector<int>& fast, const Segments& segments) {
    const StateLayout<Real>& layout = reduction_.stateLayout();
    Eigen::MatrixXd scaled = inEnergy(algebra.configuration.generator.full(), layout);
    std::vector<int> stateOf(static_cast<std::size_t>(layout.states)), candidates;  // of the rows of `scaled`
    for (int i = 0; i < layout.states; ++i) {
        stateOf[static_cast<std::size_t>(i)] = i;
        if (!std::binary_search(fast.begin(), fast.end(), i)) candidates.push_back(i);
    }
    std::unique_ptr<Configuration<Real>> configuration;
    for (int round = 0; round < mostChoices; ++round) {
        int count = cut.modes;
        if (round > 0) {
            const Eigen::EigenSolver<Eigen::MatrixXd> modes(scaled, false);
            if (modes.info() != Eigen::Success) return nullptr;
            count = static_cast<int>(std::count_if(modes.eigenvalues().begin(), modes.eigenvalues().end(),
                                                   [&](auto mode) { return -mode.real() > cut.slowest / 5; }));
        }
        if (count == 0) return configuration;
        const std::vector<int> chosen = mostInvolved(scaled, lifetime / cut.slowest, count, candidates);
        if (chosen.empty()) return nullptr;
        for (const int place : chosen) fast.push_back(stateOf[static_cast<std::size_t>(place)]);
        std::sort(fast.begin(), fast.end());
        Reduced& rest = reduced(fast);
        configuration = rest.configuration(segments);
        if (!configuration || rest.network.states.empty()) return configuration;
        scaled = inEnergy(configuration->generator.full(), *rest.layout);
        if (!scaled.allFinite()) return nullptr;
        stateOf.assign(rest.slow.begin(), rest.slow.begin() + rest.layout->states);
        candidates.resize(stateOf.size());
        for (std::size_t i = 0; i < candidates.size(); ++i) candidates[i] = static_cast<int>(i);
    }
    return nullptr;
}

template <class Real>
std::shared_ptr<SlowMotion<Real>> SlowMotions<Real>::make(Algebra<Real>& algebra, const Cut<Real>& cut,
                                                          std::vector<int> fast, const Segments& segments) {
    const auto configuration = choose(algebra, cut, fast, segments);
    if (!configuration) return nullptr;
    Reduced& rest = reduced(fast);
    const StateLayout<Real>& layout = reduction_.stateLayout();
    const Eigen::Index n = layout.size(), m = layout.unknowns, f = static_cast<Eigen::Index>(fast.size()), s = n - f;
    const Matrix<Real>& all = configuration->readout();
    const Matrix<Real> xs = all.block(m, 0, f, s), xr = all.block(m, s, f, f);
    const Matrix<Real> gs = configuration->generator.full().topLeftCorner(s, s),
                       gr = configuration->generator.full().topRightCorner(s, f);
    const Matrix<Real> one = Matrix<Real>::Identity(f, f);
    Matrix<Real> k = xs, g = gs;
    if (!rests(k, [&](const Matrix<Real>& old) {
            g = gs + gr * (one - old * gr).partialPivLu().solve(Matrix<Real>(old * gs));
            return Matrix<Real>(xs + xr * (old * g));
        }))
        return nullptr;
    const Matrix<Real> turned = (one - k * gr).partialPivLu().inverse();
    Matrix<Real> h = gr * turned;
    if (!rests(h, [&](const Matrix<Real>& old) { return Matrix<Real>((gr + g * old * xr) * turned); })) return nullptr;

    Matrix<Real> readout = Matrix<Real>::Zero(m, n), generator = Matrix<Real>::Zero(n, n),
                 projection = Matrix<Real>::Zero(n, n);
    const Matrix<Real> slopes = k * g, read = all.topLeftCorner(m, s) + all.block(0, s, m, f) * slopes,
                       kept = Matrix<Real>::Identity(s, s) + h * k;
    for (Eigen::Index j = 0; j < n; ++j) {
        const bool known = j < s;
        const int column = known ? rest.slow[static_cast<std::size_t>(j)] : fast[static_cast<std::size_t>(j - s)];
        const Vector<Real> landed = known ? Vector<Real>(kept.col(j)) : Vector<Real>(-h.col(j - s));
        const Vector<Real> following = k * landed;
        for (Eigen::Index i = 0; i < s; ++i) projection(rest.slow[static_cast<std::size_t>(i)], column) = landed(i);
        for (Eigen::Index i = 0; i < f; ++i) projection(fast[static_cast<std::size_t>(i)], column) = following(i);
        if (!known) continue;
        readout.col(column) = read.col(j);
        for (Eigen::Index i = 0; i < s; ++i) generator(rest.slow[static_cast<std::size_t>(i)], column) = g(i, j);
        for (Eigen::Index i = 0; i < f; ++i) generator(fast[static_cast<std::size_t>(i)], column) = slopes(i, j);
    }
    if (!readout.allFinite() || !generator.allFinite() || !projection.allFinite()) return nullptr;
    auto motion = std::make_shared<SlowMotion<Real>>(
        layout, Configuration<Real>(algebra.configuration, std::move(readout), generator));
    motion->projection = std::move(projection);
    motion->fast = std::move(fast);
    motion->lasts = static_cast<Real>(lifetime / cut.slowest);
    return motion;
}

template class SlowMotions<double>;
template class SlowMotions<long double>;

}  // namespace hedgerow::exact

#include "engines/exact/commutation.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <set>

#include "model/quantity.h"

namespace hedgerow::exact {

namespace {

constexpr int blockRounds = 8;
constexpr int pivotRounds = 200;
constexpr std::size_t mostEnumerated = 4096;
constexpr std::size_t cacheBytes = std::size_t{48} << 20;
constexpr std::int64_t configurationsPerTrim = 32;
constexpr int worthFading = 48;  ///< entries of a mode before modes of motion are taken out that are not far too stiff
constexpr int worthLooking = 8;  ///< looks at guards before they get a matrix of their own
constexpr double microStepSeconds = 1e-9;
constexpr double patience = 1e-6;  ///< s: what leaves its noise later than that has not been decided
constexpr double lenience = 1e6;   ///< times its noise a guard may be off when nothing else fits

template <class Z>
auto along(const Terms& terms, const Z& z) {
    typename Z::Scalar sum = 0;
    for (const auto& [column, factor] : terms) sum += factor * z(column);
    return sum;
}

/// Whether a jump, a row of a matrix, leaves nothing of an entry.
template <class Real>
bool vanishes(const Sparse<Real>& jumps, Eigen::Index row, int entry) {
    bool own = false;
    for (typename Sparse<Real>::InnerIterator of(jumps, row); of; ++of) {
        const bool diagonal = of.col() == entry;
        own |= diagonal;
        if (std::abs(of.value() + (diagonal ? Real(1) : Real(0))) > Real(1e-9)) return false;
    }
    return own;
}

}  // namespace

template <class Real>
Mode<Real>::Mode(const StateLayout<Real>& layout, Segments chosen, std::shared_ptr<Algebra<Real>> shared)
    : segments(std::move(chosen)), algebra(std::move(shared)), layout_(&layout) {
    const Configuration<Real>& c = algebra->configuration;
    if (!c.illPosedUnknowns.empty()) return;
    std::vector<double> constants;
    for (std::size_t i = 0; i < segments.size(); ++i) {
        const Element& element = *layout.network.elements[i];
        timed = timed || element.timeout(segments[i]).has_value();
        for (Guard& guard : element.guards(segments[i])) {
            const UnknownSort sort =
                guard.terms.empty() ? UnknownSort::voltage : layout.network.sortOf(guard.terms.front().first);
            constants.push_back(guard.constant);
            guards.push_back({static_cast<int>(i), guard.next, std::move(guard.terms), sort});
        }
    }
    std::vector<Terms> forms;
    for (const GuardInfo& guard : guards) forms.push_back(guard.terms);
    guardValue = c.rows(forms, constants);
    if (c.projects) guardImpulse = c.impulseRows(forms);
    for (std::size_t k = 0; k < c.jumping.size(); ++k) {
        const int i = c.jumping[k];
        if (i < layout.states && layout.network.states[static_cast<std::size_t>(i)].sort == StateSort::windingCurrent &&
            vanishes(c.jumps.entries(), static_cast<Eigen::Index>(k), i))
            lost.push_back(i);
    }
}

template <class Real>
std::size_t Mode<Real>::bytes() const {
    return looking.bytes() + arriving.bytes() + guardValue.bytes() + guardRate.bytes() + guardImpulse.bytes() +
           sizeof(Real) * static_cast<std::size_t>(sampling.size()) + sizeof(int) * segments.size() +
           96 * guards.size() + (calm ? calm->bytes() : 0) +
           (motion ? sizeof(Real) * static_cast<std::size_t>(motion->projection.size()) +
                         motion->algebra.configuration.bytes() + motion->algebra.propagator.bytes()
                   : 0) +
           std::accumulate(later.begin(), later.end(), std::size_t{0},
                           [](std::size_t sum, const auto& entry) { return sum + entry.second->bytes(); });
}

template <class Real>
const std::vector<Real>& Mode<Real>::noise(const Scales<Real>& scales) {
    if (noiseVersion_ != scales.version()) {
        noiseVersion_ = scales.version();
        noise_.resize(guards.size());
        for (std::size_t i = 0; i < guards.size(); ++i) {
            Real sum = 0;
            for (typename Sparse<Real>::InnerIterator of(guardValue.entries(), static_cast<Eigen::Index>(i)); of; ++of)
                sum += std::abs(of.value()) * scales.size(static_cast<int>(of.col()));
            noise_[i] = scales.noise(sum, guards[i].sort);
        }
    }
    return noise_;
}

template <class Real>
void Mode<Real>::guardValuesAndRates(const Real* y, Vector<Real>& result) {
    const Eigen::Index count = guardValue.rows();
    result.resize(2 * count);
    if (looking.size() == 0 && !layout_->rehearsal && ++looks > worthLooking)
        looking = guardValue.above(guardValue.times(configuration().generator));
    if (looking.size() > 0) return looking.apply(y, result.data());
    slope_.resize(guardValue.columns());
    configuration().rates(y, slope_.data());
    guardValue.apply(y, result.data());
    guardValue.apply(slope_.data(), result.data() + count);
}

template <class Real>
void Mode<Real>::projectAndEvaluate(const Real* y, Vector<Real>& result) {
    const Rows<Real>& jumps = configuration().jumps;
    const Eigen::Index count = guardValue.rows();
    if (result.size() < 2 * count + jumps.rows()) result.resize(2 * count + jumps.rows());
    if (arriving.size() == 0 && !layout_->rehearsal && ++arrivals > worthLooking)
        arriving = guardImpulse.above(guardValue).above(jumps);
    if (arriving.size() > 0) return arriving.apply(y, result.data());
    guardImpulse.apply(y, result.data());
    guardValue.apply(y, result.data() + count);
    jumps.apply(y, result.data() + 2 * count);
}

template <class Real>
Commutation<Real>::Commutation(const StateLayout<Real>& layout, Scales<Real>& scales, bool apart)
    : layout_(layout), reduction_(layout), subnetworks_(reduction_, apart), motions_(reduction_), scales_(scales) {
    for (std::size_t i = 0; i < layout.network.elements.size(); ++i)
        if (layout.network.elements[i]->logicSignal() >= 0) logic_.push_back(i);
}

template <class Real>
std::int64_t Commutation<Real>::products() const {
    std::int64_t sum = retiredProducts_;
    for (const auto& [equations, algebra] : algebras_) sum += algebra->propagator.products();
    return sum;
}

template <class Real>
std::size_t Commutation<Real>::bytes() const {
    std::size_t sum = 0;
    for (const auto& [segments, mode] : modes_) sum += mode->bytes();
    for (const auto& [equations, algebra] : algebras_)
        sum += algebra->configuration.bytes() + algebra->propagator.bytes();
    return sum;
}

template <class Real>
Mode<Real>& Commutation<Real>::mode(const Segments& segments) {
    auto& place = modes_[segments];
    if (!place) {
        const Stopwatch watch;
        Segments equations(segments.size());
        for (std::size_t i = 0; i < segments.size(); ++i)
            equations[i] = layout_.network.elements[i]->equations(segments[i]);
        auto& algebra = algebras_[equations];
        if (!algebra) {
            algebra = std::make_shared<Algebra<Real>>(reduction_, subnetworks_, segments);
            ++built_;
        }
        place = std::make_unique<Mode<Real>>(layout_, segments, algebra);
        secondsBuilding_ += watch.seconds();
    } else {
        ++revisited_;
    }
    place->lastUse = ++clock_;
    return *place;
}

/// A mode without those modes of motion that have died out.
template <class Real>
std::unique_ptr<Mode<Real>> Commutation<Real>::without(Mode<Real>& mode, std::shared_ptr<SlowMotion<Real>> motion) {
    std::shared_ptr<Algebra<Real>> algebra(motion, &motion->algebra);
    auto made = std::make_unique<Mode<Real>>(layout_, mode.segments, std::move(algebra));
    made->whole = mode.whole ? mode.whole : &mode;
    made->motion = std::move(motion);
    return made;
}

template <class Real>
Mode<Real>* Commutation<Real>::calm(Mode<Real>& mode) {
    if (!std::exchange(mode.calmKnown, true)) {
        const Stopwatch watch;
        static const std::vector<int> none;
        if (auto motion = motions_.atOnceWithout(*mode.algebra, mode.motion ? mode.motion->fast : none, mode.segments))
            mode.calm = without(mode, std::move(motion));
        secondsBuilding_ += watch.seconds();
    }
    return mode.calm.get();
}

template <class Real>
typename Commutation<Real>::Fading Commutation<Real>::fading(Mode<Real>& mode, Tick horizon) {
    static const std::vector<int> none;
    const Stopwatch watch;
    const Cut<Real>* const cut = motions_.within(*mode.algebra, horizon, mode.motion ? mode.motion->fast : none,
                                                 mode.segments, mode.entries < worthFading);
    if (mode.entries < worthFading && !layout_.rehearsal) ++mode.entries;
    if (!cut) return {};
    for (const auto& [known, to] : mode.later)
        if (known == cut) return {to.get(), cut->after};
    mode.later.emplace_back(cut, without(mode, cut->motion));
    secondsBuilding_ += watch.seconds();
    return {mode.later.back().second.get(), cut->after};
}

/// Drops the half of the modes that was not used for longest.
template <class Real>
void Commutation<Real>::trim(const Mode<Real>* keep) {
    if (built_ < nextTrim_) return;
    const std::size_t used = bytes(), each = used / std::max<std::size_t>(modes_.size(), 1) + 1;
    const auto room = static_cast<std::int64_t>((cacheBytes - std::min(used, cacheBytes)) / (2 * each));
    nextTrim_ = built_ + std::max(configurationsPerTrim, room);
    if (used < cacheBytes) return;
    std::vector<std::int64_t> uses;
    for (const auto& [segments, mode] : modes_) uses.push_back(mode->lastUse);
    std::nth_element(uses.begin(), uses.begin() + static_cast<std::ptrdiff_t>(uses.size() / 2), uses.end());
    const std::int64_t oldest = uses[uses.size() / 2];
    std::erase_if(modes_,
                  [&](const auto& entry) { return entry.second.get() != keep && entry.second->lastUse < oldest; });
    std::erase_if(algebras_, [&](const auto& entry) {
        if (entry.second.use_count() > 1) return false;
        retiredProducts_ += entry.second->propagator.products();
        return true;
    });
    ++generation_;
}

template <class Real>
Result<Mode<Real>*> Commutation<Real>::findConsistent(Vector<Real>& y, const Segments& wanted, Tick t,
                                                      const Cause& cause) {
    // When a time has run out the segment that follows is known; what came of it elsewhere would lead back. So it is
    // with a guard that was followed to its end.
    auto guess = cause.sort == Cause::Sort::timeout ? guesses_.end() : guesses_.find(wanted);
    if (guess != guesses_.end() && cause.sort == Cause::Sort::change) {
        const auto element = static_cast<std::size_t>(cause.element);
        if (guess->second[element] != wanted[element]) guess = guesses_.end();
    }
    Segments candidate = guess == guesses_.end() ? wanted : guess->second;
    // A comparator with hysteresis has two states that fit: it stays in the one it is in.
    for (const std::size_t element : logic_) candidate[element] = wanted[element];
    if (guess != guesses_.end()) {
        const std::int64_t known = built_;
        Mode<Real>& expected = mode(candidate);
        if (isConsistent(expected, y)) {
            if (built_ != known) trim(&expected);
            return expected.last();
        }
    }
    const Vector<Real> before = y;
    Mode<Real>* last = nullptr;
    Mode<Real>* found = search(candidate, before, y, last);
    // A mode that would cut a winding current is taken only when there is no other, and then it is an error.
    const auto lost = found ? lostCurrents(*found, before, t, cause) : Status();
    if (!found || !lost) found = enumerate(wanted, before, y);
    if (!found && lost) {
        // A current that was located at its zero to the last digit may be a voltage beyond its noise behind an
        // off-resistance.
        lenient_ = true;
        found = search(wanted, before, y, last);
        lenient_ = false;
    }
    if (!found) return lost ? failure(*last, before, t, cause) : lost.error();
    if (!y.allFinite()) return beyondNumbers(layout_, y, t);
    if (guesses_.size() > 20'000) guesses_.clear();
    if (cause.sort != Cause::Sort::timeout) guesses_[wanted] = found->segments;
    trim(found);
    return found->last();
}

/// Flips what is in the wrong state, first in blocks, then one by one, until all fits. @param last  what was tried last
template <class Real>
Mode<Real>* Commutation<Real>::search(Segments candidate, Vector<Real> before, Vector<Real>& after, Mode<Real>*& last) {
    std::set<Segments> visited;
    for (int round = 0; round < blockRounds + pivotRounds; ++round) {
        Mode<Real>& trialMode = mode(candidate);
        last = &trialMode;
        Trial trial = judge(trialMode, before, after);
        if (trial.verdict == Verdict::consistent) return &trialMode;
        if (trial.verdict == Verdict::impossible) return nullptr;
        if (trial.onTheWay) {
            before = after;
            visited.clear();
        } else if (round >= blockRounds) {
            if (!visited.insert(candidate).second) return nullptr;
            trial.violators.resize(1);
        }
        for (const std::size_t i : trial.violators) {
            const GuardInfo& guard = trialMode.guards[i];
            candidate[static_cast<std::size_t>(guard.element)] = guard.next;
        }
    }
    return nullptr;
}

template <class Real>
bool Commutation<Real>::isConsistent(Mode<Real>& entered, Vector<Real>& y) {
    Mode<Real>& mode = entered.whole ? *entered.whole : entered;
    const Configuration<Real>& c = mode.configuration();
    if (!c.illPosedUnknowns.empty() || (c.contradiction.rows() > 0 && contradictsSoon(mode, y))) return false;
    Mode<Real>* landing = calm(mode);
    const std::size_t guards = mode.guards.size();
    const Real* values = nullptr;
    if (c.projects) {
        for (const int i : mode.lost)
            if (std::abs(y(i)) > 100 * scales_.currentNoise()) return false;
        mode.projectAndEvaluate(y.data(), arrival_);
        for (std::size_t i = 0; i < guards; ++i)
            if (arrival_.data()[i] < -scales_.impulseNoise(mode.guards[i].sort)) return false;
        values = arrival_.data() + guards;
    } else if (guards > 0) {
        if (arrival_.size() < mode.guardValue.rows()) arrival_.resize(mode.guardValue.rows());
        mode.guardValue.apply(y.data(), arrival_.data());
        values = arrival_.data();
    }
    if (landing) {
        // What is near zero while fast modes are there is decided when they are gone.
        const Real* const noise = mode.noise(scales_).data();
        for (std::size_t i = 0; i < guards; ++i)
            if (!(values[i] >= -noise[i])) return false;
        landed_ = y;
        for (std::size_t k = 0; k < c.jumping.size(); ++k) landed_(c.jumping[k]) += values[guards + k];
        for (Mode<Real>* next = landing; next; next = calm(*landing)) {
            landing = next;
            land(*landing, landed_);
            if (guards == 0) continue;
            landing->guardValue.apply(landed_.data(), arrival_.data());
            if (!calm(*landing)) {
                if (!holds(*landing, arrival_.data(), landed_)) return false;
                continue;
            }
            const Real* const floor = landing->noise(scales_).data();
            for (std::size_t i = 0; i < guards; ++i)
                if (!(arrival_.data()[i] >= -floor[i])) return false;
        }
        y.swap(landed_);
    } else {
        if (guards > 0 && !holds(mode, values, y)) return false;
        for (std::size_t k = 0; k < c.jumping.size(); ++k) y(c.jumping[k]) += values[guards + k];
    }
    mode.lastUse = ++clock_;
    ++revisited_;
    return true;
}

/// Whether no guard ends now or at once.
template <class Real>
bool Commutation<Real>::holds(Mode<Real>& mode, const Real* values, const Vector<Real>& y) {
    const Real* const noise = mode.noise(scales_).data();
    bool decided = true;
    for (std::size_t i = 0; i < mode.guards.size(); ++i) {
        if (!(values[i] >= -noise[i])) return false;
        decided = decided && values[i] > noise[i];
    }
    return decided || leaveZero(mode, values, y.data());
}

template <class Real>
Conditions<Real> Commutation<Real>::enough(Mode<Real>& entered) const {
    Mode<Real>& mode = entered.whole ? *entered.whole : entered;
    Conditions<Real> conditions;
    if (!mode.guards.empty() && !entered.motion) {
        conditions.demand(mode.guardValue.full(), mode.noise(scales_));
    } else if (!mode.guards.empty()) {
        std::vector<Real> least = mode.noise(scales_);
        for (Real& bound : least) bound = -bound;
        conditions.demand(mode.guardValue.full(), least);
        const Configuration<Real>& c = mode.configuration();
        for (Mode<Real>* on = mode.calm.get(); on; on = on->calm.get()) {
            Matrix<Real> landing = on->motion->projection;
            if (c.projects) {
                const Matrix<Real>& jumps = c.jumps.full();
                const Matrix<Real> before = landing;
                for (std::size_t k = 0; k < c.jumping.size(); ++k)
                    landing += before.col(c.jumping[k]) * jumps.row(static_cast<Eigen::Index>(k));
            }
            least = on->noise(scales_);
            if (on->calm)
                for (Real& bound : least) bound = -bound;
            conditions.demand(multiply(on->guardValue.full(), landing), least);
        }
    }
    if (!mode.configuration().projects) return conditions;
    std::vector<Real> least;
    for (const GuardInfo& guard : mode.guards) least.push_back(-scales_.impulseNoise(guard.sort));
    if (!mode.guards.empty()) conditions.demand(mode.guardImpulse.full(), least);
    if (mode.lost.empty()) return conditions;
    Matrix<Real> currents = Matrix<Real>::Zero(static_cast<Eigen::Index>(mode.lost.size()), layout_.size());
    for (std::size_t k = 0; k < mode.lost.size(); ++k)
        currents(static_cast<Eigen::Index>(k), mode.lost[k]) = 1 / (100 * scales_.currentNoise());
    conditions.limit(currents);
    return conditions;
}

template <class Real>
void Commutation<Real>::enter(Mode<Real>& entered, Vector<Real>& y) {
    Mode<Real>& mode = entered.whole ? *entered.whole : entered;
    if (mode.configuration().projects) mode.configuration().project(y.data());
    if (entered.motion) entered.land(y);
    mode.lastUse = ++clock_;
    ++revisited_;
}

/// Whether guards that begin within their noise rise out of it at once.
template <class Real>
bool Commutation<Real>::leaveZero(Mode<Real>& mode, const Real* values, const Real* y) {
    if (mode.guardRate.size() == 0) mode.guardRate = mode.guardValue.times(mode.configuration().generator);
    const std::vector<Real>& noise = mode.noise(scales_);
    guardRates_.resize(static_cast<Eigen::Index>(noise.size()));
    mode.guardRate.apply(y, guardRates_.data());
    const Real soon = secondsOf<Real>(mode.propagator().baseStep());
    bool bends = false;  // a diode that begins to conduct has neither current nor voltage at first
    for (std::size_t i = 0; i < noise.size(); ++i) {
        const Real rise = soon * guardRates_(static_cast<Eigen::Index>(i));
        if (values[i] > noise[i] || rise > 4 * noise[i]) continue;
        if (rise < -noise[i]) return false;
        bends = true;
    }
    if (!bends) return true;
    slopes_.resize(layout_.size());
    guardBends_.resize(guardRates_.size());
    mode.configuration().rates(y, slopes_.data());
    mode.guardRate.apply(slopes_.data(), guardBends_.data());
    for (std::size_t i = 0; i < noise.size(); ++i) {
        const auto g = static_cast<Eigen::Index>(i);
        if (values[i] > noise[i]) continue;
        if (!(soon * (guardRates_(g) + soon / 2 * std::max(guardBends_(g), Real(0))) > 4 * noise[i])) return false;
    }
    return true;
}

template <class Real>
typename Commutation<Real>::Trial Commutation<Real>::judge(Mode<Real>& mode, const Vector<Real>& before,
                                                           Vector<Real>& after) {
    Trial trial;
    const Configuration<Real>& c = mode.configuration();
    if (!c.illPosedUnknowns.empty()) {
        trial.verdict = Verdict::impossible;
        return trial;
    }
    if (contradicted(mode, before, trial)) return trial;
    trial.violators = shadowed(mode);
    if (trial.violators.empty() && mode.guardImpulse.size() > 0) {
        Vector<Real> impulse(mode.guardImpulse.rows());
        mode.guardImpulse.apply(before.data(), impulse.data());
        for (std::size_t i = 0; i < mode.guards.size(); ++i)
            if (impulse(static_cast<Eigen::Index>(i)) < -scales_.impulseNoise(mode.guards[i].sort))
                trial.violators.push_back(i);
    }
    if (trial.violators.empty()) {
        after = before;
        if (c.projects) c.project(after.data());
        judgeGuards(mode, after, trial);
    }
    if (!trial.violators.empty()) trial.verdict = Verdict::violated;
    // The control follows the circuit: what it sees counts once that has come to a state.
    const auto ofCircuit = [&](std::size_t i) { return mode.guards[i].sort != UnknownSort::signal; };
    if (std::any_of(trial.violators.begin(), trial.violators.end(), ofCircuit))
        std::erase_if(trial.violators, [&](std::size_t i) { return !ofCircuit(i); });
    return trial;
}

/// What of the rows that must vanish is rounding.
template <class Real>
Vector<Real> Commutation<Real>::contradictionNoise(const Mode<Real>& mode, const Vector<Real>& y) const {
    const Vector<Real> bound = mode.configuration().contradiction.cwiseAbs() * y.cwiseAbs();
    return Real(1e-11) * (bound.array() + std::max(scales_.voltage(), scales_.current()));
}

/// Whether the configuration closes a loop that cannot be, now or a base step later.
template <class Real>
bool Commutation<Real>::contradictsSoon(const Mode<Real>& mode, const Vector<Real>& y) const {
    const Configuration<Real>& c = mode.configuration();
    const Vector<Real> now = c.contradiction * y, noise = contradictionNoise(mode, y);
    Vector<Real> slopes(y.size());
    c.rates(y.data(), slopes.data());
    const Vector<Real> change = secondsOf<Real>(mode.propagator().baseStep()) * (c.contradiction * slopes);
    return !((now.array().abs() <= noise.array()).all() && (change.array().abs() <= noise.array()).all());
}

/// True when the configuration closes a loop that cannot be: what would flow says which diodes are in the wrong state.
template <class Real>
bool Commutation<Real>::contradicted(const Mode<Real>& mode, const Vector<Real>& y, Trial& trial) const {
    const Matrix<Real>& rows = mode.configuration().contradiction;
    if (rows.rows() == 0) return false;
    const Vector<Real> residual = rows * y;
    if (((residual.array().abs() - contradictionNoise(mode, y).array()) <= 0).all()) return false;
    Vector<Real> flow = mode.configuration().infinite * residual;
    flow /= flow.cwiseAbs().maxCoeff();
    for (std::size_t i = 0; i < mode.guards.size(); ++i)
        if (along(mode.guards[i].terms, flow) < Real(-1e-6)) trial.violators.push_back(i);
    trial.verdict = trial.violators.empty() ? Verdict::impossible : Verdict::violated;
    return true;
}

/// A diode beside a closed switch would share its current for no reason that a real one has: it opens.
template <class Real>
std::vector<std::size_t> Commutation<Real>::shadowed(const Mode<Real>& mode) const {
    std::vector<std::size_t> found;
    const Matrix<Real>& shared = mode.configuration().shared;
    for (int j = 0; j < shared.cols() && found.empty(); ++j) {
        const auto part = [&](const Element& element) {
            return element.branch() >= 0 ? std::abs(shared(layout_.network.nodeCount() + element.branch(), j))
                                         : Real(0);
        };
        bool throughGate = false;
        for (std::size_t i = 0; i < mode.segments.size() && !throughGate; ++i) {
            const Element& element = *layout_.network.elements[i];
            throughGate = element.gateSignal() >= 0 && element.guards(mode.segments[i]).empty() && part(element) > 1e-6;
        }
        if (!throughGate) continue;
        for (std::size_t i = 0; i < mode.guards.size(); ++i)
            if (mode.guards[i].sort == UnknownSort::current &&
                std::abs(along(mode.guards[i].terms, shared.col(j))) > 1e-6)
                found.push_back(i);
    }
    return found;
}

/// To the slow manifold of a mode. Prolonged back to the present instant it may lie beyond a guard that it meets while
/// the fast modes die out: then to where it meets it.
template <class Real>
void Commutation<Real>::land(Mode<Real>& mode, Vector<Real>& y) {
    mode.land(y);
    if (mode.guards.empty()) return;
    Vector<Real> values(mode.guardValue.rows()), rates;
    mode.guardValue.apply(y.data(), values.data());
    const std::vector<Real>& noise = mode.noise(scales_);
    Real needed = 0;
    for (std::size_t i = 0; i < noise.size(); ++i) {
        const Real value = values(static_cast<Eigen::Index>(i));
        if (value >= -noise[i]) continue;
        if (mode.guardRate.size() == 0) mode.guardRate = mode.guardValue.times(mode.configuration().generator);
        if (rates.size() == 0) {
            rates.resize(values.size());
            mode.guardRate.apply(y.data(), rates.data());
        }
        const Real rate = rates(static_cast<Eigen::Index>(i));
        if (!(rate > 0) || -value > rate * mode.motion->lasts) return;
        needed = std::max(needed, -value / rate);
    }
    if (needed <= 0) return;
    needed *= Real(1.001);
    if (needed < secondsOf<Real>(mode.propagator().baseStep()))
        mode.propagator().shortStep(y, needed);
    else
        mode.propagator().advance(y, toTicks(needed) + 1);
}

/// A guard ends while fast modes die out: there the way to the slow manifold ends, which is straight enough.
/// @param values  of the guards at its start
template <class Real>
void Commutation<Real>::stopOnTheWay(Mode<Real>& landing, const Vector<Real>& values, const Vector<Real>& from,
                                     Vector<Real>& after, Trial& trial) {
    Vector<Real> there(landing.guardValue.rows());
    landing.guardValue.apply(after.data(), there.data());
    const auto part = [&](std::size_t i) {
        const Real start = std::max(values(static_cast<Eigen::Index>(i)), Real(0)),
                   end = there(static_cast<Eigen::Index>(i));
        return end >= 0 ? Real(1) : start / (start - end);  // one that holds there ends soon after
    };
    Real first = 1;
    for (const std::size_t i : trial.violators) first = std::min(first, part(i));
    std::erase_if(trial.violators, [&](std::size_t i) { return part(i) > first + Real(1e-9); });
    after = from + first * (after - from);
    trial.onTheWay = true;
}

template <class Real>
void Commutation<Real>::judgeGuards(Mode<Real>& mode, Vector<Real>& after, Trial& trial) {
    std::vector<std::size_t> undecided;
    const std::vector<Real>& noise = mode.noise(scales_);
    Vector<Real> values(mode.guardValue.rows());
    mode.guardValue.apply(after.data(), values.data());
    for (std::size_t i = 0; i < mode.guards.size(); ++i) {
        const Real value = values(static_cast<Eigen::Index>(i));
        if (value < -(lenient_ ? Real(lenience) : Real(1)) * noise[i])
            trial.violators.push_back(i);
        else if (value <= noise[i])
            undecided.push_back(i);
    }
    if (trial.violators.empty())
        if (Mode<Real>* const landing = calm(mode)) {
            // What is near zero while fast modes are there is decided when they are gone.
            const Vector<Real> from = after;
            land(*landing, after);
            judgeGuards(*landing, after, trial);
            if (!trial.violators.empty() && !trial.onTheWay) stopOnTheWay(*landing, values, from, after, trial);
            return;
        }
    const bool mayContradict = mode.configuration().contradiction.rows() > 0;
    if ((undecided.empty() && !mayContradict) || !trial.violators.empty()) return;
    const Tick base = mode.propagator().baseStep(), micro = lenient_ ? base : std::max(base, toTicks(microStepSeconds));
    Vector<Real> later = after, soon(values.size());
    mode.propagator().advance(later, micro);
    if (mayContradict && contradicted(mode, later, trial)) return;
    mode.guardValue.apply(later.data(), soon.data());
    Tick longer = 0;  // until what falls slowly has left its noise
    for (const std::size_t i : undecided) {
        const auto g = static_cast<Eigen::Index>(i);
        const Real fall = values(g) - soon(g);
        if (soon(g) < -noise[i])
            trial.violators.push_back(i);
        else if (fall > 0 && 3 * noise[i] * secondsOf<Real>(micro) < Real(patience) * fall)
            longer = std::max(longer, toTicks(3 * noise[i] / fall * secondsOf<Real>(micro)));
    }
    if (longer <= micro || !trial.violators.empty() || lenient_) return;
    later = after;
    mode.propagator().advance(later, longer);
    mode.guardValue.apply(later.data(), soon.data());
    for (const std::size_t i : undecided)
        if (soon(static_cast<Eigen::Index>(i)) < -noise[i]) trial.violators.push_back(i);
}

/// Every combination of the segments that guards can lead to.
template <class Real>
Mode<Real>* Commutation<Real>::enumerate(const Segments& wanted, const Vector<Real>& before, Vector<Real>& after) {
    std::vector<std::vector<int>> choices(wanted.size());
    std::size_t count = 1;
    for (std::size_t i = 0; i < wanted.size(); ++i) {
        choices[i] = {wanted[i]};
        for (std::size_t j = 0; j < choices[i].size(); ++j)
            for (const Guard& guard : layout_.network.elements[i]->guards(choices[i][j]))
                if (std::find(choices[i].begin(), choices[i].end(), guard.next) == choices[i].end())
                    choices[i].push_back(guard.next);
        count *= choices[i].size();
        if (count > mostEnumerated) return nullptr;
    }
    Segments candidate = wanted;
    for (std::size_t number = 0; number < count; ++number) {
        std::size_t rest = number;
        for (std::size_t i = 0; i < wanted.size(); ++i) {
            candidate[i] = choices[i][rest % choices[i].size()];
            rest /= choices[i].size();
        }
        Mode<Real>& trialMode = mode(candidate);
        if (judge(trialMode, before, after).verdict != Verdict::consistent) continue;
        if (lostCurrents(trialMode, before, 0, {})) return &trialMode;
    }
    return nullptr;
}

template struct Mode<double>;
template struct Mode<long double>;
template class Commutation<double>;
template class Commutation<long double>;

}  // namespace hedgerow::exact

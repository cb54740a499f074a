#include "engines/exact/round.h"

#include <cmath>

namespace hedgerow::exact {

namespace {
constexpr std::size_t mostLegs = 64;
constexpr Eigen::Index mostNumbers = 60'000;  ///< in the matrix
}  // namespace

template <class Real>
Matrix<Real> composedFine(const Mode<Real>& mode, FineTime length) {
    const auto ticks = static_cast<Tick>(length >> 32);
    const Matrix<Real> whole = mode.propagator().composed(ticks);
    const Real rest = static_cast<Real>(static_cast<long double>(length - toFine(ticks)) * 0x1p-86L);
    const Matrix<Real>& generator = mode.configuration().generator;
    return whole + rest * (generator + generator * whole);
}

/// Follows the legs through one period. @return false when something else than scheduled legs comes
template <class Real>
bool Round<Real>::collect(Leg<Real>& first, Clock clock, Legs<Real>& legs, std::uint32_t signalSet,
                          std::vector<Part>& parts) {
    const FineTime start = clock.lastEdge(), period = clock.period();
    Leg<Real>* leg = &first;
    FineTime at = 0;
    while (parts.size() < mostLegs) {
        const Tick from = toTick(start + at), next = clock.next();
        if (next == clock.nextSource()) return false;
        if (!leg || leg->crossing >= 0 || leg->round || leg->retired || leg->length > next - from ||
            leg->length + leg->slack < next - from)
            return false;
        clock.advance(next);
        const FineTime end = clock.lastEdge() - start;
        if (!leg->to || leg->gates != clock.gates() || leg->turned.empty() || leg->signalState != clock.state())
            return false;
        const Configuration<Real>& c = leg->to->configuration();
        if (c.projects || c.contradiction.rows() > 0 || c.shared.cols() > 0 || leg->to->timed) return false;
        parts.push_back({leg, at, end, signalSet, leg->signalSet});
        signalSet = leg->signalSet;
        at = end;
        if (end == period) return leg->to == first.mode;
        if (end > period) return false;
        leg = legs.scheduled(leg->to, clock.next() - toTick(start + at), clock.phase());
    }
    return false;
}

template <class Real>
std::unique_ptr<Round<Real>> Round<Real>::along(Leg<Real>& leg, const Clock& clock, Legs<Real>& legs,
                                                Recorder<Real>& recorder, const Frame<Real>& frame) {
    std::vector<Part> parts;
    // Sources that follow a signal jump within the period.
    if (clock.period() == 0 || !frame.network.heldSources.empty() ||
        !collect(leg, clock, legs, recorder.signalSet(), parts))
        return nullptr;
    auto round = std::make_unique<Round<Real>>();
    round->period = clock.period();
    round->generation = recorder.generation();
    round->turns.assign(frame.network.elements.size(), 0);
    for (const Part& part : parts) {
        round->legs.push_back(part.leg);
        for (const std::size_t element : part.leg->turned) {
            ++round->turns[element];
            ++round->gateEvents;
        }
    }
    for (int j = 0; j < frame.size(); ++j)
        if (j != frame.states) round->columns.push_back(j);
    round->assemble(parts, recorder, frame.size());
    if (round->rows.size() + round->conditions.numbers() > mostNumbers) return nullptr;
    return round;
}

template <class Real>
void Round<Real>::assemble(const std::vector<Part>& parts, Recorder<Real>& recorder, int n) {
    rowWidth = n - 1;

    std::vector<Matrix<Real>> stored;
    const Matrix<Real> identity = Matrix<Real>::Identity(n, n);
    Matrix<Real> before = Matrix<Real>::Zero(n, n);  // y at the start of a leg minus y at the start of the round
    const auto keptRows = [&](const Matrix<Real>& difference) {
        Matrix<Real> kept(rowWidth, n);
        for (int j = 0; j < rowWidth; ++j) kept.row(j) = difference.row(columns[static_cast<std::size_t>(j)]);
        return kept;
    };
    const auto point = [&](FineTime offset, std::uint32_t view, std::uint32_t signalSet) {
        points.push_back({static_cast<Tick>(offset >> 32), static_cast<std::uint32_t>(offset), view, signalSet,
                          static_cast<std::uint32_t>(stored.size())});
    };
    for (const Part& part : parts) {
        const Leg<Real>& leg = *part.leg;
        const Matrix<Real> whole = identity + before;
        const std::uint32_t view = recorder.viewOf(*leg.mode);
        conditions.follow(leg.conditions, whole);
        for (std::size_t k = 0; k < leg.points.size(); ++k) {
            point(part.start + toFine(leg.points[k]), view, part.signalsBefore);
            const Eigen::Index at = n * static_cast<Eigen::Index>(k);
            stored.push_back(keptRows(whole + leg.rows.middleRows(at, n) * whole));
        }
        before += composedFine(*leg.mode, part.end - part.start) * whole;
        endRows.push_back(static_cast<int>(stored.size()));
        point(part.end, view, part.signalsBefore);
        point(part.end, recorder.viewOf(*leg.to), part.signalsAfter);
        stored.push_back(keptRows(identity + before));
    }
    // The next round may not come: its first guards are asked for now.
    const Leg<Real>& first = *parts.front().leg;
    conditions.followStart(first.conditions, first.mode->guardValue.rows(), identity + before);

    storedRows = static_cast<int>(stored.size());
    stored.push_back(keptRows(before));
    rows.resize(rowWidth * static_cast<Eigen::Index>(stored.size()), n);
    for (std::size_t k = 0; k < stored.size(); ++k)
        rows.middleRows(rowWidth * static_cast<Eigen::Index>(k), rowWidth) = stored[k];
}

template struct Round<double>;
template struct Round<long double>;
template Matrix<double> composedFine<double>(const Mode<double>&, FineTime);
template Matrix<long double> composedFine<long double>(const Mode<long double>&, FineTime);

}  // namespace hedgerow::exact

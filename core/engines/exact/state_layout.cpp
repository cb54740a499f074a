#include "engines/exact/state_layout.h"

#include <limits>

namespace hedgerow::exact {

template <class Real>
StateLayout<Real>::StateLayout(const Network& net)
    : network(net),
      states(static_cast<int>(net.states.size())),
      sources(net.sourceCount),
      unknowns(net.unknownCount()),
      sourceDynamics(Matrix<Real>::Zero(net.sourceCount, net.sourceCount)),
      stateScale(states) {
    for (int i = 0; i < states; ++i)
        stateScale(i) = std::sqrt(static_cast<Real>(net.states[static_cast<std::size_t>(i)].storage));
    for (std::size_t i = 0; i < net.sources.size(); ++i) {
        const int n = net.sources[i]->size(), first = net.sourceOffsets[i];
        std::vector<double> block(static_cast<std::size_t>(n) * static_cast<std::size_t>(n), 0.0);
        net.sources[i]->dynamics(block);
        for (int r = 0; r < n; ++r)
            for (int c = 0; c < n; ++c)
                sourceDynamics(first + r, first + c) = block[static_cast<std::size_t>(r * n + c)];
    }
}

template <class Real>
Scales<Real>::Scales(const StateLayout<Real>& layout)
    : layout_(layout), sources_(Vector<Real>::Zero(layout.sources)), signals_(Vector<Real>::Zero(layout.states)) {
    for (const StateInfo& state : layout.network.states) {
        if (state.sort == StateSort::signal) continue;
        Real& largest = state.sort == StateSort::capacitorVoltage ? largestC_ : largestL_;
        largest = std::max(largest, static_cast<Real>(state.storage));
        state.sort == StateSort::capacitorVoltage ? seeVoltage(state.initial) : seeCurrent(state.initial);
    }
}

template <class Real>
void Scales<Real>::seeSources(const Vector<Real>& y) {
    // Instants are counted in ticks: by what a source moves within one its value is not known.
    const Vector<Real> slopes = layout_.sourceDynamics * y.tail(layout_.sources);
    for (int i = 0; i < layout_.sources; ++i)
        see(sources_(i), std::max(std::abs(y(layout_.states + i)), std::abs(slopes(i)) * Real(tickSeconds) / quiet));
}

template <class Real>
void Scales<Real>::seeSignals(const Real* y) {
    for (int i = 0; i < layout_.states; ++i)
        if (layout_.network.states[static_cast<std::size_t>(i)].sort == StateSort::signal) see(signals_(i), y[i]);
}

template <class Real>
Real Scales<Real>::sizeOfState(int state) const {
    const StateSort sort = layout_.network.states[static_cast<std::size_t>(state)].sort;
    return sort == StateSort::capacitorVoltage ? voltage_
           : sort == StateSort::windingCurrent ? current_
                                               : signals_(state);
}

template <class Real>
void Scales<Real>::drifted(Real normTimesLength) {
    const Real drift = 4 * std::numeric_limits<Real>::epsilon() * normTimesLength;
    Real part = quiet;
    while (part < drift && part < mostDrift) part *= 4;
    if (part == part_) return;
    part_ = part;
    ++version_;
}

template <class Real>
Vector<Real> Scales<Real>::sizes() const {
    Vector<Real> result(layout_.size());
    for (int i = 0; i < layout_.states; ++i) result(i) = sizeOfState(i);
    result.tail(layout_.sources) = sources_;
    return result;
}

template <class Real>
Real Scales<Real>::noise(Real sum, UnknownSort sort) const {
    // A signal has no size but that of what makes it up.
    // A current may be known as what a voltage leaves of a knee, over an on-resistance: with the last digit of the
    // knee.
    const Real size = sort == UnknownSort::voltage   ? voltage_
                      : sort == UnknownSort::current ? std::max(current_, leastConductance * voltage_)
                                                     : sum;
    return part_ * size + least + rounding * sum;
}

template struct StateLayout<double>;
template struct StateLayout<long double>;
template class Scales<double>;
template class Scales<long double>;

}  // namespace hedgerow::exact

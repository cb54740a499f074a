#pragma once
// Pulses of modulators that look at their references at instants of their carriers.

#include <algorithm>
#include <cmath>
#include <deque>
#include <functional>
#include <vector>

#include "base/time.h"
#include "network/signal_block.h"
#include "parts/control/carrier.h"

namespace hedgerow::parts {

/// A level and its complement, each of which turns on late by the dead time.
class GatePair {
public:
    void change(bool level, Tick t) {
        if (level == level_) return;
        level_ = level, since_ = t;
    }
    bool level() const { return level_; }
    bool upper(Tick t, Tick dead) const { return level_ && (since_ < 0 || t >= later(since_, dead)); }
    bool lower(Tick t, Tick dead) const { return !level_ && (since_ < 0 || t >= later(since_, dead)); }
    Tick next(Tick t, Tick dead) const {
        return since_ >= 0 && later(since_, dead) > t ? later(since_, dead) : neverTick;
    }
    Tick since() const { return since_; }
    void memory(Memory& all) { all.flag("level", level_), all.instant("since", since_); }

private:
    bool level_ = false;
    Tick since_ = -1;  ///< of the last change; below zero before the first
};

/// How one pulse lies in a period, as parts of it: 0 <= on, off <= 1.
struct Pulse {
    double on, off;
    bool never() const { return off <= on; }
};

/// Pulses of several channels, each with a carrier of its own phase. At the start of each period, and in its middle
/// where asked, a channel looks at the inputs and plans its edges up to the next look.
class PulseProcess final : public SignalProcess {
public:
    struct Setting {
        double period = 1e-5, start = 0, dead = 0, shortest = 0;  ///< s
        bool twice = false;
        std::vector<double> phases = {0.0};  ///< of the channels, in periods
        bool complements = true;             ///< outputs are g1 n1 g2 n2..., else g1 g2...
        /// The pulse of a channel for the inputs.
        std::function<Pulse(std::size_t channel, std::span<const double> inputs)> pulse;
        std::vector<double> expected = {};  ///< inputs before the first look; 0 where there is none
        /// The period to come, s, for the inputs; empty when it is constant.
        std::function<double(std::span<const double> inputs)> nextPeriod = {};
    };
    explicit PulseProcess(const Setting& setting) : set_(setting), dead_(toTicks(setting.dead)) {
        for (const double phase : set_.phases) {
            Channel channel;
            channel.period = toFinePeriod(static_cast<long double>(set_.period));
            channel.start =
                toFine(static_cast<long double>(set_.start) + static_cast<long double>(phase) * set_.period);
            // From a period that began before the run, so that its pulse is on its way at the start.
            channel.start %= channel.period;
            if (channel.start > 0) channel.start -= channel.period;
            channels_.push_back(std::move(channel));
        }
    }
    /// What a look at the start would give for the inputs that are expected: the circuit begins with these.
    void before(std::span<double> outputs) override {
        std::vector<double> inputs = set_.expected;
        inputs.resize(std::max<std::size_t>(inputs.size(), mostInputs), 0.0);
        PulseProcess trial = *this;
        (void)trial.advance(0, inputs, outputs);
    }
    Status advance(Tick t, std::span<const double> inputs, std::span<double> outputs) override {
        for (std::size_t i = 0; i < channels_.size(); ++i) {
            Channel& c = channels_[i];
            while (c.nextLook() <= t) look(c, i, inputs);
            while (!c.edges.empty() && c.edges.front().at <= t) {
                c.pair.change(c.edges.front().level, c.edges.front().at);
                c.edges.pop_front();
            }
            if (set_.complements) {
                outputs[2 * i] = c.pair.upper(t, dead_) ? 1 : 0;
                outputs[2 * i + 1] = c.pair.lower(t, dead_) ? 1 : 0;
            } else {
                outputs[i] = c.pair.upper(t, dead_) ? 1 : 0;
            }
        }
        return {};
    }
    Tick next(Tick t) const override {
        Tick first = neverTick;
        for (const Channel& c : channels_) {
            first = std::min({first, c.nextLook(), c.pair.next(t, dead_)});
            if (!c.edges.empty()) first = std::min(first, c.edges.front().at);
        }
        return first;
    }
    Recurrences recurrences() const override {
        if (set_.nextPeriod) return {Recurrence::varying()};
        return {Recurrence::every(toFinePeriod(static_cast<long double>(set_.period)))};
    }
    void memory(Memory& all) override {
        for (std::size_t i = 0; i < channels_.size(); ++i)
            all.inside("channel " + std::to_string(i + 1), [&](Memory& own) { memory(own, channels_[i]); });
    }

private:
    static constexpr std::size_t mostInputs = 16;
    struct Edge {
        Tick at;
        bool level;
    };
    struct Channel {
        FineTime start = 0, period = 1;  ///< of the period whose half comes next
        bool half = false;               ///< whether the next look is in its middle
        GatePair pair;
        std::deque<Edge> edges;  ///< to come
        Tick nextLook() const { return toTick(half ? start + period / 2 : start); }
    };

    void memory(Memory& all, Channel& c) const {
        constexpr std::size_t mostEdges = 3;  ///< that look() plans
        Tick start = toTick(c.start), period = toTick(c.period);
        bool half = c.half;
        std::vector<Tick> at;
        std::vector<std::int64_t> levels;
        for (const Edge& edge : c.edges) at.push_back(edge.at), levels.push_back(edge.level ? 1 : 0);
        all.instant("start", start), all.instant("period", period), all.flag("half", half);
        c.pair.memory(all);
        all.instants("edges", at, mostEdges), all.list("levels", levels, mostEdges, 1);
        if (!all.reading()) return;
        if (set_.nextPeriod)
            c.start = toFine(start), c.period = std::max(toFine(period), FineTime{1} << 32);
        else if (toTick(c.start) < start - 1)  // the carrier may have another frequency now
            c.start += (toFine(start - 1) - c.start + c.period - 1) / c.period * c.period;
        c.half = half && set_.twice;
        c.edges.clear();
        for (std::size_t i = 0; i < std::min(at.size(), levels.size()); ++i) c.edges.push_back({at[i], levels[i] != 0});
    }
    void look(Channel& c, std::size_t index, std::span<const double> inputs) {
        if (!c.half && set_.nextPeriod) c.period = toFinePeriod(static_cast<long double>(set_.nextPeriod(inputs)));
        const Pulse pulse = cleared(set_.pulse(index, inputs), c);
        const double from = c.half ? 0.5 : 0.0, to = set_.twice && !c.half ? 0.5 : 1.0;
        c.edges.clear();
        c.edges.push_back({c.nextLook(), pulse.on <= from && from < pulse.off});
        if (from < pulse.on && pulse.on < to && !pulse.never()) c.edges.push_back({instant(c, pulse.on), true});
        if (from < pulse.off && pulse.off < to && !pulse.never()) c.edges.push_back({instant(c, pulse.off), false});
        if (set_.twice && !c.half) {
            c.half = true;
            return;
        }
        c.half = false;
        c.start += c.period;
    }
    static Tick instant(const Channel& c, double part) {
        return toTick(c.start +
                      static_cast<FineTime>(static_cast<long double>(c.period) * static_cast<long double>(part)));
    }
    /// Pulses and gaps that would be too short do not come.
    Pulse cleared(const Pulse& pulse, const Channel& c) const {
        const double least = set_.shortest / toSeconds(toTick(c.period)), width = pulse.off - pulse.on;
        if (width < least) return {pulse.on, pulse.on};
        if (1 - width < least) return {0, 1};
        return pulse;
    }

    Setting set_;
    Tick dead_;
    std::vector<Channel> channels_;
};

/// The pulse of a duty on a carrier.
inline Pulse pulseOf(double duty, Carrier carrier) {
    const double d = std::clamp(duty, 0.0, 1.0);
    switch (carrier) {
        case Carrier::saw:
            return {0, d};
        case Carrier::fallingSaw:
            return {1 - d, 1};
        case Carrier::triangle:
            return {(1 - d) / 2, (1 + d) / 2};
    }
    return {0, d};
}

}  // namespace hedgerow::parts

#pragma once
// Listens to a run for its events: where they lie, and whether they repeat.

#include <cstdint>
#include <vector>

#include "network/simulation.h"

namespace hedgerow::settle {

/// Stores nothing of a run.
class NoPoints final : public RunSink {
public:
    bool wantsPoints() const override { return false; }
    std::uint32_t addView(RowView) override { return views_++; }
    std::uint32_t addSignals(std::span<const double>) override { return signalSets_++; }
    bool append(std::span<const PointRef>, std::span<const double>) override { return true; }
    void progress(Tick) override {}

private:
    std::uint32_t views_ = 0, signalSets_ = 0;
};

/// Notes the instants at which something switches, jumps or is set anew.
class Scout final : public RunSink {
public:
    struct Event {
        Tick t = 0;
        std::uint64_t after = 0;  ///< a number for what conducts and which signals are on from there on
    };
    std::uint32_t addView(RowView view) override;
    std::uint32_t addSignals(std::span<const double> values) override;
    bool append(std::span<const PointRef> points, std::span<const double> numbers) override;
    void progress(Tick) override {}
    const std::vector<Event>& events() const { return events_; }

private:
    std::vector<std::uint64_t> views_, signals_;
    std::vector<Event> events_;
    PointRef last_{-1, 0, 0, 0};
};

/// The time after which the latest events come again in the same order; 0 where they do not yet. Three repetitions must
/// agree to `tolerance`, relative.
Tick repetitionOf(const std::vector<Scout::Event>& events, double tolerance);

}  // namespace hedgerow::settle

#pragma once
// Blocks of the control: what changes signals at known instants.

#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "base/memory.h"
#include "base/result.h"
#include "base/time.h"
#include "network/recurrence.h"

namespace hedgerow {

/// Outputs that repeat: those of `edges[j]` hold from start + k * period + edges[j].offset on, for every k.
struct SignalCycle {
    struct Edge {
        FineTime offset;  ///< in [0, period), rising
        std::vector<double> outputs;
    };
    FineTime start = 0, period = 1;
    std::vector<Edge> edges;
};

/// What a block with memory does in one run.
class SignalProcess {
public:
    virtual ~SignalProcess() = default;
    /// The outputs before the first call of advance(), all zero on entry.
    virtual void before(std::span<double> /*outputs*/) {}
    /// Brings the outputs, which hold their last values, up to date at `t`: an input has changed, or an instant of the
    /// block's own has come. An error ends the run.
    virtual Status advance(Tick t, std::span<const double> inputs, std::span<double> outputs) = 0;
    /// The first instant after `t` at which an output may change while the inputs stay, or neverTick.
    virtual Tick next(Tick /*t*/) const { return neverTick; }
    /// Visits what it remembers.
    virtual void memory(Memory& /*memory*/) {}
    /// Whether a run that starts anew at t = 0 may take up its memory, without the instants, before its first call.
    virtual bool lasts() const { return false; }
    /// How it goes on while its inputs stay; empty where it does nothing of itself.
    virtual Recurrences recurrences() const { return {}; }
};

/// A part of the control: outputs that change only at known instants and are constant in between. One without memory
/// says what its outputs are; one with memory makes a process for each run.
class SignalBlock {
public:
    virtual ~SignalBlock() = default;
    /// The cycle of the outputs while the inputs stay, if they have one: engines then need not ask again.
    virtual std::optional<SignalCycle> cycle(std::span<const double> /*inputs*/) const { return {}; }
    /// The first instant after `t` at which an output may change while the inputs stay, or neverTick.
    virtual Tick nextInstant(Tick /*t*/, std::span<const double> /*inputs*/) const { return neverTick; }
    /// Outputs just after instant `t`.
    virtual void evaluate(Tick /*t*/, std::span<const double> /*inputs*/, std::span<double> /*outputs*/) const {}
    /// What acts instead of the two above; null for a block without memory.
    virtual std::unique_ptr<SignalProcess> process() const { return nullptr; }
    /// Whether outputs follow a change of an input at once. Others look at their inputs at their own instants.
    virtual bool follows() const { return true; }
    /// How it goes on while its inputs stay; empty where it does nothing of itself.
    virtual Recurrences recurrences() const {
        const auto made = process();
        return made ? made->recurrences() : Recurrences();
    }
};

/// Where a block reads: a signal, a running signal (a column of z), or nothing, which reads as 0.
struct SignalInput {
    int signal = -1;
    int column = -1;
};

}  // namespace hedgerow

#pragma once
// The instants at which signals change and sources jump, in order.

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "base/cancel.h"
#include "network/network.h"
#include "network/snapshot.h"

namespace hedgerow {

class Clock {
public:
    /// @param memories  what blocks take up, one per block; empty for nothing
    /// @param cancel    looked at between blocks and edges: a clock that is stopped has an error of code stop
    explicit Clock(const Network& network, const std::vector<MemoryRecord>& memories = {},
                   const CancelToken& cancel = {});

    /// The next instant at which a signal may change or a source breaks; neverTick when none is left.
    Tick next() const { return next_; }
    /// Reads a column of z, as it was just before the instant.
    using Sense = std::function<double(int column)>;
    /// Moves on to an instant and brings all signals up to date. Without `sense`, blocks that look at the circuit stay
    /// as they are. @pre t <= next()
    void advance(Tick t, const Sense& sense = {});
    /// Sets a signal that the circuit drives; what reads it is due at `t`.
    void set(int signal, double value, Tick t);
    /// Goes on from where an earlier clock stood; blocks look at their inputs anew at its instant.
    /// @param signals   values of all signals there
    /// @param memories  what blocks remember there, one per block
    void resume(Tick t, const std::vector<double>& signals, const std::vector<MemoryRecord>& memories);
    /// The blocks as they are now.
    std::vector<Snapshot::Block> blocks() const;
    /// What went wrong in a block; it ends the run.
    const std::optional<Error>& error() const { return error_; }

    const std::vector<double>& signals() const { return signals_; }
    bool gate(std::size_t element) const {
        const int signal = gateSignals_[element];
        return signal >= 0 && signals_[static_cast<std::size_t>(signal)] > 0.5;
    }
    /// A number for the state of all gates together.
    std::uint64_t gates() const { return gates_; }
    /// A number for the values of all signals together.
    std::uint64_t state() const { return state_; }
    /// The common period of all signals, 0 when they have none.
    FineTime period() const { return period_; }
    /// A number for the place within the common period, 0 when there is none.
    std::uint64_t phase() const { return phase_; }
    /// The instant of the last edge of a cycle, before rounding to ticks.
    FineTime lastEdge() const { return lastEdge_; }
    Tick nextSource() const { return nextSource_; }
    /// Moves on by whole periods, all of which are known to lie before the next source break.
    void skipPeriods(int count);
    /// Grows whenever a signal changes.
    std::int64_t version() const { return version_; }
    /// Instants of signals and of sources that came so far.
    std::int64_t sourceBreaks() const { return sourceBreaks_; }

private:
    struct Block {
        const SignalConnection* connection;
        bool senses;
        std::shared_ptr<SignalProcess> process;  ///< copies of a clock share them: a clock with a process has no rounds
        std::optional<SignalCycle> cycle;
        FineTime periodStart = 0;  ///< of the cycle: where the period of `edge` begins
        std::size_t edge = 0;      ///< the next one
        Tick next = 0;
        bool due = true;  ///< an input changed
    };
    bool pass(Tick t, const Sense& sense);
    void restart(Block& block, Tick t);
    void update(Block& block, Tick t);
    void evaluate(Block& block, Tick t);
    void put(const Block& block, std::span<const double> outputs);
    void change(std::size_t place, double value);
    void findNext();
    void findPeriod();
    std::span<const double> inputsOf(const SignalConnection& connection);
    void fail(Error error, const Block& block, Tick t);
    bool stopped();

    const Network& network_;
    CancelToken cancel_;
    std::vector<Block> blocks_;
    std::vector<std::vector<std::size_t>> readers_;  ///< blocks that read a signal
    std::vector<std::uint64_t> gateKeys_;            ///< per signal: a random word when it is a gate, else 0
    std::vector<int> gateSignals_;                   ///< per element
    std::vector<double> signals_, inputs_, outputs_;
    const Sense* sense_ = nullptr;  ///< during advance
    bool remembers_ = false;        ///< whether there is a process
    std::optional<Error> error_;
    Tick next_ = 0, nextSignal_ = 0, nextSource_ = 0;
    std::uint64_t gates_ = 0, state_ = 0, phase_ = 0;
    FineTime period_ = 0, lastEdge_ = 0;
    std::int64_t version_ = 0, sourceBreaks_ = 0;
};

}  // namespace hedgerow

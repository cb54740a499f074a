#include "engines/common/clock.h"

#include <algorithm>
#include <bit>

namespace hedgerow {

namespace {

/// Words without pattern, one per index (the mixing step of S. Vigna's splitmix64).
std::uint64_t word(std::size_t index) {
    std::uint64_t z = (static_cast<std::uint64_t>(index) + 1) * 0x9e3779b97f4a7c15u;
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9u;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebu;
    return z ^ (z >> 31);
}

std::uint64_t valueWord(std::size_t signal, double value) {
    return word(word(signal) ^ std::bit_cast<std::uint64_t>(value));
}

}  // namespace

Clock::Clock(const Network& network)
    : network_(network),
      readers_(static_cast<std::size_t>(network.signalCount)),
      gateKeys_(static_cast<std::size_t>(network.signalCount), 0),
      signals_(static_cast<std::size_t>(network.signalCount), 0.0) {
    for (const SignalConnection& connection : network.signalBlocks) {
        for (const int input : connection.inputs)
            if (input >= 0) readers_[static_cast<std::size_t>(input)].push_back(blocks_.size());
        blocks_.push_back({&connection, {}});
    }
    for (const auto& element : network.elements) {
        gateSignals_.push_back(element->gateSignal());
        if (gateSignals_.back() < 0) continue;
        const auto signal = static_cast<std::size_t>(gateSignals_.back());
        gateKeys_[signal] = word(signal);
    }
    advance(0);
}

std::span<const double> Clock::inputsOf(const SignalConnection& connection) {
    inputs_.clear();
    for (const int input : connection.inputs)
        inputs_.push_back(input < 0 ? 0.0 : signals_[static_cast<std::size_t>(input)]);
    return inputs_;
}

void Clock::advance(Tick t) {
    if (nextSignal_ <= t) {
        bool restarted = false;
        for (Block& block : blocks_) {
            if (block.due)
                restart(block, t), restarted = true;
            else if (block.next <= t)
                evaluate(block, t);
        }
        if (restarted) findPeriod();
    }
    if (nextSource_ <= t) {
        if (t > 0) ++sourceBreaks_;
        nextSource_ = neverTick;
        for (const auto& source : network_.sources) nextSource_ = std::min(nextSource_, source->nextBreak(t));
    }
    findNext();
}

void Clock::findNext() {
    nextSignal_ = neverTick;
    phase_ = 0;
    for (std::size_t i = 0; i < blocks_.size(); ++i) {
        nextSignal_ = std::min(nextSignal_, blocks_[i].next);
        if (period_ > 0) phase_ += word(i * 4096 + blocks_[i].edge);
    }
    next_ = std::min(nextSignal_, nextSource_);
}

void Clock::findPeriod() {
    period_ = 0;
    for (const Block& block : blocks_) {
        if (block.next == neverTick) continue;
        const bool fits = block.cycle && (period_ == 0 || period_ == block.cycle->period);
        period_ = fits ? block.cycle->period : 0;
        if (!fits) return;
    }
}

void Clock::skipPeriods(int count) {
    for (Block& block : blocks_) {
        if (!block.cycle) continue;
        block.periodStart += count * block.cycle->period;
        block.next = toTick(block.periodStart + block.cycle->edges[block.edge].offset);
    }
    lastEdge_ += count * period_;
    findNext();
}

/// After a change of its inputs.
void Clock::restart(Block& block, Tick t) {
    const SignalConnection& c = *block.connection;
    block.due = false;
    block.cycle = c.block->cycle(inputsOf(c));
    if (block.cycle && block.cycle->edges.empty()) block.cycle.reset();
    outputs_.assign(c.outputs.size(), 0.0);
    c.block->evaluate(t, inputs_, outputs_);
    put(block, outputs_);
    if (!block.cycle) {
        block.next = c.block->nextInstant(t, inputsOf(c));
        return;
    }
    const SignalCycle& cycle = *block.cycle;
    const FineTime since = toFine(t) - cycle.start;
    block.periodStart = cycle.start + (since / cycle.period - 2) * cycle.period;
    block.edge = 0;
    while ((block.next = toTick(block.periodStart + cycle.edges[block.edge].offset)) <= t) {
        if (++block.edge < cycle.edges.size()) continue;
        block.edge = 0;
        block.periodStart += cycle.period;
    }
}

void Clock::evaluate(Block& block, Tick t) {
    const SignalConnection& c = *block.connection;
    if (!block.cycle) {
        outputs_.assign(c.outputs.size(), 0.0);
        c.block->evaluate(t, inputsOf(c), outputs_);
        put(block, outputs_);
        block.next = c.block->nextInstant(t, inputsOf(c));
        return;
    }
    const SignalCycle& cycle = *block.cycle;
    do {
        put(block, cycle.edges[block.edge].outputs);
        lastEdge_ = block.periodStart + cycle.edges[block.edge].offset;
        if (++block.edge == cycle.edges.size()) {
            block.edge = 0;
            block.periodStart += cycle.period;
        }
        block.next = toTick(block.periodStart + cycle.edges[block.edge].offset);
    } while (block.next <= t);
}

void Clock::put(const Block& block, std::span<const double> outputs) {
    const std::vector<int>& places = block.connection->outputs;
    for (std::size_t i = 0; i < outputs.size(); ++i) {
        if (places[i] < 0) continue;
        const auto place = static_cast<std::size_t>(places[i]);
        double& signal = signals_[place];
        if (signal == outputs[i]) continue;
        if ((signal > 0.5) != (outputs[i] > 0.5)) gates_ ^= gateKeys_[place];
        state_ ^= valueWord(place, signal) ^ valueWord(place, outputs[i]);
        signal = outputs[i];
        ++version_;
        for (const std::size_t reader : readers_[place]) blocks_[reader].due = true;
    }
}

}  // namespace hedgerow

#include "network/clock.h"

#include <algorithm>
#include <bit>
#include <map>
#include <set>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow {

namespace {

constexpr int mostPasses = 100;  ///< at one instant: signals that go on changing chase each other in a circle

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

Clock::Clock(const Network& network, const std::vector<MemoryRecord>& memories, const CancelToken& cancel)
    : network_(network),
      cancel_(cancel),
      readers_(static_cast<std::size_t>(network.signalCount)),
      gateKeys_(static_cast<std::size_t>(network.signalCount), 0),
      signals_(static_cast<std::size_t>(network.signalCount), 0.0) {
    for (const SignalConnection& connection : network.signalBlocks) {
        for (const SignalInput& input : connection.inputs)
            if (input.signal >= 0 && connection.block->follows())
                readers_[static_cast<std::size_t>(input.signal)].push_back(blocks_.size());
        blocks_.push_back({&connection, connection.senses(), connection.block->process(), {}});
        remembers_ = remembers_ || blocks_.back().process;
    }
    for (const auto& element : network.elements) {
        gateSignals_.push_back(element->gateSignal());
        if (gateSignals_.back() < 0) continue;
        const auto signal = static_cast<std::size_t>(gateSignals_.back());
        gateKeys_[signal] = word(signal);
    }
    for (std::size_t i = 0; i < blocks_.size(); ++i) {
        const Block& block = blocks_[i];
        if (!block.process) continue;
        if (i < memories.size() && !memories[i].empty() && block.process->lasts())
            (void)Memory::take(
                memories[i], [&](Memory& m) { block.process->memory(m); }, Memory::Instants::left);
        outputs_.assign(block.connection->outputs.size(), 0.0);
        block.process->before(outputs_);
        put(block, outputs_);
    }
    advance(0);
}

void Clock::resume(Tick t, const std::vector<double>& signals, const std::vector<MemoryRecord>& memories) {
    for (std::size_t i = 0; i < signals_.size(); ++i)
        if (signals_[i] != signals[i]) change(i, signals[i]);
    for (std::size_t i = 0; i < blocks_.size(); ++i) {
        Block& block = blocks_[i];
        if (block.process) {
            block.process = block.connection->block->process();
            (void)Memory::take(
                memories[i], [&](Memory& m) { block.process->memory(m); }, Memory::Instants::kept);
        }
        block.cycle.reset();
        block.due = true;
        block.next = t;
    }
    nextSource_ = neverTick;
    for (const auto& source : network_.sources) nextSource_ = std::min(nextSource_, source->nextBreak(t));
    nextSignal_ = next_ = t;
    error_.reset();
}

std::vector<Snapshot::Block> Clock::blocks() const {
    std::vector<Snapshot::Block> all;
    std::map<std::string_view, int> numbers;
    for (const Block& block : blocks_) {
        const std::string& part = block.connection->part;
        Snapshot::Block one{.part = part, .number = numbers[part]++};
        for (const int output : block.connection->outputs)
            one.outputs.push_back(output < 0 ? 0.0 : signals_[static_cast<std::size_t>(output)]);
        if (block.process) {
            const Memory::Visit visit = [&](Memory& m) { block.process->memory(m); };
            one.memory = Memory::put(visit, Memory::Instants::kept);
            if (block.process->lasts()) one.restarts = Memory::put(visit, Memory::Instants::left);
        }
        all.push_back(std::move(one));
    }
    return all;
}

std::span<const double> Clock::inputsOf(const SignalConnection& connection) {
    inputs_.clear();
    for (const SignalInput& input : connection.inputs)
        inputs_.push_back(input.signal >= 0              ? signals_[static_cast<std::size_t>(input.signal)]
                          : input.column >= 0 && *sense_ ? (*sense_)(input.column)
                                                         : 0.0);
    return inputs_;
}

void Clock::advance(Tick t, const Sense& sense) {
    sense_ = &sense;
    if (nextSignal_ <= t) {
        bool restarted = false;
        int passes = 0;
        while (!error_ && pass(t, sense)) {
            restarted = true;
            if (++passes < mostPasses) continue;
            std::set<std::string> parts;
            for (const Block& block : blocks_)
                if (block.due) parts.insert(block.connection->part);
            error_ = Error{ErrorCode::numeric,
                           fmt::format("the signals of {} chase each other in a circle at {}: put a delay into it",
                                       listed({parts.begin(), parts.end()}), formatQuantity(toSeconds(t), "s", 6)),
                           *parts.begin()};
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

/// Each block once, in order. @return whether any of them was due because an input had changed
bool Clock::pass(Tick t, const Sense& sense) {
    bool any = false;
    for (Block& block : blocks_) {
        if (block.process && stopped()) return false;  // what has no memory is quick
        if (block.senses && !sense) {
            // Looks at the circuit as soon as there is something to see.
            block.due = false;
            continue;
        }
        if (block.due)
            restart(block, t), any = true;
        else if (block.next <= t)
            evaluate(block, t);
    }
    return any;
}

void Clock::set(int signal, double value, Tick t) {
    const auto place = static_cast<std::size_t>(signal);
    if (signals_[place] == value) return;
    change(place, value);
    nextSignal_ = next_ = t;
}

void Clock::fail(Error error, const Block& block, Tick t) {
    if (error.part.empty()) error.part = block.connection->part;
    error.message = fmt::format("{}: {} at {}", error.part, error.message, formatQuantity(toSeconds(t), "s", 6));
    error_ = std::move(error);
}

/// Whether somebody asked to stop; the run then ends.
bool Clock::stopped() {
    if (!error_ && cancel_.cancelled()) error_ = Error{ErrorCode::stop, "stopped"};
    return error_.has_value();
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
    if (remembers_) return;
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
    if (!block.cycle) return update(block, t);
    const SignalCycle& cycle = *block.cycle;
    const FineTime since = toFine(t) - cycle.start;
    block.periodStart = cycle.start + (since / cycle.period - 2) * cycle.period;
    block.edge = 0;
    while ((block.next = toTick(block.periodStart + cycle.edges[block.edge].offset)) <= t) {
        if (++block.edge < cycle.edges.size()) continue;
        block.edge = 0;
        block.periodStart += cycle.period;
    }
    put(block, cycle.edges[(block.edge > 0 ? block.edge : cycle.edges.size()) - 1].outputs);  // of the last one
}

/// By asking the block.
void Clock::update(Block& block, Tick t) {
    const SignalConnection& c = *block.connection;
    const std::span<const double> inputs = inputsOf(c);
    outputs_.clear();
    if (block.process) {
        for (const int output : c.outputs)
            outputs_.push_back(output < 0 ? 0.0 : signals_[static_cast<std::size_t>(output)]);
        if (auto done = block.process->advance(t, inputs, outputs_); !done) return fail(done.error(), block, t);
        block.next = block.process->next(t);
    } else {
        outputs_.assign(c.outputs.size(), 0.0);
        c.block->evaluate(t, inputs, outputs_);
        block.next = c.block->nextInstant(t, inputs);
    }
    put(block, outputs_);
}

void Clock::evaluate(Block& block, Tick t) {
    if (!block.cycle) return update(block, t);
    const SignalCycle& cycle = *block.cycle;
    do {
        put(block, cycle.edges[block.edge].outputs);
        lastEdge_ = block.periodStart + cycle.edges[block.edge].offset;
        if (++block.edge == cycle.edges.size()) {
            block.edge = 0;
            block.periodStart += cycle.period;
        }
        block.next = toTick(block.periodStart + cycle.edges[block.edge].offset);
    } while (block.next <= t && !stopped());
}

void Clock::put(const Block& block, std::span<const double> outputs) {
    const std::vector<int>& places = block.connection->outputs;
    for (std::size_t i = 0; i < outputs.size(); ++i) {
        if (places[i] < 0) continue;
        const auto place = static_cast<std::size_t>(places[i]);
        if (signals_[place] != outputs[i]) change(place, outputs[i]);
    }
}

void Clock::change(std::size_t place, double value) {
    double& signal = signals_[place];
    if ((signal > 0.5) != (value > 0.5)) gates_ ^= gateKeys_[place];
    state_ ^= valueWord(place, signal) ^ valueWord(place, value);
    signal = value;
    ++version_;
    for (const std::size_t reader : readers_[place]) blocks_[reader].due = true;
}

}  // namespace hedgerow

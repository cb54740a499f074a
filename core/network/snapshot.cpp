#include "network/snapshot.h"

#include <map>
#include <set>
#include <tuple>

#include <fmt/format.h>

namespace hedgerow {

namespace {

/// Numbers the things of each part in their order.
class Numbers {
public:
    int of(const std::string& part) { return next_[part]++; }

private:
    std::map<std::string, int> next_;
};

}  // namespace

std::vector<double> Snapshot::values() const {
    std::vector<double> all;
    for (const State& state : states) all.push_back(state.value);
    return all;
}

Snapshot Snapshot::later(Tick by) const {
    const auto moved = [by](Tick& t) {
        if (t != neverTick) t += by;
    };
    Snapshot all = *this;
    moved(all.t);
    for (Piece& piece : all.pieces) moved(piece.entered);
    for (Block& block : all.blocks)
        for (auto& [name, entry] : block.memory)
            if (entry.sort == MemoryEntry::Sort::instant)
                for (Tick& t : entry.wholes) moved(t);
    return all;
}

Carried carriedInto(const Network& network, const Snapshot& from) {
    Carried carried;
    std::map<std::pair<std::string_view, std::string_view>, const Snapshot::State*> states;
    for (const Snapshot::State& state : from.states) states[{state.part, state.name}] = &state;
    for (const StateInfo& info : network.states) {
        const auto found = states.find({info.part, info.name});
        const bool known = found != states.end();
        carried.knownStates.push_back(known);
        if (!known) {
            carried.states.push_back(info.initial);
            carried.missing.push_back(info.part + "." + info.name);
            continue;
        }
        const Snapshot::State& was = *found->second;
        const bool moved = was.storage != info.storage && was.storage > 0 && info.storage > 0;
        carried.states.push_back(moved ? was.value * (was.storage / info.storage) : was.value);
        states.erase(found);
    }
    for (const auto& [key, state] : states) carried.leftOver.push_back(state->part + "." + state->name);

    std::map<std::pair<std::string_view, int>, const Snapshot::Piece*> pieces;
    for (const Snapshot::Piece& piece : from.pieces) pieces[{piece.part, piece.number}] = &piece;
    carried.signalValues.assign(static_cast<std::size_t>(network.signalCount), 0.0);
    Numbers pieceNumbers, blockNumbers;
    for (const auto& element : network.elements) {
        const auto found = pieces.find({element->part(), pieceNumbers.of(element->part())});
        const bool known = found != pieces.end() && found->second->segments == element->segmentCount();
        carried.segments.push_back(known ? found->second->segment : -1);
        carried.entered.push_back(known ? found->second->entered : from.t);
        carried.gates.push_back(known ? found->second->gate : -1);
        if (known && element->logicSignal() >= 0)
            carried.signalValues[static_cast<std::size_t>(element->logicSignal())] = found->second->drives;
    }
    std::map<std::pair<std::string_view, int>, const Snapshot::Block*> blocks;
    for (const Snapshot::Block& block : from.blocks) blocks[{block.part, block.number}] = &block;
    for (const SignalConnection& connection : network.signalBlocks) {
        const auto found = blocks.find({connection.part, blockNumbers.of(connection.part)});
        if (found == blocks.end()) {
            carried.memories.emplace_back();
            carried.missing.push_back(connection.part);
            continue;
        }
        const Snapshot::Block& block = *found->second;
        carried.memories.push_back(block.memory);
        for (std::size_t i = 0; i < connection.outputs.size() && i < block.outputs.size(); ++i)
            if (connection.outputs[i] >= 0)
                carried.signalValues[static_cast<std::size_t>(connection.outputs[i])] = block.outputs[i];
        blocks.erase(found);
    }
    for (const auto& [key, block] : blocks) carried.leftOver.push_back(block->part);
    return carried;
}

}  // namespace hedgerow

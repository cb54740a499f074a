#pragma once
// Where a simulation stands at an instant, by names: enough for the same network, or for another that shares parts with
// it, to go on from there.

#include <string>
#include <vector>

#include "base/memory.h"
#include "base/time.h"
#include "network/network.h"

namespace hedgerow {

struct Snapshot {
    /// A voltage, a current or what a continuous signal remembers. Charge and flux are value times storage.
    struct State {
        std::string part = {}, name = {};
        double value = 0;
        double storage = 0;  ///< C in F, L in H, or a thermal capacitance in J/K
    };
    /// A piece of a part: the first one of a part has number 0.
    struct Piece {
        std::string part = {};
        int number = 0;
        int segments = 1;  ///< it has so many
        int segment = 0;
        Tick entered = 0;   ///< since when it is in it
        bool gate = false;  ///< the gate it acts by: a signal that has changed may still be on its way
        double drives = 0;  ///< the signal that it sets, where it sets one
    };
    /// A block of the control: the first one of a part has number 0.
    struct Block {
        std::string part = {};
        int number = 0;
        std::vector<double> outputs = {};
        MemoryRecord memory = {};    ///< what it remembers, instants counted from t = 0
        MemoryRecord restarts = {};  ///< the part of it that a run from t = 0 may take up
    };
    Tick t = 0;
    std::vector<State> states;
    std::vector<Piece> pieces;
    std::vector<Block> blocks;

    /// The values of all states, in the order of the network.
    std::vector<double> values() const;
    /// The same some ticks later: all instants are moved.
    Snapshot later(Tick by) const;
};

/// What a network takes from a snapshot, in its own order.
struct Carried {
    std::vector<double> states;     ///< charge and flux stay where a storage changes
    std::vector<char> knownStates;  ///< 0 where the snapshot lacks a state: the initial value stands there
    std::vector<int> segments;      ///< per element; -1 where the snapshot does not know
    std::vector<Tick> entered;      ///< per element
    std::vector<int> gates;         ///< per element: 0 or 1; -1 where the snapshot does not know
    std::vector<double> signalValues;
    std::vector<MemoryRecord> memories;  ///< per signal block
    std::vector<std::string> missing;    ///< "C1.v": of the network, not in the snapshot
    std::vector<std::string> leftOver;   ///< of the snapshot, not in the network
};
Carried carriedInto(const Network& network, const Snapshot& from);

}  // namespace hedgerow

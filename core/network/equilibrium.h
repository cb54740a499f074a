#pragma once
// New states in equilibrium: where states that a network has and a snapshot lacks would rest while all others are held.

#include <functional>
#include <vector>

#include "network/network.h"
#include "network/snapshot.h"

namespace hedgerow {

/// A network in which only some states are left: the others are constant sources of their values, all other sources
/// stay as they are at one instant, and no gate turns and no signal changes. It refers to the network it was made of.
class HeldNetwork {
public:
    /// @param states  values of all states, V, A or K
    /// @param free    per state, whether it is left
    HeldNetwork(const Network& of, Tick t, const Carried& carried, const std::vector<int>& segments);
    const Network& network() const { return held_; }
    /// The states of the network it was made of. @param rest  one per state that is left
    std::vector<double> all(const std::vector<double>& rest) const;

private:
    Network held_;
    std::vector<double> values_;
    std::vector<int> places_;  ///< per state of the network it was made of: among those that are left, or -1
};

/// Finds states in which nothing changes, as Engine::operatingPoint does.
using RestOf = std::function<Result<std::vector<double>>(const Network&)>;

/// The states of `network` with those that `carried` does not know at rest: x' = 0 of these, with all others, sources
/// and gates held as they are at `t`. Where there is no such rest, they keep their initial values.
/// Temperatures keep their initial values: they follow the mean of the losses, not those of one instant.
/// @param segments  per element, those the gates ask for
/// @param heatToo   temperatures rest at the losses of this instant all the same: a guess for a search
std::vector<double> withNewAtRest(const Network& network, Tick t, const Carried& carried,
                                  const std::vector<int>& segments, const RestOf& restOf, bool heatToo = false);

}  // namespace hedgerow

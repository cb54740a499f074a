#include "network/recurrence.h"

#include "network/network.h"

namespace hedgerow {

std::vector<PartRecurrence> recurrencesOf(const Network& network) {
    std::vector<PartRecurrence> all;
    for (std::size_t i = 0; i < network.sources.size(); ++i)
        for (const Recurrence& one : network.sources[i]->recurrences())
            all.push_back({i < network.sourceParts.size() ? network.sourceParts[i] : "", one});
    for (const SignalConnection& connection : network.signalBlocks)
        for (const Recurrence& one : connection.block->recurrences()) all.push_back({connection.part, one});
    return all;
}

}  // namespace hedgerow

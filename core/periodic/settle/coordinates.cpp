#include "periodic/settle/coordinates.h"

#include <cmath>

#include <fmt/format.h>

namespace hedgerow::settle {

namespace {

bool isLogic(double value) { return value == 0.0 || value == 1.0; }
/// Counts and numbers of states come in whole numbers: where two differ, they are no two values of one quantity that
/// moves a little.
bool countsOn(double a, double b) { return a != b && a == std::floor(a) && b == std::floor(b); }

/// "REG1.integral", of a task or a part; "an output of T1 on its way".
std::string nameOf(const std::string& part, const std::string& entry, std::size_t index, std::size_t count) {
    if (entry == "waiting") return fmt::format("an output of {} on its way", part);
    const std::string name = entry.find('.') != std::string::npos ? entry : part + "." + entry;
    return count > 1 ? fmt::format("{} {}", name, index + 1) : name;
}

}  // namespace

std::vector<Coordinate> coordinatesOf(const Snapshot& snapshot, const Network& network) {
    std::vector<Coordinate> all;
    for (std::size_t i = 0; i < snapshot.states.size(); ++i) {
        const Snapshot::State& state = snapshot.states[i];
        const StateInfo& info = network.states[i];
        const bool voltage = info.sort == StateSort::capacitorVoltage, current = info.sort == StateSort::windingCurrent;
        all.push_back({.sort = Coordinate::Sort::state,
                       .place = i,
                       .name = state.part + "." + state.name,
                       .unit = info.heat ? "K"
                               : voltage ? "V"
                               : current ? "A"
                                         : "",
                       .heat = info.heat});
    }
    for (std::size_t b = 0; b < snapshot.blocks.size(); ++b) {
        const Snapshot::Block& block = snapshot.blocks[b];
        for (std::size_t k = 0; k < block.outputs.size(); ++k)
            if (!isLogic(block.outputs[k]))
                all.push_back({.sort = Coordinate::Sort::output,
                               .place = b,
                               .index = k,
                               .name = fmt::format("the output of {}", block.part)});
        for (const auto& [name, entry] : block.memory) {
            if (entry.sort == MemoryEntry::Sort::number)
                for (std::size_t k = 0; k < entry.numbers.size(); ++k)
                    if (std::isfinite(entry.numbers[k]))
                        all.push_back({.sort = Coordinate::Sort::number,
                                       .place = b,
                                       .entry = name,
                                       .index = k,
                                       .name = nameOf(block.part, name, k, entry.numbers.size())});
            if (entry.sort == MemoryEntry::Sort::instant)
                for (std::size_t k = 0; k < entry.wholes.size(); ++k)
                    if (entry.wholes[k] != neverTick)
                        all.push_back({.sort = Coordinate::Sort::instant,
                                       .place = b,
                                       .entry = name,
                                       .index = k,
                                       .name = nameOf(block.part, name, k, entry.wholes.size()),
                                       .unit = "s"});
        }
    }
    return all;
}

Eigen::VectorXd valuesOf(const Snapshot& snapshot, const std::vector<Coordinate>& coordinates) {
    Eigen::VectorXd values(static_cast<Eigen::Index>(coordinates.size()));
    for (std::size_t i = 0; i < coordinates.size(); ++i) {
        const Coordinate& c = coordinates[i];
        double value = std::nan("");
        if (c.sort == Coordinate::Sort::state) {
            value = snapshot.states[c.place].value;
        } else {
            const Snapshot::Block& block = snapshot.blocks[c.place];
            const auto entry = block.memory.find(c.entry);
            if (c.sort == Coordinate::Sort::output) {
                value = block.outputs[c.index];
            } else if (entry != block.memory.end()) {
                if (c.sort == Coordinate::Sort::number && c.index < entry->second.numbers.size())
                    value = entry->second.numbers[c.index];
                if (c.sort == Coordinate::Sort::instant && c.index < entry->second.wholes.size() &&
                    entry->second.wholes[c.index] != neverTick)
                    value = toSeconds(entry->second.wholes[c.index] - snapshot.t);
            }
        }
        values(static_cast<Eigen::Index>(i)) = value;
    }
    return values;
}

void setValue(Snapshot& snapshot, const Coordinate& c, double value) {
    if (c.sort == Coordinate::Sort::state) {
        snapshot.states[c.place].value = value;
        return;
    }
    Snapshot::Block& block = snapshot.blocks[c.place];
    if (c.sort == Coordinate::Sort::output) {
        block.outputs[c.index] = value;
        return;
    }
    // A list may be shorter now than where the coordinates were taken.
    const auto entry = block.memory.find(c.entry);
    if (entry == block.memory.end()) return;
    if (c.sort == Coordinate::Sort::number && c.index < entry->second.numbers.size())
        entry->second.numbers[c.index] = value;
    if (c.sort == Coordinate::Sort::instant && c.index < entry->second.wholes.size())
        entry->second.wholes[c.index] = value >= 0 ? later(snapshot.t, toTicks(value)) : snapshot.t + toTicks(value);
}

std::string differenceOf(const Snapshot& a, const Snapshot& b) {
    for (std::size_t i = 0; i < a.pieces.size(); ++i) {
        const Snapshot::Piece &x = a.pieces[i], &y = b.pieces[i];
        if (x.segment != y.segment || x.gate != y.gate || x.drives != y.drives)
            return fmt::format("{} is in another piece of its curve", x.part);
    }
    for (std::size_t i = 0; i < a.blocks.size(); ++i) {
        const Snapshot::Block &x = a.blocks[i], &y = b.blocks[i];
        for (std::size_t k = 0; k < x.outputs.size(); ++k)
            if ((isLogic(x.outputs[k]) || isLogic(y.outputs[k])) && (x.outputs[k] > 0.5) != (y.outputs[k] > 0.5))
                return fmt::format("{} shows another value", x.part);
        for (std::size_t k = 0; k < x.outputs.size(); ++k)
            if (countsOn(x.outputs[k], y.outputs[k])) return fmt::format("{} shows another value", x.part);
        if (x.memory.size() != y.memory.size()) return fmt::format("{} remembers something else", x.part);
        for (const auto& [name, entry] : x.memory) {
            const auto other = y.memory.find(name);
            if (other == y.memory.end() || other->second.numbers.size() != entry.numbers.size() ||
                other->second.wholes.size() != entry.wholes.size())
                return fmt::format("{}: '{}' is another one", x.part, name);
            if (Memory::isElapsed(name, entry)) continue;
            if (entry.sort == MemoryEntry::Sort::number)
                for (std::size_t k = 0; k < entry.numbers.size(); ++k)
                    if (countsOn(entry.numbers[k], other->second.numbers[k]))
                        return fmt::format("{}: '{}' is another one", x.part, name);
            if (entry.sort == MemoryEntry::Sort::whole || entry.sort == MemoryEntry::Sort::flag)
                if (entry.wholes != other->second.wholes) return fmt::format("{}: '{}' is another one", x.part, name);
            if (entry.sort == MemoryEntry::Sort::instant)
                for (std::size_t k = 0; k < entry.wholes.size(); ++k)
                    if ((entry.wholes[k] == neverTick) != (other->second.wholes[k] == neverTick))
                        return fmt::format("{}: '{}' is another one", x.part, name);
        }
    }
    return "";
}

}  // namespace hedgerow::settle

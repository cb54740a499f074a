#pragma once
// What parts of the control remember, as entries with a name and a type. A part describes its memory once, by visiting
// it; the description serves to put it down and to take it up again.
//
// Invariants
//  1. What is taken up has the name, the type, the length and the range that the part states; else the part keeps what
//     it has. Constants, bounds and sizes are never part of a memory.
//  2. What belongs together is taken up together or not at all (Memory::together).

#include <concepts>
#include <cstdint>
#include <functional>
#include <limits>
#include <map>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/time.h"

namespace hedgerow {

struct MemoryEntry {
    enum class Sort : std::uint8_t { number, whole, flag, instant };
    Sort sort = Sort::number;
    std::vector<double> numbers = {};       ///< of sort number
    std::vector<std::int64_t> wholes = {};  ///< of the other sorts; instants in ticks
    bool operator==(const MemoryEntry&) const = default;
};
using MemoryRecord = std::map<std::string, MemoryEntry, std::less<>>;

class Memory {
public:
    using Visit = std::function<void(Memory&)>;
    /// Whether instants count: they do within one run, not for a run that starts anew at t = 0.
    enum class Instants : std::uint8_t { kept, left };

    static MemoryRecord put(const Visit& visit, Instants instants);
    /// Takes up what fits. @return names of entries that did not fit, or that nothing asked for
    static std::vector<std::string> take(const MemoryRecord& record, const Visit& visit, Instants instants);

    /// True while values are being taken up: a part then makes of them what it derives from them.
    bool reading() const { return way_ == Way::read; }
    bool keepsInstants() const { return instants_ == Instants::kept; }

    /// Finite numbers.
    void number(std::string_view name, double& value) { numbers(name, {&value, 1}); }
    void numbers(std::string_view name, std::span<double> values) { numbers(name, values, true); }
    /// Any numbers, infinite ones and those that are none too.
    void anyNumbers(std::string_view name, std::span<double> values) { numbers(name, values, false); }
    void flag(std::string_view name, bool& value);
    template <std::integral Whole>
    void whole(std::string_view name, Whole& value, std::int64_t least, std::int64_t most) {
        auto wide = static_cast<std::int64_t>(value);
        wholes(name, {&wide, 1}, least, most);
        if (reading()) value = static_cast<Whole>(wide);
    }
    void wholes(std::string_view name, std::span<std::int64_t> values, std::int64_t least, std::int64_t most);
    /// How many times something was done since the start. It serves as a clock: other than any other whole number it
    /// need not come again in a periodic run.
    void elapsed(std::int64_t& count) { whole(elapsedName, count, 0, std::int64_t{1} << 62); }
    static constexpr std::string_view elapsedName = "samples";
    static bool isElapsed(std::string_view name, const MemoryEntry& entry) {
        return entry.sort == MemoryEntry::Sort::whole &&
               (name == elapsedName || (name.ends_with(elapsedName) && name[name.size() - elapsedName.size() - 1] == '.'));
    }
    void instant(std::string_view name, Tick& value) { scalars(name, {&value, 1}, MemoryEntry::Sort::instant, range); }
    /// Lists whose length is part of the memory, up to `most`.
    void instants(std::string_view name, std::vector<Tick>& values, std::size_t most);
    void list(std::string_view name, std::vector<double>& values, std::size_t most);
    void list(std::string_view name, std::vector<std::int64_t>& values, std::size_t most, std::int64_t greatest);

    /// Entries of a part within another: their names begin with `name` and a point.
    void inside(std::string_view name, const Visit& visit);
    /// Entries that are taken up together or not at all, whatever becomes of the others.
    void together(const Visit& visit);

private:
    enum class Way : std::uint8_t { write, check, read };
    struct Range {
        std::int64_t least, most;
    };
    static constexpr Range range{std::numeric_limits<std::int64_t>::min(), std::numeric_limits<std::int64_t>::max()};
    Memory(Way way, Instants instants) : way_(way), instants_(instants) {}

    void numbers(std::string_view name, std::span<double> values, bool finite);
    void scalars(std::string_view name, std::span<std::int64_t> values, MemoryEntry::Sort sort, Range bounds);
    const MemoryEntry* find(std::string_view name, MemoryEntry::Sort sort);
    const MemoryEntry* miss(std::string_view name);
    std::string full(std::string_view name) const { return prefix_ + std::string(name); }

    Way way_;
    Instants instants_;
    std::string prefix_;
    MemoryRecord written_;
    const MemoryRecord* record_ = nullptr;
    std::vector<std::string> misfits_, used_;
    bool fits_ = true;
};

}  // namespace hedgerow

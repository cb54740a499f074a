#include "runs/price_book.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>

#include <nlohmann/json.hpp>

#include "base/file.h"
#include "formats/file.h"

namespace hedgerow {

namespace {

using Json = nlohmann::json;

constexpr double keeps = 0.9;            ///< of the weight of older runs, when one is added
constexpr double spreadAtFirst = 0.40;   ///< of the logarithm, before anything is known
constexpr double leastSpread = 0.09;     ///< the machine has other things to do
constexpr double worthAtFirst = 3;       ///< as many runs
constexpr double nineOfTen = 1.64;       ///< standard deviations
constexpr double mostFactor = 3;         ///< ln of it: what is further off was something else
constexpr std::size_t mostEntries = 1000, mostBytes = std::size_t{1} << 20;

}  // namespace

std::filesystem::path PriceBook::usualFile() {
    if (const char* state = std::getenv("XDG_STATE_HOME"); state && *state)
        return std::filesystem::path(state) / "hedgerow" / "prices.json";
    const char* const home = std::getenv("HOME");
    return std::filesystem::path(home ? home : ".") / ".local" / "state" / "hedgerow" / "prices.json";
}

PriceBook PriceBook::read(const std::filesystem::path& file) {
    PriceBook book;
    std::error_code failed;
    const auto size = std::filesystem::file_size(file, failed);
    if (failed || size > mostBytes) return book;
    const auto text = readFile(file, mostBytes);
    if (!text) return book;
    const Json json = Json::parse(*text, nullptr, false);
    if (!json.is_object() || !json.contains("kinds") || !json["kinds"].is_object()) return book;
    for (const auto& [kind, item] : json["kinds"].items()) {
        if (!item.is_array() || item.size() != 4 || book.entries_.size() >= mostEntries) continue;
        if (!std::all_of(item.begin(), item.end(), [](const Json& one) { return one.is_number(); })) continue;
        Entry entry{.weight = item[0].get<double>(), .mean = item[1].get<double>(), .square = item[2].get<double>(),
                    .count = 0};
        const double count = item[3].get<double>();
        const bool sound = std::isfinite(entry.weight) && entry.weight > 0 && entry.weight <= 1 / (1 - keeps) &&
                           std::abs(entry.mean) <= mostFactor && entry.square >= 0 &&
                           entry.square <= mostFactor * mostFactor && count >= 1 && count < 1e9;
        if (!sound) continue;
        entry.count = static_cast<int>(count);
        book.entries_[kind] = entry;
    }
    return book;
}

Status PriceBook::write(const std::filesystem::path& file) const {
    Json json{{"what", "how long runs took on this machine against what was expected: weight, mean and mean square of "
                       "the logarithm of the ratio, number of runs"},
              {"kinds", Json::object()}};
    for (const auto& [kind, entry] : entries_)
        json["kinds"][kind] = {entry.weight, entry.mean, entry.square, entry.count};
    std::error_code failed;
    std::filesystem::create_directories(file.parent_path(), failed);
    return writeFileAtomically(file, json.dump(1, ' ', false, Json::error_handler_t::replace) + "\n");
}

void PriceBook::learn(const std::string& kind, double expected, double actual) {
    if (!(expected > 0) || !(actual > 0)) return;
    const double off = std::log(actual / expected);
    if (!std::isfinite(off) || std::abs(off) > mostFactor) return;
    Entry& entry = entries_[kind];
    const double old = keeps * entry.weight;
    entry.mean = (old * entry.mean + off) / (old + 1);
    entry.square = (old * entry.square + off * off) / (old + 1);
    entry.weight = old + 1;
    ++entry.count;
}

PriceBook::Factor PriceBook::factor(const std::string& kind) const {
    Entry entry;
    if (const auto found = entries_.find(kind); found != entries_.end()) entry = found->second;
    // As if some runs had been right with the spread that is expected at first.
    const double all = entry.weight + worthAtFirst, mean = entry.weight * entry.mean / all;
    const double variance =
        (entry.weight * std::max(0.0, entry.square - entry.mean * entry.mean) +
         worthAtFirst * spreadAtFirst * spreadAtFirst / (1 + entry.weight)) /
        all;
    const double spread = nineOfTen * std::sqrt(variance + leastSpread * leastSpread);
    return {.likely = std::exp(mean), .low = std::exp(mean - spread), .high = std::exp(mean + spread), .known = entry.count};
}

}  // namespace hedgerow

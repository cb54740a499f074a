#include "runs/state_file.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "formats/file.h"
#include "formats/hedge/json_place.h"

namespace hedgerow {

using Json = nlohmann::ordered_json;

namespace {

constexpr int version = 3;  ///< 2 kept states without names, 1 the memory of the control too

/// JSON has no infinities: they stand as words.
Json jsonOf(double value) {
    if (std::isfinite(value)) return value;
    return std::isnan(value) ? "nan" : value > 0 ? "inf" : "-inf";
}
std::optional<double> numberOf(const Json& json) {
    if (json.is_number()) return json.get<double>();
    if (!json.is_string()) return {};
    const auto& word = json.get_ref<const std::string&>();
    if (word == "inf") return HUGE_VAL;
    if (word == "-inf") return -HUGE_VAL;
    return word == "nan" ? std::optional(std::nan("")) : std::nullopt;
}

constexpr std::pair<MemoryEntry::Sort, const char*> sortNames[] = {{MemoryEntry::Sort::number, "number"},
                                                                   {MemoryEntry::Sort::whole, "whole"},
                                                                   {MemoryEntry::Sort::flag, "flag"}};

/// {"name": ["number", 1.5], ...}: an entry is its type and its values.
Json jsonOf(const MemoryRecord& record) {
    Json all = Json::object();
    for (const auto& [name, entry] : record)
        for (const auto& [sort, word] : sortNames)
            if (entry.sort == sort) {
                Json& values = all[name] = Json::array({word});
                for (const double value : entry.numbers) values.push_back(jsonOf(value));
                for (const std::int64_t value : entry.wholes) values.push_back(value);
            }
    return all;
}

std::optional<MemoryEntry> entryOf(const Json& json) {
    if (!json.is_array() || json.empty() || !json[0].is_string()) return {};
    MemoryEntry entry;
    const auto sort = std::find_if(std::begin(sortNames), std::end(sortNames),
                                   [&](const auto& known) { return json[0] == known.second; });
    if (sort == std::end(sortNames)) return {};
    entry.sort = sort->first;
    for (std::size_t i = 1; i < json.size(); ++i) {
        if (entry.sort == MemoryEntry::Sort::number) {
            const auto value = numberOf(json[i]);
            if (!value) return {};
            entry.numbers.push_back(*value);
        } else {
            if (!json[i].is_number_integer()) return {};
            entry.wholes.push_back(json[i].get<std::int64_t>());
        }
    }
    return entry;
}

std::optional<MemoryRecord> recordOf(const Json& json) {
    MemoryRecord record;
    if (!json.is_object()) return {};
    for (const auto& [name, value] : json.items()) {
        auto entry = entryOf(value);
        if (!entry) return {};
        record[name] = std::move(*entry);
    }
    return record;
}

}  // namespace

Status writeStates(const std::filesystem::path& path, const Snapshot& snapshot) {
    Json list = Json::array(), control = Json::object();
    for (const Snapshot::State& state : snapshot.states)
        list.push_back({{"part", state.part}, {"name", state.name}, {"value", jsonOf(state.value)}});
    for (const Snapshot::Block& block : snapshot.blocks)
        if (!block.restarts.empty()) control[block.part] = jsonOf(block.restarts);
    Json all{{"hedgerow-state", version}, {"time", toSeconds(snapshot.t)}, {"states", std::move(list)}};
    if (!control.empty()) all["control"] = std::move(control);
    return writeFileAtomically(path, all.dump(1, ' ', false, Json::error_handler_t::replace) + "\n");
}

Result<StoredEnd> readStates(std::string_view text, const std::string& name, const Network& network) {
    const auto fault = [&](const std::string& what) {
        return Error{ErrorCode::syntax, fmt::format("{}: {}", name, what), {}, {}, "start"};
    };
    if (const std::string beyond = beyondBounds(text); !beyond.empty()) return fault("the text " + beyond);
    const Json json = Json::parse(text, nullptr, false);
    if (json.is_object() && json.contains("hedgerow-state") && json["hedgerow-state"].is_number() &&
        json["hedgerow-state"] > version)
        return fault("a newer version of Hedgerow wrote it");
    if (!json.is_object() || !json.contains("hedgerow-state") || !json.contains("states") || !json["states"].is_array())
        return fault("this is no stored end of a run");
    const bool named = json["hedgerow-state"].is_number() && json["hedgerow-state"] >= 3;
    std::map<std::string, std::map<std::string, double>> byPart;  // a state without a name has its number
    for (const Json& item : json["states"]) {
        if (!item.is_object() || !item.contains("part") || !item["part"].is_string() || !item.contains("value") ||
            !item["value"].is_number() || !std::isfinite(item["value"].get<double>()))
            return fault("each state needs a part and a value");
        if (named && (!item.contains("name") || !item["name"].is_string())) return fault("each state needs a name");
        auto& ofPart = byPart[item["part"].get<std::string>()];
        const std::string key = named ? item["name"].get<std::string>() : std::to_string(ofPart.size());
        if (!ofPart.emplace(key, item["value"].get<double>()).second)
            return fault(fmt::format("{} has two states called {}", item["part"].get<std::string>(), key));
    }
    std::map<std::string, std::size_t> numbers;
    std::vector<double> states;
    for (const StateInfo& state : network.states) {
        states.push_back(state.initial);
        const auto found = byPart.find(state.part);
        if (found == byPart.end()) continue;
        const auto value = found->second.find(named ? state.name : std::to_string(numbers[state.part]++));
        if (value == found->second.end()) {
            if (named) continue;
            return fault(state.part + " has fewer states there than here");
        }
        states.back() = value->second;
        found->second.erase(value);
        numbers.try_emplace(state.part, 0);
    }
    for (const auto& [part, left] : byPart)
        if (!left.empty())
            return fault(!numbers.contains(part) ? "there is no " + part + " with states in this circuit"
                                                 : part + " has more states there than here");
    StoredEnd end{std::move(states), std::vector<MemoryRecord>(network.signalBlocks.size())};
    const Json control = json.value("control", Json::object());
    if (json["hedgerow-state"] == 1 && !control.empty())
        return fault(
            "an older version wrote it, and its memory of the control has no names: write it anew, or take \"control\" "
            "out of it to start the control from its own values");
    if (!control.is_object()) return fault("each part of the control needs its memory");
    for (const auto& [part, json] : control.items()) {
        const auto block = std::find_if(network.signalBlocks.begin(), network.signalBlocks.end(),
                                        [&, name = part](const SignalConnection& c) { return c.part == name; });
        if (block == network.signalBlocks.end())
            return fault("there is no " + part + " with a memory in this circuit");
        auto record = recordOf(json);
        if (!record) return fault(part + ": each entry of a memory is a type with its values");
        end.memories[static_cast<std::size_t>(block - network.signalBlocks.begin())] = std::move(*record);
    }
    return end;
}

}  // namespace hedgerow

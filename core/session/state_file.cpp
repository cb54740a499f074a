#include "session/state_file.h"

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

constexpr int version = 2;  ///< 1 kept the memory of the control as numbers without names

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

Status writeStates(const std::filesystem::path& path, const Network& network, const Standing& standing) {
    Json list = Json::array(), control = Json::object();
    for (std::size_t i = 0; i < standing.states.size(); ++i)
        list.push_back({{"part", network.states[i].part}, {"value", jsonOf(standing.states[i])}});
    for (std::size_t i = 0; i < standing.lasting.size(); ++i)
        if (!standing.lasting[i].empty()) control[network.signalBlocks[i].part] = jsonOf(standing.lasting[i]);
    Json all{{"hedgerow-state", version}, {"time", toSeconds(standing.t)}, {"states", std::move(list)}};
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
    std::map<std::string, std::vector<double>> byPart;
    for (const Json& item : json["states"]) {
        if (!item.is_object() || !item.contains("part") || !item["part"].is_string() || !item.contains("value") ||
            !item["value"].is_number() || !std::isfinite(item["value"].get<double>()))
            return fault("each state needs a part and a value");
        byPart[item["part"].get<std::string>()].push_back(item["value"].get<double>());
    }
    std::map<std::string, std::size_t> used;
    std::vector<double> states;
    for (const StateInfo& state : network.states) {
        const auto found = byPart.find(state.part);
        if (found == byPart.end()) {
            states.push_back(state.initial);
            continue;
        }
        const std::size_t at = used[state.part]++;
        if (at >= found->second.size()) return fault(state.part + " has fewer states there than here");
        states.push_back(found->second[at]);
    }
    for (const auto& [part, values] : byPart)
        if (used[part] != values.size())
            return fault(used[part] == 0 ? "there is no " + part + " with states in this circuit"
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

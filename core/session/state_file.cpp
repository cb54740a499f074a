#include "session/state_file.h"

#include <map>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "formats/file.h"

namespace hedgerow {

using Json = nlohmann::ordered_json;

Status writeStates(const std::filesystem::path& path, const Network& network, const Standing& standing) {
    Json list = Json::array(), control = Json::array();
    for (std::size_t i = 0; i < standing.states.size(); ++i)
        list.push_back({{"part", network.states[i].part}, {"value", standing.states[i]}});
    for (std::size_t i = 0; i < standing.lasting.size(); ++i)
        if (!standing.lasting[i].empty())
            control.push_back({{"part", network.signalBlocks[i].part}, {"numbers", standing.lasting[i]}});
    Json all{{"hedgerow-state", 1}, {"time", toSeconds(standing.t)}, {"states", std::move(list)}};
    if (!control.empty()) all["control"] = std::move(control);
    return writeFileAtomically(path, all.dump(1) + "\n");
}

Result<StoredEnd> readStates(const std::filesystem::path& path, const Network& network) {
    const auto fault = [&](const std::string& what) {
        return Error{ErrorCode::syntax, fmt::format("{}: {}", path.filename().string(), what), {}, {}, "start"};
    };
    auto text = readFile(path);
    if (!text) {
        Error error = text.error();
        error.field = "start";
        return error;
    }
    const Json json = Json::parse(*text, nullptr, false);
    if (!json.is_object() || !json.contains("hedgerow-state") || !json.contains("states") || !json["states"].is_array())
        return fault("this is no stored end of a run");
    std::map<std::string, std::vector<double>> byPart;
    for (const Json& item : json["states"]) {
        if (!item.is_object() || !item.contains("part") || !item["part"].is_string() || !item.contains("value") ||
            !item["value"].is_number())
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
    StoredEnd end{std::move(states), std::vector<std::vector<double>>(network.signalBlocks.size())};
    for (const Json& item : json.value("control", Json::array())) {
        const bool sound = item.is_object() && item.contains("part") && item["part"].is_string() &&
                           item.contains("numbers") && item["numbers"].is_array() &&
                           std::all_of(item["numbers"].begin(), item["numbers"].end(),
                                       [](const Json& number) { return number.is_number(); });
        if (!sound) return fault("each part of the control needs its numbers");
        for (std::size_t i = 0; i < network.signalBlocks.size(); ++i)
            if (network.signalBlocks[i].part == item["part"].get<std::string>())
                end.memories[i] = item["numbers"].get<std::vector<double>>();
    }
    return end;
}

}  // namespace hedgerow

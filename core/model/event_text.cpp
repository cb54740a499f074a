#include "model/event_text.h"

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

namespace {

/// What moves a contact: the value of a part, and the words for it.
constexpr std::string_view position = ".position";
constexpr std::pair<std::string_view, std::string_view> moves[] = {{"opens", "open"}, {"closes", "closed"}};

/// The part whose contact an event moves, and the word for it; empty where it moves none.
std::pair<std::string_view, std::string_view> contactOf(const SceneEvent& event) {
    const std::string_view target = event.target;
    if (!event.duration.empty() || !target.ends_with(position)) return {};
    for (const auto& [word, place] : moves)
        if (event.value == place) return {target.substr(0, target.size() - position.size()), word};
    return {};
}

}  // namespace

std::string eventText(const SceneEvent& event) {
    std::string text = event.at;
    if (!event.wave.empty()) text = fmt::format("{}{} at {}", text == "0" ? "" : text + ", ", event.wave, event.angle);
    if (const auto [part, word] = contactOf(event); !part.empty()) return fmt::format("{}: {} {}", text, part, word);
    text += fmt::format(": {} = {}", event.target, event.value);
    if (!event.duration.empty()) text += " over " + event.duration;
    return text;
}

Result<SceneEvent> readEventText(std::string_view text, const SceneEvent& like) {
    const auto fault = [&](std::size_t at, std::string message) {
        Error error{ErrorCode::syntax, std::move(message)};
        error.position = static_cast<int>(std::min(at, text.size()));
        return error;
    };
    SceneEvent event = like;
    const std::size_t colon = text.find(':');
    if (colon == std::string_view::npos)
        return fault(text.size(), "write when, a colon, and what becomes what: 10m: R1.r = 1.2, or 10m: Q1 opens");
    std::string_view when = text.substr(0, colon);
    event.wave.clear();
    event.angle = "0";
    const std::size_t comma = when.find(',');
    const std::size_t waveFrom = comma == std::string_view::npos ? 0 : comma + 1;
    const std::string_view wave = when.substr(waveFrom);
    const std::size_t at = wave.find(" at ");
    if (at != std::string_view::npos) {
        event.wave = trimmed(wave.substr(0, at));
        event.angle = trimmed(wave.substr(at + 4));
        when = comma == std::string_view::npos ? "0" : when.substr(0, comma);
    } else if (comma != std::string_view::npos) {
        return fault(comma, "behind the comma stands a source and an angle: V1 at 90");
    }
    event.at = trimmed(when);
    if (event.at.empty()) return fault(0, "the time is missing");
    for (const auto& [word, place] : moves) {
        const std::string_view what = trimmed(text.substr(colon + 1));
        if (!what.ends_with(word) || what.find('=') != std::string_view::npos) continue;
        const std::string_view part = trimmed(what.substr(0, what.size() - word.size()));
        if (part.empty() || part.size() + word.size() == what.size())
            return fault(colon + 1, "name the contact that moves: Q1 opens");
        event.target = std::string(part) + std::string(position);
        event.value = place;
        event.duration.clear();
        return event;
    }
    const std::size_t equal = text.find('=', colon);
    if (equal == std::string_view::npos)
        return fault(text.size(), "an equals sign is missing: R1.r = 1.2; or a contact that moves: Q1 opens");
    event.target = trimmed(text.substr(colon + 1, equal - colon - 1));
    if (event.target.empty()) return fault(colon + 1, "name a parameter, or a value of a part: R1.r");
    std::string_view value = text.substr(equal + 1);
    event.duration.clear();
    if (const std::size_t over = value.rfind(" over "); over != std::string_view::npos) {
        event.duration = trimmed(value.substr(over + 6));
        if (event.duration.empty()) return fault(text.size(), "how long the ramp takes is missing");
        value = value.substr(0, over);
    }
    event.value = trimmed(value);
    if (event.value.empty() || event.value.starts_with("over ")) return fault(equal + 1, "the new value is missing");
    return event;
}

}  // namespace hedgerow

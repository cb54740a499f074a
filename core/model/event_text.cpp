#include "model/event_text.h"

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

std::string eventText(const SceneEvent& event) {
    std::string text = event.at;
    if (!event.wave.empty()) text += fmt::format(", {} at {}", event.wave, event.angle);
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
        return fault(text.size(), "write when, a colon, and what becomes what: 10m: R1.r = 1.2");
    std::string_view when = text.substr(0, colon);
    event.wave.clear();
    event.angle = "0";
    if (const std::size_t comma = when.find(','); comma != std::string_view::npos) {
        const std::string_view wave = trimmed(when.substr(comma + 1));
        const std::size_t at = wave.find(" at ");
        if (at == std::string_view::npos)
            return fault(comma, "behind the comma stands a source and an angle: V1 at 90");
        event.wave = trimmed(wave.substr(0, at));
        event.angle = trimmed(wave.substr(at + 4));
        when = when.substr(0, comma);
    }
    event.at = trimmed(when);
    if (event.at.empty()) return fault(0, "the time is missing");
    const std::size_t equal = text.find('=', colon);
    if (equal == std::string_view::npos) return fault(text.size(), "an equals sign is missing: R1.r = 1.2");
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

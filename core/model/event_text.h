#pragma once
// Events of a scene as one line of text, as they are typed and shown.

#include <string>
#include <string_view>

#include "base/result.h"
#include "model/project.h"

namespace hedgerow {

/// The value of a contact that such a line moves: open or closed.
inline constexpr std::string_view positionKey = "position";

/// "10m: R1.r = 1.2", "12m: Vin = 31 over 5m", "20m, V1 at 90: K1.value = 1", "50m: Q1 opens".
std::string eventText(const SceneEvent& event);
/// Reads such a line; the rest of `like`, which no line shows, stays. Errors carry the position.
Result<SceneEvent> readEventText(std::string_view text, const SceneEvent& like = {});

}  // namespace hedgerow

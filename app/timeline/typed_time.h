#pragma once

#include <string>

namespace hedgerow::app {

/// A time that was pointed at, as it would be typed: in digits that the width of a pixel bears out.
/// @param seconds  what it is  @param pixel  s
std::string typedTime(double seconds, double pixel);

}  // namespace hedgerow::app

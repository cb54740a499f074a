#pragma once
// What modulators with carriers have in common.

#include <functional>
#include <span>
#include <vector>

#include "parts/control/pulses.h"
#include "parts/control/signal_part.h"

namespace hedgerow::parts {

/// @param single  of one reference, which may be a value of the part
std::vector<ParameterKind> pulseParameters(bool single);
Carrier carrierOf(const NetworkBuilder& b);
/// From those parameters. `duty` gives that of a channel.
PulseProcess::Setting pulseSetting(const NetworkBuilder& b,
                                   std::function<double(std::size_t, std::span<const double>)> duty);
Status checkPulses(const std::function<double(std::string_view)>& value);

}  // namespace hedgerow::parts

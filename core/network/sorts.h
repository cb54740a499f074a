#pragma once
// What unknowns and states are.

#include <cstdint>

namespace hedgerow {

/// What an unknown is: currents, voltages and running signals of the control are compared with their own kind only.
enum class UnknownSort : std::uint8_t { current, voltage, signal };

enum class StateSort { capacitorVoltage, windingCurrent, signal };

}  // namespace hedgerow

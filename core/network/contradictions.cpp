#include "network/contradictions.h"

#include <cmath>

#include <fmt/format.h>

#include "model/quantity.h"

namespace hedgerow {

Error contradictoryStart(const StateInfo& state, double given, double becomes) {
    const bool voltage = state.sort == StateSort::capacitorVoltage;
    const char* const unit = voltage ? "V" : "A";
    return {ErrorCode::range,
            fmt::format("{} is to start at {}, but what it is joined to makes it {}: {} of {} would jump. Give values "
                        "that agree, or let the plan even out its start values",
                        state.part, formatQuantity(given, unit), formatQuantity(becomes, unit),
                        voltage ? "a charge" : "a flux",
                        formatQuantity(std::abs(becomes - given) * state.storage, voltage ? "C" : "Wb")),
            state.part,
            {},
            voltage ? "v0" : "i0"};
}

Error cutCurrent(const StateInfo& state, double current, const std::string& when) {
    return {ErrorCode::connection,
            fmt::format("{} carries {} and every path for it is open {}: give the current a way, a diode for instance",
                        state.part, formatQuantity(current, "A"), when),
            state.part};
}

}  // namespace hedgerow

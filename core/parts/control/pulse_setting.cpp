#include "parts/control/pulse_setting.h"

#include <algorithm>
#include <cmath>

namespace hedgerow::parts {

std::vector<ParameterKind> pulseParameters(bool single) {
    std::vector<ParameterKind> list;
    ParameterKind f = positive("f", "carrier frequency", "f_c", single ? "100k" : "10k", "Hz", true);
    f.least = 0.01, f.aboveLeast = false, f.most = 1e9;
    list.push_back(f);
    if (single) {
        ParameterKind duty = number("duty", "duty", "D", "0.5", "", true);
        duty.least = 0, duty.most = 1;
        list.push_back(duty);
    }
    ParameterKind dead = number("dead", "dead time", "t_dead", "0", "s");
    dead.least = 0;
    list.push_back(dead);
    ParameterKind phase = number("phase", "delay, in periods", "θ", "0");
    phase.least = -1, phase.most = 1;
    list.push_back(phase);
    list.push_back(choiceOf("carrier", "carrier",
                            single ? std::vector<std::string>{"saw", "falling saw", "triangle"}
                                   : std::vector<std::string>{"triangle", "saw", "falling saw"}));
    list.push_back(choiceOf("sampling", "reads the reference",
                            single ? std::vector<std::string>{"all the time", "once a period", "twice a period"}
                                   : std::vector<std::string>{"twice a period", "once a period"}));
    ParameterKind shortest = number("shortest", "shortest pulse", "t_min", "0", "s");
    shortest.least = 0;
    list.push_back(shortest);
    ParameterKind steps = number("steps", "steps of the counter, 0: none", "n", "0");
    steps.least = 0;
    list.push_back(steps);
    ParameterKind low = number("low", "least duty", "D_min", "0"), high = number("high", "greatest duty", "D_max", "1");
    low.least = high.least = 0, low.most = high.most = 1;
    list.push_back(low);
    list.push_back(high);
    return list;
}

Carrier carrierOf(const NetworkBuilder& b) {
    const std::string word = b.choice("carrier");
    return word == "saw" ? Carrier::saw : word == "triangle" ? Carrier::triangle : Carrier::fallingSaw;
}

PulseProcess::Setting pulseSetting(const NetworkBuilder& b,
                                   std::function<double(std::size_t, std::span<const double>)> duty) {
    PulseProcess::Setting set;
    set.period = 1 / b.value("f");
    set.start = b.value("phase") * set.period;
    set.dead = b.value("dead");
    set.shortest = b.value("shortest");
    const Carrier carrier = carrierOf(b);
    set.twice = b.choice("sampling") == "twice a period" && carrier == Carrier::triangle;
    const double low = b.value("low"), high = b.value("high"), steps = std::round(b.value("steps"));
    set.pulse = [=](std::size_t channel, std::span<const double> inputs) {
        double d = std::clamp(duty(channel, inputs), low, high);
        if (steps > 0) d = std::round(d * steps) / steps;
        return pulseOf(d, carrier);
    };
    return set;
}

Status checkPulses(const std::function<double(std::string_view)>& value) {
    if (value("dead") * value("f") >= 0.5)
        return Error{ErrorCode::range, "the dead time must be shorter than half a period", {}, {}, "dead"};
    if (value("low") >= value("high"))
        return Error{ErrorCode::range, "the least duty must be below the greatest", {}, {}, "low"};
    return {};
}

}  // namespace hedgerow::parts

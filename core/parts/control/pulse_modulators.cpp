// Modulators of several gates, and firing angles.

#include <algorithm>
#include <cmath>
#include <deque>

#include <fmt/format.h>

#include "parts/control/pulse_setting.h"

namespace hedgerow {

using namespace parts;

namespace {

/// A modulator with a description like other parts of the control, and pulses that are planned.
class PulsePart final : public SignalPart {
public:
    using Plan = std::function<PulseProcess::Setting(const NetworkBuilder& b)>;
    PulsePart(SignalKind description, Plan plan, bool carriers)
        : SignalPart((description.canBeSampled = false, description)), plan_(std::move(plan)), carriers_(carriers) {}
    Status check(const std::function<double(std::string_view)>& value) const override {
        return carriers_ ? checkPulses(value) : Status{};
    }
    void elaborate(NetworkBuilder& b) const override {
        std::vector<SignalInput> reads;
        std::vector<int> writes;
        for (const std::string& pin : inputs()) reads.push_back(b.input(pin));
        for (const std::string& pin : outputs()) writes.push_back(b.signal(pin));
        b.addSignalBlock(
            std::make_unique<ProcessBlock>([set = plan_(b)] { return std::make_unique<PulseProcess>(set); }, false),
            std::move(reads), std::move(writes));
        offerOutputs(b);
    }

private:
    Plan plan_;
    bool carriers_;
};

/// What is added to three references alike. D. G. Holmes, T. A. Lipo, 2003, ch. 6.
double commonShare(const std::string& how, std::span<const double> u) {
    const auto [least, greatest] = std::minmax({u[0], u[1], u[2]});
    if (how == "space vector") return -(least + greatest) / 2;
    if (how == "third harmonic") {
        const double square = 2.0 / 3 * (u[0] * u[0] + u[1] * u[1] + u[2] * u[2]);
        // m cos(3 theta) / 6 = 4 u_a u_b u_c / (6 m^2)
        return square > 0 ? -2.0 / 3 * u[0] * u[1] * u[2] / square : 0.0;
    }
    if (how == "clamped high") return 1 - greatest;
    if (how == "clamped low") return -1 - least;
    if (how == "clamped at peaks") return greatest >= -least ? 1 - greatest : -1 - least;
    return 0;
}

PulseProcess::Setting threePhase(const NetworkBuilder& b) {
    auto set = pulseSetting(b, [how = b.choice("common")](std::size_t channel, std::span<const double> in) {
        return (1 + in[channel] + commonShare(how, in)) / 2;
    });
    set.phases = {0, 0, 0};
    return set;
}

PulseProcess::Setting levels(const NetworkBuilder& b) {
    const auto count = static_cast<std::size_t>(std::stoi(b.choice("cells")));
    const std::string how = b.choice("carriers");
    auto set = pulseSetting(b, [=](std::size_t channel, std::span<const double> in) {
        const double half = (1 + in[0]) / 2, n = static_cast<double>(count), k = static_cast<double>(channel);
        if (channel >= count) return 0.0;
        return how == "shifted in time" ? half : half * n - k;
    });
    set.phases.assign(4, 0.0);
    for (std::size_t k = 0; k < 4; ++k) {
        if (how == "shifted in time") set.phases[k] = static_cast<double>(k) / static_cast<double>(count);
        if (how == "stacked, halves opposed" && 2 * k >= count) set.phases[k] = 0.5;
        if (how == "stacked, neighbours opposed" && k % 2 == 1) set.phases[k] = 0.5;
    }
    return set;
}

/// Two legs of half duty; the second comes late by the reference times half a period.
PulseProcess::Setting shiftedLegs(const NetworkBuilder& b) {
    PulseProcess::Setting set;
    set.period = 1 / b.value("f"), set.dead = b.value("dead");
    set.phases = {0, 0};
    set.pulse = [](std::size_t channel, std::span<const double> in) {
        const double late = channel == 0 ? 0.0 : std::clamp(in[0], 0.0, 1.0) / 2;
        return Pulse{late, late + 0.5};
    };
    return set;
}

PulseProcess::Setting byFrequency(const NetworkBuilder& b) {
    PulseProcess::Setting set;
    const double least = b.value("fmin"), greatest = b.value("fmax"), duty = b.value("duty");
    set.period = 1 / greatest, set.dead = b.value("dead");
    set.pulse = [duty](std::size_t, std::span<const double>) { return Pulse{0, duty}; };
    set.nextPeriod = [=](std::span<const double> in) { return 1 / std::clamp(in[0], least, greatest); };
    return set;
}

/// Pulses a given angle after each rising edge of a synchronising signal, and further ones spread over its period.
class FiringProcess final : public SignalProcess {
public:
    struct Setting {
        double frequency, width;  ///< Hz, and degrees
        std::size_t count;        ///< of outputs
    };
    explicit FiringProcess(const Setting& set) : set_(set), period_(1 / set.frequency), until_(set.count, 0) {}
    Status advance(Tick t, std::span<const double> in, std::span<double> out) override {
        if (in[1] > 0.5 && !(synchronised_ > 0.5)) {
            if (last_ >= 0) {
                const double measured = toSeconds(t - last_);
                // A missed or a false edge does not change the period.
                if (measured > 0.5 / set_.frequency && measured < 2 / set_.frequency) period_ = measured;
            }
            last_ = t;
            const double angle = std::clamp(in[0], 0.0, 180.0);
            for (std::size_t i = 0; i < set_.count; ++i)
                due_.push_back(
                    {later(t, toTicks(period_ *
                                      (angle / 360 + static_cast<double>(i) / static_cast<double>(set_.count)))),
                     i});
            std::sort(due_.begin(), due_.end(), [](const Due& a, const Due& b) { return a.at < b.at; });
        }
        synchronised_ = in[1];
        for (; !due_.empty() && due_.front().at <= t; due_.pop_front())
            until_[due_.front().output] = later(due_.front().at, toTicks(set_.width / 360 * period_));
        for (std::size_t i = 0; i < set_.count; ++i) out[i] = t < until_[i] ? 1 : 0;
        return {};
    }
    Tick next(Tick t) const override {
        Tick first = due_.empty() ? neverTick : due_.front().at;
        for (const Tick end : until_)
            if (end > t) first = std::min(first, end);
        return first;
    }
    void memory(Memory& all) override {
        all.number("period", period_), all.number("synchronised", synchronised_), all.instant("last edge", last_);
        std::vector<Tick> until = until_, at;
        std::vector<std::int64_t> outputs;
        for (const Due& due : due_) at.push_back(due.at), outputs.push_back(static_cast<std::int64_t>(due.output));
        all.instants("pulses end", until, until_.size()), all.instants("due", at, mostDue);
        all.list("of output", outputs, mostDue, static_cast<std::int64_t>(set_.count) - 1);
        if (!all.reading()) return;
        std::copy(until.begin(), until.end(), until_.begin());
        due_.clear();
        for (std::size_t i = 0; i < std::min(at.size(), outputs.size()); ++i)
            due_.push_back({at[i], static_cast<std::size_t>(outputs[i])});
    }

private:
    static constexpr std::size_t mostDue = 4096;  ///< pulses on their way: those of two periods
    struct Due {
        Tick at;
        std::size_t output;
    };
    Setting set_;
    double period_, synchronised_ = 0;
    Tick last_ = -1;
    std::deque<Due> due_;
    std::vector<Tick> until_;
};

ParameterKind deadTime() {
    ParameterKind dead = number("dead", "dead time", "t_dead", "0", "s");
    dead.least = 0;
    return dead;
}

void addFiring(PartLibrary& library, std::size_t count) {
    std::vector<std::string> outputs;
    for (std::size_t i = 1; i <= count; ++i) outputs.push_back(fmt::format("g{}", i));
    SignalKind kind{
        fmt::format("firing{}", count),
        count == 2 ? "Firing angle, two pulses" : "Firing angle, six pulses",
        "FA",
        count == 2 ? std::vector<std::string>{"firing", "phase control"}
                   : std::vector<std::string>{"firing six", "six-pulse control"},
        "Thyristor pulses at an angle behind a synchronising edge",
        fmt::format("At each rising edge of 'sync', which is where natural commutation would begin, the period "
                    "is measured; g1 comes the angle α, in degrees, later, and the others follow {}° apart. "
                    "α is read at the edge. Make the edge with a comparator of a measured voltage.",
                    360 / count),
        {"alpha", "sync"},
        outputs,
        "α",
        {recurring(positive("f", "frequency at first", "f_0", "50", "Hz", true)),
         positive("width", "width of a pulse, degrees", "w", "30")},
        "g_k on from (α/360 + (k−1)/n) T after the edge"};
    kind.sensed = {"alpha"};
    library.add(std::make_unique<ProcessPart>(
        kind,
        [count](const NetworkBuilder& b) -> ProcessPart::MakeProcess {
            return [set = FiringProcess::Setting{b.value("f"), b.value("width"), count}] {
                return std::make_unique<FiringProcess>(set);
            };
        },
        true));
}

}  // namespace

void registerPulseModulators(PartLibrary& library) {
    std::vector<ParameterKind> list = pulseParameters(false);
    list.insert(list.begin() + 1, choiceOf("common", "added to all three",
                                           {"space vector", "nothing", "third harmonic", "clamped at peaks",
                                            "clamped high", "clamped low"}));
    library.add(std::make_unique<PulsePart>(
        SignalKind{
            "modulator3",
            "Three-phase modulator",
            "M",
            {"space vector modulator", "svpwm", "three-phase pwm"},
            "Gates of three legs from three references",
            "The references run from −1 to 1, of half the direct voltage. A common share is added to all three: "
            "that of the space vector centres the pulses and reaches 2/√3 times the plain range; a third harmonic "
            "reaches as far; clamping one phase at a time (discontinuous modulation) saves a third of the edges. "
            "References are read at the start of each period, with the triangle in its middle too.",
            {"a", "b", "c"},
            {"ga", "na", "gb", "nb", "gc", "nc"},
            "3~ mod",
            list,
            "D_k = (1 + u_k + u_0)/2",
            "D. G. Holmes, T. A. Lipo, Pulse Width Modulation for Power Converters, 2003, ch. 6"},
        threePhase, true));
    list = pulseParameters(false);
    list.insert(list.begin() + 1,
                {choiceOf("cells", "carriers", {"2", "3", "4"}),
                 choiceOf("carriers", "they are",
                          {"shifted in time", "stacked", "stacked, halves opposed", "stacked, neighbours opposed"})});
    library.add(std::make_unique<PulsePart>(
        SignalKind{
            "modulator-levels",
            "Multilevel modulator",
            "M",
            {"multilevel carriers", "level-shifted", "phase-shifted carriers"},
            "Gates of up to four cells from one reference",
            "The reference runs from −1 to 1. Carriers shifted in time drive cells that all switch alike; stacked "
            "ones each take one part of the range, in phase, with the halves above and below zero in opposite "
            "phase, or with each neighbour in opposite phase. Unused outputs stay off.",
            {"u"},
            {"g1", "n1", "g2", "n2", "g3", "n3", "g4", "n4"},
            "levels",
            list,
            "g_k = 1 while the reference is above carrier k",
            "D. G. Holmes, T. A. Lipo, 2003, ch. 11"},
        levels, true));
    library.add(std::make_unique<PulsePart>(
        SignalKind{"modulator-shift",
                   "Phase-shift modulator",
                   "M",
                   {"phase shift", "full-bridge modulator"},
                   "Two legs of half duty, one later than the other",
                   "Both legs are on for half a period; the second comes later by the reference (0 to 1) times half a "
                   "period: 1 gives the full square wave across the bridge.",
                   {"u"},
                   {"ga", "na", "gb", "nb"},
                   "shift",
                   {recurring(positive("f", "frequency", "f_c", "100k", "Hz", true)), deadTime()},
                   "leg b late by u T/2"},
        shiftedLegs, false));
    ParameterKind duty = number("duty", "duty", "D", "0.5");
    duty.least = 0, duty.most = 1;
    library.add(std::make_unique<PulsePart>(
        SignalKind{"modulator-frequency",
                   "Frequency modulator",
                   "M",
                   {"vco", "variable frequency"},
                   "Pulses of a frequency that a signal sets",
                   "At the start of each period the reference is read as a frequency in Hz, within the limits; the "
                   "period that begins has its length.",
                   {"f"},
                   {"g", "n"},
                   "f mod",
                   {positive("fmin", "least frequency", "f_min", "50k", "Hz", true),
                    recurring(positive("fmax", "greatest frequency", "f_max", "200k", "Hz", true)), duty, deadTime()},
                   "T = 1/f at the start of each period"},
        byFrequency, false));
    for (const std::size_t count : {std::size_t{2}, std::size_t{6}}) addFiring(library, count);
}

}  // namespace hedgerow

// The carrier modulator: a duty in, gate edges at exact instants out.

#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "network/periodic.h"
#include "parts/control/pulse_setting.h"
#include "parts/control/signal_part.h"

namespace hedgerow {

using namespace parts;

namespace {

/// Compares a duty with a carrier. Both outputs turn on late by the dead time.
class ModulatorBlock final : public SignalBlock {
public:
    struct Setting {
        double frequency, phase, deadTime, duty;
        Carrier carrier;
        double low = 0, high = 1;  ///< limits of the duty
    };
    explicit ModulatorBlock(const Setting& setting) : set_(setting) {}
    std::optional<SignalCycle> cycle(std::span<const double> inputs) const override {
        const std::vector<PeriodicInterval> levels = {upper(inputs), lower(inputs)};
        return cycleOf(levels, 2, [&](Tick t, std::span<double> outputs) {
            for (std::size_t i = 0; i < levels.size(); ++i) outputs[i] = levels[i].high(t) ? 1.0 : 0.0;
        });
    }
    Tick nextInstant(Tick t, std::span<const double> inputs) const override {
        return std::min(upper(inputs).next(t), lower(inputs).next(t));
    }
    void evaluate(Tick t, std::span<const double> inputs, std::span<double> outputs) const override {
        outputs[0] = upper(inputs).high(t) ? 1.0 : 0.0;
        outputs[1] = lower(inputs).high(t) ? 1.0 : 0.0;
    }
    Recurrences recurrences() const override { return {Recurrence::of(set_.frequency)}; }

private:
    double duty(std::span<const double> inputs) const {
        return std::clamp(inputs.empty() ? set_.duty : inputs[0], set_.low, set_.high);
    }
    double onset(double d) const { return pulseOf(d, set_.carrier).on; }
    double start() const { return set_.phase / set_.frequency; }
    double late() const { return set_.deadTime * set_.frequency; }
    PeriodicInterval upper(std::span<const double> inputs) const {
        const double d = duty(inputs), on = onset(d);
        return {1 / set_.frequency, start(), d >= 1 ? 0.0 : on + late(), d >= 1 ? 1.0 : on + d};
    }
    PeriodicInterval lower(std::span<const double> inputs) const {
        const double d = duty(inputs), off = onset(d);
        return {1 / set_.frequency, start(), d <= 0 ? 0.0 : off + d + late(), d <= 0 ? 1.0 : off + 1};
    }
    Setting set_;
};

/// The gates of a level that changes at any time: each turns on late by the dead time; a change sooner than the
/// shortest pulse after the one before waits.
class GateProcess final : public SignalProcess {
public:
    GateProcess(double dead, double shortest) : dead_(toTicks(dead)), shortest_(toTicks(shortest)) {}
    Status advance(Tick t, std::span<const double> in, std::span<double> out) override {
        wanted_ = in[0] > 0.5;
        if (pair_.since() < 0 || t >= later(pair_.since(), shortest_)) pair_.change(wanted_, t);
        out[0] = pair_.upper(t, dead_) ? 1 : 0, out[1] = pair_.lower(t, dead_) ? 1 : 0;
        return {};
    }
    Tick next(Tick t) const override {
        const Tick waiting = wanted_ != pair_.level() ? later(pair_.since(), shortest_) : neverTick;
        return std::min(pair_.next(t, dead_), waiting);
    }
    void memory(Memory& all) override { all.flag("wanted", wanted_), pair_.memory(all); }

private:
    GatePair pair_;
    Tick dead_, shortest_;
    bool wanted_ = false;
};

/// 1 while the duty lies above the carrier c = first of the two source states.
class CarrierComparison final : public Element {
public:
    CarrierComparison(std::string part, int carrier, int duty, int source, int signal)
        : Element(std::move(part)), carrier_(carrier), duty_(duty), source_(source), signal_(signal) {}
    void stamp(LinearStamp& s, int) const override {
        s.unknown(carrier_, carrier_, 1.0);
        s.source(carrier_, source_, 1.0);
    }
    int segmentCount() const override { return 2; }
    int equations(int) const override { return 0; }
    int initialSegment(bool) const override { return 0; }
    int logicSignal() const override { return signal_; }
    bool conducts(int segment) const override { return segment == 1; }
    std::vector<Guard> guards(int segment) const override {
        if (segment == 0) return {{{{carrier_, 1.0}, {duty_, -1.0}}, 0.0, 1}};
        return {{{{carrier_, -1.0}, {duty_, 1.0}}, 0.0, 0}};
    }

private:
    int carrier_, duty_, source_, signal_;
};

class Modulator final : public PartType {
public:
    PartKind kind() const override {
        return {
            .id = "modulator",
            .title = "Carrier modulator",
            .prefix = "M",
            .synonyms = {"pwm", "mod", "modulator", "gate drive"},
            .summary = "Gate pulses of a duty, with their complement and dead time",
            .help =
                "g is on while the duty is above a carrier that runs from 0 to 1 at the given frequency; n is on while "
                "g would be off. Each turns on later by the dead time, so that both "
                "are off in between. The saw carrier starts each period with the on-time of g, the falling saw ends it "
                "with that; the triangle carrier has it in the middle of the period. The duty is the signal at d or, "
                "where d is not connected, the value, which may be an expression of project parameters. It is compared "
                "with the carrier all the time (natural sampling) or read at the start of each period, with the "
                "triangle in its middle too (regular sampling), and rounded to the steps of a counter where these are "
                "given. A pulse or gap shorter than the shortest one does not come; with a reference that is compared "
                "all the time it is made longer instead. A duty of 0 or less and of 1 or more holds the gates still.",
            .pins = {{"d", {-40, 0}, PinSort::signalIn, true},
                     {"g", {40, -16}, PinSort::signalOut, true},
                     {"n", {40, 16}, PinSort::signalOut, true}},
            .parameters = pulseParameters(true),
            .rungs = {{1, "exact edges", "g = 1 while D > carrier(t), edges exact to 2^-54 s",
                       "D. G. Holmes, T. A. Lipo, Pulse Width Modulation for Power Converters, 2003, ch. 3", 1.0}},
            .symbol = {{"M -32 -24 L 32 -24 L 32 24 L -32 24 Z", Stroke::Weight::thin},
                       {"M -24 12 L -8 -12 L -8 12 L 8 -12 L 8 12 L 24 -12 L 24 12", Stroke::Weight::thin},
                       {"M -26 -2 L 26 -2", Stroke::Weight::thin},
                       {"M -40 0 L -32 0", Stroke::Weight::thin},
                       {"M 32 -16 L 40 -16", Stroke::Weight::thin},
                       {"M 32 16 L 40 16", Stroke::Weight::thin},
                       {"O 34 16 2", Stroke::Weight::thin}},
            .labelAt = {-32, -56},
            .group = "Control"};
    }
    Status check(const std::function<double(std::string_view)>& value) const override { return checkPulses(value); }
    void elaborate(NetworkBuilder& b) const override {
        const SignalInput duty = b.input("d");
        const std::vector<int> gates = {b.signal("g"), b.signal("n")};
        const bool open = duty.signal < 0 && duty.column < 0, natural = b.choice("sampling") == "all the time";
        if (natural && duty.column >= 0)
            compared(b, gates);
        else if (!open && !natural)
            b.addSignalBlock(
                std::make_unique<ProcessBlock>(
                    [set = expecting(b.value("duty"), pulseSetting(b, [](std::size_t, std::span<const double> in) {
                                         return in[0];
                                     }))] { return std::make_unique<PulseProcess>(set); },
                    false),
                {duty}, gates);
        else
            cyclic(b, open ? std::vector<SignalInput>{} : std::vector<SignalInput>{duty}, gates);
        b.offerSignal("g");
        b.offerSignal("n");
    }
    bool joinsNets() const override { return false; }

private:
    static PulseProcess::Setting expecting(double duty, PulseProcess::Setting set) {
        set.expected = {duty};
        return set;
    }
    /// A duty that stays, or changes in steps.
    static void cyclic(NetworkBuilder& b, std::vector<SignalInput> duty, const std::vector<int>& gates) {
        b.addSignalBlock(std::make_unique<ModulatorBlock>(
                             ModulatorBlock::Setting{b.value("f"), b.value("phase"), b.value("dead"), b.value("duty"),
                                                     carrierOf(b), b.value("low"), b.value("high")}),
                         std::move(duty), gates);
    }
    /// A duty that runs.
    static void compared(NetworkBuilder& b, const std::vector<int>& gates) {
        const double period = 1 / b.value("f");
        const int source = b.addSource(std::make_unique<CarrierWave>(carrierOf(b), period, b.value("phase") * period));
        const int level = b.addSignal();
        b.addElement(std::make_unique<CarrierComparison>(b.partName(), b.addColumn(), b.column("d"), source, level));
        b.addSignalBlock(std::make_unique<ProcessBlock>(
                             [dead = b.value("dead"), shortest = b.value("shortest")] {
                                 return std::make_unique<GateProcess>(dead, shortest);
                             },
                             true),
                         {{level, -1}}, gates);
    }
};

}  // namespace

void registerModulators(PartLibrary& library) { library.add(std::make_unique<Modulator>()); }

}  // namespace hedgerow

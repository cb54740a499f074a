// Constant, sampled sine and carrier modulator.

#include <cmath>
#include <numbers>

#include "network/part_type.h"
#include "network/periodic.h"

namespace hedgerow {

namespace {

class ConstantBlock final : public SignalBlock {
public:
    explicit ConstantBlock(double value) : value_(value) {}
    Tick nextInstant(Tick, std::span<const double>) const override { return neverTick; }
    void evaluate(Tick, std::span<const double>, std::span<double> outputs) const override { outputs[0] = value_; }

private:
    double value_;
};

class Constant final : public PartType {
public:
    PartKind kind() const override {
        return {
            .id = "constant",
            .title = "Constant",
            .prefix = "K",
            .synonyms = {"const", "set point", "value"},
            .summary = "A signal that does not change",
            .help =
                "A signal of one value from the start of the run: a duty for a modulator, or 1 for a gate that is "
                "always on.",
            .pins = {{"y", {32, 0}, PinSort::signalOut}},
            .parameters =
                {{.key = "value", .label = "value", .symbol = "y", .unit = "", .standard = "1", .shownOnSheet = true}},
            .rungs = {{1, "exact", "y = value", "definition", 1.0}},
            .symbol = {{"M -24 -12 L 24 -12 L 24 12 L -24 12 Z", Stroke::Weight::thin},
                       {"M 24 0 L 32 0", Stroke::Weight::thin}},
            .labelAt = {-22, -28},
            .group = "Control"};
    }
    void elaborate(NetworkBuilder& b) const override {
        b.addSignalBlock(std::make_unique<ConstantBlock>(b.value("value")), {}, {b.signal("y")});
        b.offerSignal("y", "", b.signal("y"));
    }
    bool joinsNets() const override { return false; }
};

/// A sine, read at equal distances and held in between.
class SampledSineBlock final : public SignalBlock {
public:
    struct Setting {
        double peak, offset, frequency, phase, rate;
    };
    explicit SampledSineBlock(const Setting& setting)
        : set_(setting), step_(toFine(1.0L / static_cast<long double>(setting.rate))) {}
    Tick nextInstant(Tick t, std::span<const double>) const override { return toTick((sample(t) + 1) * step_); }
    void evaluate(Tick t, std::span<const double>, std::span<double> outputs) const override {
        const long double turns =
            static_cast<long double>(sample(t)) * static_cast<long double>(set_.frequency) / set_.rate;
        outputs[0] = set_.offset + set_.peak * std::sin(static_cast<double>((turns - std::floor(turns)) * 2 *
                                                                            std::numbers::pi_v<long double>) +
                                                        set_.phase);
    }

private:
    FineTime sample(Tick t) const {
        FineTime k = toFine(t) / step_;
        while (toTick((k + 1) * step_) <= t) ++k;
        while (k > 0 && toTick(k * step_) > t) --k;
        return k;
    }
    Setting set_;
    FineTime step_;
};

class SampledSine final : public PartType {
public:
    PartKind kind() const override {
        return {
            .id = "sampled-sine",
            .title = "Sampled sine",
            .prefix = "K",
            .synonyms = {"reference sine", "sine signal", "sinesignal"},
            .summary = "offset + peak · sin(2π f t + φ), read at a given rate and held",
            .help =
                "A sine signal that is read at equal distances in time and held in between, as the reference of a "
                "modulator with regular sampling is. Give it the carrier frequency as rate, or twice as much. As the "
                "duty of a leg an offset of 0.5 and a peak up to 0.5 are right.",
            .pins = {{"y", {32, 0}, PinSort::signalOut}},
            .parameters = {{.key = "peak",
                            .label = "peak",
                            .symbol = "y_pk",
                            .unit = "",
                            .standard = "0.45",
                            .shownOnSheet = true},
                           {.key = "f",
                            .label = "frequency",
                            .symbol = "f",
                            .unit = "Hz",
                            .standard = "50",
                            .least = 0,
                            .most = 1e6,
                            .shownOnSheet = true},
                           {.key = "phase", .label = "phase", .symbol = "φ", .unit = "deg", .standard = "0"},
                           {.key = "offset", .label = "offset", .symbol = "y_0", .unit = "", .standard = "0.5"},
                           {.key = "rate",
                            .label = "sampling rate",
                            .symbol = "f_s",
                            .unit = "Hz",
                            .standard = "10k",
                            .least = 0.01,
                            .most = 1e9}},
            .rungs = {{1, "exact at the samples", "y = y_0 + y_pk sin(2π f t_k + φ),  t_k = k / f_s", "definition",
                       1.0}},
            .symbol = {{"M -24 -16 L 24 -16 L 24 16 L -24 16 Z", Stroke::Weight::thin},
                       {"M 24 0 L 32 0", Stroke::Weight::thin},
                       {"M -18 0 L -14 0 L -14 -8 L -8 -8 L -8 -8 L -4 -8 L -4 0 L 2 0 L 2 8 L 12 8 L 12 0 L 18 0",
                        Stroke::Weight::thin}},
            .labelAt = {-22, -32},
            .group = "Control"};
    }
    void elaborate(NetworkBuilder& b) const override {
        b.addSignalBlock(std::make_unique<SampledSineBlock>(SampledSineBlock::Setting{
                             b.value("peak"), b.value("offset"), b.value("f"), b.value("phase"), b.value("rate")}),
                         {}, {b.signal("y")});
        b.offerSignal("y", "", b.signal("y"));
    }
    bool joinsNets() const override { return false; }
};

/// Compares a duty with a carrier. Both outputs turn on late by the dead time.
class ModulatorBlock final : public SignalBlock {
public:
    struct Setting {
        double frequency, phase, deadTime, duty;
        bool triangle;
    };
    explicit ModulatorBlock(const Setting& setting) : set_(setting) {}
    std::optional<SignalCycle> cycle(std::span<const double> inputs) const override {
        return cycleOf({upper(inputs), lower(inputs)}, 2,
                       [&](Tick t, std::span<double> outputs) { evaluate(t, inputs, outputs); });
    }
    Tick nextInstant(Tick t, std::span<const double> inputs) const override {
        return std::min(upper(inputs).next(t), lower(inputs).next(t));
    }
    void evaluate(Tick t, std::span<const double> inputs, std::span<double> outputs) const override {
        outputs[0] = upper(inputs).high(t) ? 1.0 : 0.0;
        outputs[1] = lower(inputs).high(t) ? 1.0 : 0.0;
    }

private:
    double duty(std::span<const double> inputs) const { return inputs.empty() ? set_.duty : inputs[0]; }
    double start() const { return set_.phase / set_.frequency; }
    double late() const { return set_.deadTime * set_.frequency; }
    PeriodicInterval upper(std::span<const double> inputs) const {
        const double d = duty(inputs), on = set_.triangle ? (1 - d) / 2 : 0.0;
        return {1 / set_.frequency, start(), d >= 1 ? 0.0 : on + late(), d >= 1 ? 1.0 : on + d};
    }
    PeriodicInterval lower(std::span<const double> inputs) const {
        const double d = duty(inputs), off = set_.triangle ? (1 - d) / 2 : 0.0;
        return {1 / set_.frequency, start(), d <= 0 ? 0.0 : off + d + late(), d <= 0 ? 1.0 : off + 1};
    }
    Setting set_;
};

class Modulator final : public PartType {
public:
    PartKind kind() const override {
        return {
            .id = "modulator",
            .title = "Carrier modulator",
            .prefix = "M",
            .synonyms = {"pwm", "mod", "modulator", "gate drive", "carrier"},
            .summary = "Gate pulses of a duty, with their complement and dead time",
            .help =
                "g is on while the duty is above a carrier that runs from 0 to 1 at the given frequency; n is on while "
                "g would be off. Each turns on later by the dead time, so that both "
                "are off in between. The saw carrier starts each period with the on-time of g; the triangle carrier "
                "has it in the middle of the period. The duty is the signal at d or, where "
                "d is not connected, the value, which may be an expression of project parameters. A duty of 0 or less "
                "and of 1 or more holds the gates still.",
            .pins = {{"d", {-40, 0}, PinSort::signalIn, true},
                     {"g", {40, -16}, PinSort::signalOut, true},
                     {"n", {40, 16}, PinSort::signalOut, true}},
            .parameters =
                {{.key = "f",
                  .label = "carrier frequency",
                  .symbol = "f_c",
                  .unit = "Hz",
                  .standard = "100k",
                  .least = 0.01,
                  .most = 1e9,
                  .shownOnSheet = true},
                 {.key = "duty",
                  .label = "duty",
                  .symbol = "D",
                  .unit = "",
                  .standard = "0.5",
                  .least = 0,
                  .most = 1,
                  .shownOnSheet = true},
                 {.key = "dead", .label = "dead time", .symbol = "t_dead", .unit = "s", .standard = "0", .least = 0},
                 {.key = "phase",
                  .label = "delay, in periods",
                  .symbol = "θ",
                  .unit = "",
                  .standard = "0",
                  .least = -1,
                  .most = 1},
                 {.key = "carrier",
                  .label = "carrier",
                  .symbol = "",
                  .unit = "",
                  .standard = "saw",
                  .choices = {"saw", "triangle"}}},
            .rungs = {{1, "exact edges", "g = 1 while D > carrier(t), edges exact to 2^-54 s",
                       "natural sampling of a constant reference", 1.0}},
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
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (value("dead") * value("f") >= 0.5)
            return Error{ErrorCode::range, "the dead time must be shorter than half a period", {}, {}, "dead"};
        return {};
    }
    void elaborate(NetworkBuilder& b) const override {
        const int duty = b.signal("d");
        b.addSignalBlock(
            std::make_unique<ModulatorBlock>(ModulatorBlock::Setting{
                b.value("f"), b.value("phase"), b.value("dead"), b.value("duty"), b.choice("carrier") == "triangle"}),
            duty >= 0 ? std::vector<int>{duty} : std::vector<int>{}, {b.signal("g"), b.signal("n")});
        b.offerSignal("g", "", b.signal("g"));
        b.offerSignal("n", "", b.signal("n"));
    }
    bool joinsNets() const override { return false; }
};

}  // namespace

void registerControl(PartLibrary& library) {
    library.add(std::make_unique<Constant>());
    library.add(std::make_unique<Modulator>());
    library.add(std::make_unique<SampledSine>());
}

}  // namespace hedgerow

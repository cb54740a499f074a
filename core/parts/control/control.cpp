// Constant and sampled sine.

#include <cmath>
#include <numbers>

#include "network/part_type.h"
#include "parts/control/signal_part.h"

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
        return {.id = "constant",
                .title = "Constant",
                .prefix = "K",
                .synonyms = {"const", "set point", "value"},
                .summary = "A signal that does not change",
                .help =
                    "A signal of one value from the start of the run: a duty for a modulator, or 1 for a gate that is "
                    "always on.",
                .pins = {{"y", {32, 0}, PinSort::signalOut}},
                .parameters = {{.key = "value",
                                .label = "value",
                                .symbol = "y",
                                .unit = "",
                                .standard = "1",
                                .shownOnSheet = true,
                                .anyUnit = true,
                                .ramps = true}},
                .rungs = {{1, "exact", "y = value", "definition", 1.0}},
                .symbol = {{"M -24 -12 L 24 -12 L 24 12 L -24 12 Z", Stroke::Weight::thin},
                           {"M 24 0 L 32 0", Stroke::Weight::thin}},
                .labelAt = {-24, -24},
                .group = "Control",
                .mark = "K"};
    }
    /// A constant that the scene ramps runs.
    bool outputsRun(const SignalSurroundings& around) const override { return around.ramps("value"); }
    void elaborate(NetworkBuilder& b) const override {
        if (const int source = b.rampOf("value"); source >= 0)
            b.addElement(std::make_unique<parts::WaveElement>(b.partName(), b.column("y"), source, 1.0, 0.0));
        else
            b.addSignalBlock(std::make_unique<ConstantBlock>(b.value("value")), {}, {b.signal("y")});
        b.offerSignal("y");
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
        : set_(setting), step_(toFinePeriod(1.0L / static_cast<long double>(setting.rate))) {}
    Tick nextInstant(Tick t, std::span<const double>) const override { return toTick((sample(t) + 1) * step_); }
    void evaluate(Tick t, std::span<const double>, std::span<double> outputs) const override {
        const long double turns =
            static_cast<long double>(sample(t)) * static_cast<long double>(set_.frequency) / set_.rate;
        outputs[0] = set_.offset + set_.peak * std::sin(static_cast<double>((turns - std::floor(turns)) * 2 *
                                                                            std::numbers::pi_v<long double>) +
                                                        set_.phase);
    }
    Recurrences recurrences() const override {
        Recurrences all{Recurrence::every(step_)};
        if (set_.frequency > 0) all.push_back(Recurrence::of(set_.frequency));
        return all;
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
            .parameters =
                {{.key = "peak",
                  .label = "peak",
                  .symbol = "y_pk",
                  .unit = "",
                  .standard = "0.45",
                  .shownOnSheet = true,
                  .anyUnit = true},
                 {.key = "f",
                  .label = "frequency",
                  .symbol = "f",
                  .unit = "Hz",
                  .standard = "50",
                  .least = 0,
                  .most = 1e6,
                  .shownOnSheet = true},
                 {.key = "phase", .label = "phase", .symbol = "φ", .unit = "deg", .standard = "0"},
                 {.key = "offset", .label = "offset", .symbol = "y_0", .unit = "", .standard = "0.5", .anyUnit = true},
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
            .labelAt = {-22, -48},
            .group = "Control"};
    }
    void elaborate(NetworkBuilder& b) const override {
        b.addSignalBlock(std::make_unique<SampledSineBlock>(SampledSineBlock::Setting{
                             b.value("peak"), b.value("offset"), b.value("f"), b.value("phase"), b.value("rate")}),
                         {}, {b.signal("y")});
        b.offerSignal("y");
    }
    bool joinsNets() const override { return false; }
};

}  // namespace

void registerControl(PartLibrary& library) {
    library.add(std::make_unique<Constant>());
    library.add(std::make_unique<SampledSine>());
}

}  // namespace hedgerow

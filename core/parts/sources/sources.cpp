// Voltage and current sources: dc, sine, pulse.

#include <cmath>
#include <functional>

#include "parts/generators.h"
#include "parts/storages.h"

namespace hedgerow {

using namespace parts;

namespace {

using Value = std::function<double(std::string_view)>;

/// A source of offset + factor * w[source], stiff or behind R and L (voltage), or with a conductance beside it
/// (current).
class SourceElement final : public Branch {
public:
    struct Setting {
        bool voltage;
        double offset, factor;
        int source;  ///< -1 when constant
        double conductance = 0;
        InnerImpedance inner = {};
    };
    SourceElement(std::string part, int branch, int from, int to, const Setting& setting)
        : Branch(std::move(part), branch, from, to), set_(setting) {}
    void stamp(LinearStamp& s, int) const override {
        const int row = s.branchRow(branch_), current = s.branchCurrent(branch_);
        s.currentLaw(branch_, from_, to_);
        if (!set_.voltage) {
            s.unknown(row, current, 1.0);
            s.voltage(row, from_, to_, -set_.conductance);
            drive(s, row);
        } else {
            stampBehind(s, branch_, from_, to_, set_.inner, [&](int at) { drive(s, at); });
        }
    }

private:
    void drive(LinearStamp& s, int row) const {
        if (set_.offset != 0) s.source(row, 0, set_.offset);
        if (set_.source >= 0) s.source(row, set_.source, set_.factor);
    }
    Setting set_;
};

enum class Shape { dc, sine, pulse };

class Source final : public PartType {
public:
    Source(bool voltage, Shape shape) : voltage_(voltage), shape_(shape) {}

    PartKind kind() const override {
        PartKind k;
        const std::string what = voltage_ ? "voltage" : "current", unit = voltage_ ? "V" : "A",
                          letter = voltage_ ? "V" : "I";
        const char* shapes[] = {"DC", "Sine", "Pulse"};
        const char* ids[] = {"dc", "sine", "pulse"};
        const auto at = static_cast<std::size_t>(shape_);
        k.id = ids[at] + std::string("-") + what;
        k.title = shapes[at] + std::string(" ") + what + " source";
        k.prefix = letter;
        k.pins = voltage_ ? verticalPins("p", "n") : verticalPins("a", "b");
        k.labelAt = {28, -4};
        k.group = "Sources";
        describe(k, unit);
        k.rungs = {{1, "stiff", voltage_ ? "v = e(t), whatever the current" : "i = e(t), whatever the voltage",
                    "definition", 1.0},
                   {2, voltage_ ? "internal resistance and inductance" : "internal conductance",
                    voltage_ ? "v = e(t) + R_i i + L_i di/dt" : "i = e(t) + v / R_i",
                    "Thévenin's and Norton's theorems", 1.7}};
        k.parameters.push_back((voltage_ ? seriesLoss : parallelLoss)("ri", "internal resistance", "R_i", 2));
        if (voltage_)
            k.parameters.push_back({.key = "li",
                                    .label = "internal inductance",
                                    .symbol = "L_i",
                                    .unit = "H",
                                    .standard = "none",
                                    .least = 0,
                                    .rung = 2,
                                    .none = 0});
        if (voltage_) {
            k.rungs.push_back({3, "cable to its terminals",
                               "behind R_i, L_i and the cable R_w, L_w stands its capacitance C_w with R_c in series",
                               "one section of a line: its wavelength is far above its length", 20});
            const auto cable = [&](const char* key, const char* label, const char* symbol, const char* unit,
                                   const char* standard) {
                k.parameters.push_back({.key = key,
                                        .label = label,
                                        .symbol = symbol,
                                        .unit = unit,
                                        .standard = standard,
                                        .least = 0,
                                        .rung = 3,
                                        .none = 0});
            };
            cable("rw", "resistance of the cable", "R_w", "Ω", "5m");
            cable("lw", "inductance of the cable", "L_w", "H", "500n");
            cable("cw", "capacitance of the cable", "C_w", "F", "500p");
            cable("rcw", "resistance in series with it", "R_c", "Ω", "1.5");
            k.parameters.push_back(startValue("i0", "current of the inductance at the start", "i_0", "A", 2));
            k.parameters.push_back(startVoltage());
        }
        k.help = std::string(voltage_ ? "v is the potential of p against n; i counts into p, so that a source that "
                                        "delivers has a negative p. "
                                      : "The arrow shows the way of the current inside, from a to b; v is the "
                                        "potential of a against b. ") +
                 k.help;
        return k;
    }

    void elaborate(NetworkBuilder& b) const override {
        const char* const from = voltage_ ? "p" : "a";
        const char* const to = voltage_ ? "n" : "b";
        SourceElement::Setting set{voltage_, 0, 0, -1};
        if (shape_ == Shape::dc) {
            set.source = b.rampOf("level");
            if (set.source < 0)
                set.offset = b.value("level");
            else
                set.factor = 1;
        }
        if (shape_ == Shape::sine) {
            set.offset = b.value("offset");
            set.factor = b.value("peak");
            set.source = b.addSource(std::make_unique<SineGenerator>(b.value("f"), b.value("phase")));
        }
        if (shape_ == Shape::pulse) {
            set.factor = 1;
            set.source = b.addSource(std::make_unique<PulseGenerator>(
                PulseGenerator::Shape{b.value("low"), b.value("high"), 1 / b.value("f"), b.value("delay"),
                                      b.value("duty"), b.value("rise"), b.value("fall")}));
        }
        const int branch = b.addBranch();
        if (b.rung() >= 2) {
            if (voltage_)
                set.inner = innerImpedance(b, b.rung() >= 3 ? b.value("rw") : 0, b.rung() >= 3 ? b.value("lw") : 0,
                                           startOf(b, "i0"));
            else
                set.conductance = 1 / b.value("ri");
        }
        b.addElement(std::make_unique<SourceElement>(b.partName(), branch, b.node(from), b.node(to), set));
        Terms through = {{b.nodeCount() + branch, 1.0}};
        if (b.rung() >= 3 && b.value("cw") > 0)
            through.emplace_back(b.nodeCount() + addCapacitor(b, b.node(from), b.node(to), b.value("cw"),
                                                              b.value("rcw"), 0, startOf(b, "v0")),
                                 1.0);
        b.offerTerminals(b.node(from), b.node(to), through);
    }

    StiffSort stiff(int rung, const Value& value) const override {
        if (!voltage_) return rung >= 2 ? StiffSort::neither : StiffSort::current;
        const bool soft =
            (rung >= 2 && (value("ri") > 0 || value("li") > 0)) || (rung >= 3 && (value("rw") > 0 || value("lw") > 0));
        return soft ? StiffSort::neither : StiffSort::voltage;
    }

    Status check(const Value& value) const override {
        if (shape_ != Shape::pulse) return {};
        const double period = 1 / value("f"), duty = value("duty");
        if (value("rise") > duty * period)
            return Error{ErrorCode::range, "the rise time is longer than the pulse", {}, {}, "rise"};
        if (value("fall") > (1 - duty) * period)
            return Error{ErrorCode::range, "the fall time is longer than the pause", {}, {}, "fall"};
        return {};
    }

private:
    void describe(PartKind& k, const std::string& unit) const {
        const std::string symbol = voltage_ ? "V" : "I";
        const Stroke top{"M 0 -32 L 0 -20"}, bottom{"M 0 20 L 0 32"}, ring{"O 0 0 20"};
        k.symbol = {top, bottom, ring};
        if (voltage_)
            k.symbol.push_back({"M -26 -24 L -18 -24 M -22 -28 L -22 -20", Stroke::Weight::thin});
        else
            k.symbol.push_back({"M -26 12 L -26 -8 M -26 12 L -29 4 M -26 12 L -23 4", Stroke::Weight::thin});
        switch (shape_) {
            case Shape::dc:
                k.summary = voltage_ ? "A constant voltage" : "A constant current";
                k.synonyms = voltage_ ? std::vector<std::string>{"v", "dc", "supply", "vdc"}
                                      : std::vector<std::string>{"i", "idc", "current"};
                k.help = "The value holds from the start of the run.";
                k.symbol.push_back({voltage_ ? "M 0 -20 L 0 20" : "M -20 0 L 20 0"});
                k.parameters = {{.key = "level",
                                 .label = voltage_ ? "voltage" : "current",
                                 .symbol = symbol,
                                 .unit = unit,
                                 .standard = voltage_ ? "24" : "1",
                                 .shownOnSheet = true,
                                 .ramps = true}};
                break;
            case Shape::sine:
                k.summary = "offset + peak · sin(2π f t + φ)";
                k.synonyms = voltage_ ? std::vector<std::string>{"sine", "ac", "mains", "vac", "sin"}
                                      : std::vector<std::string>{"isine", "iac"};
                k.help =
                    "e(t) = offset + peak · sin(2π f t + phase). For a mains voltage of 230 V type the peak as "
                    "230*sqrt(2).";
                k.symbol.push_back({"A -6 0 6 180 -180"});
                k.symbol.push_back({"A 6 0 6 180 180"});
                k.parameters = {
                    {.key = "peak",
                     .label = "peak",
                     .symbol = symbol + "_pk",
                     .unit = unit,
                     .standard = "1",
                     .shownOnSheet = true},
                    {.key = "f",
                     .label = "frequency",
                     .symbol = "f",
                     .unit = "Hz",
                     .standard = "50",
                     .least = 0,
                     .most = 1e10,
                     .aboveLeast = true,
                     .shownOnSheet = true},
                    {.key = "phase", .label = "phase", .symbol = "φ", .unit = "deg", .standard = "0"},
                    {.key = "offset", .label = "offset", .symbol = symbol + "_0", .unit = unit, .standard = "0"}};
                break;
            case Shape::pulse:
                k.summary = "A pulse train with given duty, rise and fall";
                k.synonyms = voltage_ ? std::vector<std::string>{"pulse", "square", "vpulse"}
                                      : std::vector<std::string>{"ipulse", "isquare"};
                k.help =
                    "From low to high at the start of every period, after the delay; back after duty times the period. "
                    "Rise and fall are straight. The "
                    "duty is counted from the start of the rise to the start of the fall.";
                k.symbol.push_back({"M -12 8 L -6 8 L -6 -8 L 6 -8 L 6 8 L 12 8"});
                k.parameters = {
                    {.key = "low", .label = "low", .symbol = symbol + "_lo", .unit = unit, .standard = "0"},
                    {.key = "high",
                     .label = "high",
                     .symbol = symbol + "_hi",
                     .unit = unit,
                     .standard = "1",
                     .shownOnSheet = true},
                    {.key = "f",
                     .label = "frequency",
                     .symbol = "f",
                     .unit = "Hz",
                     .standard = "1k",
                     .least = 0.002,
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
                    {.key = "delay",
                     .label = "delay",
                     .symbol = "t_d",
                     .unit = "s",
                     .standard = "0",
                     .least = -longestRunSeconds,
                     .most = longestRunSeconds},
                    {.key = "rise", .label = "rise time", .symbol = "t_r", .unit = "s", .standard = "0", .least = 0},
                    {.key = "fall", .label = "fall time", .symbol = "t_f", .unit = "s", .standard = "0", .least = 0}};
                break;
        }
    }

    bool voltage_;
    Shape shape_;
};

}  // namespace

void registerSources(PartLibrary& library) {
    for (const bool voltage : {true, false})
        for (const Shape shape : {Shape::dc, Shape::sine, Shape::pulse})
            library.add(std::make_unique<Source>(voltage, shape));
}

}  // namespace hedgerow

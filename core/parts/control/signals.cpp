// Where signals begin and where they act: waves, steps, quantities of the circuit, sources that follow a signal, tasks.

#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "parts/control/carrier.h"
#include "parts/control/signal_part.h"
#include "parts/generators.h"
#include "parts/points.h"
#include "parts/two_terminal.h"

namespace hedgerow {

using namespace parts;

namespace {

/// A signal that runs by itself.
class WavePart final : public SignalPart {
public:
    struct Wave {
        std::unique_ptr<SourceGenerator> generator;
        double factor = 1, offset = 0;
    };
    using Make = std::function<Wave(const NetworkBuilder& b)>;
    WavePart(SignalKind description, Make make)
        : SignalPart((description.canBeSampled = false, description)), make_(std::move(make)) {}
    bool outputsRun(const SignalSurroundings&) const override { return true; }
    void elaborate(NetworkBuilder& b) const override {
        Wave wave = make_(b);
        const int column = b.column("y"), source = b.addSource(std::move(wave.generator));
        b.addElement(std::make_unique<WaveElement>(b.partName(), column, source, wave.factor, wave.offset));
        offerOutputs(b);
    }

private:
    Make make_;
};

class StepBlock final : public SignalBlock {
public:
    StepBlock(double before, double after, double at) : before_(before), after_(after), at_(toTicks(at)) {}
    Tick nextInstant(Tick t, std::span<const double>) const override { return t < at_ ? at_ : neverTick; }
    void evaluate(Tick t, std::span<const double>, std::span<double> out) const override {
        out[0] = t < at_ ? before_ : after_;
    }
    Recurrences recurrences() const override {
        return before_ != after_ && at_ > 0 ? Recurrences{Recurrence::up(at_)} : Recurrences();
    }

private:
    double before_, after_;
    Tick at_;
};

class StepSignal final : public SignalPart {
public:
    StepSignal()
        : SignalPart(
              {"signal-step",
               "Step",
               "K",
               {"step signal", "jump"},
               "One value before an instant, another after",
               "Changes once, exactly at its instant. For what belongs to a scene rather than to the circuit take "
               "a constant and an event of the scene.",
               {},
               {"y"},
               "step",
               {number("before", "before", "y_0", "0", "", true), number("after", "after", "y_1", "1", "", true),
                time("at", "at", "t_1", "1m")},
               "y = y_0 for t < t_1, else y_1",
               "definition",
               "Control",
               false}) {}
    static ParameterKind time(const char* key, const char* label, const char* symbol, const char* standard) {
        ParameterKind p = number(key, label, symbol, standard, "s", true);
        p.least = 0, p.most = longestRunSeconds;
        return p;
    }
    void elaborate(NetworkBuilder& b) const override {
        b.addSignalBlock(std::make_unique<StepBlock>(b.value("before"), b.value("after"), b.value("at")), {},
                         {b.signal("y")});
        offerOutputs(b);
    }
};

/// Values of a table, each held until the next.
class HeldPoints final : public SignalBlock {
public:
    HeldPoints(std::vector<TablePoint> points, double period)
        : period_(period), wave_({std::move(points), false, period}) {}
    Tick nextInstant(Tick t, std::span<const double>) const override { return wave_.nextBreak(t); }
    void evaluate(Tick t, std::span<const double>, std::span<double> out) const override { out[0] = valueAt(t); }
    Recurrences recurrences() const override { return wave_.recurrences(); }
    std::optional<SignalCycle> cycle(std::span<const double>) const override {
        if (period_ <= 0) return {};
        const Periods periods = Periods::of(period_, 0);
        SignalCycle cycle{0, periods.period, {}};
        // As the second period has them: the first begins with the run.
        const Tick start = toTick(periods.period);
        for (Tick t = start; t < toTick(2 * periods.period); t = wave_.nextBreak(t))
            cycle.edges.push_back({std::clamp<FineTime>(toFine(t) - periods.period, 0, periods.period - 1), {valueAt(t)}});
        return cycle;
    }

private:
    double valueAt(Tick t) const {
        double w[2];
        wave_.valueAt(t, w);
        return w[0];
    }
    double period_;
    PointsGenerator wave_;
};

/// Points over time: a running signal, or a held one that may be a gate.
class PointsSignal final : public SignalPart {
public:
    PointsSignal()
        : SignalPart(
              {"signal-points",
               "Table signal",
               "K",
               {"signal table", "signal profile", "pattern"},
               "Follows points over time",
               "Pairs of time and value, rising in time: '0 0, 1m 5, 3m 5', or the name of a CSV file with a time in "
               "seconds and a value on each line. Two points of one time make a jump. With a period they repeat. Held "
               "values change in steps and may drive gates. A table with several values behind each time, '0 1 0, 1m 0 "
               "1', serves several parts: each takes its column.",
               {},
               {"y"},
               "y(t)",
               {textOf("points", "points, or a CSV file", "0 0, 1m 1"),
                choiceOf("between", "between points", {"straight", "held"}),
                StepSignal::time("period", "period", "T", "0"), column()},
               "y by straight lines, or held from point to point",
               "definition",
               "Control",
               false}) {}
    bool outputsRun(const SignalSurroundings& around) const override { return around.choice("between") != "held"; }
    void elaborate(NetworkBuilder& b) const override {
        auto points = pointsOf(b.text("points"), "s", "", b.folder(), static_cast<int>(b.value("column")));
        if (!points) b.refuse("points", points.error().message), points = std::vector<TablePoint>{{0, 0}};
        if (b.choice("between") == "held") {
            b.addSignalBlock(std::make_unique<HeldPoints>(std::move(*points), b.value("period")), {}, {b.signal("y")});
        } else {
            const int at = b.column("y"), source = b.addSource(std::make_unique<PointsGenerator>(
                                              PointsGenerator::Shape{std::move(*points), true, b.value("period")}));
            b.addElement(std::make_unique<WaveElement>(b.partName(), at, source, 1.0, 0.0));
        }
        offerOutputs(b);
    }

private:
    static ParameterKind column() {
        ParameterKind p = number("column", "column of the table", "", "1");
        p.least = 1, p.most = 1000;
        return p;
    }
};

/// A quantity of the circuit as a running signal.
class Probe final : public SignalPart {
public:
    Probe()
        : SignalPart({"probe",
                      "Measured quantity",
                      "P",
                      {"p", "measure", "sensor", "measurement"},
                      "Any voltage, current or signal, by its name",
                      "Gives a quantity of the circuit as a signal without a wire to it: 'out.v' the voltage of net "
                      "out, 'L1.i' a current, 'C1.v' a voltage between pins. Within a module names of the module come "
                      "first. Powers are products and cannot be measured so: multiply a voltage and a current.",
                      {},
                      {"y"},
                      "meas",
                      {textOf("of", "quantity", "out.v", true), number("gain", "gain", "k", "1"),
                       number("offset", "offset", "y_0", "0")},
                      "y = k q + y_0",
                      "definition",
                      "Control",
                      false}) {}
    bool outputsRun(const SignalSurroundings&) const override { return true; }
    void elaborate(NetworkBuilder& b) const override {
        b.measure(b.column("y"), b.text("of"), b.value("gain"), b.value("offset"));
        offerOutputs(b);
    }
};

/// A source that follows a signal: v or i = gain times the signal.
class FollowingElement final : public StiffBranch {
public:
    FollowingElement(std::string part, int branch, int from, int to, bool voltage, int column, double gain)
        : StiffBranch(std::move(part), branch, from, to, voltage), column_(column), gain_(gain) {}
    void stamp(LinearStamp& s, int) const override { s.unknown(stampStiff(s), column_, -gain_); }

private:
    int column_;
    double gain_;
};

class FollowingSource final : public PartType {
public:
    explicit FollowingSource(bool voltage) : voltage_(voltage) {}
    PartKind kind() const override {
        PartKind k;
        k.id = voltage_ ? "signal-voltage" : "signal-current";
        k.title = std::string(voltage_ ? "Voltage" : "Current") + " by signal";
        k.prefix = voltage_ ? "E" : "G";
        k.synonyms = {voltage_ ? "voltage from signal" : "current from signal"};
        k.summary = std::string(voltage_ ? "v" : "i") + " = gain times a signal";
        k.help = std::string("A stiff source that follows a signal of the control, held or running. ") +
                 (voltage_ ? "v is the potential of p against n." : "The current flows inside from p to n.");
        k.pins = {{"p", {0, -32}}, {"n", {0, 32}}, {"u", {-32, 0}, PinSort::signalIn}};
        k.parameters = {number("gain", "gain", "k", "1", voltage_ ? "V" : "A", true)};
        k.rungs = {{1, "stiff", voltage_ ? "v = k u" : "i = k u", "definition", 1.0}};
        k.symbol = {{"M 0 -32 L 0 -18 M 0 18 L 0 32"},
                    {"M 0 -18 L 14 0 L 0 18 L -14 0 Z"},
                    voltage_ ? Stroke{"M 0 -18 L 0 18"} : Stroke{"M 0 -10 L 0 10 M 0 10 L -4 3 M 0 10 L 4 3"},
                    {"M -32 0 L -14 0 M -20 -4 L -14 0 L -20 4", Stroke::Weight::thin}};
        k.labelAt = {20, -8};
        k.group = "Sources";
        return k;
    }
    void elaborate(NetworkBuilder& b) const override {
        const int branch = b.addBranch(), from = b.node("p"), to = b.node("n");
        b.addElement(std::make_unique<FollowingElement>(b.partName(), branch, from, to, voltage_, b.column("u"),
                                                        b.value("gain")));
        b.offerBranch(branch, from, to);
    }
    StiffSort stiff(int, const std::function<double(std::string_view)>&) const override {
        return voltage_ ? StiffSort::voltage : StiffSort::current;
    }

private:
    bool voltage_;
};

/// What parts of the control name as their task. Alone it does nothing.
class Task final : public SignalPart {
public:
    Task()
        : SignalPart(
              {"task",
               "Task",
               "T",
               {"sample time", "sampling", "interrupt"},
               "Parts that run together at equally spaced instants",
               "Parts of the control that name this task read all their inputs at one instant, run one after "
               "the other in the order of their wires, and show their outputs together when the computing time "
               "has passed. With a modulator named, the task runs as often in each of its carrier periods as "
               "is given, and starts with them. Of tasks that meet at one instant the one with the lower "
               "number of priority goes first, and the others see its outputs if it has no computing time.",
               {},
               {},
               "task",
               {recurring(positive("period", "period", "T_s", "100u", "s", true)),
                hidden(StepSignal::time("offset", "first sample at", "t_0", "0")),
                hidden(StepSignal::time("delay", "computing time", "t_c", "0")),
                textOf("carrier", "runs with the modulator", ""),
                positive("times", "times in each of its periods", "n", "1"), number("priority", "priority", "", "1")},
               "samples at t_0 + k T_s, outputs t_c later",
               "definition",
               "Control",
               false}) {}
    void elaborate(NetworkBuilder&) const override {}

private:
    static ParameterKind hidden(ParameterKind p) { return p.shownOnSheet = false, p; }
};

}  // namespace

void registerSignals(PartLibrary& library) {
    library.add(std::make_unique<StepSignal>());
    library.add(std::make_unique<Probe>());
    library.add(std::make_unique<Task>());
    library.add(std::make_unique<PointsSignal>());
    for (const bool voltage : {true, false}) library.add(std::make_unique<FollowingSource>(voltage));
    const auto add = [&](const SignalKind& kind, WavePart::Make make) {
        library.add(std::make_unique<WavePart>(kind, std::move(make)));
    };
    add({"signal-ramp",
         "Ramp",
         "K",
         {"soft start", "ramp signal"},
         "A straight line from one value to another",
         "Stays at its first value, runs straight to its last within the duration, and stays there: a soft start.",
         {},
         {"y"},
         "ramp",
         {number("from", "from", "y_0", "0", "", true), number("to", "to", "y_1", "1", "", true),
          StepSignal::time("start", "begins at", "t_0", "0"), positive("duration", "duration", "t_d", "5m", "s", true)},
         "y = y_0 + (y_1 − y_0)(t − t_0)/t_d"},
        [](const NetworkBuilder& b) -> WavePart::Wave {
            const double start = b.value("start");
            return {std::make_unique<PointsGenerator>(PointsGenerator::Shape{
                {{start, b.value("from")}, {start + b.value("duration"), b.value("to")}}})};
        });
    add({"signal-sine",
         "Running sine",
         "K",
         {"sine wave signal"},
         "offset + peak · sin(2π f t + φ)",
         "A sine that runs without samples. For one that is sampled and held take the sampled sine, or read this one "
         "in "
         "a task.",
         {},
         {"y"},
         "sin",
         {number("peak", "peak", "y_pk", "1", "", true), positive("f", "frequency", "f", "50", "Hz", true),
          number("phase", "phase", "φ", "0", "deg"), number("offset", "offset", "y_0", "0")},
         "y = y_0 + y_pk sin(2π f t + φ)"},
        [](const NetworkBuilder& b) -> WavePart::Wave {
            return {std::make_unique<SineGenerator>(b.value("f"), b.value("phase")), b.value("peak"),
                    b.value("offset")};
        });
    add({"carrier",
         "Carrier",
         "K",
         {"sawtooth", "ramp generator", "slope compensation"},
         "A saw or a triangle",
         "Runs between low and high: the saw rises and jumps back, the falling saw falls; the triangle is high at the "
         "start of a period and low in its middle. For a comparator, or as slope compensation.",
         {},
         {"y"},
         "saw",
         {recurring(positive("f", "frequency", "f_c", "100k", "Hz", true)), number("low", "low", "y_0", "0"),
          number("high", "high", "y_1", "1", "", true), choiceOf("shape", "shape", {"saw", "falling saw", "triangle"}),
          number("phase", "delay, in periods", "θ", "0")},
         "y = y_0 + (y_1 − y_0) carrier(t)"},
        [](const NetworkBuilder& b) -> WavePart::Wave {
            const std::string shape = b.choice("shape");
            const Carrier carrier = shape == "saw"        ? Carrier::saw
                                    : shape == "triangle" ? Carrier::triangle
                                                          : Carrier::fallingSaw;
            const double period = 1 / b.value("f");
            return {std::make_unique<CarrierWave>(carrier, period, b.value("phase") * period),
                    b.value("high") - b.value("low"), b.value("low")};
        });
}

}  // namespace hedgerow

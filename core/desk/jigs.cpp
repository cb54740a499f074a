#include "desk/jigs.h"

#include <algorithm>
#include <cmath>
#include <functional>

#include <fmt/format.h>

#include "base/text.h"
#include "model/points.h"
#include "model/quantity.h"
#include "model/values.h"
#include "runs/registry.h"
#include "runs/run.h"

namespace hedgerow {

namespace {

constexpr double ramp = 1e-3, quiet = 20e-6;  ///< of a slow ramp, and before it, s
constexpr double damping = 0.02;  ///< of the current, that flows beside an inductance under the whole voltage

/// When a pulse turns on and off, and how long each is looked at, s. What keeps a charge in its base takes longer.
struct Pulse {
    explicit Pulse(const PartKind& kind, double slower = 1) {
        const double scale = slower * (kind.findParameter("ttail") ? 3 : 1);
        on = 0.2e-6, off = on + 2e-6 * scale, window = 1.8e-6 * scale, end = off + window;
    }
    double on, off, window, end;
};

bool isTransistor(const PartKind& kind) { return kind.findPin("g") >= 0; }

/// A circuit by net names, with the parameters of a project.
class Bench {
public:
    explicit Bench(const Project& from) {
        project_.parameters = from.parameters;
        for (const Parameter& own : from.ownParameters())
            if (!project_.findParameter(own.name)) project_.parameters.push_back(own);
        add("reference", "G0", {"0"});
    }
    using Values = std::vector<std::pair<std::string, std::string>>;
    void add(const std::string& kind, const std::string& name, const std::vector<std::string>& nets,
             const Values& values = {}, int rung = 1) {
        Part part;
        part.kind = kind;
        for (const auto& [key, text] : values) part.values.set(key, text);
        put(std::move(part), name, nets, rung);
    }
    /// A copy of the device.
    void put(Part part, const std::string& name, const std::vector<std::string>& nets, int rung) {
        const PartKind& kind = *partLibrary().catalogue().find(part.kind);
        part.id = project_.newId();
        part.name = name;
        part.rung = rung;
        part.turn = 0;
        part.flip = false;
        part.at = {400 * column_++, 0};
        for (std::size_t i = 0; i < nets.size(); ++i)
            if (!nets[i].empty())
                project_.sheet().labels.push_back({project_.newId(), part.toSheet(kind.pins[i].at), nets[i], ""});
        project_.sheet().parts.push_back(std::move(part));
    }
    const std::vector<Parameter>& parameters() const { return project_.parameters; }
    Result<std::shared_ptr<Run>> run(double end, const CancelToken& cancel) {
        Plan& plan = project_.plans.front();
        plan.end = fmt::format("{}", end);
        plan.tolerance = "1e-4";
        plan.start = "operating point";  // or it rings from the start
        RunSettings settings;
        settings.memoryLimit = std::size_t{256} << 20;
        auto prepared = Run::prepare(std::make_shared<const Project>(project_), settings);
        if (!prepared) {  // some circuits have none
            plan.start = "given";
            prepared = Run::prepare(std::make_shared<const Project>(project_), settings);
        }
        if (!prepared) return prepared;
        (*prepared)->execute(cancel);
        const RunSummary& summary = (*prepared)->summary();
        if (summary.error) return *summary.error;
        if (summary.end != RunEnd::finished) return Error{ErrorCode::resource, std::string(describe(summary.end))};
        return prepared;
    }

private:
    Project project_;
    int column_ = 0;
};

/// A trace read often.
class Wave {
public:
    Wave(const Run& run, const std::string& name) : trace_(run.trace(name)) {}
    explicit operator bool() const { return trace_ && trace_->size() > 0; }
    /// No number where the device has no such quantity.
    double at(double t) const { return trace_ ? trace_->at(toTicks(t)).value_or(0) : std::nan(""); }
    /// Those of stored points, and that just before each jump.
    std::vector<double> instants(double from, double to) const {
        std::vector<double> all{from};
        for (std::size_t i = trace_ ? trace_->firstAtOrAfter(toTicks(from)) : 0; trace_ && i < trace_->size(); ++i) {
            const double t = toSeconds(trace_->time(i));
            if (t >= to) break;
            const bool jumps = i + 1 < trace_->size() && trace_->time(i + 1) == trace_->time(i);
            const double at = jumps ? toSeconds(trace_->time(i) - 1) : t;
            if (at > all.back()) all.push_back(at);
        }
        all.push_back(to);
        return all;
    }
    /// The first instant in [from, to] at which the wave has passed `level`, falling or rising; `to` where it does not.
    double passes(double level, bool falling, double from, double to) const {
        double before = from;
        for (const double t : instants(from, to)) {
            if (falling ? at(t) <= level : at(t) >= level) {
                double low = before, high = t;
                for (int k = 0; k < 40; ++k) {
                    const double middle = (low + high) / 2;
                    (falling ? at(middle) <= level : at(middle) >= level) ? high = middle : low = middle;
                }
                return high;
            }
            before = t;
        }
        return to;
    }
    /// Instant and value of the largest of `sign` times the wave.
    std::pair<double, double> peak(double sign, double from, double to) const {
        std::pair<double, double> best{from, at(from)};
        for (const double t : instants(from, to))
            if (sign * at(t) > sign * best.second) best = {t, at(t)};
        return best;
    }
    double integral(double from, double to) const {
        if (!trace_) return std::nan("");
        const auto measures = trace_->measure(toTicks(from), toTicks(to));
        return measures ? measures->mean * (to - from) : 0;
    }

private:
    std::unique_ptr<Trace> trace_;
};

struct Trial {
    const Project& project;
    const Part& device;
    const PartKind& kind;
    JigPoint point;
    int rung;
    const CancelToken& cancel;
    JigResult& out;

    Bench bench() const { return Bench(project); }
    std::vector<std::string> nets(const std::string& upper, const std::string& lower, const std::string& gate) const {
        return isTransistor(kind) ? std::vector{upper, lower, gate} : std::vector{upper, lower};
    }
    void figure(const std::string& key, const std::string& what, const std::string& unit, double value) const {
        auto& all = out.figures;
        auto found = std::find_if(all.begin(), all.end(), [&](const JigFigure& f) { return f.key == key; });
        if (found == all.end()) found = all.insert(all.end(), {key, what, unit, {}, {}});
        if (std::isfinite(value)) found->byRung.emplace_back(rung, value);
    }
    void curve(const std::vector<double>& instants, const std::function<double(double)>& x,
               const std::function<double(double)>& y, bool second = false) const {
        JigCurve curve{rung, second, {}, {}};
        for (const double t : instants)
            if (const double at = x(t), value = y(t); std::isfinite(at) && std::isfinite(value))
                curve.x.push_back(at), curve.y.push_back(value);
        if (!curve.x.empty()) out.curves.push_back(std::move(curve));
    }
    void axes(const char* x, const char* xUnit, const char* y, const char* yUnit, const char* second = "",
              const char* secondUnit = "") const {
        out.xName = x, out.xUnit = xUnit, out.yName = y, out.yUnit = yUnit, out.secondName = second,
        out.secondUnit = secondUnit;
    }
};

std::string number(double value) { return fmt::format("{:.15g}", value); }

/// A run of a slow ramp of current through the device. @param sign  -1 for in reverse, with the gate off
Result<std::shared_ptr<Run>> ramped(const Trial& t, const Part& device, double sign) {
    Bench bench = t.bench();
    bench.add(
        "points-current", "I0", sign > 0 ? std::vector<std::string>{"0", "x"} : std::vector<std::string>{"x", "0"},
        {{"points", fmt::format("0 0, {} 0, {} {}", number(quiet), number(quiet + ramp), number(t.point.current))}});
    bench.add("constant", "K0", {"g"}, {{"value", sign > 0 ? "1" : "0"}});
    bench.put(device, "X", t.nets("x", "0", "g"), t.rung);
    return bench.run(quiet + ramp, t.cancel);
}

/// Of a channel, where it depends on temperature: the whole device at one, as data sheets measure it, in short pulses.
Status hotResistance(const Trial& t) {
    if (!t.kind.findParameter("kt") || t.kind.findParameter("vce") || t.rung < 4) return {};
    Part device = t.device;
    device.values.set("ta", number(t.point.hot));
    device.values.set("rth", "1u");
    auto run = ramped(t, device, 1);
    if (!run) return run.error();
    t.figure("Rhot", fmt::format("its resistance at {:.4g} °C", t.point.hot), "Ω",
             Wave(**run, "X.v").at(quiet + ramp) / t.point.current);
    return {};
}

Status conduction(const Trial& t, double sign) {
    auto run = ramped(t, t.device, sign);
    if (!run) return run.error();
    const Wave v(**run, "X.v"), i(**run, "X.i");
    const double end = quiet + ramp;
    t.axes("v", "V", "i", "A");
    std::vector<double> instants;
    for (int k = 0; k <= 200; ++k) instants.push_back(quiet + ramp * k / 200);
    t.curve(
        instants, [&](double at) { return sign * v.at(at); }, [&](double at) { return sign * i.at(at); });
    const char* const name = sign > 0 ? "Von" : "Vrev";
    t.figure(name, fmt::format("voltage at {}", formatQuantity(t.point.current, "A", 3)), "V", sign * v.at(end));
    t.figure(std::string(name) + "2", fmt::format("voltage at {}", formatQuantity(t.point.current / 2, "A", 3)), "V",
             sign * v.at(quiet + ramp / 2));
    if (sign < 0 || !t.kind.findParameter("kt") || t.kind.findParameter("vce")) return {};
    t.figure("Ron", fmt::format("resistance at {}", formatQuantity(t.point.current, "A", 3)), "Ω",
             v.at(end) / t.point.current);
    return hotResistance(t);
}

/// A ramp of voltage across the device while it is off: i = C dv/dt.
Status capacitance(const Trial& t) {
    constexpr double rise = 10e-6;
    const bool transistor = isTransistor(t.kind);
    Bench bench = t.bench();
    bench.add("resistor", "R0", {"v", "x"}, {{"r", "50"}});  // or it rings with the inductance of the package
    bench.add("points-voltage", "V0", {"v", "0"},
              {{"points", fmt::format("0 0, 5u 0, {} {}", number(5e-6 + rise), number(t.point.voltage))}});
    bench.add("constant", "K0", {"g"}, {{"value", "0"}});
    // A diode blocks from k to a.
    bench.put(t.device, "X", transistor ? t.nets("x", "0", "g") : t.nets("0", "x", ""), t.rung);
    auto run = bench.run(5e-6 + rise, t.cancel);
    if (!run) return run.error();
    const Wave v(**run, "x.v"), i(**run, "X.i");
    const double sign = transistor ? 1 : -1, beside = rise / 402;
    t.axes("v", "V", "C", "F");
    std::vector<double> instants;
    for (int k = 5; k <= 200; ++k) instants.push_back(5e-6 + rise * k / 201);
    // The resistance bends the ramp where the capacitance changes.
    const auto c = [&](double at) { return sign * i.at(at) * 2 * beside / (v.at(at + beside) - v.at(at - beside)); };
    t.curve(
        instants, [&](double at) { return v.at(at); }, c);
    t.figure("C", fmt::format("capacitance at {}", formatQuantity(t.point.voltage, "V", 3)), "F", c(instants.back()));
    t.figure("C2", fmt::format("capacitance at {}", formatQuantity(t.point.voltage / 2, "V", 3)), "F",
             c(5e-6 + rise / 2));
    return {};
}

/// A supply, an inductance between it and net "in", a load from there to "sw", and a gate signal for one pulse.
void addSupply(Bench& bench, const Trial& t, double inductance, const Pulse& pulse) {
    bench.add("dc-voltage", "V0", {inductance > 0 ? "plus" : "in", "0"}, {{"level", number(t.point.voltage)}});
    if (inductance > 0) {
        bench.add("inductor", "L0", {"plus", "in"}, {{"l", number(inductance)}});
        bench.add("resistor", "R0", {"plus", "in"}, {{"r", number(t.point.voltage / (damping * t.point.current))}});
    }
    bench.add("dc-current", "I0", {"in", "sw"}, {{"level", number(t.point.current)}});
    const double period = 2 * pulse.end;
    bench.add("modulator", "M0", {"", "g", ""},
              {{"f", number(1 / period)},
               {"duty", number((pulse.off - pulse.on) / period)},
               {"phase", number(pulse.on / period)}});
    bench.add("constant", "K0", {"never"}, {{"value", "0"}});
}

/// A load current that the device takes over from another of its kind, and gives back. What commutates in no time does
/// so without an inductance.
/// @param other  whether that one is real, or an ideal diode
Result<std::shared_ptr<Run>> loaded(const Trial& t, const Part& device, const Pulse& pulse, bool other) {
    Bench bench = t.bench();
    addSupply(bench, t, t.rung >= 3 ? t.point.loop : 0, pulse);
    bench.put(device, "X", t.nets("sw", "0", "g"), t.rung);
    if (other)
        bench.put(t.device, "Y", t.nets("in", "sw", "never"), t.rung);
    else
        bench.add("diode", "Y", {"sw", "in"});
    return bench.run(pulse.end, t.cancel);
}

/// IEC 60747-9: from the gate's edge to where the voltage, or the current, is down to 2 %.
Status switching(const Trial& t, bool turningOn) {
    const Pulse pulse(t.kind);
    auto run = loaded(t, t.device, pulse, true);
    if (!run) return run.error();
    const Wave v(**run, "X.v"), i(**run, "X.i"), p(**run, "X.p");
    const double edge = turningOn ? pulse.on : pulse.off, last = edge + pulse.window, voltage = t.point.voltage,
                 current = t.point.current;
    const double conducting = v.at(pulse.off - 1e-7);
    const double end = turningOn ? v.passes(std::max(0.02 * voltage, 1.1 * conducting), true, edge, last)
                                 : i.passes(0.02 * current, true, edge, last);
    const double shown = edge + std::clamp(4 * (end - edge), 100e-9, last - edge);
    t.axes("t", "s", "v", "V", "i", "A");
    const auto time = [&](double at) { return at - edge; };
    t.curve(v.instants(edge - 50e-9, shown), time, [&](double at) { return v.at(at); });
    t.curve(
        i.instants(edge - 50e-9, shown), time, [&](double at) { return i.at(at); }, true);
    const Wave &first = turningOn ? i : v, &then = turningOn ? v : i;
    const double high = turningOn ? current : voltage, low = turningOn ? voltage : current;
    const double a = first.passes(0.1 * high, false, edge, last), b = first.passes(0.9 * high, false, a, last);
    const double c = then.passes(0.9 * low, true, edge, last), d = then.passes(0.1 * low, true, c, last);
    const auto per = [](double size, double seconds) { return seconds > 1e-13 ? 0.8 * size / seconds : NAN; };
    if (turningOn) {
        t.figure("Eon", "energy of turning on", "J", t.rung >= 3 ? p.integral(edge, end) : NAN);
        t.figure("didt_on", "di/dt, 10 % to 90 %", "A/s", per(current, b - a));
        t.figure("dvdt_on", "−dv/dt, 90 % to 10 %", "V/s", per(voltage, d - c));
        t.figure("Ipeak", "peak current", "A", i.peak(1, edge, last).second);
        t.figure("ton", "until the voltage is down", "s", end - edge);
    } else {
        t.figure("Eoff", "energy of turning off", "J", t.rung >= 3 ? p.integral(edge, end) : NAN);
        t.figure("dvdt_off", "dv/dt, 10 % to 90 %", "V/s", per(voltage, b - a));
        t.figure("didt_off", "−di/dt, 90 % to 10 %", "A/s", per(current, d - c));
        t.figure("Vpeak", "peak voltage", "V", v.peak(1, edge, last).second);
        t.figure("over", "over the supply", "V", v.peak(1, edge, last).second - voltage);
        t.figure("toff", "until the current is down", "s", end - edge);
    }
    return {};
}

Status gateCharge(const Trial& t) {
    // Slowly, so that the charge is that of the voltages: as if a small current did it.
    Part slow = t.device;
    auto input = partValue(t.device, t.kind, "ciss", ParameterTable(t.bench().parameters()).lookup());
    if (!input) return input.error();
    const Pulse pulse(t.kind, 4);
    slow.values.set("rg", number((pulse.off - pulse.on) / (7 * *input)));
    auto run = loaded(t, slow, pulse, false);
    if (!run) return run.error();
    const Wave vgs(**run, "X.vgs"), ig(**run, "X.ig");
    if (!vgs || !ig) return Error{ErrorCode::name, "the device shows no gate"};
    const double on = pulse.on, last = pulse.off - 1e-8;
    t.axes("q_g", "C", "v_gs", "V");
    std::vector<double> instants = vgs.instants(on, last), charge{0};
    for (std::size_t k = 1; k < instants.size(); ++k)
        charge.push_back(charge.back() + ig.integral(instants[k - 1], instants[k]));
    JigCurve curve{t.rung, false, charge, {}};
    for (const double at : instants) curve.y.push_back(vgs.at(at));
    t.out.curves.push_back(std::move(curve));
    t.figure("Qg", "gate charge, off to on", "C", charge.back());
    // Where the drain falls the gate stands nearly still.
    const Wave v(**run, "X.v");
    const double begins = v.passes(0.9 * t.point.voltage, true, on, last),
                 ends = v.passes(0.1 * t.point.voltage, true, begins, last);
    t.figure("Qgd", "charge while the voltage falls", "C", ig.integral(begins, ends));
    t.figure("Vgp", "gate voltage meanwhile", "V", vgs.at((begins + ends) / 2));
    return {};
}

/// The device in reverse, or a diode, carries the current and is turned off at a slope.
Status recovery(const Trial& t) {
    const bool transistor = isTransistor(t.kind);
    Bench bench = t.bench();
    const Pulse pulse(t.kind);
    addSupply(bench, t, t.point.voltage / t.point.slope, pulse);
    bench.add("switch", "S0", {"sw", "0", "g"}, {{"ron", "5m"}}, 2);
    bench.put(t.device, "X", transistor ? t.nets("in", "sw", "never") : t.nets("sw", "in", ""), t.rung);
    auto run = bench.run(pulse.off - 1e-8, t.cancel);
    if (!run) return run.error();
    const double sign = transistor ? -1 : 1, on = pulse.on, last = pulse.off - 1e-8;
    const Wave i(**run, "X.i");
    const auto forward = [&](double at) { return sign * i.at(at); };
    const double crosses = i.passes(0, sign > 0, on, last);
    const double shown = std::min(last, crosses + 3 * t.point.current / t.point.slope);
    t.axes("t", "s", "i", "A");
    t.curve(
        i.instants(on - 20e-9, shown), [&](double at) { return at - on; }, forward);
    const auto [peakAt, peak] = i.peak(-sign, crosses, last);
    const double least = 0.01 * t.point.current;
    if (std::abs(peak) < least) {
        t.figure("Irm", "peak reverse current", "A", 0);
        t.figure("Qrr", "recovered charge", "C", 0);
        return {};
    }
    // IEC 60747-2: from the zero of the current to where it has come back to a tenth of its peak.
    const double ends = i.passes(0.1 * peak, sign < 0, peakAt, last);
    t.figure("Irm", "peak reverse current", "A", std::abs(peak));
    t.figure("trr", "recovery time", "s", ends - crosses);
    t.figure("Qrr", "recovered charge", "C", std::abs(i.integral(crosses, ends)));
    return {};
}

const std::vector<std::pair<Jig, std::function<Status(const Trial&)>>>& allJigs() {
    static const std::vector<std::pair<Jig, std::function<Status(const Trial&)>>> all = {
        {{"conduction", "voltage over a current that rises slowly, gate on", 1},
         [](const Trial& t) { return conduction(t, 1); }},
        {{"reverse conduction", "the same in reverse, gate off", 1}, [](const Trial& t) { return conduction(t, -1); }},
        {{"capacitance", "between its ends, off, over the voltage", 3}, capacitance},
        {{"gate charge", "gate voltage over the charge that turns it on under load", 3}, gateCharge},
        {{"turning on", "turn-on under an inductive load that another device of this kind clamps", 1},
         [](const Trial& t) { return switching(t, true); }},
        {{"turning off", "turn-off of an inductive load into another device of this kind", 1},
         [](const Trial& t) { return switching(t, false); }},
        {{"recovery", "turned off at a slope of current, as a diode", 3}, recovery}};
    return all;
}

bool ofTransistors(const std::string& jig) { return jig != "conduction" && jig != "capacitance" && jig != "recovery"; }

/// Points of a data sheet that the device is given along, and how far each rung is away from them: in volts at their
/// currents, or as a part of their capacitances.
void comparePoints(const Part& device, const Jig& jig, const ProjectFolder& folder, JigResult& result) {
    const bool capacitance = jig.name == "capacitance";
    if (!capacitance && jig.name != "conduction") return;
    for (const char* key : capacitance ? std::vector{"cosscurve", "cjcurve"} : std::vector{"curve"}) {
        const std::string* const text = device.values.find(key);
        if (!text || text->empty()) continue;
        const auto points = capacitance ? pointsOf(*text, "V", "F", folder) : pointsOf(*text, "V", "A", folder);
        if (!points) continue;  // the device has said so, when it was elaborated
        for (const TablePoint& point : *points) result.points.emplace_back(point.t, point.value);
    }
    if (result.points.empty()) return;
    JigFigure figure{
        "distance", capacitance ? "off its points, in part" : "off its points", capacitance ? "" : "V", {}, {}};
    for (const JigCurve& curve : result.curves) {
        const auto &known = capacitance ? curve.x : curve.y, &told = capacitance ? curve.y : curve.x;
        std::optional<double> worst;
        for (const auto& [x, y] : result.points) {
            const double at = capacitance ? x : y, given = capacitance ? y : x;
            if (!capacitance && at == 0) continue;  // up to the knee every voltage has no current
            for (std::size_t i = 1; i < known.size(); ++i) {
                if (!(known[i - 1] <= at && at <= known[i]) || known[i] == known[i - 1]) continue;
                const double here =
                    told[i - 1] + (told[i] - told[i - 1]) * (at - known[i - 1]) / (known[i] - known[i - 1]);
                worst = std::max(worst.value_or(0), std::abs(here - given) / (capacitance ? given : 1));
                break;
            }
        }
        if (worst) figure.byRung.emplace_back(curve.rung, *worst);
    }
    if (!figure.byRung.empty()) result.figures.push_back(std::move(figure));
}

}  // namespace

std::vector<Jig> jigsFor(const PartKind& kind) {
    std::vector<Jig> jigs;
    if (!kind.findParameter("sheet")) return jigs;
    for (const auto& [jig, run] : allJigs())
        if (isTransistor(kind) || !ofTransistors(jig.name)) jigs.push_back(jig);
    return jigs;
}

Result<JigResult> runJig(const Project& project, const Part& device, const Jig& jig, const JigPoint& point,
                         const CancelToken& cancel, int onlyRung) {
    const PartKind* kind = partLibrary().catalogue().find(device.kind);
    const auto found = std::find_if(allJigs().begin(), allJigs().end(),
                                    [&](const auto& known) { return known.first.name == jig.name; });
    if (!kind || found == allJigs().end())
        return Error{ErrorCode::name, fmt::format("{} has no jig '{}'", device.name, jig.name), device.name};
    JigResult result;
    for (const RungKind& rung : kind->rungs) {
        if (rung.rung < jig.leastRung || (onlyRung > 0 && rung.rung != onlyRung)) continue;
        const Status status = found->second({project, device, *kind, point, rung.rung, cancel, result});
        if (cancel.cancelled()) return Error{ErrorCode::resource, "stopped"};
        if (!status) result.failures.push_back(fmt::format("rung {}: {}", rung.rung, status.error().message));
    }
    if (result.curves.empty() && !result.failures.empty())
        return Error{ErrorCode::numeric, joined(result.failures, "; "), device.name};
    comparePoints(device, jig, project.folder, result);
    if (const std::string* text = device.values.find("sheet"))
        if (auto given = sheetFigures(*text))
            for (const auto& [key, value] : *given)
                for (JigFigure& figure : result.figures)
                    if (figure.key == key) figure.given = value;
    return result;
}

Result<std::vector<std::pair<std::string, double>>> sheetFigures(const std::string& text) {
    std::vector<std::pair<std::string, double>> figures;
    for (std::size_t start = 0; start <= text.size();) {
        const std::size_t end = std::min(text.find(',', start), text.size());
        const std::string_view one = trimmed(std::string_view(text).substr(start, end - start));
        start = end + 1;
        if (one.empty()) continue;
        const std::size_t gap = one.find_first_of(" \t=");
        auto value = gap == std::string_view::npos
                         ? Result<Quantity>(Error{ErrorCode::syntax, "a name and a number are expected"})
                         : evaluate(trimmed(one.substr(gap + 1)));
        if (!value)
            return Error{ErrorCode::syntax, fmt::format("'{}': {}", one, value.error().message), {}, {}, "sheet"};
        figures.emplace_back(std::string(one.substr(0, gap)), value->value);
    }
    return figures;
}

}  // namespace hedgerow

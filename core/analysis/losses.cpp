#include "analysis/losses.h"

#include <algorithm>
#include <cmath>

#include "model/modules.h"
#include "model/rung_rule.h"
#include "model/span_text.h"
#include "model/values.h"
#include "network/loss_data.h"
#include "analysis/core_loss.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr double least = 1e-3;    ///< of the largest current or voltage: what is below that is none
constexpr int rounds = 30;        ///< towards the temperature that the losses at it lead to
constexpr double settled = 1e-6;  ///< K

using Event = SwitchingEvent;

struct Tables {
    EnergyTable on, off, recovery;
    double energy(const Event& event, double temperature) const {
        const EnergyTable& table = event.sort == Event::Sort::on ? on : event.sort == Event::Sort::off ? off : recovery;
        return table.at(event.current, event.voltage, temperature);
    }
};

/// Jumps of current and voltage in a window: both are stored before and after each.
/// @param gated     it turns on and off, or on only
/// @param bothWays  with currents of both signs
/// @param forward   the part itself recovers, as diodes and thyristors do; else a diode beside it, backwards
std::vector<Event> eventsOf(const Trace& v, const Trace& i, Tick from, Tick to, bool gated, bool bothWays,
                            bool forward) {
    std::vector<Event> events;
    const auto largest = [&](const Trace& trace) {
        const auto m = trace.measure(from, to);
        return m ? std::max(std::abs(m->min), std::abs(m->max)) : 0.0;
    };
    const double noCurrent = least * largest(i), noVoltage = least * largest(v);
    for (std::size_t k = i.firstAtOrAfter(from); k < i.size() && i.time(k) < to;) {
        std::size_t last = k;
        while (last + 1 < i.size() && i.time(last + 1) == i.time(k)) ++last;
        if (last > k) {
            const double before = i.value(k), after = i.value(last);
            const double blocked = v.value(k), blocks = v.value(last), t = toSeconds(i.time(k));
            const double sign = forward ? -1 : 1;  // what recovers itself blocks backwards
            const double way = bothWays && before + after < 0 ? -1 : 1;
            if (gated && way * before > noCurrent && std::abs(after) <= noCurrent && way * blocks > noVoltage)
                events.push_back({t, Event::Sort::off, way * before, way * blocks});
            if (gated && std::abs(before) <= noCurrent && way * after > noCurrent && way * blocked > noVoltage)
                events.push_back({t, Event::Sort::on, way * after, way * blocked});
            if (-sign * before > noCurrent && -sign * after <= noCurrent && sign * blocks > noVoltage)
                events.push_back({t, Event::Sort::recovery, std::abs(before), std::abs(blocks)});
        }
        k = last + 1;
    }
    return events;
}

std::vector<Event> eventsOf(const Trace& v, const Trace& i, Tick from, Tick to, const PartKind& kind) {
    const bool turnsOn = kind.findParameter("eon"), turnsOff = kind.findParameter("eoff"), recovers = kind.findParameter("err");
    return eventsOf(v, i, from, to, turnsOn, turnsOff && !recovers, recovers && !turnsOff);
}

/// The highest temperature over a window that begins at the mean: constant power between events, energies at them.
double peakTemperature(const ThermalNetwork& network, const std::vector<Event>& events, const Tables& tables,
                       const Trace& power, Tick from, Tick to, double mean, double total, double caseTemperature) {
    std::vector<double> rise;
    for (const auto& term : network.terms()) rise.push_back(total * term.resistance);
    const auto temperature = [&] {
        double sum = caseTemperature;
        for (const double r : rise) sum += r;
        return sum;
    };
    double highest = temperature();
    Tick now = from;
    const auto goOn = [&](Tick until) {
        const auto m = power.measure(now, until);
        const double seconds = toSeconds(until - now), conducted = m ? m->mean : 0;
        for (std::size_t k = 0; k < rise.size(); ++k) {
            const auto& term = network.terms()[k];
            const double fall = std::exp(-seconds / term.time);
            rise[k] = rise[k] * fall + conducted * term.resistance * (1 - fall);
        }
        now = until;
        highest = std::max(highest, temperature());
    };
    for (const Event& event : events) {
        if (const Tick t = toTicks(event.at); t > now) goOn(t);
        const double energy = tables.energy(event, mean);
        for (std::size_t k = 0; k < rise.size(); ++k)
            rise[k] += energy * network.terms()[k].resistance / network.terms()[k].time;
        highest = std::max(highest, temperature());
    }
    if (to > now) goOn(to);
    return highest;
}

/// What an inductor, coupled ones or a transformer burn in the first winding and in the core, where the core has a
/// loss.
std::optional<LossRow> windingLoss(const RunRecord& run, const Part& part, const PartKind& kind,
                                   const ParameterTable& parameters, Tick from, Tick to) {
    if (!kind.findParameter("pcore") || part.rung < 2) return {};
    const auto value = [&](const char* key) {
        const auto found = partValue(part, kind, key, parameters.lookup());
        return found ? *found : 0.0;
    };
    const bool transformer = kind.findParameter("n1") != nullptr, several = transformer || kind.findParameter("l1");
    const CoreLoss core{value("pcore"), value("fcore"), value("lcore"), value("acore"), value("bcore")};
    const auto v = run.trace(part.name + (several ? ".v1" : ".v")), i = run.trace(part.name + (several ? ".i1" : ".i"));
    if (core.loss <= 0 || !v || !i || v->size() < 2) return {};
    const double resistance = value(transformer ? "r1" : several ? "dcr1" : "dcr");
    std::vector<double> times, voltages;
    const auto add = [&](Tick t, double volts, double amperes) {
        times.push_back(toSeconds(t));
        voltages.push_back(volts - resistance * amperes);
    };
    const Tick start = std::max(from, v->time(0)), end = std::min(to, v->time(v->size() - 1));
    if (start >= end) return {};
    add(start, v->at(start).value_or(0), i->at(start).value_or(0));
    // Both are stored at the same points.
    for (std::size_t k = v->firstAtOrAfter(start + 1); k < v->size() && v->time(k) < end; ++k)
        add(v->time(k), v->value(k), k < i->size() ? i->value(k) : 0);
    add(end, v->at(end - 1).value_or(0), i->at(end - 1).value_or(0));
    const auto current = i->measure(start, end);
    LossRow row{part.name, current ? resistance * current->rms * current->rms : 0};
    row.core = core.mean(times, voltages);
    return row;
}

}  // namespace

std::vector<SwitchingEvent> switchingEvents(const RunRecord& run, const Part& part, Tick from, Tick to) {
    const PartKind* const kind = partLibrary().catalogue().find(part.kind);
    const auto v = run.trace(part.name + ".v"), i = run.trace(part.name + ".i");
    if (!kind || kind->group != "Switches" || !v || !i || i->size() < 2) return {};
    return eventsOf(*v, *i, std::max(from, i->time(0)), std::min(to, i->time(i->size() - 1)), *kind);
}

std::vector<LossRow> lossesOf(const RunRecord& run, Tick from, Tick to) {
    std::vector<LossRow> rows;
    FlatProject flat = flattened(run.project(), partLibrary().catalogue());
    // Parts stand where the span put them in which the window ends; what lies before it was solved otherwise.
    for (const SpanOutcome& span : run.summary().spans) {
        if (span.from >= to || span.to <= from || span.from == span.to) continue;
        const auto typed = readSpanText(span.text);
        if (!typed || span.to < to) continue;
        (void)applyRungRule(typed->rungs, flat.project, partLibrary().catalogue());
        from = std::max(from, span.from);
        break;
    }
    const ParameterTable parameters(flat.project.parameters);
    for (const Part& part : flat.project.sheet().parts) {
        const PartKind* const kind = partLibrary().catalogue().find(part.kind);
        if (!kind) continue;
        if (auto winding = windingLoss(run, part, *kind, parameters, from, to)) rows.push_back(*winding);
        if (kind->group != "Switches" || kind->rungAtOrBelow(part.rung).rung != 2) continue;
        const auto v = run.trace(part.name + ".v"), i = run.trace(part.name + ".i"), p = run.trace(part.name + ".p");
        if (!v || !i || !p || i->size() < 2) continue;
        const Tick start = std::max(from, i->time(0)), end = std::min(to, i->time(i->size() - 1));
        const auto conducted = p->measure(start, end);
        if (!conducted) continue;
        const auto text = [&](const char* key) { return kind->findParameter(key) ? textValue(part, *kind, key) : ""; };
        const auto table = [&](const char* key) {
            auto read = EnergyTable::read(text(key));
            return read ? *read : EnergyTable();
        };
        const Tables tables{table("eon"), table("eoff"), table("err")};
        const auto ladder = kind->findParameter("ladder") ? partChoice(part, *kind, "ladder") : Result<std::string>("");
        const auto thermal = ThermalNetwork::read(text("zth"), ladder && *ladder == "K/W and J/K");
        const auto caseTemperature =
            kind->findParameter("tcase") ? partValue(part, *kind, "tcase", parameters.lookup()) : Result<double>(25.0);
        const std::vector<Event> events = eventsOf(*v, *i, start, end, *kind);
        const double length = toSeconds(end - start);
        LossRow row{part.name, conducted->mean};
        const double resistance = thermal ? thermal->resistance() : 0;
        double temperature = caseTemperature ? *caseTemperature : 25.0;
        const double base = temperature;
        for (int round = 0; round < rounds; ++round) {
            row.on = row.off = row.rr = 0;
            row.events = 0;
            for (const Event& event : events) {
                const double energy = tables.energy(event, temperature);
                (event.sort == Event::Sort::on    ? row.on
                 : event.sort == Event::Sort::off ? row.off
                                                  : row.rr) += energy / length;
                row.events += energy > 0;
            }
            const double next = base + row.total() * resistance;
            const bool done = std::abs(next - temperature) < settled;
            temperature = next;
            if (done) break;
        }
        if (resistance > 0) {
            row.mean = temperature;
            row.peak = peakTemperature(*thermal, events, tables, *p, start, end, temperature, row.total(), base);
        }
        rows.push_back(std::move(row));
    }
    std::stable_sort(rows.begin(), rows.end(),
                     [](const LossRow& a, const LossRow& b) { return a.total() > b.total(); });
    return rows;
}

}  // namespace hedgerow

#include "studies/learn.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include <fmt/format.h>

#include "analysis/losses.h"
#include "base/text.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

using Sort = SwitchingEvent::Sort;

constexpr double sameVoltage = 0.1;  ///< of the largest: events within it share a curve
constexpr const char* lower = "at most 2";

const char* nameOf(Sort sort) { return sort == Sort::on ? "on" : sort == Sort::off ? "off" : "recovery"; }
const char* keyOf(Sort sort) { return sort == Sort::on ? "eon" : sort == Sort::off ? "eoff" : "err"; }

/// An event with the middles between it and its neighbours.
struct Window {
    SwitchingEvent event;
    double before = 0, from = 0, to = 0;  ///< s; `before` the middle one event earlier
};

/// Events of a device that are no events of other devices too close to see apart stay together: each has its window.
std::vector<Window> windowsOf(const std::vector<SwitchingEvent>& events, double end) {
    std::vector<Window> all;
    for (std::size_t i = 1; i + 1 < events.size(); ++i) {
        const auto middle = [&](std::size_t a, std::size_t b) { return (events[a].at + events[b].at) / 2; };
        Window window{.event = events[i], .before = i >= 2 ? middle(i - 2, i - 1) : events[0].at / 2,
                      .from = middle(i - 1, i), .to = middle(i, i + 1)};
        if (window.to > window.from && window.to < end) all.push_back(window);
    }
    return all;
}

/// Some that span the currents at each voltage.
std::vector<Window> chosenOf(const std::vector<Window>& all, Sort sort, int points) {
    double largest = 0;
    for (const Window& one : all)
        if (one.event.sort == sort) largest = std::max(largest, one.event.voltage);
    std::map<long, std::vector<Window>> byVoltage;
    for (const Window& one : all)
        if (one.event.sort == sort && largest > 0)
            byVoltage[std::lround(one.event.voltage / (sameVoltage * largest))].push_back(one);
    std::vector<Window> chosen;
    for (auto& [voltage, group] : byVoltage) {
        std::stable_sort(group.begin(), group.end(),
                         [](const Window& a, const Window& b) { return a.event.current < b.event.current; });
        const double low = group.front().event.current, high = group.back().event.current;
        const int count = high > 1.02 * low ? points : 1;
        std::set<std::size_t> taken;
        for (int k = 0; k < count; ++k) {
            const double wanted = count > 1 ? low + (high - low) * k / (count - 1) : (low + high) / 2;
            std::size_t nearest = 0;
            // Of those as near the latest: it is furthest from the start.
            for (std::size_t i = 0; i < group.size(); ++i)
                if (std::abs(group[i].event.current - wanted) < std::abs(group[nearest].event.current - wanted) ||
                    (std::abs(group[i].event.current - group[nearest].event.current) < 0.01 * high &&
                     group[i].event.at > group[nearest].event.at))
                    nearest = i;
            if (taken.insert(nearest).second) chosen.push_back(group[nearest]);
        }
    }
    return chosen;
}

std::string number(double value) { return fmt::format("{:.5g}", value); }

}  // namespace

Result<Learned> learnLosses(const LearnRequest& request, const CancelToken& cancel) {
    const Plan* const plan = request.plan.empty() ? &request.project->plans.front() : request.project->findPlan(request.plan);
    if (!plan) return Error{ErrorCode::name, fmt::format("the project has no plan '{}'", request.plan), {}, {}, "plan"};
    // The plan as one span.
    auto plain = std::make_shared<Project>(*request.project);
    for (Plan& one : plain->plans)
        if (one.name == plan->name) one.spans.clear();
    RunSettings settings{.scene = request.scene, .plan = plan->name};
    const auto spansOf = [&](std::vector<std::string> lines) {
        RunSettings with = settings;
        with.spans = std::move(lines);
        return with;
    };
    std::vector<Part> devices;
    for (const Part& part : plain->sheets.front().parts) {
        const PartKind* const kind = partLibrary().catalogue().find(part.kind);
        const bool can = kind && kind->group == "Switches" && kind->hasRung(3) &&
                         (kind->findParameter("eon") || kind->findParameter("err"));
        const bool asked = std::find(request.parts.begin(), request.parts.end(), part.name) != request.parts.end();
        if (asked && !can)
            return Error{ErrorCode::range, part.name + " has no rung to learn switching energies from", part.name};
        if (can && (asked || request.parts.empty())) devices.push_back(part);
    }
    for (const std::string& name : request.parts)
        if (std::none_of(devices.begin(), devices.end(), [&](const Part& part) { return part.name == name; }))
            return Error{ErrorCode::name, fmt::format("there is no device {} on the main sheet", name), name};
    if (devices.empty()) return Error{ErrorCode::range, "no device of the circuit has energies to learn"};

    if (request.progress) request.progress("rung 2");
    auto base = Run::prepare(plain, spansOf({fmt::format("to the end: {}, best", lower)}));
    if (!base) return base.error();
    (*base)->execute(cancel);
    if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped"};
    if ((*base)->summary().end != RunEnd::finished)
        return (*base)->summary().error.value_or(Error{ErrorCode::resource, "the run on rung 2 did not end"});
    const double end = toSeconds((*base)->summary().reached);

    Learned learned;
    for (const Part& device : devices) {
        const auto events = switchingEvents(**base, device, 0, (*base)->summary().reached);
        const std::vector<Window> windows = windowsOf(events, end);
        const auto conducted = (*base)->trace(device.name + ".p");
        std::map<Sort, std::vector<LearnedPoint>> bySort;
        std::string failure;
        for (const Sort sort : {Sort::on, Sort::off, Sort::recovery})
            for (const Window& window : chosenOf(windows, sort, request.points)) {
                if (request.progress)
                    request.progress(fmt::format("{}, {} at {}", device.name, nameOf(sort),
                                                 formatQuantity(window.event.current, "A", 3)));
                std::vector<std::string> lines;
                if (window.before > 0) lines.push_back(fmt::format("until {:.15g}: {}, best, keep nothing", window.before, lower));
                lines.push_back(fmt::format("until {:.15g}: {}, best", window.to, request.rungs));
                auto run = Run::prepare(plain, spansOf(std::move(lines)));
                if (!run) {
                    failure = run.error().text();
                    continue;
                }
                const Tick from = toTicks(window.from), to = toTicks(window.to);
                const auto burnt = (*run)->executeMeasured({device.name + ".p"}, from, to, cancel);
                if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped"};
                const auto before = conducted->measure(from, to);
                if (!burnt || !burnt->front() || !before || (*run)->summary().end != RunEnd::finished) {
                    failure = burnt ? (*run)->summary().brief() : burnt.error().text();
                    continue;
                }
                const double energy = (burnt->front()->mean - before->mean) * toSeconds(to - from);
                bySort[sort].push_back({.part = device.name,
                                        .event = nameOf(sort),
                                        .at = window.event.at,
                                        .current = window.event.current,
                                        .voltage = window.event.voltage,
                                        .energy = energy});
            }
        if (bySort.empty()) {
            learned.left.push_back(device.name + ": " + (failure.empty() ? "it switches nothing in this run" : failure));
            continue;
        }
        for (auto& [sort, points] : bySort) {
            // Curves over current, one a voltage.
            std::stable_sort(points.begin(), points.end(), [](const LearnedPoint& a, const LearnedPoint& b) {
                return std::pair(a.voltage, a.current) < std::pair(b.voltage, b.current);
            });
            std::string text;
            double largest = 0;
            for (const LearnedPoint& point : points) largest = std::max(largest, point.voltage);
            std::map<long, std::vector<const LearnedPoint*>> curves;
            for (const LearnedPoint& point : points)
                curves[std::lround(point.voltage / (sameVoltage * largest))].push_back(&point);
            for (auto& [key, curve] : curves) {
                std::stable_sort(curve.begin(), curve.end(), [](const auto* a, const auto* b) { return a->current < b->current; });
                double voltage = 0, last = 0;
                for (const LearnedPoint* point : curve) voltage += point->voltage / static_cast<double>(curve.size());
                std::string pairs;
                for (const LearnedPoint* point : curve)
                    // What costs nothing, or gives energy back, has no place in a table of losses.
                    if (point->current > last * 1.001 && point->energy > 0) {
                        pairs += (pairs.empty() ? "" : ", ") + number(point->current) + " " + number(point->energy);
                        last = point->current;
                    }
                if (!pairs.empty()) text += (text.empty() ? "" : "; ") + number(voltage) + ": " + pairs;
            }
            learned.values.push_back({device.name, keyOf(sort), text});
            learned.points.insert(learned.points.end(), points.begin(), points.end());
        }
        learned.values.push_back({device.name, "learned",
                                  fmt::format("this circuit, plan {}, {}", plan->name, request.rungs)});
    }
    if (learned.values.empty())
        return Error{ErrorCode::numeric, "nothing was learnt: " + joined(learned.left, "; ")};
    return learned;
}

Project withLearned(const Project& project, const Learned& learned) {
    Project changed = project;
    for (const Learned::Value& value : learned.values)
        for (Part& part : changed.sheets.front().parts)
            if (part.name == value.part) part.values.set(value.key, value.text);
    return changed;
}

}  // namespace hedgerow

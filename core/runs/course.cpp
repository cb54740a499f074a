#include "runs/course.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "model/quantity.h"
#include "periodic/settle/common_period.h"
#include "periodic/settle/scout.h"
#include "runs/settling.h"

namespace hedgerow {

namespace {

constexpr std::size_t mostSimulations = 8;  ///< kept at once
constexpr int looks = 256;                  ///< at a condition, in the time that a span may last
constexpr double settledPart = 1e-3;        ///< of its size, by which a state still moves in all that is to come
constexpr double quietJump = 1e-4;          ///< of a value, below which it counts as the same
constexpr std::size_t mostJumps = 64;

/// Electrical energy of states, by name; temperatures and what the control remembers have none.
std::map<std::string, double> energies(const Snapshot& snapshot, const Network& network) {
    std::map<std::string, double> all;
    for (std::size_t i = 0; i < snapshot.states.size() && i < network.states.size(); ++i) {
        const Snapshot::State& state = snapshot.states[i];
        if (network.states[i].heat || network.states[i].sort == StateSort::signal) continue;
        all[state.part + "." + state.name] = state.storage * state.value * state.value / 2;
    }
    return all;
}

double sumOf(const std::map<std::string, double>& energies) {
    double sum = 0;
    for (const auto& [name, energy] : energies) sum += energy;
    return sum;
}

}  // namespace

Course::Course(const CourseSetting& setting, RunSink& sink, const CancelToken& cancel)
    : setting_(setting), plan_(setting.plan), sink_(sink), cancel_(cancel), here_(setting.start) {}

RunSummary Course::run() {
    for (std::size_t i = 0; i < plan_.spans.size(); ++i)
        if (!runSpan(i)) break;
    leave();
    return merged();
}

bool Course::fail(Error error) {
    error_ = std::move(error);
    end_ = endOf(error_, cancel_.cancelled(), false);
    return false;
}

/// @return whether it goes on
bool Course::ended(RunEnd end) {
    if (end == RunEnd::finished) return true;
    end_ = end;
    if (active_) error_ = active_->simulation->summary().error;
    return false;
}

RunRequest Course::requestOf(const EpochCircuit& circuit, Tick end) const {
    RunRequest request = circuit.request;
    request.end = end;
    request.reference = setting_.options.reference;
    request.instants = setting_.options.instants;
    if (!setting_.options.wanted.empty()) {
        const std::vector<double> usual = request.tolerances;
        request.tolerances.assign(static_cast<std::size_t>(circuit.network().unknownCount()), notWanted);
        for (const std::string& name : setting_.options.wanted)
            if (const QuantityInfo* const quantity = circuit.network().findQuantity(name))
                for (const Terms* terms : {&quantity->a, &quantity->b})
                    for (const auto& [column, factor] : *terms) {
                        const auto unknown = static_cast<std::size_t>(column);
                        request.tolerances[unknown] = usual.empty() ? request.traceTolerance : usual[unknown];
                    }
    }
    return request;
}

std::size_t Course::outcomeOf(std::size_t span) {
    const auto [place, isNew] = outcomeOfSpan_.try_emplace(span, outcomes_.size());
    if (isNew) outcomes_.push_back({.text = plan_.spans[span].text, .from = now_, .to = now_, .times = 0});
    return place->second;
}

/// Writes what is held back, and remembers where the simulation stands.
void Course::leave() {
    if (!active_) return;
    active_->simulation->finish();
    active_->sink->release();
    here_ = active_->simulation->snapshot();
    now_ = here_->t;
    active_ = nullptr;
}

/// What the piece that ends here came to.
void Course::account(std::size_t outcome) {
    SpanOutcome& of = outcomes_[outcome];
    of.seconds += watch_.seconds() - counted_.seconds;
    of.to = now_;
    std::int64_t points = 0, events = 0;
    for (const auto& one : simulations_) {
        points += one->sink->points();
        events += one->simulation->events();
    }
    of.points += points - counted_.points;
    of.events += events - counted_.events;
    counted_ = {.seconds = watch_.seconds(), .points = points, .events = events};
}

bool Course::take(std::size_t way, Tick until, std::size_t outcome) {
    const std::size_t k = plan_.intervalAt(now_);
    const EpochCircuit& circuit = *plan_.ways[way].circuits[k];
    if (active_ && active_->way == way && active_->circuit == &circuit) return true;
    if (active_ && active_->way == way && active_->circuit->engine == circuit.engine && active_->end >= until &&
        sameShape(active_->circuit->network(), circuit.network())) {
        active_->circuit = &circuit;
        // Where rows stand for quantities, those of the other values are made of them otherwise.
        if (!setting_.frame.direct()) {
            active_->simulation->finish();
            active_->sink->goOnIn(circuit.network());
        }
        if (active_->simulation->goOnIn(circuit.network())) return true;
        return ended(RunEnd::failed);
    }
    std::vector<double> before;
    const Network* was = nullptr;
    if (active_) {
        const FrameSink& sink = *active_->sink;
        was = &active_->circuit->network();
        leave();
        before = sink.last();
    } else if (settledNetwork_) {
        was = std::exchange(settledNetwork_, nullptr);
    }
    // All that this way goes through without another network between is one simulation.
    Tick end = plan_.end;
    for (std::size_t next = k + 1; next < plan_.intervals.size() && plan_.intervals[next].from < end; ++next) {
        const std::optional<EpochCircuit>& later = plan_.ways[way].circuits[next];
        if (!later || later->engine != circuit.engine || !sameShape(circuit.network(), later->network()))
            end = plan_.intervals[next].from;
    }
    Active* taken = nullptr;
    for (const auto& one : simulations_)
        if (one->way == way && one->circuit == &circuit && one->end >= until) taken = one.get();
    if (!taken) {
        if (simulations_.size() >= mostSimulations) {
            counted_.points -= simulations_.front()->sink->points();
            counted_.events -= simulations_.front()->simulation->events();
            retire(*simulations_.front());
            simulations_.erase(simulations_.begin());
        }
        auto made = std::make_unique<Active>();
        made->way = way, made->circuit = &circuit, made->end = std::max(end, until);
        made->sink = std::make_unique<FrameSink>(setting_.frame, circuit.network(), plan_.ways[way].keep, sink_);
        if (plan_.typedSpans || plan_.ways.size() > 1) made->sink->watch();
        made->simulation =
            circuit.engine->begin(circuit.network(), requestOf(circuit, made->end), *made->sink, cancel_);
        taken = made.get();
        simulations_.push_back(std::move(made));
    }
    active_ = taken;
    const bool keeps = plan_.ways[way].keep.points;
    if (!keeps || gap_) taken->sink->storeGap(now_);
    gap_ = !keeps;
    taken->sink->expect();
    const auto started = here_ ? taken->simulation->start(*here_) : taken->simulation->start();
    if (!started) return ended(RunEnd::failed);
    if (was) handOver(outcome, *taken, before, was);
    return true;
}

/// What the other circuit makes of the state it was given.
void Course::handOver(std::size_t outcome, const Active& to, const std::vector<double>& before, const Network* was) {
    SpanOutcome& of = outcomes_[outcome];
    if (of.takesOver()) return;  // of several, the first is told
    const Network& network = to.circuit->network();
    const auto old = energies(*here_, *was), now = energies(to.simulation->snapshot(), network);
    of.energyBefore = sumOf(old), of.energyAfter = sumOf(now);
    for (const auto& [name, energy] : old)
        if (!now.contains(name)) of.gone.push_back(name), of.energyGone += energy;
    for (const auto& [name, energy] : now)
        if (!old.contains(name)) of.added.push_back(name), of.energyNew += energy;
    const std::vector<double> after = to.sink->first();
    if (before.empty() || after.empty()) return;
    std::map<std::string_view, double> values;
    for (std::size_t i = 0; i < before.size(); ++i) values[was->quantities[i].name] = before[i];
    for (std::size_t i = 0; i < after.size(); ++i) {
        const QuantityInfo& quantity = network.quantities[i];
        const auto found = values.find(quantity.name);
        if (found == values.end() || std::isnan(found->second) || std::isnan(after[i])) continue;
        const double size = std::max(std::abs(found->second), std::abs(after[i]));
        if (std::abs(after[i] - found->second) > quietJump * size && size > 1e-12)
            of.jumps.push_back(
                {.quantity = quantity.name, .unit = quantity.unit, .before = found->second, .after = after[i]});
    }
    std::stable_sort(of.jumps.begin(), of.jumps.end(), [](const Jump& a, const Jump& b) {
        return std::abs(a.after - a.before) > std::abs(b.after - b.before);
    });
    if (of.jumps.size() > mostJumps) of.jumps.resize(mostJumps);
}

bool Course::advance(Tick until) {
    const bool goesOn = ended(active_->simulation->advance(until));
    now_ = active_->simulation->now();
    return goesOn;
}

/// To an instant, through the intervals of the scene.
bool Course::runPiece(std::size_t way, Tick until, std::size_t outcome) {
    Tick at = now_;
    while (at < until) {
        const std::size_t k = plan_.intervalAt(at);
        const Tick stop = k + 1 < plan_.intervals.size() ? std::min(until, plan_.intervals[k + 1].from) : until;
        // A grid may stand before the instant at which the other values come.
        const Tick stands = std::exchange(now_, at);
        if (!take(way, until, outcome)) return false;
        now_ = stands;
        if (!advance(stop)) return false;
        at = stop;
    }
    now_ = until;
    return true;
}

/// Looks again and again whether the condition holds, and goes back to the instant at which it does.
bool Course::runUntilHolds(const ReadySpan& span, std::size_t outcome) {
    const Tick latest = span.length ? std::min(plan_.end, later(now_, *span.length)) : span.latest;
    const Tick length = std::max<Tick>(1, (latest - now_) / looks);
    for (Tick at = now_; at < latest;) {
        const std::size_t k = plan_.intervalAt(at);
        Tick stop = std::min(latest, later(at, length));
        if (k + 1 < plan_.intervals.size()) stop = std::min(stop, plan_.intervals[k + 1].from);
        now_ = at;
        if (!take(span.way, latest, outcome)) return false;
        const QuantityInfo* const quantity = active_->circuit->network().findQuantity(span.condition->quantity);
        FrameSink& sink = *active_->sink;
        const Snapshot before = active_->simulation->snapshot();
        sink.hold();
        if (!advance(stop)) return sink.release(), false;
        // On a grid it stands where it is.
        if (active_->circuit->engine->onGrid()) active_->simulation->advance(active_->simulation->now());
        active_->simulation->finish();
        const auto holds = sink.passes(*quantity, span.condition->above, span.value);
        if (holds) {
            sink.drop();
            if (auto back = active_->simulation->start(before); !back) return sink.release(), fail(back.error());
            if (!advance(*holds)) return sink.release(), false;
            active_->simulation->finish();
            sink.release();
            now_ = *holds;
            outcomes_[outcome].ended = fmt::format("{} held at {}", span.condition->quantity,
                                                   formatQuantity(toSeconds(*holds), "s", 6));
            return true;
        }
        sink.release();
        at = stop;
    }
    now_ = latest;
    outcomes_[outcome].ended = fmt::format("{} {} {} never held", span.condition->quantity,
                                           span.condition->above ? ">" : "<", span.condition->value);
    return true;
}

/// Period by period, until what is left would move no state by more than a thousandth of its size.
bool Course::runUntilSettled(const ReadySpan& span, std::size_t outcome) {
    const Tick latest = span.length ? std::min(plan_.end, later(now_, *span.length)) : span.latest;
    const FineTime begin = toFine(now_);
    std::map<std::string, double> sizes;
    std::optional<Snapshot> last;
    double lastChange = 0;
    int quiet = 0, periods = 0;
    Tick since = 0;  // the interval of the scene in which it counts
    FineTime counted = begin;
    while (now_ < latest) {
        const std::size_t k = plan_.intervalAt(now_);
        const Network& network = plan_.ways[span.way].circuits[k]->network();
        FineTime period = setting_.period ? toFinePeriod(static_cast<long double>(*setting_.period)) : FineTime{0};
        if (period == 0) {
            const auto common = settle::commonPeriod(network);
            if (!common) return fail(common.error());
            if (!common->period)
                return fail({ErrorCode::numeric,
                             fmt::format("span \"{}\": nothing in the circuit has a period of its own, so that it "
                                         "cannot be seen whether it has settled; type the period in the plan",
                                         span.text)});
            period = *common->period;
        }
        if (plan_.intervals[k].from != since) {
            // Other values: what was seen before does not count.
            since = plan_.intervals[k].from;
            last.reset(), quiet = 0, periods = 0, counted = toFine(now_);
        }
        ++periods;
        const Tick next = toTick(counted + period * periods);
        if (!runPiece(span.way, std::min(next, latest), outcome)) return false;
        if (next > latest) break;
        const Snapshot at = active_->simulation->snapshot();
        std::map<char, double> ofKind;
        for (const Snapshot::State& state : at.states) {
            double& size = sizes[state.part + "." + state.name];
            size = std::max(size, std::abs(state.value));
            double& largest = ofKind[state.name.front()];
            largest = std::max(largest, size);
        }
        if (last && last->states.size() == at.states.size()) {
            double change = 0;
            for (std::size_t i = 0; i < at.states.size(); ++i) {
                if (network.states.size() == at.states.size() && network.states[i].heat) continue;
                const Snapshot::State& state = at.states[i];
                const double size = std::max(sizes[state.part + "." + state.name], 1e-3 * ofKind[state.name.front()]);
                if (size > 0) change = std::max(change, std::abs(state.value - last->states[i].value) / size);
            }
            const double ratio = lastChange > 0 ? std::clamp(change / lastChange, 0.0, 0.99999) : 0.99999;
            const double left = change / (1 - ratio);
            quiet = change <= settledPart && left <= settledPart ? quiet + 1 : 0;
            lastChange = change;
        }
        last = at;
        // Events still to come keep it from being over.
        if (quiet >= 3) {
            outcomes_[outcome].ended =
                fmt::format("settled after {} periods, at {}", periods, formatQuantity(toSeconds(now_), "s", 6));
            return true;
        }
    }
    outcomes_[outcome].ended = "had not settled when its time was over";
    return true;
}

/// Finds the periodic state of the circuit at this place, and goes on from there at the present instant.
bool Course::runSettle(const ReadySpan& span) {
    const std::size_t outcome = outcomeOf(static_cast<std::size_t>(&span - plan_.spans.data()));
    leave();
    const Stopwatch search;
    const std::size_t k = plan_.intervalAt(now_);
    const EpochCircuit& circuit = *plan_.ways[span.way].circuits[k];
    Changes changes = plan_.intervals[k].changes;
    changes.rungs = plan_.ways[span.way].rungs;
    RunRequest request = requestOf(circuit, plan_.end);
    const auto found = settleCircuit({.project = setting_.project,
                                      .changes = changes,
                                      .engine = *circuit.engine,
                                      .network = circuit.network(),
                                      .request = request,
                                      .start = here_,
                                      .period = setting_.period},
                                     cancel_, setting_.searching);
    searching_ += search.seconds();
    if (!found) return fail(found.error());
    settled_ = *found;
    Snapshot there = settled_->start;
    // At the same place of its period as the present instant.
    const FineTime past = settled_->found ? FineTime{0} : toFine(now_) % settled_->period;
    const Tick ahead = toTick(past);
    if (ahead > 0) {
        settle::NoPoints none;
        request.end = ahead;
        const auto simulation = circuit.engine->begin(circuit.network(), request, none, cancel_);
        auto started = simulation->start(there);
        if (!started) return fail(started.error());
        if (simulation->advance(ahead) != RunEnd::finished)
            return fail(simulation->summary().error.value_or(Error{ErrorCode::stop, "stopped"}));
        there = simulation->snapshot();
    }
    here_ = there.later(now_ - ahead);
    here_->t = now_;
    SpanOutcome& of = outcomes_[outcome];
    of.engine = circuit.engine->name();
    of.times = 1;
    of.ended = fmt::format("periodic state found, period {}, after {} periods of computing",
                           formatQuantity(settled_->seconds(), "s", 6), settled_->periods);
    of.seconds += search.seconds();
    counted_.seconds = watch_.seconds();
    settledNetwork_ = &circuit.network();
    return true;
}

bool Course::runSpan(std::size_t index) {
    const ReadySpan& span = plan_.spans[index];
    if (span.settle) return runSettle(span);
    const std::size_t outcome = outcomeOf(index);
    const Tick begin = now_;
    const Tick until = span.length ? std::min(plan_.end, later(begin, *span.length)) : span.until.value_or(plan_.end);
    outcomes_[outcome].from = begin;
    if (until <= begin) {
        outcomes_[outcome].ended = "left out: its end was over when it would have begun";
        return true;
    }
    bool goesOn = true;
    if (span.untilSettled || span.condition) {
        goesOn = span.condition ? runUntilHolds(span, outcome) : runUntilSettled(span, outcome);
        outcomes_[outcome].times = 1;
        account(outcome);
    } else if (span.every == 0) {
        goesOn = runPiece(span.way, until, outcome);
        outcomes_[outcome].times = 1;
        account(outcome);
    } else {
        // The time between two returns counts for the span before.
        std::size_t other = outcome;
        for (std::size_t k = 0; k < index; ++k)
            if (!plan_.spans[k].settle && outcomeOfSpan_.contains(k)) other = outcomeOfSpan_[k];
        for (std::int64_t k = 0; goesOn && now_ < until; ++k) {
            const Tick start = begin + k * span.every;
            goesOn = runPiece(span.way, std::min(until, later(start, span.lasting)), outcome);
            ++outcomes_[outcome].times;
            account(outcome);
            if (!goesOn) break;
            goesOn = runPiece(span.between, std::min(until, later(start, span.every)), outcome);
            account(other);
        }
    }
    SpanOutcome& of = outcomes_[outcome];
    if (active_) of.engine = plan_.ways[span.way].circuits[plan_.intervalAt(std::max<Tick>(begin, now_ - 1))]->engine->name();
    return goesOn;
}

namespace {

void addTo(RunSummary& all, const RunSummary& one) {
    const auto add = [](auto& list, const auto& more) {
        for (const auto& [name, value] : more) {
            const auto found = std::find_if(list.begin(), list.end(), [&n = name](const auto& e) { return e.first == n; });
            if (found == list.end())
                list.emplace_back(name, value);
            else if (name.starts_with("longest") || name.starts_with("step of"))
                found->second = std::max(found->second, value);
            else
                found->second += value;
        }
    };
    add(all.counters, one.counters);
    add(all.seconds, one.seconds);
    for (const auto& [part, count] : one.eventsByPart) all.eventsByPart[part] += count;
    for (const auto& [part, count] : one.stepsByPart) all.stepsByPart[part] += count;
    if (all.engine.find(one.engine) == std::string::npos) all.engine += (all.engine.empty() ? "" : ", ") + one.engine;
}

}  // namespace

/// A simulation that is not taken up again.
void Course::retire(const Active& simulation) {
    const RunSummary summary = simulation.simulation->summary();
    addTo(retired_, summary);
    for (const auto& [part, count] : summary.stepsByPart) steps_[simulation.way][part] += count;
}

/// The part that ruled most steps of a way of solving, and how many of all.
std::string Course::ruledBy(std::map<std::string, std::int64_t> steps) const {
    std::int64_t all = 0, most = 0;
    std::string part;
    for (const auto& [name, count] : steps) {
        all += count;
        if (count > most) most = count, part = name;
    }
    if (all == 0) return "";
    return fmt::format("{}, {:.0f} % of the steps", part, 100.0 * static_cast<double>(most) / static_cast<double>(all));
}

RunSummary Course::merged() const {
    RunSummary all = retired_;
    if (simulations_.size() == 1 && all.engine.empty()) all = simulations_.front()->simulation->summary();
    else
        for (const auto& one : simulations_) addTo(all, one->simulation->summary());
    all.end = end_;
    all.error = error_;
    all.reached = now_;
    if (here_) all.snapshot = *here_;
    if (all.engine.empty()) all.engine = std::string(plan_.first().engine->name());
    if (plan_.typedSpans) {
        all.spans = outcomes_;
        auto steps = steps_;
        for (const auto& one : simulations_)
            for (const auto& [part, count] : one->simulation->summary().stepsByPart) steps[one->way][part] += count;
        for (const auto& [span, outcome] : outcomeOfSpan_)
            if (!plan_.spans[span].settle) all.spans[outcome].ruled = ruledBy(steps[plan_.spans[span].way]);
    }
    if (settled_) {
        all.settled = settled_->words();
        all.seconds.insert(all.seconds.begin(), {"search", searching_});
    }
    bool total = false;
    for (auto& [name, seconds] : all.seconds)
        if (name == "total") seconds = watch_.seconds(), total = true;
    if (!total) all.seconds.emplace_back("total", watch_.seconds());
    return all;
}

}  // namespace hedgerow

#include "runs/price.h"

#include <algorithm>
#include <cmath>
#include <optional>

#include <fmt/format.h>

#include "base/deadline.h"
#include "model/quantity.h"
#include "network/scene.h"
#include "periodic/settle/common_period.h"

namespace hedgerow {

namespace {

constexpr std::size_t trialBytes = std::size_t{96} << 20;
constexpr double shortTimes = 2e-4;    ///< s: what short times are never known better than
constexpr double leastTrial = 3e-3;    ///< s
constexpr std::size_t leastSamples = 5;
constexpr int firstPieces = 20;        ///< of a period, with which a trial begins
constexpr double lateShare = 0.45;     ///< of the time of a trial: the rate is that of what comes after
constexpr double diskShare = 0.55;     ///< of the bytes in memory, that a kept run takes
constexpr double plainPeriods = 6, tries = 2.2;  ///< of a search for the periodic state: per number that is moved

/// What a trial has seen at an instant.
struct Sample {
    double simulated = 0, seconds = 0, events = 0, points = 0, bytes = 0, steps = 0;
    Sample operator-(const Sample& o) const {
        return {.simulated = simulated - o.simulated,
                .seconds = seconds - o.seconds,
                .events = events - o.events,
                .points = points - o.points,
                .bytes = bytes - o.bytes,
                .steps = steps - o.steps};
    }
};

/// What a way of solving costs: so much to begin with, and so much for each second.
struct Rates {
    Sample all;       ///< of the trial
    Sample later;     ///< of its second half
    bool whole = false;
    std::string ruled;
    double over(double seconds, double Sample::*what) const {
        if (whole || later.simulated <= 0 || seconds <= all.simulated) return all.*what;
        return all.*what + later.*what / later.simulated * (seconds - all.simulated);
    }
};

class Trials {
public:
    Trials(const Run& run, const PriceBook& book, double budget, const CancelToken& cancel)
        : run_(run), plan_(run.epochs()), book_(book), cancel_(cancel) {
        for (const ReadySpan& span : plan_.spans) left_ += span.every > 0 ? 2 : 1;
        if (run.settles()) ++left_;
        budget_ = budget;
    }

    Result<RunPrice> all() {
        RunPrice price;
        if (run_.settles()) {
            auto searched = search(plan_.spans.front().way, "settle");
            if (!searched) return searched.error();
            price.spans.push_back(std::move(*searched));
        }
        for (const ReadySpan& span : plan_.spans) {
            if (cancel_.cancelled()) return Error{ErrorCode::stop, "stopped"};
            auto one = span.settle ? search(span.way, span.text) : priceOfSpan(span);
            if (!one) return one.error();
            price.spans.push_back(std::move(*one));
        }
        double spread = 0;
        for (SpanPrice& span : price.spans) {
            const PriceBook::Factor factor = book_.factor(span.kind);
            // What was gone through wholly will take as long again, but for what else the machine does.
            const double certain = span.whole ? 0.7 : 1.0;
            span.seconds = span.raw * factor.likely;
            span.low = std::max(0.0, span.seconds * std::pow(factor.low / factor.likely, certain) - shortTimes);
            span.high = span.seconds * std::pow(factor.high / factor.likely, certain) + shortTimes;
            if (span.waits) span.low = std::min(span.low, 0.1 * span.seconds);
            price.seconds += span.seconds;
            spread += std::pow(span.high - span.seconds, 2);
            price.low += std::pow(span.seconds - span.low, 2);
            price.events += span.events, price.points += span.points, price.bytes += span.bytes;
        }
        price.low = std::max(0.0, price.seconds - std::sqrt(price.low));
        price.high = price.seconds + std::sqrt(spread);
        price.disk = diskShare * price.bytes;
        return price;
    }

private:
    std::string kindOf(const EpochCircuit& circuit) const {
        const double size = std::max(1, circuit.network().unknownCount());
        return fmt::format("{}, {} unknowns", circuit.engine->name(), 1 << static_cast<int>(std::ceil(std::log2(size))));
    }

    Result<SpanPrice> priceOfSpan(const ReadySpan& span) {
        const Tick begin = now_, end = span.length ? later(begin, *span.length) : span.until.value_or(plan_.end);
        const double length = std::max(0.0, toSeconds(std::min(end, plan_.end) - begin));
        const EpochCircuit& circuit = circuitAt(span.way, begin);
        SpanPrice price{.text = plan_.typedSpans ? span.text : "",
                        .engine = std::string(circuit.engine->name()),
                        .kind = kindOf(circuit),
                        .simulated = length};
        price.waits = span.untilSettled || span.condition;
        auto rates = trial(span.way, begin, span.every > 0 ? std::min(end, later(begin, span.lasting)) : end);
        if (!rates) return rates.error();
        price.ruled = rates->ruled;
        const auto add = [&](const Rates& of, double seconds, double times) {
            price.raw += times * of.over(seconds, &Sample::seconds);
            price.events += times * of.over(seconds, &Sample::events);
            price.points += times * of.over(seconds, &Sample::points);
            price.bytes += times * of.over(seconds, &Sample::bytes);
            price.steps += times * of.over(seconds, &Sample::steps);
        };
        if (span.every == 0) {
            // Each network of the scene in it has its beginning.
            const double beginning = std::max(
                0.0, rates->all.seconds - (rates->later.simulated > 0 ? rates->later.seconds / rates->later.simulated *
                                                                            rates->all.simulated
                                                                      : rates->all.seconds));
            int more = 0;
            for (const SceneInterval& interval : plan_.intervals)
                if (interval.from > later(begin, toTicks(rates->all.simulated)) && interval.from < end) ++more;
            add(*rates, length, 1);
            price.raw += more * beginning;
            price.whole = rates->whole;
        } else {
            const double times = std::ceil(length / toSeconds(span.every));
            add(*rates, toSeconds(span.lasting), times);
            auto between = trial(span.between, now_, later(begin, span.every));
            if (!between) return between.error();
            // What is built for the time between is built once.
            add(*between, times * toSeconds(span.every - span.lasting), 1);
        }
        if (!rates->whole && !price.waits) moveTo(std::min(end, plan_.end), circuit);
        price.made = wordsOf(price, *rates);
        return price;
    }

    std::string wordsOf(const SpanPrice& price, const Rates& rates) const {
        const double events = std::max(price.events, 0.0);
        std::string text = fmt::format("{:.0f} events", events);
        if (price.steps > 0) text += fmt::format(", {} steps", formatPrefixed(price.steps, 2));
        text += fmt::format(", {} points", formatPrefixed(std::max(price.points, 1.0), 2));
        if (rates.later.simulated > 0 && rates.later.seconds > 0)
            text += fmt::format("; {} of computing a simulated millisecond",
                                formatQuantity(1e-3 * rates.later.seconds / rates.later.simulated, "s", 2));
        if (!price.ruled.empty()) text += "; steps ruled by " + price.ruled;
        return text;
    }

    const EpochCircuit& circuitAt(std::size_t way, Tick t) const {
        const auto& circuits = plan_.ways[way].circuits;
        const std::size_t k = plan_.intervalAt(t);
        if (circuits[k]) return *circuits[k];
        for (const auto& circuit : circuits)
            if (circuit) return *circuit;
        return plan_.first();
    }

    Sample sampleOf(const Simulation& simulation, const FrameSink& sink, const TraceStore& store, const Stopwatch& watch,
                    Tick begin) const {
        return {.simulated = toSeconds(simulation.now() - begin),
                .seconds = watch.seconds(),
                .events = static_cast<double>(simulation.events()),
                .points = static_cast<double>(sink.points()),
                .bytes = static_cast<double>(store.bytes())};
    }

    /// The share of the next trial in the time that is left.
    void share() {
        each_ = std::max(0.0, budget_ - spent_.seconds()) / std::max(1, left_) + leastTrial;
        left_ = std::max(1, left_ - 1);
    }

    /// Some way from where the last trial has led, or all of it.
    Result<Rates> trial(std::size_t way, Tick begin, Tick end) {
        share();
        const EpochCircuit& circuit = circuitAt(way, begin);
        TraceStore store(run_.frame().signalCount(), trialBytes);
        FrameSink sink(run_.frame(), circuit.network(), plan_.ways[way].keep, store);
        RunRequest request = circuit.request;
        request.end = std::max(end, begin + 1);
        const CancelToken token;
        const Deadline deadline(4 * each_ + 0.05, token, cancel_);
        const Stopwatch watch;
        const auto simulation = circuit.engine->begin(circuit.network(), request, sink, token);
        auto started = here_ ? simulation->start(*here_) : simulation->start();
        if (!started && here_) started = simulation->start();
        Rates rates;
        if (!started) {
            if (cancel_.cancelled()) return Error{ErrorCode::stop, "stopped"};
            return token.cancelled() ? Result<Rates>(rates) : Result<Rates>(started.error());
        }
        std::vector<Sample> samples{sampleOf(*simulation, sink, store, watch, begin)};
        Tick piece = firstPiece(circuit, request.end - begin), reached = begin;
        // At least so many pieces that what the beginning takes can be told from the rest.
        while (simulation->now() < request.end && (samples.back().seconds < each_ || samples.size() < leastSamples) &&
               !token.cancelled()) {
            const Tick before = simulation->now();
            std::size_t k = plan_.intervalAt(std::max(before, reached));
            const Tick border = k + 1 < plan_.intervals.size() ? plan_.intervals[k + 1].from : neverTick;
            const Tick stop = std::min({request.end, later(before, piece), border});
            const RunEnd went = simulation->advance(stop);
            reached = stop;
            samples.push_back(sampleOf(*simulation, sink, store, watch, begin));
            if (went != RunEnd::finished) break;
            if (stop == border && border < request.end) {
                // Other values: the run builds anew there, and so does the trial.
                const auto& next = plan_.ways[way].circuits[k + 1];
                if (!next || next->engine != circuit.engine || !sameShape(circuit.network(), next->network())) break;
                if (!run_.frame().direct()) simulation->finish(), sink.goOnIn(next->network());
                if (!simulation->goOnIn(next->network())) break;
            }
            const Sample last = samples.back() - samples[samples.size() - 2];
            // Twice as far, but not beyond the time there is.
            const double left = std::max(0.0, each_ - samples.back().seconds);
            const double rate = last.seconds > 0 ? last.simulated / last.seconds : 1e9;
            const double wanted = std::min(2 * toSeconds(piece), std::max(1.2 * rate * left, toSeconds(piece) / 8));
            piece = std::max<Tick>(1, toTicks(wanted));
        }
        simulation->finish();
        rates.all = sampleOf(*simulation, sink, store, watch, begin);
        const RunSummary summary = simulation->summary();
        rates.all.steps = static_cast<double>(summary.counter("steps"));
        rates.whole = simulation->now() >= request.end;
        std::int64_t most = 0;
        if (!circuit.engine->exact())
            for (const auto& [part, count] : summary.stepsByPart)
                if (count > most) most = count, rates.ruled = part;
        // What comes after the first part of the time tells what is still to come.
        std::size_t from = 0;
        while (from + 2 < samples.size() && samples[from].seconds < lateShare * rates.all.seconds) ++from;
        rates.later = rates.all - samples[from];
        rates.later.steps = rates.all.simulated > 0 ? rates.all.steps * rates.later.simulated / rates.all.simulated : 0;
        here_ = simulation->snapshot();
        now_ = simulation->now();
        return rates;
    }

    /// A part of the time after which everything comes again.
    Tick firstPiece(const EpochCircuit& circuit, Tick length) const {
        const auto common = settle::commonPeriod(circuit.network());
        const Tick period = common && common->period ? toTick(*common->period) : length / 100;
        return std::max<Tick>(1, std::min(period, length) / firstPieces);
    }

    /// To the end of a span that was not gone through: the same place of the period there.
    void moveTo(Tick end, const EpochCircuit& circuit) {
        if (!here_ || end <= now_) return;
        const auto common = settle::commonPeriod(circuit.network());
        Tick by = end - now_;
        if (common && common->period) by = toTick(toFine(by) / *common->period * *common->period);
        here_ = here_->later(by);
        now_ = end;
        here_->t = end;
    }

    /// A search for the periodic state: tried, and where that does not end, counted.
    Result<SpanPrice> search(std::size_t way, const std::string& text) {
        const EpochCircuit& circuit = circuitAt(way, now_);
        SpanPrice price{.text = text, .engine = std::string(circuit.engine->name()), .kind = "settle, " + kindOf(circuit)};
        const std::size_t k = plan_.intervalAt(now_);
        Changes changes = plan_.intervals[k].changes;
        changes.rungs = plan_.ways[way].rungs;
        share();
        const CancelToken token;
        const Stopwatch watch;
        SettleProgress at;
        Result<Settled> found = Error{ErrorCode::stop, "stopped"};
        {
            const Deadline deadline(each_ + 0.01, token, cancel_);
            RunRequest request = circuit.request;
            request.end = plan_.end;
            found = settleCircuit({.project = run_.project(),
                                   .changes = changes,
                                   .engine = *circuit.engine,
                                   .network = circuit.network(),
                                   .request = request,
                                   .start = here_,
                                   .period = run_.typedPeriod()},
                                  token, [&](const SettleProgress& progress) { at = progress; });
        }
        price.raw = watch.seconds();
        if (cancel_.cancelled()) return Error{ErrorCode::stop, "stopped"};
        if (found) {
            price.whole = true;
            price.made = fmt::format("{} periods of {}", found->periods, formatQuantity(found->seconds(), "s", 3));
            Snapshot there = found->start;
            there = there.later(toTick(toFine(now_) / found->period * found->period));
            there.t = now_;
            here_ = std::move(there);
            return price;
        }
        if (!token.cancelled()) return found.error();
        int slow = 0;
        for (const StateInfo& state : circuit.network().states) slow += state.heat ? 0 : 1;
        const double periods = plainPeriods + tries * (std::min(slow, 40) + 1);
        if (at.periods > 0) price.raw *= std::max(1.2, periods / at.periods);
        else price.raw *= periods;
        price.made = fmt::format("about {:.0f} periods", periods);
        return price;
    }

    const Run& run_;
    const RunPlan& plan_;
    const PriceBook& book_;
    const CancelToken& cancel_;
    double budget_ = 0, each_ = 0;  ///< s; of the next trial
    int left_ = 0;                  ///< trials
    Stopwatch spent_;
    std::optional<Snapshot> here_;
    Tick now_ = 0;
};

}  // namespace

Result<RunPrice> priceOf(const Run& run, const PriceBook& book, double budget, const CancelToken& cancel) {
    return Trials(run, book, budget, cancel).all();
}

void learnFrom(const RunPrice& price, const RunSummary& summary, PriceBook& book) {
    if (summary.end != RunEnd::finished) return;
    std::vector<const SpanPrice*> runs;
    for (const SpanPrice& span : price.spans)
        if (!span.kind.starts_with("settle")) runs.push_back(&span);
    if (summary.spans.empty()) {
        // The search for the periodic state is told apart.
        const double search = summary.second("search");
        for (const SpanPrice& span : price.spans)
            if (span.kind.starts_with("settle") && search > 0) book.learn(span.kind, span.raw, search);
        if (runs.size() == 1) book.learn(runs.front()->kind, runs.front()->raw, summary.second("total") - search);
        return;
    }
    if (summary.spans.size() != price.spans.size()) return;
    for (std::size_t i = 0; i < price.spans.size(); ++i)
        if (!price.spans[i].waits) book.learn(price.spans[i].kind, price.spans[i].raw, summary.spans[i].seconds);
}

}  // namespace hedgerow

#include "engines/exact/exact_engine.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <deque>
#include <set>

#include <fmt/format.h>

#include "base/text.h"
#include "engines/exact/commutation.h"
#include "engines/exact/recorder.h"
#include "model/quantity.h"

namespace hedgerow {

namespace exact {
namespace {

constexpr int mostStates = 150;              ///< dense matrices: beyond this a configuration takes too long to build
constexpr std::size_t chatterEvents = 1000;  ///< this many located events within `chatterSpan` are chattering
constexpr double chatterSpan = 1e-9;

/// First tau in [0, h] where the polynomial falls below zero, or -1. Bisection-safeguarded Newton, to the last digit:
/// what is left of a guard may be multiplied by an off-resistance in the next configuration.
double firstRoot(const std::array<double, 6>& c, double h) {
    const auto value = [&](double x) {
        double sum = 0.0;
        for (std::size_t j = c.size(); j-- > 0;) sum = sum * x + c[j];
        return sum;
    };
    const auto slope = [&](double x) {
        double sum = 0.0;
        for (std::size_t j = c.size(); j-- > 1;) sum = sum * x + static_cast<double>(j) * c[j];
        return sum;
    };
    if (value(h) >= 0.0) return -1.0;
    if (c[0] <= 0.0) return 0.0;
    double low = 0.0, high = h, x = std::clamp(c[0] / std::max(-c[1], 1e-300), 0.0, h);
    for (int i = 0; i < 100; ++i) {
        const double v = value(x);
        (v > 0.0 ? low : high) = x;
        const double d = slope(x);
        double next = d != 0.0 ? x - v / d : low;
        if (!(next > low && next < high)) next = 0.5 * (low + high);
        if (next == x) break;
        x = next;
    }
    return x;
}

/// One run of one network.
class Run {
public:
    Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel)
        : network_(network),
          request_(request),
          sink_(sink),
          cancel_(cancel),
          frame_(network),
          magnitudes_(frame_),
          commutation_(frame_, magnitudes_),
          recorder_(network, request, sink, magnitudes_, cancel),
          y_(Vector::Zero(frame_.size())),
          segments_(network.elements.size()),
          signals_(static_cast<std::size_t>(network.signalCount), 0.0) {}

    RunSummary solve() {
        RunSummary summary;
        summary.engine = "exact";
        start();
        while (!stopped_ && t_ < request_.end) {
            const Tick next = std::min(request_.end, nextInstant());
            if (travel(next))
                crossing();
            else if (t_ >= next && t_ < request_.end)
                scheduled();
            sink_.progress(t_);
        }
        finish(summary);
        return summary;
    }

private:
    void start() {
        for (int i = 0; i < frame_.states; ++i) y_(i) = network_.states[static_cast<std::size_t>(i)].initial;
        refreshSources();
        evaluateSignals();
        for (std::size_t i = 0; i < segments_.size(); ++i) {
            const int gate = network_.elements[i]->gateSignal();
            segments_[i] = gate >= 0 ? (signals_[static_cast<std::size_t>(gate)] > 0.5 ? 1 : 0)
                                     : network_.elements[i]->initialSegment();
        }
        measureSources();
        enter(segments_, "as the run starts");
    }

    /// Gives the noise floors a size before anything was solved.
    void measureSources() {
        LinearStamp stamp(network_.nodeCount());
        for (std::size_t i = 0; i < segments_.size(); ++i) network_.elements[i]->stamp(stamp, segments_[i]);
        for (const Triplet& entry : stamp.bw) {
            const double size = std::abs(entry.value * y_(frame_.states + entry.column));
            magnitudes_.seeVoltage(size);
        }
    }

    void refreshSources() {
        y_(frame_.states) = 1.0;
        for (std::size_t i = 0; i < network_.sources.size(); ++i) {
            const auto first = static_cast<std::size_t>(frame_.states + network_.sourceOffsets[i]);
            network_.sources[i]->valueAt(t_,
                                         {y_.data() + first, static_cast<std::size_t>(network_.sources[i]->size())});
        }
    }

    std::vector<double>& inputsOf(const SignalConnection& connection) {
        inputs_.clear();
        for (const int input : connection.inputs)
            inputs_.push_back(input < 0 ? 0.0 : signals_[static_cast<std::size_t>(input)]);
        return inputs_;
    }

    void evaluateSignals() {
        for (const SignalConnection& connection : network_.signalBlocks) {
            outputs_.assign(connection.outputs.size(), 0.0);
            connection.block->evaluate(t_, inputsOf(connection), outputs_);
            for (std::size_t i = 0; i < outputs_.size(); ++i)
                if (connection.outputs[i] >= 0) signals_[static_cast<std::size_t>(connection.outputs[i])] = outputs_[i];
        }
        recorder_.setSignals(signals_);
    }

    Tick nextInstant() {
        if (nextSource_ <= t_) {
            nextSource_ = neverTick;
            for (const auto& source : network_.sources) nextSource_ = std::min(nextSource_, source->nextBreak(t_));
        }
        if (nextSignal_ <= t_) {
            nextSignal_ = neverTick;
            for (const SignalConnection& connection : network_.signalBlocks)
                nextSignal_ = std::min(nextSignal_, connection.block->nextInstant(t_, inputsOf(connection)));
        }
        return std::min(nextSource_, nextSignal_);
    }

    /// Sources jump and gates switch at the present instant.
    void scheduled() {
        refreshSources();
        std::vector<int> wanted = mode_->segments;
        std::string cause;
        if (t_ >= nextSignal_) {
            evaluateSignals();
            for (std::size_t i = 0; i < wanted.size(); ++i) {
                const int gate = network_.elements[i]->gateSignal();
                const int now = gate < 0 ? wanted[i] : signals_[static_cast<std::size_t>(gate)] > 0.5 ? 1 : 0;
                if (now == wanted[i]) continue;
                wanted[i] = now;
                ++gateEvents_;
                ++eventsByPart_[i];
                if (cause.empty())
                    cause = fmt::format("when {} turns {}", network_.elements[i]->part(), now ? "on" : "off");
            }
        } else {
            ++sourceEvents_;
        }
        enter(wanted, cause);
    }

    /// A guard ended its segment at the present instant.
    void crossing() {
        std::vector<int> wanted = mode_->segments;
        const GuardRow& guard = mode_->configuration.guards[crossed_];
        const auto element = static_cast<std::size_t>(guard.element);
        wanted[element] = guard.next;
        ++crossings_;
        ++eventsByPart_[element];
        recent_.emplace_back(t_, guard.element);
        if (recent_.size() > chatterEvents) {
            recent_.pop_front();
            if (toSeconds(t_ - recent_.front().first) < chatterSpan) return chattering();
        }
        enter(wanted, fmt::format("when {} changes", network_.elements[element]->part()));
    }

    void chattering() {
        std::set<std::string> parts;
        for (const auto& [when, element] : recent_)
            parts.insert(network_.elements[static_cast<std::size_t>(element)]->part());
        fail({ErrorCode::numeric,
              fmt::format("{} switch without end at {}: add what would slow them, a capacitance or an inductance",
                          listed({parts.begin(), parts.end()}), formatQuantity(toSeconds(t_), "s", 6)),
              *parts.begin()});
    }

    void enter(const std::vector<int>& wanted, const std::string& cause) {
        const Stopwatch watch;
        auto mode = commutation_.settle(y_, wanted, t_, cause);
        secondsEvents_ += watch.seconds();
        if (!mode) return fail(mode.error());
        mode_ = *mode;
        ++events_;
        recorder_.instant(*mode_, y_, t_);
    }

    void fail(Error error) {
        error_ = std::move(error);
        stopped_ = true;
    }

    /// Moves on to `next`, or to the first guard that ends before. @return true when a guard ended its segment
    bool travel(Tick next) {
        while (t_ < next) {
            if (cancel_.cancelled() || recorder_.full()) {
                stopped_ = true;
                return false;
            }
            const Tick left = next - t_, top = mode_->propagator.topStep();
            const Tick pieces = (left + top - 1) / top;
            const Tick length = left / pieces;
            if (piece(length)) return true;
            if (stopped_) return false;
        }
        return false;
    }

    /// One step of the given length if no guard can end within it, else a walk down the ladder.
    bool piece(Tick length) {
        const Stopwatch watch;
        Vector after = y_;
        mode_->propagator.advance(after, length);
        const bool safe = guardsHold(y_, after, length);
        if (safe) accept(std::move(after), length);
        const bool crossed = !safe && walk(length);
        secondsTravel_ += watch.seconds();
        return crossed;
    }

    bool walk(Tick length) {
        ++descents_;
        Propagator& propagator = mode_->propagator;
        int level = std::max(propagator.levelWithin(length) - 1, -1), successes = 0;
        while (length > 0 && !stopped_) {
            if (cancel_.cancelled()) {
                stopped_ = true;
                return false;
            }
            level = std::min(level, propagator.levelWithin(length));
            if (level < 0) return shortPiece(length);
            const Tick step = propagator.ladderStep(level);
            Vector after = y_;
            propagator.climb(after, level);
            if (guardsHold(y_, after, step)) {
                accept(std::move(after), step);
                length -= step;
                if (++successes >= 2) ++level, successes = 0;
                continue;
            }
            successes = 0;
            if (level > 0) {
                --level;
                continue;
            }
            if (shortPiece(step)) return true;
            length -= step;
        }
        return false;
    }

    /// At most one base step: the crossing is a root of the Taylor polynomial.
    bool shortPiece(Tick length) {
        Propagator& propagator = mode_->propagator;
        double first = -1.0;
        for (std::size_t i = 0; i < mode_->configuration.guards.size(); ++i) {
            const double root =
                firstRoot(propagator.taylor(mode_->configuration.guards[i].value, y_), toSeconds(length));
            if (root >= 0.0 && (first < 0.0 || root < first)) first = root, crossed_ = i;
        }
        if (first < 0.0) {
            Vector after = y_;
            propagator.advance(after, length);
            accept(std::move(after), length);
            return false;
        }
        // The states are those of the exact root; its instant is counted to the nearest tick.
        const Tick taken = std::clamp<Tick>(toTicks(first), 0, length);
        Vector after = y_;
        propagator.shortStep(after, first);
        accept(std::move(after), taken);
        return true;
    }

    /// No crossing within a step to third order: the Bernstein hull of the cubic through values and slopes at both ends
    /// stays on one side.
    bool guardsHold(const Vector& before, const Vector& after, Tick length) const {
        const double h = toSeconds(length);
        for (const GuardRow& guard : mode_->configuration.guards) {
            const double noise = magnitudes_.noise(guard, before);
            const double g0 = guard.value * before, g1 = guard.value * after;
            // Noise counts only where the guard starts from zero: a real crossing is found where it is.
            const double least = g0 > noise ? 0.0 : -noise;
            if (g0 < least || g1 < least) return false;
            if (g0 + h / 3 * guard.rate.dot(before) < least || g1 - h / 3 * guard.rate.dot(after) < least) return false;
        }
        return true;
    }

    void accept(Vector after, Tick length) {
        if (!after.allFinite()) {
            return fail({ErrorCode::numeric,
                         fmt::format("the solution grew beyond all bounds at {}: look for a growing oscillation",
                                     formatQuantity(toSeconds(t_), "s", 6))});
        }
        recorder_.way(*mode_, y_, after, t_, length);
        y_ = std::move(after);
        t_ += length;
        ++steps_;
        if ((steps_ & 1023) == 0) sink_.progress(t_);
    }

    void finish(RunSummary& summary) {
        summary.reached = t_;
        summary.error = error_;
        summary.end = error_             ? RunEnd::failed
                      : recorder_.full() ? RunEnd::memory
                      : stopped_         ? RunEnd::stopped
                                         : RunEnd::finished;
        summary.counters = {{"events", events_},
                            {"gate edges", gateEvents_},
                            {"source breaks", sourceEvents_},
                            {"located crossings", crossings_},
                            {"configurations", commutation_.configurationsBuilt()},
                            {"steps", steps_},
                            {"products", commutation_.products()},
                            {"descents", descents_},
                            {"stored points", recorder_.points()}};
        summary.seconds = {{"configurations", commutation_.secondsBuilding()},
                           {"propagation", std::max(0.0, secondsTravel_ - recorder_.secondsOfWays())},
                           {"events", std::max(0.0, secondsEvents_ - commutation_.secondsBuilding())},
                           {"storing", recorder_.secondsOfWays() + recorder_.secondsOfInstants()},
                           {"total", watch_.seconds()}};
        for (const auto& [element, count] : eventsByPart_)
            summary.eventsByPart[network_.elements[element]->part()] += count;
        sink_.progress(t_);
    }

    const Network& network_;
    const RunRequest& request_;
    RunSink& sink_;
    const CancelToken& cancel_;
    Frame frame_;
    Magnitudes magnitudes_;
    Commutation commutation_;
    Recorder recorder_;
    Vector y_;
    std::vector<int> segments_;
    std::vector<double> signals_, inputs_, outputs_;
    Mode* mode_ = nullptr;
    Tick t_ = 0, nextSource_ = 0, nextSignal_ = 0;
    std::size_t crossed_ = 0;
    bool stopped_ = false;
    std::optional<Error> error_;
    std::deque<std::pair<Tick, int>> recent_;
    std::map<std::size_t, std::int64_t> eventsByPart_;
    std::int64_t events_ = 0, gateEvents_ = 0, sourceEvents_ = 0, crossings_ = 0, steps_ = 0, descents_ = 0;
    double secondsTravel_ = 0.0, secondsEvents_ = 0.0;
    Stopwatch watch_;
};

}  // namespace
}  // namespace exact

Status ExactEngine::accepts(const Network& network) const {
    if (static_cast<int>(network.states.size()) > exact::mostStates)
        return Error{ErrorCode::resource,
                     fmt::format("the exact engine takes up to {} capacitors and windings, this circuit has {}",
                                 exact::mostStates, network.states.size())};
    return {};
}

RunSummary ExactEngine::run(const Network& network, const RunRequest& request, RunSink& sink,
                            const CancelToken& cancel) const {
    return exact::Run(network, request, sink, cancel).solve();
}

std::unique_ptr<Engine> makeExact() { return std::make_unique<ExactEngine>(); }

}  // namespace hedgerow

#include "analysis/observations.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "model/modules.h"
#include "model/quantity.h"
#include "model/values.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr double nearLimit = 1e-6;        ///< of the range between the limits
constexpr double grows = 1.05;            ///< an error that is larger by this factor after a stay at a limit has grown
constexpr double atEnds = 0.1;            ///< of a run, that a duty may spend at an end of its range
constexpr double swings = 0.02;           ///< of the largest error: what is below that is no swing
constexpr std::size_t swingSamples = 24;  ///< so many samples in a row that alternate

/// A stretch of time in which a trace lies in a band.
struct Stay {
    Tick from, to;
    bool high;  ///< at the upper of two bands
    double seconds() const { return toSeconds(to - from); }
};

class Observer {
public:
    explicit Observer(const RunRecord& run)
        : run_(run),
          flat_(flattened(run.project(), partLibrary().catalogue())),
          parameters_(flat_.project.parameters) {}

    std::vector<Observation> all() {
        if (!flat_.errors.empty() || run_.points() == 0) return {};
        for (const Part& part : flat_.project.sheet().parts) {
            const PartKind* kind = partLibrary().catalogue().find(part.kind);
            if (!kind) continue;
            if (part.kind == "pi" || part.kind == "pid") regulator(part, *kind);
            if (part.kind == "modulator") duty(part, *kind);
        }
        std::stable_sort(found_.begin(), found_.end(), [](const auto& a, const auto& b) { return a.at < b.at; });
        return std::move(found_);
    }

private:
    double value(const Part& part, const PartKind& kind, const char* key) const {
        const auto number = partValue(part, kind, key, parameters_.lookup());
        return number ? *number : 0.0;
    }
    /// What drives the net at a pin: "SUM1.y".
    std::string driverAt(const Part& part, const PartKind& kind, const char* pin) const {
        const auto net = flat_.nets.netOfPin.find({part.id, kind.findPin(pin)});
        if (net == flat_.nets.netOfPin.end()) return "";
        for (const PinRef& ref : flat_.nets.nets[static_cast<std::size_t>(net->second)].pins) {
            const Part* other = flat_.project.findPart(ref.part);
            const PartKind* its = other ? partLibrary().catalogue().find(other->kind) : nullptr;
            if (its && its->pins[static_cast<std::size_t>(ref.pin)].sort == PinSort::signalOut)
                return other->name + "." + its->pins[static_cast<std::size_t>(ref.pin)].name;
        }
        return "";
    }
    void add(Tick at, const Part& part, std::string field, std::string message) {
        found_.push_back({toSeconds(at), {ErrorCode::range, std::move(message), part.name, {}, std::move(field)}});
    }

    /// The stays at or beyond either limit, in order.
    static std::vector<Stay> staysAt(const Trace& trace, double low, double high) {
        const double slack = nearLimit * (high - low);
        std::vector<Stay> stays;
        for (std::size_t i = 0; i < trace.size(); ++i) {
            const double y = trace.value(i);
            const bool above = y >= high - slack, below = y <= low + slack;
            const Tick until = i + 1 < trace.size() ? trace.time(i + 1) : trace.time(i);
            const bool goesOn = !stays.empty() && stays.back().to == trace.time(i) && stays.back().high == above;
            if (!above && !below) continue;
            // Between points of a line that leaves the limit it is there no longer.
            const double next = i + 1 < trace.size() && !trace.holds() ? trace.value(i + 1) : y;
            const Tick end = (above ? next >= high - slack : next <= low + slack) ? until : trace.time(i);
            if (goesOn)
                stays.back().to = end;
            else
                stays.push_back({trace.time(i), end, above});
        }
        return stays;
    }

    void regulator(const Part& part, const PartKind& kind) {
        const auto output = run_.trace(part.name + ".y");
        const std::string driver = driverAt(part, kind, "e");
        const auto error = driver.empty() ? nullptr : run_.trace(driver);
        if (!output || !error || output->size() < 2) return;
        const double allowed = value(part, kind, "alarm");
        for (const Stay& stay : staysAt(*output, value(part, kind, "low"), value(part, kind, "high"))) {
            if (stay.seconds() <= allowed) continue;
            const double before = error->at(stay.from).value_or(0), after = error->at(stay.to - 1).value_or(0);
            const char* limit = stay.high ? "upper" : "lower";
            if (std::abs(after) > grows * std::abs(before) && before * after > 0 && stay.to >= run_.reached())
                add(stay.from, part, "kp",
                    fmt::format("{} runs to its {} limit while its error grows from {} to {}: is the sign of its "
                                "feedback right? Else its limit does not suffice",
                                part.name, limit, formatQuantity(before, "", 3), formatQuantity(after, "", 3)));
            else
                add(stay.from, part, stay.high ? "high" : "low",
                    fmt::format("{} stays at its {} limit for {}, longer than the {} it is allowed: widen the limit, "
                                "or ask for less",
                                part.name, limit, formatQuantity(stay.seconds(), "s", 3),
                                formatQuantity(allowed, "s", 3)));
            break;  // the first tells enough
        }
        alternation(part, *error);
    }

    /// An error that changes its sign at every sample or every second one and does not die away.
    void alternation(const Part& part, const Trace& error) {
        if (!error.holds()) return;
        double largest = 0;
        std::vector<std::pair<Tick, double>> samples;
        for (std::size_t i = 0; i < error.size(); ++i) {
            const double e = error.value(i);
            if (!samples.empty() && samples.back().second == e) continue;
            samples.emplace_back(error.time(i), e);
            largest = std::max(largest, std::abs(e));
        }
        std::size_t row = 0;
        for (std::size_t i = 1; i < samples.size(); ++i) {
            const bool turns = samples[i].second * samples[i - 1].second < 0 ||
                               (i > 1 && samples[i].second * samples[i - 2].second < 0);
            row = turns && std::abs(samples[i].second) > swings * largest ? row + 1 : 0;
            if (row < swingSamples) continue;
            return add(samples[i - row].first, part, "kp",
                       fmt::format("the error of {} swings from sample to sample: its samples are too far apart for "
                                   "its gain. Lower the gain, or let the task run more often",
                                   part.name));
        }
    }

    void duty(const Part& part, const PartKind& kind) {
        const std::string driver = driverAt(part, kind, "d");
        const auto trace = driver.empty() ? nullptr : run_.trace(driver);
        if (!trace || trace->size() < 2) return;
        const double low = value(part, kind, "low"), high = value(part, kind, "high");
        double together = 0;
        Tick first = neverTick;
        bool above = false;
        for (const Stay& stay : staysAt(*trace, low, high)) {
            together += stay.seconds();
            if (first == neverTick && stay.seconds() > 0) first = stay.from, above = stay.high;
        }
        if (together <= atEnds * toSeconds(run_.reached()) || first == neverTick) return;
        add(first, part, above ? "high" : "low",
            fmt::format("the duty of {} is at the {} end of its range, {}, for {:.0f} % of the run: what is asked for "
                        "cannot be reached",
                        part.name, above ? "upper" : "lower", formatQuantity(above ? high : low, "", 3),
                        100 * together / toSeconds(run_.reached())));
    }

    const RunRecord& run_;
    FlatProject flat_;
    ParameterTable parameters_;
    std::vector<Observation> found_;
};

}  // namespace

std::vector<Observation> observe(const RunRecord& run) { return Observer(run).all(); }

}  // namespace hedgerow

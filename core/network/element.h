#pragma once
// What a part is made of in a network: pieces with segments, guards and gates.

#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "network/stamp.h"

namespace hedgerow {

/// A condition that keeps an element in its segment: sum of terms + constant >= 0. When it ends, `next` takes over.
struct Guard {
    Terms terms;
    double constant = 0.0;
    int next = 0;
    double valueAt(std::span<const double> z) const {
        double value = constant;
        for (const auto& [column, factor] : terms) value += factor * z[static_cast<std::size_t>(column)];
        return value;
    }
};

/// A segment that ends by itself some time after it was entered.
struct Timeout {
    double seconds;
    int next;
};

/// One piecewise-linear piece of a circuit.
class Element {
public:
    explicit Element(std::string part) : part_(std::move(part)) {}
    virtual ~Element() = default;
    Element(const Element&) = delete;
    Element& operator=(const Element&) = delete;

    const std::string& part() const { return part_; }
    /// Writes the equations that hold in `segment`.
    virtual void stamp(LinearStamp& stamp, int segment) const = 0;
    virtual int segmentCount() const { return 1; }
    /// Segments with the same number have the same equations and differ in their guards only.
    virtual int equations(int segment) const { return segment; }
    /// The segment a run starts in, before the first consistent configuration is sought.
    virtual int initialSegment(bool gate) const { return gate ? 1 : 0; }
    /// Conditions that end `segment` by themselves.
    virtual std::vector<Guard> guards(int /*segment*/) const { return {}; }
    virtual std::optional<Timeout> timeout(int /*segment*/) const { return {}; }
    /// Index of the signal that acts as gate (on above 0.5), or -1.
    virtual int gateSignal() const { return -1; }
    /// The segment that follows when the gate has become `on`. @param sensed value of sense() just before
    virtual int gated(int /*segment*/, bool on, double /*sensed*/) const { return on ? 1 : 0; }
    /// What gated() wants to know; empty when nothing.
    virtual Terms sense() const { return {}; }
    /// The branch whose current the element carries, or -1.
    virtual int branch() const { return -1; }
    /// Index of a signal that is 1 while the element conducts and 0 while it does not, or -1.
    virtual int logicSignal() const { return -1; }
    /// True in segments in which the element carries current freely, for the display and for short-circuit messages.
    virtual bool conducts(int segment) const { return segment != 0; }
    /// Whether the element has a share that is not piecewise linear: only some engines take it.
    virtual bool smooth() const { return false; }
    /// Adds that share and its derivatives.
    virtual void evaluate(const SmoothPoint& /*at*/, SmoothStamp& /*out*/) const {}
    /// Shortens a step of an iteration that goes too far for the element's curves (an exponential, for instance).
    /// @param before, after  unknowns; `after` is changed
    virtual void tame(std::span<const double> /*before*/, std::span<double> /*after*/) const {}

private:
    std::string part_;
};

}  // namespace hedgerow

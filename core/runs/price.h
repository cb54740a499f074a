#pragma once
// What a run will cost, before it is made.
//
// Each span of the plan is tried for some milliseconds, on the very circuit and from where the spans before it lead: what has
// not come by then costs what the last part of the trial cost. What this machine has learnt corrects it.

#include <cstdint>
#include <string>
#include <vector>

#include "base/cancel.h"
#include "runs/price_book.h"
#include "runs/run.h"

namespace hedgerow {

struct SpanPrice {
    std::string text = {};  ///< as typed; "" for a plan without spans
    std::string engine = {};
    std::string kind = {};  ///< of work, for the book
    double simulated = 0;                 ///< s, at the longest
    double seconds = 0, low = 0, high = 0;  ///< of computing
    double raw = 0;                       ///< before the book
    double events = 0, points = 0, bytes = 0, steps = 0;
    bool whole = false;    ///< the trial went through all of it
    bool waits = false;    ///< it ends when something holds: this is the price of all the time it may last
    std::string ruled = {};     ///< the part whose states rule the steps; "" without steps
    /// "900 events at 3 µs, 40 ms to build".
    std::string made = {};
};

struct RunPrice {
    std::vector<SpanPrice> spans;
    double seconds = 0, low = 0, high = 0;
    double events = 0, points = 0;
    double bytes = 0;  ///< of memory
    double disk = 0;   ///< bytes of a kept run
};

/// @param run     prepared; it stays as it is
/// @param budget  s of computing for all trials together
/// Errors: what a trial fails with; stopped by `cancel`.
Result<RunPrice> priceOf(const Run& run, const PriceBook& book, double budget, const CancelToken& cancel);

/// A run has ended: the book learns from its spans.
void learnFrom(const RunPrice& price, const RunSummary& summary, PriceBook& book);

}  // namespace hedgerow

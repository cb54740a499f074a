#pragma once
// One quantity of a run over time: values, envelopes for drawing, and measures, at a cost that does not grow with the
// length of the run.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "traces/trace_store.h"

namespace hedgerow {

/// What is read off a window of a trace. Mean and RMS are integrals over the stored straight lines, exact for them.
struct Measures {
    double min = 0, max = 0, mean = 0, rms = 0;
    double peakToPeak() const { return max - min; }
};

/// Reads a quantity from a store that may still grow. For one reading thread; update() takes in new points. The pyramid
/// is built when an envelope or a measure is first asked for: reading single values needs none.
class Trace {
public:
    Trace(std::shared_ptr<const TraceStore> store, const QuantityInfo& quantity, const RowLayout& layout);

    const std::string& name() const { return name_; }
    const std::string& unit() const { return unit_; }
    /// True for gates and conducting states: values 0 and 1, drawn as steps.
    bool logic() const { return logic_; }

    /// Takes in what was stored since the last call, at most so many points. @return whether that was all
    bool update(std::size_t most = SIZE_MAX);
    std::size_t size() const { return size_; }
    Tick time(std::size_t i) const { return chunk(i).times[i % TraceStore::chunkPoints]; }
    double value(std::size_t i) const { return ofSignal_ ? signal(i) : first(i) * second(i); }
    /// The first point at or after `t`; size() when none.
    std::size_t firstAtOrAfter(Tick t) const;
    /// The value at an instant; at a jump the one after it. Nothing outside the recorded time.
    std::optional<double> at(Tick t) const;
    /// Least and greatest value of the points [first, last). @pre first < last <= size()
    std::pair<double, double> range(std::size_t first, std::size_t last) const;
    /// Over [from, to], cut to the recorded time; nothing when that is empty.
    std::optional<Measures> measure(Tick from, Tick to) const;

private:
    /// Eight points, or eight blocks of the level below, and the lines that start at them.
    struct Block {
        double min, max, integral, squares;
    };
    static constexpr std::size_t fan = 8;
    /// A linear form over the row of one view.
    struct Form {
        std::vector<std::pair<std::uint32_t, double>> terms;
        double constant = 0.0;
        double of(const double* row) const {
            double sum = constant;
            for (const auto& [column, factor] : terms) sum += factor * row[column];
            return sum;
        }
    };

    const TraceStore::Chunk& chunk(std::size_t i) const { return *chunks_[i / TraceStore::chunkPoints]; }
    Form formOf(const Terms& terms, const RowView& view) const;
    double form(const std::vector<Form>& forms, std::size_t i) const {
        const TraceStore::Chunk& c = chunk(i);
        const std::size_t slot = i % TraceStore::chunkPoints;
        return forms[c.views[slot]].of(c.rows[slot]);
    }
    double first(std::size_t i) const { return form(a_, i); }
    double signal(std::size_t i) const { return chunk(i).signalValues[i % TraceStore::chunkPoints][index_]; }
    double second(std::size_t i) const { return product_ ? form(b_, i) : 1.0; }
    void buildPyramid() const;
    double between(Tick t, std::size_t i) const;
    void addLine(std::size_t i, Tick from, Tick to, Block& sum) const;
    void addPoints(std::size_t first, std::size_t last, Block& sum) const;
    void collect(std::size_t first, std::size_t last, Block& sum) const;

    std::shared_ptr<const TraceStore> store_;
    std::string name_, unit_;
    bool logic_, ofSignal_, product_;
    Terms aTerms_, bTerms_;
    int index_;                ///< of the signal, or the place of the element among the switching ones
    std::vector<Form> a_, b_;  ///< one per view
    TraceStore::Chunks chunks_;
    std::size_t size_ = 0;
    mutable std::vector<std::vector<Block>> levels_;
};

}  // namespace hedgerow

#pragma once
// Where the points of a trace come from: a run that may still be stored, a kept run, or columns that are complete.

#include <array>
#include <memory>
#include <optional>
#include <vector>

#include "traces/block.h"
#include "traces/point_store.h"

namespace hedgerow {

/// Points in order of time; two of one instant are the values before and after a jump. A value is first(i) * second(i),
/// and each of the two runs along a straight line to the next point, unless the source holds its values. For one
/// reading thread.
class PointSource {
public:
    static constexpr std::size_t chunk = PointChunk::size;
    /// What is known beforehand of points that are all there: one block a chunk, the last one included, and whether the
    /// values are nothing but 0 and 1.
    struct Digest {
        std::vector<Block> blocks;
        bool logic = false;
    };

    virtual ~PointSource() = default;
    /// Takes in what is new, at most so many points. @return whether that was all
    virtual bool update(std::size_t most) = 0;
    virtual std::size_t size() const = 0;
    virtual Tick time(std::size_t i) const = 0;
    virtual double first(std::size_t i) const = 0;
    virtual double second(std::size_t i) const = 0;
    /// Points [begin, end) at once: instants, first() and, of products, second().
    virtual void read(std::size_t begin, std::size_t end, Tick* times, double* first, double* second) const = 0;
    /// Whether second() is not 1 everywhere.
    virtual bool product() const = 0;
    /// Whether values hold until the next point, as those of signals do.
    virtual bool holds() const = 0;
    /// Whether the points are samples of something smooth, as measured ones are, and not the corners of lines.
    virtual bool samples() const { return false; }
    /// The instant of the first point of a chunk, known without reading the chunk.
    virtual Tick chunkStart(std::size_t k) const { return time(k * chunk); }
    virtual std::optional<Digest> digest() const { return {}; }
    virtual bool inMemory() const { return true; }
    /// Another reader of the same points, for another thread.
    virtual std::unique_ptr<PointSource> another() const = 0;
};

/// Reads a quantity from stored points.
class StorePoints final : public PointSource {
public:
    StorePoints(std::shared_ptr<const PointStore> store, const QuantityInfo& quantity, const RowLayout& layout,
                std::optional<Digest> digest = {});

    bool update(std::size_t most) override;
    std::size_t size() const override { return size_; }
    Tick time(std::size_t i) const override { return chunkOf(i).times[i % chunk]; }
    double first(std::size_t i) const override { return ofSignal_ ? signal(i) : form(a_, i); }
    double second(std::size_t i) const override { return product_ ? form(b_, i) : 1.0; }
    void read(std::size_t begin, std::size_t end, Tick* times, double* first, double* second) const override;
    bool product() const override { return product_; }
    bool holds() const override { return ofSignal_; }
    Tick chunkStart(std::size_t k) const override { return starts_[k]; }
    std::optional<Digest> digest() const override { return digest_; }
    bool inMemory() const override { return store_->inMemory(); }
    std::unique_ptr<PointSource> another() const override { return std::make_unique<StorePoints>(*this); }

private:
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
    /// The chunk of a point, out of the few that were used last.
    const PointChunk& chunkOf(std::size_t i) const {
        const std::size_t k = i / chunk;
        Recent& place = recent_[k % recent_.size()];
        if (place.number != k) place = {k, store_->chunk(k)};
        return *place.chunk;
    }
    Form formOf(const Terms& terms, const RowView& view) const;
    double form(const std::vector<Form>& forms, std::size_t i) const {
        const PointChunk& c = chunkOf(i);
        return forms[c.views[i % chunk]].of(c.rows[i % chunk]);
    }
    double signal(std::size_t i) const { return chunkOf(i).signalValues[i % chunk][index_]; }

    struct Recent {
        std::size_t number = SIZE_MAX;
        std::shared_ptr<const PointChunk> chunk;
    };
    std::shared_ptr<const PointStore> store_;
    bool ofSignal_, product_;
    Terms aTerms_, bTerms_;
    int index_;                ///< of the signal, or the place of the element among the switching ones
    std::vector<Form> a_, b_;  ///< one per view
    std::optional<Digest> digest_;
    std::vector<Tick> starts_;
    mutable std::array<Recent, 4> recent_;
    std::size_t size_ = 0;
};

/// Points that are all there.
class ColumnPoints final : public PointSource {
public:
    using Times = std::shared_ptr<const std::vector<Tick>>;
    /// @param second  as many as the others, or empty for 1 everywhere
    ColumnPoints(Times times, std::vector<double> first, std::vector<double> second = {}, bool holds = false,
                 bool samples = false)
        : times_(std::move(times)),
          first_(std::move(first)),
          second_(std::move(second)),
          holds_(holds),
          samples_(samples) {}

    bool update(std::size_t) override { return true; }
    std::size_t size() const override { return first_.size(); }
    Tick time(std::size_t i) const override { return (*times_)[i]; }
    double first(std::size_t i) const override { return first_[i]; }
    double second(std::size_t i) const override { return second_.empty() ? 1.0 : second_[i]; }
    void read(std::size_t begin, std::size_t end, Tick* times, double* first, double* second) const override;
    bool product() const override { return !second_.empty(); }
    bool holds() const override { return holds_; }
    bool samples() const override { return samples_; }
    std::unique_ptr<PointSource> another() const override { return std::make_unique<ColumnPoints>(*this); }

private:
    Times times_;
    std::vector<double> first_, second_;
    bool holds_, samples_;
};

}  // namespace hedgerow

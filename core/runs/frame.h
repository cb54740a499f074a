#pragma once
// One set of quantities over the different circuits of a run.
//
// Where all circuits have the same unknowns, a run stores the rows that its simulations make. Where they have not, or
// where some spans keep only some quantities, each row stands for the quantities themselves: a view then leads from the
// numbers of a row to the linear forms of all quantities, and a quantity that a circuit does not have, or that a span does not
// keep, is not a number there.

#include <set>
#include <span>
#include <string>
#include <vector>

#include "base/time.h"
#include "network/engine.h"

namespace hedgerow {

/// Which quantities a span keeps.
struct Keep {
    bool points = true;                ///< false: nothing at all
    std::set<std::string> only = {};   ///< empty for all
    bool all() const { return points && only.empty(); }
    bool has(const std::string& name) const { return points && (only.empty() || only.contains(name)); }
};

class RunFrame {
public:
    /// A circuit of the run and what is kept of it.
    struct Circuit {
        const Network* network = nullptr;
        Keep keep = {};
    };
    RunFrame() = default;
    explicit RunFrame(std::span<const Circuit> circuits);

    const std::vector<QuantityInfo>& quantities() const { return quantities_; }
    const std::vector<RatingInfo>& ratings() const { return ratings_; }
    const RowLayout& layout() const { return layout_; }
    std::size_t signalCount() const { return signalCount_; }
    /// Whether simulations store their rows as they are.
    bool direct() const { return direct_; }

    /// What leads from a circuit to the frame; of a direct one nothing.
    struct Way {
        std::vector<const Terms*> columns;  ///< nullptr where the circuit lacks it
        std::vector<int> signalPlaces;      ///< -1
        std::vector<int> conducting;        ///< places in the circuit's views; -1
    };
    Way wayOf(const Network& network, const Keep& keep) const;

private:
    struct Column {
        std::string quantity;
        bool second = false;  ///< the second factor of a product
    };
    std::vector<QuantityInfo> quantities_;
    std::vector<RatingInfo> ratings_;
    RowLayout layout_;
    std::size_t signalCount_ = 0;
    bool direct_ = true;
    std::vector<Column> columns_;
    std::vector<std::string> signals_, conducting_;
};

/// Takes points of one simulation into the frame of the run. Points can be held back, and dropped, until it is known
/// whether the run has gone too far.
class FrameSink final : public RunSink {
public:
    FrameSink(const RunFrame& frame, const Network& network, Keep keep, RunSink& into);

    /// Views come from another network from now on, which has the same quantities and unknowns.
    void goOnIn(const Network& network);

    bool wantsPoints() const override { return keep_.points && into_.wantsPoints(); }
    std::uint32_t addView(RowView view) override;
    std::uint32_t addSignals(std::span<const double> values) override;
    bool append(std::span<const PointRef> points, std::span<const double> numbers) override;
    void progress(Tick t) override { into_.progress(t); }

    /// Views are remembered, so that quantities can be read off points. @pre before the first view
    void watch() { watched_ = true; }
    /// The values of all linear quantities of the network at the last point, in their order; empty without one.
    std::vector<double> last() const { return last_.valid ? valuesOf(last_) : std::vector<double>(); }
    /// From now on the first point is remembered.
    void expect() { first_.valid = false, expecting_ = true; }
    std::vector<double> first() const { return first_.valid ? valuesOf(first_) : std::vector<double>(); }

    /// Points are held back from now on.
    void hold() { holding_ = true; }
    void release();
    void drop() { held_.clear(), heldNumbers_.clear(); }
    /// The first instant among the points held back at which a quantity is beyond a value; on the line between two points where
    /// it passes it. @pre watch()
    std::optional<Tick> passes(const QuantityInfo& quantity, bool above, double value) const;
    /// Stores that there is nothing at this instant.
    void storeGap(Tick t);
    std::int64_t points() const { return count_; }

private:
    struct Place {
        bool valid = false;
        std::uint32_t view = 0, set = 0;
        std::vector<double> row;
    };
    /// Whether points pass as they are: nothing is made of them, nothing read off them.
    bool plain() const { return frame_.direct() && !watched_; }
    std::vector<double> valuesOf(const Place& place) const;
    double valueOf(const Terms& terms, std::uint32_t view, std::span<const double> row) const;
    void note(const PointRef& point, std::span<const double> numbers, Place& place) const;
    bool store(std::span<const PointRef> points, std::span<const double> numbers);

    const RunFrame& frame_;
    const Network* network_;
    const Keep keep_;
    RunSink& into_;
    RunFrame::Way way_;
    bool watched_ = false, expecting_ = false, holding_ = false;
    std::vector<RowView> views_;  ///< of the network, where it is watched
    std::vector<std::vector<double>> sets_;
    std::vector<std::uint32_t> viewNumbers_, setNumbers_;
    Place last_, first_;
    std::vector<PointRef> held_, renumbered_;
    std::vector<double> heldNumbers_;
    std::optional<std::uint32_t> gapView_, gapSet_;
    std::int64_t count_ = 0;
};

}  // namespace hedgerow

#pragma once
// Measures of quantities while a run goes on, from its lines, without storing a point.

#include <optional>
#include <vector>

#include "network/row_layout.h"
#include "network/simulation.h"
#include "traces/block.h"
#include "traces/trace.h"

namespace hedgerow {

class StreamingMeasures final : public RunSink {
public:
    /// @param from, to  the window, ticks; lines that begin or end outside of it count by their part in it
    StreamingMeasures(RowLayout layout, std::vector<QuantityInfo> quantities, Tick from, Tick to);

    /// Of a quantity, over the part of the window that has come; nothing before any of it has.
    std::optional<Measures> measures(std::size_t quantity) const;
    const std::vector<QuantityInfo>& quantities() const { return quantities_; }
    Tick reached() const { return reached_; }

    std::uint32_t addView(RowView view) override;
    std::uint32_t addSignals(std::span<const double> values) override;
    bool append(std::span<const PointRef> points, std::span<const double> numbers) override;
    void progress(Tick t) override { reached_ = t; }

private:
    /// How a quantity follows from a row: factors, the constant last.
    struct Form {
        std::vector<double> a, b;
    };
    struct View {
        int width = 0;
        std::vector<std::uint8_t> conducting;
        std::vector<Form> forms;  ///< per quantity
    };
    struct Course {
        double a = 0, b = 1;  ///< factors at the last point
        Block block;
    };
    std::vector<double> formOf(const Terms& terms, const RowView& view) const;
    void line(Course& course, const QuantityInfo& quantity, Tick until, double a, double b);

    RowLayout layout_;
    std::vector<QuantityInfo> quantities_;
    Tick from_, to_, reached_ = 0;
    std::vector<View> views_;
    std::vector<std::vector<double>> signals_;
    std::vector<Course> courses_;
    Tick last_ = -1;      ///< the instant of the last point, -1 before the first
};

}  // namespace hedgerow

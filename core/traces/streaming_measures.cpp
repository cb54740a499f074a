#include "traces/streaming_measures.h"

#include <algorithm>
#include <cmath>

namespace hedgerow {

namespace {

double valueOf(const std::vector<double>& form, std::span<const double> row) {
    double value = form.back();
    for (std::size_t i = 0; i < row.size(); ++i) value += form[i] * row[i];
    return value;
}

}  // namespace

StreamingMeasures::StreamingMeasures(RowLayout layout, std::vector<QuantityInfo> quantities, Tick from, Tick to)
    : layout_(std::move(layout)), quantities_(std::move(quantities)), from_(from), to_(to), courses_(quantities_.size()) {}

std::vector<double> StreamingMeasures::formOf(const Terms& terms, const RowView& view) const {
    const auto width = static_cast<std::size_t>(view.width);
    std::vector<double> form(width + 1, 0.0);
    for (const auto& [column, factor] : terms) {
        const auto unknown = static_cast<std::size_t>(column);
        if (view.matrix.empty())
            form[unknown] += factor;
        else
            for (std::size_t i = 0; i <= width; ++i) form[i] += factor * view.matrix[unknown * (width + 1) + i];
    }
    return form;
}

std::uint32_t StreamingMeasures::addView(RowView view) {
    View made{.width = view.width, .conducting = view.conducting, .forms = {}};
    for (const QuantityInfo& quantity : quantities_) {
        Form form;
        if (quantity.sort == QuantityInfo::Sort::linear || quantity.sort == QuantityInfo::Sort::product)
            form.a = formOf(quantity.a, view);
        if (quantity.sort == QuantityInfo::Sort::product) form.b = formOf(quantity.b, view);
        made.forms.push_back(std::move(form));
    }
    views_.push_back(std::move(made));
    return static_cast<std::uint32_t>(views_.size() - 1);
}

std::uint32_t StreamingMeasures::addSignals(std::span<const double> values) {
    signals_.emplace_back(values.begin(), values.end());
    return static_cast<std::uint32_t>(signals_.size() - 1);
}

/// Adds the way from the last point to the next one, as far as it lies in the window.
void StreamingMeasures::line(Course& course, const QuantityInfo& quantity, Tick until, double a, double b) {
    const bool holds = quantity.sort == QuantityInfo::Sort::signal || quantity.sort == QuantityInfo::Sort::conducting;
    const Tick start = std::max(last_, from_), end = std::min(until, to_);
    if (end < start) return;
    const double whole = static_cast<double>(std::max<Tick>(until - last_, 1));
    const auto at = [&](double first, double second, Tick t) {
        return holds ? first : first + (second - first) * (static_cast<double>(t - last_) / whole);
    };
    const double a0 = at(course.a, a, start), a1 = at(course.a, a, end), b0 = at(course.b, b, start),
                 b1 = at(course.b, b, end);
    const bool product = quantity.sort == QuantityInfo::Sort::product;
    course.block.addLine(toSeconds(end - start), a0, a1, b0, b1, product);
    course.block.include(a0 * b0);
    course.block.include(a1 * b1);
}

bool StreamingMeasures::append(std::span<const PointRef> points, std::span<const double> numbers) {
    for (const PointRef& point : points) {
        const View& view = views_[point.view];
        const auto row = numbers.subspan(point.offset, static_cast<std::size_t>(view.width));
        for (std::size_t i = 0; i < quantities_.size(); ++i) {
            const QuantityInfo& quantity = quantities_[i];
            double a = 0, b = 1;
            switch (quantity.sort) {
                case QuantityInfo::Sort::linear:
                    a = valueOf(view.forms[i].a, row);
                    break;
                case QuantityInfo::Sort::product:
                    a = valueOf(view.forms[i].a, row);
                    b = valueOf(view.forms[i].b, row);
                    break;
                case QuantityInfo::Sort::signal:
                    a = signals_[point.signalSet][static_cast<std::size_t>(quantity.index)];
                    break;
                case QuantityInfo::Sort::conducting:
                    a = view.conducting[static_cast<std::size_t>(
                        layout_.placeOfElement[static_cast<std::size_t>(quantity.index)])];
                    break;
            }
            if (last_ >= 0) line(courses_[i], quantity, point.t, a, b);
            if (point.t >= from_ && point.t <= to_) courses_[i].block.include(a * b);
            courses_[i].a = a, courses_[i].b = b;
        }
        last_ = point.t;
    }
    return true;
}

std::optional<Measures> StreamingMeasures::measures(std::size_t quantity) const {
    const Block& block = courses_[quantity].block;
    if (!(block.seconds > 0)) return {};
    Measures all;
    all.min = block.min, all.max = block.max;
    all.mean = block.integral / block.seconds;
    all.rms = std::sqrt(std::max(0.0, block.squares / block.seconds));
    all.seconds = block.seconds;
    return all;
}

}  // namespace hedgerow

#include "traces/point_source.h"

#include <algorithm>
#include <limits>

namespace hedgerow {

StorePoints::StorePoints(std::shared_ptr<const PointStore> store, const QuantityInfo& quantity, const RowLayout& layout,
                         std::optional<Digest> digest)
    : store_(std::move(store)),
      ofSignal_(quantity.sort == QuantityInfo::Sort::signal),
      product_(quantity.sort == QuantityInfo::Sort::product),
      aTerms_(quantity.a),
      bTerms_(quantity.b),
      index_(quantity.index),
      digest_(std::move(digest)) {
    if (quantity.sort == QuantityInfo::Sort::conducting)
        index_ = layout.placeOfElement[static_cast<std::size_t>(quantity.index)];
    else if (!ofSignal_)
        index_ = -1;
}

StorePoints::Form StorePoints::formOf(const Terms& terms, const RowView& view) const {
    Form form;
    if (!ofSignal_ && index_ >= 0) {
        const std::uint8_t state = view.conducting[static_cast<std::size_t>(index_)];
        form.constant = state > 1 ? std::numeric_limits<double>::quiet_NaN() : state;
        return form;
    }
    if (view.matrix.empty()) {
        for (const auto& [column, factor] : terms) form.terms.emplace_back(column, factor);
        return form;
    }
    const auto width = static_cast<std::size_t>(view.width);
    std::vector<double> sum(width + 1, 0.0);
    for (const auto& [column, factor] : terms)
        for (std::size_t j = 0; j <= width; ++j)
            sum[j] += factor * view.matrix[static_cast<std::size_t>(column) * (width + 1) + j];
    for (std::size_t j = 0; j < width; ++j)
        if (sum[j] != 0.0) form.terms.emplace_back(static_cast<std::uint32_t>(j), sum[j]);
    form.constant = sum[width];
    return form;
}

bool StorePoints::update(std::size_t most) {
    const std::size_t now = store_->count();
    if (now == size_) return true;
    store_->addStarts(starts_);
    if (!ofSignal_) {
        const PointStore::Views views = store_->views();
        for (std::size_t i = a_.size(); i < views.size(); ++i) {
            a_.push_back(formOf(aTerms_, *views[i]));
            if (product_) b_.push_back(formOf(bTerms_, *views[i]));
        }
    }
    size_ = std::min(now, now - size_ > most ? size_ + most : now);
    return size_ == now;
}

void StorePoints::read(std::size_t begin, std::size_t end, Tick* times, double* first, double* second) const {
    while (begin < end) {
        const PointChunk& from = chunkOf(begin);
        const std::size_t slot = begin % chunk, count = std::min(end - begin, chunk - slot);
        std::copy_n(from.times.begin() + static_cast<std::ptrdiff_t>(slot), count, times);
        for (std::size_t i = 0; i < count; ++i) {
            const double* const row = from.rows[slot + i];
            const std::uint32_t view = from.views[slot + i];
            first[i] = ofSignal_ ? from.signalValues[slot + i][index_] : a_[view].of(row);
            if (product_) second[i] = b_[view].of(row);
        }
        begin += count, times += count, first += count, second += count;
    }
}

void ColumnPoints::read(std::size_t begin, std::size_t end, Tick* times, double* first, double* second) const {
    const auto copy = [&](const auto& from, auto* to) {
        std::copy(from.begin() + static_cast<std::ptrdiff_t>(begin), from.begin() + static_cast<std::ptrdiff_t>(end),
                  to);
    };
    copy(*times_, times);
    copy(first_, first);
    if (!second_.empty()) copy(second_, second);
}

}  // namespace hedgerow

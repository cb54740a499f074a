#include "runs/frame.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include "network/scene.h"

namespace hedgerow {

namespace {

constexpr double nothing = std::numeric_limits<double>::quiet_NaN();
constexpr std::uint8_t notThere = 2;

bool isForm(const QuantityInfo& quantity) {
    return quantity.sort == QuantityInfo::Sort::linear || quantity.sort == QuantityInfo::Sort::product;
}

/// Whether rows of all circuits mean the same.
bool sameRows(std::span<const RunFrame::Circuit> circuits) {
    const Network& first = *circuits.front().network;
    for (const RunFrame::Circuit& circuit : circuits) {
        if (!circuit.keep.all()) return false;
        const Network& other = *circuit.network;
        if (&other == &first) continue;
        if (!sameShape(first, other) || first.quantities.size() != other.quantities.size()) return false;
        for (std::size_t i = 0; i < first.quantities.size(); ++i)
            if (first.quantities[i].a != other.quantities[i].a || first.quantities[i].b != other.quantities[i].b)
                return false;
    }
    return true;
}

}  // namespace

RunFrame::RunFrame(std::span<const Circuit> circuits) {
    const Network& first = *circuits.front().network;
    if (sameRows(circuits)) {
        quantities_ = first.quantities;
        ratings_ = first.ratings;
        layout_ = RowLayout(first);
        signalCount_ = static_cast<std::size_t>(first.signalCount);
        return;
    }
    direct_ = false;
    std::vector<const Network*> networks;
    for (const Circuit& circuit : circuits)
        if (std::find(networks.begin(), networks.end(), circuit.network) == networks.end())
            networks.push_back(circuit.network);
    std::vector<std::map<std::string_view, const QuantityInfo*>> byName;
    for (const Network* network : networks) {
        auto& names = byName.emplace_back();
        for (const QuantityInfo& quantity : network->quantities) names[quantity.name] = &quantity;
    }
    // Forms that are alike in all circuits share a column: the power of a part is made of its voltage and its current.
    std::map<std::vector<Terms>, int> known;
    const auto columnOf = [&](const QuantityInfo& quantity, bool second) {
        std::vector<Terms> forms;
        for (const auto& names : byName) {
            const auto found = names.find(quantity.name);
            const bool has = found != names.end() && found->second->sort == quantity.sort;
            // A column of its own unless all circuits have it: a gap is one of this quantity only.
            forms.push_back(has ? (second ? found->second->b : found->second->a) : Terms{{-1, 0.0}});
        }
        const bool everywhere = std::none_of(forms.begin(), forms.end(), [](const Terms& terms) {
            return !terms.empty() && terms.front().first < 0;
        });
        const bool kept = std::all_of(circuits.begin(), circuits.end(),
                                      [](const Circuit& circuit) { return circuit.keep.only.empty(); });
        if (everywhere && kept)
            if (const auto found = known.find(forms); found != known.end()) return found->second;
        const int column = static_cast<int>(columns_.size());
        columns_.push_back({quantity.name, second});
        if (everywhere && kept) known.emplace(std::move(forms), column);
        return column;
    };
    std::set<std::string_view> taken, rated;
    for (const Network* network : networks) {
        for (const QuantityInfo& quantity : network->quantities) {
            if (!taken.insert(quantity.name).second) continue;
            QuantityInfo made{.name = quantity.name, .unit = quantity.unit, .sort = quantity.sort};
            switch (quantity.sort) {
                case QuantityInfo::Sort::product:
                    made.b = {{columnOf(quantity, true), 1.0}};
                    [[fallthrough]];
                case QuantityInfo::Sort::linear:
                    made.a = {{columnOf(quantity, false), 1.0}};
                    break;
                case QuantityInfo::Sort::signal:
                    made.index = static_cast<int>(signals_.size());
                    signals_.push_back(quantity.name);
                    break;
                case QuantityInfo::Sort::conducting:
                    made.index = static_cast<int>(conducting_.size());
                    conducting_.push_back(quantity.name);
                    break;
            }
            quantities_.push_back(std::move(made));
        }
        for (const RatingInfo& rating : network->ratings)
            if (rated.insert(rating.quantity).second) ratings_.push_back(rating);
    }
    layout_.unknowns = static_cast<int>(columns_.size());
    for (std::size_t i = 0; i < conducting_.size(); ++i) {
        layout_.switching.push_back(static_cast<int>(i));
        layout_.placeOfElement.push_back(static_cast<int>(i));
    }
    signalCount_ = signals_.size();
}

RunFrame::Way RunFrame::wayOf(const Network& network, const Keep& keep) const {
    Way way;
    if (direct_) return way;
    const RowLayout own(network);
    std::map<std::string_view, const QuantityInfo*> byName;
    for (const QuantityInfo& quantity : network.quantities)
        if (keep.has(quantity.name)) byName[quantity.name] = &quantity;
    std::map<std::string_view, QuantityInfo::Sort> sorts;
    for (const QuantityInfo& quantity : quantities_) sorts[quantity.name] = quantity.sort;
    const auto found = [&](const std::string& name) -> const QuantityInfo* {
        const auto place = byName.find(name);
        return place == byName.end() || place->second->sort != sorts.at(name) ? nullptr : place->second;
    };
    for (const Column& column : columns_) {
        const QuantityInfo* const quantity = found(column.quantity);
        way.columns.push_back(!quantity ? nullptr : column.second ? &quantity->b : &quantity->a);
    }
    for (const std::string& name : signals_) {
        const QuantityInfo* const quantity = found(name);
        way.signalPlaces.push_back(quantity ? quantity->index : -1);
    }
    for (const std::string& name : conducting_) {
        const QuantityInfo* const quantity = found(name);
        way.conducting.push_back(quantity ? own.placeOfElement[static_cast<std::size_t>(quantity->index)] : -1);
    }
    return way;
}

FrameSink::FrameSink(const RunFrame& frame, const Network& network, Keep keep, RunSink& into)
    : frame_(frame), network_(&network), keep_(std::move(keep)), into_(into), way_(frame.wayOf(network, keep_)) {}

void FrameSink::goOnIn(const Network& network) {
    network_ = &network;
    way_ = frame_.wayOf(network, keep_);
}

std::uint32_t FrameSink::addView(RowView view) {
    if (plain()) return into_.addView(std::move(view));
    if (watched_) views_.push_back(view);
    if (frame_.direct()) {
        viewNumbers_.push_back(into_.addView(std::move(view)));
        return static_cast<std::uint32_t>(viewNumbers_.size() - 1);
    }
    RowView made{.width = view.width, .matrix = {}, .conducting = {}};
    const auto row = static_cast<std::size_t>(view.width) + 1;
    made.matrix.assign(way_.columns.size() * row, 0.0);
    for (std::size_t k = 0; k < way_.columns.size(); ++k) {
        double* const form = made.matrix.data() + k * row;
        if (!way_.columns[k]) {
            form[row - 1] = nothing;
            continue;
        }
        for (const auto& [column, factor] : *way_.columns[k]) {
            const auto unknown = static_cast<std::size_t>(column);
            if (view.matrix.empty())
                form[unknown] += factor;
            else
                for (std::size_t i = 0; i < row; ++i) form[i] += factor * view.matrix[unknown * row + i];
        }
    }
    for (const int place : way_.conducting)
        made.conducting.push_back(place < 0 ? notThere : view.conducting[static_cast<std::size_t>(place)]);
    viewNumbers_.push_back(into_.addView(std::move(made)));
    return static_cast<std::uint32_t>(viewNumbers_.size() - 1);
}

std::uint32_t FrameSink::addSignals(std::span<const double> values) {
    if (plain()) return into_.addSignals(values);
    if (watched_) sets_.emplace_back(values.begin(), values.end());
    if (frame_.direct()) {
        setNumbers_.push_back(into_.addSignals(values));
    } else {
        std::vector<double> made;
        for (const int signal : way_.signalPlaces)
            made.push_back(signal < 0 ? nothing : values[static_cast<std::size_t>(signal)]);
        setNumbers_.push_back(into_.addSignals(made));
    }
    return static_cast<std::uint32_t>(setNumbers_.size() - 1);
}

void FrameSink::note(const PointRef& point, std::span<const double> numbers, Place& place) const {
    const auto width = static_cast<std::size_t>(views_[point.view].width);
    place.valid = true;
    place.view = point.view, place.set = point.signalSet;
    const auto row = numbers.subspan(point.offset, width);
    place.row.assign(row.begin(), row.end());
}

bool FrameSink::append(std::span<const PointRef> points, std::span<const double> numbers) {
    if (holding_) {
        const auto offset = static_cast<std::uint32_t>(heldNumbers_.size());
        for (PointRef point : points) {
            point.offset += offset;
            held_.push_back(point);
        }
        heldNumbers_.insert(heldNumbers_.end(), numbers.begin(), numbers.end());
        return true;
    }
    return store(points, numbers);
}

bool FrameSink::store(std::span<const PointRef> points, std::span<const double> numbers) {
    if (points.empty()) return true;
    if (watched_) {
        if (std::exchange(expecting_, false)) note(points.front(), numbers, first_);
        note(points.back(), numbers, last_);
    }
    count_ += static_cast<std::int64_t>(points.size());
    if (plain()) return into_.append(points, numbers);
    renumbered_.assign(points.begin(), points.end());
    for (PointRef& point : renumbered_)
        point.view = viewNumbers_[point.view], point.signalSet = setNumbers_[point.signalSet];
    return into_.append(renumbered_, numbers);
}

void FrameSink::release() {
    holding_ = false;
    const std::vector<PointRef> points = std::move(held_);
    const std::vector<double> numbers = std::move(heldNumbers_);
    held_.clear(), heldNumbers_.clear();
    store(points, numbers);
}

double FrameSink::valueOf(const Terms& terms, std::uint32_t view, std::span<const double> row) const {
    const RowView& seen = views_[view];
    const auto width = static_cast<std::size_t>(seen.width);
    double sum = 0;
    for (const auto& [column, factor] : terms) {
        const auto unknown = static_cast<std::size_t>(column);
        if (seen.matrix.empty()) {
            sum += factor * row[unknown];
            continue;
        }
        const double* const form = seen.matrix.data() + unknown * (width + 1);
        double value = form[width];
        for (std::size_t i = 0; i < width; ++i) value += form[i] * row[i];
        sum += factor * value;
    }
    return sum;
}

std::vector<double> FrameSink::valuesOf(const Place& place) const {
    std::vector<double> values;
    for (const QuantityInfo& quantity : network_->quantities)
        values.push_back(quantity.sort == QuantityInfo::Sort::linear && keep_.has(quantity.name)
                             ? valueOf(quantity.a, place.view, place.row)
                             : nothing);
    return values;
}

std::optional<Tick> FrameSink::passes(const QuantityInfo& quantity, bool above, double value) const {
    const double sign = above ? 1 : -1;
    std::optional<Tick> before;
    double was = 0;
    for (const PointRef& point : held_) {
        const auto row = std::span(heldNumbers_).subspan(point.offset, static_cast<std::size_t>(views_[point.view].width));
        double now = nothing;
        if (isForm(quantity)) {
            now = valueOf(quantity.a, point.view, row);
            if (quantity.sort == QuantityInfo::Sort::product) now *= valueOf(quantity.b, point.view, row);
        } else if (quantity.sort == QuantityInfo::Sort::signal) {
            now = sets_[point.signalSet][static_cast<std::size_t>(quantity.index)];
        } else {
            const RowLayout layout(*network_);
            now = views_[point.view].conducting[static_cast<std::size_t>(
                layout.placeOfElement[static_cast<std::size_t>(quantity.index)])];
        }
        if (sign * (now - value) > 0) {
            if (!before || point.t == *before || !isForm(quantity)) return point.t;
            const double part = std::clamp((value - was) / (now - was), 0.0, 1.0);
            return *before + static_cast<Tick>(std::ceil(part * static_cast<double>(point.t - *before)));
        }
        before = point.t, was = now;
    }
    return {};
}

void FrameSink::storeGap(Tick t) {
    if (frame_.direct()) return;
    if (!gapView_) {
        RowView view{.width = 1, .matrix = {}, .conducting = {}};
        for (int k = 0; k < frame_.layout().unknowns; ++k) view.matrix.insert(view.matrix.end(), {0.0, nothing});
        view.conducting.assign(frame_.layout().switching.size(), notThere);
        gapView_ = into_.addView(std::move(view));
        gapSet_ = into_.addSignals(std::vector<double>(frame_.signalCount(), nothing));
    }
    const PointRef point{.t = t, .view = *gapView_, .signalSet = *gapSet_, .offset = 0};
    const double zero = 0;
    into_.append(std::span(&point, 1), std::span(&zero, 1));
}

}  // namespace hedgerow

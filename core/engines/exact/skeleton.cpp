#include "engines/exact/skeleton.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <utility>

namespace hedgerow::exact {

namespace {

constexpr double rowNoise = 1e-13;  ///< of the largest number that was part of a row: what cancels to less is rounding

/// Puts triplets into rows, their columns shifted. @param placeOf  per row of the network, or -1 for none
template <class Real>
void addEntries(std::vector<SparseRow<Real>>& rows, const std::vector<Triplet>& entries, int shift,
                const std::vector<int>& placeOf) {
    for (const Triplet& entry : entries)
        if (const int place = placeOf[static_cast<std::size_t>(entry.row)]; place >= 0)
            rows[static_cast<std::size_t>(place)].push_back({entry.column + shift, static_cast<Real>(entry.value)});
}

/// Adds up what falls on one place.
template <class Real>
void sortRows(std::vector<SparseRow<Real>>& rows) {
    for (SparseRow<Real>& row : rows) {
        std::stable_sort(row.begin(), row.end(), [](const auto& a, const auto& b) { return a.column < b.column; });
        std::size_t kept = 0;
        for (std::size_t i = 0; i < row.size(); ++i) {
            if (kept > 0 && row[kept - 1].column == row[i].column)
                row[kept - 1].value += row[i].value;
            else
                row[kept++] = row[i];
        }
        row.resize(kept);
        std::erase_if(row, [](const auto& entry) { return entry.value == 0; });
    }
}

/// Divides a row of [F H], and the same row of E, by its largest entry of F, to the next power of two: nothing is
/// rounded, and states that cancel each other still do so behind an off-resistance.
template <class Real>
void equilibrate(SparseRow<Real>& row, SparseRow<Real>* e, int unknowns) {
    Real largest = 0;
    for (const auto& entry : row)
        if (entry.column < unknowns) largest = std::max(largest, std::abs(entry.value));
    if (largest == 0) return;
    const Real scale = std::ldexp(Real(1), -std::ilogb(largest));
    for (auto& entry : row) entry.value *= scale;
    if (!e) return;
    for (auto& entry : *e) entry.value *= scale;
}

/// The equations of one element as numbers by place: rows of F, then of Hx, then of Bw.
using Written = std::map<std::pair<int, int>, double>;
Written written(const Element& element, int segment, int nodes, int unknowns, int states) {
    LinearStamp stamp(nodes);
    element.stamp(stamp, segment);
    Written places;
    for (const Triplet& t : stamp.f) places[{t.row, t.column}] += t.value;
    for (const Triplet& t : stamp.hx) places[{t.row, unknowns + t.column}] += t.value;
    for (const Triplet& t : stamp.bw) places[{t.row, unknowns + states + t.column}] += t.value;
    return places;
}

}  // namespace

template <class Real>
Skeleton<Real>::Skeleton(const Frame<Real>& frame) : frame_(frame), steady_(frame.network.nodeCount()) {
    findChanges();
    const int m = frame.unknowns, n = frame.size(), nx = frame.states;
    const auto& elements = frame.network.elements;
    LinearStamp all(frame.network.nodeCount());
    for (std::size_t i = 0, j = 0; i < elements.size(); ++i) {
        elements[i]->stamp(all, 0);
        const bool changes = j < changing_.size() && changing_[j] == i;
        changes ? void(++j) : elements[i]->stamp(steady_, 0);
    }
    for (auto* list : {&steady_.f, &steady_.hx, &steady_.bw, &steady_.e})
        std::erase_if(*list, [&](const Triplet& t) { return placeOf_[static_cast<std::size_t>(t.row)] < 0; });

    // In rows that stay, elements write the same in every segment.
    std::vector<int> staying(placeOf_.size(), -1);
    int count = 0;
    for (std::size_t r = 0; r < placeOf_.size(); ++r)
        if (placeOf_[r] < 0) staying[r] = count++;
    std::vector<SparseRow<Real>> rows(static_cast<std::size_t>(count));
    addEntries(rows, all.f, 0, staying);
    addEntries(rows, all.hx, m, staying);
    addEntries(rows, all.bw, m + nx, staying);
    sortRows(rows);
    for (SparseRow<Real>& row : rows) equilibrate<Real>(row, nullptr, m);
    const Elimination<Real> elimination(std::move(rows), m, n);
    elimination.solve(solution_, kernel_);
    consistency_ = elimination.consistency();

    std::vector<Eigen::Triplet<Real>> dynamics;
    for (int i = 0; i < frame.sources; ++i)
        for (int j = 0; j < frame.sources; ++j)
            if (frame.sourceDynamics(i, j) != 0) dynamics.emplace_back(nx + i, nx + j, frame.sourceDynamics(i, j));
    sources_.resize(n, n);
    sources_.setFromTriplets(dynamics.begin(), dynamics.end());
}

/// Rows change that an element writes differently in its segments, or in which a vanishing resistance acts.
template <class Real>
void Skeleton<Real>::findChanges() {
    const int m = frame_.unknowns, nodes = frame_.network.nodeCount();
    std::vector<char> changes(static_cast<std::size_t>(m), 0);
    const auto mark = [&](int row) { changes[static_cast<std::size_t>(row)] = 1; };
    for (std::size_t i = 0; i < frame_.network.elements.size(); ++i) {
        const Element& element = *frame_.network.elements[i];
        Written first;
        for (int segment = 0; segment < element.segmentCount(); ++segment) {
            LinearStamp stamp(nodes);
            element.stamp(stamp, segment);
            for (const Triplet& t : stamp.e) mark(t.row);
            if (element.segmentCount() == 1) break;
            if (segment == 0) {
                first = written(element, 0, nodes, m, frame_.states);
                continue;
            }
            const Written other = written(element, segment, nodes, m, frame_.states);
            for (const auto& [place, value] : other)
                if (const auto found = first.find(place); found == first.end() || found->second != value)
                    mark(place.first);
            for (const auto& [place, value] : first)
                if (!other.contains(place)) mark(place.first);
        }
        if (element.segmentCount() > 1) changing_.push_back(i);
    }
    placeOf_.assign(changes.size(), -1);
    for (std::size_t r = 0; r < changes.size(); ++r)
        if (changes[r]) placeOf_[r] = changingRows_++;
}

template <class Real>
typename Skeleton<Real>::Rest Skeleton<Real>::rest(const std::vector<int>& segments) const {
    const int m = frame_.unknowns, nx = frame_.states;
    LinearStamp stamp = steady_;
    for (const std::size_t i : changing_) frame_.network.elements[i]->stamp(stamp, segments[i]);
    std::vector<SparseRow<Real>> rows(static_cast<std::size_t>(changingRows_));
    Rest rest{std::vector<SparseRow<Real>>(rows.size()), std::vector<SparseRow<Real>>(rows.size()), {}};
    addEntries(rows, stamp.f, 0, placeOf_);
    addEntries(rows, stamp.hx, m, placeOf_);
    addEntries(rows, stamp.bw, m + nx, placeOf_);
    addEntries(rest.e, stamp.e, 0, placeOf_);
    sortRows(rows);
    sortRows(rest.e);
    RowSum<Real> sum(open() + frame_.size());
    for (std::size_t r = 0; r < rows.size(); ++r) {
        equilibrate(rows[r], &rest.e[r], m);
        rest.rows[r] = reduced(rows[r], sum);
        equilibrate(rest.rows[r], &rest.e[r], open());
    }
    std::vector<Eigen::Triplet<Real>> rates;
    for (const Triplet& t : stamp.k) rates.emplace_back(t.row, t.column, static_cast<Real>(t.value));
    rest.rates.resize(frame_.size(), m);
    rest.rates.setFromTriplets(rates.begin(), rates.end());
    return rest;
}

/// A row of [F H] over z and y becomes one over u and y.
template <class Real>
SparseRow<Real> Skeleton<Real>::reduced(const SparseRow<Real>& row, RowSum<Real>& sum) const {
    const int m = frame_.unknowns, open = this->open();
    Real largest = 0;
    for (const SparseEntry<Real>& entry : row) {
        if (entry.column >= m) {
            sum.add(open + entry.column - m, entry.value);
            continue;
        }
        for (typename Sparse<Real>::InnerIterator of(kernel_, entry.column); of; ++of) {
            sum.add(static_cast<int>(of.col()), entry.value * of.value());
            largest = std::max(largest, std::abs(entry.value * of.value()));
        }
        for (typename Sparse<Real>::InnerIterator of(solution_, entry.column); of; ++of)
            sum.add(open + static_cast<int>(of.col()), -entry.value * of.value());
    }
    SparseRow<Real> result;
    sum.take(result, Real(rowNoise) * largest);
    return result;
}

template class Skeleton<double>;
template class Skeleton<long double>;

}  // namespace hedgerow::exact

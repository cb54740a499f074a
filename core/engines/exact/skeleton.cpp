#include "engines/exact/skeleton.h"

#include <algorithm>
#include <map>
#include <set>
#include <utility>

#include "engines/exact/elimination.h"
#include "engines/exact/equations.h"

namespace hedgerow::exact {

namespace {

/// Groups of things that have something in common.
class Groups {
public:
    explicit Groups(std::size_t count) : leader_(count) {
        for (std::size_t i = 0; i < count; ++i) leader_[i] = i;
    }
    std::size_t of(std::size_t i) {
        while (leader_[i] != i) i = leader_[i] = leader_[leader_[i]];
        return i;
    }
    void join(std::size_t a, std::size_t b) { leader_[of(a)] = of(b); }

private:
    std::vector<std::size_t> leader_;
};

/// The equations of an element in one segment as numbers by place: columns of F, then of Hx, then of Bw.
using Written = std::map<std::pair<int, int>, double>;
Written written(const LinearStamp& stamp, int unknowns, int states) {
    Written places;
    for (const Triplet& t : stamp.f) places[{t.row, t.column}] += t.value;
    for (const Triplet& t : stamp.hx) places[{t.row, unknowns + t.column}] += t.value;
    for (const Triplet& t : stamp.bw) places[{t.row, unknowns + states + t.column}] += t.value;
    return places;
}

std::vector<Triplet>* entriesOf(LinearStamp& stamp, int list) {
    std::vector<Triplet>* const lists[] = {&stamp.f, &stamp.hx, &stamp.bw, &stamp.e};
    return lists[list];
}

template <class Real>
Sparse<Real> fromTriplets(Eigen::Index rows, Eigen::Index columns, const std::vector<Triplet>& entries) {
    std::vector<Eigen::Triplet<Real>> list;
    for (const Triplet& t : entries) list.emplace_back(t.row, t.column, static_cast<Real>(t.value));
    Sparse<Real> result(rows, columns);
    result.setFromTriplets(list.begin(), list.end());
    return result;
}

}  // namespace

/// Where the equations have entries, and which of them change.
template <class Real>
struct Skeleton<Real>::Pattern {
    std::vector<std::set<int>> columns;           ///< per row of F: unknowns it may hold
    std::vector<std::set<int>> rates;             ///< per state: the same for its row of K
    std::vector<char> changes;                    ///< per row: an element writes it differently in its segments, or a
                                                  ///< vanishing resistance acts in it
    std::vector<std::size_t> elements;            ///< whose equations depend on their segment
    std::vector<std::set<int>> rowsOf, statesOf;  ///< per such element: rows it writes, and states whose rate it does
    LinearStamp steady;                           ///< of the others

    explicit Pattern(const Frame<Real>& frame)
        : columns(static_cast<std::size_t>(frame.unknowns)),
          rates(static_cast<std::size_t>(frame.states)),
          changes(static_cast<std::size_t>(frame.unknowns), 0),
          steady(frame.network.nodeCount()) {
        for (std::size_t i = 0; i < frame.network.elements.size(); ++i) {
            const Element& element = *frame.network.elements[i];
            if (element.segmentCount() == 1) {
                element.stamp(steady, 0);
            } else {
                elements.push_back(i);
                rowsOf.emplace_back();
                statesOf.emplace_back();
                addChanging(frame, element);
            }
        }
        note(steady);
    }

    void note(const LinearStamp& stamp) {
        for (const Triplet& t : stamp.f) columns[static_cast<std::size_t>(t.row)].insert(t.column);
        for (const Triplet& t : stamp.k) rates[static_cast<std::size_t>(t.row)].insert(t.column);
        for (const Triplet& t : stamp.e) changes[static_cast<std::size_t>(t.row)] = 1;
    }

    void addChanging(const Frame<Real>& frame, const Element& element) {
        Written first;
        for (int segment = 0; segment < element.segmentCount(); ++segment) {
            LinearStamp stamp(frame.network.nodeCount());
            element.stamp(stamp, segment);
            note(stamp);
            for (int list = 0; list < 4; ++list)
                for (const Triplet& t : *entriesOf(stamp, list)) rowsOf.back().insert(t.row);
            for (const Triplet& t : stamp.k) statesOf.back().insert(t.row);
            const Written now = written(stamp, frame.unknowns, frame.states);
            if (segment == 0) first = now;
            for (const auto& [place, value] : now)
                if (const auto found = first.find(place); found == first.end() || found->second != value)
                    changes[static_cast<std::size_t>(place.first)] = 1;
            for (const auto& [place, value] : first)
                if (!now.contains(place)) changes[static_cast<std::size_t>(place.first)] = 1;
        }
    }
};

template <class Real>
Skeleton<Real>::Skeleton(const Frame<Real>& frame)
    : frame_(frame), rateSection_(static_cast<std::size_t>(frame.states), -1) {
    const Pattern pattern(frame);
    const int m = frame.unknowns, n = frame.size();

    // What never changes is solved. A changing element writes the same into a row that stays in all of its segments.
    LinearStamp stays = pattern.steady;
    for (const std::size_t i : pattern.elements) frame.network.elements[i]->stamp(stays, 0);
    std::vector<int> placeOf(pattern.changes.size(), -1);
    int count = 0;
    for (std::size_t r = 0; r < placeOf.size(); ++r)
        if (!pattern.changes[r]) placeOf[r] = count++;
    const Elimination<Real> elimination(equationRows<Real>(stays, placeOf, count, frame), m, n);
    elimination.solve(solution_, kernel_);
    consistency_ = elimination.consistency();

    std::vector<Triplet> dynamics;
    const int nx = frame.states;
    for (int i = 0; i < frame.sources; ++i)
        for (int j = 0; j < frame.sources; ++j)
            if (frame.sourceDynamics(i, j) != 0)
                dynamics.push_back({nx + i, nx + j, static_cast<double>(frame.sourceDynamics(i, j))});
    sources_ = fromTriplets<Real>(n, n, dynamics);
    rates_ = fromTriplets<Real>(n, m, pattern.steady.k);
    slopes_ = addProduct(sources_, Real(1), rates_, solution_);
    slopesByOpen_ = multiply(rates_, kernel_);
    divide(pattern);
}

template <class Real>
void Skeleton<Real>::divide(const Pattern& pattern) {
    // Rows, then u, then consistency conditions, then changing elements.
    const auto rows = static_cast<std::size_t>(frame_.unknowns), open = static_cast<std::size_t>(kernel_.cols()),
               conditions = static_cast<std::size_t>(consistency_.rows());
    const std::size_t firstElement = rows + open + conditions, all = firstElement + pattern.elements.size();
    Groups groups(all);
    const auto joinOpenOf = [&](std::size_t thing, const std::set<int>& unknowns) {
        for (const int unknown : unknowns)
            for (typename Sparse<Real>::InnerIterator of(kernel_, unknown); of; ++of)
                groups.join(thing, rows + static_cast<std::size_t>(of.col()));
    };
    for (std::size_t r = 0; r < rows; ++r)
        if (pattern.changes[r]) joinOpenOf(r, pattern.columns[r]);
    for (std::size_t c = 0; c < conditions; ++c)
        for (typename Sparse<Real>::InnerIterator of(consistency_, static_cast<Eigen::Index>(c)); of; ++of)
            if (of.col() < frame_.states)
                joinOpenOf(rows + open + c, pattern.rates[static_cast<std::size_t>(of.col())]);
    std::vector<std::size_t> rateElement(pattern.rates.size(), all);
    for (std::size_t e = 0; e < pattern.elements.size(); ++e) {
        for (const int row : pattern.rowsOf[e])
            if (pattern.changes[static_cast<std::size_t>(row)])
                groups.join(firstElement + e, static_cast<std::size_t>(row));
        for (const int state : pattern.statesOf[e]) {
            std::size_t& known = rateElement[static_cast<std::size_t>(state)];
            if (known < all) groups.join(firstElement + e, known);
            known = firstElement + e;
        }
    }

    std::vector<int> sectionOf(all, -1);
    const auto section = [&](std::size_t thing) -> Section& {
        int& at = sectionOf[groups.of(thing)];
        if (at < 0) {
            at = static_cast<int>(sections_.size());
            sections_.emplace_back();
        }
        return sections_[static_cast<std::size_t>(at)];
    };
    const auto add = [&](std::size_t thing, auto member, auto value) {
        (section(thing).*member).push_back(value);
        (whole_.*member).push_back(value);
    };
    for (std::size_t r = 0; r < rows; ++r)
        if (pattern.changes[r]) add(r, &Section::rows, static_cast<int>(r));
    for (std::size_t u = 0; u < open; ++u) add(rows + u, &Section::open, static_cast<int>(u));
    for (std::size_t c = 0; c < conditions; ++c) add(rows + open + c, &Section::consistency, static_cast<int>(c));
    for (std::size_t e = 0; e < pattern.elements.size(); ++e)
        add(firstElement + e, &Section::elements, pattern.elements[e]);
    for (std::size_t state = 0; state < rateElement.size(); ++state)
        if (rateElement[state] < all) {
            section(rateElement[state]);
            rateSection_[state] = sectionOf[groups.of(rateElement[state])];
        }

    LinearStamp steady = pattern.steady;
    for (int list = 0; list < 4; ++list)
        for (const Triplet& t : *entriesOf(steady, list)) {
            if (!pattern.changes[static_cast<std::size_t>(t.row)]) continue;
            entriesOf(section(static_cast<std::size_t>(t.row)).steady, list)->push_back(t);
            entriesOf(whole_.steady, list)->push_back(t);
        }
}

template class Skeleton<double>;
template class Skeleton<long double>;

}  // namespace hedgerow::exact

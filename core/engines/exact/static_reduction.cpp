#include "engines/exact/static_reduction.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <utility>

#include "base/groups.h"
#include "engines/exact/elimination.h"
#include "engines/exact/equations.h"

namespace hedgerow::exact {

namespace {

constexpr std::size_t worthTearing = 20;  ///< unknowns of the largest subnetwork from which on nodes are torn
constexpr int usesToTear = 4;             ///< rows that change in which the potential of a node stands
constexpr std::size_t mostTears = 8;

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

}  // namespace

/// Where the equations have entries, and which of them change.
template <class Real>
struct StaticReduction<Real>::Pattern {
    std::vector<std::set<int>> columns;           ///< per row of F: unknowns it may hold
    std::vector<std::set<int>> rates;             ///< per state: the same for its row of K
    std::vector<char> changes;                    ///< per row: an element writes it differently in its segments, or a
                                                  ///< vanishing resistance acts in it
    std::vector<std::size_t> elements;            ///< whose equations depend on their segment
    std::vector<std::set<int>> rowsOf, statesOf;  ///< per such element: rows it writes, and states whose rate it does
    LinearStamp steady;                           ///< of the others

    explicit Pattern(const StateLayout<Real>& layout)
        : columns(static_cast<std::size_t>(layout.unknowns)),
          rates(static_cast<std::size_t>(layout.states)),
          changes(static_cast<std::size_t>(layout.unknowns), 0),
          steady(layout.network.nodeCount()) {
        for (std::size_t i = 0; i < layout.network.elements.size(); ++i) {
            const Element& element = *layout.network.elements[i];
            if (element.segmentCount() == 1) {
                element.stamp(steady, 0);
            } else {
                elements.push_back(i);
                rowsOf.emplace_back();
                statesOf.emplace_back();
                addChanging(layout, element);
            }
        }
        note(steady);
    }

    void note(const LinearStamp& stamp) {
        for (const Triplet& t : stamp.f) columns[static_cast<std::size_t>(t.row)].insert(t.column);
        for (const Triplet& t : stamp.k) rates[static_cast<std::size_t>(t.row)].insert(t.column);
        for (const Triplet& t : stamp.e) changes[static_cast<std::size_t>(t.row)] = 1;
    }

    void addChanging(const StateLayout<Real>& layout, const Element& element) {
        Written first;
        for (int segment = 0; segment < element.segmentCount(); ++segment) {
            LinearStamp stamp(layout.network.nodeCount());
            element.stamp(stamp, segment);
            note(stamp);
            for (int list = 0; list < 4; ++list)
                for (const Triplet& t : *entriesOf(stamp, list)) rowsOf.back().insert(t.row);
            for (const Triplet& t : stamp.k) statesOf.back().insert(t.row);
            const Written now = written(stamp, layout.unknowns, layout.states);
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
StaticReduction<Real>::StaticReduction(const StateLayout<Real>& layout, bool torn) : layout_(layout) {
    const Pattern pattern(layout);
    const int m = layout.unknowns, n = layout.size(), nx = layout.states;
    std::vector<Triplet> dynamics;
    for (int i = 0; i < layout.sources; ++i)
        for (int j = 0; j < layout.sources; ++j)
            if (layout.sourceDynamics(i, j) != 0)
                dynamics.push_back({nx + i, nx + j, static_cast<double>(layout.sourceDynamics(i, j))});
    sources_ = fromTriplets<Real>(n, n, dynamics);
    rates_ = fromTriplets<Real>(n, m, pattern.steady.k);

    const auto tear = [&](const std::vector<int>& tears) {
        solveSteady(pattern, tears);
        divide(pattern, tears);
        return largestSubnetwork();
    };
    // As few nodes as make the largest subnetwork smaller by a third, again and again.
    std::vector<int> chosen, tried;
    std::size_t largest = tear({});
    const std::vector<int> candidates = !torn || largest < worthTearing ? std::vector<int>() : tearable(pattern);
    for (std::size_t k = 0; k < candidates.size() && largest >= worthTearing; ++k) {
        tried.insert(std::lower_bound(tried.begin(), tried.end(), candidates[k]), candidates[k]);
        const std::size_t now = tear(tried);
        if (3 * now > 2 * largest) continue;
        largest = now;
        chosen = tried;
    }
    if (tried != chosen) tear(chosen);
    slopes_ = addProduct(sources_, Real(1), rates_, solution_);
    slopesByOpen_ = multiply(rates_, kernel_);
}

template <class Real>
std::size_t StaticReduction<Real>::largestSubnetwork() const {
    std::size_t largest = 0;
    for (const Subnetwork& subnetwork : subnetworks_) largest = std::max(largest, subnetwork.open.size());
    return largest;
}

/// Nodes whose potential many changing rows hold, those in most of them first, and whose own current law stays.
template <class Real>
std::vector<int> StaticReduction<Real>::tearable(const Pattern& pattern) const {
    std::vector<int> uses(static_cast<std::size_t>(layout_.network.nodeCount()), 0), nodes;
    for (std::size_t r = 0; r < pattern.columns.size(); ++r)
        if (pattern.changes[r])
            for (const int unknown : pattern.columns[r])
                if (unknown < layout_.network.nodeCount()) ++uses[static_cast<std::size_t>(unknown)];
    for (std::size_t node = 0; node < uses.size(); ++node)
        if (uses[node] >= usesToTear && !pattern.changes[node]) nodes.push_back(static_cast<int>(node));
    std::stable_sort(nodes.begin(), nodes.end(), [&](int a, int b) {
        return uses[static_cast<std::size_t>(a)] > uses[static_cast<std::size_t>(b)];
    });
    if (nodes.size() > mostTears) nodes.resize(mostTears);
    return nodes;
}

/// What never changes is solved, but for the current laws and potentials of torn nodes.
template <class Real>
void StaticReduction<Real>::solveSteady(const Pattern& pattern, const std::vector<int>& tears) {
    const int m = layout_.unknowns, n = layout_.size();
    torn_ = static_cast<int>(tears.size());
    // Columns: unknowns that are solved for, then y, then torn potentials.
    const int solved = m - torn_;
    std::vector<int> columnOf(static_cast<std::size_t>(m + n));
    for (int c = 0, next = 0, torn = 0; c < m; ++c) {
        const bool isTorn = std::binary_search(tears.begin(), tears.end(), c);
        columnOf[static_cast<std::size_t>(c)] = isTorn ? solved + n + torn++ : next++;
    }
    for (int j = 0; j < n; ++j) columnOf[static_cast<std::size_t>(m + j)] = solved + j;

    std::vector<int> placeOf(pattern.changes.size(), -1);
    int count = 0;
    for (int r = 0; r < m; ++r)
        if (!pattern.changes[static_cast<std::size_t>(r)] && !std::binary_search(tears.begin(), tears.end(), r))
            placeOf[static_cast<std::size_t>(r)] = count++;
    const LinearStamp stays = staying(pattern);
    std::vector<SparseRow<Real>> rows = equationRows<Real>(stays, placeOf, count, layout_);
    for (SparseRow<Real>& row : rows) {
        for (SparseEntry<Real>& entry : row) {
            const bool known = entry.column < m && columnOf[static_cast<std::size_t>(entry.column)] >= solved;
            entry.column = columnOf[static_cast<std::size_t>(entry.column)];
            if (known) entry.value = -entry.value;  // it goes to the other side
        }
        std::sort(row.begin(), row.end(), [](const auto& a, const auto& b) { return a.column < b.column; });
    }
    const Elimination<Real> elimination(std::move(rows), solved, n + torn_);
    Sparse<Real> solution, kernel;
    elimination.solve(solution, kernel);
    const int free = elimination.freeCount();
    solution_ = byRows<Real>(m, n, [&](Eigen::Index z, SparseRow<Real>& row) {
        if (const int at = columnOf[static_cast<std::size_t>(z)]; at < solved) appendPart(solution, at, 0, n, 0, row);
    });
    kernel_ = byRows<Real>(m, free + torn_, [&](Eigen::Index z, SparseRow<Real>& row) {
        const int at = columnOf[static_cast<std::size_t>(z)];
        if (at >= solved) {
            row.push_back({free + at - solved - n, Real(1)});
            return;
        }
        appendPart(kernel, at, 0, free, 0, row);
        appendPart(solution, at, n, n + torn_, free, row);
    });
    findInterfaceRows(elimination.consistency(), stays, tears);
}

/// What the steady elements, and those that change in the rows in which they do not, write.
template <class Real>
LinearStamp StaticReduction<Real>::staying(const Pattern& pattern) const {
    LinearStamp stays = pattern.steady;
    for (const std::size_t i : pattern.elements) layout_.network.elements[i]->stamp(stays, 0);
    return stays;
}

/// What is left of the steady rows: conditions on y alone, and rows that join subnetworks.
/// @param left  rows over y and torn potentials that must vanish
template <class Real>
void StaticReduction<Real>::findInterfaceRows(const Sparse<Real>& left, const LinearStamp& stays,
                                              const std::vector<int>& tears) {
    const int n = layout_.size(), open = this->open(), free = open - torn_;
    std::vector<int> conditions;
    std::vector<SparseRow<Real>> interfaceRows;
    for (int i = 0; i < left.rows(); ++i) {
        SparseRow<Real> row, y;
        appendPart(left, i, n, n + torn_, free, row);
        if (row.empty()) {
            conditions.push_back(i);
            continue;
        }
        appendPart(left, i, 0, n, open, y);
        for (SparseEntry<Real>& entry : y) entry.value = -entry.value;
        row.insert(row.end(), y.begin(), y.end());
        interfaceRows.push_back(std::move(row));
    }
    consistency_ = byRows<Real>(static_cast<Eigen::Index>(conditions.size()), n, [&](Eigen::Index i, auto& row) {
        appendPart(left, conditions[static_cast<std::size_t>(i)], 0, n, 0, row);
    });
    std::vector<int> placeOf(static_cast<std::size_t>(layout_.unknowns), -1);
    for (std::size_t k = 0; k < tears.size(); ++k) placeOf[static_cast<std::size_t>(tears[k])] = static_cast<int>(k);
    RowSum<Real> sum(open + n);
    for (const SparseRow<Real>& row : equationRows<Real>(stays, placeOf, torn_, layout_))
        interfaceRows.push_back(reduced(row, sum));
    for (SparseRow<Real>& row : interfaceRows) equilibrate<Real>(row, nullptr, open);
    const auto side = [&](int from, int to) {
        return byRows<Real>(static_cast<Eigen::Index>(interfaceRows.size()), to - from, [&](Eigen::Index i, auto& row) {
            for (const SparseEntry<Real>& entry : interfaceRows[static_cast<std::size_t>(i)])
                if (entry.column >= from && entry.column < to) row.push_back({entry.column - from, entry.value});
        });
    };
    interfaceRows_ = {side(0, open), side(open, open + n), {}};
}

template <class Real>
SparseRow<Real> StaticReduction<Real>::reduced(const SparseRow<Real>& row, RowSum<Real>& sum) const {
    const int m = layout_.unknowns, open = this->open();
    for (const SparseEntry<Real>& entry : row) {
        if (entry.column >= m) {
            sum.add(open + entry.column - m, entry.value);
            continue;
        }
        for (typename Sparse<Real>::InnerIterator of(kernel_, entry.column); of; ++of)
            sum.add(static_cast<int>(of.col()), entry.value * of.value());
        for (typename Sparse<Real>::InnerIterator of(solution_, entry.column); of; ++of)
            sum.add(open + static_cast<int>(of.col()), -entry.value * of.value());
    }
    SparseRow<Real> result;
    sum.take(result);
    return result;
}

template <class Real>
void StaticReduction<Real>::divide(const Pattern& pattern, const std::vector<int>& tears) {
    subnetworks_.clear();
    whole_ = {};
    interfaceRows_.open.clear();
    rateSubnetwork_.assign(pattern.rates.size(), -1);
    // Rows, then u, then consistency conditions, then changing elements. Torn potentials join nothing.
    const auto rows = static_cast<std::size_t>(layout_.unknowns), open = static_cast<std::size_t>(kernel_.cols()),
               free = open - tears.size(), conditions = static_cast<std::size_t>(consistency_.rows());
    const std::size_t firstElement = rows + open + conditions, all = firstElement + pattern.elements.size();
    Groups groups(all);
    std::vector<char> alone(open, 1);  // in no row but those that join subnetworks
    const auto joinOpenOf = [&](std::size_t thing, const std::set<int>& unknowns) {
        for (const int unknown : unknowns)
            for (typename Sparse<Real>::InnerIterator of(kernel_, unknown); of; ++of) {
                const auto u = static_cast<std::size_t>(of.col());
                if (u >= free) continue;
                groups.join(thing, rows + u);
                alone[u] = 0;
            }
    };
    for (std::size_t r = 0; r < rows; ++r)
        if (pattern.changes[r]) joinOpenOf(r, pattern.columns[r]);
    for (std::size_t c = 0; c < conditions; ++c)
        for (typename Sparse<Real>::InnerIterator of(consistency_, static_cast<Eigen::Index>(c)); of; ++of)
            if (of.col() < layout_.states)
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

    std::vector<int> subnetworkOf(all, -1);
    const auto subnetwork = [&](std::size_t thing) -> Subnetwork& {
        int& at = subnetworkOf[groups.of(thing)];
        if (at < 0) {
            at = static_cast<int>(subnetworks_.size());
            subnetworks_.emplace_back();
        }
        return subnetworks_[static_cast<std::size_t>(at)];
    };
    const auto add = [&](std::size_t thing, auto member, auto value) {
        (subnetwork(thing).*member).push_back(value);
        (whole_.*member).push_back(value);
    };
    for (std::size_t r = 0; r < rows; ++r)
        if (pattern.changes[r]) add(r, &Subnetwork::rows, static_cast<int>(r));
    for (std::size_t u = 0; u < open; ++u) {
        if (!tears.empty() && alone[u]) {
            interfaceRows_.open.push_back(static_cast<int>(u));
            whole_.open.push_back(static_cast<int>(u));
        } else {
            add(rows + u, &Subnetwork::open, static_cast<int>(u));
        }
    }
    for (std::size_t c = 0; c < conditions; ++c) add(rows + open + c, &Subnetwork::consistency, static_cast<int>(c));
    for (std::size_t e = 0; e < pattern.elements.size(); ++e)
        add(firstElement + e, &Subnetwork::elements, pattern.elements[e]);
    for (std::size_t state = 0; state < rateElement.size(); ++state)
        if (rateElement[state] < all) {
            subnetwork(rateElement[state]);
            rateSubnetwork_[state] = subnetworkOf[groups.of(rateElement[state])];
        }

    LinearStamp steady = pattern.steady;
    for (int list = 0; list < 4; ++list)
        for (const Triplet& t : *entriesOf(steady, list)) {
            if (!pattern.changes[static_cast<std::size_t>(t.row)]) continue;
            entriesOf(subnetwork(static_cast<std::size_t>(t.row)).steady, list)->push_back(t);
            entriesOf(whole_.steady, list)->push_back(t);
        }
}

template class StaticReduction<double>;
template class StaticReduction<long double>;

}  // namespace hedgerow::exact

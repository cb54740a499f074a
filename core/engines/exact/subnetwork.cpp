#include "engines/exact/subnetwork.h"

#include <algorithm>
#include <cmath>

#include "base/groups.h"
#include "engines/exact/elimination.h"
#include "engines/exact/equations.h"

namespace hedgerow::exact {

namespace {

constexpr double cancelledInRank =
    1e-11;  ///< of the terms of an entry of Q, or of a condition: what is less is rounding
constexpr std::size_t mostBytes = std::size_t{16} << 20;  ///< of known states of subnetworks

template <class Real>
Vector<Real> rowScales(const Matrix<Real>& matrix) {
    Vector<Real> scales = matrix.cwiseAbs().rowwise().maxCoeff();
    for (Real& s : scales) s = s > 0 ? 1 / s : Real(1);
    return scales;
}

/// Splits the kernels by the rank of Q: what the derivative of the consistency condition fixes, and what is left.
template <class Real>
struct Split {
    int rank = 0;
    Sparse<Real> left1, left2;  ///< combinations of the rows of Q, one in each row
    Sparse<Real> right2;        ///< of the columns, one in each column
};

/// Rows and columns of a matrix that have nothing to do with the others.
struct Block {
    std::vector<int> rows, columns;
};
template <class Real>
std::vector<Block> blocksOf(const Sparse<Real>& q) {
    const auto count = static_cast<std::size_t>(q.rows());
    Groups groups(2 * count);  // rows, then columns
    for (Eigen::Index i = 0; i < q.rows(); ++i)
        for (typename Sparse<Real>::InnerIterator of(q, i); of; ++of)
            groups.join(static_cast<std::size_t>(i), count + static_cast<std::size_t>(of.col()));
    std::vector<int> place(2 * count, -1);
    std::vector<Block> blocks;
    for (std::size_t i = 0; i < place.size(); ++i) {
        int& at = place[groups.of(i)];
        if (at < 0) {
            at = static_cast<int>(blocks.size());
            blocks.emplace_back();
        }
        Block& block = blocks[static_cast<std::size_t>(at)];
        i < count ? block.rows.push_back(static_cast<int>(i)) : block.columns.push_back(static_cast<int>(i - count));
    }
    return blocks;
}

/// Whether a square matrix with rows of size one is far from singular. Most are, and this is quickly seen.
template <class Real>
bool surelyRegular(Matrix<Real> m) {
    for (Eigen::Index k = 0; k < m.rows(); ++k) {
        Eigen::Index pivot = 0;
        const Real size = m.col(k).tail(m.rows() - k).cwiseAbs().maxCoeff(&pivot);
        if (!(size > Real(1e-3))) return false;
        m.row(k).swap(m.row(k + pivot));
        for (Eigen::Index i = k + 1; i < m.rows(); ++i)
            m.row(i).tail(m.cols() - k) -= (m(i, k) / m(k, k)) * m.row(k).tail(m.cols() - k);
    }
    return m.rows() > 0;
}

template <class Real>
Split<Real> splitByRank(const Sparse<Real>& q) {
    std::vector<Eigen::Triplet<Real>> left1, left2, right2;
    Split<Real> split;
    int rest1 = 0, rest2 = 0;
    for (const Block& block : blocksOf(q)) {
        const auto height = static_cast<Eigen::Index>(block.rows.size()),
                   width = static_cast<Eigen::Index>(block.columns.size());
        Matrix<Real> part(height, width);
        for (Eigen::Index i = 0; i < height; ++i)
            for (Eigen::Index j = 0; j < width; ++j)
                part(i, j) =
                    q.coeff(block.rows[static_cast<std::size_t>(i)], block.columns[static_cast<std::size_t>(j)]);
        Matrix<Real> left = Matrix<Real>::Identity(height, height), right = Matrix<Real>::Identity(width, width);
        int rank = 0;
        const Vector<Real> rows = width > 0 ? rowScales(part) : Vector<Real>();
        if (height == width && surelyRegular(Matrix<Real>(rows.asDiagonal() * part))) {
            rank = static_cast<int>(height);
            left = rows.asDiagonal();
        } else if (height > 0 && width > 0) {
            const Matrix<Real> scaledRows = rows.asDiagonal() * part;
            const Vector<Real> columns = rowScales(Matrix<Real>(scaledRows.transpose()));
            const Eigen::JacobiSVD<Matrix<Real>> svd(Matrix<Real>(scaledRows * columns.asDiagonal()),
                                                     Eigen::ComputeFullU | Eigen::ComputeFullV);
            for (const Real value : svd.singularValues())
                if (value > Real(1e-10) * svd.singularValues()(0)) ++rank;
            left = rows.asDiagonal() * svd.matrixU();
            right = columns.asDiagonal() * svd.matrixV();
        }
        for (Eigen::Index k = 0; k < height; ++k)
            for (Eigen::Index i = 0; i < height; ++i) {
                const int row = block.rows[static_cast<std::size_t>(i)], at = static_cast<int>(k);
                if (k < rank)
                    left1.emplace_back(split.rank + at, row, left(i, k));
                else
                    left2.emplace_back(rest1 + at - rank, row, left(i, k));
            }
        for (Eigen::Index k = rank; k < width; ++k)
            for (Eigen::Index j = 0; j < width; ++j)
                right2.emplace_back(block.columns[static_cast<std::size_t>(j)], rest2 + static_cast<int>(k) - rank,
                                    right(j, k));
        split.rank += rank;
        rest1 += static_cast<int>(height) - rank;
        rest2 += static_cast<int>(width) - rank;
    }
    split.left1.resize(split.rank, q.rows());
    split.left2.resize(rest1, q.rows());
    split.right2.resize(q.cols(), rest2);
    split.left1.setFromTriplets(left1.begin(), left1.end());
    split.left2.setFromTriplets(left2.begin(), left2.end());
    split.right2.setFromTriplets(right2.begin(), right2.end());
    return split;
}

template <class Real>
std::vector<int> largestEntries(const Vector<Real>& direction) {
    std::vector<int> found;
    const Real largest = direction.cwiseAbs().maxCoeff();
    for (int i = 0; i < direction.size(); ++i)
        if (std::abs(direction(i)) > Real(0.1) * largest) found.push_back(i);
    return found;
}

template <class Real>
Sparse<Real> sparse(const Matrix<Real>& full) {
    return full.sparseView(Real(0), Real(0));
}

/// The first columns of a matrix, or empty ones added to them.
template <class Real>
Sparse<Real> columns(const Sparse<Real>& from, int count) {
    if (from.cols() == count) return from;
    return byRows<Real>(from.rows(), count,
                        [&](Eigen::Index i, SparseRow<Real>& row) { appendPart(from, i, 0, count, 0, row); });
}

/// The rows of a matrix at their places among `count`.
template <class Real>
Sparse<Real> placed(const Sparse<Real>& rows, const std::vector<int>& places, Eigen::Index count) {
    if (rows.rows() == count) return rows;
    std::size_t next = 0;
    return byRows<Real>(count, rows.cols(), [&](Eigen::Index i, SparseRow<Real>& row) {
        if (next == places.size() || places[next] != i) return;
        appendRow(rows, static_cast<Eigen::Index>(next++), row);
    });
}

}  // namespace

/// Solves a subnetwork step by step. Its right-hand columns are y and, but for the whole network, the potentials of
/// torn nodes.
template <class Real>
struct SubnetworkState<Real>::Completion {
    Completion(const StaticReduction<Real>& s, const Subnetwork& sec, SubnetworkState& st)
        : reduction(s),
          subnetwork(sec),
          state(st),
          wholly(&sec == &s.whole()),
          n(s.stateLayout().size()),
          m(s.stateLayout().unknowns),
          right(wholly ? n : n + s.torn()) {}

    void solve(const Segments& segments) {
        const Network& network = reduction.stateLayout().network;
        LinearStamp stamp(network.nodeCount());
        for (const std::size_t i : subnetwork.elements) network.elements[i]->stamp(stamp, segments[i]);
        state.rates = stamp.k;
        stamp.f.insert(stamp.f.end(), subnetwork.steady.f.begin(), subnetwork.steady.f.end());
        stamp.hx.insert(stamp.hx.end(), subnetwork.steady.hx.begin(), subnetwork.steady.hx.end());
        stamp.bw.insert(stamp.bw.end(), subnetwork.steady.bw.begin(), subnetwork.steady.bw.end());
        stamp.e.insert(stamp.e.end(), subnetwork.steady.e.begin(), subnetwork.steady.e.end());
        std::vector<int> placeOf(static_cast<std::size_t>(m), -1);
        for (std::size_t r = 0; r < subnetwork.rows.size(); ++r)
            placeOf[static_cast<std::size_t>(subnetwork.rows[r])] = static_cast<int>(r);
        const auto count = static_cast<int>(subnetwork.rows.size());
        std::vector<SparseRow<Real>> e = relaxationRows<Real>(stamp, placeOf, count);
        std::vector<SparseRow<Real>> rows = equationRows<Real>(stamp, placeOf, count, reduction.stateLayout(), &e);
        reduce(rows, e);
        if (wholly) join(rows, e);
        const std::size_t conditions = rows.size() + subnetwork.consistency.size();
        const Elimination<Real> elimination(std::move(rows), static_cast<int>(subnetwork.open.size()), right);
        Sparse<Real> kernel;
        elimination.solve(state.open, kernel);
        state.alone = wholly || conditions == subnetwork.open.size();
        if (state.alone && elimination.freeCount() > 0) complete(elimination, kernel, std::move(e));
    }

    /// Rows of [F H] over z and y become rows over the subnetwork's u and right-hand columns.
    void reduce(std::vector<SparseRow<Real>>& rows, std::vector<SparseRow<Real>>& e) const {
        const int all = reduction.open(), free = all - (wholly ? 0 : reduction.torn()),
                  open = static_cast<int>(subnetwork.open.size());
        std::vector<int> placeOf(static_cast<std::size_t>(all + n), -1);
        for (int u = 0; u < open; ++u)
            placeOf[static_cast<std::size_t>(subnetwork.open[static_cast<std::size_t>(u)])] = u;
        for (int k = free; k < all; ++k) placeOf[static_cast<std::size_t>(k)] = open + n + k - free;
        for (int j = 0; j < n; ++j) placeOf[static_cast<std::size_t>(all + j)] = open + j;
        RowSum<Real> sum(all + n);
        for (std::size_t r = 0; r < rows.size(); ++r) {
            SparseRow<Real> row = reduction.reduced(rows[r], sum);
            for (SparseEntry<Real>& entry : row) {
                if (entry.column >= free && entry.column < all) entry.value = -entry.value;
                entry.column = placeOf[static_cast<std::size_t>(entry.column)];
            }
            std::sort(row.begin(), row.end(), [](const auto& a, const auto& b) { return a.column < b.column; });
            rows[r] = std::move(row);
            equilibrate(rows[r], &e[r], open);
        }
    }

    /// Adds the rows that join subnetworks.
    void join(std::vector<SparseRow<Real>>& rows, std::vector<SparseRow<Real>>& e) const {
        const auto& interfaceRows = reduction.interfaceRows();
        for (Eigen::Index i = 0; i < interfaceRows.byOpen.rows(); ++i) {
            SparseRow<Real>& row = rows.emplace_back();
            appendRow(interfaceRows.byOpen, i, row);
            appendPart(interfaceRows.byY, i, 0, n, reduction.open(), row);
            e.emplace_back();
        }
    }

    /// Fixes what F leaves open, and finds what it asks of the states. @param freely  kernel of the subnetwork's F,
    /// over u
    void complete(const Elimination<Real>& elimination, const Sparse<Real>& freely, std::vector<SparseRow<Real>> e) {
        Sparse<Real> changed;
        if (!state.rates.empty()) changed = reduction.rates() + fromTriplets<Real>(n, m, state.rates);
        const Sparse<Real>& k = state.rates.empty() ? reduction.rates() : changed;
        const Sparse<Real> asks = elimination.consistency(), asksOfY = columns(asks, n);
        const Sparse<Real> h = stacked(chosen(reduction.consistency(), subnetwork.consistency), asksOfY),
                           hk = multiply(h, k, Real(cancelledInRank));
        // What it asks must be of y, not of a torn potential, and move with nothing that is not its own.
        state.alone = asks.nonZeros() == asksOfY.nonZeros() && standsAlone(h, hk);
        if (!state.alone) return;
        const Sparse<Real> kernel = multiply(reduction.kernel(), placed(freely, subnetwork.open, reduction.open()));
        const Sparse<Real> q = multiply(hk, kernel, Real(cancelledInRank));
        const Split<Real> split = splitByRank(q);
        const Eigen::Index relaxing = kernel.cols() - split.rank;
        const Sparse<Real>&left1 = split.left1, &left2 = split.left2;

        // Conditions on what is open: the derivative of the consistency condition, then the vanishing resistances.
        Sparse<Real> relaxed, conditions = multiply(left1, hk);
        if (relaxing > 0) {
            relaxed = multiply(left2, stacked(Sparse<Real>(static_cast<Eigen::Index>(subnetwork.consistency.size()), m),
                                              elimination.leftOf(std::move(e), m)));
            conditions = stacked(conditions, relaxed);
        }
        const auto withRelaxing = [&](Sparse<Real>&& rows) {
            return relaxing > 0 ? stacked(rows, Sparse<Real>(relaxing, n)) : std::move(rows);
        };
        const Sparse<Real> byOpen = multiply(conditions, reduction.kernel());
        state.alone = concernsOwn(byOpen);
        if (!state.alone) return;
        Sparse<Real> known = withRelaxing(multiply(left1, multiply(h, reduction.sourceDynamics())));
        known = addProduct(known, Real(1), conditions, reduction.solution());
        known = addProduct(columns(known, right), Real(1), byOpen, everyOpen());
        const Matrix<Real> t = multiply(conditions, kernel);
        const Vector<Real> tScales = rowScales(t);
        Eigen::FullPivLU<Matrix<Real>> tLu;
        tLu.setThreshold(Real(1e-10));
        tLu.compute(Matrix<Real>(tScales.asDiagonal() * t));
        if (!tLu.isInvertible()) {
            state.alone = wholly;  // what is open here may be fixed elsewhere
            if (!wholly) return;
            state.illPosedUnknowns = largestEntries(Vector<Real>(kernel * Vector<Real>(tLu.kernel().col(0))));
            return;
        }
        const auto fixed = [&](const Sparse<Real>& of) {
            return sparse(Matrix<Real>(tLu.solve(Matrix<Real>(tScales.asDiagonal() * Matrix<Real>(of)))));
        };
        state.open = addProduct(state.open, Real(-1), freely, fixed(known));
        if (split.rank > 0) {
            state.jump = fixed(withRelaxing(multiply(left1, h, Real(cancelledInRank))));
            state.lift = -multiply(k, kernel);
            state.impulse = -multiply(freely, state.jump);
        }
        if (relaxing > 0) relax(h, left2, relaxed, multiply(kernel, split.right2));
    }

    /// All u by the right-hand columns, as far as the subnetwork knows them.
    Sparse<Real> everyOpen() const {
        if (wholly) return state.open;
        const int all = reduction.open(), free = all - reduction.torn();
        const Sparse<Real> own = placed(state.open, subnetwork.open, all);
        return byRows<Real>(all, right, [&](Eigen::Index u, SparseRow<Real>& row) {
            if (u >= free) row.push_back({n + static_cast<int>(u) - free, Real(1)});
            appendRow(own, u, row);
        });
    }

    /// What the derivative of the consistency condition leaves: a contradiction, or a current that is shared.
    void relax(const Sparse<Real>& h, const Sparse<Real>& left2, const Sparse<Real>& relaxed,
               const Matrix<Real>& directions) {
        state.contradiction = multiply(left2, h, Real(cancelledInRank));
        if (state.contradiction.cwiseAbs().maxCoeff() == 0) {
            state.contradiction.resize(0, n);
            state.shared = directions;
            for (int j = 0; j < state.shared.cols(); ++j)
                state.shared.col(j) /= state.shared.col(j).cwiseAbs().maxCoeff();
        } else {
            const Matrix<Real> g = relaxed * directions;
            state.infinite = directions * g.fullPivLu().solve(Matrix<Real>::Identity(g.rows(), g.rows()));
        }
    }

    /// Whether rows over all u hold none of other subnetworks. Torn potentials belong to none.
    bool concernsOwn(const Sparse<Real>& byOpen) const {
        if (wholly) return true;
        const int free = reduction.open() - reduction.torn();
        for (Eigen::Index i = 0; i < byOpen.rows(); ++i)
            for (typename Sparse<Real>::InnerIterator of(byOpen, i); of; ++of) {
                const auto u = static_cast<int>(of.col());
                if (u < free && !std::binary_search(subnetwork.open.begin(), subnetwork.open.end(), u)) return false;
            }
        return true;
    }

    /// Whether conditions h on y, whose rates are rows over z, concern no u and no rates of other subnetworks.
    bool standsAlone(const Sparse<Real>& h, const Sparse<Real>& rates) const {
        if (wholly) return true;
        if (!concernsOwn(multiply(rates, reduction.kernel()))) return false;
        const Subnetwork* const first = reduction.subnetworks().data();
        for (Eigen::Index i = 0; i < h.rows(); ++i)
            for (typename Sparse<Real>::InnerIterator of(h, i); of && of.col() < reduction.stateLayout().states; ++of) {
                const int other = reduction.changesRateOf(static_cast<int>(of.col()));
                if (other >= 0 && first + other != &subnetwork) return false;
            }
        return true;
    }

    const StaticReduction<Real>& reduction;
    const Subnetwork& subnetwork;
    SubnetworkState& state;
    bool wholly;
    int n, m, right;
};

template <class Real>
SubnetworkState<Real>::SubnetworkState(const StaticReduction<Real>& reduction, const Subnetwork& subnetwork,
                                       const Segments& segments) {
    Completion(reduction, subnetwork, *this).solve(segments);
}

template <class Real>
std::size_t SubnetworkState<Real>::bytes() const {
    const auto full = static_cast<std::size_t>(contradiction.size() + infinite.size() + shared.size());
    const auto entries =
        static_cast<std::size_t>(open.nonZeros() + impulse.nonZeros() + lift.nonZeros() + jump.nonZeros());
    return 512 + sizeof(Real) * full + (sizeof(Real) + sizeof(int)) * entries + sizeof(Triplet) * rates.size();
}

template <class Real>
std::shared_ptr<const SubnetworkState<Real>> SubnetworkStates<Real>::whole(const Segments& segments) {
    ++solved_;
    return std::make_shared<SubnetworkState<Real>>(reduction_, reduction_.whole(), segments);
}

template <class Real>
std::vector<std::shared_ptr<const SubnetworkState<Real>>> SubnetworkStates<Real>::find(const Segments& segments) {
    const std::vector<Subnetwork>& subnetworks = reduction_.subnetworks();
    if (subnetworks.size() < 2 || !apart_) return {};
    if (bytes_ > mostBytes) {
        for (auto& states : known_) states.clear();
        bytes_ = 0;
    }
    std::vector<std::shared_ptr<const SubnetworkState<Real>>> found;
    const auto& elements = reduction_.stateLayout().network.elements;
    Segments key;
    for (std::size_t s = 0; s < subnetworks.size(); ++s) {
        key.clear();
        for (const std::size_t i : subnetworks[s].elements) key.push_back(elements[i]->equations(segments[i]));
        auto& state = known_[s][key];
        if (!state) {
            state = std::make_shared<SubnetworkState<Real>>(reduction_, subnetworks[s], segments);
            bytes_ += state->bytes() + 64 + sizeof(int) * key.size();
            ++solved_;
        }
        if (!state->alone) return {};
        found.push_back(state);
    }
    return found;
}

template struct SubnetworkState<double>;
template struct SubnetworkState<long double>;
template class SubnetworkStates<double>;
template class SubnetworkStates<long double>;

}  // namespace hedgerow::exact

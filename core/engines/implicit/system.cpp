#include "engines/implicit/system.h"

#include <algorithm>
#include <map>
#include <set>
#include <cmath>

#include <klu.h>

#include "base/groups.h"

namespace hedgerow::implicit {

namespace {
/// In S and ohm: where nothing else fixes a potential behind open switches, or how closed ones share a current.
constexpr double vanishing = 1e-14;
/// Below this growth of pivots a factorisation with old pivots is repeated with new ones.
constexpr double leastGrowth = 1e-3;
}  // namespace

struct System::Factors {
    klu_common common;
    klu_symbolic* symbolic = nullptr;
    klu_numeric* numeric = nullptr;
    Factors() {
        klu_defaults(&common);
        common.halt_if_singular = 1;
    }
    ~Factors() {
        klu_free_numeric(&numeric, &common);
        klu_free_symbolic(&symbolic, &common);
    }
};

System::System(const Network& network)
    : network_(network),
      unknowns_(static_cast<std::size_t>(network.unknownCount())),
      states_(network.states.size()),
      stamp_(network.nodeCount()),
      factors_(std::make_unique<Factors>()) {
    for (const auto& element : network.elements)
        if (element->smooth()) smooth_.push_back(element.get());
    findIslands();
    findPattern();
}

System::~System() = default;

/// Nodes that nothing joins to the reference: their current laws add up to nothing, so that a current at one of them,
/// by the sum of the potentials that float around zero, is none and fixes them.
void System::findIslands() {
    const auto nodes = static_cast<std::size_t>(network_.nodeCount()), reference = nodes;
    Groups groups(nodes + 1);
    const auto isNode = [&](int row) { return row >= 0 && static_cast<std::size_t>(row) < nodes; };
    std::vector<std::size_t> floating;
    for (const auto& element : network_.elements)
        for (int segment = 0; segment < element->segmentCount(); ++segment) {
            LinearStamp stamp(network_.nodeCount());
            element->stamp(stamp, segment);
            // What enters a node leaves another one, or flows to the reference.
            int kind = 0;
            for (const auto* list : {&stamp.f, &stamp.hx, &stamp.bw}) {
                std::map<int, std::pair<double, std::size_t>> columns;  // sum, and one of the nodes
                for (const Triplet& entry : *list) {
                    if (!isNode(entry.row)) continue;
                    const auto node = static_cast<std::size_t>(entry.row);
                    const auto [place, fresh] = columns.try_emplace(entry.column, entry.value, node);
                    if (fresh) continue;
                    place->second.first += entry.value;
                    groups.join(place->second.second, node);
                }
                for (const auto& [column, sum] : columns) {
                    if (std::abs(sum.first) > 1e-9) groups.join(sum.second, reference);
                    if (kind == 0 && isNode(column)) groups.join(sum.second, static_cast<std::size_t>(column));
                }
                ++kind;
            }
            for (const Triplet& entry : stamp.e)
                if (entry.row == entry.column && isNode(entry.row)) floating.push_back(static_cast<std::size_t>(entry.row));
        }
    std::vector<double> z(unknowns_, 0.0), x(states_, 0.0);
    for (const Element* element : smooth_) {
        stamp_.clear();
        element->evaluate({z, x}, stamp_);
        std::size_t first = nodes + 1;
        for (const auto& entry : stamp_.flows) {
            if (entry.row >= 0 && !isNode(entry.row)) continue;
            const std::size_t node = entry.row < 0 ? reference : static_cast<std::size_t>(entry.row);
            if (first > nodes) first = node;
            groups.join(first, node);
        }
    }
    tied_.assign(nodes, 0);
    std::map<std::size_t, std::set<std::size_t>> islands;
    for (std::size_t node = 0; node < nodes; ++node)
        if (groups.of(node) != groups.of(reference)) islands[groups.of(node)], tied_[node] = 1;
    for (const std::size_t node : floating)
        if (tied_[node]) islands[groups.of(node)].insert(node);
    for (std::size_t node = 0; node < nodes; ++node)
        if (tied_[node] && islands[groups.of(node)].empty()) islands[groups.of(node)].insert(node);
    for (const auto& [leader, around] : islands)
        for (const std::size_t node : around)
            ties_.push_back({static_cast<int>(*around.begin()), static_cast<int>(node), 1.0});
}

/// All places that any segment of any element may write to.
void System::findPattern() {
    LinearStamp all(network_.nodeCount());
    for (const auto& element : network_.elements)
        for (int segment = 0; segment < element->segmentCount(); ++segment) element->stamp(all, segment);
    std::vector<double> z(unknowns_, 0.0), x(states_, 0.0);
    stamp_.clear();
    for (const Element* element : smooth_) element->evaluate({z, x}, stamp_);
    std::vector<std::vector<int>> k(states_), columns(unknowns_);
    for (const Triplet& entry : all.k) k[static_cast<std::size_t>(entry.row)].push_back(entry.column);
    const auto put = [&](int row, int column) {
        if (row >= 0 && column >= 0) columns[static_cast<std::size_t>(column)].push_back(row);
    };
    for (const std::vector<Triplet>* list : std::initializer_list<const std::vector<Triplet>*>{&all.f, &all.e, &ties_})
        for (const Triplet& entry : *list) put(entry.row, entry.column);
    for (const Triplet& entry : all.hx)
        for (const int column : k[static_cast<std::size_t>(entry.column)]) put(entry.row, column);
    for (const auto& entry : stamp_.unknowns) put(entry.row, entry.column);
    for (const auto& entry : stamp_.states)
        if (entry.column >= 0)
            for (const int column : k[static_cast<std::size_t>(entry.column)]) put(entry.row, column);
    starts_.push_back(0);
    for (auto& column : columns) {
        std::sort(column.begin(), column.end());
        column.erase(std::unique(column.begin(), column.end()), column.end());
        rows_.insert(rows_.end(), column.begin(), column.end());
        starts_.push_back(static_cast<int>(rows_.size()));
    }
    constant_.assign(rows_.size(), 0.0);
    byAlpha_ = values_ = constant_;
    if (unknowns_ > 0)
        factors_->symbolic = klu_analyze(static_cast<int>(unknowns_), starts_.data(), rows_.data(), &factors_->common);
}

std::size_t System::slot(int row, int column) const {
    const auto first = rows_.begin() + starts_[static_cast<std::size_t>(column)],
               last = rows_.begin() + starts_[static_cast<std::size_t>(column) + 1];
    return static_cast<std::size_t>(std::lower_bound(first, last, row) - rows_.begin());
}

void System::configure(const std::vector<int>& segments, std::span<const double> weights) {
    LinearStamp stamp(network_.nodeCount());
    for (std::size_t i = 0; i < segments.size(); ++i) network_.elements[i]->stamp(stamp, segments[i]);
    f_ = std::move(stamp.f);
    for (const Triplet& entry : stamp.e)
        if (entry.row != entry.column || entry.row >= network_.nodeCount() || !tied_[static_cast<std::size_t>(entry.row)])
            f_.push_back({entry.row, entry.column, vanishing * entry.value});
    f_.insert(f_.end(), ties_.begin(), ties_.end());
    hx_ = std::move(stamp.hx);
    bw_ = std::move(stamp.bw);
    k_ = std::move(stamp.k);
    if (!weights.empty())
        for (Triplet& entry : k_) entry.value *= weights[static_cast<std::size_t>(entry.row)];
    kOfState_.assign(states_, {});
    for (const Triplet& entry : k_)
        kOfState_[static_cast<std::size_t>(entry.row)].emplace_back(entry.column, entry.value);
    std::fill(constant_.begin(), constant_.end(), 0.0);
    std::fill(byAlpha_.begin(), byAlpha_.end(), 0.0);
    for (const Triplet& entry : f_) constant_[slot(entry.row, entry.column)] += entry.value;
    for (const Triplet& entry : hx_)
        for (const auto& [column, rate] : kOfState_[static_cast<std::size_t>(entry.column)])
            byAlpha_[slot(entry.row, column)] -= entry.value * rate;
    slotsKnown_ = false;
    fresh_ = true;
}

void System::residual(std::span<const double> z, std::span<const double> x, std::span<const double> w,
                      std::span<double> r) {
    const auto at = [](std::span<const double> values, int i) { return values[static_cast<std::size_t>(i)]; };
    std::fill(r.begin(), r.end(), 0.0);
    for (const Triplet& e : f_) r[static_cast<std::size_t>(e.row)] += e.value * at(z, e.column);
    for (const Triplet& e : hx_) r[static_cast<std::size_t>(e.row)] -= e.value * at(x, e.column);
    for (const Triplet& e : bw_) r[static_cast<std::size_t>(e.row)] -= e.value * at(w, e.column);
    if (smooth_.empty()) return;
    ++evaluations_;
    stamp_.clear();
    for (const Element* element : smooth_) element->evaluate({z, x}, stamp_);
    for (const auto& e : stamp_.flows)
        if (e.row >= 0) r[static_cast<std::size_t>(e.row)] += e.value;
}

void System::rates(std::span<const double> z, std::span<double> rates) const {
    std::fill(rates.begin(), rates.end(), 0.0);
    for (const Triplet& e : k_)
        rates[static_cast<std::size_t>(e.row)] += e.value * z[static_cast<std::size_t>(e.column)];
}

/// The derivatives that were stamped last.
void System::addSmooth(double alpha) {
    if (!slotsKnown_) {
        unknownSlots_.clear();
        stateSlots_.clear();
        for (const auto& e : stamp_.unknowns)
            unknownSlots_.push_back(e.row >= 0 && e.column >= 0 ? slot(e.row, e.column) : rows_.size());
        for (const auto& e : stamp_.states) {
            auto& list = stateSlots_.emplace_back();
            if (e.row < 0 || e.column < 0) continue;
            for (const auto& [column, rate] : kOfState_[static_cast<std::size_t>(e.column)])
                list.emplace_back(slot(e.row, column), rate);
        }
        slotsKnown_ = true;
    }
    for (std::size_t i = 0; i < stamp_.unknowns.size(); ++i)
        if (unknownSlots_[i] < rows_.size()) values_[unknownSlots_[i]] += stamp_.unknowns[i].value;
    for (std::size_t i = 0; i < stamp_.states.size(); ++i)
        for (const auto& [place, rate] : stateSlots_[i]) values_[place] += alpha * rate * stamp_.states[i].value;
}

bool System::flatter() const {
    constexpr double much = 3;
    for (std::size_t i = 0; i < factored_.size() && i < stamp_.unknowns.size(); ++i)
        if (much * std::abs(stamp_.unknowns[i].value) < std::abs(factored_[i])) return true;
    return false;
}

bool System::factor(std::span<const double> z, std::span<const double> x, double alpha) {
    for (std::size_t i = 0; i < values_.size(); ++i) values_[i] = constant_[i] + alpha * byAlpha_[i];
    if (!smooth_.empty()) {
        stamp_.clear();
        for (const Element* element : smooth_) element->evaluate({z, x}, stamp_);
        factored_.resize(stamp_.unknowns.size());
        for (std::size_t i = 0; i < factored_.size(); ++i) factored_[i] = stamp_.unknowns[i].value;
        addSmooth(alpha);
    }
    if (unknowns_ == 0) return true;
    if (!factors_->symbolic) return false;
    for (const double value : values_)
        if (!std::isfinite(value)) return false;
    ++factorisations_;
    Factors& f = *factors_;
    if (!fresh_ && f.numeric &&
        klu_refactor(starts_.data(), rows_.data(), values_.data(), f.symbolic, f.numeric, &f.common) &&
        klu_rgrowth(starts_.data(), rows_.data(), values_.data(), f.symbolic, f.numeric, &f.common) &&
        f.common.rgrowth > leastGrowth)
        return true;
    klu_free_numeric(&f.numeric, &f.common);
    f.numeric = klu_factor(starts_.data(), rows_.data(), values_.data(), f.symbolic, &f.common);
    fresh_ = f.numeric == nullptr;
    return f.numeric != nullptr;
}

void System::solve(std::span<double> r) {
    if (unknowns_ > 0)
        klu_solve(factors_->symbolic, factors_->numeric, static_cast<int>(unknowns_), 1, r.data(), &factors_->common);
}

void System::ofStates(std::span<const double> e, std::span<double> out) const {
    std::fill(out.begin(), out.end(), 0.0);
    for (const Triplet& h : hx_)
        out[static_cast<std::size_t>(h.row)] += h.value * e[static_cast<std::size_t>(h.column)];
    for (const auto& s : stamp_.states)
        if (s.row >= 0 && s.column >= 0)
            out[static_cast<std::size_t>(s.row)] -= s.value * e[static_cast<std::size_t>(s.column)];
}

std::string System::singularPlace() const {
    const int column = factors_->common.singular_col;
    return column >= 0 && column < static_cast<int>(unknowns_) ? network_.describeUnknown(column) : "the circuit";
}

void System::tame(std::span<const double> before, std::span<double> after) const {
    for (const Element* element : smooth_) element->tame(before, after);
}

}  // namespace hedgerow::implicit

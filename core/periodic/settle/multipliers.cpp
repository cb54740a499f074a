#include "periodic/settle/multipliers.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <set>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow::settle {

namespace {

constexpr double smallest = 1e-3;  ///< what loses more in a period is not told
constexpr double keeps = 1e-7;     ///< from 1, of a multiplier that counts as 1

std::string percent(double part) { return formatQuantity(100 * part, "", 2) + " %"; }

std::string inWords(std::complex<double> value, const std::vector<std::string>& parts, double period) {
    const double size = std::abs(value), angle = std::abs(std::arg(value));
    const bool one = parts.size() == 1;
    const std::string who = listed(parts);
    const std::string stable = size > 1 + keeps ? "unstable: " : "";
    const std::string share = size >= 1 ? fmt::format("{} {}", one ? "grows" : "grow", percent(size - 1))
                                        : fmt::format("{} {}", one ? "loses" : "lose", percent(1 - size));
    if (std::abs(value - 1.0) < keeps)
        return fmt::format("{} {} whatever mean {} got", who, one ? "keeps" : "keep", one ? "it has" : "they have");
    if (angle > std::numbers::pi - 1e-9)
        return fmt::format("{}{} {} every second period alike and {} per period (multiplier {:.4g})", stable, who,
                           one ? "has" : "have", share, value.real());
    if (angle > 1e-9)
        return fmt::format("{}{} {} at {} and {} per period", stable, who, one ? "rings" : "ring",
                           formatQuantity(angle / (2 * std::numbers::pi * period), "Hz", 3), share);
    if (size < 1)
        return fmt::format("{} {} per period: a time constant of {}", who, share,
                           formatQuantity(-period / std::log(size), "s", 3));
    return fmt::format("{}{} {} per period", stable, who, share);
}

}  // namespace

std::vector<Multiplier> multipliersOf(const Eigen::MatrixXd& map, const std::vector<Coordinate>& coordinates,
                                      double period, bool phase) {
    std::vector<Multiplier> all;
    if (map.rows() == 0) return all;
    const Eigen::EigenSolver<Eigen::MatrixXd> solver(map);
    if (solver.info() != Eigen::Success) return all;
    const Eigen::VectorXcd values = solver.eigenvalues();
    const Eigen::MatrixXcd right = solver.eigenvectors();
    const Eigen::MatrixXcd left = right.fullPivLu().inverse();
    std::vector<Eigen::Index> order;
    for (Eigen::Index k = 0; k < values.size(); ++k)
        if (std::abs(values(k)) >= smallest && values(k).imag() >= 0) order.push_back(k);
    std::sort(order.begin(), order.end(),
              [&](Eigen::Index a, Eigen::Index b) { return std::abs(values(a)) > std::abs(values(b)); });
    if (phase && !order.empty()) {
        // That of the flow: the one nearest to 1.
        order.erase(std::min_element(order.begin(), order.end(), [&](Eigen::Index a, Eigen::Index b) {
            return std::abs(values(a) - 1.0) < std::abs(values(b) - 1.0);
        }));
    }
    for (const Eigen::Index k : order) {
        // How much each coordinate takes part: independent of units (I. J. Perez-Arriaga et al., 1982).
        std::vector<std::pair<double, Eigen::Index>> shares;
        for (Eigen::Index i = 0; i < values.size(); ++i) {
            const double share = std::abs(right(i, k) * left(k, i));
            shares.emplace_back(std::isfinite(share) ? share : 0.0, i);
        }
        std::sort(shares.begin(), shares.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
        constexpr std::size_t mostNames = 3;
        constexpr double least = 0.3;  // of the largest share
        Multiplier one{values(k), {}, {}};
        std::set<std::string> told;
        for (const auto& [share, i] : shares) {
            const std::string& name = coordinates[static_cast<std::size_t>(i)].name;
            if (one.parts.size() == mostNames || (share < least * shares.front().first && !one.parts.empty())) break;
            if (told.insert(name).second) one.parts.push_back(name);
        }
        one.words = inWords(one.value, one.parts, period);
        all.push_back(std::move(one));
    }
    return all;
}

}  // namespace hedgerow::settle

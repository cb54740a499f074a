#include "studies/study_statistics.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

#include <Eigen/Dense>
#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow {

namespace {

double quantile(const std::vector<double>& sorted, double part) {
    const double place = part * static_cast<double>(sorted.size() - 1);
    const auto before = static_cast<std::size_t>(place);
    if (before + 1 >= sorted.size()) return sorted.back();
    return sorted[before] + (place - static_cast<double>(before)) * (sorted[before + 1] - sorted[before]);
}

/// Whether all values of a thing that varies are numbers, and not all of them alike.
bool isNumber(const StudyTable& table, std::size_t axis) {
    for (std::size_t row = 0; row < table.rows(); ++row)
        if (!std::isfinite(table.number(row, axis))) return false;
    return table.rows() > 0;
}

std::string variedText(const StudyTable& table, std::size_t row) {
    std::string text;
    for (std::size_t a = 0; a < table.varied.size(); ++a) {
        const double value = table.number(row, a);
        text += (text.empty() ? "" : ", ") + table.varied[a] + " " +
                (std::isfinite(value) ? formatQuantity(value, table.variedUnits[a], 4) : table.points[row][a]);
    }
    return text;
}

}  // namespace

MeasureStatistics statisticsOf(const StudyTable& table, std::size_t measure) {
    MeasureStatistics all;
    std::vector<double> values;
    std::size_t kept = 0;
    for (std::size_t row = 0; row < table.rows(); ++row) {
        const double value = table.values[measure][row];
        if (!std::isfinite(value)) {
            ++all.failed;
            continue;
        }
        if (values.empty() || value < all.least) all.least = value, all.leastRow = row;
        if (values.empty() || value > all.greatest) all.greatest = value, all.greatestRow = row;
        kept += (!table.above[measure] || value >= *table.above[measure]) && (!table.below[measure] || value <= *table.below[measure]);
        values.push_back(value);
    }
    all.rows = values.size();
    if (values.empty()) return all.yield = 0, all;
    all.mean = std::accumulate(values.begin(), values.end(), 0.0) / static_cast<double>(values.size());
    double squares = 0;
    for (const double value : values) squares += (value - all.mean) * (value - all.mean);
    all.deviation = values.size() > 1 ? std::sqrt(squares / static_cast<double>(values.size() - 1)) : 0;
    std::sort(values.begin(), values.end());
    all.q01 = quantile(values, 0.01), all.q10 = quantile(values, 0.1), all.median = quantile(values, 0.5);
    all.q90 = quantile(values, 0.9), all.q99 = quantile(values, 0.99);
    const auto n = static_cast<double>(all.rows + all.failed);
    const double p = static_cast<double>(kept) / n, z = 1.959963984540054;
    all.yield = p;
    const double middle = (p + z * z / (2 * n)) / (1 + z * z / n),
                 half = z / (1 + z * z / n) * std::sqrt(p * (1 - p) / n + z * z / (4 * n * n));
    all.yieldLow = kept == 0 ? 0 : std::max(0.0, middle - half);
    all.yieldHigh = kept == all.rows + all.failed ? 1 : std::min(1.0, middle + half);
    return all;
}

std::vector<Sensitivity> sensitivitiesOf(const StudyTable& table, std::size_t measure) {
    std::vector<Sensitivity> all;
    std::vector<std::size_t> rows;
    for (std::size_t row = 0; row < table.rows(); ++row)
        if (std::isfinite(table.values[measure][row])) rows.push_back(row);
    std::vector<std::size_t> lines;
    for (std::size_t axis = 0; axis < table.varied.size(); ++axis)
        if (isNumber(table, axis)) lines.push_back(axis);
    const auto n = static_cast<Eigen::Index>(rows.size());
    if (n < 2) return all;
    Eigen::VectorXd y(n);
    for (Eigen::Index i = 0; i < n; ++i) y(i) = table.values[measure][rows[static_cast<std::size_t>(i)]];
    const double mean = y.mean(), variance = (y.array() - mean).square().sum();
    Eigen::MatrixXd x(n, static_cast<Eigen::Index>(lines.size()));
    Eigen::VectorXd spread(x.cols());
    for (Eigen::Index a = 0; a < x.cols(); ++a) {
        for (Eigen::Index i = 0; i < n; ++i) x(i, a) = table.number(rows[static_cast<std::size_t>(i)], lines[static_cast<std::size_t>(a)]);
        spread(a) = x.col(a).maxCoeff() - x.col(a).minCoeff();
        x.col(a).array() -= x.col(a).mean();
        if (spread(a) > 0) x.col(a) /= spread(a);
    }
    const Eigen::VectorXd slopes = x.cols() > 0 ? Eigen::VectorXd(x.colPivHouseholderQr().solve((y.array() - mean).matrix()))
                                                : Eigen::VectorXd();
    const double rounding = 1e-12 * y.cwiseAbs().maxCoeff();
    for (Eigen::Index a = 0; a < x.cols(); ++a) {
        Sensitivity one{.axis = lines[static_cast<std::size_t>(a)], .line = true};
        one.swing = spread(a) > 0 ? slopes(a) : 0;
        one.slope = spread(a) > 0 ? slopes(a) / spread(a) : 0;
        one.share = variance > 0 ? std::pow(slopes(a), 2) * x.col(a).squaredNorm() / variance : 0;
        one.moved = std::abs(one.swing) > rounding;
        all.push_back(one);
    }
    for (std::size_t axis = 0; axis < table.varied.size(); ++axis) {
        if (std::find(lines.begin(), lines.end(), axis) != lines.end()) continue;
        std::map<std::string, std::pair<double, double>> groups;
        for (const std::size_t row : rows) {
            auto& [sum, count] = groups[table.points[row][axis]];
            sum += table.values[measure][row], count += 1;
        }
        Sensitivity one{.axis = axis};
        double low = INFINITY, high = -INFINITY, between = 0;
        for (const auto& [word, group] : groups) {
            const double at = group.first / group.second;
            low = std::min(low, at), high = std::max(high, at);
            between += group.second * (at - mean) * (at - mean);
        }
        one.swing = high - low;
        one.share = variance > 0 ? between / variance : 0;
        one.moved = one.swing > rounding;
        all.push_back(one);
    }
    std::stable_sort(all.begin(), all.end(),
                     [](const Sensitivity& a, const Sensitivity& b) { return std::abs(a.swing) > std::abs(b.swing); });
    return all;
}

std::vector<std::string> withoutEffect(const StudyTable& table) {
    std::vector<std::string> names;
    for (std::size_t axis = 0; axis < table.varied.size(); ++axis) {
        // Rows that differ in this alone.
        std::map<std::vector<std::string>, std::size_t> others;
        bool compared = false, moved = false;
        for (std::size_t row = 0; row < table.rows() && !moved; ++row) {
            std::vector<std::string> rest = table.points[row];
            const std::string own = rest[axis];
            rest[axis].clear();
            const auto [at, fresh] = others.emplace(std::move(rest), row);
            if (fresh || table.points[at->second][axis] == own) continue;
            compared = true;
            moved = table.errors[row] != table.errors[at->second];
            for (const auto& column : table.values) {
                const double a = column[row], b = column[at->second];
                moved = moved || std::abs(a - b) > 1e-12 * std::max(std::abs(a), std::abs(b));
            }
        }
        if (!compared && table.rows() > 2 * table.varied.size() + 4) {
            compared = true;
            for (std::size_t m = 0; m < table.measured.size() && !moved; ++m)
                for (const Sensitivity& one : sensitivitiesOf(table, m))
                    moved = moved || (one.axis == axis && one.share > 1e-9);
        }
        if (compared && !moved) names.push_back(table.varied[axis]);
    }
    return names;
}

std::vector<std::string> studySummary(const StudyTable& table) {
    std::vector<std::string> lines;
    std::size_t failed = 0;
    double seconds = 0, building = 0;
    for (std::size_t row = 0; row < table.rows(); ++row)
        failed += table.errors[row].empty() ? 0 : 1, seconds += table.seconds[row], building += table.building[row];
    lines.push_back(fmt::format("{} of {} runs{}, {} of CPU time, {} of it to build circuits", table.rows(), table.runs,
                                failed > 0 ? fmt::format(", {} failed", failed) : "", formatQuantity(seconds, "s", 3),
                                formatQuantity(building, "s", 2)));
    if (!table.conclusion.empty()) {  // where a search goes says nothing of spread
        lines.insert(lines.end(), table.conclusion.begin(), table.conclusion.end());
        return lines;
    }
    for (std::size_t m = 0; m < table.measured.size(); ++m) {
        const MeasureStatistics s = statisticsOf(table, m);
        if (s.rows == 0) continue;
        const auto text = [&](double value) { return formatQuantity(value, table.measuredUnits[m], 5); };
        std::string line = fmt::format("{}: {} to {}, mean {}, standard deviation {}", table.measured[m], text(s.least), text(s.greatest),
                                       text(s.mean), text(s.deviation));
        if (table.above[m] || table.below[m])
            line += fmt::format("; {:.4g} % of the runs keep the limits (95 % interval {:.4g} to {:.4g} %)", 100 * s.yield,
                                100 * s.yieldLow, 100 * s.yieldHigh);
        lines.push_back(line);
        if (s.greatest > s.least) {
            lines.push_back(fmt::format("least in run {}: {}", table.index[s.leastRow] + 1, variedText(table, s.leastRow)));
            lines.push_back(fmt::format("greatest in run {}: {}", table.index[s.greatestRow] + 1, variedText(table, s.greatestRow)));
        }
        std::string moving;
        for (const Sensitivity& one : sensitivitiesOf(table, m)) {
            if (!one.moved || one.share < 0.005) continue;
            moving += fmt::format("{}{} by {} ({:.0f} % of the variance)", moving.empty() ? "" : ", ", table.varied[one.axis],
                                  text(one.swing), 100 * one.share);
        }
        if (!moving.empty()) lines.push_back("moved by: " + moving);
    }
    for (const std::string& name : withoutEffect(table)) lines.push_back(name + " did not change any measure");
    return lines;
}

}  // namespace hedgerow

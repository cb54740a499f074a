#include "network/loss_data.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>
#include <Eigen/Eigenvalues>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow {

namespace {

std::vector<std::string_view> split(std::string_view text, char at) {
    std::vector<std::string_view> pieces;
    for (std::size_t start = 0; start <= text.size();) {
        const std::size_t end = std::min(text.find(at, start), text.size());
        if (const auto piece = trimmed(text.substr(start, end - start)); !piece.empty()) pieces.push_back(piece);
        start = end + 1;
    }
    return pieces;
}

Result<double> numberOf(std::string_view text) {
    const ParameterLookup none = [](std::string_view name) -> Result<Quantity> {
        return Error{ErrorCode::name, fmt::format("'{}' is no number: data of a data sheet take no parameters", name)};
    };
    auto value = evaluate(text, none);
    if (!value) return value.error();
    if (!std::isfinite(value->value)) return Error{ErrorCode::range, fmt::format("'{}' is no number", text)};
    return value->value;
}

/// Pairs of numbers above zero.
Result<std::vector<std::pair<double, double>>> pairsOf(std::string_view text) {
    std::vector<std::pair<double, double>> pairs;
    for (const std::string_view piece : split(text, ',')) {
        const auto words = split(piece, ' ');
        if (words.size() != 2) return Error{ErrorCode::syntax, fmt::format("'{}' is no pair of numbers", piece)};
        const auto first = numberOf(words[0]), second = numberOf(words[1]);
        if (!first || !second) return first ? second.error() : first.error();
        if (!(*first > 0) || !(*second > 0))
            return Error{ErrorCode::range, fmt::format("'{}': both numbers must be above zero", piece)};
        pairs.emplace_back(*first, *second);
    }
    if (pairs.empty()) return Error{ErrorCode::syntax, "there are no pairs of numbers"};
    return pairs;
}

double along(double x, double x0, double y0, double x1, double y1) {
    return x1 == x0 ? y0 : y0 + (y1 - y0) * (x - x0) / (x1 - x0);
}

}  // namespace

Result<EnergyTable> EnergyTable::read(std::string_view text) {
    EnergyTable table;
    for (const std::string_view piece : split(text, ';')) {
        const std::size_t colon = piece.find(':');
        if (colon == std::string_view::npos)
            return Error{ErrorCode::syntax, fmt::format("'{}': write the voltage and temperature first, as in "
                                                        "400 125: 10 0.2m, 20 0.5m",
                                                        piece)};
        const auto head = split(piece.substr(0, colon), ' ');
        if (head.empty() || head.size() > 2)
            return Error{ErrorCode::syntax, fmt::format("'{}' is no voltage and temperature", piece.substr(0, colon))};
        const auto voltage = numberOf(head[0]),
                   temperature = head.size() > 1 ? numberOf(head[1]) : Result<double>(25.0);
        if (!voltage || !temperature) return voltage ? temperature.error() : voltage.error();
        if (!(*voltage > 0)) return Error{ErrorCode::range, fmt::format("'{}': the voltage must be above zero", piece)};
        auto points = pairsOf(piece.substr(colon + 1));
        if (!points) return points.error();
        for (std::size_t i = 1; i < points->size(); ++i)
            if ((*points)[i].first <= (*points)[i - 1].first)
                return Error{ErrorCode::range, fmt::format("'{}': the currents must rise", piece)};
        table.curves_.push_back({*voltage, *temperature, std::move(*points)});
    }
    std::sort(table.curves_.begin(), table.curves_.end(), [](const Curve& a, const Curve& b) {
        return std::pair(a.temperature, a.voltage) < std::pair(b.temperature, b.voltage);
    });
    return table;
}

double EnergyTable::Curve::at(double current) const {
    if (current <= 0) return 0;
    std::pair<double, double> before{0, 0};
    for (std::size_t i = 0; i < points.size(); ++i) {
        if (current <= points[i].first || i + 1 == points.size())
            return std::max(0.0, along(current, before.first, before.second, points[i].first, points[i].second));
        before = points[i];
    }
    return 0;
}

double EnergyTable::at(double current, double voltage, double temperature) const {
    if (curves_.empty() || voltage <= 0) return 0;
    // At each temperature of the table, then between them.
    std::vector<std::pair<double, double>> byTemperature;
    for (std::size_t first = 0; first < curves_.size();) {
        std::size_t last = first;
        while (last < curves_.size() && curves_[last].temperature == curves_[first].temperature) ++last;
        const Curve &low = curves_[first], &high = curves_[last - 1];
        double energy = 0;
        if (voltage <= low.voltage) {
            energy = low.at(current) * voltage / low.voltage;
        } else if (voltage >= high.voltage) {
            energy = high.at(current) * voltage / high.voltage;
        } else {
            std::size_t k = first + 1;
            while (curves_[k].voltage < voltage) ++k;
            energy = along(voltage, curves_[k - 1].voltage, curves_[k - 1].at(current), curves_[k].voltage,
                           curves_[k].at(current));
        }
        byTemperature.emplace_back(low.temperature, energy);
        first = last;
    }
    if (temperature <= byTemperature.front().first) return byTemperature.front().second;
    for (std::size_t i = 1; i < byTemperature.size(); ++i)
        if (temperature <= byTemperature[i].first)
            return along(temperature, byTemperature[i - 1].first, byTemperature[i - 1].second, byTemperature[i].first,
                         byTemperature[i].second);
    return byTemperature.back().second;
}

Result<ThermalNetwork> ThermalNetwork::read(std::string_view text, bool cauer) {
    ThermalNetwork network;
    if (trimmed(text).empty()) return network;
    const auto pairs = pairsOf(text);
    if (!pairs) return pairs.error();
    if (!cauer) {
        for (const auto& [resistance, time] : *pairs) network.terms_.push_back({resistance, time});
        return network;
    }
    // C dT/dt = -G T + p at the junction; scaled by sqrt(C) it is symmetric, and its modes are the terms.
    const auto n = static_cast<Eigen::Index>(pairs->size());
    Eigen::MatrixXd g = Eigen::MatrixXd::Zero(n, n);
    Eigen::VectorXd root(n);
    for (Eigen::Index i = 0; i < n; ++i) {
        const auto& [resistance, capacity] = (*pairs)[static_cast<std::size_t>(i)];
        g(i, i) += 1 / resistance;
        if (i + 1 < n) {
            g(i + 1, i + 1) += 1 / resistance;
            g(i, i + 1) = g(i + 1, i) = -1 / resistance;
        }
        root(i) = std::sqrt(capacity);
    }
    const Eigen::MatrixXd scaled = root.cwiseInverse().asDiagonal() * g * root.cwiseInverse().asDiagonal();
    const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> modes(scaled);
    for (Eigen::Index k = 0; k < n; ++k) {
        const double rate = modes.eigenvalues()(k), share = modes.eigenvectors()(0, k) / root(0);
        network.terms_.push_back({share * share / rate, 1 / rate});
    }
    return network;
}

double ThermalNetwork::resistance() const {
    double sum = 0;
    for (const Term& term : terms_) sum += term.resistance;
    return sum;
}

}  // namespace hedgerow

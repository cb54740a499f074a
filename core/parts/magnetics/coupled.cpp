// Coupled windings: two to six on one core, and the common-mode choke.
//
// With the inductance matrix L = S K S (S: roots of the self-inductances, K: coupling matrix) and the factor K = U D
// U^T over its positive eigenvalues, the flux linkages are L i = B B^T i with B = S U sqrt(D). The states are x = B^T i
// (scaled to amperes): there are as many as K has rank, so that windings may be coupled perfectly (k = 1). v = B x'
// and, for every zero eigenvalue with vector n, n^T S^-1 v = 0. The largest eigenvalue belongs to the flux that all
// windings share: on rung 4 that one saturates, x = F(B^T i) there, while leakages stay as they are.

#include <cmath>
#include <optional>

#include <fmt/format.h>
#include <Eigen/Dense>

#include "parts/smooth.h"

namespace hedgerow {

using namespace parts;

namespace {

constexpr double perfect = 1e-10;  ///< eigenvalues of a coupling matrix below this are zero

struct Winding {
    int from, to, branch;
    double inductance, initial, resistance;
};

class CoupledElement final : public Element {
public:
    /// @param windings  at least one
    /// @param coupling    symmetric with unit diagonal, positive semidefinite
    /// @param saturation  of the shared flux, its knee told by a current in the first winding alone
    CoupledElement(NetworkBuilder& b, std::vector<Winding> windings, const Eigen::MatrixXd& coupling, bool given,
                   const std::optional<SaturatingFlux>& saturation)
        : Element(b.partName()), windings_(std::move(windings)) {
        const auto n = static_cast<Eigen::Index>(windings_.size());
        Eigen::VectorXd roots(n), initial(n);
        double mean = 0;
        for (Eigen::Index i = 0; i < n; ++i) {
            roots(i) = std::sqrt(at(i).inductance);
            initial(i) = at(i).initial;
            mean += std::log(at(i).inductance) / static_cast<double>(n);
        }
        const double scale = std::exp(mean / 2);
        const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> eigen(coupling);
        for (Eigen::Index j = 0; j < n; ++j) {
            const Eigen::VectorXd vector = eigen.eigenvectors().col(j);
            const double value = eigen.eigenvalues()(j);
            if (value < perfect) {
                Mode mode{-1, {}, vector.cwiseQuotient(roots)};
                mode.ofVoltages /= mode.ofVoltages.cwiseAbs().maxCoeff();
                modes_.push_back(std::move(mode));
                continue;
            }
            const Eigen::VectorXd currents = std::sqrt(value) / scale * roots.cwiseProduct(vector);
            const Eigen::VectorXd voltages = vector.cwiseQuotient(roots) / (std::sqrt(value) * scale);
            // Eigenvalues rise: the last one is that of the shared flux.
            const double knee = j == n - 1 && saturation ? std::abs(currents(0)) * saturation->knee : 0;
            double start = currents.dot(initial);
            if (knee > 0) {
                curve_ = SaturatingFlux{knee, saturation->rest};
                start = (*curve_)(start).value;
            }
            const int state = b.addComposedState(StateSort::windingCurrent, start, scale * scale, given);
            modes_.push_back({state, currents, voltages});
        }
    }

    void stamp(LinearStamp& s, int) const override {
        for (const Winding& w : windings_) {
            s.currentLaw(w.branch, w.from, w.to);
            s.relaxNode(w.from);
            s.relaxNode(w.to);
        }
        for (std::size_t j = 0; j < modes_.size(); ++j) {
            const Mode& mode = modes_[j];
            const int row = s.branchRow(windings_[j].branch);
            if (mode.state >= 0) s.state(row, mode.state, 1.0);
            for (std::size_t i = 0; i < windings_.size(); ++i) {
                const Winding& w = windings_[i];
                const auto k = static_cast<Eigen::Index>(i);
                const int current = s.branchCurrent(w.branch);
                if (mode.state >= 0) {
                    if (!saturates(j)) s.unknown(row, current, mode.ofCurrents(k));
                    s.rate(mode.state, w.from, mode.ofVoltages(k));
                    s.rate(mode.state, w.to, -mode.ofVoltages(k));
                    s.rate(mode.state, current, -w.resistance * mode.ofVoltages(k));
                } else {
                    s.voltage(row, w.from, w.to, mode.ofVoltages(k));
                    s.unknown(row, current, -w.resistance * mode.ofVoltages(k));
                }
            }
        }
    }

    bool smooth() const override { return curve_.has_value(); }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        if (!curve_) return;
        const Mode& shared = modes_.back();
        double sum = 0;
        for (std::size_t i = 0; i < windings_.size(); ++i)
            sum += shared.ofCurrents(static_cast<Eigen::Index>(i)) * at.unknown(out.branchRow(windings_[i].branch));
        const Point2 flux = (*curve_)(sum);
        const int row = out.branchRow(windings_[modes_.size() - 1].branch);
        out.flow(row, flux.value);
        for (std::size_t i = 0; i < windings_.size(); ++i)
            out.byUnknown(row, out.branchRow(windings_[i].branch),
                          flux.slope * shared.ofCurrents(static_cast<Eigen::Index>(i)));
    }

private:
    bool saturates(std::size_t mode) const { return curve_ && mode + 1 == modes_.size(); }
    /// A direction of the coupling matrix: x = ofCurrents . i and x' = ofVoltages . v, or 0 = ofVoltages . v.
    struct Mode {
        int state;
        Eigen::VectorXd ofCurrents, ofVoltages;
    };
    const Winding& at(Eigen::Index i) const { return windings_[static_cast<std::size_t>(i)]; }
    std::vector<Winding> windings_;
    std::vector<Mode> modes_;
    std::optional<SaturatingFlux> curve_;  ///< of the last mode
};

std::string digits(int i) { return std::to_string(i + 1); }

ParameterKind inductance(const std::string& key, const std::string& label, const std::string& symbol) {
    return {.key = key,
            .label = label,
            .symbol = symbol,
            .unit = "H",
            .standard = "100u",
            .least = 0,
            .aboveLeast = true,
            .shownOnSheet = true};
}
ParameterKind windingResistance(const std::string& key, const std::string& label) {
    return seriesLoss(key, label, "R_w");
}
ParameterKind initialCurrent(const std::string& key, const std::string& label) {
    return {.key = key, .label = label, .symbol = "i_0", .unit = "A", .standard = "0", .atStart = true};
}

ParameterKind windingCapacitance(const char* key, const char* label, const char* symbol, const char* standard) {
    return orNone(
        {.key = key, .label = label, .symbol = symbol, .unit = "F", .standard = standard, .least = 0, .rung = 3});
}
std::vector<ParameterKind> windingCapacitances() {
    return {windingCapacitance("cw", "capacitance of each winding", "C_w", "10p"),
            windingCapacitance("cww", "capacitance between neighbours", "C_ww", "20p")};
}

/// The rungs that all coupled windings have.
std::vector<RungKind> coupledRungs() {
    return {
        {1, "inductances and couplings", "v_j = Σ M_jk di_k/dt,  M_jk = k_jk √(L_j L_k)", "Neumann's law", 1.0},
        {2, "winding resistances", "v_j = R_j i_j + Σ M_jk di_k/dt", "Neumann's and Ohm's laws", 1.7},
        {3, "capacitances of and between windings",
         "beside each winding C_w; between neighbours C_ww, half at either end", "lumped capacitances of windings", 25},
        {4, "the shared flux saturates",
         "x = k_sat u + (1 − k_sat) u_sat atan(u / u_sat),  u = Σ b_j i_j along the greatest eigenvector of the "
         "couplings",
         "the inductance falls with the square of the current towards a rest; leakages stay", 30}};
}

/// Those of rung 4. @param meaning  of the current
std::vector<ParameterKind> saturationParameters(const char* meaning, const char* standard) {
    return {positiveValue("isat", meaning, "I_sat", "A", standard, 4),
            {.key = "lrest",
             .label = "rest of the inductance in saturation",
             .symbol = "k_sat",
             .unit = "",
             .standard = "0.02",
             .least = 0,
             .most = 1,
             .aboveLeast = true,
             .rung = 4}};
}
std::optional<SaturatingFlux> saturationOf(const NetworkBuilder& b) {
    if (b.rung() < 4) return {};
    return SaturatingFlux{b.value("isat"), b.value("lrest")};
}

/// A winding lying flat at height y, its pins at the ends, a dot at the first.
void drawWinding(std::vector<Stroke>& symbol, int y) {
    const std::string at = std::to_string(y);
    symbol.push_back({"M -32 " + at + " L -24 " + at});
    for (const char* x : {"-18", "-6", "6", "18"}) symbol.push_back({std::string("A ") + x + " " + at + " 6 180 -180"});
    symbol.push_back({"M 24 " + at + " L 32 " + at});
    symbol.push_back({"O -27 " + std::to_string(y - 7) + " 1.5", Stroke::Weight::normal, true});
}

/// Pins and windings one below the other. @return the height of the first
int arrange(PartKind& kind, int windings, const std::vector<std::pair<std::string, std::string>>& names) {
    const int top = -16 * (windings - 1);
    for (int i = 0; i < windings; ++i) {
        const int y = top + 32 * i;
        kind.pins.push_back({names[static_cast<std::size_t>(i)].first, {-32, y}});
        kind.pins.push_back({names[static_cast<std::size_t>(i)].second, {32, y}});
        drawWinding(kind.symbol, y);
    }
    return top;
}

class CoupledInductors final : public PartType {
public:
    explicit CoupledInductors(int windings) : windings_(windings) {}

    PartKind kind() const override {
        const std::string count = std::to_string(windings_);
        PartKind k;
        k.id = "coupled-inductors-" + count;
        k.title = "Coupled inductors, " + count + " windings";
        k.prefix = "L";
        k.synonyms = {"coupled" + count, "windings" + count};
        if (windings_ == 2) k.synonyms.push_back("coupled");
        k.summary = count + " windings on one core, with any couplings from −1 to 1";
        k.help =
            "Each winding has its own inductance; each pair its coupling, which may be exactly 1 or negative. The "
            "couplings together must be those of a core: what they store may not be negative. Currents count into the "
            "pins with the dot.";
        std::vector<std::pair<std::string, std::string>> names;
        for (int i = 0; i < windings_; ++i) names.emplace_back("a" + digits(i), "b" + digits(i));
        k.labelAt = {-24, arrange(k, windings_, names) - 32};
        for (int i = 0; i < windings_; ++i)
            k.parameters.push_back(inductance("l" + digits(i), "inductance " + digits(i), "L_" + digits(i)));
        for (int i = 0; i < windings_; ++i)
            for (int j = i + 1; j < windings_; ++j)
                k.parameters.push_back({.key = "k" + digits(i) + digits(j),
                                        .label = "coupling of " + digits(i) + " and " + digits(j),
                                        .symbol = "k_" + digits(i) + digits(j),
                                        .unit = "",
                                        .standard = "0.98",
                                        .least = -1,
                                        .most = 1,
                                        .shownOnSheet = windings_ == 2});
        for (int i = 0; i < windings_; ++i)
            k.parameters.push_back(initialCurrent("i0" + digits(i), "initial current " + digits(i)));
        for (int i = 0; i < windings_; ++i)
            k.parameters.push_back(windingResistance("dcr" + digits(i), "winding resistance " + digits(i)));
        for (const auto& group :
             {windingCapacitances(), coreLossParameters(),
              saturationParameters("current of winding 1 at saturation (inductance halfway to its rest)", "10")})
            k.parameters.insert(k.parameters.end(), group.begin(), group.end());
        k.rungs = coupledRungs();
        k.group = "Magnetics";
        return k;
    }

    Status check(const std::function<double(std::string_view)>& value) const override {
        const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> eigen(coupling(value), Eigen::EigenvaluesOnly);
        if (eigen.eigenvalues()(0) < -1e-9)
            return Error{ErrorCode::range,
                         fmt::format("these couplings cannot all be at once: some currents would store less than no "
                                     "energy (least eigenvalue of the coupling matrix {:.3g})",
                                     eigen.eigenvalues()(0)),
                         {},
                         {},
                         "k12"};
        return {};
    }

    void elaborate(NetworkBuilder& b) const override {
        std::vector<Winding> windings;
        bool given = false;
        for (int i = 0; i < windings_; ++i) {
            const std::string d = digits(i);
            const int from = b.node("a" + d), to = b.node("b" + d), branch = b.addBranch();
            windings.push_back(
                {from, to, branch, b.value("l" + d), b.value("i0" + d), b.rung() >= 2 ? b.value("dcr" + d) : 0.0});
            given = given || b.typed("i0" + d);
            offerWinding(b, branch, from, to, b.rung() >= 3 ? b.value("cw") : 0, d);
            if (i > 0 && b.rung() >= 3)
                addBetweenWindings(b, {windings[windings.size() - 2].from, windings[windings.size() - 2].to},
                                   {from, to}, b.value("cww"));
        }
        const Eigen::MatrixXd k = coupling([&](std::string_view key) { return b.value(key); });
        b.addElement(std::make_unique<CoupledElement>(b, std::move(windings), k, given, saturationOf(b)));
    }

private:
    Eigen::MatrixXd coupling(const std::function<double(std::string_view)>& value) const {
        Eigen::MatrixXd k = Eigen::MatrixXd::Identity(windings_, windings_);
        for (int i = 0; i < windings_; ++i)
            for (int j = i + 1; j < windings_; ++j) k(i, j) = k(j, i) = value("k" + digits(i) + digits(j));
        return k;
    }
    int windings_;
};

class CommonModeChoke final : public PartType {
public:
    PartKind kind() const override {
        PartKind k;
        k.id = "common-mode-choke";
        k.title = "Common-mode choke";
        k.prefix = "L";
        k.synonyms = {"cmc", "common mode", "choke2"};
        k.summary = "Two equal windings that hinder only what flows the same way in both";
        k.help =
            "The inductance is what a current shared by both lines meets, that of one winding with the other open; the "
            "leakage is what remains for a current that goes out in one line and back in the other, both windings in "
            "series.";
        const int top = arrange(k, 2, {{"a1", "b1"}, {"a2", "b2"}});
        k.symbol.push_back({"M -24 -4 L 24 -4 M -24 4 L 24 4", Stroke::Weight::thin});
        k.labelAt = {-24, top - 32};
        ParameterKind l = inductance("l", "common-mode inductance", "L");
        l.standard = "5m";
        k.parameters = {l,
                        {.key = "leak",
                         .label = "leakage inductance",
                         .symbol = "L_σ",
                         .unit = "H",
                         .standard = "10u",
                         .least = 0,
                         .shownOnSheet = true},
                        windingResistance("dcr", "resistance of each winding"),
                        windingCapacitances()[0],
                        windingCapacitances()[1]};
        for (ParameterKind& parameter :
             saturationParameters("sum of both currents at saturation (inductance halfway to its rest)", "100m"))
            k.parameters.push_back(std::move(parameter));
        k.parameters.push_back(ratedCurrent());
        k.rungs = coupledRungs();
        k.group = "Magnetics";
        return k;
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (value("leak") > 4 * value("l"))
            return Error{ErrorCode::range,
                         "the leakage of two windings in series is at most four times the inductance",
                         {},
                         {},
                         "leak"};
        return {};
    }
    void elaborate(NetworkBuilder& b) const override {
        // In series opposition 2 L - 2 M remain.
        const double l = b.value("l"), k = 1 - b.value("leak") / (2 * l), r = b.rung() >= 2 ? b.value("dcr") : 0.0;
        std::vector<Winding> windings;
        for (const char* d : {"1", "2"}) {
            const int from = b.node(std::string("a") + d), to = b.node(std::string("b") + d), branch = b.addBranch();
            windings.push_back({from, to, branch, l, 0.0, r});
            offerWinding(b, branch, from, to, b.rung() >= 3 ? b.value("cw") : 0, d);
        }
        if (b.rung() >= 3)
            addBetweenWindings(b, {windings[0].from, windings[0].to}, {windings[1].from, windings[1].to},
                               b.value("cww"));
        const Eigen::MatrixXd coupling{{1.0, k}, {k, 1.0}};
        b.addElement(std::make_unique<CoupledElement>(b, std::move(windings), coupling, false, saturationOf(b)));
        b.rate("imax", "i1");
    }
};

}  // namespace

void registerCoupled(PartLibrary& library) {
    for (int windings = 2; windings <= 6; ++windings) library.add(std::make_unique<CoupledInductors>(windings));
    library.add(std::make_unique<CommonModeChoke>());
}

}  // namespace hedgerow

// Three phases as vectors, in a frame at rest and in one that turns.

#include <cmath>
#include <numbers>

#include "model/vectors.h"
#include "parts/control/signal_part.h"

namespace hedgerow {

using namespace parts;

namespace {

constexpr double third = 2 * std::numbers::pi / 3;

/// Amplitude-invariant (Clarke).
PieceLaw toAlphaBeta() {
    const double r = 1 / std::sqrt(3.0);
    return linear({{2.0 / 3, -1.0 / 3, -1.0 / 3, 0}, {0, r, -r, 0}});
}
PieceLaw fromAlphaBeta() {
    const double r = std::sqrt(3.0) / 2;
    return linear({{1, 0, 0}, {-0.5, r, 0}, {-0.5, -r, 0}});
}

/// d = alpha cos + beta sin, q = beta cos - alpha sin (Park); the way back has the other sign.
SmoothLaw turned(double sign) {
    return {3, 2, [sign](std::span<const double> u, std::span<double> y, std::span<double> jacobian) {
                const double c = std::cos(u[2]), s = sign * std::sin(u[2]);
                y[0] = c * u[0] + s * u[1], y[1] = c * u[1] - s * u[0];
                if (jacobian.empty()) return;
                jacobian[0] = c, jacobian[1] = s, jacobian[2] = sign * y[1];
                jacobian[3] = -s, jacobian[4] = c, jacobian[5] = -sign * y[0];
            }};
}

SmoothLaw abcToDq() {
    return {4, 2, [](std::span<const double> u, std::span<double> y, std::span<double> jacobian) {
                y[0] = y[1] = 0;
                for (std::size_t i = 0; i < 3; ++i) {
                    const double angle = u[3] - third * static_cast<double>(i);
                    y[0] += 2.0 / 3 * std::cos(angle) * u[i], y[1] -= 2.0 / 3 * std::sin(angle) * u[i];
                    if (!jacobian.empty())
                        jacobian[i] = 2.0 / 3 * std::cos(angle), jacobian[4 + i] = -2.0 / 3 * std::sin(angle);
                }
                if (!jacobian.empty()) jacobian[3] = y[1], jacobian[7] = -y[0];
            }};
}

SmoothLaw dqToAbc() {
    return {3, 3, [](std::span<const double> u, std::span<double> y, std::span<double> jacobian) {
                for (std::size_t i = 0; i < 3; ++i) {
                    const double angle = u[2] - third * static_cast<double>(i);
                    const double c = std::cos(angle), s = std::sin(angle);
                    y[i] = c * u[0] - s * u[1];
                    if (!jacobian.empty())
                        jacobian[3 * i] = c, jacobian[3 * i + 1] = -s, jacobian[3 * i + 2] = -s * u[0] - c * u[1];
                }
            }};
}

const char* const clarkeSource = "E. Clarke, Circuit Analysis of A-C Power Systems, vol. 1, 1943; amplitude-invariant";
const char* const parkSource = "R. H. Park, Two-Reaction Theory of Synchronous Machines, AIEE Trans. 48, 1929";

}  // namespace

void registerTransforms(PartLibrary& library) {
    const auto add = [&](const SignalKind& kind, LawPart::MakeLaw law) {
        library.add(std::make_unique<LawPart>(kind, std::move(law)));
    };
    add({"abc-alphabeta",
         "abc to αβ",
         "TR",
         {"clarke"},
         "Three phases as a vector of two components",
         "α = (2a − b − c)/3 and β = (b − c)/√3: a balanced system of peak 1 is a vector of length 1.",
         {"a", "b", "c"},
         {"alpha", "beta"},
         "abc/αβ",
         {},
         "α = (2a − b − c)/3, β = (b − c)/√3",
         clarkeSource},
        [](const NetworkBuilder&) { return toAlphaBeta(); });
    add({"alphabeta-abc",
         "αβ to abc",
         "TR",
         {"inverse clarke"},
         "Three phases from a vector of two components",
         "The way back from αβ, without a zero-sequence.",
         {"alpha", "beta"},
         {"a", "b", "c"},
         "αβ/abc",
         {},
         "a = α, b = (−α + √3 β)/2, c = (−α − √3 β)/2",
         clarkeSource},
        [](const NetworkBuilder&) { return fromAlphaBeta(); });
    add({"alphabeta-dq",
         "αβ to dq",
         "TR",
         {"park"},
         "A vector seen from a turning frame",
         "Turns the vector back by the angle θ in radians, as a frame at that angle sees it.",
         {"alpha", "beta", "theta"},
         {"d", "q"},
         "αβ/dq",
         {},
         "d = α cos θ + β sin θ, q = β cos θ − α sin θ",
         parkSource},
        [](const NetworkBuilder&) { return turned(1); });
    add({"dq-alphabeta",
         "dq to αβ",
         "TR",
         {"inverse park"},
         "A vector out of a turning frame",
         "Turns it by θ.",
         {"d", "q", "theta"},
         {"alpha", "beta"},
         "dq/αβ",
         {},
         "α = d cos θ − q sin θ, β = q cos θ + d sin θ",
         parkSource},
        [](const NetworkBuilder&) { return turned(-1); });
    add({"abc-dq",
         "abc to dq",
         "TR",
         {"park abc"},
         "Three phases seen from a turning frame",
         "abc to αβ and on to dq: with θ the angle of phase a (its cosine is at the peak at θ = 0) a balanced system "
         "of peak 1 is d = 1, q = 0.",
         {"a", "b", "c", "theta"},
         {"d", "q"},
         "abc/dq",
         {},
         "d = 2/3 Σ u_i cos(θ − 2πi/3), q = −2/3 Σ u_i sin(θ − 2πi/3)",
         parkSource},
        [](const NetworkBuilder&) { return abcToDq(); });
    add({"dq-abc",
         "dq to abc",
         "TR",
         {"inverse park abc"},
         "Three phases out of a turning frame",
         "The way back from dq, without a zero-sequence.",
         {"d", "q", "theta"},
         {"a", "b", "c"},
         "dq/abc",
         {},
         "u_i = d cos(θ − 2πi/3) − q sin(θ − 2πi/3)",
         parkSource},
        [](const NetworkBuilder&) { return dqToAbc(); });
    library.add(std::make_unique<WirePart>(SignalKind{
        std::string(gatherKind),
        "Three in one wire",
        "W",
        {"three-phase wire", "to three"},
        "Three signals as one wire",
        "A wire of three carries three signals, as those of three phases; it bears a stroke with a 3. A part of the "
        "control "
        "whose "
        "inputs come from such a wire stands for three, with the same values: its outputs are wires of three, and its "
        "quantities are those of .a, .b and .c. Where a part has inputs a, b, c of its own, as transforms and "
        "modulators have, and code has anywhere, the wire goes to the first of them and feeds all three.",
        {"a", "b", "c"},
        {"abc"},
        "⇶",
        {},
        "abc = (a, b, c)"}));
    library.add(std::make_unique<WirePart>(SignalKind{std::string(scatterKind),
                                                      "Three out of one wire",
                                                      "W",
                                                      {"from three", "apart"},
                                                      "The three signals of a wire of three",
                                                      "Takes the three signals out of a wire that carries three.",
                                                      {"abc"},
                                                      {"a", "b", "c"},
                                                      "⇶",
                                                      {},
                                                      "(a, b, c) = abc"}));
}

}  // namespace hedgerow

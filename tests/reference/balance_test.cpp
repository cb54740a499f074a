// What goes in is stored or burnt: charge, flux and energy of whole runs, by Gauss quadrature between events.
//
// The engine never forms these integrals. A first run finds the events; a second one stores points at the nodes.

#include <array>
#include <cmath>

#include "circuits.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// Gauss-Legendre, 8 nodes on [-1, 1]: M. Abramowitz and I. Stegun, Handbook of Mathematical Functions, table 25.4.
constexpr std::array<double, 4> nodes{0.183434642495649805, 0.525532409916328986, 0.796666477413626740,
                                      0.960289856497536232};
constexpr std::array<double, 4> weights{0.362683783378361983, 0.313706645877887287, 0.222381034453374471,
                                        0.101228536290376259};

struct Node {
    Tick t;
    double weight;  ///< in s
};

std::vector<Node> nodesBetween(const std::vector<Tick>& stops) {
    std::vector<Node> list;
    for (std::size_t i = 0; i + 1 < stops.size(); ++i) {
        const double middle = 0.5 * static_cast<double>(stops[i + 1] - stops[i]),
                     half = toSeconds(stops[i + 1] - stops[i]) / 2;
        for (const int k : {-4, -3, -2, -1, 1, 2, 3, 4}) {
            const auto n = static_cast<std::size_t>(std::abs(k) - 1);
            const double place = std::copysign(nodes[n], k);
            const Tick t = stops[i] + static_cast<Tick>(std::llround(middle * (1 + place)));
            if (list.empty() || t > list.back().t)
                list.push_back({t, weights[n] * half});
            else
                list.back().weight += weights[n] * half;  // stops a few ticks apart
        }
    }
    return list;
}

class Ledger {
public:
    explicit Ledger(const Circuit& circuit) {
        const auto first = run(circuit);
        EXPECT_EQ(first->summary().end, RunEnd::finished) << first->summary().brief();
        std::vector<Tick> stops;
        std::size_t seen = 0;
        for (const auto& chunk : first->store().chunks())
            for (std::size_t i = 0; i < PointChunk::size; ++i) {
                if (seen == first->store().count()) break;
                const Tick t = chunk->times[i];
                ++seen;
                if (stops.empty() || t != stops.back()) stops.push_back(t);
            }
        list_ = nodesBetween(stops);
        RunRequest request = first->request();
        for (const Node& node : list_) request.instants.push_back(node.t);
        network_ = &first->elaboration().network;
        store_ = std::make_shared<TraceStore>(static_cast<std::size_t>(network_->signalCount), std::size_t{4} << 30);
        summary_ = first->engine().run(*network_, request, *store_, CancelToken());
        EXPECT_EQ(summary_.end, RunEnd::finished) << summary_.brief();
        first_ = first;
    }

    const Network& network() const { return *network_; }
    const Run& firstRun() const { return *first_; }
    const RunSummary& second() const { return summary_; }
    /// One for each winding or phase.
    std::vector<std::string> powersOf(const std::string& part) const {
        std::vector<std::string> names;
        for (const QuantityInfo& quantity : network_->quantities)
            if (quantity.sort == QuantityInfo::Sort::product && quantity.name.starts_with(part + "."))
                names.push_back(quantity.name);
        return names;
    }
    double integral(const std::string& name) const {
        const Trace trace = load(name);
        double sum = 0, lost = 0;  // summed after W. Kahan, for many small terms
        for (const Node& node : list_) {
            const double term = node.weight * trace.at(node.t).value_or(NAN) - lost, next = sum + term;
            lost = (next - sum) - term;
            sum = next;
        }
        return sum;
    }
    double absolute(const std::string& name) const {
        const Trace trace = load(name);
        double sum = 0;
        for (const Node& node : list_) sum += node.weight * std::abs(trace.at(node.t).value_or(NAN));
        return sum;
    }
    double atStart(const std::string& name) const { return load(name).value(0); }
    double atEnd(const std::string& name) const { return load(name).value(store_->count() - 1); }

private:
    const QuantityInfo* find(const std::string& name) const {
        for (const QuantityInfo& quantity : network_->quantities)
            if (quantity.name == name) return &quantity;
        return nullptr;
    }
    Trace load(const std::string& name) const {
        Trace trace(store_, *find(name), first_->layout());
        trace.update();
        return trace;
    }
    std::shared_ptr<Run> first_;
    const Network* network_;
    std::shared_ptr<TraceStore> store_;
    std::vector<Node> list_;
    RunSummary summary_;
};

struct Case {
    const char* name;
    Circuit circuit;
    double tolerance = 1e-10;  ///< of the turnover
};

std::vector<Case> cases() {
    std::vector<Case> list{{"step-up, continuous", bench::stepUp("0.5", "24", "48", "4").plan("1m", "1e-4")},
                           {"step-up, discontinuous", bench::stepUp("0.3", "200", "60", "0").plan("1m", "1e-4")},
                           {"three-phase bridge", bench::threePhaseBridge().plan("5m", "1e-4")},
                           {"six-pulse rectifier", bench::sixPulse().plan("60m", "1e-4")},
                           {"resonant half-bridge", bench::resonantHalfBridge().plan("0.5m", "1e-4")},
                           {"phase-shifted bridge", bench::phaseShiftedBridge().plan("0.5m", "1e-4")},
                           {"three-level bridge", bench::threeLevelBridge().plan("5m", "1e-4")},
                           {"multilevel arm", bench::arm(10).plan("5m", "1e-4")},
                           {"12-pulse bridge", bench::twelvePulse().plan("40m", "1e-4"),
                            // 100 kOhm beside 200 uH, 2 ns, in a run of 40 ms: rounding.
                            1e-6}};
    return list;
}

}  // namespace

TEST(Balance, ChargeFluxAndEnergy) {
    for (const Case& one : cases()) {
        SCOPED_TRACE(one.name);
        const Ledger ledger(one.circuit);
        double stored = 0, burnt = 0, turnover = 0;
        int storages = 0;
        for (const Part& part : one.circuit.project().sheet().parts) {
            const std::vector<std::string> powers = ledger.powersOf(part.name);
            for (const std::string& power : powers) turnover = std::max(turnover, ledger.absolute(power));
            const auto state = std::find_if(ledger.network().states.begin(), ledger.network().states.end(),
                                            [&](const StateInfo& s) { return s.part == part.name; });
            const bool capacitor = part.kind == "capacitor";
            if (state == ledger.network().states.end() || (!capacitor && part.kind != "inductor")) {
                for (const std::string& power : powers) burnt += ledger.integral(power);
                continue;
            }
            // A capacitor's charge is the integral of its current, an inductor's flux that of its voltage.
            const std::string p = part.name + ".p";
            const std::string kept = part.name + (capacitor ? ".v" : ".i"),
                              driven = part.name + (capacitor ? ".i" : ".v");
            const double a = ledger.atStart(kept), b = ledger.atEnd(kept), size = state->storage;
            EXPECT_NEAR(ledger.integral(driven), size * (b - a), one.tolerance * ledger.absolute(driven)) << part.name;
            const double energy = 0.5 * size * (b * b - a * a);
            EXPECT_NEAR(ledger.integral(p), energy, one.tolerance * std::max(ledger.absolute(p), std::abs(energy)))
                << part.name;
            stored += energy;
            ++storages;
        }
        EXPECT_GT(storages, 0);
        EXPECT_NEAR(stored + burnt, 0.0, one.tolerance * turnover) << "what goes in is stored or burnt";
        // The run along its short ways ends where the one that stops at every node does.
        const RunSummary& first = ledger.firstRun().summary();
        for (std::size_t i = 0; i < first.snapshot.states.size(); ++i) {
            const double size = std::max(std::abs(first.snapshot.states[i].value), 1.0);
            EXPECT_NEAR(first.snapshot.states[i].value, ledger.second().snapshot.states[i].value, 3e-9 * size)
                << ledger.network().states[i].part;
        }
    }
}

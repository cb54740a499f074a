// What every part must do, run on every part of the build.

#include <map>
#include <random>
#include <set>

#include "base/text.h"
#include "formats/hedge/hedge.h"
#include "model/values.h"
#include "model/vectors.h"
#include "network/elaborate.h"
#include "runs/registry.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

class EveryPart : public ::testing::TestWithParam<std::string> {
protected:
    const PartKind& kind() const { return *partLibrary().catalogue().find(GetParam()); }
    /// Gone before anything is elaborated, and joined to wires of three only: reference/vectors_test.cpp.
    bool isWire() const { return kind().id == gatherKind || kind().id == scatterKind; }
    Part part(int rung) const {
        Part p;
        p.name = kind().prefix + "1";
        p.kind = kind().id;
        p.rung = rung;
        return p;
    }
};

std::vector<std::string> kinds() {
    std::vector<std::string> ids;
    for (const PartKind* kind : partLibrary().catalogue().all()) ids.push_back(kind->id);
    return ids;
}

}  // namespace

TEST_P(EveryPart, DescribesItself) {
    const PartKind& k = kind();
    EXPECT_FALSE(k.title.empty());
    EXPECT_FALSE(k.summary.empty());
    EXPECT_FALSE(k.help.empty());
    EXPECT_FALSE(k.group.empty());
    EXPECT_TRUE(isIdentifier(k.prefix));
    EXPECT_FALSE(k.symbol.empty());
    EXPECT_FALSE(k.rungs.empty());
    for (const RungKind& rung : k.rungs) {
        EXPECT_FALSE(rung.adds.empty());
        EXPECT_FALSE(rung.equations.empty());
        EXPECT_FALSE(rung.source.empty());
        EXPECT_GE(rung.price, 1.0);
    }
    std::set<std::string> keys;
    for (const ParameterKind& p : k.parameters) {
        EXPECT_TRUE(keys.insert(p.key).second) << p.key;
        EXPECT_TRUE(isIdentifier(p.key)) << p.key;
        EXPECT_FALSE(p.label.empty());
        EXPECT_TRUE(findUnit(p.unit)) << p.unit;
        EXPECT_TRUE(p.rating || k.hasRung(p.rung)) << p.key << " belongs to a rung the part lacks";
    }
}

TEST_P(EveryPart, DefaultsAreValid) {
    for (const ParameterKind& p : kind().parameters) {
        if (p.rating || p.text) continue;
        if (p.choices.empty())
            EXPECT_TRUE(partValue(part(4), kind(), p.key, {})) << p.key;
        else
            EXPECT_TRUE(partChoice(part(4), kind(), p.key)) << p.key;
    }
}

TEST_P(EveryPart, OutOfRangeValuesNamePartAndField) {
    for (const ParameterKind& p : kind().parameters) {
        if (p.text) continue;
        Part bad = part(4);
        if (!p.choices.empty()) {
            bad.values.set(p.key, "nonsense");
            EXPECT_FALSE(partChoice(bad, kind(), p.key));
            continue;
        }
        const bool low = std::isfinite(p.least);
        if (!low && !std::isfinite(p.most)) continue;
        const double outside = low ? p.least - 1 : p.most + 1;
        bad.values.set(p.key, std::to_string(outside));
        const auto value = partValue(bad, kind(), p.key, {});
        ASSERT_FALSE(value) << p.key;
        EXPECT_EQ(value.error().part, bad.name);
        EXPECT_EQ(value.error().field, p.key);
        EXPECT_NE(value.error().message.find("out of range"), std::string::npos);
    }
}

TEST_P(EveryPart, PinsAreOnTheGridAndApart) {
    std::set<Point> places;
    for (const PinKind& pin : kind().pins) {
        EXPECT_EQ(pin.at.x % gridStep, 0);
        EXPECT_EQ(pin.at.y % gridStep, 0);
        EXPECT_TRUE(places.insert(pin.at).second);
    }
}

TEST_P(EveryPart, IsFoundByEveryNameItGoesBy) {
    const Catalogue& catalogue = partLibrary().catalogue();
    EXPECT_EQ(catalogue.findByWord(kind().id), &kind());
    EXPECT_EQ(catalogue.findByWord(kind().title), &kind());
    for (const std::string& synonym : kind().synonyms) EXPECT_EQ(catalogue.findByWord(synonym), &kind()) << synonym;
}

TEST_P(EveryPart, SavesAndLoads) {
    Project project;
    Part p = part(1);
    p.id = project.newId();
    for (const ParameterKind& parameter : kind().parameters)
        p.values.set(parameter.key, parameter.standard.empty() ? "7" : parameter.standard);
    p.turn = 3;
    p.flip = true;
    project.sheet().parts.push_back(p);
    const auto loaded = readHedge(writeHedge(project));
    ASSERT_TRUE(loaded);
    EXPECT_EQ(loaded->project, project);
}

/// In a plain surrounding the part runs and offers finite quantities, and the currents at its net add up.
void runsInPlainSurrounding(const PartKind& kind, const RungKind& rung, bool withoutWhatCanBeLeftOut) {
    Circuit c;
    c.add("sine-voltage", "VX", {"a", "0"}, {{"peak", "10"}, {"f", "1k"}})
        .add("resistor", "RX", {"a", "out"}, {{"r", "2"}})
        .add("resistor", "RY", {"out", "0"}, {{"r", "3"}})
        .add("task", "T1", {})
        .add("modulator", "MX", {"", "g", ""}, {{"f", "5k"}});
    std::vector<std::string> nets;
    int power = 0;
    for (const PinKind& pin : kind.pins)
        nets.push_back(pin.sort == PinSort::signalIn    ? "g"
                       : pin.sort == PinSort::signalOut ? "out" + std::to_string(nets.size())
                       : power++ == 0                   ? (kind.pins.size() == 1 ? "0" : "out")
                                                        : "x" + std::to_string(power));
    // Every further power pin has a way of its own to the reference, so that no stiff source is shorted.
    for (int pin = 2; pin <= power; ++pin)
        c.add("resistor", "RZ" + std::to_string(pin), {"x" + std::to_string(pin), "0"}, {{"r", "0.1"}});
    c.add(kind.id, "X", nets, {}, rung.rung).plan("3m");
    if (withoutWhatCanBeLeftOut)
        for (const ParameterKind& p : kind.parameters)
            if (p.none) c.set("X", p.key, std::string(noneWord));
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << kind.id << " rung " << rung.rung << ": " << r->summary().brief();
    for (const std::string& name : r->quantityNames()) {
        const auto trace = r->trace(name);
        for (std::size_t i = 0; i < trace->size(); i += 7) ASSERT_TRUE(std::isfinite(trace->value(i))) << name;
    }
    // Current law at net out, at every stored point.
    const auto in = r->trace("RX.i"), out = r->trace("RY.i"), through = r->trace("X.i");
    for (std::size_t i = 0; through && i < in->size(); ++i)
        ASSERT_NEAR(in->value(i), out->value(i) + through->value(i), 1e-9);
}

// On every rung; also without what can be left out of it: losses, inductances of leads.
TEST_P(EveryPart, RunsOnEveryRung) {
    if (kind().group == "Modules") return;  // their pins stand on no main sheet
    if (isWire()) return;
    for (const RungKind& rung : kind().rungs)
        for (const bool without : {false, true}) {
            SCOPED_TRACE(without);
            runsInPlainSurrounding(kind(), rung, without);
        }
}

// Of every smooth element: what it says its derivatives are, against differences of what it says its flows are.
TEST_P(EveryPart, HasTheDerivativesItSays) {
    if (kind().group == "Modules" || isWire()) return;
    for (const RungKind& rung : kind().rungs) {
        Circuit c;
        c.add("constant", "KX", {"g"}).add("resistor", "RX", {"a", "0"}, {{"r", "1"}});
        c.add("dc-voltage", "VX", {"a", "0"})
            .add("resistor", "RO", {"out", "a"})
            .add("resistor", "RP", {"out", "0"})
            .add("task", "T1", {});
        c.add("signal-sine", "KW", {"w"});
        // The control is looked at with signals that run: held ones make no equations.
        const std::string driver = kind().group == "Control" ? "w" : "g";
        std::vector<std::string> nets;
        for (const PinKind& pin : kind().pins)
            nets.push_back(pin.sort == PinSort::signalIn    ? driver
                           : pin.sort == PinSort::signalOut ? "out" + std::to_string(nets.size())
                           : kind().pins.size() == 1        ? "0"
                                                            : "p" + std::to_string(nets.size()));
        for (std::size_t i = 0; i < nets.size(); ++i)
            if (nets[i][0] == 'p') c.add("resistor", "RX" + nets[i], {nets[i], "0"}, {{"r", "1"}});
        c.add(kind().id, "X", nets, {}, rung.rung).plan("1m");
        const auto elaboration = elaborate(c.project(), partLibrary());
        if (!elaboration && kind().group == "Control") {  // what is switched by edges takes no running signal
            EXPECT_NE(elaboration.error().message.find("runs"), std::string::npos) << elaboration.error().text();
            EXPECT_EQ(elaboration.error().part, "X");
            return;
        }
        ASSERT_TRUE(elaboration) << elaboration.error().text();
        const Network& network = elaboration->network;
        std::mt19937 random(7);
        std::uniform_real_distribution<double> spread(-1, 1);
        for (const auto& element : network.elements) {
            if (!element->smooth()) continue;
            for (int trial = 0; trial < 40; ++trial) {
                std::vector<double> z(static_cast<std::size_t>(network.unknownCount())), x(network.states.size());
                const double size = trial % 4 == 0 ? 0.3 : trial % 4 == 1 ? 3 : 30;
                for (double& value : z) value = size * spread(random);
                for (double& value : x) value = size * spread(random);
                // Junctions are exponentials: what they carry at many volts no difference can tell.
                for (std::size_t i = 0; i < z.size(); ++i)
                    if (network.sortOf(static_cast<int>(i)) == UnknownSort::voltage &&
                        static_cast<int>(i) >= network.nodeCount())
                        z[i] = std::min(z[i], 0.9);
                const auto flows = [&] {
                    SmoothStamp stamp(network.nodeCount());
                    element->evaluate({z, x}, stamp);
                    std::map<int, double> sums;
                    for (const auto& entry : stamp.flows) sums[entry.row] += entry.value;
                    return sums;
                };
                SmoothStamp stamp(network.nodeCount());
                element->evaluate({z, x}, stamp);
                std::map<std::pair<int, int>, double> said;
                for (const auto& entry : stamp.unknowns)
                    if (entry.column >= 0) said[{entry.row, entry.column}] += entry.value;
                for (const auto& [place, value] : said) {
                    double& moved = z[static_cast<std::size_t>(place.second)];
                    const double at = moved, step = 1e-6 * std::max(0.1, std::abs(at));
                    moved = at + step;
                    const double above = flows()[place.first];
                    moved = at - step;
                    const double below = flows()[place.first];
                    moved = at;
                    const double difference = (above - below) / (2 * step);
                    EXPECT_NEAR(value, difference, 2e-4 * std::abs(difference) + 1e-6 * (std::abs(above) + 1))
                        << kind().id << " rung " << rung.rung << ", row " << place.first << ", "
                        << network.describeUnknown(place.second) << " at " << at;
                }
            }
        }
    }
}

// A part without sources in it burns power or stores it, but never delivers more than it took (from rest).
TEST_P(EveryPart, IsPassiveUnlessItIsASource) {
    if (kind().group == "Sources" || kind().group == "Control" || kind().group == "Modules") return;
    for (const RungKind& rung : kind().rungs) {
        if (kind().findPin("g") >= 0 && rung.rung == 1) continue;  // an ideal switch neither takes nor gives
        Circuit c;
        c.add("sine-voltage", "VX", {"a", "0"}, {{"peak", "10"}, {"f", "3k"}})
            .add("resistor", "RX", {"a", "b"}, {{"r", "2"}})
            .add("constant", "KX", {"g"});
        std::vector<std::string> nets;
        int power = 0;
        for (const PinKind& pin : kind().pins)
            nets.push_back(pin.sort == PinSort::signalIn ? "g" : power++ == 0 ? "b" : "0");
        c.add(kind().id, "X", nets, {}, rung.rung).plan("2m");
        const auto r = run(c);
        ASSERT_TRUE(r);
        if (!r->trace("X.p")) continue;
        for (double t = 20e-6; t < 2e-3; t += 33e-6)
            EXPECT_GE(measures(*r, "X.p", 0, t).mean, -1e-9) << "rung " << rung.rung << " until " << t;
    }
}

// A part of the control does the same in all its ways: with signals that run, with held ones, and in a task.
TEST_P(EveryPart, OfTheControlTakesSignalsOfEverySort) {
    if (kind().group != "Control" || isWire()) return;
    for (const bool runs : {false, true})
        for (const bool sampled : {false, true}) {
            if (sampled && !kind().findParameter("task")) continue;
            Circuit c;
            c.add("signal-sine", "KW", {"w"}, {{"f", "300"}, {"peak", "0.4"}, {"offset", "0.5"}})
                .add("sampled-sine", "KH", {"h"}, {{"f", "300"}, {"peak", "0.4"}, {"rate", "5k"}})
                .add("resistor", "RO", {"out", "0"})
                .add("sine-voltage", "VO", {"out", "0"}, {{"f", "300"}})
                .add("task", "T1", {}, {{"period", "100u"}});
            std::vector<std::string> nets;
            for (const PinKind& pin : kind().pins)
                nets.push_back(pin.sort == PinSort::signalIn ? (runs ? "w" : "h")
                                                             : "out" + std::to_string(nets.size()));
            c.add(kind().id, "X", nets, {}).plan("5m");
            if (sampled) c.set("X", "task", "T1");
            const auto run = Run::prepare(std::make_shared<Project>(c.project()));
            if (!run) {
                EXPECT_TRUE(runs && !sampled) << run.error().text();
                EXPECT_EQ(run.error().part, "X") << run.error().text();
                continue;
            }
            (*run)->execute();
            ASSERT_EQ((*run)->summary().end, RunEnd::finished)
                << (runs ? "running, " : "held, ") << (sampled ? "sampled: " : "not sampled: ")
                << (*run)->summary().brief();
            for (const PinKind& pin : kind().pins) {
                if (pin.sort != PinSort::signalOut) continue;
                const auto trace = (*run)->trace("X." + pin.name);
                ASSERT_TRUE(trace) << pin.name;
                for (std::size_t i = 0; i < trace->size(); ++i) ASSERT_TRUE(std::isfinite(trace->value(i))) << pin.name;
            }
        }
}

INSTANTIATE_TEST_SUITE_P(Library, EveryPart, ::testing::ValuesIn(kinds()), [](const auto& info) {
    std::string name = info.param;
    std::replace(name.begin(), name.end(), '-', '_');
    return name;
});

// Code names its pins by what it declares, also while it is being typed.
TEST(CodePins, AreNamedByTheCode) {
    const PartType& code = *partLibrary().find("code");
    const auto names = [&](const std::string& text) {
        return code.pinNames([&](std::string_view key) { return key == "code" ? text : std::string(); },
                             ProjectFolder());
    };
    const auto all = names(
        "VAR_INPUT Ia, Ib : LREAL := 1.0; on : BOOL; END_VAR VAR hidden : LREAL; END_VAR VAR_OUTPUT peak : LREAL; "
        "END_VAR "
        "peak := a");
    ASSERT_EQ(all.size(), 8u);
    EXPECT_EQ(all, (std::vector<std::string>{"ia", "ib", "on", "", "peak", "", "", ""}));
    EXPECT_EQ(names("VAR_INPUT x").front(), "x");
    EXPECT_EQ(names("").size(), 8u);
    EXPECT_EQ(names("VAR_INPUT x : LREAL; END_VAR 'never closed"), std::vector<std::string>(8));
    EXPECT_TRUE(
        partLibrary().find("gain")->pinNames([](std::string_view) { return std::string(); }, ProjectFolder()).empty());
}

// What keeps a circuit from running is said before it runs, by part and net.

#include "network/advice.h"
#include "network/elaborate.h"
#include "runs/registry.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

std::vector<Error> check(const Circuit& c) { return checkProject(c.project(), partLibrary()); }

bool says(const std::vector<Error>& errors, const std::string& text) {
    for (const Error& error : errors)
        if (error.message.find(text) != std::string::npos) return true;
    for (const Error& error : errors) ADD_FAILURE() << "not '" << text << "' but: " << error.message;
    if (errors.empty()) ADD_FAILURE() << "nothing was said";
    return false;
}

Circuit sound() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}).add("resistor", "R1", {"in", "0"});
    return c;
}

}  // namespace

TEST(Checks, ASoundCircuitPasses) { EXPECT_TRUE(check(sound()).empty()); }

namespace {
std::vector<Error> advice(const Circuit& c) {
    return advise(c.project(), partLibrary(), findNets(c.project().sheet(), partLibrary().catalogue()),
                  ParameterTable(c.project().parameters));
}
}  // namespace

TEST(Advice, StartValuesThatContradictEachOther) {
    Circuit c = sound();
    EXPECT_TRUE(advice(c).empty());
    c.add("capacitor", "C1", {"in", "0"}, {{"v0", "10"}}).add("capacitor", "C2", {"0", "in"}, {{"v0", "-10"}});
    c.set("V1", "level", "10");
    EXPECT_TRUE(advice(c).empty()) << "the same voltage, the other way round";
    c.set("C2", "v0", "10");
    EXPECT_TRUE(says(advice(c), "C1 starts at 10 V and C2 at 10 V, but they lie side by side"));
    c.set("C1", "v0", "12");
    EXPECT_TRUE(says(advice(c), "C1 starts at 12 V, but V1 holds it at 10 V"));
    Circuit l = sound();
    l.add("inductor", "L1", {"in", "m"}, {{"i0", "1"}}).add("inductor", "L2", {"m", "0"}, {{"i0", "1"}});
    EXPECT_TRUE(advice(l).empty());
    l.set("L2", "i0", "2");
    EXPECT_TRUE(says(advice(l), "they lie in one branch"));
}

TEST(Advice, OnResistancesThatAreNotSmall) {
    Circuit c = sound();
    c.add("diode", "D1", {"in", "x"}, {{"ron", "50m"}}, 2).add("resistor", "R2", {"x", "0"}, {{"r", "10"}});
    EXPECT_TRUE(advice(c).empty());
    c.set("D1", "ron", "1");
    EXPECT_TRUE(says(advice(c), "D1 has 1 Ω when on, 10 % of R2 beside it"));
}

TEST(Checks, EmptySheet) { EXPECT_TRUE(says(checkProject(Project{}, partLibrary()), "the sheet is empty")); }

TEST(Checks, NoReferenceNode) {
    Circuit c = sound();
    std::erase_if(c.project().sheet().parts, [](const Part& p) { return p.kind == "reference"; });
    EXPECT_TRUE(says(check(c), "there is no reference node"));
}

TEST(Checks, UnconnectedPin) {
    Circuit c = sound();
    c.add("capacitor", "C1", {"in", ""});
    const auto errors = check(c);
    EXPECT_TRUE(says(errors, "pin b of C1 is not connected"));
    EXPECT_EQ(errors[0].part, "C1");
}

TEST(Checks, FloatingNet) {
    Circuit c = sound();
    c.add("resistor", "R2", {"x", "y"}).add("capacitor", "C2", {"x", "y"});
    EXPECT_TRUE(says(check(c), "net x and y floats"));
}

TEST(Checks, AMeterDoesNotHoldANet) {
    Circuit c = sound();
    c.add("resistor", "R2", {"x", "y"}).add("resistor", "R3", {"x", "y"}).add("voltmeter", "VM1", {"x", "0"});
    EXPECT_TRUE(says(check(c), "floats"));
}

TEST(Checks, LoopOfStiffVoltages) {
    Circuit c = sound();
    c.add("sine-voltage", "V2", {"in", "m"}).add("dc-voltage", "V3", {"m", "0"});
    EXPECT_TRUE(says(check(c), "V1, V2 and V3 form a loop of fixed voltages"));
    Circuit lossy;
    lossy.add("dc-voltage", "V1", {"in", "0"})
        .add("dc-voltage", "V2", {"in", "0"}, {{"ri", "10m"}}, 2)
        .add("resistor", "R1", {"in", "0"});
    EXPECT_TRUE(check(lossy).empty()) << "an internal resistance breaks the loop";
}

TEST(Checks, ShortedSource) {
    Circuit c = sound();
    c.add("dc-voltage", "V2", {"in", "in"});
    EXPECT_TRUE(says(check(c), "V2 is shorted: both its pins are on one net"));
}

TEST(Checks, CutOfStiffCurrents) {
    Circuit c = sound();
    c.add("dc-current", "I1", {"0", "x"}).add("dc-current", "I2", {"x", "0"});
    EXPECT_TRUE(says(check(c), "I1 and I2 force a current that has no other path"));
    Circuit path = sound();
    path.add("dc-current", "I1", {"0", "x"}).add("resistor", "R2", {"x", "0"});
    EXPECT_TRUE(check(path).empty());
}

TEST(Checks, ValueOutOfRange) {
    Circuit c = sound();
    c.add("resistor", "R2", {"in", "0"}, {{"r", "-3"}});
    const auto errors = check(c);
    EXPECT_TRUE(says(errors, "R2: resistance: −3 Ω is out of range"));
    EXPECT_EQ(errors[0].field, "r");
}

TEST(Checks, ValuesThatContradictEachOther) {
    Circuit c = sound();
    c.add("pulse-voltage", "V2", {"x", "0"}, {{"f", "1k"}, {"duty", "0.1"}, {"rise", "200u"}})
        .add("resistor", "R2", {"x", "0"});
    EXPECT_TRUE(says(check(c), "V2: the rise time is longer than the pulse"));
    Circuit d = sound();
    d.add("modulator", "M1", {"", "g", ""}, {{"f", "100k"}, {"dead", "6u"}})
        .add("switch", "S1", {"in", "0", "g"}, {{"ron", "1"}}, 2);
    EXPECT_TRUE(says(check(d), "M1: the dead time must be shorter than half a period"));
}

TEST(Checks, DuplicateName) {
    Circuit c = sound();
    c.add("resistor", "R1", {"in", "0"});
    EXPECT_TRUE(says(check(c), "there are two parts called R1"));
}

TEST(Checks, UnknownKindAndParameters) {
    Circuit c = sound();
    c.project().sheet().parts.back().kind = "fluxcapacitor";
    EXPECT_TRUE(says(check(c), "this version knows no part of kind 'fluxcapacitor'"));
    Circuit d = sound();
    d.add("resistor", "R2", {"in", "0"}, {{"r", "Rx"}});
    EXPECT_TRUE(says(check(d), "R2: resistance: there is no parameter 'Rx'"));
    d.project().parameters = {{"Rx", "Ry", "Ω", "", ""}, {"Ry", "Rx", "Ω", "", ""}};
    EXPECT_TRUE(says(check(d), "in a circle: Rx → Ry → Rx"));
}

TEST(Checks, SignalsAndPowerDoNotMix) {
    Circuit c = sound();
    c.add("constant", "K1", {"in"});
    EXPECT_TRUE(says(check(c), "joins power pins"));
    Circuit d = sound();
    d.add("constant", "K1", {"g"})
        .add("constant", "K2", {"g"})
        .add("switch", "S1", {"in", "0", "g"}, {{"ron", "1"}}, 2);
    EXPECT_TRUE(says(check(d), "is driven by K1.y and K2.y"));
    Circuit e = sound();
    e.add("switch", "S1", {"in", "x", "g"}).add("switch", "S2", {"x", "0", "g"}).add("resistor", "R2", {"x", "0"});
    EXPECT_TRUE(says(check(e), "nothing drives S1.g and S2.g"));
}

TEST(Checks, AllFaultsAreListedTogether) {
    Circuit c = sound();
    c.add("resistor", "R2", {"in", ""}).add("capacitor", "C1", {"", "0"}).add("inductor", "L1", {"", ""});
    EXPECT_GE(check(c).size(), 4u);
}

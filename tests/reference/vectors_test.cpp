// Wires of three signals: what they carry is what three single wires carry, part by part.

#include <cmath>
#include <numbers>

#include <gtest/gtest.h>

#include "formats/hedge/hedge.h"
#include "model/modules.h"
#include "model/vectors.h"
#include "runs/registry.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

Circuit signals() {
    Circuit c;
    c.project().sheet() = {};
    return c;
}

/// Three phases of 50 Hz and peak 2 as one wire "v".
Circuit threePhases() {
    Circuit c = signals();
    const char* const phases[] = {"0", "-120", "120"};
    for (int k = 0; k < 3; ++k) {
        const std::string net(1, static_cast<char>('x' + k));
        c.add("signal-sine", "W" + std::to_string(k + 1), {net}, {{"peak", "2"}, {"f", "50"}, {"phase", phases[k]}});
    }
    return c.add("three-in-one", "BU1", {"x", "y", "z", "v"});
}

std::vector<Error> mistakes(const Circuit& c) { return checkProject(c.project(), partLibrary()); }

}  // namespace

// A gain, a limiter and a filter stand for three; what comes out is what single parts make.
TEST(WiresOfThree, PartsStandForThree) {
    Circuit c = threePhases();
    c.add("gain", "G1", {"v", "w"}, {{"k", "3"}})
        .add("limiter", "L1", {"w", "l"}, {{"low", "-4"}, {"high", "4"}})
        .add("low-pass", "F1", {"l", "f"}, {{"f", "100"}})
        .add("one-in-three", "BU2", {"f", "fa", "fb", "fc"});
    for (const char* single : {"x", "y", "z"}) {
        const std::string s(single);
        c.add("gain", "G_" + s, {s, "w_" + s}, {{"k", "3"}})
            .add("limiter", "L_" + s, {"w_" + s, "l_" + s}, {{"low", "-4"}, {"high", "4"}})
            .add("low-pass", "F_" + s, {"l_" + s, "f_" + s}, {{"f", "100"}});
    }
    c.add("sum", "S1", {"fa", "fb", "fc", "sum"}).plan("40m");
    ASSERT_TRUE(mistakes(c).empty()) << mistakes(c).front().message;
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const char* const ends[] = {".a", ".b", ".c"};
    const char* const singles[] = {"x", "y", "z"};
    for (double t = 1e-3; t < 39e-3; t += 2.7e-3)
        for (int k = 0; k < 3; ++k) {
            const std::string end = ends[k], single = singles[k];
            EXPECT_NEAR(at(*r, "G1" + end + ".y", t), at(*r, "G_" + single + ".y", t), 1e-12);
            EXPECT_NEAR(at(*r, "L1" + end + ".y", t), at(*r, "L_" + single + ".y", t), 1e-12);
            EXPECT_NEAR(at(*r, "F1" + end + ".y", t), at(*r, "F_" + single + ".y", t), 1e-9);
        }
    EXPECT_FALSE(r->findQuantity("G1.y"));
}

// A transform takes the wire at its first input: peak 2 in the turning frame is the length 2, whatever the wire.
TEST(WiresOfThree, TransformsAndModulatorsTakeThreeAtOnce) {
    Circuit c = threePhases();
    c.add("abc-alphabeta", "TR1", {"v", "", "", "alpha", "beta"})
        .add("abc-alphabeta", "TR2", {"x", "y", "z", "alpha2", "beta2"})
        .add("gain", "G1", {"v", "u"}, {{"k", "0.4"}})
        .add("gain", "GX", {"x", "ux"}, {{"k", "0.4"}})
        .add("gain", "GY", {"y", "uy"}, {{"k", "0.4"}})
        .add("gain", "GZ", {"z", "uz"}, {{"k", "0.4"}})
        .add("modulator3", "M1", {"u", "", "", "p1", "", "p2", "", "p3", ""}, {{"f", "5k"}})
        .add("modulator3", "M2", {"ux", "uy", "uz", "q1", "", "q2", "", "q3", ""}, {{"f", "5k"}})
        .plan("20m");
    ASSERT_TRUE(mistakes(c).empty()) << mistakes(c).front().message;
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    for (double t = 0.5e-3; t < 20e-3; t += 1.3e-3) {
        EXPECT_NEAR(at(*r, "TR1.alpha", t), at(*r, "TR2.alpha", t), 1e-12);
        EXPECT_NEAR(at(*r, "TR1.beta", t), at(*r, "TR2.beta", t), 1e-12);
        EXPECT_NEAR(std::hypot(at(*r, "TR1.alpha", t), at(*r, "TR1.beta", t)), 2, 2e-3);
    }
    for (const char* gate : {"ga", "gb", "gc"})
        EXPECT_EQ(edges(*r, std::string("M1.") + gate), edges(*r, std::string("M2.") + gate)) << gate;
}

// In a task each of the three keeps its own memory; code takes the wire at an input and the two after it.
TEST(WiresOfThree, TasksAndCode) {
    Circuit c = threePhases();
    c.add("task", "T1", {}, {{"period", "1m"}})
        .add("unit-delay", "Z1", {"v", "d"}, {{"n", "2"}, {"task", "T1"}})
        .add(
            "code", "CODE1", {"d", "", "", "x", "y1", "y2", "", ""},
            {{"code",
              "VAR_INPUT a, b, c, now : LREAL; END_VAR VAR_OUTPUT s, t : LREAL; END_VAR s := a + b + c; t := a - now;"},
             {"task", "T1"}})
        .plan("21m");
    ASSERT_TRUE(mistakes(c).empty()) << mistakes(c).front().message;
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    for (int k = 3; k < 20; ++k) {
        const double t = 1e-3 * k + 0.5e-3, w = 2 * std::numbers::pi * 50;
        const auto wave = [&](double at, double degrees) {
            return 2 * std::sin(w * at + degrees * std::numbers::pi / 180);
        };
        EXPECT_NEAR(at(*r, "Z1.a.y", t), wave(1e-3 * (k - 2), 0), 1e-9) << k;
        EXPECT_NEAR(at(*r, "Z1.c.y", t), wave(1e-3 * (k - 2), 120), 1e-9) << k;
        EXPECT_NEAR(at(*r, "CODE1.y1", t), 0, 1e-9);
        EXPECT_NEAR(at(*r, "CODE1.y2", t), wave(1e-3 * (k - 2), 0) - wave(1e-3 * k, 0), 1e-9);
    }
}

TEST(WiresOfThree, WhatDoesNotFitIsNamed) {
    Circuit gate = threePhases();
    gate.add("reference", "REF", {"0"})
        .add("dc-voltage", "V1", {"p", "0"}, {{"level", "1"}})
        .add("switch", "S1", {"p", "o", "v"})
        .add("resistor", "R1", {"o", "0"});
    const auto wrong = mistakes(gate);
    ASSERT_FALSE(wrong.empty());
    EXPECT_EQ(wrong.front().part, "S1");
    EXPECT_NE(wrong.front().message.find("carries three signals"), std::string::npos) << wrong.front().message;
    Circuit single = threePhases();
    single.add("one-in-three", "BU2", {"x", "a", "b", "c"});
    EXPECT_EQ(mistakes(single).front().part, "BU2");
    Circuit twice = threePhases();
    twice.add("three-in-one", "BU2", {"v", "x", "y", "q"});
    EXPECT_EQ(mistakes(twice).front().part, "BU2");
}

// A mistake of one of three names the part on the sheet; wires of three go into modules and out of them.
TEST(WiresOfThree, OriginsAndModules) {
    Circuit c = threePhases();
    c.add("gain", "G1", {"v", "w"});
    const FlatProject flat = flattened(c.project(), partLibrary().catalogue());
    const int id = c.project().findPart("G1")->id;
    int found = 0;
    for (const auto& [laid, origin] : flat.origins) found += origin.path.empty() && origin.id == id;
    EXPECT_EQ(found, 3);
    const NetList nets = findNets(c.project().sheet(), partLibrary().catalogue());
    const auto three = wiresOfThree(c.project().sheet(), nets, partLibrary().catalogue()).nets;
    for (std::size_t i = 0; i < nets.nets.size(); ++i)
        EXPECT_EQ(three[i] != 0, nets.nets[i].name == "v" || nets.nets[i].name == "w") << nets.nets[i].name;

    const std::string text = R"({"hedgerow": 1, "plans": [{"name": "p", "end": "20m"}], "sheets": [
        {"parts": [
            {"name": "W1", "kind": "signal-sine", "at": [0, 0], "values": {"peak": "1", "f": "50", "phase": "0"}},
            {"name": "BU1", "kind": "three-in-one", "at": [200, 0]},
            {"name": "X1", "kind": "module:triple", "at": [400, 0]},
            {"name": "BU2", "kind": "one-in-three", "at": [600, 0]}],
         "labels": [{"net": "s", "at": [32, 0]}, {"net": "s", "at": [152, -16]}, {"net": "s", "at": [152, 0]}, {"net": "s", "at": [152, 16]},
                    {"net": "in", "at": [248, 0]}]},
        {"name": "triple", "parts": [
            {"name": "u", "kind": "pin-in", "at": [0, 0]}, {"name": "y", "kind": "pin-out", "at": [400, 0]},
            {"name": "G1", "kind": "gain", "at": [200, 0], "values": {"k": "7"}}],
         "labels": [{"net": "a", "at": [0, 0]}, {"net": "a", "at": [168, 0]}, {"net": "b", "at": [232, 0]}, {"net": "b", "at": [400, 0]}]}]})";
    auto loaded = readHedge(text);
    ASSERT_TRUE(loaded) << loaded.error().message;
    // Join the place by the names of its nets, wherever its pins lie.
    Project& project = loaded->project;
    const Catalogue all = withModules(partLibrary().catalogue(), project);
    const PartKind& kind = *all.find("module:triple");
    const Part& place = *project.findPart("X1");
    for (const auto& [pin, net] : {std::pair("u", "in"), std::pair("y", "out")})
        project.sheets[0].labels.push_back(
            {project.newId(), place.toSheet(kind.pins[static_cast<std::size_t>(kind.findPin(pin))].at), net, ""});
    const Part& taken = *project.findPart("BU2");
    project.sheets[0].labels.push_back(
        {project.newId(), taken.toSheet(all.find("one-in-three")->pins[0].at), "out", ""});
    const auto r = run(project);
    ASSERT_TRUE(r);
    EXPECT_NEAR(at(*r, "X1.G1.b.y", 5e-3), 7, 1e-3);
}

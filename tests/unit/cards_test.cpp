// Makers' cards: the grammar, what becomes of them, and what is said of the rest.

#include <cmath>
#include <fstream>
#include <random>
#include <sstream>

#include "base/largest.h"
#include "formats/cards/card_expression.h"
#include "model/modules.h"
#include "desk/card_import.h"
#include "runs/registry.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

std::string exampleCards() {
    std::ifstream file(HEDGEROW_EXAMPLES "/medlar-devices.cards");
    std::stringstream text;
    text << file.rdbuf();
    return text.str();
}

bool remarked(const std::vector<CardRemark>& remarks, int line, const std::string& words) {
    for (const CardRemark& one : remarks)
        if (one.line == line && (one.why + " " + one.text).find(words) != std::string::npos) return true;
    return false;
}

const Part* device(const CardImport& import, const std::string& name) {
    for (const ImportedDevice& one : import.devices)
        if (one.part.name == name) return &one.part;
    return nullptr;
}

/// Puts an instance of a module into a circuit, its pins on nets.
void place(Circuit& c, const Sheet& module, const std::map<std::string, std::string>& nets) {
    Sheet own = module;
    for (auto& part : own.parts) part.id = c.project().newId();
    for (auto& label : own.labels) label.id = c.project().newId();
    for (auto& wire : own.wires) wire.id = c.project().newId();
    c.project().sheets.push_back(own);
    Part instance;
    instance.id = c.project().newId();
    instance.kind = moduleKindId(own.name);
    instance.name = "X" + std::to_string(instance.id);
    instance.at = {2000, 400 * static_cast<int>(c.project().sheets.size())};
    for (const PinKind& pin : moduleKind(own, partLibrary().catalogue()).pins)
        c.project().sheet().labels.push_back({c.project().newId(), instance.toSheet(pin.at), nets.at(pin.name), ""});
    c.project().sheet().parts.push_back(instance);
}

/// The only module of a text, which is taken without remarks.
Sheet onlyModule(const std::string& text) {
    const CardImport import = importCards(text, 1, CancelToken());
    for (const CardRemark& remark : import.remarks)
        ADD_FAILURE() << remark.line << ": " << remark.text << ": " << remark.why;
    EXPECT_FALSE(import.modules.empty());
    return import.modules.empty() ? Sheet() : import.modules.back();
}

double valueOf(const Part& part, const char* key) {
    const std::string* text = part.values.find(key);
    return text ? std::stod(*text) : NAN;
}

}  // namespace

TEST(Cards, NumbersHaveFactorsAndUnits) {
    const std::pair<const char*, double> good[] = {
        {"4.7k", 4700}, {"10meg", 1e7},  {"33pF", 33e-12}, {"1e-9", 1e-9}, {"-2.5mV", -2.5e-3},
        {"3", 3},       {"100nH", 1e-7}, {"2V", 2},        {"+1u", 1e-6},  {"5MIL", 127e-6}};
    for (const auto& [text, value] : good) {
        const auto read = cardNumber(text);
        ASSERT_TRUE(read) << text;
        EXPECT_NEAR(*read, value, 1e-12 * std::abs(value)) << text;
    }
    for (const char* text : {"", "k", "1.2.3", "{2*x}", "1e999", "4%"}) EXPECT_FALSE(cardNumber(text)) << text;
}

TEST(Cards, LinesGoOnAndRemarksDoNotCount) {
    const CardFile file =
        readCards("* a library\n.MODEL d1 d(is=1n,\n* between\n+ n = 1.5) ; said\n\n.end\n.model late D()");
    ASSERT_EQ(file.models.size(), 1u);
    EXPECT_EQ(file.models[0].name, "d1");
    EXPECT_EQ(file.models[0].type, "D");
    EXPECT_EQ(file.models[0].line, 2);
    EXPECT_NEAR(file.models[0].values.at("IS"), 1e-9, 1e-20);
    EXPECT_EQ(file.models[0].values.at("N"), 1.5);
    EXPECT_TRUE(file.remarks.empty());
}

TEST(Cards, ExpressionsAreWorkedOut) {
    const CardParameters known = {{"R", 3}, {"LEN", 2e-3}};
    const std::pair<const char*, double> good[] = {{"{r}", 3},
                                                   {"{2*R+1k}", 1006},
                                                   {"{ -2^2 }", -4},
                                                   {"{2**3**2}", 512},
                                                   {"{(1+2)*(3-r)/2}", 0},
                                                   {"{1m/len}", 0.5},
                                                   {"{max(r, 5) + min(1,2)}", 6},
                                                   {"{sqrt(16)*exp(ln(2))}", 8},
                                                   {"{10meg/1k}", 1e4},
                                                   {"4.7k", 4700}};
    for (const auto& [text, value] : good) {
        const auto read = cardValue(text, known);
        ASSERT_TRUE(read) << text << ": " << read.error().message;
        EXPECT_NEAR(*read, value, 1e-12 * std::max(1.0, std::abs(value))) << text;
    }
    for (const char* text : {"{}", "{1/0}", "{x}", "{2*}", "{(1}", "{1)}", "{sin(1,2)}", "{sqrt(-1)}", "{2 3}", "{r.}"})
        EXPECT_FALSE(cardValue(text, known)) << text;
    EXPECT_FALSE(cardValue("{" + std::string(100'000, '(') + "1}", known)) << "nested";
    EXPECT_FALSE(cardValue("{" + std::string(100'000, '-') + "1}", known)) << "nested";
}

// Parameters of the file, of a subcircuit, and of those before them; outside they are gone.
TEST(Cards, ParametersReachWhatFollowsThem) {
    const CardFile file = readCards(
        ".param base=2 twice={2*base}\n"
        ".model d1 D(RS={twice*1m})\n"
        ".subckt s1 1 2 params: n=5 m={n*base}\n"
        "R1 1 2 {m}\n"
        "C1 1 2 {n*1u}\n"
        ".ends\n"
        ".model d2 D(RS={m})\n");
    EXPECT_NEAR(file.models.at(0).values.at("RS"), 4e-3, 1e-15);
    ASSERT_EQ(file.subcircuits.size(), 1u);
    EXPECT_EQ(file.subcircuits[0].pins, (std::vector<std::string>{"1", "2"}));
    EXPECT_NEAR(std::stod(file.subcircuits[0].elements.at(0).words.at(2)), 10, 1e-12);
    EXPECT_NEAR(std::stod(file.subcircuits[0].elements.at(1).words.at(2)), 5e-6, 1e-18);
    EXPECT_TRUE(remarked(file.remarks, 7, "'m' has no value here"));
    EXPECT_FALSE(file.models.at(1).values.contains("RS"));
}

// A stage of a subcircuit with a transistor and a switch runs as its cards say.
TEST(Cards, ABipolarTransistorAndASwitchWorkInAModule) {
    const CardImport import = importCards(
        ".model qn NPN(IS=1f BF=80 BR=4 RB=3 RC=50m CJE=90p CJC=30p TF=0.5n TR=20n)\n"
        ".model qp PNP(IS=1f BF=60)\n"
        ".model sw1 SW(VT=2 VH=0.5 RON=20m ROFF=1meg)\n"
        ".subckt driver in out vcc gnd\n"
        "RB in b 1k\n"
        "Q1 out b gnd qn\n"
        "RL vcc out 100\n"
        "S1 out gnd in gnd sw1\n"
        ".ends\n",
        1, CancelToken());
    ASSERT_EQ(import.devices.size(), 3u);
    const Part* npn = device(import, "qn");
    EXPECT_EQ(npn->kind, "bipolar-transistor");
    EXPECT_EQ(valueOf(*npn, "beta"), 80);
    EXPECT_EQ(*device(import, "qp")->values.find("polarity"), "pnp");
    EXPECT_EQ(valueOf(*device(import, "sw1"), "von"), 2.5);
    EXPECT_EQ(valueOf(*device(import, "sw1"), "voff"), 1.5);
    ASSERT_EQ(import.modules.size(), 1u);
    EXPECT_EQ(import.modules.front().parts.size(), 4u + 4u) << "with its pins";
    // The knee of rung 2 is the base voltage of rung 4 at the current, where the collector saturates.
    std::map<int, double> saturated;
    for (const int rung : {2, 4}) {
        Circuit c;
        c.add("dc-current", "IB", {"0", "b"}, {{"level", "0.125"}})
            .add("dc-current", "IC", {"0", "c"}, {{"level", "1"}})
            .add("resistor", "RC", {"c", "0"}, {{"r", "1k"}})
            .plan("20u");
        Circuit::Values none = {};
        c.add("bipolar-transistor", "Q1", {"c", "b", "0"}, none, rung);
        for (const ParameterKind& parameter : partLibrary().catalogue().find("bipolar-transistor")->parameters)
            if (const std::string* text = npn->values.find(parameter.key)) c.set("Q1", parameter.key, *text);
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        saturated[rung] = at(*r, "Q1.v", 19e-6);
    }
    EXPECT_NEAR(saturated[2], saturated[4], 5e-3);
}

TEST(Cards, WhatIsNotTakenIsListedByItsLine) {
    const std::string text =
        ".model q1 NJF(BETA=1m)\n"
        ".option reltol=1e-3\n"
        "R1 a b 10\n"
        ".model d1 D(IS={x} KF=1 N=1)\n"
        ".subckt s1 1 2 params: r=3 q={s}\n"
        "J1 1 2 3 mm\n"
        "E1 1 0 VALUE={V(2)}\n"
        "D1 1 2 nosuch\n"
        "R1 1 2 {r*q}\n"
        "Q1 1 2 0 mm\n"
        "S1 1 2 1 2 mm\n"
        "F1 1 2 VX 3\n"
        "C1 1 2 1n\n"
        ".ends\n"
        ".model D1 D(N=2)\n";
    const CardImport import = importCards(text, 5, CancelToken());
    EXPECT_TRUE(remarked(import.remarks, 1, "no part for this type"));
    EXPECT_TRUE(remarked(import.remarks, 2, "stands in no card"));
    EXPECT_TRUE(remarked(import.remarks, 3, "stands in no card"));
    EXPECT_TRUE(remarked(import.remarks, 4, "no number"));
    EXPECT_TRUE(remarked(import.remarks, 4, "KF=1"));
    EXPECT_TRUE(remarked(import.remarks, 5, "'s' has no value here"));
    EXPECT_TRUE(remarked(import.remarks, 6, "no part for elements"));
    EXPECT_TRUE(remarked(import.remarks, 7, "linear control is taken"));
    EXPECT_TRUE(remarked(import.remarks, 8, "nosuch"));
    EXPECT_TRUE(remarked(import.remarks, 9, "no number"));
    EXPECT_TRUE(remarked(import.remarks, 10, "no card of a bipolar transistor"));
    EXPECT_TRUE(remarked(import.remarks, 11, "no card of a switch"));
    EXPECT_TRUE(remarked(import.remarks, 12, "no voltage source"));
    EXPECT_TRUE(remarked(import.remarks, 15, "another card of this name"));
    ASSERT_EQ(import.modules.size(), 1u);
    EXPECT_TRUE(remarked(importCards(".subckt s1 1 2\nR1 1 2 3", 5, CancelToken()).remarks, 1, "no .ends"));
}

// v = N V_T ln(i / I_S + 1) + R_S i, on rung 4; the straight line of rungs 2 and 3 stays near it.
TEST(Cards, ADiodeConductsAsItsCardSays) {
    const CardImport import =
        importCards(".model D1 D(IS=2n N=1.5 RS=10m CJO=300p VJ=0.8 M=0.4 TT=20n)", 10, CancelToken());
    const Part* diode = device(import, "D1");
    ASSERT_TRUE(diode);
    EXPECT_EQ(diode->kind, "diode");
    EXPECT_EQ(diode->rung, 4);
    for (const int rung : {2, 4})
        for (const double i : {2.0, 5.0, 10.0}) {
            Circuit c;
            c.add("dc-current", "I1", {"0", "a"}, {{"level", std::to_string(i)}}).plan("2u");
            Circuit::Values none = {};
            c.add("diode", "D1", {"a", "0"}, none, rung);
            for (const ParameterKind& parameter : partLibrary().catalogue().find("diode")->parameters)
                if (const std::string* text = diode->values.find(parameter.key)) c.set("D1", parameter.key, *text);
            const auto r = run(c);
            ASSERT_TRUE(r);
            const double exact = 1.5 * 0.025693 * std::log(i / 2e-9 + 1) + 0.01 * i;
            EXPECT_NEAR(at(*r, "D1.v", 1.9e-6), exact, rung == 4 ? 2e-3 : import.devices.front().residual + 2e-3) << i;
        }
    EXPECT_GT(import.devices.front().residual, 0.001);
    EXPECT_LT(import.devices.front().residual, 0.1);
    EXPECT_NEAR(valueOf(*diode, "cj"), 300e-12, 1e-15);
    EXPECT_NEAR(valueOf(*diode, "tau"), 20e-9, 1e-12);
}

TEST(Cards, TheExampleBecomesDevicesAndModules) {
    const CardImport import = importCards(exampleCards(), 10, CancelToken());
    const Part *diode = device(import, "MDF60"), *transistor = device(import, "MN100");
    ASSERT_TRUE(diode && transistor);
    EXPECT_EQ(diode->kind, "zener") << "it has a breakdown";
    EXPECT_EQ(valueOf(*diode, "vz"), 68);
    EXPECT_EQ(transistor->kind, "mosfet");
    EXPECT_NEAR(valueOf(*transistor, "ron"), 1 / (14 * (12 - 3.1)) + 4e-3, 1e-6);
    EXPECT_TRUE(remarked(import.remarks, 3, "EG="));
    ASSERT_EQ(import.modules.size(), 7u);
    // The project holds them, and runs when they are placed.
    Project project = projectOf(import, "devices");
    ASSERT_EQ(project.sheets.size(), 8u);
    EXPECT_EQ(project.sheet().parts.size(), 7u);
    const PartKind winding = moduleKind(project.sheets[1], partLibrary().catalogue());
    EXPECT_EQ(winding.pins.size(), 2u);
    const PartKind sense = moduleKind(project.sheets[2], partLibrary().catalogue());
    ASSERT_EQ(sense.pins.size(), 4u);
    // 2 A through the current sense show 2 V.
    Circuit c;
    c.add("dc-current", "I1", {"0", "in"}, {{"level", "2"}})
        .add("resistor", "R1", {"sig", "0"}, {{"r", "1k"}})
        .plan("1u");
    place(c, project.sheets[2], {{"in", "in"}, {"out", "0"}, {"sig", "sig"}, {"gnd", "0"}});
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_NEAR(at(*r, "sig.v", 0.5e-6), 2, 1e-6);
}

TEST(Cards, BrokenTextNeverDoesMoreThanRemark) {
    const std::string whole = exampleCards();
    std::mt19937 random(3);
    for (int trial = 0; trial < 300; ++trial) {
        std::string text = whole;
        for (int k = 0; k < 1 + trial % 6; ++k) {
            const std::size_t at = random() % text.size();
            switch (random() % 4) {
                case 0:
                    text[at] = static_cast<char>(random() % 256);
                    break;
                case 1:
                    text.erase(at, random() % 20);
                    break;
                case 2:
                    text.insert(at, text.substr(random() % text.size(), random() % 30));
                    break;
                default:
                    text.insert(at, "\n");
            }
            if (text.empty()) text = " ";
        }
        CancelToken stopped;
        stopped.cancel();  // the grammar is what is tried, not the curves
        const CardImport import = importCards(text, 10, stopped);
        for (const CardRemark& remark : import.remarks) EXPECT_FALSE(remark.why.empty());
    }
}

// Lines on rung 2 come the nearer to the curve of the card the more of them there are: by their number squared.
TEST(Cards, MoreStraightLinesComeNearer) {
    double before = 1;
    for (const int count : {1, 2, 4, 8}) {
        const CardImport import = importCards(
            ".model D1 D(IS=2n N=1.5 RS=4m)\n.subckt two a k\nDA a m D1\nDB m k D1\n.ends\n", 10, CancelToken(), count);
        ASSERT_EQ(import.devices.size(), 1u);
        const ImportedDevice& d = import.devices.front();
        EXPECT_LT(d.residual, 0.6 * before) << count;
        before = d.residual;
        // v = N V_T ln(i / I_S + 1) + R_S i, by running rung 2.
        double worst = 0;
        for (const double i : {1.0, 1.7, 3.0, 5.0, 7.5, 10.0}) {
            Circuit c;
            c.add("dc-current", "I1", {"0", "a"}, {{"level", std::to_string(i)}}).plan("2u");
            Circuit::Values none = {};
            c.add("diode", "D1", {"a", "0"}, none, 2);
            for (const ParameterKind& parameter : partLibrary().catalogue().find("diode")->parameters)
                if (const std::string* text = d.part.values.find(parameter.key)) c.set("D1", parameter.key, *text);
            const auto r = run(c);
            ASSERT_TRUE(r);
            const double exact = 1.5 * 0.025693 * std::log(i / 2e-9 + 1) + 0.004 * i;
            worst = largestOf(worst, std::abs(at(*r, "D1.v", 1.9e-6) - exact));
        }
        EXPECT_LT(worst, d.residual + 2e-3) << count;
        ASSERT_EQ(import.modules.size(), 1u);
        for (const Part& part : import.modules.front().parts)
            if (part.kind == "diode" && count > 1) {
                EXPECT_EQ(*part.values.find("curve"), *d.part.values.find("curve"));
            }
    }
    EXPECT_LT(before, 3e-3);
}

// A divider of dividers: each instance has its own resistance, by its parameter, and its own inner net.
TEST(Cards, SubcircuitsStandInOthersWithTheirOwnParameters) {
    const Sheet module = onlyModule(
        ".subckt outer in out gnd params: big=3k\n"
        "X1 in m gnd half r={big}\n"
        "X2 m out gnd half params: r=1k\n"
        ".ends\n"
        ".subckt half a b g params: r=2k twice={2*r}\n"
        "R1 a mid {r/2}\n"
        "R2 mid b {r/2}\n"
        "R3 b g {twice}\n"
        ".ends\n"
        ".subckt use in out gnd\nXA in out gnd outer\n.ends\n");
    ASSERT_EQ(module.name, "use");
    ASSERT_EQ(
        std::count_if(module.parts.begin(), module.parts.end(), [](const Part& p) { return p.kind == "resistor"; }), 6);
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "RL", {"out", "0"}, {{"r", "1G"}})
        .plan("1u");
    place(c, module, {{"in", "in"}, {"out", "out"}, {"gnd", "0"}});
    const auto r = run(c);
    ASSERT_TRUE(r);
    // 3k, then 6k beside (1k + 2k): 2k; so 10 V 2 / 5, and two thirds of it.
    EXPECT_NEAR(at(*r, "out.v", 0.5e-6), 10 * 2.0 / 5 * 2 / 3, 1e-4);
}

// A model inside a subcircuit depends on a parameter of the instance: the two diodes differ by their resistance.
TEST(Cards, InstancesHaveModelsOfTheirOwn) {
    const CardImport import = importCards(
        ".subckt dd a k params: rs=10m\n.model dm D(IS=1n RS={rs})\nD1 a k dm\n.ends\n"
        ".subckt two a k b\nX1 a k dd\nX2 b k dd rs=1\n.ends\n",
        1, CancelToken());
    ASSERT_EQ(import.modules.size(), 2u);
    std::map<std::string, std::string> resistance;
    for (const Part& part : import.modules[1].parts)
        if (part.kind == "diode") resistance[part.name] = *part.values.find("ron");
    EXPECT_EQ(resistance, (std::map<std::string, std::string>{{"D1_X1", "0.01"}, {"D1_X2", "1"}}));
    ASSERT_TRUE(device(import, "dm") && device(import, "dm_X2"));
    EXPECT_EQ(valueOf(*device(import, "dm"), "ron"), 0.01);
    EXPECT_EQ(valueOf(*device(import, "dm_X2"), "ron"), 1);
}

TEST(Cards, SubcircuitsThatDoNotFitAreListed) {
    const CardImport import = importCards(
        ".subckt loop a b\nR1 a b 1\nX1 a b loop\n.ends\n"
        ".subckt user a b\nX1 a b none\nX2 a loop\nX3\nX4 a b loop r={q}\n.ends\n",
        1, CancelToken());
    EXPECT_TRUE(remarked(import.remarks, 3, "more deeply"));
    EXPECT_TRUE(remarked(import.remarks, 6, "no subcircuit 'none'"));
    EXPECT_TRUE(remarked(import.remarks, 7, "has 2 pins, but 1 nets"));
    EXPECT_TRUE(remarked(import.remarks, 8, "name of a subcircuit"));
    EXPECT_TRUE(remarked(import.remarks, 9, "'q' has no value here"));
    // Two instances in each of twenty are a million: it ends in time.
    std::string many;
    for (int i = 0; i < 20; ++i)
        many += ".subckt s" + std::to_string(i) + " a b\nX1 a b s" + std::to_string(i + 1) + "\nX2 a b s" +
                std::to_string(i + 1) + "\n.ends\n";
    many += ".subckt s20 a b\nR1 a b 1\n.ends\n";
    const CardFile file = readCards(many);
    EXPECT_TRUE(remarked(file.remarks, 1, "more than 5000 elements"));
}

// i = G (v - v0)^2 above v0, and a voltage that is a product of a current and a voltage.
TEST(Cards, SourcesByFormulaAreTaken) {
    const Sheet module = onlyModule(
        ".param g=2m\n"
        ".subckt law a b out gnd params: v0=1\n"
        "BG x b I={g*uramp(v(x,b) - v0)^2}\n"
        "VS a x 0\n"
        "BP out gnd V = 100*i(VS)*v(a, b)*u(1) + sin(0)\n"
        ".ends\n");
    Circuit c;
    c.add("points-voltage", "V1", {"a", "0"}, {{"points", "0 0, 1m 5"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "1k"}})
        .plan("1m", "1e-6");
    place(c, module, {{"a", "a"}, {"b", "0"}, {"out", "out"}, {"gnd", "0"}});
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    for (const double t : {0.1e-3, 0.5e-3, 0.9e-3}) {
        const double v = 5e3 * t, i = 2e-3 * std::pow(std::max(v - 1, 0.0), 2);
        EXPECT_NEAR(at(*r, "V1.i", t), -i, 1e-6);
        EXPECT_NEAR(at(*r, "out.v", t), 100 * i * v, 1e-3);
    }
}

// p0 + p1 x + p2 y + p3 x^2 + p4 x y + p5 y^2, by voltages and by currents.
TEST(Cards, PolynomialsAreTaken) {
    const Sheet module = onlyModule(
        ".subckt poly a b o1 o2 o3 gnd\n"
        "E1 o1 gnd POLY(2) a gnd b gnd 1 2 3 4 5 6\n"
        "VA a ia 0\nRA ia gnd 1\n"
        "VB b ib 0\nRB ib gnd 2\n"
        "H1 o2 gnd POLY(2) VA VB 0 0 0 0 1\n"
        "G1 gnd o3 POLY(1) a gnd 3\n"
        "RO o3 gnd 1\n"
        ".ends\n");
    Circuit c;
    const double a = 1.5, b = -2;
    c.add("dc-voltage", "V1", {"a", "0"}, {{"level", "1.5"}})
        .add("dc-voltage", "V2", {"b", "0"}, {{"level", "-2"}})
        .add("resistor", "R1", {"o1", "0"}, {{"r", "1k"}})
        .add("resistor", "R2", {"o2", "0"}, {{"r", "1k"}})
        .plan("10u");
    place(c, module, {{"a", "a"}, {"b", "b"}, {"o1", "o1"}, {"o2", "o2"}, {"o3", "o3"}, {"gnd", "0"}});
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_NEAR(at(*r, "o1.v", 5e-6), 1 + 2 * a + 3 * b + 4 * a * a + 5 * a * b + 6 * b * b, 1e-4);
    EXPECT_NEAR(at(*r, "o2.v", 5e-6), a * b / 2, 1e-5);
    EXPECT_NEAR(at(*r, "o3.v", 5e-6), 3 * a, 1e-5);
}

// Two windings at 1 : 3, coupled without leakage: the open one shows three times the voltage.
TEST(Cards, CouplingsJoinInductors) {
    const Sheet module =
        onlyModule(".subckt tr a b c d\nL1 a b 100u\nL2 c d 900u\nL3 e f 1u\nRE e f 1\nRF f b 1\nK1 L1 L2 1\n.ends\n");
    Circuit c;
    c.add("dc-voltage", "V1", {"a", "0"}, {{"level", "2"}})
        .add("resistor", "R1", {"c", "0"}, {{"r", "1M"}})
        .plan("10u");
    place(c, module, {{"a", "a"}, {"b", "0"}, {"c", "c"}, {"d", "0"}});
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_NEAR(at(*r, "c.v", 5e-6), 6, 1e-3);
    EXPECT_NEAR(at(*r, "V1.i", 5e-6), -2 / 100e-6 * 5e-6, 1e-3);
    const CardImport import =
        importCards(".subckt bad a b\nL1 a b 1u\nK1 L1 L9 0.5\nK2 L1 L1 2\nK3 L1\n.ends\n", 1, CancelToken());
    EXPECT_TRUE(remarked(import.remarks, 3, "no inductor 'l9'"));
    EXPECT_TRUE(remarked(import.remarks, 4, "coupling from -1 to 1"));
    EXPECT_TRUE(remarked(import.remarks, 5, "coupling from -1 to 1"));
}

// Level 1: i = K_P W / (2 L) (v_gs - V_TO)^2 in saturation; an inverter of both kinds switches between its rails.
TEST(Cards, FieldEffectTransistorsWorkInAModule) {
    const std::string cards =
        ".model mn NMOS(LEVEL=1 VTO=1 KP=100u LAMBDA=0.01 CGSO=1n CGDO=1n)\n"
        ".model mp PMOS(LEVEL=1 VTO=-1.2 KP=50u LAMBDA=0.01 CGSO=1n CGDO=1n)\n";
    const CardImport import = importCards(
        cards +
            ".subckt sat d g s\nM1 d g s s mn W=2m L=100u\n.ends\n"
            ".subckt inv in out vcc gnd\nM1 out in gnd gnd mn W=1m L=10u\nM2 out in vcc vcc mp W=2m L=10u\n.ends\n",
        1, CancelToken());
    ASSERT_EQ(import.modules.size(), 2u);
    ASSERT_TRUE(device(import, "mp"));
    EXPECT_EQ(*device(import, "mp")->values.find("channel"), "p-channel");
    EXPECT_EQ(device(import, "mn")->kind, "mosfet");
    {
        Circuit c;
        c.add("dc-voltage", "VD", {"d", "0"}, {{"level", "10"}})
            .add("dc-voltage", "VG", {"g", "0"}, {{"level", "3"}})
            .plan("10u");
        place(c, import.modules[0], {{"d", "d"}, {"g", "g"}, {"s", "0"}});
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        EXPECT_RELATIVE(-at(*r, "VD.i", 9e-6), 100e-6 * 20 / 2 * (3 - 1) * (3 - 1) * (1 + 0.01 * 10), 0.03);
    }
    Circuit c;
    c.add("points-voltage", "VI", {"in", "0"}, {{"points", "0 0, 1u 0, 1.1u 5, 2u 5, 2.1u 0"}})
        .add("dc-voltage", "VC", {"vcc", "0"}, {{"level", "5"}})
        .add("capacitor", "CL", {"out", "0"}, {{"c", "1p"}})
        .plan("3u");
    place(c, import.modules[1], {{"in", "in"}, {"out", "out"}, {"vcc", "vcc"}, {"gnd", "0"}});
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_NEAR(at(*r, "out.v", 0.9e-6), 5, 0.01);
    EXPECT_NEAR(at(*r, "out.v", 1.9e-6), 0, 0.01);
    EXPECT_NEAR(at(*r, "out.v", 2.9e-6), 5, 0.01);
}

TEST(Cards, WhatFormulasAndTransistorsCannotTakeIsListed) {
    const CardImport import = importCards(
        ".model mn NMOS(VTO=2 KP=1)\n"
        ".subckt s a b c d\n"
        "B1 a b V=v(a)+v(b)+v(c)+v(d)\n"
        "B2 a b V=i(none)\n"
        "B3 a b Q=v(a)\n"
        "B4 a b V=v(a,b,c)\n"
        "B5 a b I=frob(v(a))\n"
        "E1 a b POLY(4) a b a b a b a b 1\n"
        "E2 a b POLY(2) a b 1\n"
        "M1 a b c d mn AD=1p\n"
        "M2 a b c c none\n"
        ".ends\n",
        1, CancelToken());
    EXPECT_TRUE(remarked(import.remarks, 3, "reads 4 voltages"));
    EXPECT_TRUE(remarked(import.remarks, 4, "i(none) is no voltage"));
    EXPECT_TRUE(remarked(import.remarks, 5, "V = formula or I = formula"));
    EXPECT_TRUE(remarked(import.remarks, 6, "v(a,b,c) is no voltage"));
    EXPECT_TRUE(remarked(import.remarks, 7, "no function frob"));
    EXPECT_TRUE(remarked(import.remarks, 8, "1 to 3 inputs"));
    EXPECT_TRUE(remarked(import.remarks, 9, "not complete"));
    EXPECT_TRUE(remarked(import.remarks, 10, "joined to its source"));
    EXPECT_TRUE(remarked(import.remarks, 10, "AD is not taken"));
    EXPECT_TRUE(remarked(import.remarks, 11, "no card of a field-effect transistor"));
}

// The jigs of the model desk: figures against closed forms of the models, rung by rung.

#include <cmath>
#include <map>

#include <fmt/format.h>

#include "model/edits.h"
#include "model/history.h"
#include "desk/jigs.h"
#include "runs/registry.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

JigResult tried(const char* kind, const char* jig, Circuit::Values values, const JigPoint& point = {}) {
    Part device;
    device.name = "Q1";
    device.kind = kind;
    for (const auto& [key, text] : values) device.values.set(key, text);
    for (const Jig& one : jigsFor(*partLibrary().catalogue().find(kind)))
        if (one.name == jig) {
            Project project;
            Parameter rr;
            rr.name = "rr";
            rr.value = "20m";
            rr.unit = "Ω";
            project.parameters = {rr};
            auto result = runJig(project, device, one, point, CancelToken());
            if (!result) {
                ADD_FAILURE() << result.error().text();
                return {};
            }
            for (const std::string& failure : result->failures) ADD_FAILURE() << failure;
            return *result;
        }
    ADD_FAILURE() << kind << " has no jig " << jig;
    return {};
}

double figure(const JigResult& result, const std::string& key, int rung) {
    for (const JigFigure& figure : result.figures)
        if (figure.key == key)
            for (const auto& [at, value] : figure.byRung)
                if (at == rung) return value;
    ADD_FAILURE() << "no " << key << " on rung " << rung;
    return NAN;
}

}  // namespace

TEST(Jigs, ConductionIsResistanceAndKnee) {
    const auto mosfet = tried("mosfet", "conduction", {{"ron", "rr"}});
    EXPECT_EQ(figure(mosfet, "Von", 1), 0);
    for (const int rung : {2, 3, 4}) EXPECT_RELATIVE(figure(mosfet, "Von2", rung), 5 * 20e-3, rung == 4 ? 0.03 : 1e-3);
    const auto igbt = tried("igbt", "conduction", {{"vce", "1.1"}, {"ron", "20m"}});
    for (const int rung : {2, 3, 4}) EXPECT_NEAR(figure(igbt, "Von", rung), 1.3, rung == 4 ? 0.05 : 2e-3) << rung;
    const auto diode = tried("diode", "conduction", {{"vf", "0.8"}, {"ron", "10m"}});
    for (const int rung : {2, 3}) EXPECT_NEAR(figure(diode, "Von", rung), 0.9, 2e-3);
    ASSERT_EQ(diode.curves.size(), 4u);
    EXPECT_GT(diode.curves[1].x.back(), diode.curves[1].x.front());
}

TEST(Jigs, ReverseConduction) {
    const auto gan = tried("gan-hemt", "reverse conduction",
                           {{"vth", "1.4"}, {"voff", "-2"}, {"gm", "50"}, {"vf", "3.4"}, {"rd", "20m"}});
    EXPECT_RELATIVE(figure(gan, "Vrev", 3), 1.4 + 2 + 10.0 / 50, 1e-2);
    EXPECT_RELATIVE(figure(gan, "Vrev", 2), 3.4 + 0.2, 1e-3);
}

TEST(Jigs, CapacitanceIsWhatTheDataSheetGave) {
    const auto mosfet =
        tried("mosfet", "capacitance", {{"coss", "400p"}, {"crss", "50p"}, {"vc", "40"}}, {.voltage = 40});
    // Through the gate resistance the gate moves a little; the leak adds 4 uA at 4 V/us.
    EXPECT_RELATIVE(figure(mosfet, "C", 3), 400e-12, 0.02);
    EXPECT_RELATIVE(figure(mosfet, "C", 4), 400e-12, 0.03);
    EXPECT_GT(figure(mosfet, "C2", 4), 450e-12) << "more at half the voltage, on rung 4";
    EXPECT_RELATIVE(figure(mosfet, "C2", 3), 400e-12, 0.02);
    const auto diode =
        tried("diode", "capacitance", {{"cj", "200p"}, {"phi", "0.8"}, {"grading", "0.5"}}, {.voltage = 20});
    EXPECT_RELATIVE(figure(diode, "C", 4), 200e-12 / std::sqrt(1 + 20 / 0.8), 0.05);
}

// Q_g: C_iss over the whole swing, and C_rss times the fall of the drain.
// Along the points of a data sheet rung 4 shows them, and nothing of the formula.
TEST(Jigs, CapacitancesFollowTheirPoints) {
    JigPoint point;
    point.voltage = 60;
    for (const char* kind : {"mosfet", "igbt", "gan-hemt"}) {
        const auto shown = tried(kind, "capacitance",
                                 {{"cosscurve", "0 3n, 10 1n, 30 400p, 60 250p"},
                                  {"crsscurve", "0 800p, 10 90p, 60 20p"},
                                  {"ciss", "5n"},
                                  {"lpk", "1p"},
                                  {"rg", "100m"}},
                                 point);
        ASSERT_EQ(shown.points.size(), 4u) << kind;
        EXPECT_EQ(shown.points[1], std::pair(10.0, 1e-9));
        EXPECT_LT(figure(shown, "distance", 4), 0.03) << kind;
        EXPECT_RELATIVE(figure(shown, "C2", 4), 400e-12, 0.03) << kind;
        EXPECT_GT(figure(shown, "distance", 3), 0.3) << "rung 3 has constant ones";
    }
    const auto diode = tried("diode", "capacitance", {{"cjcurve", "0 500p, 20 100p, 60 60p"}}, point);
    EXPECT_LT(figure(diode, "distance", 4), 0.03);
    EXPECT_RELATIVE(figure(diode, "C", 4), 60e-12, 0.03);
    const auto conducting = tried("diode", "conduction", {{"curve", "0.6 0, 0.8 5, 1 10"}});
    ASSERT_EQ(conducting.points.size(), 3u);
    EXPECT_LT(figure(conducting, "distance", 2), 1e-3);
    EXPECT_GT(figure(conducting, "distance", 4), 1e-3);
}

TEST(Jigs, PointsThatCannotBeAreRefusedByTheirField) {
    for (const auto& [kind, key, text] : {std::tuple{"mosfet", "cosscurve", "1 3n, 10 1n"},
                                          {"mosfet", "crsscurve", "0 3n, 10 -1n"},
                                          {"gan-hemt", "cosscurve", "0 3n, 0 1n"},
                                          {"igbt", "cosscurve", "none.csv"},
                                          {"mosfet-with-gate-pin", "cosscurve", "frog"},
                                          {"zener", "cjcurve", "5 1n"},
                                          {"diode", "cjcurve", "0 1n, 3"}}) {
        Circuit c;
        const bool diode = std::string(kind) == "zener" || std::string(kind) == "diode";
        c.add("dc-voltage", "V1", {"a", "0"}, {{"level", "5"}}).add("resistor", "R1", {"a", "d"}, {{"r", "1"}});
        c.add("constant", "K1", {std::string(kind) == "mosfet-with-gate-pin" ? "none" : "g"}, {{"value", "0"}});
        const std::vector<std::string> pins = diode ? std::vector<std::string>{"0", "d"}
                                              : std::string(kind) == "mosfet-with-gate-pin"
                                                  ? std::vector<std::string>{"d", "a", "0"}
                                                  : std::vector<std::string>{"d", "0", "g"};
        c.add(kind, "Q1", pins, {{key, text}}, 4).plan("1u");
        const auto prepared = Run::prepare(std::make_shared<Project>(c.project()), {});
        ASSERT_FALSE(prepared) << kind << " " << text;
        EXPECT_EQ(prepared.error().part, "Q1") << prepared.error().text();
        EXPECT_EQ(prepared.error().field, key) << prepared.error().text();
    }
}

// I = C dv/dt along straight capacitances: q(v) = 3n v - 2n v^2 / 20 up to 10 V.
TEST(Jigs, ACurrentChargesTheOutputAlongItsPoints) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "d"}, {{"level", "10m"}})
        .add("mosfet-with-gate-pin", "Q1", {"d", "0", "0"},
             {{"cosscurve", "0 3n, 10 1n"}, {"crsscurve", "0 100p, 10 100p"}, {"rg", "1m"}, {"lpk", "0"}, {"is", "1f"}},
             4)
        .plan("1.9u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    for (const double t : {0.5e-6, 1e-6, 1.8e-6}) {
        const double v = at(*r, "Q1.v", t);
        EXPECT_RELATIVE(3e-9 * v - 0.1e-9 * v * v, 10e-3 * t, 2e-3);
    }
}

// On rung 3 the same charges in straight pieces, by either engine: 2.2 nF up to 5 V, 1.2 nF up to 10 V, 1 nF beyond.
TEST(Jigs, ACurrentChargesTheOutputInStraightPieces) {
    for (const char* engine : {"adaptive", "exact"})
        for (const char* channel : {"n-channel", "p-channel"}) {
            const bool p = *channel == 'p';
            Circuit c;
            c.add("dc-current", "I1", {p ? "d" : "0", p ? "0" : "d"}, {{"level", "10m"}})
                .add("mosfet-with-gate-pin", "Q1", {"d", "0", "0"},
                     {{"channel", channel},
                      {"cosscurve", "0 3n, 5 1.4n, 10 1n"},
                      {"crsscurve", "0 100p, 10 100p"},
                      {"cisscurve", "0 2n, 10 1n"},
                      {"rg", "1m"},
                      {"lpk", "0"},
                      {"roff", "1G"}},
                     3)
                .plan("2.5u", "1e-6");
            c.project().plans.front().engine = engine;
            const auto r = run(c);
            ASSERT_TRUE(r);
            ASSERT_EQ(r->summary().end, RunEnd::finished) << engine << ": " << r->summary().brief();
            for (const auto& [t, v] : {std::pair{0.5e-6, 5.0 / 2.2}, {1.5e-6, 5 + 4 / 1.2}, {2.2e-6, 10 + 5.0}})
                EXPECT_RELATIVE(std::abs(at(*r, "Q1.v", t)), v, 2e-3) << engine << channel;
        }
}

TEST(Jigs, GateChargeIsThatOfTheCapacitances) {
    const auto mosfet =
        tried("mosfet", "gate charge",
              {{"ciss", "3n"}, {"crss", "50p"}, {"von", "12"}, {"voff", "0"}, {"vth", "3"}, {"gm", "40"}, {"lpk", "0"}},
              {.voltage = 48});
    EXPECT_RELATIVE(figure(mosfet, "Qg", 3), 3e-9 * 12 + 50e-12 * 48, 0.02);
    EXPECT_NEAR(figure(mosfet, "Vgp", 3), 3 + 10.0 / 40, 0.7);
    EXPECT_RELATIVE(figure(mosfet, "Qgd", 3), 50e-12 * 48 * 0.8, 0.6);
}

// Slower drives cost more; without a loop inductance nothing overshoots by much.
TEST(Jigs, SwitchingFollowsTheDrive) {
    const JigPoint point{.voltage = 48, .current = 10, .loop = 1e-9};
    const auto fast = tried("mosfet", "turning off", {{"rg", "2"}, {"lpk", "1n"}}, point),
               slow = tried("mosfet", "turning off", {{"rg", "30"}, {"lpk", "1n"}}, point);
    for (const int rung : {3, 4}) {
        EXPECT_GT(figure(slow, "Eoff", rung), 2 * figure(fast, "Eoff", rung)) << rung;
        EXPECT_GT(figure(fast, "dvdt_off", rung), figure(slow, "dvdt_off", rung));
        EXPECT_GE(figure(fast, "Vpeak", rung), 48 * 0.98);
    }
    const auto on = tried("mosfet", "turning on", {{"rg", "30"}, {"lpk", "1n"}}, point);
    // Channel and gate alone: i rises by g_m v_gs, whose exponential runs to V_on: in R_g C_iss ln(...).
    const double c = 3e-9, v0 = 12, up = 30 * c * std::log((v0 - 3 - 1.0 / 40) / (v0 - 3 - 9.0 / 40));
    EXPECT_RELATIVE(figure(on, "didt_on", 3), 8 / up, 0.5);
    EXPECT_GT(figure(on, "Eon", 3), 0);
    const auto large = tried("mosfet", "turning off", {{"lpk", "10n"}}, {.voltage = 48, .current = 20, .loop = 40e-9});
    EXPECT_GT(figure(large, "over", 3), 10);
}

// P. O. Lauritzen, C. L. Ma (1991): I_rm of a straight fall solves a tau (T_0 + tau - t - tau e^(-t / tau)) = T_M (a t
// - I).
TEST(Jigs, RecoveryIsThatOfTheChargeModel) {
    const auto diode =
        tried("diode", "recovery", {{"tau", "100n"}, {"tm", "50n"}, {"ron", "1m"}, {"vf", "0.7"}, {"cj", "1p"}},
              {.voltage = 50, .current = 10, .slope = 200e6});
    const double slope = 200e6, start = 10, tau = 100e-9, transit = 50e-9;
    double low = start / slope, high = low + 10 * tau;
    for (int k = 0; k < 200; ++k) {
        const double t = (low + high) / 2;
        const double charge = slope * tau * (start / slope + tau - t - tau * std::exp(-t / tau));
        (charge > transit * (slope * t - start) ? low : high) = t;
    }
    EXPECT_RELATIVE(figure(diode, "Irm", 3), slope * low - start, 0.05);
    EXPECT_GT(figure(diode, "Qrr", 3), 0.5 * (slope * low - start) * (low - start / slope));
}

TEST(Jigs, EveryDeviceRunsThroughEveryJig) {
    int count = 0;
    for (const PartKind* kind : partLibrary().catalogue().all())
        for (const Jig& jig : jigsFor(*kind)) {
            const auto result = tried(kind->id.c_str(), jig.name.c_str(), {});
            EXPECT_FALSE(result.curves.empty()) << kind->id << " " << jig.name;
            for (const JigCurve& curve : result.curves) {
                ASSERT_EQ(curve.x.size(), curve.y.size());
                for (std::size_t i = 0; i < curve.x.size(); ++i)
                    ASSERT_TRUE(std::isfinite(curve.x[i]) && std::isfinite(curve.y[i]));
            }
            ++count;
        }
    EXPECT_EQ(count, 3 * 7 + 2 * 3);
    EXPECT_TRUE(jigsFor(*partLibrary().catalogue().find("resistor")).empty());
}

TEST(Jigs, FiguresOfADataSheetStandBeside) {
    const auto result = tried("diode", "recovery", {{"sheet", "Qrr 300n, Irm 8"}});
    int given = 0;
    for (const JigFigure& figure : result.figures)
        if (figure.given) {
            ++given;
            EXPECT_DOUBLE_EQ(*figure.given, figure.key == "Qrr" ? 300e-9 : 8);
        }
    EXPECT_EQ(given, 2);
    EXPECT_TRUE(sheetFigures("")->empty());
    EXPECT_FALSE(sheetFigures("Qrr"));
    EXPECT_FALSE(sheetFigures("Qrr 3x"));
}

TEST(Jigs, StopWhenAskedAndSayWhichRungFails) {
    Part device;
    device.name = "D1";
    device.kind = "diode";
    const Jig jig = jigsFor(*partLibrary().catalogue().find("diode")).front();
    CancelToken stopped;
    stopped.cancel();
    EXPECT_FALSE(runJig({}, device, jig, {}, stopped));
    device.values.set("ron", "20M");
    const auto result = runJig({}, device, jig, {}, CancelToken());
    ASSERT_FALSE(result);
    EXPECT_NE(result.error().message.find("on-resistance"), std::string::npos) << result.error().text();
}

// From the figures of a device back to its values: those that it was made with.
TEST(Fitting, FindsTheValuesThatTheFiguresCameFrom) {
    const JigPoint point{.voltage = 48, .current = 10};
    Part made;
    made.name = "Q1";
    made.kind = "mosfet";
    for (const auto& [key, text] :
         {std::pair{"ron", "14m"}, {"ciss", "5n"}, {"coss", "700p"}, {"crss", "80p"}, {"tau", "90n"}, {"tm", "45n"}})
        made.values.set(key, text);
    std::string sheet;
    for (const Jig& jig : jigsFor(*partLibrary().catalogue().find("mosfet"))) {
        if (jig.name.starts_with("turning") || jig.name.starts_with("reverse")) continue;
        const auto result = runJig({}, made, jig, point, CancelToken(), 3);
        ASSERT_TRUE(result);
        for (const JigFigure& figure : result->figures)
            for (const char* wanted : {"Von", "C", "Qg", "Qgd", "Qrr", "Irm"})
                if (figure.key == wanted) sheet += fmt::format("{} {:.9g}, ", wanted, figure.byRung.front().second);
    }
    Part blank;
    blank.name = "Q2";
    blank.kind = "mosfet";
    blank.values.set("sheet", sheet);
    const auto fit = fitToFigures({}, blank, point, CancelToken());
    ASSERT_TRUE(fit) << fit.error().text();
    EXPECT_TRUE(fit->unmet.empty()) << fit->unmet.front();
    std::map<std::string, std::string> values(fit->values.begin(), fit->values.end());
    EXPECT_RELATIVE(std::stod(values["ron"]), 14e-3, 0.01);
    EXPECT_RELATIVE(std::stod(values["ciss"]), 5e-9, 0.03);
    EXPECT_RELATIVE(std::stod(values["coss"]), 700e-12, 0.05);
    EXPECT_RELATIVE(std::stod(values["crss"]), 80e-12, 0.15);
    EXPECT_RELATIVE(std::stod(values["tau"]), 90e-9, 0.1);
    EXPECT_RELATIVE(std::stod(values["tm"]), 45e-9, 0.15);
}

// R(T) = R (T / 298.15 K)^k_T: shown at the hot temperature, and found back from resistances at two.
TEST(Fitting, FollowsTheResistanceAtTwoTemperatures) {
    for (const char* kind : {"mosfet", "gan-hemt"}) {
        const JigPoint point{.voltage = 48, .current = 2, .hot = 150};
        const double ratio = std::pow(423.15 / 298.15, 1.6);
        Part device;
        device.name = "Q1";
        device.kind = kind;
        device.values.set("sheet", fmt::format("Ron 20m, Rhot {:.9g}", 20e-3 * ratio));
        const auto fit = fitToFigures({}, device, point, CancelToken());
        ASSERT_TRUE(fit) << fit.error().text();
        EXPECT_TRUE(fit->unmet.empty()) << fit->unmet.front();
        for (const auto& [key, text] : fit->values) device.values.set(key, text);
        EXPECT_NEAR(std::stod(*device.values.find("kt")), 1.6, 1e-3);
        EXPECT_NEAR(std::stod(*device.values.find("ron")), 20e-3, 1e-6);
        for (const Jig& jig : jigsFor(*partLibrary().catalogue().find(kind))) {
            if (jig.name != "conduction") continue;
            const auto shown = runJig({}, device, jig, point, CancelToken());
            ASSERT_TRUE(shown);
            EXPECT_RELATIVE(figure(*shown, "Rhot", 4), 20e-3 * ratio, 0.02) << kind;
            EXPECT_RELATIVE(figure(*shown, "Ron", 4), 20e-3, 0.02) << kind;
            EXPECT_RELATIVE(figure(*shown, "Ron", 2), 20e-3, 1e-3) << kind;
        }
        device.values.set("sheet", "Ron 20m, Rhot 10m");
        const auto falling = fitToFigures({}, device, point, CancelToken());
        ASSERT_TRUE(falling);
        EXPECT_EQ(falling->unmet, std::vector<std::string>{"Rhot"}) << "a resistance that falls";
    }
}

TEST(Fitting, PutsKneesAndEnergiesWhereTheyBelong) {
    Part igbt;
    igbt.name = "Q1";
    igbt.kind = "igbt";
    igbt.values.set("sheet", "Von 1.6, Von2 1.3, Vrev 1.4, Vrev2 1.2, Eon 120u, Eoff 80u, Nonsense 3");
    const auto fit = fitToFigures({}, igbt, {.voltage = 400, .current = 20}, CancelToken());
    ASSERT_TRUE(fit) << fit.error().text();
    std::map<std::string, std::string> values(fit->values.begin(), fit->values.end());
    EXPECT_RELATIVE(std::stod(values["ron"]), 0.3 / 10, 1e-3);
    EXPECT_RELATIVE(std::stod(values["vce"]), 1.0, 1e-3);
    EXPECT_RELATIVE(std::stod(values["rd"]), 0.2 / 10, 1e-3);
    EXPECT_RELATIVE(std::stod(values["vf"]), 1.0, 1e-3);
    EXPECT_EQ(values["eon"], "400 25: 20 0.00012");
    EXPECT_EQ(fit->unmet, std::vector<std::string>{"Nonsense"});
    for (const auto& [key, text] : fit->values) igbt.values.set(key, text);
    Part diode;
    diode.kind = "diode";
    EXPECT_FALSE(fitToFigures({}, diode, {}, CancelToken())) << "nothing to meet";
}

// What a data sheet leaves out follows by the stated rules, and is marked until somebody types it.
TEST(Fitting, EstimatesWhatIsNotGivenAndSaysSo) {
    Project project;
    Part diode;
    diode.id = 1;
    diode.name = "D1";
    diode.kind = "diode";
    diode.values.set("sheet", "Qrr 250n");
    const auto fit = fitToFigures(project, diode, {.voltage = 100, .current = 10}, CancelToken());
    ASSERT_TRUE(fit) << fit.error().text();
    std::map<std::string, std::string> values(fit->values.begin(), fit->values.end());
    EXPECT_EQ(values["estimated"], "tm");
    EXPECT_RELATIVE(std::stod(values["tm"]), std::stod(values["tau"]) / 2, 1e-2);
    EXPECT_TRUE(fit->unmet.empty());
    for (const auto& [key, text] : fit->values) diode.values.set(key, text);
    project.sheet().parts.push_back(diode);
    History history(project);
    ASSERT_TRUE(history.apply(edits::setValue({1}, "tau", "90n")));
    EXPECT_EQ(*history.project().findPart(1)->values.find("estimated"), "tm") << "it is another value";
    ASSERT_TRUE(history.apply(edits::setValue({1}, "tm", "40n")));
    EXPECT_EQ(history.project().findPart(1)->values.find("estimated"), nullptr);

    // What was typed is no estimate's business.
    Part typed;
    typed.name = "D2";
    typed.kind = "diode";
    typed.values.set("tm", "20n");
    typed.values.set("sheet", "Qrr 250n");
    const auto third = fitToFigures({}, typed, {.voltage = 100, .current = 10}, CancelToken());
    ASSERT_TRUE(third) << third.error().text();
    values = {third->values.begin(), third->values.end()};
    EXPECT_TRUE(values.contains("tau"));
    EXPECT_FALSE(values.contains("tm"));
    EXPECT_FALSE(values.contains("estimated"));

    Part transistor;
    transistor.name = "Q1";
    transistor.kind = "mosfet";
    transistor.values.set("sheet", "C 500p");
    const auto second = fitToFigures({}, transistor, {.voltage = 50, .current = 10}, CancelToken());
    ASSERT_TRUE(second) << second.error().text();
    values = {second->values.begin(), second->values.end()};
    EXPECT_EQ(values["estimated"], "crss");
    EXPECT_RELATIVE(std::stod(values["crss"]), std::stod(values["coss"]) / 10, 1e-3);
}

// Small windings between large voltages: what starts from rest starts with the currents of a rest.
TEST(Jigs, StartFromRestWithCurrentsThatBelongThere) {
    const auto turned = tried("mosfet", "turning off",
                              {{"ron", "60m"},
                               {"vth", "3.5"},
                               {"gm", "25"},
                               {"rg", "15"},
                               {"ciss", "1.2n"},
                               {"coss", "120p"},
                               {"crss", "12p"},
                               {"lpk", "5n"},
                               {"tau", "80n"},
                               {"tm", "40n"}});
    for (const JigCurve& curve : turned.curves)
        for (const double i : curve.y)
            if (curve.second) {
                ASSERT_LT(std::abs(i), 40) << "rung " << curve.rung;
            }
    EXPECT_GT(figure(turned, "Eoff", 3), 0.5e-6);
    EXPECT_LT(figure(turned, "Eoff", 3), 5e-6);
}

#include "circuits.h"

namespace hedgerow::bench {

using test::Circuit;

namespace {
std::string text(double v) { return std::to_string(v); }
std::string id(const char* prefix, int k) { return prefix + std::to_string(k); }
}  // namespace

Circuit stepUp(const char* duty, const char* load, const char* v0, const char* i0) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
        .add("inductor", "L1", {"in", "sw"}, {{"l", "47u"}, {"i0", i0}})
        .add("switch", "S1", {"sw", "0", "g"})
        .add("diode", "D1", {"sw", "out"})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "47u"}, {"v0", v0}})
        .add("resistor", "R1", {"out", "0"}, {{"r", load}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "100k"}, {"duty", duty}})
        .plan("0.2", "0.1");
    return c;
}

Circuit threePhaseBridge() {
    Circuit c;
    c.add("dc-voltage", "V1", {"p", "0"}, {{"level", "700"}});
    const char* phases[] = {"a", "b", "c"};
    for (int k = 0; k < 3; ++k) {
        const std::string x = phases[k], leg = "leg" + x, out = "out" + x;
        c.add("sampled-sine", "K" + x, {"ref" + x}, {{"peak", "0.42"}, {"phase", text(-120.0 * k)}, {"rate", "10k"}})
            .add("modulator", "M" + x, {"ref" + x, "g" + x, "h" + x},
                 {{"f", "10k"}, {"dead", "1u"}, {"carrier", "triangle"}})
            .add("igbt", "QU" + x, {"p", leg, "g" + x})
            .add("igbt", "QL" + x, {leg, "0", "h" + x})
            .add("inductor", "L" + x, {leg, out}, {{"l", "2m"}})
            .add("capacitor", "C" + x, {out, "star"}, {{"c", "10u"}})
            .add("resistor", "R" + x, {out, "star"}, {{"r", "20"}});
    }
    c.plan("0.5", "1e-2");
    return c;
}

Circuit sixPulse() {
    Circuit c;
    c.add("three-phase-voltage", "V1", {"a", "b", "c", "0"}, {{"ri", "10m"}, {"li", "300u"}}, 2);
    const char* phases[] = {"a", "b", "c"};
    for (int k = 0; k < 3; ++k)
        c.add("diode", id("DU", k), {phases[k], "p"}).add("diode", id("DL", k), {"m", phases[k]});
    c.add("inductor", "L1", {"p", "out"}, {{"l", "2m"}})
        .add("capacitor", "C1", {"out", "m"}, {{"c", "1m"}, {"v0", "500"}})
        .add("resistor", "R1", {"out", "m"}, {{"r", "20"}})
        .plan("0.5", "1e-2");
    return c;
}

Circuit resonantHalfBridge() {
    Circuit c;
    c.add("dc-voltage", "V1", {"p", "0"}, {{"level", "390"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "95k"}, {"duty", "0.5"}, {"dead", "200n"}})
        .add("mosfet", "QU", {"p", "sw", "g"})
        .add("mosfet", "QL", {"sw", "0", "h"})
        .add("inductor", "LR", {"sw", "x"}, {{"l", "60u"}})
        .add("capacitor", "CR", {"x", "y"}, {{"c", "47n"}, {"v0", "195"}})
        .add("inductor", "LM", {"y", "0"}, {{"l", "300u"}})
        .add("transformer-3", "TR", {"y", "0", "s1", "ct", "ct", "s2"}, {{"n1", "16"}, {"n2", "1"}, {"n3", "1"}})
        .add("diode", "D1", {"s1", "out"})
        .add("diode", "D2", {"s2", "out"})
        .add("resistor", "RG", {"ct", "0"}, {{"r", "1m"}})
        .add("capacitor", "CO", {"out", "ct"}, {{"c", "1m"}, {"v0", "12"}})
        .add("resistor", "RO", {"out", "ct"}, {{"r", "0.6"}})
        .plan("52.631578m", "1e-2");  // 5,000 periods
    return c;
}

Circuit phaseShiftedBridge() {
    Circuit c;
    c.add("dc-voltage", "V1", {"p", "0"}, {{"level", "400"}})
        .add("modulator", "MA", {"", "ga", "ha"}, {{"f", "100k"}, {"duty", "0.5"}, {"dead", "100n"}})
        .add("modulator", "MB", {"", "gb", "hb"}, {{"f", "100k"}, {"duty", "0.5"}, {"dead", "100n"}, {"phase", "0.35"}})
        .add("mosfet", "Q1", {"p", "a", "ga"})
        .add("mosfet", "Q2", {"a", "0", "ha"})
        .add("mosfet", "Q3", {"p", "b", "gb"})
        .add("mosfet", "Q4", {"b", "0", "hb"})
        .add("inductor", "LS", {"a", "x"}, {{"l", "10u"}})
        .add("inductor", "LM", {"x", "b"}, {{"l", "2m"}})
        .add("transformer", "TR", {"x", "b", "s1", "s2"}, {{"n1", "8"}, {"n2", "1"}})
        .add("diode", "D1", {"s1", "rect"})
        .add("diode", "D2", {"s2", "rect"})
        .add("diode", "D3", {"0", "s1"})
        .add("diode", "D4", {"0", "s2"})
        .add("inductor", "LO", {"rect", "out"}, {{"l", "4u"}, {"i0", "40"}})
        .add("capacitor", "CO", {"out", "0"}, {{"c", "470u"}, {"v0", "28"}})
        .add("resistor", "RO", {"out", "0"}, {{"r", "0.7"}})
        .plan("50m", "1e-2");  // 5,000 periods
    return c;
}

Circuit threeLevelBridge() {
    Circuit c;
    c.add("dc-voltage", "VU", {"p", "0"}, {{"level", "400"}}).add("dc-voltage", "VL", {"0", "m"}, {{"level", "400"}});
    const char* phases[] = {"a", "b", "c"};
    for (int k = 0; k < 3; ++k) {
        const std::string x = phases[k], leg = "leg" + x, out = "out" + x;
        // The upper pair follows the positive half of the reference, the lower pair the negative one.
        c.add("sampled-sine", "KU" + x, {"ru" + x},
              {{"peak", "0.85"}, {"offset", "0"}, {"phase", text(-120.0 * k)}, {"rate", "10k"}})
            .add("sampled-sine", "KL" + x, {"rl" + x},
                 {{"peak", "0.85"}, {"offset", "1"}, {"phase", text(-120.0 * k)}, {"rate", "10k"}})
            .add("modulator", "MU" + x, {"ru" + x, "g1" + x, "g3" + x},
                 {{"f", "10k"}, {"dead", "1u"}, {"carrier", "triangle"}})
            .add("modulator", "ML" + x, {"rl" + x, "g2" + x, "g4" + x},
                 {{"f", "10k"}, {"dead", "1u"}, {"carrier", "triangle"}})
            .add("igbt", "Q1" + x, {"p", "u" + x, "g1" + x})
            .add("igbt", "Q2" + x, {"u" + x, leg, "g2" + x})
            .add("igbt", "Q3" + x, {leg, "l" + x, "g3" + x})
            .add("igbt", "Q4" + x, {"l" + x, "m", "g4" + x})
            .add("diode", "DU" + x, {"0", "u" + x})
            .add("diode", "DL" + x, {"l" + x, "0"})
            .add("inductor", "L" + x, {leg, out}, {{"l", "2m"}})
            .add("resistor", "R" + x, {out, "star"}, {{"r", "20"}});
    }
    c.plan("0.1", "1e-2");
    return c;
}

Circuit arm(int cells) {
    Circuit c;
    c.add("sine-voltage", "V1", {"top", "0"}, {{"peak", text(200.0 * cells)}, {"offset", text(200.0 * cells)}});
    c.add("inductor", "L1", {"top", "n0"}, {{"l", "5m"}});
    c.add("sampled-sine", "K1", {"ref"}, {{"peak", "0.4"}, {"rate", text(500.0 * cells)}});
    for (int k = 0; k < cells; ++k) {
        const std::string upper = id("n", k), lower = k + 1 == cells ? "rload" : id("n", k + 1), cell = id("c", k);
        c.add("modulator", id("M", k), {"ref", id("g", k), id("h", k)},
              {{"f", "500"}, {"dead", "2u"}, {"phase", text(static_cast<double>(k) / cells)}, {"carrier", "triangle"}})
            .add("igbt", id("QU", k), {cell, upper, id("g", k)})
            .add("igbt", id("QL", k), {upper, lower, id("h", k)})
            .add("capacitor", id("C", k), {cell, lower}, {{"c", "5m"}, {"v0", "400"}});
    }
    c.add("resistor", "R1", {"rload", "0"}, {{"r", "10"}}).plan("0.1", "1e-2");
    return c;
}

Circuit twelvePulse() {
    Circuit c;
    c.add("three-phase-voltage", "V1", {"a", "b", "c", "n"}, {{"ri", "10m"}, {"li", "200u"}}, 2)
        .add("resistor", "RN", {"n", "0"}, {{"r", "1k"}});
    const char* phases[] = {"a", "b", "c"};
    const auto pulse = [&](const std::string& name, double degrees) {
        const double turns = degrees / 360;
        c.add("modulator", "M" + name, {"", "g" + name, ""},
              {{"f", "50"}, {"duty", "0.25"}, {"phase", text(turns - (turns > 1 ? 1 : 0))}});
    };
    const double firing = 30;
    // Bridge y behind star-star transformers, bridge d behind star-delta ones; their outputs in series.
    for (int k = 0; k < 3; ++k) {
        const std::string x = phases[k], next = phases[(k + 1) % 3];
        c.add("transformer", "TY" + x, {x, "n", "ty" + x, "yn"}, {{"n1", "1"}, {"n2", "1"}})
            .add("inductor", "LY" + x, {"ty" + x, "y" + x}, {{"l", "200u"}})
            .add("transformer", "TD" + x, {x, "n", "td" + x, "d" + next}, {{"n1", "1"}, {"n2", "1.7320508"}})
            .add("inductor", "LD" + x, {"td" + x, "d" + x}, {{"l", "600u"}});
        c.add("thyristor", "YU" + x, {"y" + x, "p", "gYU" + x}).add("thyristor", "YL" + x, {"mid", "y" + x, "gYL" + x});
        c.add("thyristor", "DU" + x, {"d" + x, "mid", "gDU" + x}).add("thyristor", "DL" + x, {"m", "d" + x, "gDL" + x});
        pulse("YU" + x, 30 + firing + 120 * k);
        pulse("YL" + x, 210 + firing + 120 * k);
        pulse("DU" + x, 60 + firing + 120 * k);
        pulse("DL" + x, 240 + firing + 120 * k);
    }
    c.add("resistor", "RYN", {"yn", "0"}, {{"r", "100k"}})
        .add("resistor", "RDA", {"da", "0"}, {{"r", "1M"}})
        .add("inductor", "L1", {"p", "out"}, {{"l", "10m"}})
        .add("resistor", "R1", {"out", "m"}, {{"r", "20"}})
        .add("resistor", "RM", {"m", "0"}, {{"r", "100k"}})
        .plan("0.5", "1e-2");
    return c;
}

Circuit plant(int bridges) {
    Circuit c;
    c.add("dc-voltage", "V1", {"s", "0"}, {{"level", "700"}})
        .add("resistor", "RS", {"s", "feed"}, {{"r", "50m"}})
        .add("inductor", "LS", {"feed", "p"}, {{"l", "100u"}})
        .add("capacitor", "CL", {"p", "0"}, {{"c", "2m"}, {"v0", "700"}, {"esr", "5m"}}, 2);
    const char* phases[] = {"a", "b", "c"};
    for (int j = 0; j < bridges; ++j)
        for (int k = 0; k < 3; ++k) {
            const std::string x = phases[k] + std::to_string(j), leg = "leg" + x, out = "out" + x, star = id("star", j);
            c.add("sampled-sine", "K" + x, {"ref" + x},
                  {{"peak", "0.42"}, {"phase", text(-120.0 * k)}, {"rate", "10k"}})
                .add("modulator", "M" + x, {"ref" + x, "g" + x, "h" + x},
                     {{"f", text(9000 + 137 * j)}, {"dead", "1u"}, {"carrier", "triangle"}})
                .add("igbt", "QU" + x, {"p", leg, "g" + x})
                .add("igbt", "QL" + x, {leg, "0", "h" + x})
                .add("inductor", "L" + x, {leg, out}, {{"l", "2m"}})
                .add("capacitor", "C" + x, {out, star}, {{"c", "10u"}})
                .add("resistor", "R" + x, {out, star}, {{"r", "20"}});
        }
    c.plan("5m", "1e-2");
    return c;
}

Circuit ladder(int storages) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "100"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "20k"}, {"duty", "0.41"}})
        .add("switch", "S1", {"in", "n0", "g"})
        .add("switch", "S2", {"n0", "0", "h"});
    for (int k = 0; k < storages / 2; ++k)
        c.add("inductor", id("L", k), {id("n", k), id("n", k + 1)}, {{"l", "100u"}})
            .add("capacitor", id("C", k), {id("n", k + 1), "0"}, {{"c", "1u"}});
    c.add("resistor", "R1", {id("n", storages / 2), "0"}, {{"r", "10"}}).plan("20m", "1e-2");
    return c;
}

Circuit fiftyParts() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "48"}});
    for (int k = 0; k < 7; ++k)
        c.add("modulator", id("M", k), {"", id("g", k), ""}, {{"f", "100k"}, {"phase", text(k / 7.0)}})
            .add("switch", id("S", k), {"in", id("sw", k), id("g", k)}, {}, 2)
            .add("diode", id("D", k), {"0", id("sw", k)}, {}, 2)
            .add("inductor", id("L", k), {id("sw", k), id("out", k)}, {{"l", "22u"}}, 2)
            .add("capacitor", id("C", k), {id("out", k), "0"}, {{"c", "47u"}}, 2)
            .add("resistor", id("R", k), {id("out", k), "0"}, {{"r", "5"}})
            .add("ammeter", id("A", k), {id("out", k), id("load", k)})
            .add("resistor", id("P", k), {id("load", k), "0"}, {{"r", "50"}});
    c.plan("1n");
    return c;
}

}  // namespace hedgerow::bench

// Curves over frequency from files: Touchstone and tables.

#include <gtest/gtest.h>

#include <cmath>
#include <complex>
#include <numbers>

#include "base/folder.h"
#include "formats/hdf5/hdf5_file.h"
#include "formats/response_file.h"
#include "formats/touchstone/touchstone.h"
#include "support/folder.h"

using namespace hedgerow;

namespace {

using Complex = std::complex<double>;

void expectNear(Complex actual, Complex expected, double relative) {
    EXPECT_NEAR(std::abs(actual - expected), 0, relative * std::abs(expected)) << actual << " against " << expected;
}

}  // namespace

TEST(Touchstone, OnePortBecomesItsImpedance) {
    // S = (Z - R) / (Z + R) of Z = 3 + 4j at 50 Ohm.
    const Complex z{3, 4}, s = (z - 50.0) / (z + 50.0);
    const std::string text = "! made by hand\n# kHz S RI R 50\n10 " + std::to_string(s.real()) + " " +
                             std::to_string(s.imag()) + " ! at 10 kHz\n";
    const auto read = readTouchstone(text, 1);
    ASSERT_TRUE(read) << read.error().text();
    ASSERT_EQ(read->size(), 1u);
    EXPECT_EQ(read->front().name, "Z11");
    EXPECT_DOUBLE_EQ(read->front().frequencies.at(0), 10e3);
    expectNear(read->front().values.at(0), z, 1e-4);  // six digits in the text
}

TEST(Touchstone, FormsOfNumbersAgree) {
    const auto ri = readTouchstone("# Hz Z RI R 1\n1 0 2\n", 1), ma = readTouchstone("# Hz Z MA R 1\n1 2 90\n", 1),
               db = readTouchstone("# HZ z DB R 1\n1 6.020599913279624 90\n", 1);
    ASSERT_TRUE(ri && ma && db);
    expectNear(ma->front().values[0], ri->front().values[0], 1e-12);
    expectNear(db->front().values[0], ri->front().values[0], 1e-12);
}

TEST(Touchstone, TwoPortsComeInTheirOrder) {
    // Version 1.1: 11 21 12 22, and Z is relative to R.
    const auto first = readTouchstone("# Hz Z RI R 10\n1  1 0  3 0  2 0  4 0\n", 2);
    ASSERT_TRUE(first) << first.error().text();
    EXPECT_EQ((*first)[1].name, "Z12");
    expectNear((*first)[1].values[0], 20, 1e-12);
    expectNear((*first)[2].values[0], 30, 1e-12);
    // Version 2.0 says its order, and Z is in ohms.
    const auto second = readTouchstone(
        "[Version] 2.0\n# Hz Z RI R 10\n[Number of Ports] 2\n[Two-Port Data Order] 12_21\n"
        "[Number of Frequencies] 1\n[Network Data]\n1  1 0  3 0  2 0  4 0\n[End]\n",
        0);
    ASSERT_TRUE(second) << second.error().text();
    expectNear((*second)[1].values[0], 3, 1e-12);
}

TEST(Touchstone, ATriangleIsAWholeMatrix) {
    const auto lower = readTouchstone(
        "[Version] 2.0\n# Hz Z RI\n[Number of Ports] 2\n[Number of Frequencies] 1\n"
        "[Matrix Format] Lower\n[Network Data]\n5 1 0\n 7 0 9 0\n",
        0);
    ASSERT_TRUE(lower) << lower.error().text();
    expectNear((*lower)[1].values[0], 7, 1e-12);
    expectNear((*lower)[2].values[0], 7, 1e-12);
    expectNear((*lower)[3].values[0], 9, 1e-12);
}

TEST(Touchstone, ScatteringOfTwoPortsBecomesImpedances) {
    // A series resistance of 100 Ohm between two ports of 50 Ohm has no Z; a shunt of 25 Ohm has Z of 25 everywhere:
    // S11 = -R0 / (R0 + 2 R), S21 = 2 R / (R0 + 2 R).
    const auto shunt = readTouchstone("# Hz S RI R 50\n1  -0.5 0  0.5 0  0.5 0  -0.5 0\n", 2);
    ASSERT_TRUE(shunt) << shunt.error().text();
    for (const FrequencyResponse& one : *shunt) expectNear(one.values[0], 25, 1e-12);
}

TEST(Touchstone, NoiseBehindTwoPortsIsLeftOut) {
    const auto read = readTouchstone(
        "# MHz S RI R 50\n1 -0.5 0 0.5 0 0.5 0 -0.5 0\n2 -0.5 0 0.5 0 0.5 0 -0.5 0\n"
        "0.5 3.2 0.4 20 0.3\n1 3.3 0.4 21 0.3\n",
        2);
    ASSERT_TRUE(read) << read.error().text();
    EXPECT_EQ(read->front().frequencies.size(), 2u);
}

TEST(Touchstone, MistakesNameTheirLine) {
    const auto line = [](const char* text, int ports) {
        const auto read = readTouchstone(text, ports);
        EXPECT_FALSE(read) << text;
        return read ? -1 : read.error().line;
    };
    EXPECT_EQ(line("# Hz S RI R 50\n1 0 zero\n", 1), 2);
    EXPECT_EQ(line("# Hz S RI R -3\n", 1), 1);
    EXPECT_EQ(line("# Hz Q RI\n", 1), 1);
    EXPECT_EQ(line("# Hz H RI\n", 1), 1);
    EXPECT_EQ(line("# Hz S RI\n2 0 0\n1 0 0\n", 1), 3);
    EXPECT_EQ(line("# Hz S RI\n1 0\n", 1), 2);
    EXPECT_EQ(line("[Version] 3.0\n", 1), 1);
    EXPECT_EQ(line("[Number of Ports] 1e9\n", 1), 1);
    EXPECT_EQ(line("# Hz S RI\n1 1 0\n", 1), 2) << "an open port has no impedance";
    EXPECT_EQ(line("[Version] 2.0\n# Hz Z RI\n[Number of Ports] 1\n1 2 3\n[Number of Ports] 2\n", 0), 5);
    EXPECT_FALSE(readTouchstone("", 1));
}

TEST(Touchstone, TheNameSaysThePorts) {
    EXPECT_EQ(portsOfName("choke.s1p"), 1);
    EXPECT_EQ(portsOfName("FILTER.S12P"), 12);
    EXPECT_EQ(portsOfName("a.z2p"), 2);
    EXPECT_EQ(portsOfName("a.sp"), 0);
    EXPECT_EQ(portsOfName("a.step"), 0);
    EXPECT_EQ(portsOfName("a.s99999p"), 0);
    EXPECT_EQ(portsOfName("plain"), 0);
}

TEST(ResponseTable, WhatIsWrittenIsRead) {
    FrequencyResponse one{"loop at REG1.y", "", {10, 100, 1000}, {{100, -3}, {2, -5}, {-0.3, -0.2}}};
    FrequencyResponse other{"impedance, at \u03a9", "Ω", {10, 100, 1000}, {{1, 0}, {0, 1}, {-1, 1e-9}}};
    const auto read = readResponseTable(responsesAsCsv({one, other}));
    ASSERT_TRUE(read) << read.error().text();
    ASSERT_EQ(read->size(), 2u);
    EXPECT_EQ((*read)[0].name, one.name);
    for (std::size_t i = 0; i < 3; ++i) {
        EXPECT_DOUBLE_EQ((*read)[0].frequencies[i], one.frequencies[i]);
        expectNear((*read)[0].values[i], one.values[i], 1e-12);
        expectNear((*read)[1].values[i], other.values[i], 1e-12);
    }
}

TEST(ResponseTable, MistakesNameTheirLine) {
    const auto line = [](const char* text) {
        const auto read = readResponseTable(text);
        EXPECT_FALSE(read) << text;
        return read ? -1 : read.error().line;
    };
    EXPECT_EQ(line("a,b,c\n1,2,3\n"), 1);
    EXPECT_EQ(line("f,gain [dB],phase\n1,2\n"), 2);
    EXPECT_EQ(line("f,gain [dB],phase\n1,2,x\n"), 2);
    EXPECT_EQ(line("f,gain [dB],phase\n1,2,3\n1,2,3\n"), 3);
    EXPECT_EQ(line("f,gain [dB],phase\n0,2,3\n"), 2);
    EXPECT_EQ(line("f,gain [dB],other\n"), 1);
    EXPECT_FALSE(readResponseTable(""));
}

TEST(ResponseFile, TablesAndHdf5HoldTheSame) {
    test::TemporaryFolder folder;
    const FrequencyResponse one{"loop at REG1.y", "", {10, 100, 1000}, {{100, -3}, {2, -5}, {-0.3, -0.2}}};
    ASSERT_TRUE(writeResponses(folder.path() / "loop.csv", {one}));
    const auto read = readResponses(folder.path() / "loop.csv");
    ASSERT_TRUE(read) << read.error().message;
    EXPECT_EQ(read->front().name, "loop.csv");
    expectNear(read->front().values[1], one.values[1], 1e-12);
    ASSERT_TRUE(writeResponses(folder.path() / "loop.h5", {one, one}));
    {
        const auto held = hdf5::lock();
        hdf5::Handle file(hdf5::openFile(*OpenFolder::open(folder.path()), "loop.h5"), H5Fclose);
        ASSERT_TRUE(file.good());
        EXPECT_EQ(hdf5::readColumn(file, "frequency"), one.frequencies);
        hdf5::Handle curve(H5Gopen2(file, "responses/2", H5P_DEFAULT), H5Gclose);
        ASSERT_TRUE(curve.good());
        EXPECT_EQ(hdf5::readAttribute(curve, "name"), one.name);
        EXPECT_EQ(hdf5::readColumn(curve, "imaginary"), (std::vector<double>{-3, -5, -0.2}));
        EXPECT_NEAR(hdf5::readColumn(curve, "gain")->at(0), 20 * std::log10(std::abs(one.values[0])), 1e-12);
    }
    EXPECT_FALSE(writeResponses(folder.path() / "loop.png", {one}));
    EXPECT_FALSE(writeResponses(folder.path() / "none.csv", {}));
    EXPECT_FALSE(writeResponses("/nowhere/loop.h5", {one}));
    EXPECT_FALSE(readResponses(folder.path() / "missing.csv"));
}

TEST(Phase, HasNoJumps) {
    FrequencyResponse turning{"", "", {}, {}};
    for (int i = 0; i < 50; ++i) {
        turning.frequencies.push_back(i + 1);
        turning.values.push_back(std::polar(1.0, -0.5 * i));
    }
    const auto phase = phaseOf(turning);
    for (int i = 0; i < 50; ++i)
        EXPECT_NEAR(phase[static_cast<std::size_t>(i)], -0.5 * i * 180 / std::numbers::pi, 1e-9);
}

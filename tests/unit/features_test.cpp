// Features of runs as text and as numbers, and results of trade studies as files.

#include <gtest/gtest.h>

#include <cmath>
#include <filesystem>
#include <fstream>
#include <numbers>

#include "studies/feature.h"
#include "studies/trade_file.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

TEST(Features, LinesComeBackAsTheyWere) {
    for (const char* line :
         {"pp of L1.i within 1 %", "mean of out.v over last 3 periods of M1 within 20m", "loss of S1 from 1m to 2m within 2 %",
          "value of out.v at 2m within 0.1 %", "thd of V1.i base 50 within 5 %",
          "harmonic 5 of out.v * 2 over last 40m base 50 within 1 %", "integral of V1.p to 3m within 1u"}) {
        const auto feature = readFeature(line);
        ASSERT_TRUE(feature) << line << ": " << feature.error().message;
        EXPECT_EQ(featureText(*feature), line);
    }
}

TEST(Features, FaultsSayWhatIsMissing) {
    const std::pair<const char*, const char*> cases[] = {
        {"", "write"},
        {"pp of  within 1 %", "name the quantity"},
        {"size of L1.i within 1 %", "no measure"},
        {"pp of L1.i", "accuracy"},
        {"pp of L1.i within ", "accuracy"},
        {"value of L1.i within 1 %", "say when"},
        {"pp of L1.i at 2m within 1 %", "only a value"},
        {"thd of L1.i within 1 %", "fundamental"},
        {"harmonic 0 of L1.i base 50 within 1 %", "from 1 to 50"},
        {"harmonic x of L1.i base 50 within 1 %", "from 1 to 50"},
    };
    for (const auto& [line, fault] : cases) {
        const auto feature = readFeature(line);
        ASSERT_FALSE(feature) << line;
        EXPECT_NE(feature.error().message.find(fault), std::string::npos) << line << ": " << feature.error().message;
    }
}

/// 10 V at 50 Hz with 3 V at 150 Hz in series, over 5 Ohm.
std::shared_ptr<hedgerow::Run> waves() {
    Circuit c;
    c.add("sine-voltage", "V1", {"a", "0"}, {{"peak", "10"}, {"f", "50"}})
        .add("sine-voltage", "V2", {"b", "a"}, {{"peak", "3"}, {"f", "150"}})
        .add("resistor", "R1", {"b", "0"}, {{"r", "5"}})
        .plan("40m", "1e-5");
    return run(c);
}

double valueOf(const hedgerow::Run& run, const char* line) {
    const auto feature = readFeature(line);
    EXPECT_TRUE(feature) << line;
    const auto reader = FeatureReader::make(*feature, run.project());
    EXPECT_TRUE(reader) << reader.error().message;
    const auto value = reader->valueIn(run);
    EXPECT_TRUE(value) << value.error().message;
    return value ? *value : NAN;
}

TEST(Features, AreTheClosedFormsOfTheirWaves) {
    const auto r = waves();
    ASSERT_TRUE(r);
    EXPECT_NEAR(valueOf(*r, "mean of b.v within 1 %"), 0, 1e-3);
    EXPECT_RELATIVE(valueOf(*r, "rms of b.v within 1 %"), std::sqrt((100 + 9) / 2.0), 1e-4);
    EXPECT_RELATIVE(valueOf(*r, "thd of b.v base 50 within 1 %"), 0.3, 1e-3);
    EXPECT_RELATIVE(valueOf(*r, "harmonic 3 of R1.i base 50 within 1 %"), 3 / 5.0, 1e-3);
    EXPECT_RELATIVE(valueOf(*r, "loss of R1 over last 20m within 1 %"), (100 + 9) / 2.0 / 5, 1e-3);
    EXPECT_RELATIVE(valueOf(*r, "integral of R1.p from 0 to 20m within 1 %"), 0.02 * (100 + 9) / 2.0 / 5, 1e-3);
    // At a quarter of the period the two are opposite: 10 - 3.
    EXPECT_NEAR(valueOf(*r, "value of b.v at 5m within 1 %"), 7, 1e-3);
    const double pp = valueOf(*r, "pp of b.v within 1 %");
    EXPECT_RELATIVE(valueOf(*r, "peak of b.v within 1 %"), pp / 2, 1e-4);
    EXPECT_RELATIVE(valueOf(*r, "max of 2 * b.v within 1 %"), pp, 1e-4);
    EXPECT_RELATIVE(valueOf(*r, "min of b.v within 1 %"), -pp / 2, 1e-4);
}

TEST(Features, WhatARunCannotTellIsSaid) {
    const auto r = waves();
    ASSERT_TRUE(r);
    for (const auto& [line, fault] : {std::pair{"pp of nope.v within 1 %", "nope"},
                                      {"pp of b.v to 50m within 1 %", "does not reach"},
                                      {"value of b.v at 60m within 1 %", "no value"},
                                      {"thd of b.v base 1 within 1 %", "not one whole period"}}) {
        const auto reader = FeatureReader::make(*readFeature(line), r->project());
        ASSERT_TRUE(reader) << line;
        const auto value = reader->valueIn(*r);
        ASSERT_FALSE(value) << line;
        EXPECT_NE(value.error().message.find(fault), std::string::npos) << value.error().message;
    }
    for (const char* line : {"pp of b.v within 0 %", "pp of b.v within -1", "pp of b.v within apples", "thd of b.v base 0 within 1 %",
                             "pp of b.v from -3 within 1 %"})
        EXPECT_FALSE(FeatureReader::make(*readFeature(line), r->project())) << line;
    const auto relative = FeatureReader::make(*readFeature("pp of b.v within 2 %"), r->project()),
               absolute = FeatureReader::make(*readFeature("pp of b.v within 20m"), r->project());
    EXPECT_DOUBLE_EQ(relative->allowed(-5), 0.1);
    EXPECT_DOUBLE_EQ(absolute->allowed(-5), 0.02);
}

TradeResult made() {
    TradeResult result{.study = "what \"matters\"",
                       .scene = "s",
                       .plan = "p",
                       .features = {"pp of a, b within 1 %"},
                       .units = {"V"},
                       .reference = {1.5},
                       .moved = {INFINITY},
                       .referenceLine = "all on 4",
                       .converged = true,
                       .referenceSeconds = 2};
    result.points = {{.line = "all on 2, exact", .values = {1.6}, .errors = {6.7}, .worst = 6.7, .seconds = 0.1, .points = 3, .events = 4, .engine = "exact"},
                     {.line = "all on 9", .error = Error{ErrorCode::range, "no such rung"}}};
    result.verdicts = {{.part = "C1", .rung = 2, .highest = 3, .needed = true, .why = "because, \"so\""}};
    result.answer = "all on 2, exact";
    result.runs = 4;
    return result;
}

TEST(TradeFiles, ResultsSurviveTheirText) {
    const TradeResult result = made();
    const auto read = readTrade(writeTrade(result));
    ASSERT_TRUE(read) << read.error().message;
    EXPECT_EQ(writeTrade(*read), writeTrade(result));
    EXPECT_EQ(read->points[1].error->message, "no such rung");
    EXPECT_TRUE(std::isinf(read->moved[0]));
}

TEST(TradeFiles, WhatIsNoResultIsRefused) {
    const std::string good = writeTrade(made());
    EXPECT_FALSE(readTrade(""));
    EXPECT_FALSE(readTrade("{}"));
    EXPECT_FALSE(readTrade("[1]"));
    EXPECT_FALSE(readTrade(std::string(100'000, '[')));
    for (std::size_t cut = 0; cut < good.size(); cut += 7) EXPECT_FALSE(readTrade(good.substr(0, cut))) << cut;
    for (const auto& [from, to] : {std::pair<std::string, std::string>{"\"reference\": [", "\"reference\": [1, "},
                                   {"\"worst\": 6.7", "\"worst\": \"x\""},
                                   {"\"hedgerow trade study\": 1", "\"hedgerow trade study\": 2"}}) {
        std::string bad = good;
        ASSERT_NE(bad.find(from), std::string::npos) << from;
        bad.replace(bad.find(from), from.size(), to);
        EXPECT_FALSE(readTrade(bad)) << to;
    }
}

TEST(TradeFiles, AreWrittenAsTablesAndColumns) {
    const auto folder = std::filesystem::temp_directory_path() / ("hedgerow-trade-" + std::to_string(::getpid()));
    std::filesystem::create_directories(folder);
    for (const char* name : {"a.csv", "a.h5", "a.json", "a.html"}) EXPECT_TRUE(exportTrade(made(), folder / name)) << name;
    EXPECT_FALSE(exportTrade(made(), folder / "a.txt"));
    EXPECT_FALSE(exportTrade(made(), folder / "none" / "a.csv"));
    std::ifstream file(folder / "a.csv");
    std::string text((std::istreambuf_iterator<char>(file)), {});
    EXPECT_NE(text.find("\"all on 2, exact\",0.1,6.7,no"), std::string::npos) << text;
    EXPECT_NE(text.find("\"because, \"\"so\"\"\""), std::string::npos) << text;
    std::filesystem::remove_all(folder);
}

}  // namespace

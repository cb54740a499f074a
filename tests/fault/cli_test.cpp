// The command-line tool as scripts use it: exit codes, output, JSON.

#include <sys/wait.h>
#include <unistd.h>
#include <csignal>
#include <cmath>
#include <cstdio>
#include <fstream>

#include <nlohmann/json.hpp>

#include "support/folder.h"

using namespace hedgerow::test;

namespace {

struct Outcome {
    int code;
    std::string output;
};

Outcome cli(const std::string& arguments) {
    const std::string command = std::string(HEDGEROW_CLI) + " " + arguments + " 2>&1";
    std::FILE* pipe = popen(command.c_str(), "r");
    Outcome outcome{-1, ""};
    char buffer[4096];
    while (const std::size_t got = std::fread(buffer, 1, sizeof buffer, pipe)) outcome.output.append(buffer, got);
    outcome.code = WEXITSTATUS(pclose(pipe));
    return outcome;
}

const std::string example = std::string(HEDGEROW_EXAMPLES) + "/med-aux.hedge";

}  // namespace

TEST(Cli, ChecksASoundProject) {
    const Outcome o = cli("check " + example);
    EXPECT_EQ(o.code, 0);
    EXPECT_NE(o.output.find("sound, 11 parts"), std::string::npos) << o.output;
}

TEST(Cli, ReportsFaultsWithPartsAndNets) {
    TemporaryFolder folder;
    const auto path = (folder.path() / "bad.hedge").string();
    std::ofstream(path)
        << R"({"hedgerow": 1, "sheets": [{"parts": [{"name": "R1", "kind": "resistor", "at": [0, 0]}]}]})";
    const Outcome o = cli("check " + path);
    EXPECT_EQ(o.code, 3);
    EXPECT_NE(o.output.find("pin a of R1 is not connected"), std::string::npos) << o.output;
    const auto json = nlohmann::json::parse(cli("check --json " + path).output);
    EXPECT_EQ(json["errors"][0]["part"], "R1");
    EXPECT_EQ(cli("run " + path).code, 3);
}

TEST(Cli, UnreadableProjectsHaveTheirOwnCode) {
    TemporaryFolder folder;
    const auto path = (folder.path() / "bad.hedge").string();
    std::ofstream(path) << "{\n  oops\n}";
    const Outcome o = cli("check " + path);
    EXPECT_EQ(o.code, 2);
    EXPECT_NE(o.output.find("line 2, column 3"), std::string::npos) << o.output;
    EXPECT_EQ(cli("info /nowhere.hedge").code, 2);
}

TEST(Cli, TellsTheLossesOfSwitches) {
    const Outcome o = cli("run " + example + " --end 500u --quiet --losses 100u");
    EXPECT_EQ(o.code, 0);
    EXPECT_NE(o.output.find("S1                      loses"), std::string::npos) << o.output;
    const auto json = nlohmann::json::parse(cli("run " + example + " --end 500u --quiet --json --losses 100u").output);
    double conduction = 0;
    for (const auto& row : json["losses"])
        if (row["part"] == "S1") conduction = row["conduction"];
    EXPECT_GT(conduction, 0.1);
    EXPECT_EQ(cli("run " + example + " --losses never").code, 1);
    EXPECT_EQ(cli("run " + example + " --losses -1").code, 1);
}

TEST(Cli, RunsWithAFixedStep) {
    const Outcome o =
        cli("run " + example + " --engine fixed --step 500n --method 'backward Euler' --round-edges --quiet");
    EXPECT_EQ(o.code, 0) << o.output;
    EXPECT_NE(o.output.find("a step of 500 ns took"), std::string::npos) << o.output;
    const Outcome bad = cli("run " + example + " --engine fixed --step 0 --quiet");
    EXPECT_NE(bad.code, 0);
    EXPECT_NE(bad.output.find("step: "), std::string::npos) << bad.output;
}

TEST(Cli, ReadsMakersCards) {
    const TemporaryFolder folder;
    const std::string library = (folder.path() / "devices.hedge").string();
    const Outcome o = cli("cards " HEDGEROW_EXAMPLES "/medlar-devices.cards --out " + library);
    EXPECT_EQ(o.code, 0) << o.output;
    EXPECT_NE(o.output.find("MDF60  zener"), std::string::npos) << o.output;
    EXPECT_NE(o.output.find("line 3: EG=1.11"), std::string::npos);
    EXPECT_EQ(cli("info " + library).code, 0);
    EXPECT_NE(cli("cards /no/such/file").code, 0);
    EXPECT_NE(cli("cards " HEDGEROW_EXAMPLES "/medlar-devices.cards --current -1").code, 0);
    const Outcome lines = cli("cards " HEDGEROW_EXAMPLES "/medlar-devices.cards --lines 3");
    EXPECT_EQ(lines.code, 0) << lines.output;
    EXPECT_NE(lines.output.find("MDS40  diode"), std::string::npos) << lines.output;
    EXPECT_NE(lines.output.find("  curve "), std::string::npos) << lines.output;
    EXPECT_NE(cli("cards " HEDGEROW_EXAMPLES "/medlar-devices.cards --lines 9").code, 0);
}

TEST(Cli, WrongUseIsToldApart) {
    EXPECT_EQ(cli("").code, 1);
    EXPECT_EQ(cli("dance").code, 1);
    EXPECT_EQ(cli("run " + example + " --set D").code, 1);
    EXPECT_EQ(cli("run " + example + " --out a.xyz").code, 1);
    EXPECT_EQ(cli("run " + example + " --quantity nope").code, 1);
    EXPECT_EQ(cli("run " + example + " --set nope=1").code, 3);
    EXPECT_EQ(cli("run " + example + " --plan nope").code, 3);
    EXPECT_EQ(cli("--version").code, 0);
    EXPECT_EQ(cli("run --help").code, 0);
}

TEST(Cli, RunsWithSettingsAndWritesFiles) {
    TemporaryFolder folder;
    const std::string csv = (folder.path() / "a.csv").string(), h5 = (folder.path() / "a.h5").string();
    const Outcome o = cli("run " + example + " --end 100u --set D=0.4 --out " + csv + " --out " + h5 +
                          " --quantity out.v --quantity L1.i");
    EXPECT_EQ(o.code, 0) << o.output;
    EXPECT_NE(o.output.find("finished at 100 µs"), std::string::npos) << o.output;
    std::string header;
    std::ifstream file(csv);
    std::getline(file, header);
    EXPECT_EQ(header, "time [s],out.v [V],L1.i [A]");
    EXPECT_TRUE(std::filesystem::exists(h5));
    EXPECT_EQ(cli("run " + example + " --end 10u --out /nowhere/a.csv").code, 6);
}

TEST(Cli, JsonSummaryIsJson) {
    const Outcome o = cli("run --json --quiet " + example);
    ASSERT_EQ(o.code, 0) << o.output;
    const auto json = nlohmann::json::parse(o.output);
    EXPECT_EQ(json["end"], "finished");
    EXPECT_NEAR(json["reached"].get<double>(), 3e-3, 1e-12);
    EXPECT_GT(json["counters"]["gate edges"].get<int>(), 1700);
    EXPECT_NEAR(json["measures"]["out.v"]["mean"].get<double>(), 23.1, 0.5);
}

// Solved again in long double: agreement within rounding, in words and as one JSON document.
TEST(Cli, VerifySaysHowFarARunCanBeTrusted) {
    const Outcome words = cli("run --quiet --verify --end 200u " + example);
    EXPECT_EQ(words.code, 0) << words.output;
    EXPECT_NE(words.output.find("the same in both"), std::string::npos) << words.output;
    const Outcome o = cli("run --json --quiet --verify --end 200u " + example);
    ASSERT_EQ(o.code, 0) << o.output;
    const auto json = nlohmann::json::parse(o.output);
    EXPECT_EQ(json["end"], "finished");
    const auto& verify = json["verify"];
    EXPECT_TRUE(verify["same events"].get<bool>());
    EXPECT_EQ(verify["events"], verify["reference events"]);
    EXPECT_GT(verify["differences"].size(), 10u);
    for (const auto& difference : verify["differences"]) EXPECT_LT(difference["relative"].get<double>(), 1e-9);
}

// A run that goes on where another ended is the second half of one that did not stop.
TEST(Cli, ARunGoesOnWhereAnotherEnded) {
    TemporaryFolder folder;
    const std::string states = (folder.path() / "states.json").string();
    const std::string half = "run --json --quiet --end 500u " + example;
    ASSERT_EQ(cli(half + " --keep " + states).code, 0);
    const std::string second = (folder.path() / "second.json").string(),
                      whole = (folder.path() / "whole.json").string();
    ASSERT_EQ(cli(half + " --start " + states + " --keep " + second).code, 0);
    ASSERT_EQ(cli("run --quiet --end 1m " + example + " --keep " + whole).code, 0);
    const auto read = [](const std::string& path) {
        std::ifstream file(path);
        return nlohmann::json::parse(file);
    };
    const auto a = read(second).at("states"), b = read(whole).at("states");
    ASSERT_GT(b.size(), 1u);
    for (std::size_t i = 0; i < b.size(); ++i)
        EXPECT_NEAR(a.at(i).at("value").get<double>(), b.at(i).at("value").get<double>(), 1e-9) << b.at(i).at("part");

    EXPECT_EQ(cli(half + " --start /nowhere.json").code, 3);
    std::ofstream(states) << R"({"hedgerow states": 1, "oops)";
    EXPECT_EQ(cli(half + " --start " + states).code, 3);
    EXPECT_EQ(cli(half + " --keep /nowhere/states.json").code, 6);
}

TEST(Cli, InfoListsWhatIsThere) {
    const auto json = nlohmann::json::parse(cli("info --json " + example).output);
    EXPECT_EQ(json["title"], "med-aux");
    EXPECT_TRUE(json["parts"].contains("L1"));
    EXPECT_NE(std::find(json["quantities"].begin(), json["quantities"].end(), "sw.v"), json["quantities"].end());
    EXPECT_NE(cli("info " + example).output.find("start-up"), std::string::npos);
}

// An interrupt ends the run in good order: what was computed is written.
TEST(Cli, AnInterruptKeepsTheResult) {
    TemporaryFolder folder;
    const std::string csv = (folder.path() / "a.csv").string();
    const Outcome o =
        cli("run " + example + " --end 400 --out " + csv +
            " --quantity out.v & pid=$!; for k in $(seq 100); do sleep 0.2; kill -INT $pid || break; done; "
            "wait $pid");
    EXPECT_EQ(o.code, 5) << o.output;
    EXPECT_NE(o.output.find("stopped at"), std::string::npos) << o.output;
    EXPECT_TRUE(std::filesystem::exists(csv));
}

// A run that fails says so, and still writes what it has.
TEST(Cli, AFailedRunHasItsOwnCode) {
    TemporaryFolder folder;
    const auto path = (folder.path() / "open.hedge").string();
    std::ofstream(path) << R"({"hedgerow": 1, "sheets": [{"parts": [
        {"name": "V1", "kind": "dc-voltage", "at": [0, 32]}, {"name": "L1", "kind": "inductor", "at": [200, 0]}, {"name": "S1", "kind": "switch", "at": [400, 32]},
        {"name": "M1", "kind": "modulator", "at": [600, 0], "values": {"f": "1k"}}, {"name": "G", "kind": "reference", "at": [0, 64]}],
        "labels": [{"net": "a", "at": [0, 0]}, {"net": "a", "at": [168, 0]}, {"net": "b", "at": [232, 0]}, {"net": "b", "at": [400, 0]}, {"net": "z", "at": [400, 64]},
                   {"net": "z", "at": [0, 64]}, {"net": "g", "at": [368, 32]}, {"net": "g", "at": [640, -16]}]}]})";
    const Outcome o = cli("run " + path);
    EXPECT_EQ(o.code, 4) << o.output;
    EXPECT_NE(o.output.find("L1 carries"), std::string::npos) << o.output;
}

// A result that standard output cannot take is told by its code, whichever command it is.
TEST(Cli, AFullStandardOutputIsUnwritable) {
    for (const std::string& command : {"check " + example, "check --json " + example, "info --json " + example,
                                       "run --quiet --end 20u " + example, "run --quiet --json --end 20u " + example}) {
        const int status =
            std::system((std::string(HEDGEROW_CLI) + " " + command + " > /dev/full 2> /dev/null").c_str());
        EXPECT_EQ(WEXITSTATUS(status), 6) << command;
    }
}

TEST(Cli, NamesThatAreNoUtf8AreStillJson) {
    TemporaryFolder folder;
    const auto path = (folder.path() / "bad.hedge").string();
    std::ofstream(path)
        << "{\"hedgerow\": 1, \"title\": \"\\ud800\", \"sheets\": [{\"parts\": [{\"name\": \"R\xff\xfe\", "
           "\"kind\": \"resistor\", \"at\": [0, 0]}]}]}";
    const std::string good = (folder.path() / "good.hedge").string();
    std::ofstream(good)
        << R"({"hedgerow": 1, "sheets": [{"parts": [{"name": "R1", "kind": "resistor", "at": [0, 0]}]}]})";
    for (const std::string& command : {"check --json " + path, "info --json " + path, "run --json " + path,
                                       "run --json --set 'x\xff=1' " + good, "run --json --plan '\xff' " + good}) {
        const Outcome o = cli(command);
        EXPECT_NE(o.code, 0) << command;
        EXPECT_LT(o.code, 7) << command << ": " << o.output;
        EXPECT_FALSE(nlohmann::json::parse(o.output.substr(o.output.find('{')), nullptr, false).is_discarded())
            << command << ": " << o.output;
    }
}

TEST(Cli, FilesOutsideOfTheFolderWantConsent) {
    TemporaryFolder folder;
    const auto home = folder.path() / "home";
    std::filesystem::create_directories(home);
    std::ofstream(folder.path() / "table.csv") << "0,1\n1m,2\n";
    const std::string path = (home / "p.hedge").string();
    std::ofstream(path) << R"({"hedgerow": 1, "sheets": [{"name": "main", "parts": [
        {"name": "REF1", "kind": "reference", "at": [0, 0]},
        {"name": "V1", "kind": "points-voltage", "at": [400, 0], "values": {"points": "../table.csv"}},
        {"name": "R1", "kind": "resistor", "at": [800, 0], "values": {"r": "1"}}],
        "labels": [{"net": "0", "at": [0, 0]}, {"net": "a", "at": [400, -32]}, {"net": "0", "at": [400, 32]},
                   {"net": "a", "at": [800, -32]}, {"net": "0", "at": [800, 32]}]}]})";
    const Outcome refused = cli("run --quiet " + path);
    EXPECT_EQ(refused.code, 3);
    EXPECT_NE(refused.output.find("--allow-outside"), std::string::npos) << refused.output;
    EXPECT_NE(refused.output.find("outside of the project's folder"), std::string::npos) << refused.output;
    EXPECT_EQ(cli("run --quiet --allow-outside " + path).code, 0);
    EXPECT_EQ(cli("check --allow-outside " + path).code, 0);
}

// A run that reads a pipe, or that never ends, does not keep its shell.
TEST(Cli, ARunCanAlwaysBeStopped) {
    TemporaryFolder folder;
    const std::string path = (folder.path() / "p.hedge").string();
    std::ofstream(path) << R"({"hedgerow": 1, "sheets": [{"name": "main", "parts": [
        {"name": "REF1", "kind": "reference", "at": [0, 0]},
        {"name": "V1", "kind": "dc-voltage", "at": [400, 0], "values": {"level": "5"}},
        {"name": "K1", "kind": "constant", "at": [800, 0], "values": {"value": "1"}},
        {"name": "M1", "kind": "moving-rms", "at": [1200, 0], "values": {"window": "1n", "n": "900"}},
        {"name": "R1", "kind": "resistor", "at": [1600, 0], "values": {"r": "1"}}],
        "labels": [{"net": "a", "at": [1600, -32]}, {"net": "0", "at": [1600, 32]}, {"net": "0", "at": [0, 0]}, {"net": "a", "at": [400, -32]}, {"net": "0", "at": [400, 32]},
                   {"net": "k", "at": [832, 0]}, {"net": "k", "at": [1168, 0]}]}],
        "plans": [{"name": "p", "end": "1", "engine": "best", "tolerance": "1e-3"}]})";
    for (const char* engine : {"exact", "fixed", "adaptive"}) {
        const int status = std::system(("timeout -s TERM -k 5 1 " + std::string(HEDGEROW_CLI) +
                                        " run --quiet --engine " + engine + " --step 1u " + path + " > /dev/null 2>&1")
                                           .c_str());
        EXPECT_EQ(WEXITSTATUS(status), 124) << engine << ": it answered the signal and was not killed";
    }
}

TEST(Cli, ListsKindsWithKeysDefaultsAndRanges) {
    const Outcome one = cli("kinds diode");
    EXPECT_EQ(one.code, 0);
    EXPECT_NE(one.output.find("knee voltage: 0.7 V, at least 0, or none, from rung 2 on"), std::string::npos)
        << one.output;
    const auto all = nlohmann::json::parse(cli("kinds --json").output);
    ASSERT_GT(all.size(), 50u);
    for (const auto& kind : all) {
        EXPECT_TRUE(kind.contains("rungs")) << kind["kind"];
        for (const auto& value : kind.value("values", nlohmann::json::array())) EXPECT_TRUE(value.contains("key"));
    }
    const Outcome none = cli("kinds nonsense");
    EXPECT_EQ(none.code, 1);
    EXPECT_NE(none.output.find("nonsense"), std::string::npos);
}

TEST(Cli, MeasuresAWindowByATolerance) {
    const auto measured = [](const std::string& more) {
        return nlohmann::json::parse(cli("run --quiet --json " + example + " " + more).output);
    };
    const auto whole = measured(""), window = measured("--from 2.9m --to 3m"), finer = measured("--tolerance 1e-5");
    // The output rises from nothing, and is where it belongs at the end.
    EXPECT_LT(whole["measures"]["out.v"]["min"].get<double>(), 1);
    EXPECT_GT(window["measures"]["out.v"]["min"].get<double>(), 22);
    EXPECT_GT(finer["counters"]["stored points"].get<int>(), 2 * whole["counters"]["stored points"].get<int>());
    EXPECT_EQ(cli("run --quiet " + example + " --from yesterday").code, 1);
    EXPECT_EQ(cli("run --quiet " + example + " --tolerance much").code, 3);
}

// Nothing is stored, and the measures are those of the stored lines; what needs points is refused beforehand.
TEST(Cli, MeasuresWithoutStoringPoints) {
    const std::string window = " --quantity out.v --quantity S1.p --quantity S1.on --from 2.1m --to 2.93m";
    const Outcome stored = cli("run --quiet --json " + example + window),
                  streamed = cli("run --quiet --json --measures-only " + example + window);
    ASSERT_EQ(stored.code, 0) << stored.output;
    ASSERT_EQ(streamed.code, 0) << streamed.output;
    const auto lines = nlohmann::json::parse(stored.output), measures = nlohmann::json::parse(streamed.output);
    for (const char* quantity : {"out.v", "S1.p", "S1.on"})
        for (const char* measure : {"min", "mean", "max", "rms"}) {
            const double expected = lines["measures"][quantity][measure].get<double>();
            EXPECT_NEAR(measures["measures"][quantity][measure].get<double>(), expected, 2e-3 * std::abs(expected) + 1e-9)
                << quantity << " " << measure;
        }
    EXPECT_FALSE(measures["counters"].contains("stored points"));
    for (const char* more : {" --out x.csv", " --verify", " --losses 1m", " --harmonics 150k", " --quantity '2*out.v'"})
        EXPECT_EQ(cli("run --quiet --measures-only " + example + more).code, 1) << more;
}

TEST(Cli, MeasuresExpressionsPeriodsAndHarmonics) {
    const TemporaryFolder folder;
    const std::string text = (folder.path() / "rectifier.txt").string(),
                      made = (folder.path() / "rectifier.hedge").string();
    std::ofstream(text)
        << "V1 sine-voltage in 0 peak 10 f 50\nD1 diode in out\nR1 resistor out 0 r 5\nGND1 reference 0\n";
    ASSERT_EQ(cli("convert " + text + " " + made).code, 0);
    const Outcome o = cli("run --quiet --json " + made +
                          " --end '10 periods of V1' --tolerance 1e-6 --quantity 'R1.v * R1.i' --quantity out.v "
                          "--harmonics 50 --orders 40 --last '10 periods'");
    ASSERT_EQ(o.code, 0) << o.output;
    const auto json = nlohmann::json::parse(o.output);
    // Half waves of 10 V on 5 ohm: the mean power is a quarter of 10^2/5, the rms half the peak.
    EXPECT_NEAR(json["measures"]["R1.v * R1.i"]["mean"].get<double>(), 5, 5e-5);
    const auto& v = json["measures"]["out.v"];
    EXPECT_NEAR(v["rms"].get<double>(), 5, 5e-5);
    // A half wave has 1/2 of its peak at the fundamental, 2/(pi (k^2 - 1)) at even orders, nothing at odd ones.
    const auto& orders = v["harmonics"]["orders"];
    ASSERT_EQ(orders.size(), 40u);
    for (int k = 1; k <= 40; ++k) {
        const double peak = k == 1 ? 5 : k % 2 == 0 ? 20 / M_PI / (k * k - 1) : 0;
        EXPECT_NEAR(orders[static_cast<std::size_t>(k - 1)]["rms"].get<double>(), peak / std::sqrt(2), 2e-4) << k;
    }
    EXPECT_EQ(v["harmonics"]["THD"]["orders"], "2 to 40");
    EXPECT_TRUE(v["harmonics"].contains("IEC 61000-4-7"));
    EXPECT_EQ(cli("run --quiet " + made + " --quantity 'out.v *'").code, 1);
    EXPECT_EQ(cli("run --quiet " + made + " --last '3 periods of R1'").code, 1);
    EXPECT_EQ(cli("run --quiet " + made + " --from 1m --last 1m").code, 1);
    EXPECT_EQ(cli("run --quiet " + made + " --from 1").code, 1) << "beyond the end";
    EXPECT_EQ(cli("run --quiet " + made + " --every 0").code, 1);
    EXPECT_EQ(cli("run --quiet " + made + " --harmonics 0").code, 1);
}

TEST(Cli, WritesOnAGridAndReadsMeasuredData) {
    const TemporaryFolder folder;
    const std::string file = (folder.path() / "grid.csv").string();
    const Outcome o = cli("run --quiet " + example +
                          " --quantity out.v --quantity '2 * out.v' --from 1m --to 2m --every 10u --out " + file);
    ASSERT_EQ(o.code, 0) << o.output;
    std::ifstream in(file);
    std::string line;
    ASSERT_TRUE(std::getline(in, line));
    int rows = 0;
    for (; std::getline(in, line); ++rows) {
        const double t = std::stod(line), v = std::stod(line.substr(line.find(',') + 1)),
                     twice = std::stod(line.substr(line.rfind(',') + 1));
        EXPECT_NEAR(t, 1e-3 + rows * 10e-6, 1e-12);
        EXPECT_NEAR(twice, 2 * v, 1e-9);
    }
    EXPECT_EQ(rows, 101);
    const auto json = nlohmann::json::parse(cli("measure --json " + file + " --last 0.5m").output);
    EXPECT_GT(json["measures"]["out.v"]["mean"].get<double>(), 1);
    EXPECT_EQ(cli("measure /nowhere.csv").code, 2);
    EXPECT_EQ(cli("measure " + file + " --quantity nothing").code, 1);
}

TEST(Cli, ConvertsToTextAndBack) {
    const TemporaryFolder folder;
    const std::string text = (folder.path() / "a.txt").string(), back = (folder.path() / "b.hedge").string();
    ASSERT_EQ(cli("convert " + example + " " + text).code, 0);
    EXPECT_EQ(cli("convert " + example + " " + text).code, 1) << "it exists";
    ASSERT_EQ(cli("convert " + text + " " + back + " --onto " + example).code, 0);
    EXPECT_EQ(cli("convert " + back + " -").output, cli("convert " + example + " -").output);
    const auto measured = [](const std::string& project) {
        return nlohmann::json::parse(cli("run --quiet --json " + project).output)["measures"];
    };
    EXPECT_EQ(measured(back), measured(example));
    std::ofstream(text) << "V1 dc-voltage in\nX9 nonsense a b\n";
    const Outcome wrong = cli("convert " + text + " " + back + " --overwrite");
    EXPECT_EQ(wrong.code, 2);
    EXPECT_NE(wrong.output.find("nonsense"), std::string::npos) << wrong.output;
    EXPECT_EQ(cli("convert " + text + " " + text).code, 1);
}

TEST(Cli, InfoTellsDefaultsInForce) {
    const TemporaryFolder folder;
    const std::string text = (folder.path() / "a.txt").string(), made = (folder.path() / "a.hedge").string();
    std::ofstream(text) << "V1 dc-voltage in 0\nL1 inductor in 0 rung 2 l 1m dcr 1\n";
    ASSERT_EQ(cli("convert " + text + " " + made).code, 0);
    const Outcome o = cli("info " + made);
    EXPECT_NE(o.output.find("Inductor, rung 2, l 1m, dcr 1; by default i0 0, rc none"), std::string::npos) << o.output;
}

TEST(Cli, SettlesAndSaysWhatItFound) {
    TemporaryFolder folder;
    const auto table = (folder.path() / "settled.csv").string(), end = (folder.path() / "end.json").string();
    const Outcome o = cli("settle " + example + " --quiet --json --periods 4 --out " + table + " --keep " + end);
    ASSERT_EQ(o.code, 0) << o.output;
    const auto json = nlohmann::json::parse(o.output.substr(o.output.find('{')));
    EXPECT_EQ(json["end"], "finished");
    EXPECT_NEAR(json["reached"].get<double>(), 4 / 150e3, 1e-12);
    EXPECT_LE(json["settled"]["residual"].get<double>(), 1e-9);
    EXPECT_TRUE(json["settled"]["stable"].get<bool>());
    EXPECT_NE(json["settled"]["multipliers"][0]["words"].get<std::string>().find("ring at"), std::string::npos);
    EXPECT_TRUE(std::filesystem::exists(table));
    const Outcome words = cli("settle " + example + " --quiet");
    EXPECT_NE(words.output.find("settled: residual"), std::string::npos) << words.output;
    // A run that starts there has the ripple at once; and one that starts at the end of settled periods as well.
    for (const std::string& start : {std::string("settled"), end}) {
        const Outcome after = cli("run " + example + " --quiet --json --end 200u --quantity out.v --start " + start);
        ASSERT_EQ(after.code, 0) << after.output;
        const auto measures = nlohmann::json::parse(after.output)["measures"]["out.v"];
        EXPECT_LT(measures["max"].get<double>() - measures["min"].get<double>(), 0.2);
    }
}

TEST(Cli, WhatDoesNotSettleHasItsCode) {
    EXPECT_EQ(cli("settle " + example + " --quiet --engine fixed").code, 3);
    EXPECT_EQ(cli("settle " + example + " --quiet --periods many").code, 3);
    EXPECT_EQ(cli("settle " + example + " --quiet --period -1u").code, 3);
    EXPECT_EQ(cli("settle /nowhere.hedge --quiet").code, 2);
    // 7 µs are no period of a carrier of 150 kHz: the gates do not come again.
    const Outcome o = cli("settle " + example + " --quiet --period 7u");
    EXPECT_EQ(o.code, 4) << o.output;
    EXPECT_NE(o.output.find("periodic state"), std::string::npos) << o.output;
}

TEST(Cli, RespondsAndTunes) {
    TemporaryFolder folder;
    const std::string loop = std::string(HEDGEROW_EXAMPLES) + "/med-aux-loop.hedge";
    const auto table = (folder.path() / "loop.csv").string();
    const Outcome o = cli("respond " + loop + " --loop REG1.y --span 100:70k --points 9 --json --out " + table);
    ASSERT_EQ(o.code, 0) << o.output;
    const auto json = nlohmann::json::parse(o.output);
    EXPECT_EQ(json[0]["points"].size(), 9u);
    EXPECT_NEAR(json[0]["margins"]["crossover"].get<double>(), 6.8e3, 200);
    std::ifstream written(table);
    std::string head;
    std::getline(written, head);
    EXPECT_TRUE(head.starts_with("frequency [Hz],\"loop at REG1.y, gain [dB]\"")) << head;
    EXPECT_EQ(cli("respond " + loop + " --impedance out --points 3").code, 0);
    EXPECT_EQ(cli("respond " + loop + " --from K1 --to out.v --points 3").code, 0);
    EXPECT_EQ(cli("respond " + loop).code, 1) << "nothing is asked";
    EXPECT_EQ(cli("respond " + loop + " --from K1").code, 1);
    EXPECT_EQ(cli("respond " + loop + " --loop REG1.y --span 10").code, 1);
    EXPECT_EQ(cli("respond " + loop + " --loop REG1.y --out loop.png").code, 1);
    EXPECT_EQ(cli("respond " + loop + " --loop X1.y").code, 3);
    EXPECT_EQ(cli("respond " + loop + " --loop REG1.y --points 3 --out /nowhere/loop.csv").code, 6);

    const auto copy = (folder.path() / "copy.hedge").string();
    std::filesystem::copy_file(loop, copy);
    const Outcome tuned = cli("tune " + copy + " --part REG1 --crossover 12k --margin 70 --json --write");
    ASSERT_EQ(tuned.code, 0) << tuned.output;
    const auto values = nlohmann::json::parse(tuned.output);
    EXPECT_NEAR(values["margins"]["crossover"].get<double>(), 12e3, 50);
    EXPECT_NEAR(values["margins"]["phase margin"].get<double>(), 70, 0.5);
    const Outcome info = cli("info " + copy);
    EXPECT_NE(info.output.find("kp " + values["values"]["kp"].get<std::string>()), std::string::npos) << info.output;
    EXPECT_EQ(cli("tune " + copy + " --part REG1 --crossover 12k --margin 170").code, 3);
    EXPECT_EQ(cli("tune " + copy + " --part R1 --crossover 12k --margin 70").code, 3);
    EXPECT_EQ(cli("tune " + copy + " --part REG1 --crossover much --margin 70").code, 1);
}

TEST(Cli, RunsSpansAndTellsThem) {
    const Outcome o = cli("run " + example +
                          " --quiet --json --end 2m --span 'until 1m: all on 1' --span 'settle: all on 2' --span 'for 15u: all on 3'");
    ASSERT_EQ(o.code, 0) << o.output;
    const auto json = nlohmann::json::parse(o.output);
    ASSERT_EQ(json["spans"].size(), 3u);
    EXPECT_NEAR(json["reached"].get<double>(), 1.015e-3, 1e-12);
    EXPECT_EQ(json["spans"][2]["engine"], "adaptive");
    EXPECT_GT(json["spans"][2]["hand-over"]["energy new"].get<double>(), 0);
    EXPECT_EQ(cli("run " + example + " --quiet --span 'until 1m: Q9 on 1'").code, 3);
    EXPECT_EQ(cli("run " + example + " --quiet --span 'whenever'").code, 3);
    const Outcome plan = cli("run " + example + " --quiet --plan 'load step in detail' --scene 'load step'");
    EXPECT_EQ(plan.code, 0);
    EXPECT_NE(plan.output.find("until 60u after event 1: all on 3"), std::string::npos) << plan.output;
}

TEST(Cli, GapsOfSpansSurviveFiles) {
    TemporaryFolder folder;
    for (const char* ending : {"csv", "h5", "cfg"}) {
        const std::string path = (folder.path() / (std::string("gap.") + ending)).string();
        const Outcome o = cli("run " + example + " --quiet --end 1m --span 'until 0.5m: keep out.v' --span 'until 1m: keep nothing'" +
                              " --quantity out.v --quantity L1.i --out " + path);
        ASSERT_EQ(o.code, 0) << ending << ": " << o.output;
        const Outcome measured = cli("measure " + path + " --quantity out.v --json");
        EXPECT_EQ(measured.code, 0) << ending << ": " << measured.output;
        const auto values = nlohmann::json::parse(measured.output);
        const auto& of = values.contains("measures") ? values["measures"]["out.v"] : values["out.v"];
        EXPECT_NEAR(of["max"].get<double>(), 37.64, 0.05) << ending << measured.output;
        EXPECT_NEAR(of["min"].get<double>(), 0, 0.01) << ending;
    }
}

TEST(Cli, PricesBeforeTheRun) {
    TemporaryFolder folder;
    const Outcome o = cli("price " + example + " --json --end 3m --span 'until 1m: all on 1' --span 'settle' --span 'for 1m: adaptive'");
    ASSERT_EQ(o.code, 0) << o.output;
    const auto json = nlohmann::json::parse(o.output);
    ASSERT_EQ(json["spans"].size(), 3u);
    for (const auto& span : json["spans"]) {
        EXPECT_GT(span["seconds"].get<double>(), 0);
        EXPECT_LE(span["low"].get<double>(), span["seconds"].get<double>());
        EXPECT_GE(span["high"].get<double>(), span["seconds"].get<double>());
    }
    EXPECT_EQ(cli("price " + example).code, 0);
    EXPECT_EQ(cli("price " + example + " --span 'until Q'").code, 3);
    EXPECT_EQ(cli("price /nowhere.hedge").code, 2);
}

TEST(Cli, TradesAndKeeps) {
    TemporaryFolder folder;
    const auto copy = (folder.path() / "aux.hedge").string(), table = (folder.path() / "t.csv").string();
    std::filesystem::copy_file(example, copy);
    const std::string question = "trade " + copy + " --quiet --plan 'first periods' --feature 'pp of L1.i within 5 %' "
                                 "--alternative 'reference: all on 2' --alternative 'all on 1' ";
    const Outcome o = cli(question + "--json --keep --out " + table);
    ASSERT_EQ(o.code, 0) << o.output;
    const auto json = nlohmann::json::parse(o.output);
    EXPECT_TRUE(json["converged"].get<bool>());
    EXPECT_EQ(json["points"].size(), 2u);
    std::ifstream written(table);
    std::string head;
    std::getline(written, head);
    EXPECT_TRUE(head.starts_with("solved by,CPU time [s]")) << head;
    int kept = 0;
    for (const auto& entry : std::filesystem::directory_iterator(copy + "-runs"))
        kept += entry.path().filename().string().starts_with("study-");
    EXPECT_EQ(kept, 1);
    EXPECT_EQ(cli(question + "--out t.png").code, 6);
    EXPECT_EQ(cli(question + "--feature 'size of L1.i within 5 %'").code, 3);
    EXPECT_EQ(cli("trade " + copy + " --study none").code, 1);
}

TEST(Cli, LearnsSwitchingEnergies) {
    TemporaryFolder folder;
    const auto copy = (folder.path() / "physical.hedge").string();
    std::filesystem::copy_file(std::string(HEDGEROW_EXAMPLES) + "/med-aux-physical.hedge", copy);
    const Outcome o = cli("learn " + copy + " --plan 'first periods' --part Q1 --points 2 --quiet --json --write");
    ASSERT_EQ(o.code, 0) << o.output;
    const auto json = nlohmann::json::parse(o.output);
    EXPECT_FALSE(json["points"].empty());
    EXPECT_NE(cli("info " + copy).output.find("learned this circuit"), std::string::npos) << cli("info " + copy).output;
    EXPECT_EQ(cli("learn " + copy + " --part R1 --quiet").code, 3);
}

TEST(Cli, AStudyIsRunShownAndWritten) {
    TemporaryFolder folder;
    const std::string file = (folder.path() / "a.study").string(), table = (folder.path() / "t.csv").string();
    const std::string question = " --vary 'C2.c: 47u, 100u' --vary 'Rload: 1.5 to 3 in 3' --measure 'mean of out.v above 20' "
                                 "--measure 'pp of L1.i' --plan start-up --settle";
    const Outcome dry = cli("study " + example + question + " --dry");
    EXPECT_EQ(dry.code, 0) << dry.output;
    EXPECT_NE(dry.output.find("6 runs; the first one takes"), std::string::npos) << dry.output;
    const Outcome o = cli("study " + example + question + " --quiet --file " + file + " --out " + table);
    EXPECT_EQ(o.code, 0) << o.output;
    EXPECT_NE(o.output.find("6 of 6 runs"), std::string::npos) << o.output;
    std::ifstream in(table);
    std::string line;
    int lines = 0;
    while (std::getline(in, line)) ++lines;
    EXPECT_EQ(lines, 7);
    const auto json = nlohmann::json::parse(cli("study " + file + " --show --json").output);
    EXPECT_EQ(json["rows"], 6);
    EXPECT_EQ(json["measures"][0]["yield"], 1.0);
    EXPECT_NE(cli("study " + example + question + " --file " + file).code, 0) << "nothing is overwritten";
    EXPECT_EQ(cli("study " + example + " --vary 'C9.c: 1u, 2u' --measure 'mean of out.v' --file " + file + "x").code, 3);
    EXPECT_EQ(cli("study").code, 1);
    EXPECT_EQ(cli("study /nowhere.study").code, 2);
}

TEST(Cli, AKilledStudyLosesNoRowThatWasFinished) {
    TemporaryFolder folder;
    const std::string file = (folder.path() / "a.study").string();
    const pid_t child = fork();
    if (child == 0) {
        const std::string out = (folder.path() / "out").string();
        std::freopen(out.c_str(), "w", stdout);
        execl(HEDGEROW_CLI, HEDGEROW_CLI, "study", example.c_str(), "--vary", "L1.l: 10u to 40u in 4000", "--measure", "max of L1.i", "--plan",
              "start-up", "--quiet", "--file", file.c_str(), static_cast<char*>(nullptr));
        _exit(127);
    }
    const auto rows = [&]() -> int {
        const Outcome o = cli("study " + file + " --show --json");
        const auto json = nlohmann::json::parse(o.output, nullptr, false);
        return json.is_object() && json.contains("rows") ? json["rows"].get<int>() : 0;
    };
    int before = 0;
    for (int k = 0; k < 600 && before < 20; ++k) {
        usleep(50'000);
        before = rows();
    }
    kill(child, SIGKILL);
    int outcome = 0;
    waitpid(child, &outcome, 0);
    ASSERT_GE(before, 20);
    const int after = rows();
    EXPECT_GE(after, before);
    EXPECT_LT(after, 4000);
    // It goes on: what is there is not run again.
    const std::string going = "timeout -s INT 3 " + std::string(HEDGEROW_CLI) + " study " + file + " --quiet";
    EXPECT_NE(std::system((going + " > /dev/null 2>&1").c_str()), 0);
    EXPECT_GT(rows(), after);
}

TEST(Cli, ProcessesWorkOnAFolder) {
    TemporaryFolder folder;
    const std::string study = (folder.path() / "s").string();
    EXPECT_EQ(cli("study split " + example + " " + study + " --vary 'C2.c: 47u to 100u in 11' --measure 'mean of out.v' --plan start-up --chunk 3")
                  .code, 0);
    EXPECT_EQ(cli("study work " + study + " 2").code, 0);
    EXPECT_NE(cli("study gather " + study).output.find("1 of 4 chunks"), std::string::npos);
    EXPECT_EQ(cli("study work " + study + " --workers 2").code, 0);
    const Outcome o = cli("study gather " + study + " --json");
    EXPECT_EQ(nlohmann::json::parse(o.output)["rows"], 11) << o.output;
    EXPECT_NE(cli("study work " + study + " 9").code, 0);
    EXPECT_NE(cli("study gather /nowhere").code, 0);
}

TEST(Cli, OptimisesWithinRanges) {
    TemporaryFolder folder;
    const std::string file = (folder.path() / "o.study").string();
    const std::string question = "study optimise " + example + " --plan start-up --settle --vary 'L1.l: 8u to 47u' --measure 'ripple = pp of L1.i' "
                                 "--measure 'size = mean of L1.i above 1'";
    const Outcome o = cli(question + " --minimise 'ripple' --evaluations 40 --quiet --json --file " + file);
    ASSERT_EQ(o.code, 0) << o.output;
    const auto json = nlohmann::json::parse(o.output);
    EXPECT_NEAR(std::stod(json["point"]["L1.l"].get<std::string>()), 47e-6, 1e-6) << "the ripple falls with the inductance";
    EXPECT_EQ(cli(question + " --file " + file + "2").code, 1) << "nothing to minimise";
    EXPECT_NE(cli(question + " --minimise 'nothing + 1' --file " + file + "3").code, 0);
}

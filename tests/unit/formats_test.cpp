#include <unistd.h>
#include <filesystem>
#include <fstream>
#include <sstream>

#include <hdf5.h>

#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "formats/hedge/json_place.h"
#include "runs/registry.h"
#include "ledger/run_writer.h"
#include "support/circuit.h"
#include "support/folder.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

std::string minimal(const std::string& members) {
    return R"({"hedgerow": 1, "sheets": [{"name": "main"}])" + (members.empty() ? "" : ", " + members) + "}";
}

Error readError(const std::string& text) {
    const auto loaded = readHedge(text);
    EXPECT_FALSE(loaded) << text;
    return loaded ? Error{} : loaded.error();
}

}  // namespace

TEST(Hedge, RoundTripKeepsEveryExample) {
    for (const auto& file : std::filesystem::directory_iterator(HEDGEROW_EXAMPLES)) {
        if (file.path().extension() != ".hedge") continue;
        const auto first = loadHedge(file.path());
        ASSERT_TRUE(first) << file.path() << ": " << first.error().text();
        const std::string text = writeHedge(first->project);
        const auto second = readHedge(text);
        ASSERT_TRUE(second) << second.error().text();
        EXPECT_EQ(first->project, second->project);
        EXPECT_EQ(writeHedge(second->project), text);
    }
}

TEST(Hedge, OnePartALine) {
    Circuit c;
    c.add("resistor", "R1", {"a", "0"}, {{"r", "4k7"}});
    const std::string text = writeHedge(c.project());
    std::istringstream lines(text);
    int found = 0;
    for (std::string line; std::getline(lines, line);)
        if (line.find("\"R1\"") != std::string::npos) {
            ++found;
            EXPECT_NE(line.find("\"r\":\"4k7\""), std::string::npos) << "as typed";
        }
    EXPECT_EQ(found, 1);
}

TEST(Hedge, UnknownKeysSurvive) {
    const std::string text =
        R"({"hedgerow": 1, "note": {"b": 1, "a": [1, 2]}, "sheets": [{"name": "main", "colour": "green",
        "parts": [{"name": "R1", "kind": "resistor", "at": [8, 8], "rung": 1, "values": {"r": "5", "future": "7"}, "owner": "x"}],
        "wires": [{"points": [[0, 0], [8, 0]], "style": 3}], "labels": [{"net": "a", "at": [0, 0], "z": null}]}],
        "parameters": [{"name": "D", "value": "0.3", "unit": "", "group": "g"}], "plans": [{"name": "p", "end": "1m", "phases": []}],
        "scenes": [{"name": "s", "events": [{"at": "1m", "set": "a", "to": "2", "why": "x"}], "more": 1}], "lanes": [{"quantities": ["a.v"], "log": true},
          {"quantities": ["a.v"], "kind": "spectrum", "spectrum": {"window": "flat top", "limit": "1 2, 3 4", "new": 7}},
          {"quantities": ["a.v", "a.i"], "kind": "x-y"}],
        "laneSets": [{"name": "one", "lanes": [{"quantities": ["b.v"]}], "other": 1}],
        "measured": {"quantity": "a.i", "periods": 3, "else": true}})";
    const auto loaded = readHedge(text);
    ASSERT_TRUE(loaded) << loaded.error().text();
    const std::string written = writeHedge(loaded->project);
    for (const char* kept :
         {R"("note": {"b":1,"a":[1,2]})", R"("colour": "green")", R"("future":"7")", R"("owner":"x")", R"("style":3)",
          R"("z":null)", R"("group":"g")", R"("phases":[])", R"("why":"x")", R"("more":1)", R"("log":true)",
          R"("new":7)", R"("other":1)", R"("else":true)"})
        EXPECT_NE(written.find(kept), std::string::npos) << kept << " in\n" << written;
    EXPECT_EQ(readHedge(written)->project, loaded->project);
}

TEST(Hedge, ErrorsCarryLineAndColumn) {
    const Error syntax = readError("{\n  \"hedgerow\": 1,\n  oops\n}");
    EXPECT_EQ(syntax.line, 3);
    EXPECT_EQ(syntax.column, 3);
    const Error type = readError("{\n  \"hedgerow\": 1,\n  \"title\": 5\n}");
    EXPECT_EQ(type.line, 3);
    EXPECT_EQ(type.column, 12);
    EXPECT_EQ(type.message, "a text in quotes was expected here");
    const Error deep = readError(
        "{\"hedgerow\": 1, \"sheets\": [{\"parts\": [\n{\"name\": \"R1\", \"kind\": \"resistor\", \"turn\": 7}]}]}");
    EXPECT_EQ(deep.line, 2);
    EXPECT_EQ(deep.message, "a whole number from 0 to 3 was expected here");
    EXPECT_EQ(readError("[]").message, "an object in braces was expected here");
    EXPECT_EQ(readError("{}").message,
              "this is not a Hedgerow project: the member \"hedgerow\" with its version is missing");
    EXPECT_EQ(readError("").line, 1);
    EXPECT_NE(readError(std::string(100'000, '[')).message.find("nested"), std::string::npos);
    EXPECT_EQ(readError(minimal(R"("lanes": [{"height": 1e99}])")).message,
              "a whole number from 24 to 2000 was expected here");
    EXPECT_EQ(readError(R"({"hedgerow": 1, "sheets": [{"wires": [{"points": [[0,0],[8,8]]}]}]})").message,
              "the points of a wire must follow each other at right angles");
}

TEST(Hedge, ANewerVersionOpensReadOnly) {
    const auto loaded = readHedge(R"({"hedgerow": 7, "sheets": [{}], "wonders": 1})");
    ASSERT_TRUE(loaded);
    EXPECT_TRUE(loaded->readOnly);
    EXPECT_NE(loaded->notice.find("newer version"), std::string::npos);
}

TEST(Hedge, PlacesAreFound) {
    const std::string text = "{\n \"a\": [1, {\"b\\\"\": \"x]}\", \"c\": true}],\n \"d\": null\n}";
    EXPECT_EQ(placeOfValue(text, {std::string("a"), std::size_t{1}, std::string("c")}).column, 31);
    EXPECT_EQ(placeOfValue(text, {std::string("d")}).line, 3);
    EXPECT_EQ(placeOfValue(text, {std::string("nothing")}).line, 1);
    EXPECT_EQ(beyondBounds("{\"[[[\": [1]}"), "");
    EXPECT_NE(beyondBounds(std::string(65, '[')).find("nested"), std::string::npos);
    std::string wide = "{";
    for (int i = 0; i < 20'001; ++i) wide += "\"a\":1,";
    EXPECT_NE(beyondBounds(wide + "}").find("members"), std::string::npos);
}

TEST(File, ReplacesAsAWhole) {
    TemporaryFolder folder;
    const auto path = folder.path() / "a.txt";
    ASSERT_TRUE(writeFileAtomically(path, "old"));
    // A writer that fails leaves the old content and no litter.
    const auto status = replaceAtomically(path, [&](const std::filesystem::path& temporary) -> Status {
        std::ofstream(temporary) << "half";
        return Error{ErrorCode::file, "disk full"};
    });
    EXPECT_FALSE(status);
    EXPECT_EQ(*readFile(path), "old");
    ASSERT_TRUE(writeFileAtomically(path, "new"));
    EXPECT_EQ(*readFile(path), "new");
    EXPECT_EQ(std::distance(std::filesystem::directory_iterator(folder.path()), {}), 1);
    EXPECT_FALSE(writeFileAtomically(folder.path() / "missing" / "b.txt", "x"));
    EXPECT_FALSE(readFile(folder.path()));
    EXPECT_FALSE(readFile(path, 1));
}

TEST(File, LinksStayLinks) {
    TemporaryFolder folder;
    ASSERT_TRUE(writeFileAtomically(folder.path() / "real", "1"));
    std::filesystem::create_symlink(folder.path() / "real", folder.path() / "link");
    ASSERT_TRUE(writeFileAtomically(folder.path() / "link", "2"));
    EXPECT_TRUE(std::filesystem::is_symlink(folder.path() / "link"));
    EXPECT_EQ(*readFile(folder.path() / "real"), "2");
}

namespace {

std::shared_ptr<Run> smallRun() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "out"}, {{"r", "1k"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1u"}})
        .plan("5m");
    return run(c);
}

}  // namespace

TEST(Csv, HeaderNamesUnitsAndNumbersReadBackExactly) {
    TemporaryFolder folder;
    const auto r = smallRun();
    ASSERT_TRUE(exportRun(*r, "csv", folder.path() / "a.csv", {"out.v", "C1.i"}));
    std::ifstream file(folder.path() / "a.csv");
    std::string line;
    std::getline(file, line);
    EXPECT_EQ(line, "time [s],out.v [V],C1.i [A]");
    const auto trace = r->trace("out.v");
    std::size_t row = 0;
    for (; std::getline(file, line); ++row) {
        double time = 0, voltage = 0;
        ASSERT_EQ(std::sscanf(line.c_str(), "%lf,%lf", &time, &voltage), 2);
        ASSERT_EQ(time, toSeconds(trace->time(row)));
        ASSERT_EQ(voltage, trace->value(row));
    }
    EXPECT_EQ(row, trace->size());
    EXPECT_FALSE(exportRun(*r, "csv", folder.path() / "no" / "a.csv"));
    EXPECT_FALSE(exportRun(*r, "csv", folder.path() / "a.csv", {"nope.v"}));
    EXPECT_FALSE(exportRun(*r, "other", folder.path() / "a.x"));
}

TEST(Hdf5, DataUnitsAndProvenance) {
    TemporaryFolder folder;
    const auto r = smallRun();
    const auto path = folder.path() / "a.h5";
    ASSERT_TRUE(exportRun(*r, "hdf5", path, {"out.v", "C1.i"}));
    const hid_t file = H5Fopen(path.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT);
    ASSERT_GE(file, 0);
    const auto trace = r->trace("out.v");
    const auto read = [&](const char* name) {
        std::vector<double> values(trace->size());
        const hid_t data = H5Dopen2(file, name, H5P_DEFAULT);
        EXPECT_GE(H5Dread(data, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, values.data()), 0);
        H5Dclose(data);
        return values;
    };
    const auto times = read("/time"), voltages = read("/traces/out.v");
    for (std::size_t i = 0; i < trace->size(); ++i) {
        ASSERT_EQ(times[i], toSeconds(trace->time(i)));
        ASSERT_EQ(voltages[i], trace->value(i));
    }
    EXPECT_GT(H5Aexists_by_name(file, "/traces/out.v", "unit", H5P_DEFAULT), 0);
    EXPECT_GT(H5Aexists(file, "plan"), 0);
    EXPECT_GT(H5Aexists(file, "program"), 0);
    H5Fclose(file);
}

// What we write is read by a program that knows nothing of us: exported traces, and a kept run.
TEST(Hdf5, IsReadByAnIndependentReader) {
    TemporaryFolder folder;
    const auto r = smallRun();
    const auto path = folder.path() / "a.h5";
    ASSERT_TRUE(exportRun(*r, "hdf5", path, {"out.v", "C1.i"}));
    const auto dumped = [](const std::string& arguments) {
        std::string all;
        FILE* pipe = popen(("h5dump " + arguments + " 2>&1").c_str(), "r");
        if (!pipe) return all;
        char buffer[4096];
        while (std::fgets(buffer, sizeof buffer, pipe)) all += buffer;
        EXPECT_EQ(pclose(pipe), 0) << all.substr(0, 400);
        return all;
    };
    const std::string data = dumped("-y -m %.17g -d /traces/out.v " + path.string());
    std::istringstream values(data.substr(data.find("DATA {") + 6));
    const auto trace = r->trace("out.v");
    for (std::size_t i = 0; i < trace->size(); ++i) {
        double value = NAN;
        char comma = 0;
        values >> value >> comma;
        ASSERT_EQ(value, trace->value(i)) << i;
    }
    EXPECT_NE(data.find("ATTRIBUTE \"unit\""), std::string::npos);
    // A kept run too: its head, and its points.
    const auto kept = folder.path() / "kept";
    ASSERT_TRUE(RunWriter(*r, *OpenFolder::make(kept)).finish());
    const std::string head = dumped("-H " + (kept / "run.h5").string());
    for (const char* part : {"DATASET \"project\"", "DATASET \"pieces\"", "DATASET \"views\"", "ATTRIBUTE"})
        EXPECT_NE(head.find(part), std::string::npos) << part << " in\n" << head;
    const std::string ticks = dumped("-y -w 1 -d ticks " + (kept / "points-00000.h5").string());
    std::istringstream instants(ticks.substr(ticks.find("DATA {") + 6));
    for (std::size_t i = 0; i < trace->size(); ++i) {
        Tick t = 0;
        char comma = 0;
        instants >> t >> comma;
        ASSERT_EQ(t, trace->time(i)) << i;
    }
}

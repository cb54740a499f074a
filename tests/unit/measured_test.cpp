// Traces out and in: COMTRADE by a reader of its own written from the standard, value change dumps, CSV of many kinds.

#include <gtest/gtest.h>

#include <cmath>
#include <cstring>
#include <filesystem>
#include <random>
#include <sstream>

#include "formats/csv/read_csv.h"
#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "ledger/measured_run.h"
#include "runs/registry.h"
#include "support/circuit.h"
#include "support/folder.h"

using namespace hedgerow;

/// For the leak check of the sanitizer build: HDF5 does not free all it took for a file that proves damaged.
extern "C" const char* __lsan_default_suppressions() { return "leak:libhdf5\n"; }

namespace {

std::shared_ptr<hedgerow::Run> smallRun() {
    auto loaded = loadHedge(std::filesystem::path(HEDGEROW_EXAMPLES) / "med-aux.hedge");
    loaded->project.plans.front().end = "40u";
    return test::run(loaded->project);
}

const std::vector<std::string> wanted = {"out.v", "L1.i", "R1.p", "M1.g", "S1.on"};

std::vector<std::string> linesOf(const std::string& text) {
    std::istringstream in(text);
    std::vector<std::string> lines;
    for (std::string line; std::getline(in, line);) {
        if (!line.empty() && line.back() == '\r') line.pop_back();
        lines.push_back(line);
    }
    return lines;
}

std::vector<double> numbersOf(const std::string& line) {
    std::istringstream in(line);
    std::vector<double> numbers;
    for (std::string field; std::getline(in, field, ',');)
        numbers.push_back(field.empty() ? NAN : std::strtod(field.c_str(), nullptr));
    return numbers;
}

}  // namespace

TEST(ComtradeFiles, TextIsWhatTheStandardSays) {
    test::TemporaryFolder folder;
    const auto run = smallRun();
    ASSERT_TRUE(exportRun(*run, "comtrade", folder.path() / "a.cfg", wanted));
    const auto cfg = linesOf(*readFile(folder.path() / "a.cfg"));
    const auto dat = linesOf(*readFile(folder.path() / "a.dat"));
    EXPECT_TRUE(cfg[0].ends_with(",2013"));
    EXPECT_EQ(cfg[1], "5,3A,2D");
    EXPECT_TRUE(cfg[2].starts_with("1,out.v,,,V,"));
    EXPECT_EQ(cfg[5], "1,M1.g,,,0");
    EXPECT_EQ(cfg[8], "0") << "no constant rate: the stamps count";
    EXPECT_EQ(cfg[12], "ASCII");
    const double unit = std::stod(cfg[13]) * 1e-6;
    const auto factors = numbersOf(cfg[2]);
    const auto out = run->trace("out.v");
    const auto gate = run->trace("M1.g");
    ASSERT_EQ(dat.size(), out->size());
    const auto all = out->measure(0, run->end());
    for (std::size_t i = 0; i < dat.size(); ++i) {
        const auto sample = numbersOf(dat[i]);
        ASSERT_EQ(sample.size(), 7u);
        EXPECT_EQ(sample[0], static_cast<double>(i + 1));
        ASSERT_NEAR(sample[1] * unit, toSeconds(out->time(i)), unit);
        ASSERT_NEAR(factors[5] * sample[2] + factors[6], out->value(i), 1e-5 * all->peakToPeak());
        ASSERT_EQ(sample[5], gate->value(i));
    }
}

TEST(ComtradeFiles, OneFileHoldsBinaryRecords) {
    test::TemporaryFolder folder;
    const auto run = smallRun();
    ASSERT_TRUE(exportRun(*run, "comtrade-file", folder.path() / "a.cff", wanted));
    const std::string text = *readFile(folder.path() / "a.cff");
    const std::size_t at = text.find("--- file type: DAT BINARY: ");
    ASSERT_NE(at, std::string::npos);
    const std::size_t begin = text.find('\n', at) + 1;
    const auto count = run->points();
    const std::size_t record = 4 + 4 + 3 * 4 + 2;
    EXPECT_EQ(std::stoul(text.substr(at + 27)), count * record);
    ASSERT_EQ(text.size() - begin, count * record);
    const auto current = run->trace("L1.i");
    const auto on = run->trace("S1.on");
    for (std::size_t i = 0; i < count; ++i) {
        const char* bytes = text.data() + begin + i * record;
        std::uint32_t number;
        float value;
        std::memcpy(&number, bytes, 4);
        std::memcpy(&value, bytes + 12, 4);
        ASSERT_EQ(number, i + 1);
        ASSERT_EQ(value, static_cast<float>(current->value(i)));
        ASSERT_EQ(static_cast<unsigned char>(bytes[20]) >> 1 & 1, on->value(i) > 0.5 ? 1 : 0);
    }
}

TEST(MeasuredRuns, EveryFormatThatReadsComesBackTheSame) {
    test::TemporaryFolder folder;
    const auto run = smallRun();
    for (const auto& [format, file, relative] : {std::tuple{"csv", "a.csv", 1e-12},
                                                 {"hdf5", "a.h5", 1e-12},
                                                 {"comtrade", "a.cfg", 1e-5},
                                                 {"comtrade-file", "a.cff", 1e-6}}) {
        ASSERT_TRUE(exportRun(*run, format, folder.path() / file, wanted));
        const auto measured = openMeasured(folder.path() / file);
        ASSERT_TRUE(measured) << measured.error().message;
        ASSERT_EQ((*measured)->quantityNames().size(), wanted.size()) << format;
        for (const std::string& name : wanted) {
            const auto a = run->trace(name), b = (*measured)->trace(name);
            ASSERT_TRUE(b) << format << " " << name;
            EXPECT_EQ(a->size(), b->size());
            const auto m = a->measure(0, run->end()), n = b->measure(0, run->end());
            const double span = std::max(std::abs(m->max), std::abs(m->min));
            EXPECT_NEAR(m->max, n->max, relative * span) << format << " " << name;
            EXPECT_NEAR(m->mean, n->mean, std::max(relative, 1e-3) * span) << format << " " << name;
        }
    }
    const auto moved = openMeasured(folder.path() / "a.csv", 1e-3, 2);
    ASSERT_TRUE(moved);
    EXPECT_NEAR(toSeconds((*moved)->end()), 1e-3 + 80e-6, 1e-12);
    EXPECT_FALSE(openMeasured(folder.path() / "a.txt"));
    EXPECT_FALSE(openMeasured(folder.path() / "missing.csv"));
    EXPECT_FALSE(openMeasured(folder.path() / "a.csv", 1e6));
}

TEST(ComtradeFiles, OldOnesWithRatesAndSixteenBitsAreRead) {
    test::TemporaryFolder folder;
    // 1991: two analogue channels, one status channel, 1 kHz, 16-bit samples.
    ASSERT_TRUE(writeFileAtomically(folder.path() / "b.cfg",
                                    "station,1\r\n3,2A,1D\r\n1,VA,A,,kV,0.01,0.5,0,-32768,32767\r\n"
                                    "2,IA,A,,A,0.1,0,0,-32768,32767\r\n1,TRIP,0\r\n50\r\n1\r\n1000,4\r\n"
                                    "01/01/91,00:00:00.000000\r\n01/01/91,00:00:00.000000\r\nBINARY\r\n"));
    std::string data;
    for (std::int32_t i = 0; i < 4; ++i) {
        const std::int32_t head[2] = {i + 1, i * 1000};
        const std::int16_t values[3] = {static_cast<std::int16_t>(100 * i), static_cast<std::int16_t>(-5 * i),
                                        static_cast<std::int16_t>(i % 2)};
        data.append(reinterpret_cast<const char*>(head), 8).append(reinterpret_cast<const char*>(values), 6);
    }
    ASSERT_TRUE(writeFileAtomically(folder.path() / "b.dat", data));
    const auto run = openMeasured(folder.path() / "b.cfg");
    ASSERT_TRUE(run) << run.error().message;
    const auto v = (*run)->trace("VA"), i = (*run)->trace("IA"), trip = (*run)->trace("TRIP");
    EXPECT_EQ(v->unit(), "V");
    EXPECT_NEAR(v->value(2), (0.01 * 200 + 0.5) * 1e3, 1e-9);
    EXPECT_NEAR(toSeconds(v->time(2)), 2e-3, 1e-12);
    EXPECT_NEAR(i->value(3), -1.5, 1e-12);
    EXPECT_TRUE(trip->logic());
    EXPECT_EQ(trip->value(3), 1);
    ASSERT_TRUE(writeFileAtomically(folder.path() / "b.dat", data.substr(0, data.size() - 3)));
    EXPECT_FALSE(openMeasured(folder.path() / "b.cfg")) << "a sample is cut";
}

TEST(ValueChangeDumps, HoldEveryChangeOnce) {
    test::TemporaryFolder folder;
    const auto run = smallRun();
    ASSERT_TRUE(exportRun(*run, "vcd", folder.path() / "a.vcd", wanted));
    const auto lines = linesOf(*readFile(folder.path() / "a.vcd"));
    EXPECT_NE(std::find(lines.begin(), lines.end(), "$timescale 1 ps $end"), lines.end());
    EXPECT_NE(std::find(lines.begin(), lines.end(), "$var wire 1 ! M1.g $end"), lines.end());
    std::vector<double> changes;
    double now = 0;
    for (const std::string& line : lines) {
        if (line.starts_with("#")) now = std::stod(line.substr(1)) * 1e-12;
        if (line == "0!" || line == "1!") changes.push_back(now);
    }
    const std::vector<double> expected = test::edges(*run, "M1.g");
    ASSERT_EQ(changes.size(), expected.size() + 1) << "the first is the value at the start";
    for (std::size_t i = 0; i < expected.size(); ++i) EXPECT_NEAR(changes[i + 1], expected[i], 1e-12);
    EXPECT_FALSE(exportRun(*run, "vcd", folder.path() / "b.vcd", {"out.v"}));
    EXPECT_FALSE(openMeasured(folder.path() / "a.vcd")) << "written, not read";
}

TEST(CsvFiles, OfManyKindsAreRead) {
    for (const auto& [text, name, unit, last] : std::vector<std::tuple<const char*, const char*, const char*, double>>{
             {"time [s],out.v [V]\n0,1\n1e-3,2.5\n", "out.v", "V", 2.5},
             {"t;CH1\nms;mV\n0,0;100\n1,0;250,5\n", "CH1", "V", 0.2505},
             {"\xef\xbb\xbf\"Time (ms)\"\t\"Current, main (A)\"\r\n0\t1\r\n1\t-2\r\n", "Current, main", "A", -2},
             {"0 1\n1 2\n# a note\n\n2 3.5e0\n", "column2", "", 3.5},
             {"Instrument X\nSerial 12\nTime,CH1,CH2\ns,V,A\n0,1,2\n1e-6,3,4\n", "CH1", "V", 3},
         }) {
        const auto data = readCsv(text);
        ASSERT_TRUE(data) << text << data.error().message;
        EXPECT_EQ(data->columns[0].name, name);
        EXPECT_EQ(data->columns[0].unit, unit);
        EXPECT_NEAR(data->columns[0].values.back(), last, 1e-12) << text;
    }
    EXPECT_NEAR(readCsv("t;CH1\nms;mV\n0,0;100\n1,0;250,5\n")->times.back(), 1e-3, 1e-15);
    for (const auto& [text, said] :
         std::vector<std::pair<const char*, const char*>>{{"time,v\n0,1\n1,x\n", "line 3: 'x' in column 2"},
                                                          {"time,v\n0,1\n1\n", "line 3: 2 fields were expected"},
                                                          {"time,v\n1,1\n0,1\n", "must not fall"},
                                                          {"time,v\n", "two rows"},
                                                          {"hello", "two rows"}}) {
        const auto data = readCsv(text);
        ASSERT_FALSE(data) << text;
        EXPECT_NE(data.error().message.find(said), std::string::npos) << data.error().message;
    }
}

TEST(MeasuredRuns, DamagedFilesNeverCrash) {
    test::TemporaryFolder folder;
    const auto run = smallRun();
    std::mt19937 random(7);
    for (const auto& [format, file] :
         {std::pair{"csv", "a.csv"}, {"comtrade", "a.cfg"}, {"comtrade-file", "a.cff"}, {"hdf5", "a.h5"}}) {
        ASSERT_TRUE(exportRun(*run, format, folder.path() / file, {"out.v", "M1.g"}));
        const std::string whole = *readFile(folder.path() / file);
        for (int k = 0; k < 150; ++k) {
            std::string bytes = whole;
            if (k % 3 == 0) bytes.resize(random() % bytes.size());
            for (int n = 0; n < 1 + k % 8 && !bytes.empty(); ++n)
                bytes[random() % std::min<std::size_t>(bytes.size(), k % 2 ? 400 : bytes.size())] =
                    static_cast<char>(random());
            ASSERT_TRUE(writeFileAtomically(folder.path() / file, bytes));
            const auto read = openMeasured(folder.path() / file);
            EXPECT_TRUE(read || !read.error().message.empty());
        }
    }
}

// Where the language of the user writes a comma into numbers, files, fields and results are what they are elsewhere.

#include <clocale>
#include <cstdlib>
#include <fstream>
#include <map>

#include "base/text.h"
#include "formats/cards/card_file.h"
#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "model/points.h"
#include "model/quantity.h"
#include "desk/card_import.h"
#include "runs/registry.h"
#include "support/circuit.h"
#include "support/folder.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// Makes the language that of a place with decimal commas, as the window does with that of the user.
class Comma {
public:
    Comma() {
        const std::string made =
            "localedef -i de_DE -f UTF-8 '" + (folder_.path() / "de_DE.UTF-8").string() + "' 2>/dev/null";
        there_ = std::system(made.c_str()) == 0;
        setenv("LOCPATH", folder_.path().c_str(), 1);
        there_ = there_ && std::setlocale(LC_ALL, "de_DE.UTF-8");
    }
    ~Comma() {
        std::setlocale(LC_ALL, "C");
        unsetenv("LOCPATH");
    }
    Comma(const Comma&) = delete;
    Comma& operator=(const Comma&) = delete;
    bool there() const { return there_; }

private:
    TemporaryFolder folder_;
    bool there_ = false;
};

/// Everything that reads or writes numbers, as texts.
std::map<std::string, std::string> texts() {
    std::map<std::string, std::string> all;
    const auto add = [&all](const std::string& what, const std::string& text) { all[what] = text; };
    const auto number = [](double value) { return std::to_string(static_cast<long long>(std::llround(value * 1e9))); };

    for (const double value : {1.2345, -0.04567, 9.9996e-7, 0.5, 123456.7, 2.5e-13, 4.7e-6})
        add("shown " + number(value), formatQuantity(value, "V") + " " + formatQuantity(value, "A", 6));
    for (const char* text : {"1.5k", "0.25", "47.5u", "2.5*3.25", "sqrt(0.25)", "1e-3", "12.5 mH"})
        add(std::string("typed ") + text, number(evaluate(text) ? evaluate(text)->value : -1));
    for (const char* text : {"2.5MEG", "0.75", "1.5n", "-0.33e-2V"})
        add(std::string("on a card ") + text, number(*cardNumber(text)));

    TemporaryFolder folder;
    std::ofstream(folder.path() / "points.csv") << "time,value\n0,0.5\n0.25e-3, 1.75\n1e-3;-2.5\n";
    for (const char* text : {"points.csv", "0 0.5, 0.25m 1.75, 1m -2.5"}) {
        const auto points = pointsOf(text, "s", "V", ProjectFolder(folder.path()));
        std::string line;
        for (const TablePoint& point : points ? *points : std::vector<TablePoint>())
            line += number(point.t * 1e6) + " " + number(point.value) + "; ";
        add(std::string("points from ") + text, line);
    }

    const auto cards =
        importCards(".model QX NPN (IS=1.5e-15 BF=120.5 BR=2.25 RC=0.35 CJE=4.5p)\n", 0.25, CancelToken());
    for (const ImportedDevice& device : cards.devices)
        for (const auto& [key, text] : device.part.values.all()) add("imported " + key, text);

    Circuit c;
    c.add("dc-voltage", "V1", {"a", "0"}, {{"level", "12.5"}})
        .add("resistor", "R1", {"a", "out"}, {{"r", "1.5k"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "0.22u"}, {"v0", "0.75"}})
        .add("points-current", "I1", {"0", "out"}, {{"points", "0 0, 0.5m 1.5m"}})
        .plan("1.25m");
    add("project", writeHedge(c.project()));
    const auto read = readHedge(all["project"]);
    add("project again", read ? writeHedge(read->project) : read.error().message);
    const auto r = run(c);
    if (!r) return all;
    add("end of the run", number(at(*r, "out.v", 1.25e-3)));
    for (const char* format : {"csv", "comtrade", "vcd"}) {
        const auto path = folder.path() / (std::string("run.") + (std::string(format) == "comtrade" ? "cfg" : format));
        const auto done = exportRun(*r, format, path, {"out.v", "C1.i"});
        add(std::string("exported as ") + format, done ? *readFile(path) : done.error().message);
    }
    return all;
}

}  // namespace

TEST(Language, NumbersInTextsHaveAPoint) {
    std::string_view rest;
    EXPECT_EQ(numberIn("0.5"), 0.5);
    EXPECT_EQ(numberIn("+2e3"), 2000);
    EXPECT_EQ(numberIn("-1.25e-3 V", &rest), -1.25e-3);
    EXPECT_EQ(rest, " V");
    for (const char* text : {"", "+", "-", "V", "0,5", "1.5 ", "inf", "nan", "1e999", "+-1", ".", "1e"})
        EXPECT_FALSE(numberIn(text)) << text;
    EXPECT_EQ(numberIn("1e", &rest), 1.0) << "what is no exponent is behind the number";
    EXPECT_EQ(rest, "e");
}

TEST(Language, ACommaChangesNothing) {
    const auto expected = texts();
    ASSERT_GT(expected.size(), 40u);
    const Comma comma;
    if (!comma.there()) GTEST_SKIP() << "the package 'locales' is not installed";
    char text[8];
    std::snprintf(text, sizeof text, "%.1f", 0.5);
    ASSERT_STREQ(text, "0,5") << "the language is in force";
    const auto found = texts();
    ASSERT_EQ(found.size(), expected.size());
    for (const auto& [what, value] : expected) EXPECT_EQ(found.at(what), value) << what;
}

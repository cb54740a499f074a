// Spans of a plan as text, rules for rungs, and prices as they are learnt.

#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "formats/hedge/hedge.h"
#include "model/references.h"
#include "model/rung_rule.h"
#include "model/span_text.h"
#include "runs/price_book.h"
#include "runs/registry.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

TEST(SpanText, LinesComeBackAsTheyWere) {
    for (const char* line :
         {"until 3m: all on 2", "for 3/fsw: Q1 on 4, L1 on 4, exact, tolerance 1e-5", "settle: as drawn",
          "to the end: fixed, step 100n", "until 100u after event 2: as drawn", "until settled: all on 1, keep nothing",
          "until settled or 5m: at most 2", "until out.v > 23: as drawn", "until out.v < 2*k or 3m after event 1: as drawn",
          "every 10m for 2 periods of M1: all on 4, keep L1.i + out.v", "every 10m for 20u until 50m: all on 4"}) {
        const auto span = readSpanText(line);
        ASSERT_TRUE(span) << line << ": " << span.error().message;
        EXPECT_EQ(spanText(*span), line);
        const auto again = readSpanText(spanText(*span));
        ASSERT_TRUE(again);
        EXPECT_EQ(*again, *span);
    }
}

TEST(SpanText, ShortFormsAreUnderstood) {
    EXPECT_EQ(spanText(*readSpanText("3m: all on 2")), "until 3m: all on 2");
    EXPECT_EQ(spanText(*readSpanText("for 3m")), "for 3m: as drawn");
    EXPECT_EQ(spanText(*readSpanText("settle")), "settle: as drawn");
    EXPECT_EQ(spanText(*readSpanText("end: all on rung 2")), "to the end: all on rung 2");
    EXPECT_EQ(readSpanText("3m: keep all")->keep, "");
}

TEST(SpanText, FaultsSayWhatIsMissing) {
    const std::pair<const char*, const char*> cases[] = {
        {"", "when the span ends"},
        {": all on 2", "when the span ends"},
        {"until : all on 2", "when the span ends"},
        {"for : exact", "how long"},
        {"every 3m: exact", "how long it lasts each time"},
        {"every for 3: exact", "how long it lasts"},
        {"until out.v >: exact", "the value is missing"},
        {"until > 3: exact", "name the quantity"},
        {"until settled or : exact", "until settled or 5m"},
        {"until 3m after event x", "counted from 1"},
        {"until 3m after event 0", "counted from 1"},
        {"3m: all on 9", "no rung of parts"},
        {"3m: all in 2", "which parts"},
        {"3m: quickly", "no rung of parts"},
    };
    for (const auto& [line, fault] : cases) {
        const auto span = readSpanText(line);
        ASSERT_FALSE(span) << line;
        EXPECT_NE(span.error().message.find(fault), std::string::npos) << line << ": " << span.error().message;
    }
}

/// A flat project with parts in it, on one sheet.
Project parts() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}}, 1)
        .add("switch", "S1", {"in", "a", ""}, {}, 2)
        .add("diode", "X1.D1", {"a", "0"}, {}, 2)
        .add("inductor", "X1.L1", {"a", "b"}, {{"l", "1m"}}, 4)
        .add("resistor", "R1", {"b", "0"}, {{"r", "1"}}, 1);
    return c.project();
}

int rungOf(const Project& project, const char* name) { return project.findPart(std::string_view(name))->rung; }

TEST(RungRules, TheMoreExactTermCountsAndWhatIsLackingIsNextBelow) {
    const Catalogue& catalogue = partLibrary().catalogue();
    Project p = parts();
    ASSERT_TRUE(applyRungRule("X1.D1 on 4, X1 on 2, Switches on 3, all on 1", p, catalogue));
    EXPECT_EQ(rungOf(p, "X1.D1"), 4) << "itself before its place";
    EXPECT_EQ(rungOf(p, "X1.L1"), 2) << "its place before all";
    EXPECT_EQ(rungOf(p, "S1"), 3) << "its group before all, though all comes later";
    EXPECT_EQ(rungOf(p, "R1"), 1);
    p = parts();
    ASSERT_TRUE(applyRungRule("diode on 3, all on 4", p, catalogue));
    EXPECT_EQ(rungOf(p, "X1.D1"), 3);
    EXPECT_EQ(rungOf(p, "R1"), catalogue.find("resistor")->rungAtOrBelow(4).rung);
    p = parts();
    ASSERT_TRUE(applyRungRule("at most 2", p, catalogue));
    EXPECT_EQ(rungOf(p, "X1.L1"), 2);
    EXPECT_EQ(rungOf(p, "R1"), 1) << "what stands lower stays";
    p = parts();
    ASSERT_TRUE(applyRungRule("all on 1, at least 2", p, catalogue));
    EXPECT_EQ(rungOf(p, "S1"), 2);
    p = parts();
    ASSERT_TRUE(applyRungRule("as drawn", p, catalogue));
    EXPECT_EQ(p, parts());
}

TEST(RungRules, ATermThatNamesNothingIsRefused) {
    Project p = parts();
    const auto status = applyRungRule("all on 1, Q7 on 3", p, partLibrary().catalogue());
    ASSERT_FALSE(status);
    EXPECT_NE(status.error().message.find("Q7"), std::string::npos);
}

TEST(RungRules, PartsKeepTheirNamesInThem) {
    EXPECT_EQ(withRenamedInRungs("all on 1, Q1 on 3, Q12 on 2", "Q1", "S7"), "all on 1, S7 on 3, Q12 on 2");
    EXPECT_EQ(withRenamedInRungs("X1.Q1 on 3", "X1", "ARM"), "ARM.Q1 on 3");
}

TEST(Spans, StandInProjectFilesAndFollowNames) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}}).add("resistor", "R1", {"in", "0"}, {{"r", "1"}});
    Project project = c.project();
    project.parameters.push_back({"Ts", "1u", "s", "", ""});
    Plan& plan = project.plans.front();
    plan.largestJump = "0.2";
    for (const char* line : {"until 3*Ts: R1 on 1, keep R1.v + V1.i", "settle: all on 1", "until R1.v > 3 or 5m: exact",
                             "every 3m for Ts: tolerance 1e-5"})
        plan.spans.push_back(*readSpanText(line));
    plan.spans.back().extra = R"({"colour":"red"})";
    project.studies.push_back({.name = "what", .plan = "look", .features = {"pp of R1.v within 1 %"}, .alternatives = {"exact"}});
    const auto read = readHedge(writeHedge(project));
    ASSERT_TRUE(read) << read.error().message;
    EXPECT_EQ(read->project.plans, project.plans);
    EXPECT_EQ(read->project.studies, project.studies);

    renameThing(project, "R1", "LOAD", false);
    EXPECT_EQ(spanText(project.plans.front().spans[0]), "until 3*Ts: LOAD on 1, keep LOAD.v + V1.i");
    EXPECT_EQ(spanText(project.plans.front().spans[2]), "until LOAD.v > 3 or 5m: exact");
    renameInExpressions(project, partLibrary().catalogue(), "Ts", "T");
    EXPECT_EQ(project.plans.front().spans[0].until, "3*T");
    EXPECT_EQ(project.plans.front().spans[3].lasting, "T");
}

TEST(PriceBook, ComesCloserAndSurerWithEveryRun) {
    PriceBook book;
    const PriceBook::Factor first = book.factor("adaptive");
    EXPECT_DOUBLE_EQ(first.likely, 1);
    EXPECT_LT(first.low, 0.75);
    EXPECT_GT(first.high, 1.35);
    double width = first.high / first.low;
    for (int i = 0; i < 20; ++i) book.learn("adaptive", 1.0, 1.5 * (i % 2 ? 1.02 : 0.98));
    const PriceBook::Factor known = book.factor("adaptive");
    EXPECT_NEAR(known.likely, 1.5, 0.2);
    EXPECT_LT(known.high / known.low, 0.6 * width);
    EXPECT_EQ(known.known, 20);
    EXPECT_DOUBLE_EQ(book.factor("exact").likely, 1) << "of another kind nothing was learnt";
    book.learn("adaptive", 0, 1), book.learn("adaptive", 1, NAN), book.learn("adaptive", 1, 1e9);
    EXPECT_EQ(book.factor("adaptive").known, 20) << "what is no ratio teaches nothing";
}

TEST(PriceBook, SurvivesTheFileAndWhatIsWrongInIt) {
    const auto folder = std::filesystem::temp_directory_path() / ("hedgerow-prices-" + std::to_string(::getpid()));
    const auto file = folder / "a" / "prices.json";
    PriceBook book;
    book.learn("exact", 1, 2), book.learn("exact", 1, 2);
    ASSERT_TRUE(book.write(file));
    EXPECT_DOUBLE_EQ(PriceBook::read(file).factor("exact").likely, book.factor("exact").likely);
    for (const char* text : {"", "[", "{}", "{\"kinds\": 3}", "{\"kinds\": {\"exact\": [1, 2]}}",
                             "{\"kinds\": {\"exact\": [1, 1e300, 1, 1]}}", "{\"kinds\": {\"exact\": [1, \"a\", 1, 1]}}",
                             "{\"kinds\": {\"exact\": [-1, 0, 0, 1e99]}}"}) {
        std::ofstream(file) << text;
        EXPECT_DOUBLE_EQ(PriceBook::read(file).factor("exact").likely, 1) << text;
    }
    EXPECT_DOUBLE_EQ(PriceBook::read(folder / "none").factor("exact").likely, 1);
    std::filesystem::remove_all(folder);
}

}  // namespace

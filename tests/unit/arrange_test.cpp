// Order on the sheet, and names that are used elsewhere.

#include <gtest/gtest.h>

#include <random>

#include "formats/hedge/hedge.h"
#include "model/arrange.h"
#include "model/edits.h"
#include "model/quantity.h"
#include "model/references.h"
#include "model/text_form.h"
#include "model/values.h"
#include "runs/registry.h"

using namespace hedgerow;

namespace {

const Catalogue& catalogue() { return partLibrary().catalogue(); }

class Arrange : public ::testing::Test {
protected:
    int place(const char* kind, Point at, TypedValues values = {}) {
        Part part;
        part.kind = kind;
        part.at = at;
        part.values = std::move(values);
        EXPECT_TRUE(history.apply(edits::place(part, catalogue())));
        return history.project().sheet().parts.back().id;
    }
    const Part& part(int id) const { return *history.project().findPart(id); }
    NetList nets() const { return findNets(history.project().sheet(), catalogue()); }
    History history;
};

TypedValues value(const char* key, const char* text) {
    TypedValues values;
    values.set(key, text);
    return values;
}

}  // namespace

TEST_F(Arrange, AlignsAndKeepsWhatIsJoined) {
    const int a = place("resistor", {0, 0}), b = place("resistor", {96, 24}), c = place("capacitor", {200, -16});
    EXPECT_TRUE(history.apply(edits::addWire({{0, -32}, {0, -64}, {96, -64}, {96, -8}})));
    EXPECT_TRUE(history.apply(edits::align({a, b, c}, edits::Edge::row, catalogue())));
    EXPECT_EQ(part(a).at.y, part(b).at.y);
    EXPECT_EQ(part(b).at.y, part(c).at.y);
    EXPECT_EQ(nets().netOfPin.at({a, 0}), nets().netOfPin.at({b, 0}));
    EXPECT_TRUE(history.apply(edits::align({a, b, c}, edits::Edge::left, catalogue())));
    EXPECT_EQ(part(a).at.x, 0);
    EXPECT_LE(std::abs(part(b).at.x - part(c).at.x), 16) << "edges, not middles, are in line";
    history.undo();
    history.undo();
    EXPECT_EQ(part(b).at, (Point{96, 24}));
}

TEST_F(Arrange, DistributesEvenly) {
    const int a = place("resistor", {0, 0}), b = place("resistor", {16, 0}), c = place("resistor", {40, 0}),
              d = place("resistor", {480, 0});
    EXPECT_TRUE(history.apply(edits::distribute({a, b, c, d}, true, catalogue())));
    EXPECT_EQ(part(a).at.x, 0);
    EXPECT_EQ(part(b).at.x, 160);
    EXPECT_EQ(part(c).at.x, 320);
    EXPECT_EQ(part(d).at.x, 480);
}

TEST_F(Arrange, CopiesInARowWithCountedNames) {
    const int a = place("resistor", {0, 0}, value("r", "4k7"));
    EXPECT_TRUE(history.apply(edits::array({a}, 3, {0, 80}, catalogue())));
    ASSERT_EQ(history.project().sheet().parts.size(), 4u);
    for (int k = 1; k <= 3; ++k) {
        const Part* copy = history.project().findPart("R" + std::to_string(k + 1));
        ASSERT_TRUE(copy);
        EXPECT_EQ(copy->at, (Point{0, 80 * k}));
        EXPECT_EQ(*copy->values.find("r"), "4k7");
    }
    EXPECT_FALSE(history.apply(edits::array({a}, 0, {0, 80}, catalogue())));
    EXPECT_FALSE(history.apply(edits::array({a}, 100'000, {0, 80}, catalogue())));
}

TEST_F(Arrange, ASplicedPartLeavesTheWireWhole) {
    const int a = place("resistor", {0, 32}), b = place("resistor", {400, 32});
    EXPECT_TRUE(history.apply(edits::addWire({{0, 0}, {400, 0}})));
    Part across;
    across.kind = "inductor";
    across.at = {200, 0};
    const PartKind* kind = catalogue().find("inductor");
    across.turn = kind->pins[0].at.y == kind->pins[1].at.y ? 0 : 1;
    EXPECT_TRUE(history.apply(edits::place(across, catalogue())));
    const int l = history.project().sheet().parts.back().id;
    EXPECT_NE(nets().netOfPin.at({a, 0}), nets().netOfPin.at({b, 0}));
    EXPECT_TRUE(history.apply(edits::remove({l}, catalogue())));
    EXPECT_EQ(nets().netOfPin.at({a, 0}), nets().netOfPin.at({b, 0})) << "the gap is closed";
    // A part from rail to rail leaves none.
    EXPECT_TRUE(history.apply(edits::addWire({{0, 64}, {400, 64}})));
    EXPECT_TRUE(history.apply(edits::remove({b}, catalogue())));
    EXPECT_NE(nets().netOfPin.at({a, 0}), nets().netOfPin.at({a, 1}));
}

TEST_F(Arrange, RenamedParametersFollowEverywhere) {
    const int r = place("resistor", {0, 0}, value("r", "2*Rload + Rload_2"));
    for (const Parameter& p : {Parameter{"Rload", "3", "ohm", "", ""}, Parameter{"Rload_2", "Rload*2", "ohm", "", ""}})
        EXPECT_TRUE(history.apply(edits::setParameter("", p, catalogue())));
    Plan plan;
    plan.end = "10m*Rload/Rload";
    EXPECT_TRUE(history.apply(edits::setPlan("look", plan)));
    EXPECT_EQ(usesOf(history.project(), catalogue(), "Rload").size(), 3u);
    EXPECT_TRUE(history.apply(edits::setParameter("Rload", {"Rl", "3", "ohm", "", ""}, catalogue())));
    EXPECT_EQ(*part(r).values.find("r"), "2*Rl + Rload_2");
    EXPECT_EQ(history.project().parameters[1].value, "Rl*2");
    EXPECT_EQ(history.project().plans[0].end, "10m*Rl/Rl");
    EXPECT_TRUE(undefinedParameters(history.project(), catalogue()).empty());
    EXPECT_TRUE(history.apply(edits::removeParameter("Rl")));
    EXPECT_EQ(undefinedParameters(history.project(), catalogue()), (std::vector<std::string>{"Rl"}));
}

TEST_F(Arrange, AValueBecomesAParameter) {
    const int l = place("inductor", {0, 0}, value("l", "47u"));
    EXPECT_TRUE(history.apply(edits::promote(l, "l", "Lout", catalogue())));
    EXPECT_EQ(*part(l).values.find("l"), "Lout");
    const ParameterTable table(history.project().parameters);
    EXPECT_DOUBLE_EQ(*partValue(part(l), *catalogue().find("inductor"), "l", table.lookup()), 47e-6);
    EXPECT_FALSE(history.apply(edits::promote(l, "l", "Lout", catalogue()))) << "the name is taken";
    EXPECT_FALSE(history.apply(edits::promote(l, "l", "2 bad", catalogue())));
}

TEST_F(Arrange, ParametersStayInTheirRange) {
    const auto errors = [](const char* least, const char* text, const char* most) {
        return ParameterTable({Parameter{"D", text, "", "", "", least, most}}).errors();
    };
    EXPECT_TRUE(errors("0.1", "0.3", "0.9").empty());
    EXPECT_TRUE(errors("", "3", "").empty());
    ASSERT_EQ(errors("0.1", "0.95", "0.9").size(), 1u);
    EXPECT_EQ(errors("0.1", "0.95", "0.9")[0].message, "parameter D is 0.95, but must be at most 0.9");
    EXPECT_EQ(errors("0.1", "0", "").front().code, ErrorCode::range);
    EXPECT_NE(errors("x", "0", "").front().message.find("least value"), std::string::npos);
}

// Any sequence of edits, undone to the beginning and made again: every state comes back as it was.
TEST_F(Arrange, RandomEditsComeBackByUndoAndRedo) {
    for (unsigned seed = 1; seed <= 20; ++seed) {
        SCOPED_TRACE(seed);
        history = History();
        std::mt19937 random(seed);
        const auto below = [&](std::size_t n) { return static_cast<int>(random() % std::max<std::size_t>(1, n)); };
        std::vector<Project> states{history.project()};
        for (int step = 0; step < 80; ++step) {
            const Sheet& sheet = history.project().sheet();
            std::set<int> some;
            for (const Part& p : sheet.parts)
                if (random() % 3 == 0) some.insert(p.id);
            for (const Wire& w : sheet.wires)
                if (random() % 6 == 0) some.insert(w.id);
            const auto spot = [&] { return Point{below(60) * 8, below(60) * 8}; };
            const int one =
                sheet.parts.empty() ? 0 : sheet.parts[static_cast<std::size_t>(below(sheet.parts.size()))].id;
            Part part;
            part.kind = random() % 2 ? "resistor" : "inductor";
            part.at = spot();
            std::string text = writeText(history.project(), catalogue(), nets());
            if (!text.empty() && random() % 2) text.erase(0, text.find('\n') + 1);
            const std::vector<Edit> choices = {
                edits::place(part, catalogue()),
                edits::place(part, catalogue()),
                edits::addWire({{below(40) * 8, 80}, {below(40) * 8, 80}}, random() % 2),
                edits::move(some, {below(20) * 8 - 80, below(20) * 8 - 80}, catalogue()),
                edits::turn(some, catalogue()),
                edits::flip(some, catalogue()),
                edits::remove({one}, catalogue()),
                edits::setLabel(spot(), "n" + std::to_string(below(4))),
                edits::setValue(some, "r", std::to_string(below(100))),
                edits::renamePart(one, "Q" + std::to_string(below(30))),
                edits::align(some, static_cast<edits::Edge>(below(6)), catalogue()),
                edits::distribute(some, random() % 2, catalogue()),
                edits::array({one}, 2, {64, 8}, catalogue()),
                edits::promote(one, "r", "p" + std::to_string(below(9)), catalogue()),
                edits::setParameter("p1", {"p" + std::to_string(below(9)), "5", "", "", ""}, catalogue()),
                edits::becomeText(readText(text, catalogue()), catalogue()),
            };
            (void)history.apply(choices[static_cast<std::size_t>(below(choices.size()))]);
            if (history.project() == states.back()) continue;
            // Typing into one field merges into one step.
            states.push_back(history.project());
        }
        std::vector<Project> seen{history.project()};
        while (history.canUndo()) {
            history.undo();
            seen.push_back(history.project());
        }
        EXPECT_EQ(seen.back(), states.front());
        for (const Project& state : seen) EXPECT_TRUE(std::find(states.begin(), states.end(), state) != states.end());
        for (std::size_t i = seen.size() - 1; i-- > 0;) {
            ASSERT_TRUE(history.canRedo());
            history.redo();
            ASSERT_EQ(history.project(), seen[i]);
        }
        EXPECT_FALSE(history.canRedo());
        // What was made this way is a project that can be written and read.
        const auto again = readHedge(writeHedge(history.project()));
        ASSERT_TRUE(again) << again.error().text();
        EXPECT_EQ(writeHedge(again->project), writeHedge(history.project()));
    }
}

TEST_F(Arrange, FindsPartsAndNets) {
    place("resistor", {0, 0}, value("r", "4k7"));
    const int l = place("inductor", {200, 0}, value("l", "47u"));
    EXPECT_TRUE(history.apply(edits::addWire({{0, -32}, {0, -64}, {80, -64}})));
    EXPECT_TRUE(history.apply(edits::setLabel({0, -32}, "out")));
    const auto find = [&](const char* typed) { return findOnSheet(history.project(), catalogue(), nets(), typed); };
    ASSERT_EQ(find("47u").size(), 1u);
    EXPECT_EQ(find("47u")[0].ids, (std::set<int>{l}));
    EXPECT_EQ(find("R1")[0].title, "R1");
    EXPECT_EQ(find("induct")[0].title, "L1");
    ASSERT_EQ(find("out").size(), 1u);
    EXPECT_EQ(find("out")[0].what, Found::What::net);
    EXPECT_EQ(find("out")[0].ids.size(), 2u) << "its wire and its name";
    EXPECT_TRUE(find("nothing like it").empty());
    EXPECT_EQ(similarParts(history.project().sheet(), {l}), (std::set<int>{l}));
    EXPECT_EQ(wholeNets(history.project().sheet(), nets(), find("out")[0].ids), find("out")[0].ids);
}

// IEC 60063: 47 is followed by 51 in E24 and by 47.5 in E96.
// Words that a scene moves contacts by, and parts whose periods it counts, are no parameters; they follow their parts.
TEST_F(Arrange, TimesInPeriodsAndContacts) {
    Project project;
    for (const auto& [name, kind] : {std::pair{"V1", "sine-voltage"}, {"Q1", "breaker"}, {"V10", "sine-voltage"}}) {
        Part part;
        part.id = project.newId(), part.name = name, part.kind = kind;
        project.sheet().parts.push_back(part);
    }
    SceneEvent closes;
    closes.at = "n periods of V1 + 2 periods of V10 + late", closes.target = "Q1.position", closes.value = "closed";
    project.scenes.front().events = {closes};
    project.plans.front().end = "8 periods of V1";
    EXPECT_EQ(undefinedParameters(project, catalogue()), (std::vector<std::string>{"n", "late"}));
    renameInExpressions(project, catalogue(), "n", "count");
    renameThing(project, "V1", "Vmains", false);
    renameThing(project, "Q1", "K1", false);
    const SceneEvent& now = project.scenes.front().events.front();
    EXPECT_EQ(now.at, "count periods of Vmains + 2 periods of V10 + late");
    EXPECT_EQ(now.target, "K1.position");
    EXPECT_EQ(project.plans.front().end, "8 periods of Vmains");
    renameThing(project, "Vmains", "Q", true);  // a net of this name is none of its business
    EXPECT_EQ(project.plans.front().end, "8 periods of Vmains");
}

TEST(Expressions, ValuesStepAlongThePreferredOnes) {
    EXPECT_EQ(steppedValue("47u", 1), "51u");
    EXPECT_EQ(steppedValue("47u", -1), "43u");
    EXPECT_EQ(steppedValue("48u", -1), "47u");
    EXPECT_EQ(steppedValue("910", 1), "1k");
    EXPECT_EQ(steppedValue("1k", -1), "910");
    EXPECT_EQ(steppedValue("4k7", 24), "47k");
    EXPECT_EQ(steppedValue("10 mH", 1), "11mH");
    EXPECT_EQ(steppedValue("-2", 1), "-2.2");
    EXPECT_EQ(steppedValue("0.1", -1), "91m");
    EXPECT_EQ(steppedValue("46.4", 1, true), "47.5");
    EXPECT_EQ(steppedValue("97.6", 1, true), "100");
    EXPECT_FALSE(steppedValue("2*47u", 1));
    EXPECT_FALSE(steppedValue("Lout", 1));
    EXPECT_FALSE(steppedValue("0", 1));
    EXPECT_FALSE(steppedValue("", 1));
}

TEST(Expressions, NamesAreFoundWhateverTheirUnits) {
    EXPECT_EQ(parametersIn("2*a + 3 V - sqrt(b)"), (std::vector<std::string>{"a", "b"}));
    EXPECT_EQ(withRenamed("a + aa*a - 3a", "a", "xyz"), "xyz + aa*xyz - 3a") << "3a is a number with a prefix";
    EXPECT_EQ(withRenamed("max(a, 1/a)", "a", "b_1"), "max(b_1, 1/b_1)");
}

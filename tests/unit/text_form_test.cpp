// The circuit as text: both ways, and what happens to the drawing.

#include <gtest/gtest.h>

#include <random>

#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "model/text_form.h"
#include "runs/registry.h"

using namespace hedgerow;

namespace {

const Catalogue& catalogue() { return partLibrary().catalogue(); }

std::string textOf(const Project& project) {
    return writeText(project, catalogue(), findNets(project.sheet(), catalogue()));
}

/// Which pins are joined, whatever the nets are called and however they are drawn.
std::set<std::set<std::string>> joins(const Project& project) {
    std::set<std::set<std::string>> all;
    for (const Net& net : findNets(project.sheet(), catalogue()).nets) {
        std::set<std::string> pins;
        for (const PinRef& pin : net.pins) {
            const Part& part = *project.findPart(pin.part);
            pins.insert(part.name + "." + catalogue().find(part.kind)->pins[static_cast<std::size_t>(pin.pin)].name);
        }
        if (pins.size() > 1) all.insert(pins);
    }
    return all;
}

Project become(Project project, const std::string& text) {
    TextCircuit circuit = readText(text, catalogue());
    EXPECT_TRUE(circuit.errors.empty()) << circuit.errors.front().text();
    EXPECT_TRUE(edits::becomeText(std::move(circuit), catalogue()).apply(project));
    return project;
}

Project example(const char* name) {
    auto loaded = loadHedge(std::string(HEDGEROW_EXAMPLES) + "/" + name);
    EXPECT_TRUE(loaded);
    return loaded->project;
}

}  // namespace

TEST(TextForm, SaysWhatIsOnTheSheetAndReadsItBackUnchanged) {
    for (const char* name : {"med-aux.hedge", "mains-input.hedge", "chopped-load.hedge", "med-mast.hedge",
                             "med-aux-loop.hedge", "med-brake.hedge"}) {
        const Project project = example(name);
        const std::string text = textOf(project);
        EXPECT_EQ(std::count(text.begin(), text.end(), '\n'), static_cast<long>(project.sheet().parts.size()));
        const Project again = become(project, text);
        EXPECT_EQ(again.sheets, project.sheets) << name << ": what is the same stays as it is drawn";
    }
    EXPECT_NE(textOf(example("med-aux.hedge")).find("L1 inductor sw out"), std::string::npos);
    EXPECT_NE(textOf(example("med-aux.hedge")).find("R1 resistor out 0 r Rload"), std::string::npos);
}

TEST(TextForm, AnEmptySheetBecomesTheCircuit) {
    for (const char* name : {"med-aux.hedge", "mains-input.hedge", "chopped-load.hedge"}) {
        const Project project = example(name);
        Project fresh;
        fresh.parameters = project.parameters;
        fresh = become(fresh, textOf(project));
        EXPECT_EQ(joins(fresh), joins(project)) << name;
        EXPECT_EQ(textOf(become(fresh, textOf(fresh))), textOf(fresh));
        for (const Part& part : project.sheet().parts) {
            ASSERT_TRUE(fresh.findPart(part.name));
            EXPECT_EQ(fresh.findPart(part.name)->values, part.values);
            EXPECT_EQ(fresh.findPart(part.name)->rung, part.rung);
        }
    }
}

TEST(TextForm, ChangesOnlyWhatChanged) {
    const Project before = example("chopped-load.hedge");
    std::string text = textOf(before);
    const std::size_t at = text.find("R1 resistor");
    ASSERT_NE(at, std::string::npos);
    const Project renamed = become(before, std::string(text).replace(at, 2, "Rx"));
    EXPECT_TRUE(renamed.findPart("Rx"));
    EXPECT_EQ(renamed.sheet().wires, before.sheet().wires) << "a new name moves no wire";
    const Project more = become(before, text + "C9 capacitor R1.a R1.b c 1u\n");
    ASSERT_TRUE(more.findPart("C9"));
    EXPECT_EQ(joins(more).size(), joins(before).size());
    const std::size_t end = text.find('\n', at);
    const Project less = become(before, std::string(text).erase(at, end - at + 1));
    EXPECT_FALSE(less.findPart("R1"));
}

TEST(TextForm, MistakesHaveTheirPlace) {
    const auto first = [](const char* text) {
        const TextCircuit circuit = readText(text, catalogue());
        EXPECT_EQ(circuit.errors.size(), 1u) << text;
        return circuit.errors.empty() ? Error{} : circuit.errors.front();
    };
    EXPECT_EQ(first("R1 resistor a b\nR2 resistr a b").line, 2);
    EXPECT_EQ(first("R1 resistr a b").column, 4);
    EXPECT_NE(first("R1 resistor a").message.find("pin b is missing"), std::string::npos);
    EXPECT_NE(first("R1 resistor a b l 5").message.find("has no value 'l'"), std::string::npos);
    EXPECT_NE(first("R1 resistor a b r").message.find("needs a value"), std::string::npos);
    EXPECT_NE(first("R1 resistor a b rung 9").message.find("no rung 9"), std::string::npos);
    EXPECT_NE(first("R1 resistor a b r \"5").message.find("not closed"), std::string::npos);
    EXPECT_NE(first("R1 resistor a b\nR1 resistor a b").message.find("another R1 in line 1"), std::string::npos);
    EXPECT_NE(first("1R resistor a b").message.find("cannot name a part"), std::string::npos);
    EXPECT_TRUE(readText("# a comment\n\n  R1 resistor a b r \"2 * 5\" # and another\n", catalogue()).errors.empty());
}

// Random bytes and mutated text: errors, no crash.
TEST(TextForm, AnyTextIsSurvived) {
    std::mt19937 random(7);
    const std::string base = textOf(example("med-aux.hedge"));
    for (int trial = 0; trial < 2000; ++trial) {
        std::string text = base;
        for (int k = 0; k < 6; ++k) {
            const std::size_t at = random() % text.size();
            if (random() % 3 == 0)
                text.erase(at, random() % 20);
            else
                text.insert(at, 1, static_cast<char>(random() % 256));
            if (text.empty()) text = "x";
        }
        TextCircuit circuit = readText(text, catalogue());
        if (!circuit.errors.empty()) continue;
        Project project;
        ASSERT_TRUE(edits::becomeText(std::move(circuit), catalogue()).apply(project));
    }
}

// Random circuits written and read: the same joins, whether the sheet was empty or held another circuit.
TEST(TextForm, RandomCircuitsGoBothWays) {
    for (unsigned seed = 1; seed <= 40; ++seed) {
        SCOPED_TRACE(seed);
        std::mt19937 random(seed);
        const auto randomText = [&] {
            std::string text;
            const char* kinds[] = {"resistor", "inductor", "mosfet", "transformer"};
            const int parts = 3 + static_cast<int>(random() % 12);
            for (int i = 0; i < parts; ++i) {
                const PartKind* kind = catalogue().find(kinds[random() % 4]);
                text += "P" + std::to_string(i) + " " + kind->id;
                for (std::size_t pin = 0; pin < kind->pins.size(); ++pin)
                    text += random() % 8 == 0 ? " -" : " n" + std::to_string(random() % 6);
                text += "\n";
            }
            return text;
        };
        Project project = become(Project{}, randomText());
        for (int change = 0; change < 4; ++change) {
            const std::string text = randomText();
            project = become(project, text);
            ASSERT_EQ(joins(project), joins(become(Project{}, text)));
            ASSERT_EQ(joins(become(project, textOf(project))), joins(project));
            // What the text says is what is joined.
            std::map<std::string, std::set<std::string>> said;
            for (const TextLine& line : readText(text, catalogue()).lines)
                for (std::size_t i = 0; i < line.nets.size(); ++i)
                    if (!line.nets[i].empty()) said[line.nets[i]].insert(line.name + "." + line.kind->pins[i].name);
            std::set<std::set<std::string>> expected;
            for (const auto& [name, pins] : said)
                if (pins.size() > 1) expected.insert(pins);
            ASSERT_EQ(joins(project), expected);
        }
    }
}

// Parts of every kind, in any order and number, come to lie on the grid, apart from each other and from what was there.
TEST(TextForm, NewPartsKeepClearOfEachOther) {
    std::vector<const PartKind*> kinds;
    for (const PartKind* kind : catalogue().all())
        if (!kind->module) kinds.push_back(kind);
    std::mt19937 random(8);
    for (int trial = 0; trial < 20; ++trial) {
        const Project before = trial % 2 ? example("med-aux.hedge") : Project();
        std::string text = textOf(before);
        const std::size_t old = before.sheet().parts.size(), fresh = 1 + random() % 40;
        for (std::size_t i = 0; i < fresh; ++i) {
            const PartKind& kind = *kinds[random() % kinds.size()];
            text += "NEW" + std::to_string(i) + " " + kind.id;
            for (std::size_t pin = 0; pin < kind.pins.size(); ++pin) text += " -";
            text += "\n";
        }
        const Project after = become(before, text);
        const auto& parts = after.sheet().parts;
        ASSERT_EQ(parts.size(), old + fresh);
        for (std::size_t i = 0; i < parts.size(); ++i) {
            EXPECT_EQ(parts[i].at.x % gridStep, 0) << parts[i].kind;
            EXPECT_EQ(parts[i].at.y % gridStep, 0) << parts[i].kind;
            if (!parts[i].name.starts_with("NEW")) continue;
            const Box box = boxOf(parts[i], *catalogue().find(parts[i].kind));
            for (std::size_t j = 0; j < parts.size(); ++j)
                if (i != j && (j < i || !parts[j].name.starts_with("NEW"))) {
                    EXPECT_FALSE(box.overlaps(boxOf(parts[j], *catalogue().find(parts[j].kind))))
                        << parts[i].kind << " on " << parts[j].kind << ", trial " << trial;
                }
        }
    }
}

// Modules: laying out, making them from parts, libraries.

#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <numbers>

#include "base/largest.h"
#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "model/module_edits.h"
#include "model/modules.h"
#include "model/references.h"
#include "model/text_form.h"
#include "files/library.h"
#include "runs/registry.h"
#include "runs/run.h"
#include "support/circuit.h"

using namespace hedgerow;

namespace {

const Catalogue& parts() { return partLibrary().catalogue(); }

Project example(const std::string& name) {
    auto loaded = loadHedge(std::filesystem::path(HEDGEROW_EXAMPLES) / name);
    EXPECT_TRUE(loaded);
    return loaded ? loaded->project : Project();
}

std::set<int> idsOf(const Project& project, const std::vector<std::string>& names) {
    std::set<int> ids;
    for (const std::string& name : names) {
        const Part* part = project.findPart(name);
        EXPECT_TRUE(part) << name;
        if (part) ids.insert(part->id);
    }
    return ids;
}

/// One part that fills a pin list, net by net: what two circuits must agree on, whatever their nets are called.
std::set<std::set<std::string>> joinedPins(const FlatProject& flat, const std::string& dropped = "") {
    std::set<std::set<std::string>> nets;
    for (const Net& net : flat.nets.nets) {
        std::set<std::string> pins;
        for (const PinRef& ref : net.pins) {
            const Part& part = *flat.project.findPart(ref.part);
            std::string name = part.name;
            if (!dropped.empty() && name.starts_with(dropped)) name = name.substr(dropped.size());
            pins.insert(name + "." + parts().find(part.kind)->pins[static_cast<std::size_t>(ref.pin)].name);
        }
        if (!pins.empty()) nets.insert(pins);
    }
    return nets;
}

class Modules : public ::testing::Test {
protected:
    void start(Project project) { history = History(std::move(project)); }
    const Project& project() const { return history.project(); }
    Catalogue catalogue() const { return withModules(parts(), project()); }
    Status apply(const Edit& edit) { return history.apply(edit); }
    FlatProject flat() const { return flattened(project(), parts()); }
    /// The project's parts with a choice of them in a module M, placed as X1.
    void makeOf(const std::vector<std::string>& names) {
        const Catalogue now = catalogue();
        const auto status = apply(edits::makeModule(idsOf(project(), names), "M", now));
        ASSERT_TRUE(status) << status.error().message;
    }
    void enter(const std::string& place) {
        std::vector<int> path = project().view.path;
        path.push_back(project().findPart(place)->id);
        history.look(viewAlong(project(), path));
        ASSERT_EQ(project().view.path, path);
    }
    History history;
};

}  // namespace

TEST_F(Modules, EverySelectionOfAnExampleBecomesAModuleThatJoinsTheSame) {
    for (const char* name : {"med-aux.hedge", "mains-input.hedge", "chopped-load.hedge"}) {
        start(example(name));
        const auto before = joinedPins(flat());
        const auto quantities = elaborate(project(), partLibrary())->network.quantities.size();
        std::vector<std::string> names;
        for (const Part& part : project().sheet().parts) names.push_back(part.name);
        for (std::size_t first = 0; first < names.size(); ++first)
            for (std::size_t count = 1; first + count <= names.size(); count += 2) {
                const std::vector<std::string> chosen(names.begin() + static_cast<std::ptrdiff_t>(first),
                                                      names.begin() + static_cast<std::ptrdiff_t>(first + count));
                makeOf(chosen);
                const FlatProject laid = flat();
                EXPECT_TRUE(laid.errors.empty());
                EXPECT_EQ(joinedPins(laid, "X1."), before) << name << " from " << chosen.front() << " " << count;
                const auto elaborated = elaborate(project(), partLibrary());
                EXPECT_TRUE(elaborated) << elaborated.error().message;
                if (elaborated) {
                    EXPECT_EQ(elaborated->network.quantities.size(), quantities);
                }
                history.undo();
            }
    }
}

// The same instants, and the same values to the last digit: the order of the nets may round a readout another way.
TEST_F(Modules, RunsAsThePartsAlone) {
    start(example("med-aux.hedge"));
    const auto alone = test::run(project());
    makeOf({"S1", "D1"});
    const auto asModule = test::run(project());
    ASSERT_TRUE(alone && asModule);
    for (const auto& [one, other] : {std::pair{"L1.i", "L1.i"}, std::pair{"S1.v", "X1.S1.v"}}) {
        const auto a = alone->trace(one), b = asModule->trace(other);
        ASSERT_TRUE(a && b);
        ASSERT_EQ(a->size(), b->size());
        double largest = 0, worst = 0;
        for (std::size_t i = 0; i < a->size(); ++i) {
            ASSERT_EQ(a->time(i), b->time(i)) << i;
            largest = std::max(largest, std::abs(a->value(i)));
            worst = largestOf(worst, std::abs(a->value(i) - b->value(i)));
        }
        EXPECT_LT(worst, 1e-14 * largest) << one;
    }
}

TEST_F(Modules, LanesFollowWhatGoesIntoAModule) {
    start(example("med-aux.hedge"));
    ASSERT_TRUE(apply(edits::setLanes({{{"L1.i", "S1.v"}, 96, ""}}, "lanes")));
    makeOf({"L1"});
    EXPECT_EQ(project().lanes.front().quantities, (std::vector<std::string>{"X1.L1.i", "S1.v"}));
}

TEST_F(Modules, ParametersArePassedFromThePlace) {
    test::Circuit circuit;
    circuit.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}});
    circuit.add("resistor", "R1", {"in", "mid"}, {{"r", "1k"}});
    circuit.add("resistor", "R2", {"mid", "0"}, {{"r", "1k"}});
    circuit.plan("1m");
    start(circuit.project());
    makeOf({"R1", "R2"});
    enter("X1");
    const Catalogue now = catalogue();
    const int r2 = project().findPart("R2")->id;
    ASSERT_TRUE(apply(edits::promote(r2, "r", "Rlow", now)));
    EXPECT_TRUE(project().parameters.empty()) << "it is the module's parameter";
    history.look({});
    const int place = project().findPart("X1")->id;
    EXPECT_NEAR(test::at(*test::run(project()), "X1.mid.v", 1e-4), 5.0, 1e-12);
    ASSERT_TRUE(apply(edits::setParameter("", {"base", "2k", "ohm", "", ""}, parts())));
    ASSERT_TRUE(apply(edits::setValue({place}, "Rlow", "2 * base")));
    EXPECT_NEAR(test::at(*test::run(project()), "X1.mid.v", 1e-4), 8.0, 1e-12);
    enter("X1");
    ASSERT_TRUE(apply(edits::setParameter("Rlow", {"Rdown", "1k", "ohm", "", ""}, parts())));
    EXPECT_EQ(*project().findPart("R2")->values.find("r"), "Rdown");
    history.look({});
    ASSERT_TRUE(project().findPart("X1")->values.find("Rdown")) << "the place follows the new name";
    EXPECT_NEAR(test::at(*test::run(project()), "X1.mid.v", 1e-4), 8.0, 1e-12);
    ASSERT_TRUE(apply(edits::setValue({place}, "Rdown", "Rmissing")));
    const auto errors = checkProject(project(), partLibrary());
    ASSERT_FALSE(errors.empty());
    EXPECT_NE(errors.front().message.find("Rmissing"), std::string::npos) << errors.front().message;
}

TEST_F(Modules, ProjectParametersAreHiddenByThoseOfTheModule) {
    test::Circuit circuit;
    circuit.add("dc-voltage", "V1", {"in", "0"}, {{"level", "R"}});
    circuit.add("resistor", "R1", {"in", "0"}, {{"r", "R"}});
    circuit.plan("1m");
    circuit.project().parameters.push_back({"R", "10", "", "", ""});
    start(circuit.project());
    makeOf({"R1"});
    enter("X1");
    ASSERT_TRUE(apply(edits::setParameter("", {"R", "5", "ohm", "", ""}, parts())));
    history.look({});
    ASSERT_TRUE(apply(edits::setParameter("R", {"U", "10", "", "", ""}, parts())));
    EXPECT_EQ(*project().sheets[1].parts.front().values.find("r"), "R") << "the module's own stays";
    EXPECT_EQ(*project().findPart("V1")->values.find("level"), "U");
    EXPECT_NEAR(test::at(*test::run(project()), "X1.R1.i", 1e-4), 2.0, 1e-12);
    EXPECT_EQ(usesOf(project(), parts(), "U").size(), 1u);
}

TEST_F(Modules, ModulesWithinModulesAndTwoPlaces) {
    test::Circuit circuit;
    circuit.add("dc-voltage", "V1", {"in", "0"}, {{"level", "12"}});
    circuit.add("resistor", "R1", {"in", "mid"}, {{"r", "1k"}});
    circuit.add("resistor", "R2", {"mid", "0"}, {{"r", "1k"}});
    circuit.plan("1m");
    start(circuit.project());
    makeOf({"R1"});
    const Catalogue one = catalogue();
    ASSERT_TRUE(apply(edits::makeModule(idsOf(project(), {"X1", "R2"}), "N", one)));
    EXPECT_EQ(project().findPart("X1")->kind, "module:N");
    EXPECT_NEAR(test::at(*test::run(project()), "X1.X1.R1.i", 1e-4), 6e-3, 1e-15);
    enter("X1");
    enter("X1");
    EXPECT_EQ(prefixInView(project()), "X1.X1.");
    ASSERT_TRUE(apply(edits::setValue(idsOf(project(), {"R1"}), "r", "5k")));
    history.look({});
    EXPECT_NEAR(test::at(*test::run(project()), "X1.X1.R1.i", 1e-4), 2e-3, 1e-15);
    history.undo();
    EXPECT_EQ(prefixInView(project()), "X1.X1.") << "undo shows where the change was made";
    history.look({});
    // A second place beside the first halves the resistance.
    const Catalogue two = catalogue();
    Part second = *project().findPart("X1");
    second.name = "X9";
    second.at = second.at + Point{0, 400};
    ASSERT_TRUE(apply(edits::place(second, two)));
    const PartKind& kind = *two.find("module:N");
    const Part placed = *project().findPart("X9");
    const NetList nets = findNets(project().sheet(), two);
    for (std::size_t pin = 0; pin < kind.pins.size(); ++pin) {
        const std::string net = nets.of({project().findPart("X1")->id, static_cast<int>(pin)}).name;
        if (net.find('.') == std::string::npos) {
            ASSERT_TRUE(apply({"name", [&](Project& p) -> Status {
                                   p.sheet().labels.push_back({p.newId(), placed.toSheet(kind.pins[pin].at), net, ""});
                                   return {};
                               }}));
        }
    }
    EXPECT_NEAR(test::at(*test::run(project()), "V1.i", 1e-4), -12e-3, 1e-14);
    EXPECT_NEAR(test::at(*test::run(project()), "X9.X1.R1.i", 1e-4), 6e-3, 1e-15);
}

TEST_F(Modules, OneRungForAllInside) {
    start(example("med-aux.hedge"));
    makeOf({"S1", "D1"});
    const Catalogue now = catalogue();
    const std::set<int> place = idsOf(project(), {"X1"});
    const auto rungOf = [&](const char* name) { return flat().project.findPart(name)->rung; };
    const int drawn = rungOf("X1.S1");
    ASSERT_TRUE(apply(edits::setRung(place, drawn == 1 ? 2 : 1, now)));
    EXPECT_EQ(rungOf("X1.S1"), drawn == 1 ? 2 : 1);
    EXPECT_EQ(rungOf("X1.D1"), drawn == 1 ? 2 : 1);
    ASSERT_TRUE(apply(edits::setValue(place, std::string(insideKey), std::string(ownRungs))));
    EXPECT_EQ(rungOf("X1.S1"), drawn);
}

TEST_F(Modules, WhatCannotBeLaidOutIsNamed) {
    test::Circuit circuit;
    circuit.add("dc-voltage", "V1", {"in", "0"}, {{"level", "12"}});
    Project project = circuit.project();
    Part lost;
    lost.id = project.newId();
    lost.name = "X1";
    lost.kind = "module:gone";
    project.sheet().parts.push_back(lost);
    auto errors = checkProject(project, partLibrary());
    ASSERT_EQ(errors.size(), 1u);
    EXPECT_EQ(errors[0].part, "X1");
    EXPECT_NE(errors[0].message.find("'gone'"), std::string::npos);

    project.sheets.emplace_back().name = "gone";
    project.sheets[1].parts.push_back(lost);
    errors = checkProject(project, partLibrary());
    ASSERT_EQ(errors.size(), 1u);
    EXPECT_NE(errors[0].message.find("contains itself"), std::string::npos);

    project.sheets.pop_back();
    project.sheet().parts.back().kind = "pin";
    errors = checkProject(project, partLibrary());
    ASSERT_EQ(errors.size(), 1u);
    EXPECT_NE(errors[0].message.find("pin of a module"), std::string::npos);
}

TEST_F(Modules, AModuleCannotBePutIntoItself) {
    start(example("med-aux.hedge"));
    makeOf({"S1"});
    enter("X1");
    const Catalogue now = catalogue();
    Part inner;
    inner.kind = "module:M";
    EXPECT_FALSE(apply(edits::place(inner, now)));
    EXPECT_FALSE(apply(edits::removeModule("M"))) << "it has a place";
    EXPECT_FALSE(apply(edits::renameModule("M", "main")));
    ASSERT_TRUE(apply(edits::renameModule("M", "upper")));
    EXPECT_EQ(project().sheets.front().parts.back().kind, "module:upper");
    EXPECT_TRUE(elaborate(project(), partLibrary()));
}

TEST_F(Modules, SaveAndLoadKeepsAll) {
    start(example("med-aux.hedge"));
    makeOf({"S1", "D1"});
    enter("X1");
    ASSERT_TRUE(apply(edits::setParameter("", {"Ron", "8m", "ohm", "on-resistance", "", "1m", "1"}, parts())));
    ASSERT_TRUE(apply(edits::setModuleNote("M", "a leg")));
    ASSERT_TRUE(apply(edits::keepPart(project().findPart("S1")->id, "myfet")));
    const std::string text = writeHedge(project());
    const auto again = readHedge(text);
    ASSERT_TRUE(again) << again.error().message;
    EXPECT_EQ(writeHedge(again->project), text);
    EXPECT_EQ(again->project.sheets[1].parameters.size(), 1u);
    EXPECT_EQ(again->project.sheets[1].note, "a leg");
    EXPECT_EQ(again->project.kept.at(0).name, "myfet");
    std::string twice = text;
    twice.replace(twice.find("\"name\": \"M\""), 11, "\"name\": \"main\"");
    EXPECT_FALSE(readHedge(twice)) << "two sheets of one name";
}

TEST_F(Modules, TheTextOfASheetKnowsModules) {
    start(example("med-aux.hedge"));
    makeOf({"S1", "D1"});
    const Catalogue now = catalogue();
    const std::string text = writeText(project(), now, findNets(project().sheet(), now));
    EXPECT_NE(text.find("X1 module:M "), std::string::npos) << text;
    const TextCircuit read = readText(text, now);
    EXPECT_TRUE(read.errors.empty());
    const auto before = joinedPins(flat());
    ASSERT_TRUE(apply(edits::becomeText(read, now)));
    EXPECT_EQ(joinedPins(flat()), before);
}

TEST_F(Modules, LibrariesAreReadOnlyUntilCopied) {
    const auto folder = std::filesystem::temp_directory_path() / "hedgerow_library_test";
    std::filesystem::remove_all(folder);
    start(example("med-aux.hedge"));
    makeOf({"S1", "D1"});
    ASSERT_TRUE(apply(edits::keepPart(project().findPart("L1")->id, "choke")));
    ASSERT_TRUE(shareInLibrary(folder / "mine.hedge", project(), {"M"}, {"choke"}));
    std::ofstream(folder / "broken.hedge") << "{";
    const Library library = readLibrary({folder, folder / "missing"});
    EXPECT_EQ(library.errors.size(), 1u);
    ASSERT_EQ(library.modules.size(), 1u);
    EXPECT_EQ(library.modules[0].origin, "mine");
    ASSERT_EQ(library.kept.size(), 1u);
    EXPECT_EQ(library.kept[0].name, "choke");

    start({});
    const Catalogue offered = withModules(parts(), project(), library.modules);
    Part place;
    place.kind = "module:M";
    const Edit placing = edits::place(place, offered);
    ASSERT_TRUE(apply({"place", [&](Project& changed) {
                           const Status status = placing.apply(changed);
                           edits::takeMissingModules(changed, library.modules);
                           return status;
                       }}));
    ASSERT_EQ(project().sheets.size(), 2u) << "the project holds all that it needs";
    enter("X1");
    EXPECT_FALSE(apply(edits::setValue(idsOf(project(), {"S1"}), "ron", "1"))) << "read-only";
    ASSERT_TRUE(apply(edits::makeOwn("M")));
    EXPECT_TRUE(apply(edits::setValue(idsOf(project(), {"S1"}), "ron", "1")));
    history.look({});
    ASSERT_TRUE(apply(edits::copyForPlace(project().findPart("X1")->id, "mine2")));
    EXPECT_EQ(project().findPart("X1")->kind, "module:mine2");
    EXPECT_EQ(project().sheets.size(), 3u);
    std::set<int> ids;
    std::size_t items = 0;
    for (const Sheet& sheet : project().sheets)
        for (const Part& part : sheet.parts) ids.insert(part.id), ++items;
    EXPECT_EQ(ids.size(), items) << "ids are unique over all sheets";
    std::filesystem::remove_all(folder);
}

TEST_F(Modules, ClipsCarryTheirModules) {
    start(example("med-aux.hedge"));
    makeOf({"S1", "D1"});
    const Sheet clip = edits::copied(project().sheet(), idsOf(project(), {"X1"}));
    const auto read = readClip(writeClip(clip, project().sheets));
    ASSERT_TRUE(read);
    ASSERT_EQ(read->size(), 2u);
    EXPECT_EQ((*read)[1].name, "M");
}

// A bridge of the shipped library at 1 A: the load sees |v| less two drops, whose mean is 2 V / pi without drops.
TEST_F(Modules, TheShippedLibraryRectifies) {
    const Library library = readLibrary({std::filesystem::path(HEDGEROW_EXAMPLES) / ".." / "library"});
    ASSERT_TRUE(library.errors.empty());
    ASSERT_GE(library.modules.size(), 5u);
    for (const Sheet& module : library.modules) {
        Project alone;
        Part place;
        place.id = alone.newId();
        place.name = "X1";
        place.kind = moduleKindId(module.name);
        alone.sheet().parts.push_back(place);
        edits::takeMissingModules(alone, library.modules);
        const FlatProject laid = flattened(alone, parts());
        EXPECT_TRUE(laid.errors.empty()) << module.name;
        const Catalogue all = withModules(parts(), alone);
        const std::size_t pins = all.find(place.kind)->pins.size();
        std::size_t single = 0;
        for (const Net& net : laid.nets.nets) single += net.pins.size() == 1;
        EXPECT_LE(single, pins) << module.name << ": only what leads out may end on one pin";
    }
    test::Circuit circuit;
    circuit.add("sine-voltage", "V1", {"a", "b"}, {{"peak", "100"}, {"f", "50"}});
    circuit.add("resistor", "R1", {"out", "0"}, {{"r", "100"}});
    circuit.plan("20m", "1e-6");
    start(circuit.project());
    const Catalogue offered = withModules(parts(), project(), library.modules);
    const PartKind& kind = *offered.find("module:diode_bridge");
    Part bridge;
    bridge.kind = kind.id;
    bridge.at = {4000, 4000};
    bridge.values.set("Vf", "0");
    bridge.values.set("Rd", "1n");
    ASSERT_TRUE(apply(
        {"place", [&](Project& changed) -> Status {
             const Status placed = edits::place(bridge, offered).apply(changed);
             edits::takeMissingModules(changed, library.modules);
             for (const auto& [pin, net] : {std::pair{"ac1", "a"}, {"ac2", "b"}, {"plus", "out"}, {"minus", "0"}}) {
                 const Point at = kind.pins[static_cast<std::size_t>(kind.findPin(pin))].at;
                 changed.sheet().labels.push_back({changed.newId(), bridge.at + at, net, ""});
             }
             return placed;
         }}));
    const auto made = test::run(project());
    ASSERT_TRUE(made);
    EXPECT_NEAR(test::measures(*made, "out.v", 0, 20e-3).mean, 200 / std::numbers::pi, 1e-3);
}

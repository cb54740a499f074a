#include <algorithm>
#include <random>

#include "model/changes.h"
#include "model/edits.h"
#include "model/nets.h"
#include "model/part_kind.h"
#include "model/references.h"
#include "model/route.h"
#include "model/router.h"
#include "runs/registry.h"

using namespace hedgerow;

namespace {

const Catalogue& catalogue() { return partLibrary().catalogue(); }

Part part(int id, const std::string& kind, const std::string& name, Point at, int turn = 0) {
    Part p;
    p.id = id;
    p.kind = kind;
    p.name = name;
    p.at = at;
    p.turn = turn;
    return p;
}

bool rightAngled(const std::vector<Point>& way) {
    for (std::size_t i = 0; i + 1 < way.size(); ++i)
        if ((way[i].x != way[i + 1].x) == (way[i].y != way[i + 1].y)) return false;
    return true;
}

}  // namespace

TEST(Parts, TurnAndFlipMoveThePins) {
    Part p = part(1, "resistor", "R1", {100, 200});
    EXPECT_EQ(p.toSheet({8, -32}), (Point{108, 168}));
    p.turn = 1;  // clockwise: what was above is now to the right
    EXPECT_EQ(p.toSheet({0, -32}), (Point{132, 200}));
    p.flip = true;
    p.turn = 0;
    EXPECT_EQ(p.toSheet({8, -32}), (Point{92, 168}));
}

TEST(Nets, JoinWherePinsTouchAndWiresEnd) {
    Sheet sheet;
    // R1 above R2, pins touching at (0, 32); a wire from the joint to C1.
    sheet.parts = {part(1, "resistor", "R1", {0, 0}), part(2, "resistor", "R2", {0, 64}),
                   part(3, "capacitor", "C1", {80, 64})};
    sheet.wires = {{10, {{0, 32}, {80, 32}}, ""}};
    const NetList nets = findNets(sheet, catalogue());
    EXPECT_EQ(nets.netOfPin.at({1, 1}), nets.netOfPin.at({2, 0}));
    EXPECT_EQ(nets.netOfPin.at({1, 1}), nets.netOfPin.at({3, 0}));
    EXPECT_NE(nets.netOfPin.at({1, 0}), nets.netOfPin.at({1, 1}));
    EXPECT_EQ(nets.of({1, 1}).name, "C1.a");
    EXPECT_EQ(nets.junctions, (std::vector<Point>{{0, 32}}));
}

TEST(Nets, CrossingWiresDoNotJoinButEndsOnWiresDo) {
    Sheet sheet;
    sheet.wires = {{1, {{0, 0}, {80, 0}}, ""}, {2, {{40, -40}, {40, 40}}, ""}, {3, {{16, 0}, {16, 40}}, ""}};
    const NetList nets = findNets(sheet, catalogue());
    EXPECT_NE(nets.netOfWire.at(1), nets.netOfWire.at(2));
    EXPECT_EQ(nets.netOfWire.at(1), nets.netOfWire.at(3));
    EXPECT_EQ(nets.junctions, (std::vector<Point>{{16, 0}}));
}

TEST(Nets, EqualLabelsJoin) {
    Sheet sheet;
    sheet.parts = {part(1, "resistor", "R1", {0, 0}), part(2, "resistor", "R2", {400, 0})};
    sheet.labels = {{5, {0, -32}, "out", ""}, {6, {400, 32}, "out", ""}};
    const NetList nets = findNets(sheet, catalogue());
    EXPECT_EQ(nets.netOfPin.at({1, 0}), nets.netOfPin.at({2, 1}));
    EXPECT_EQ(nets.of({1, 0}).name, "out");
    EXPECT_TRUE(nets.of({1, 0}).labelled);
}

namespace {
std::vector<Point> way(const Sheet& sheet, Point from, Point to) {
    return Router(sheet, catalogue(), from, to).route(from, to);
}
}  // namespace

TEST(Router, FindsRightAngledWaysAroundParts) {
    Sheet sheet;
    EXPECT_EQ(way(sheet, {0, 0}, {120, 0}), (std::vector<Point>{{0, 0}, {120, 0}}));
    EXPECT_EQ(way(sheet, {0, 0}, {120, 80}).size(), 3u) << "one bend is enough";
    EXPECT_TRUE(way(sheet, {8, 8}, {8, 8}).empty());
    sheet.parts = {part(1, "resistor", "R1", {64, 0})};
    const auto around = way(sheet, {0, 0}, {120, 0});
    EXPECT_TRUE(rightAngled(around));
    EXPECT_EQ(around.front(), (Point{0, 0}));
    EXPECT_EQ(around.back(), (Point{120, 0}));
    EXPECT_TRUE(std::any_of(around.begin(), around.end(), [](Point p) { return p.y < -32 || p.y > 32; }))
        << "goes around the part";
}

// Over foreign pins, ends, names and along foreign wires there is no way; across a foreign wire there is.
TEST(Router, TouchesNothingForeign) {
    Sheet sheet;
    sheet.wires = {{1, {{64, -200}, {64, 200}}, ""}};
    EXPECT_EQ(way(sheet, {0, 0}, {120, 0}), (std::vector<Point>{{0, 0}, {120, 0}})) << "crosses";
    sheet.labels = {{2, {64, 0}, "x", ""}};
    const auto beside = way(sheet, {0, 0}, {120, 0});
    EXPECT_EQ(std::count(beside.begin(), beside.end(), Point{64, 0}), 0);
    EXPECT_FALSE(liesOn({0, beside, ""}, {64, 0})) << "the name of a foreign net";
    sheet.labels.clear();
    sheet.wires = {{1, {{16, 0}, {104, 0}}, ""}};
    EXPECT_FALSE(liesOn({0, way(sheet, {0, 0}, {120, 0}), ""}, {16, 0})) << "the end of a foreign wire";
    sheet.wires = {{1, {{-200, 0}, {400, 0}}, ""}};
    const auto off = way(sheet, {0, 0}, {120, 0});
    EXPECT_EQ(off.size(), 4u) << "not along a wire that is already there";
}

// Random sheets: the router joins what it is asked to join and nothing else.
TEST(Router, JoinsWhatItIsAskedToAndNothingElse) {
    for (unsigned seed = 1; seed <= 30; ++seed) {
        SCOPED_TRACE(seed);
        std::mt19937 random(seed);
        Sheet sheet;
        const char* kinds[] = {"resistor", "mosfet", "capacitor", "transformer", "modulator"};
        for (int i = 0; i < 16; ++i) {
            Part p = part(i + 1, kinds[random() % 5], "P" + std::to_string(i), {i % 4 * 144, i / 4 * 144});
            p.turn = static_cast<int>(random() % 4);
            sheet.parts.push_back(p);
        }
        std::vector<std::pair<PinRef, PinRef>> wanted;
        const auto randomPin = [&] {
            const Part& p = sheet.parts[random() % sheet.parts.size()];
            return PinRef{p.id, static_cast<int>(random() % catalogue().find(p.kind)->pins.size())};
        };
        const auto place = [&](PinRef pin) {
            const Part& p = sheet.parts[static_cast<std::size_t>(pin.part - 1)];
            return p.toSheet(catalogue().find(p.kind)->pins[static_cast<std::size_t>(pin.pin)].at);
        };
        for (int i = 0; i < 14; ++i) {
            const PinRef a = randomPin(), b = randomPin();
            if (a == b) continue;
            const auto points = Router(sheet, catalogue(), {-80, -80}, {520, 520}).route(place(a), place(b));
            ASSERT_TRUE(rightAngled(points));
            sheet.wires.push_back({100 + i, points, ""});
            wanted.emplace_back(a, b);
        }
        const NetList nets = findNets(sheet, catalogue());
        // The same joins by labels alone, on parts without wires.
        Sheet ideal = sheet;
        ideal.wires.clear();
        int id = 1000;
        for (const auto& [a, b] : wanted) {
            const std::string name = "w" + std::to_string(id);
            ideal.labels.push_back({++id, place(a), name, ""});
            ideal.labels.push_back({++id, place(b), name, ""});
        }
        const NetList expected = findNets(ideal, catalogue());
        for (const auto& [pin, net] : nets.netOfPin)
            for (const auto& [other, otherNet] : nets.netOfPin)
                ASSERT_EQ(net == otherNet, expected.netOfPin.at(pin) == expected.netOfPin.at(other))
                    << pin.part << "." << pin.pin << " and " << other.part << "." << other.pin;
    }
}

TEST(Route, MovedEndsStayRightAngled) {
    for (const bool front : {true, false})
        for (const Point to : {Point{-40, 24}, Point{200, 64}, Point{8, -80}, Point{0, 0}, Point{96, 40}})
            for (const auto& wire : {std::vector<Point>{{0, 0}, {96, 0}}, std::vector<Point>{{0, 0}, {96, 0}, {96, 40}},
                                     std::vector<Point>{{0, 0}, {40, 0}, {40, 40}, {96, 40}}}) {
                const auto moved = withMovedEnd(wire, front, to);
                if (moved.size() < 2) continue;  // both ends met: no wire is left
                EXPECT_TRUE(rightAngled(moved));
                EXPECT_EQ(front ? moved.front() : moved.back(), to);
                EXPECT_EQ(front ? moved.back() : moved.front(), front ? wire.back() : wire.front());
            }
}

TEST(Catalogue, FindsByWhatPeopleType) {
    EXPECT_EQ(catalogue().search("l").front()->id, "inductor");
    EXPECT_EQ(catalogue().search("choke").front()->id, "inductor");
    EXPECT_EQ(catalogue().search("gnd").front()->id, "reference");
    EXPECT_EQ(catalogue().search("PWM").front()->id, "modulator");
    EXPECT_EQ(catalogue().search("mains").front()->id, "sine-voltage");
    EXPECT_EQ(catalogue().findByWord("inductor")->id, "inductor");
    EXPECT_TRUE(catalogue().search("qqq").empty());
    EXPECT_EQ(catalogue().search("").size(), catalogue().all().size());
}

// What refers to a part, a net or a parameter by name goes with it: probes, tasks, events, lanes.
TEST(Names, EverythingFollowsARenaming) {
    const Catalogue& catalogue = partLibrary().catalogue();
    Project project;
    const auto add = [&](const char* kind, const char* name, std::vector<std::pair<std::string, std::string>> values) {
        Part part;
        part.id = project.newId(), part.kind = kind, part.name = name;
        for (const auto& [key, text] : values) part.values.set(key, text);
        project.sheet().parts.push_back(part);
        return part.id;
    };
    const int resistor = add("resistor", "R1", {{"r", "load"}});
    const int task = add("task", "T1", {});
    const int probe = add("probe", "P1", {{"of", "R1.i"}});
    const int other = add("probe", "P2", {{"of", "out.v"}});
    const int code = add("code", "CODE1", {{"task", "T1"}, {"values", "k = 2*load, load = load"}});
    const int filter = add("transfer-s", "H1", {{"num", "1, load"}});
    project.sheet().labels.push_back({project.newId(), {0, 0}, "out", ""});
    project.parameters = {{"load", "5", "", "", ""}};
    project.scenes[0].events = {{"1m", "", "0", "R1.r", "2*load", "", ""}, {"2m", "R1", "0", "load", "7", "", ""}};
    project.lanes.resize(1);
    project.lanes[0].quantities = {"out.v * R1.i", "xout.v"};
    ASSERT_TRUE(edits::renamePart(resistor, "Rload").apply(project));
    ASSERT_TRUE(edits::renamePart(task, "fast").apply(project));
    ASSERT_TRUE(edits::renameLabel(project.sheet().labels[0].id, "bus").apply(project));
    ASSERT_TRUE(edits::setParameter("load", {"heavy", "5", "", "", ""}, catalogue).apply(project));
    const auto value = [&](int id, const char* key) { return *project.findPart(id)->values.find(key); };
    EXPECT_EQ(value(probe, "of"), "Rload.i");
    EXPECT_EQ(value(other, "of"), "bus.v");
    EXPECT_EQ(value(code, "task"), "fast");
    EXPECT_EQ(value(code, "values"), "k = 2*heavy, load = heavy") << "the name of a constant is the code's";
    EXPECT_EQ(value(filter, "num"), "1, heavy");
    EXPECT_EQ(value(resistor, "r"), "heavy");
    EXPECT_EQ(project.scenes[0].events[0].target, "Rload.r");
    EXPECT_EQ(project.scenes[0].events[0].value, "2*heavy");
    EXPECT_EQ(project.scenes[0].events[1].target, "heavy");
    EXPECT_EQ(project.scenes[0].events[1].wave, "Rload");
    EXPECT_EQ(project.lanes[0].quantities, (std::vector<std::string>{"bus.v * Rload.i", "xout.v"}));
    EXPECT_GE(usesOf(project, catalogue, "heavy").size(), 4u);
}

TEST(Changes, OfScenesAndCodeAreSaid) {
    Project before;
    before.scenes[0].events = {{"1m", "", "0", "Vin", "5", "", ""}, {"2m", "", "0", "Vin", "6", "", ""}};
    Part part;
    part.id = before.newId(), part.kind = "code", part.name = "CODE1";
    part.values.set("code", "a\nb");
    before.sheet().parts.push_back(part);
    Project after = before;
    after.scenes[0].events[1].value = "7";
    after.sheet().parts[0].values.set("code", "a\nc");
    after.plans[0].engine = "adaptive";
    EXPECT_EQ(changesBetween(before, after, partLibrary().catalogue()),
              (std::vector<std::string>{"CODE1 code changed", "scene steady: added 2m: Vin = 7",
                                        "scene steady: removed 2m: Vin = 6", "plan look: engine best → adaptive"}));
}

TEST(Names, AParameterCalledLikeAChoiceLeavesTheChoice) {
    Project project;
    Part part;
    part.id = project.newId(), part.kind = "modulator", part.name = "M1";
    part.values.set("carrier", "triangle");
    part.values.set("duty", "triangle");
    project.sheet().parts.push_back(part);
    project.parameters = {{"triangle", "0.4", "", "", ""}};
    ASSERT_TRUE(
        edits::setParameter("triangle", {"share", "0.4", "", "", ""}, partLibrary().catalogue()).apply(project));
    EXPECT_EQ(*project.sheet().parts[0].values.find("carrier"), "triangle");
    EXPECT_EQ(*project.sheet().parts[0].values.find("duty"), "share");
}

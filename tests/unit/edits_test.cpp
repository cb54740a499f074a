#include "model/edits.h"

#include <random>

#include "model/nets.h"
#include "runs/registry.h"

using namespace hedgerow;

namespace {

const Catalogue& catalogue() { return partLibrary().catalogue(); }

class Edits : public ::testing::Test {
protected:
    int place(const std::string& kind, Point at, int turn = 0) {
        Part part;
        part.kind = kind;
        part.at = at;
        part.turn = turn;
        EXPECT_TRUE(history.apply(edits::place(part, catalogue())));
        return history.project().sheet().parts.back().id;
    }
    void wire(std::vector<Point> points) { EXPECT_TRUE(history.apply(edits::addWire(std::move(points)))); }
    NetList nets() const { return findNets(history.project().sheet(), catalogue()); }
    const Part& part(int id) const { return *history.project().findPart(id); }
    History history;
};

}  // namespace

TEST_F(Edits, PlacedPartsGetFreeNames) {
    EXPECT_EQ(part(place("resistor", {0, 0})).name, "R1");
    EXPECT_EQ(part(place("resistor", {80, 0})).name, "R2");
    EXPECT_EQ(part(place("dc-voltage", {160, 0})).name, "V1");
}

TEST_F(Edits, UndoAndRedoRestoreEveryState) {
    std::vector<Project> states = {history.project()};
    const int r = place("resistor", {0, 0});
    states.push_back(history.project());
    EXPECT_TRUE(history.apply(edits::setValue({r}, "r", "47")));
    states.push_back(history.project());
    EXPECT_TRUE(history.apply(edits::move({r}, {16, 8}, catalogue())));
    states.push_back(history.project());
    EXPECT_TRUE(history.apply(edits::remove({r}, catalogue())));
    states.push_back(history.project());
    for (std::size_t i = states.size() - 1; i-- > 0;) {
        history.undo();
        EXPECT_EQ(history.project(), states[i]);
    }
    EXPECT_FALSE(history.canUndo());
    for (std::size_t i = 1; i < states.size(); ++i) {
        history.redo();
        EXPECT_EQ(history.project(), states[i]);
    }
    EXPECT_FALSE(history.canRedo());
}

TEST_F(Edits, TypingInOneFieldIsOneStepOfUndo) {
    const int r = place("resistor", {0, 0});
    for (const char* text : {"4", "47", "47k"}) EXPECT_TRUE(history.apply(edits::setValue({r}, "r", text)));
    history.undo();
    EXPECT_EQ(part(r).values.find("r"), nullptr);
    history.redo();
    EXPECT_EQ(*part(r).values.find("r"), "47k");
}

TEST_F(Edits, SavedStateIsKnownAcrossUndo) {
    const int r = place("resistor", {0, 0});
    history.markSaved();
    EXPECT_FALSE(history.modified());
    EXPECT_TRUE(history.apply(edits::setValue({r}, "r", "5")));
    EXPECT_TRUE(history.modified());
    history.undo();
    EXPECT_FALSE(history.modified());
    history.undo();
    EXPECT_TRUE(history.modified());
}

TEST_F(Edits, AnEditThatChangesNothingLeavesNoStep) {
    const int r = place("voltmeter", {0, 0});
    const std::string label = history.undoLabel();
    EXPECT_TRUE(history.apply(edits::move({r}, {0, 0}, catalogue())));
    EXPECT_TRUE(history.apply(edits::climb({r}, 1, catalogue()))) << "a voltmeter has one rung";
    EXPECT_EQ(history.undoLabel(), label);
}

TEST_F(Edits, WiresFollowMovedParts) {
    const int r = place("resistor", {0, 0});
    const int c = place("capacitor", {160, 0});
    wire({{0, -32}, {160, -32}});
    EXPECT_TRUE(history.apply(edits::move({c}, {40, -56}, catalogue())));
    EXPECT_EQ(nets().netOfPin.at({r, 0}), nets().netOfPin.at({c, 0}));
    EXPECT_TRUE(history.apply(edits::move({r}, {0, 80}, catalogue())));
    EXPECT_EQ(nets().netOfPin.at({r, 0}), nets().netOfPin.at({c, 0}));
    EXPECT_TRUE(history.apply(edits::turn({c}, catalogue())));
    EXPECT_EQ(nets().netOfPin.at({r, 0}), nets().netOfPin.at({c, 0}));
    EXPECT_TRUE(history.apply(edits::flip({c}, catalogue())));
    EXPECT_EQ(nets().netOfPin.at({r, 0}), nets().netOfPin.at({c, 0}));
}

TEST_F(Edits, TouchingPinsGetAWireWhenTheyPart) {
    const int a = place("resistor", {0, 0}), b = place("resistor", {0, 64});
    EXPECT_EQ(nets().netOfPin.at({a, 1}), nets().netOfPin.at({b, 0}));
    EXPECT_TRUE(history.apply(edits::move({b}, {48, 24}, catalogue())));
    EXPECT_EQ(nets().netOfPin.at({a, 1}), nets().netOfPin.at({b, 0}));
}

TEST_F(Edits, PartsMovedTogetherTakeTheirWireAlong) {
    const int a = place("resistor", {0, 0}), b = place("capacitor", {160, 0});
    wire({{0, -32}, {0, -64}, {160, -64}, {160, -32}});
    EXPECT_TRUE(history.apply(edits::move({a, b}, {24, 40}, catalogue())));
    EXPECT_EQ(history.project().sheet().wires.front().points,
              (std::vector<Point>{{24, 8}, {24, -24}, {184, -24}, {184, 8}}));
}

// Whatever is moved, turned or flipped: nothing that was joined comes apart.
class RandomMoves : public Edits, public ::testing::WithParamInterface<unsigned> {};

TEST_P(RandomMoves, KeepConnections) {
    std::mt19937 random(GetParam());
    std::vector<int> ids;
    for (int i = 0; i < 6; ++i) ids.push_back(place(i % 2 ? "resistor" : "capacitor", {i * 96, 0}));
    for (int i = 0; i < 5; ++i) wire({{i * 96, -32}, {(i + 1) * 96, -32}});
    wire({{0, 32}, {0, 64}, {480, 64}, {480, 32}});
    const auto joined = [&] {
        const NetList now = nets();
        for (int i = 1; i < 6; ++i)
            if (now.netOfPin.at({ids[static_cast<std::size_t>(i)], 0}) != now.netOfPin.at({ids[0], 0})) return false;
        return now.netOfPin.at({ids[0], 1}) == now.netOfPin.at({ids[5], 1});
    };
    ASSERT_TRUE(joined());
    for (int step = 0; step < 60; ++step) {
        std::set<int> chosen;
        for (const int id : ids)
            if (random() % 3 == 0) chosen.insert(id);
        for (const Wire& w : history.project().sheet().wires)
            if (step % 10 == 0 && random() % 4 == 0) chosen.insert(w.id);
        const Point by{static_cast<int>(random() % 21) * 8 - 80, static_cast<int>(random() % 21) * 8 - 80};
        const auto kind = random() % 4;
        EXPECT_TRUE(history.apply(kind == 0   ? edits::turn(chosen, catalogue())
                                  : kind == 1 ? edits::flip(chosen, catalogue())
                                              : edits::move(chosen, by, catalogue())));
        ASSERT_TRUE(joined()) << "step " << step;
        ASSERT_LT(history.project().sheet().wires.size(), 500u) << "step " << step;
    }
}

INSTANTIATE_TEST_SUITE_P(Seeds, RandomMoves, ::testing::Range(1u, 9u));

TEST_F(Edits, AWireMovedAloneStaysOnItsParts) {
    const int a = place("resistor", {0, 0}), b = place("capacitor", {160, 0});
    wire({{0, -32}, {160, -32}});
    const auto before = history.project().sheet().wires;
    EXPECT_TRUE(history.apply(edits::move({before[0].id}, {0, -40}, catalogue())));
    EXPECT_EQ(nets().netOfPin.at({a, 0}), nets().netOfPin.at({b, 0}));
}

TEST_F(Edits, APartDroppedOnAWireIsSplicedIn) {
    const int a = place("resistor", {0, 0}), b = place("resistor", {200, 0});
    wire({{0, -32}, {200, -32}});
    const int l = place("inductor", {96, -32});
    const NetList now = nets();
    EXPECT_EQ(now.netOfPin.at({a, 0}), now.netOfPin.at({l, 0}));
    EXPECT_EQ(now.netOfPin.at({b, 0}), now.netOfPin.at({l, 1}));
    EXPECT_NE(now.netOfPin.at({a, 0}), now.netOfPin.at({b, 0}));
    EXPECT_EQ(history.project().sheet().wires.size(), 2u);
}

TEST_F(Edits, PasteGivesFreshNamesAndIds) {
    const int a = place("resistor", {0, 0});
    wire({{0, -32}, {64, -32}});
    const Sheet clip = edits::copied(history.project().sheet(), {a, history.project().sheet().wires.front().id});
    std::set<int> added;
    EXPECT_TRUE(history.apply(edits::paste(clip, {80, 0}, catalogue(), &added)));
    EXPECT_EQ(added.size(), 2u);
    EXPECT_FALSE(added.contains(a));
    EXPECT_TRUE(history.project().findPart("R2"));
    EXPECT_EQ(history.project().findPart("R2")->at, (Point{80, 0}));
}

TEST_F(Edits, RenamingFollowsIntoTheLanes) {
    const int l = place("inductor", {0, 0});
    EXPECT_TRUE(history.apply(edits::setLanes({{{"L1.i", "L10.i"}, 96, ""}}, "lanes")));
    EXPECT_TRUE(history.apply(edits::renamePart(l, "Lout")));
    EXPECT_EQ(history.project().lanes[0].quantities, (std::vector<std::string>{"Lout.i", "L10.i"}));
    EXPECT_FALSE(history.apply(edits::renamePart(l, "2 bad")));
    place("inductor", {200, 0});
    EXPECT_FALSE(history.apply(edits::renamePart(l, "L1")));
}

TEST_F(Edits, ClimbingKeepsTheValuesOfOtherRungs) {
    const int l = place("inductor", {0, 0});
    EXPECT_TRUE(history.apply(edits::climb({l}, 1, catalogue())));
    EXPECT_EQ(part(l).rung, 2);
    EXPECT_TRUE(history.apply(edits::setValue({l}, "dcr", "5m")));
    EXPECT_TRUE(history.apply(edits::climb({l}, -1, catalogue())));
    EXPECT_EQ(part(l).rung, 1);
    EXPECT_EQ(*part(l).values.find("dcr"), "5m");
    const int r = place("voltmeter", {200, 0});
    EXPECT_TRUE(history.apply(edits::setRung({r}, 4, catalogue()))) << "a rung the part lacks changes nothing";
    EXPECT_EQ(part(r).rung, 1);
}

TEST_F(Edits, ParametersAreCheckedWhenNamed) {
    EXPECT_TRUE(history.apply(edits::setParameter("", {"fsw", "150k", "Hz", "", ""}, catalogue())));
    EXPECT_TRUE(history.apply(edits::setParameter("", {"D", "0.3", "", "", ""}, catalogue())));
    EXPECT_EQ(history.apply(edits::setParameter("D", {"fsw", "1", "", "", ""}, catalogue())).error().code,
              ErrorCode::name);
    EXPECT_EQ(history.apply(edits::setParameter("", {"pi", "3", "", "", ""}, catalogue())).error().code,
              ErrorCode::name);
    EXPECT_EQ(history.apply(edits::setParameter("", {"x", "3", "furlong", "", ""}, catalogue())).error().code,
              ErrorCode::unit);
    EXPECT_TRUE(history.apply(edits::removeParameter("D")));
    EXPECT_EQ(history.project().parameters.size(), 1u);
}

// Sources that follow points: typed into a field, or a table in a CSV file.

#include "parts/points.h"
#include "parts/two_terminal.h"

namespace hedgerow {

using namespace parts;

namespace {

class DrivenElement final : public StiffBranch {
public:
    DrivenElement(std::string part, int branch, int from, int to, bool voltage, int source)
        : StiffBranch(std::move(part), branch, from, to, voltage), source_(source) {}
    void stamp(LinearStamp& s, int) const override { s.source(stampStiff(s), source_, 1.0); }

private:
    int source_;
};

class PointsSource final : public PartType {
public:
    explicit PointsSource(bool voltage) : voltage_(voltage) {}

    PartKind kind() const override {
        PartKind k;
        k.id = voltage_ ? "points-voltage" : "points-current";
        k.title = std::string("Piecewise-linear ") + (voltage_ ? "voltage" : "current") + " source";
        k.prefix = voltage_ ? "V" : "I";
        k.synonyms = voltage_ ? std::vector<std::string>{"points", "table", "profile"}
                              : std::vector<std::string>{"ipoints", "itable", "iprofile"};
        k.summary = "Follows typed points or a table from a CSV file";
        k.help =
            "The points are pairs of time and value, rising in time: '0 0, 1m 5, 3m 5'. Two points of one time make a "
            "jump. Instead of points the name of a CSV file may stand here (time in s and value, a line each; the file "
            "lies beside the project). Between points the value is a straight line or is held; before the first and "
            "after the last it stays. With a period other than zero the points repeat.";
        k.help += voltage_ ? " v is the potential of p against n." : " The current flows inside from a to b.";
        k.pins = voltage_ ? verticalPins("p", "n") : verticalPins("a", "b");
        k.parameters = {{.key = "points",
                         .label = "points, or a CSV file",
                         .symbol = "",
                         .unit = "",
                         .standard = "0 0, 1m 1",
                         .text = true},
                        {.key = "between",
                         .label = "between points",
                         .symbol = "",
                         .unit = "",
                         .standard = "straight",
                         .choices = {"straight", "held"}},
                        {.key = "period",
                         .label = "period",
                         .symbol = "T",
                         .unit = "s",
                         .standard = "0",
                         .least = 0,
                         .most = longestRunSeconds}};
        k.rungs = {{1, "stiff", voltage_ ? "v = e(t), whatever the current" : "i = e(t), whatever the voltage",
                    "definition", 1.0}};
        k.symbol = {{"M 0 -32 L 0 -20"},
                    {"M 0 20 L 0 32"},
                    {"O 0 0 20"},
                    {"M -12 8 L -6 -6 L 2 -2 L 6 8 L 12 -8"},
                    voltage_ ? Stroke{"M -26 -24 L -18 -24 M -22 -28 L -22 -20", Stroke::Weight::thin}
                             : Stroke{"M -26 12 L -26 -8 M -26 12 L -29 4 M -26 12 L -23 4", Stroke::Weight::thin}};
        k.labelAt = {28, -4};
        k.group = "Sources";
        return k;
    }
    Status checkTexts(const std::function<std::string(std::string_view)>& text,
                      const ProjectFolder& folder) const override {
        auto points = pointsOf(text("points"), "s", voltage_ ? "V" : "A", folder);
        if (points) return {};
        Error error = points.error();
        error.field = "points";
        return error;
    }
    void elaborate(NetworkBuilder& b) const override {
        auto points = pointsOf(b.text("points"), "s", voltage_ ? "V" : "A", b.folder());
        std::vector<TablePoint> list = points ? *points : std::vector<TablePoint>{{0, 0}};  // the checks ran before
        const int source = b.addSource(std::make_unique<PointsGenerator>(PointsGenerator::Shape{
            std::move(list), b.choice("between") == "straight", b.value("period")}));
        const int branch = b.addBranch(), from = b.node(voltage_ ? "p" : "a"), to = b.node(voltage_ ? "n" : "b");
        b.addElement(std::make_unique<DrivenElement>(b.partName(), branch, from, to, voltage_, source));
        b.offerBranch(branch, from, to);
    }
    StiffSort stiff(int, const std::function<double(std::string_view)>&) const override {
        return voltage_ ? StiffSort::voltage : StiffSort::current;
    }

private:
    bool voltage_;
};

}  // namespace

void registerPointsSources(PartLibrary& library) {
    for (const bool voltage : {true, false}) library.add(std::make_unique<PointsSource>(voltage));
}

}  // namespace hedgerow

// Sources that follow points: typed into a field, or a table in a CSV file.

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fstream>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"
#include "parts/two_terminal.h"

namespace hedgerow {

using namespace parts;

namespace {

struct TablePoint {
    double t, value;
};
constexpr std::size_t mostPoints = 1'000'000;

/// "0 0, 1m 5": pairs of time and value.
Result<std::vector<TablePoint>> readPoints(const std::string& text, std::string_view unit) {
    std::vector<TablePoint> points;
    std::size_t start = 0;
    while (start <= text.size()) {
        const std::size_t end = std::min(text.find_first_of(",;", start), text.size());
        std::string pair = text.substr(start, end - start);
        const std::size_t first = pair.find_first_not_of(" \t\n");
        start = end + 1;
        if (first == std::string::npos) {
            if (end == text.size() && !points.empty()) break;
            return Error{ErrorCode::syntax, "a pair of time and value was expected, as in '0 0, 1m 5'"};
        }
        const std::size_t gap = pair.find_first_of(" \t", first);
        if (gap == std::string::npos)
            return Error{ErrorCode::syntax, fmt::format("'{}' has no value behind the time", pair.substr(first))};
        auto t = evaluateField(pair.substr(first, gap - first), *findUnit("s"), {});
        if (!t) return t.error();
        auto value = evaluateField(pair.substr(gap + 1), *findUnit(unit), {});
        if (!value) return value.error();
        points.push_back({*t, *value});
    }
    return points;
}

/// Lines of "time, value" with any further columns left out; one heading line is passed over.
Result<std::vector<TablePoint>> readTable(const std::filesystem::path& path) {
    std::ifstream file(path);
    if (!file) return Error{ErrorCode::file, fmt::format("the table {} cannot be read", path.string())};
    std::vector<TablePoint> points;
    std::string line;
    for (int number = 1; std::getline(file, line); ++number) {
        std::replace(line.begin(), line.end(), ';', ',');
        if (line.find_first_not_of(" \t\r,") == std::string::npos) continue;
        const std::size_t comma = line.find(',');
        char *endOfTime = nullptr, *endOfValue = nullptr;
        const std::string first = line.substr(0, comma),
                          second = comma == std::string::npos ? "" : line.substr(comma + 1);
        const TablePoint point{std::strtod(first.c_str(), &endOfTime), std::strtod(second.c_str(), &endOfValue)};
        if (endOfTime == first.c_str() || endOfValue == second.c_str() || !std::isfinite(point.t) ||
            !std::isfinite(point.value)) {
            if (points.empty() && number == 1) continue;
            return Error{ErrorCode::syntax, fmt::format("{}, line {}: a time and a value were expected",
                                                        path.filename().string(), number)};
        }
        points.push_back(point);
        if (points.size() > mostPoints)
            return Error{ErrorCode::resource, fmt::format("{} has more than {} lines", path.string(), mostPoints)};
    }
    return points;
}

Result<std::vector<TablePoint>> pointsOf(const std::string& text, std::string_view unit, const std::string& folder) {
    auto points = text.ends_with(".csv") ? readTable(std::filesystem::path(folder) / text) : readPoints(text, unit);
    if (!points) return points.error();
    if (points->empty()) return Error{ErrorCode::range, "there are no points"};
    for (std::size_t i = 0; i < points->size(); ++i) {
        if (std::abs((*points)[i].t) > longestRunSeconds)
            return Error{ErrorCode::range, fmt::format("point {} lies outside of the longest run", i + 1)};
        if (i > 0 && (*points)[i].t < (*points)[i - 1].t)
            return Error{ErrorCode::range,
                         fmt::format("the times must rise, but point {} comes before point {}", i + 1, i)};
    }
    return points;
}

/// (value, slope) along the points.
class PointsGenerator final : public SourceGenerator {
public:
    /// @param period  0 for once
    PointsGenerator(std::vector<TablePoint> points, bool straight, double period)
        : points_(std::move(points)), straight_(straight), period_(toFine(static_cast<long double>(period))) {
        for (const TablePoint& p : points_) offsets_.push_back(toFine(static_cast<long double>(p.t)));
    }
    int size() const override { return 2; }
    void dynamics(std::span<double> s) const override { s[1] = 1.0; }
    void valueAt(Tick t, std::span<double> w) const override {
        const FineTime start = startOf(t);
        const std::size_t next = firstAfter(t, start);
        w[1] = 0;
        if (next == 0) {
            w[0] = points_.front().value;
            return;
        }
        w[0] = points_[next - 1].value;
        if (!straight_ || next == points_.size()) return;
        const TablePoint &a = points_[next - 1], &b = points_[next];
        w[1] = (b.value - a.value) / (b.t - a.t);
        w[0] += w[1] * toSeconds(t - toTick(start + offsets_[next - 1]));
    }
    Tick nextBreak(Tick t) const override {
        const FineTime start = startOf(t);
        const std::size_t next = firstAfter(t, start);
        if (next < points_.size()) return toTick(start + offsets_[next]);
        return period_ > 0 ? toTick(start + period_ + std::max<FineTime>(offsets_.front(), 0)) : neverTick;
    }

private:
    FineTime startOf(Tick t) const { return period_ > 0 ? toFine(t) / period_ * period_ : FineTime{0}; }
    std::size_t firstAfter(Tick t, FineTime start) const {
        return static_cast<std::size_t>(
            std::partition_point(offsets_.begin(), offsets_.end(), [&](FineTime o) { return toTick(start + o) <= t; }) -
            offsets_.begin());
    }
    std::vector<TablePoint> points_;
    std::vector<FineTime> offsets_;
    bool straight_;
    FineTime period_;
};

class DrivenElement final : public Branch {
public:
    DrivenElement(std::string part, int branch, int from, int to, bool voltage, int source)
        : Branch(std::move(part), branch, from, to), voltage_(voltage), source_(source) {}
    void stamp(LinearStamp& s, int) const override {
        const int row = s.branchRow(branch_);
        s.currentLaw(branch_, from_, to_);
        if (voltage_)
            s.voltage(row, from_, to_, 1.0);
        else
            s.unknown(row, s.branchCurrent(branch_), 1.0);
        s.source(row, source_, 1.0);
    }

private:
    bool voltage_;
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
                      const std::string& folder) const override {
        auto points = pointsOf(text("points"), voltage_ ? "V" : "A", folder);
        if (points) return {};
        Error error = points.error();
        error.field = "points";
        return error;
    }
    void elaborate(NetworkBuilder& b) const override {
        auto points = pointsOf(b.text("points"), voltage_ ? "V" : "A", b.folder());
        std::vector<TablePoint> list = points ? *points : std::vector<TablePoint>{{0, 0}};  // the checks ran before
        const double period = b.value("period");
        if (period > 0) std::erase_if(list, [&](const TablePoint& p) { return p.t < 0 || p.t >= period; });
        if (list.empty()) list = {{0, 0}};
        const int source =
            b.addSource(std::make_unique<PointsGenerator>(std::move(list), b.choice("between") == "straight", period));
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

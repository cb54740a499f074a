#pragma once
// The project as plain data: what is saved, what is edited, and nothing else.
//
// Invariants
//  1. `id` is unique within a project over parts, wires and labels; it lives in memory only and is not saved.
//  2. Every coordinate is a multiple of `gridStep`.
//  3. A wire has at least two points; neighbouring points differ in exactly one coordinate.
//  4. `extra` holds the JSON members this version does not know, as text of a JSON object ("" when none).

#include <cstdint>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/project_folder.h"

namespace hedgerow {

inline constexpr int gridStep = 8;

struct Point {
    int x = 0;
    int y = 0;
    friend bool operator==(const Point&, const Point&) = default;
    friend auto operator<=>(const Point&, const Point&) = default;
    Point operator+(Point other) const { return {x + other.x, y + other.y}; }
    Point operator-(Point other) const { return {x - other.x, y - other.y}; }
};

/// Rounds to the nearest grid point.
Point snapped(double x, double y);

/// A part's values as the user typed them, by parameter key, in the order they were set.
class TypedValues {
public:
    /// The typed text, or nullptr when the default holds.
    const std::string* find(std::string_view key) const;
    /// Sets a text; an empty one removes the key, so that the default holds again.
    void set(std::string_view key, std::string text);
    const std::vector<std::pair<std::string, std::string>>& all() const { return all_; }
    friend bool operator==(const TypedValues&, const TypedValues&) = default;

private:
    std::vector<std::pair<std::string, std::string>> all_;
};

struct Part {
    int id = 0;
    std::string name;
    std::string kind;   ///< identifier of a PartKind
    Point at;           ///< where the origin of the symbol stands
    int turn = 0;       ///< quarter turns clockwise, 0 to 3
    bool flip = false;  ///< mirrored left to right before turning
    int rung = 1;
    TypedValues values;  ///< of all rungs; a rung keeps its own while another is in force
    std::string extra;
    friend bool operator==(const Part&, const Part&) = default;

    /// Where a point of the symbol lies on the sheet.
    Point toSheet(Point local) const;
};

struct Wire {
    int id = 0;
    std::vector<Point> points;
    std::string extra;
    bool bent = false;  ///< by hand: it keeps its shape as far as it can when its ends move
    friend bool operator==(const Wire&, const Wire&) = default;
};

/// A net name set at a point of a wire or a pin. Equal names join.
struct Label {
    int id = 0;
    Point at;
    std::string net;
    std::string extra;
    friend bool operator==(const Label&, const Label&) = default;
};

struct Parameter {
    std::string name;
    std::string value;  ///< as typed
    std::string unit;
    std::string note;
    std::string extra;
    std::string least = {}, most = {};  ///< the range in which it may lie, as typed; "" where it is open
    friend bool operator==(const Parameter&, const Parameter&) = default;
};

/// A drawn circuit: the project's main sheet, or a module, which stands as one part on other sheets.
struct Sheet {
    std::string name = "main";
    std::vector<Part> parts;
    std::vector<Wire> wires;
    std::vector<Label> labels;
    std::string extra;
    std::vector<Parameter> parameters = {};  ///< of a module: what each place of it can set, with the standard values
    std::string note = {};                   ///< of a module: what it is, in a line
    std::string origin = {};                 ///< of a module from a library: which; it is not changed here
    friend bool operator==(const Sheet&, const Sheet&) = default;
};

/// Something that happens during a run. Texts are as typed.
struct SceneEvent {
    std::string at = "0";       ///< when: s, an expression
    std::string wave = {};      ///< name of a source: the event waits until its wave passes `angle`; "" for none
    std::string angle = "0";    ///< deg
    std::string target;         ///< a project parameter, or the value of a part: "R1.r", "X1.S1.ron"
    std::string value;          ///< what it becomes
    std::string duration = {};  ///< s, of a ramp; "" for a step
    std::string extra = {};
    friend bool operator==(const SceneEvent&, const SceneEvent&) = default;
};

/// The events of a run on the time axis.
struct Scene {
    std::string name = "steady";
    std::string extra;
    std::vector<SceneEvent> events = {};
    friend bool operator==(const Scene&, const Scene&) = default;
};

/// How the engine with a fixed step is to work. Texts are as typed.
struct FixedStep {
    std::string step = "1u";             ///< s
    std::string method = "trapezoidal";  ///< or "backward Euler"
    bool interpolate = true;             ///< whether what switches within a step does so where it does
    std::string heat = "1";              ///< temperatures move on every so many steps
    std::string control = "1";           ///< and so do running signals
    std::string extra = {};
    friend bool operator==(const FixedStep&, const FixedStep&) = default;
};

/// A part of a plan: how the run is solved until it ends. Texts are as typed, "" where the plan says it.
struct Span {
    bool settle = false;       ///< takes no simulated time: the run goes on from the periodic state
    std::string until = {};    ///< when it ends, s; "" for the end of the plan
    std::string since = {};    ///< what `until` is counted from: "" for t = 0, "start" of the span, or "event 2"
    std::string when = {};     ///< it ends as soon as this holds: "settled", or "out.v > 23"; `until` is then the latest
    std::string every = {};    ///< s: after so long it comes again, and between the span before it goes on
    std::string lasting = {};  ///< s, of one that comes again: how long each time
    std::string rungs = {};    ///< which rungs (model/rung_rule.h); "" as drawn
    std::string engine = {};
    std::string tolerance = {};
    std::string step = {};  ///< s, of the engine with a fixed step
    std::string keep = {};  ///< quantities whose lines are kept, "L1.i + out.v"; "nothing"; "" for all
    std::string extra = {};
    friend bool operator==(const Span&, const Span&) = default;
};

/// How a run is solved.
struct Plan {
    std::string name = "look";
    std::string end = "20m";
    std::string engine = "best";     ///< an engine by name, or "best": the exact one where the circuit allows it
    std::string tolerance = "1e-4";  ///< deviation of the stored straight lines, relative to the local swing of a trace
    /// Tolerances of single quantities, by name.
    std::vector<std::pair<std::string, std::string>> tolerances = {};
    /// "given", "operating point", "settled" for the periodic state, or a file with the end of another run.
    std::string start = "given";
    bool evenOut = false;  ///< whether start values that contradict each other are evened out
    FixedStep fixed = {};
    /// Of the periodic state. Texts are as typed.
    std::string settledPeriods = "3";  ///< so many are shown
    std::string period = {};           ///< "" to find it
    /// Of the hand-over between spans: a quantity that jumps by more than this part of its swing is a caution.
    std::string largestJump = "0.1";
    std::vector<Span> spans = {};  ///< in a row from t = 0; empty for one that is all of the run
    std::string extra;
    friend bool operator==(const Plan&, const Plan&) = default;
};

/// What is lost and what is saved by other ways to solve the same: the question, as it is kept in the project.
struct TradeStudy {
    std::string name = "what matters";
    std::string scene = {}, plan = {};            ///< "" for the first
    std::vector<std::string> features = {};       ///< "pp of L1.i over 3 periods of M1 within 1 %"
    std::vector<std::string> alternatives = {};   ///< ways of solving: "all on 2, exact"
    std::string extra = {};
    friend bool operator==(const TradeStudy&, const TradeStudy&) = default;
};

/// Many runs from one: what varies, how the runs are chosen, what of them is measured. Texts are as typed, a line each.
struct ParameterStudy {
    std::string name = "study";
    std::string scene = {}, plan = {};         ///< "" for the first
    std::vector<std::string> varied = {};      ///< "C2.c: 22u, 47u, 100u" (studies/varied.h)
    std::vector<std::string> measured = {};    ///< "pp of out.v over last 20u below 50m" (studies/limits.h)
    std::string runs = "grid";                 ///< or "rows", "corners", "random 200", "latin 200", "sobol 256"
    std::string seed = "1";                    ///< of what is random
    std::string keep = {};                     ///< quantities whose traces are kept, "out.v + L1.i"; "" for none
    bool settle = false;                       ///< each run is its periodic state
    std::string extra = {};
    friend bool operator==(const ParameterStudy&, const ParameterStudy&) = default;
};

/// What a lane draws: its quantities over time, their spectra, or all but the first over the first.
enum class LaneKind { time, spectrum, xy };

/// How a lane of spectra looks at its quantities. Texts are as typed, "" where nothing was set.
struct SpectrumLook {
    std::string window = "Hann";   ///< name of a SpectrumWindow
    std::string fundamental = {};  ///< when set, whole periods of it are taken, and no window
    std::string highest = {};      ///< the last frequency, Hz
    bool decibel = false;          ///< in dBuV
    std::string limit = {};        ///< a limit line in the unit of the lane: "150k 66, 500k 56"
    std::string extra = {};
    friend bool operator==(const SpectrumLook&, const SpectrumLook&) = default;
};

/// One strip of the timeline. Its unit is that of its quantities.
struct Lane {
    std::vector<std::string> quantities;
    int height = 96;  ///< in pixels at scale 1
    std::string extra;
    bool folded = false;
    bool log = false;                 ///< logarithmic value axis
    std::string low = {}, high = {};  ///< of the value axis, as typed; "" where it scales by itself
    LaneKind kind = LaneKind::time;
    SpectrumLook spectrum = {};
    friend bool operator==(const Lane&, const Lane&) = default;
};

/// Lanes kept under a name.
struct LaneSet {
    std::string name;
    std::vector<Lane> lanes;
    std::string extra;
    std::string plan = {};  ///< they are shown when a run of this plan follows one of another
    friend bool operator==(const LaneSet&, const LaneSet&) = default;
};

/// Measures over the last periods of a quantity instead of over all that is seen.
struct MeasuredPeriods {
    std::string quantity;  ///< "" for all that is seen
    int count = 10;
    std::string extra = {};
    friend bool operator==(const MeasuredPeriods&, const MeasuredPeriods&) = default;
};

/// Which sheet is in view; not part of what a project is.
struct View {
    std::size_t sheet = 0;    ///< index into the sheets
    std::vector<int> path{};  ///< ids of the modules' places that led there from the main sheet, each on its own sheet
    friend bool operator==(const View&, const View&) { return true; }
};

struct Project {
    std::string title;
    std::string description;
    std::vector<Sheet> sheets = std::vector<Sheet>(1);  ///< the main sheet first, then modules
    std::vector<Parameter> parameters;
    std::vector<Scene> scenes = std::vector<Scene>(1);
    std::vector<Plan> plans = std::vector<Plan>(1);
    std::vector<Lane> lanes;
    std::string extra;
    int lastId = 0;
    ProjectFolder folder;         ///< where relative file names start; in memory only
    std::vector<Part> kept = {};  ///< the user's own parts: each is found under its name, with its values
    std::vector<LaneSet> laneSets = {};
    std::vector<TradeStudy> studies = {};
    std::vector<ParameterStudy> parameterStudies = {};
    MeasuredPeriods measured = {};
    View view = {};
    friend bool operator==(const Project&, const Project&) = default;

    int newId() { return ++lastId; }
    /// The sheet in view, which edits change.
    Sheet& sheet() { return sheets[view.sheet]; }
    const Sheet& sheet() const { return sheets[view.sheet]; }
    bool showsModule() const { return view.sheet > 0; }
    /// The parameters of what is in view: the project's, or a module's.
    std::vector<Parameter>& ownParameters() { return showsModule() ? sheet().parameters : parameters; }
    const std::vector<Parameter>& ownParameters() const { return showsModule() ? sheet().parameters : parameters; }
    /// The parameters that expressions of the sheet in view may name: those of a module hide the project's.
    std::vector<Parameter> parametersInView() const;
    // Of the sheet in view.
    const Part* findPart(int id) const;
    Part* findPart(int id);
    const Part* findPart(std::string_view name) const;
    const Wire* findWire(int id) const;
    Wire* findWire(int id);
    Label* findLabel(int id);
    const Label* findLabel(int id) const;
    // Of the project.
    const Sheet* findSheet(std::string_view name) const;
    Sheet* findSheet(std::string_view name);
    const Scene* findScene(std::string_view name) const;
    const Plan* findPlan(std::string_view name) const;
    Parameter* findParameter(std::string_view name);
};

}  // namespace hedgerow

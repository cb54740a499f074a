#pragma once
// What the parts of the control share. One description of a part serves in three ways: its outputs follow running
// signals as equations of the network, they follow held signals edge by edge, or they are computed at the samples of a
// task.

#include <functional>
#include <span>
#include <string>
#include <variant>
#include <vector>

#include "network/part_type.h"

namespace hedgerow::parts {

/// One piece of a piecewise-linear law with inputs u, states x and outputs y. Every row runs over u, then x, then 1.
struct SignalPiece {
    using Row = std::vector<double>;
    std::vector<Row> outputs;     ///< y
    std::vector<Row> rates = {};  ///< x', per second
    struct Bound {
        Row row;  ///< >= 0, else `next` takes over
        int next;
    };
    std::vector<Bound> bounds = {};
};

/// A piecewise-linear law.
struct PieceLaw {
    int inputs = 1;
    std::vector<SignalPiece> pieces;
    std::vector<double> initial = {};  ///< one per state
    bool logic = false;                ///< the one output is 0 or 1, constant in each piece: it changes in edges
    bool remembers = false;            ///< which piece holds depends on the one before

    int states() const { return static_cast<int>(initial.size()); }
    int outputs() const { return static_cast<int>(pieces.front().outputs.size()); }
    /// The piece in which all bounds hold, found from `piece`. Only for laws without states.
    int pieceFor(std::span<const double> u, int piece) const;
    void evaluate(int piece, std::span<const double> u, std::span<double> y) const;
};

/// y = coefficients · u + constant, a row an output.
PieceLaw linear(std::vector<SignalPiece::Row> outputs);
/// Whether something drives a pin.
bool connected(const NetworkBuilder& b, std::string_view pin);

/// A law y = f(u) with a derivative everywhere. Running inputs make it a smooth element.
struct SmoothLaw {
    int inputs = 1, outputs = 1;
    /// @param jacobian  outputs x inputs, row-major; empty when it is not wanted
    std::function<void(std::span<const double> u, std::span<double> y, std::span<double> jacobian)> evaluate;
};

using Law = std::variant<PieceLaw, SmoothLaw>;

/// How a part of the control is described; pins and symbol follow from it.
struct SignalKind {
    std::string id, title, prefix;
    std::vector<std::string> synonyms;
    std::string summary, help;
    std::vector<std::string> inputs, outputs;  ///< names of pins; one that ends in '?' may stay open
    std::string mark;                          ///< what stands in its box
    std::vector<ParameterKind> parameters = {};
    std::string equations = {}, source = "definition";
    std::string group = "Control";
    bool canBeSampled = true;              ///< gives it the field "task"
    bool needsTask = false;                ///< it works at samples only
    bool ownSamples = false;               ///< it does, but can take them without a task
    std::vector<std::string> sensed = {};  ///< inputs of a process that may run: it looks at them when another changes
    bool anyThree = false;  ///< any input takes a wire of three, with the two after it; without, inputs a, b, c that
                            ///< must all be there
};
PartKind signalKind(const SignalKind& description);

ParameterKind number(std::string key, std::string label, std::string symbol, std::string standard,
                     std::string unit = "", bool shownOnSheet = false);
/// A number that must be above zero.
ParameterKind positive(std::string key, std::string label, std::string symbol, std::string standard,
                       std::string unit = "", bool shownOnSheet = false);
/// A value that matters at the start of a run only.
ParameterKind atStart(ParameterKind p);
/// A frequency or a time of what comes again and again: at most 1 GHz, or at least 1 ns.
ParameterKind recurring(ParameterKind p);
ParameterKind choiceOf(std::string key, std::string label, std::vector<std::string> choices);
ParameterKind textOf(std::string key, std::string label, std::string standard, bool shownOnSheet = false);
/// Several expressions in one text.
ParameterKind expressionsOf(std::string key, std::string label, std::string standard, bool shownOnSheet = false);
/// "low" and "high", of an output.
std::vector<ParameterKind> limits(std::string low, std::string high);

/// What every part of the control is.
class SignalPart : public PartType {
public:
    explicit SignalPart(const SignalKind& description);
    PartKind kind() const override { return kind_; }
    bool joinsNets() const override { return false; }
    Status checkTexts(const std::function<std::string(std::string_view)>& text, const ProjectFolder&) const override;

protected:
    bool anyInputRuns(const SignalSurroundings& around) const;
    const std::vector<std::string>& inputs() const { return inputs_; }
    const std::vector<std::string>& outputs() const { return outputs_; }
    void offerOutputs(NetworkBuilder& b) const;

private:
    PartKind kind_;
    std::vector<std::string> inputs_, outputs_;
    bool needsTask_;
};

/// A part whose outputs follow its inputs at once, or with states of its own that run.
class LawPart final : public SignalPart {
public:
    using MakeLaw = std::function<Law(const NetworkBuilder& b)>;
    /// Makes the step of a sampled part, where it is not the law itself.
    using MakeStep = std::function<StepMaker(const NetworkBuilder& b)>;
    using Check = std::function<Status(const std::function<double(std::string_view)>& value)>;
    enum class Output { follows, runs, logic };
    /// @param output  what the output does while the part has no task: it runs when an input does, always, or never
    LawPart(const SignalKind& description, MakeLaw law, Output output = Output::follows, MakeStep step = {},
            Check check = {});
    void elaborate(NetworkBuilder& b) const override;
    bool outputsRun(const SignalSurroundings& around) const override;
    Status check(const std::function<double(std::string_view)>& value) const override;

private:
    MakeLaw law_;
    Output output_;
    MakeStep step_;
    Check check_;
};

/// A part that works at samples only: those of its task or, where it can take them by itself, its own.
class SampledPart final : public SignalPart {
public:
    /// How a part without a task samples.
    struct Own {
        double period;          ///< s
        bool integral = false;  ///< its one input is the integral of what is wired there since the start
        StepMaker step = {};    ///< in place of that at the samples of a task
    };
    using MakeOwn = std::function<Own(const NetworkBuilder& b)>;
    SampledPart(SignalKind description, LawPart::MakeStep step, MakeOwn own = {});
    void elaborate(NetworkBuilder& b) const override;

private:
    void elaborateOwn(NetworkBuilder& b) const;
    LawPart::MakeStep step_;
    MakeOwn own_;
};

/// A part whose outputs change at instants of its own.
class ProcessPart final : public SignalPart {
public:
    using MakeProcess = std::function<std::unique_ptr<SignalProcess>()>;
    using Plan = std::function<MakeProcess(const NetworkBuilder& b)>;
    /// @param follows  whether it looks at its inputs whenever they change, or at instants of its own
    ProcessPart(SignalKind description, Plan plan, bool follows);
    void elaborate(NetworkBuilder& b) const override;

private:
    Plan plan_;
    bool follows_;
    std::vector<std::string> sensed_;
};

/// A part that is gone before anything is elaborated: wires of three are laid out in single ones.
class WirePart final : public SignalPart {
public:
    explicit WirePart(SignalKind description) : SignalPart((description.canBeSampled = false, description)) {}
    void elaborate(NetworkBuilder&) const override {}
};

/// A block with memory that a function makes.
class ProcessBlock final : public SignalBlock {
public:
    ProcessBlock(ProcessPart::MakeProcess make, bool follows) : make_(std::move(make)), follows_(follows) {}
    std::unique_ptr<SignalProcess> process() const override { return make_(); }
    bool follows() const override { return follows_; }

private:
    ProcessPart::MakeProcess make_;
    bool follows_;
};

/// column = factor * w + offset.
class WaveElement final : public Element {
public:
    WaveElement(std::string part, int column, int source, double factor, double offset)
        : Element(std::move(part)), column_(column), source_(source), factor_(factor), offset_(offset) {}
    void stamp(LinearStamp& s, int) const override {
        s.unknown(column_, column_, 1.0);
        s.source(column_, source_, factor_);
        if (offset_ != 0) s.source(column_, 0, offset_);
    }

private:
    int column_, source_;
    double factor_, offset_;
};

}  // namespace hedgerow::parts

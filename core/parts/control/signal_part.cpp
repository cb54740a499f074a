#include "parts/control/signal_part.h"

#include <algorithm>

#include <fmt/format.h>

#include "model/quantity.h"
#include "network/task.h"

namespace hedgerow::parts {

namespace {

double along(const SignalPiece::Row& row, std::span<const double> u) {
    double sum = row.back();
    for (std::size_t i = 0; i < u.size(); ++i) sum += row[i] * u[i];
    return sum;
}

/// A law over running signals, as equations.
class LawElement final : public Element {
public:
    /// @param columns  of inputs, then of states
    /// @param outputs  columns, which are rows too; empty for a logic output
    /// @param one  a column that is 1, which rates with a constant share need; -1 for none
    LawElement(std::string part, PieceLaw law, std::vector<int> columns, std::vector<int> states,
               std::vector<int> outputs, int logicSignal, int one = -1)
        : Element(std::move(part)),
          law_(std::move(law)),
          columns_(std::move(columns)),
          states_(std::move(states)),
          outputs_(std::move(outputs)),
          logicSignal_(logicSignal),
          one_(one) {}
    int segmentCount() const override { return static_cast<int>(law_.pieces.size()); }
    int initialSegment(bool) const override { return 0; }
    int logicSignal() const override { return logicSignal_; }
    bool conducts(int segment) const override { return law_.logic && piece(segment).outputs[0].back() > 0.5; }
    int equations(int segment) const override {
        if (law_.logic && law_.states() == 0) return 0;
        for (int other = 0; other < segment; ++other)
            if (piece(other).outputs == piece(segment).outputs && piece(other).rates == piece(segment).rates)
                return other;
        return segment;
    }
    void stamp(LinearStamp& s, int segment) const override {
        const SignalPiece& p = piece(segment);
        for (std::size_t j = 0; j < states_.size(); ++j) {
            const int column = columns_[static_cast<std::size_t>(law_.inputs) + j];
            s.unknown(column, column, 1.0);
            s.state(column, states_[j], 1.0);
            for (std::size_t i = 0; i < columns_.size(); ++i)
                if (p.rates[j][i] != 0) s.rate(states_[j], columns_[i], p.rates[j][i]);
            if (p.rates[j].back() != 0) s.rate(states_[j], one_, p.rates[j].back());
        }
        for (std::size_t j = 0; j < outputs_.size(); ++j) {
            const int row = outputs_[j];
            s.unknown(row, row, 1.0);
            for (std::size_t i = 0; i < columns_.size(); ++i)
                if (p.outputs[j][i] != 0) s.unknown(row, columns_[i], -p.outputs[j][i]);
            if (p.outputs[j].back() != 0) s.source(row, 0, p.outputs[j].back());
        }
    }
    std::vector<Guard> guards(int segment) const override {
        std::vector<Guard> result;
        for (const SignalPiece::Bound& bound : piece(segment).bounds) {
            Guard guard{{}, bound.row.back(), bound.next};
            for (std::size_t i = 0; i < columns_.size(); ++i)
                if (bound.row[i] != 0 && columns_[i] >= 0) guard.terms.emplace_back(columns_[i], bound.row[i]);
            result.push_back(std::move(guard));
        }
        return result;
    }

private:
    const SignalPiece& piece(int segment) const { return law_.pieces[static_cast<std::size_t>(segment)]; }
    PieceLaw law_;
    std::vector<int> columns_, states_, outputs_;
    int logicSignal_, one_;
};

class SmoothElement final : public Element {
public:
    SmoothElement(std::string part, SmoothLaw law, std::vector<int> inputs, std::vector<int> outputs)
        : Element(std::move(part)), law_(std::move(law)), inputs_(std::move(inputs)), outputs_(std::move(outputs)) {}
    bool smooth() const override { return true; }
    void stamp(LinearStamp& s, int) const override {
        for (const int row : outputs_) s.unknown(row, row, 1.0);
    }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        std::vector<double> u, y(outputs_.size()), jacobian(inputs_.size() * outputs_.size());
        for (const int column : inputs_) u.push_back(column < 0 ? 0.0 : at.unknown(column));
        law_.evaluate(u, y, jacobian);
        for (std::size_t j = 0; j < outputs_.size(); ++j) {
            out.flow(outputs_[j], -y[j]);
            for (std::size_t i = 0; i < inputs_.size(); ++i)
                out.byUnknown(outputs_[j], inputs_[i], -jacobian[j * inputs_.size() + i]);
        }
    }

private:
    SmoothLaw law_;
    std::vector<int> inputs_, outputs_;
};

/// A law, as a function that may remember its piece.
class LawFunction {
public:
    explicit LawFunction(const Law& law) : law_(law) {}
    void operator()(std::span<const double> u, std::span<double> y) {
        if (const auto* smooth = std::get_if<SmoothLaw>(&law_)) return smooth->evaluate(u, y, {});
        const auto& pieces = std::get<PieceLaw>(law_);
        piece_ = pieces.pieceFor(u, piece_);
        pieces.evaluate(piece_, u, y);
    }
    void memory(Memory& all) {
        const auto* pieces = std::get_if<PieceLaw>(&law_);
        if (pieces) all.whole("piece", piece_, 0, static_cast<std::int64_t>(pieces->pieces.size()) - 1);
    }

private:
    Law law_;
    int piece_ = 0;
};

class LawProcess final : public SignalProcess {
public:
    explicit LawProcess(const Law& law) : function_(law) {}
    Status advance(Tick, std::span<const double> inputs, std::span<double> outputs) override {
        function_(inputs, outputs);
        return {};
    }
    void memory(Memory& all) override { function_.memory(all); }

private:
    LawFunction function_;
};

class LawBlock final : public SignalBlock {
public:
    explicit LawBlock(Law law) : law_(std::move(law)) {}
    void evaluate(Tick, std::span<const double> inputs, std::span<double> outputs) const override {
        LawFunction function(law_);
        function(inputs, outputs);
    }
    std::unique_ptr<SignalProcess> process() const override {
        const auto* pieces = std::get_if<PieceLaw>(&law_);
        return pieces && pieces->remembers ? std::make_unique<LawProcess>(law_) : nullptr;
    }

private:
    Law law_;
};

class LawStep final : public SampledStep {
public:
    explicit LawStep(const Law& law) : function_(law) {}
    Status output(std::span<const double> inputs, std::span<double> outputs) override {
        function_(inputs, outputs);
        return {};
    }
    void memory(Memory& all) override { function_.memory(all); }

private:
    LawFunction function_;
};

/// Whether a state of the law changes by itself.
bool hasConstantRate(const PieceLaw& law) {
    for (const SignalPiece& piece : law.pieces)
        for (const SignalPiece::Row& rate : piece.rates)
            if (rate.back() != 0) return true;
    return false;
}

std::vector<std::string> named(const std::vector<std::string>& pins) {
    std::vector<std::string> names;
    for (const std::string& pin : pins) names.push_back(pin.ends_with('?') ? pin.substr(0, pin.size() - 1) : pin);
    return names;
}

}  // namespace

int PieceLaw::pieceFor(std::span<const double> u, int piece) const {
    // Bounds lead towards the piece that fits; a table of n pieces takes n steps at most.
    for (std::size_t step = 0; step <= pieces.size(); ++step) {
        const SignalPiece& now = pieces[static_cast<std::size_t>(piece)];
        const auto broken = std::find_if(now.bounds.begin(), now.bounds.end(),
                                         [&](const SignalPiece::Bound& bound) { return along(bound.row, u) < 0; });
        if (broken == now.bounds.end()) break;
        piece = broken->next;
    }
    return piece;
}

void PieceLaw::evaluate(int piece, std::span<const double> u, std::span<double> y) const {
    const SignalPiece& now = pieces[static_cast<std::size_t>(piece)];
    for (std::size_t j = 0; j < now.outputs.size(); ++j) y[j] = along(now.outputs[j], u);
}

PieceLaw linear(std::vector<SignalPiece::Row> outputs) {
    return {static_cast<int>(outputs.front().size()) - 1, {{std::move(outputs)}}};
}

bool connected(const NetworkBuilder& b, std::string_view pin) {
    const SignalInput input = b.input(pin);
    return input.signal >= 0 || input.column >= 0;
}

/// Whether three phases begin here.
static bool startsThree(const std::vector<std::string>& names, std::size_t i) {
    return i + 2 < names.size() && names[i] == "a" && names[i + 1] == "b" && names[i + 2] == "c";
}

PartKind signalKind(const SignalKind& d) {
    PartKind kind{.id = d.id,
                  .title = d.title,
                  .prefix = d.prefix,
                  .synonyms = d.synonyms,
                  .summary = d.summary,
                  .help = d.help,
                  .pins = {},
                  .parameters = d.parameters,
                  .rungs = {{1, d.needsTask ? "exact at its samples" : "exact", d.equations, d.source, 1.0}},
                  .symbol = {},
                  .group = d.group};
    const int rows = static_cast<int>(std::max({d.inputs.size(), d.outputs.size(), std::size_t{1}}));
    // With room for the names of the pins, and the mark above them, where there are several.
    const int half = rows > 1 ? 8 * rows + 16 : 16, wide = rows > 1 ? 40 : 24;
    const auto side = [&](const std::vector<std::string>& names, int sign, PinSort sort) {
        for (std::size_t i = 0; i < names.size(); ++i) {
            const int y = 16 * static_cast<int>(i) - 8 * (static_cast<int>(names.size()) - 1);
            const bool optional = names[i].ends_with('?');
            kind.pins.push_back({optional ? names[i].substr(0, names[i].size() - 1) : names[i],
                                 {sign * (wide + 8), y},
                                 sort,
                                 optional || sort == PinSort::signalOut,
                                 sort == PinSort::signalIn && (d.anyThree || startsThree(names, i))});
            kind.symbol.push_back(
                {fmt::format("M {} {} L {} {}", sign * wide, y, sign * (wide + 8), y), Stroke::Weight::thin});
        }
    };
    side(d.inputs, -1, PinSort::signalIn);
    side(d.outputs, 1, PinSort::signalOut);
    kind.symbol.push_back(
        {fmt::format("M {0} {1} L {2} {1} L {2} {3} L {0} {3} Z", -wide, -half, wide, half), Stroke::Weight::thin});
    kind.mark = d.mark;
    kind.labelAt = {-wide, -half - 12};
    if (d.canBeSampled || d.needsTask)
        kind.parameters.push_back({.key = "task",
                                   .label = d.ownSamples  ? "task, or empty: samples by itself"
                                            : d.needsTask ? "task"
                                                          : "task, or empty: runs all the time",
                                   .symbol = "",
                                   .unit = "",
                                   .standard = d.needsTask && !d.ownSamples ? "T1" : "",
                                   .text = true});
    return kind;
}

ParameterKind number(std::string key, std::string label, std::string symbol, std::string standard, std::string unit,
                     bool shownOnSheet) {
    ParameterKind p;
    p.key = std::move(key), p.label = std::move(label), p.symbol = std::move(symbol);
    p.standard = std::move(standard), p.unit = std::move(unit), p.shownOnSheet = shownOnSheet;
    p.anyUnit = p.unit.empty();
    return p;
}

ParameterKind positive(std::string key, std::string label, std::string symbol, std::string standard, std::string unit,
                       bool shownOnSheet) {
    ParameterKind p =
        number(std::move(key), std::move(label), std::move(symbol), std::move(standard), std::move(unit), shownOnSheet);
    p.least = 0, p.aboveLeast = true;
    return p;
}

ParameterKind atStart(ParameterKind p) {
    p.atStart = true;
    return p;
}

ParameterKind recurring(ParameterKind p) {
    if (p.unit == "s")
        p.least = 1e-9, p.aboveLeast = false;
    else
        p.least = 1e-3, p.aboveLeast = false, p.most = 1e9;
    return p;
}

ParameterKind choiceOf(std::string key, std::string label, std::vector<std::string> choices) {
    ParameterKind p = number(std::move(key), std::move(label), "", choices.front());
    p.choices = std::move(choices);
    return p;
}

ParameterKind textOf(std::string key, std::string label, std::string standard, bool shownOnSheet) {
    ParameterKind p = number(std::move(key), std::move(label), "", std::move(standard), "", shownOnSheet);
    p.text = true;
    return p;
}

ParameterKind expressionsOf(std::string key, std::string label, std::string standard, bool shownOnSheet) {
    ParameterKind p = textOf(std::move(key), std::move(label), std::move(standard), shownOnSheet);
    p.expressions = true;
    return p;
}

std::vector<ParameterKind> limits(std::string low, std::string high) {
    return {number("low", "lower limit", "y_min", std::move(low)),
            number("high", "upper limit", "y_max", std::move(high))};
}

SignalPart::SignalPart(const SignalKind& description)
    : kind_(signalKind(description)),
      inputs_(named(description.inputs)),
      outputs_(named(description.outputs)),
      needsTask_(description.needsTask && !description.ownSamples) {}

Status SignalPart::checkTexts(const std::function<std::string(std::string_view)>& text, const ProjectFolder&) const {
    if (needsTask_ && text("task").empty())
        return Error{ErrorCode::name, "it works at the samples of a task: name one", {}, {}, "task"};
    return {};
}

bool SignalPart::anyInputRuns(const SignalSurroundings& around) const {
    return std::any_of(inputs_.begin(), inputs_.end(), [&](const std::string& pin) { return around.runs(pin); });
}

void SignalPart::offerOutputs(NetworkBuilder& b) const {
    for (const std::string& pin : outputs_) b.offerSignal(pin);
}

LawPart::LawPart(const SignalKind& description, MakeLaw law, Output output, MakeStep step, Check check)
    : SignalPart(description),
      law_(std::move(law)),
      output_(output),
      step_(std::move(step)),
      check_(std::move(check)) {}

bool LawPart::outputsRun(const SignalSurroundings& around) const {
    if (around.sampled() || output_ == Output::logic) return false;
    return output_ == Output::runs || anyInputRuns(around);
}

Status LawPart::check(const std::function<double(std::string_view)>& value) const {
    return check_ ? check_(value) : Status{};
}

void LawPart::elaborate(NetworkBuilder& b) const {
    const Law law = law_(b);
    const auto* pieces = std::get_if<PieceLaw>(&law);
    if (b.sampled()) {
        b.addStep(
            step_ ? step_(b) : [law](double) { return std::make_unique<LawStep>(law); }, inputs(), outputs());
        return offerOutputs(b);
    }
    std::vector<SignalInput> reads;
    bool runs = output_ == Output::runs;
    for (const std::string& pin : inputs()) {
        reads.push_back(b.input(pin));
        runs = runs || reads.back().column >= 0;
    }
    if (!runs) {
        std::vector<int> writes;
        for (const std::string& pin : outputs()) writes.push_back(b.signal(pin));
        b.addSignalBlock(std::make_unique<LawBlock>(law), std::move(reads), std::move(writes));
        return offerOutputs(b);
    }
    std::vector<int> columns, states, writes;
    for (const std::string& pin : inputs()) columns.push_back(b.column(pin));
    const bool logic = pieces && pieces->logic;
    for (const std::string& pin : outputs())
        if (!logic) writes.push_back(b.column(pin));
    if (pieces) {
        for (const double initial : pieces->initial) {
            columns.push_back(b.addColumn());
            states.push_back(b.addComposedState(StateSort::signal, initial, 1.0, false));
        }
        int one = -1;
        if (hasConstantRate(*pieces)) {
            one = b.addColumn();
            b.addElement(std::make_unique<WaveElement>(b.partName(), one, 0, 1.0, 0.0));
        }
        b.addElement(std::make_unique<LawElement>(b.partName(), *pieces, std::move(columns), std::move(states),
                                                  std::move(writes), logic ? b.signal(outputs().front()) : -1, one));
    } else {
        b.addElement(std::make_unique<SmoothElement>(b.partName(), std::get<SmoothLaw>(law), std::move(columns),
                                                     std::move(writes)));
    }
    offerOutputs(b);
}

SampledPart::SampledPart(SignalKind description, LawPart::MakeStep step, MakeOwn own)
    : SignalPart((description.needsTask = true, description.ownSamples = static_cast<bool>(own), description)),
      step_(std::move(step)),
      own_(std::move(own)) {}

void SampledPart::elaborate(NetworkBuilder& b) const {
    if (own_ && !b.sampled())
        elaborateOwn(b);
    else
        b.addStep(step_(b), inputs(), outputs());
    offerOutputs(b);
}

/// A task for it alone.
void SampledPart::elaborateOwn(NetworkBuilder& b) const {
    Own own = own_(b);
    constexpr double shortest = 1e-12;
    if (!(own.period >= shortest)) {
        b.refuse("n", fmt::format("its samples would come every {}: they must be at least {} apart",
                                  formatQuantity(own.period, "s"), formatQuantity(shortest, "s")));
        own.period = shortest;
    }
    TaskStep step{own.step ? std::move(own.step) : step_(b), b.partName(), {}, 0, static_cast<int>(outputs().size())};
    std::vector<SignalInput> reads;
    std::vector<int> writes;
    for (const std::string& pin : inputs()) {
        step.inputs.push_back({-1, static_cast<int>(reads.size())});
        reads.push_back(b.input(pin));
    }
    if (own.integral) {
        const PieceLaw integral{1, {{.outputs = {{0, 1, 0}}, .rates = {{1, 0, 0}}}}, {0.0}};
        std::vector<int> columns{b.column(inputs().front()), b.addColumn()};
        const int sum = b.addColumn();
        b.addElement(std::make_unique<LawElement>(b.partName(), integral, std::move(columns),
                                                  std::vector{b.addComposedState(StateSort::signal, 0.0, 1.0, false)},
                                                  std::vector{sum}, -1));
        reads.front() = {-1, sum};
    }
    for (const std::string& pin : outputs()) writes.push_back(b.signal(pin));
    std::vector<TaskStep> steps;
    steps.push_back(std::move(step));
    b.addSignalBlock(std::make_unique<TaskBlock>(TaskSetting{own.period}, std::move(steps), outputs().size()),
                     std::move(reads), std::move(writes));
}

ProcessPart::ProcessPart(SignalKind description, Plan plan, bool follows)
    : SignalPart((description.canBeSampled = false, description)),
      plan_(std::move(plan)),
      follows_(follows),
      sensed_(description.sensed) {}

void ProcessPart::elaborate(NetworkBuilder& b) const {
    std::vector<SignalInput> reads;
    std::vector<int> writes;
    for (const std::string& pin : inputs()) {
        SignalInput input = b.input(pin);
        // One that looks at edges cannot follow what runs: signal() says so.
        const bool senses = !follows_ || std::find(sensed_.begin(), sensed_.end(), pin) != sensed_.end();
        if (!senses && input.column >= 0) input = {b.signal(pin), -1};
        reads.push_back(input);
    }
    for (const std::string& pin : outputs()) writes.push_back(b.signal(pin));
    b.addSignalBlock(std::make_unique<ProcessBlock>(plan_(b), follows_), std::move(reads), std::move(writes));
    offerOutputs(b);
}

}  // namespace hedgerow::parts

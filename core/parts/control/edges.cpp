// Logic with memory: latch, one-shot, counter, delay of edges, sample and hold, state table.

#include <cmath>
#include <deque>
#include <map>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"
#include "parts/control/signal_part.h"

namespace hedgerow {

using namespace parts;

namespace {

bool on(double value) { return value > 0.5; }

class Latch final : public SignalProcess {
public:
    explicit Latch(bool resetWins) : resetWins_(resetWins) {}
    Status advance(Tick, std::span<const double> in, std::span<double> out) override {
        const bool set = on(in[0]), reset = on(in[1]);
        if (set && reset)
            set_ = !resetWins_;
        else if (set || reset)
            set_ = set;
        out[0] = set_ ? 1 : 0, out[1] = set_ ? 0 : 1;
        return {};
    }
    void memory(Memory& all) override { all.flag("set", set_); }

private:
    bool resetWins_, set_ = false;
};

/// A pulse of one length from each rising edge.
class OneShot final : public SignalProcess {
public:
    OneShot(double length, bool again) : length_(toTicks(length)), again_(again) {}
    Status advance(Tick t, std::span<const double> in, std::span<double> out) override {
        const bool risen = on(in[0]) && !before_;
        before_ = on(in[0]);
        if (risen && (again_ || t >= end_)) end_ = later(t, length_);
        out[0] = t < end_ ? 1 : 0;
        return {};
    }
    Tick next(Tick t) const override { return t < end_ ? end_ : neverTick; }
    void memory(Memory& all) override { all.flag("input before", before_), all.instant("pulse ends", end_); }

private:
    Tick length_, end_ = 0;
    bool again_, before_ = false;
};

/// Counts rising edges; at the modulus it starts again.
class Counter final : public SignalProcess {
public:
    explicit Counter(double modulus) : modulus_(modulus) {}
    Status advance(Tick, std::span<const double> in, std::span<double> out) override {
        if (on(in[0]) && !before_) count_ = count_ + 1 >= modulus_ ? 0 : count_ + 1;
        before_ = on(in[0]);
        if (on(in[1])) count_ = 0;
        out[0] = count_;
        return {};
    }
    void memory(Memory& all) override { all.flag("input before", before_), all.number("count", count_); }

private:
    double modulus_, count_ = 0;
    bool before_ = false;
};

/// Rising edges come late by one time, falling ones by another; a pulse shorter than its delay does not come.
class EdgeDelay final : public SignalProcess {
public:
    EdgeDelay(double rise, double fall) : rise_(toTicks(rise)), fall_(toTicks(fall)) {}
    Status advance(Tick t, std::span<const double> in, std::span<double> out) override {
        if (on(in[0]) != wanted_) {
            wanted_ = on(in[0]);
            due_ = wanted_ == out_ ? neverTick : later(t, wanted_ ? rise_ : fall_);
        }
        if (due_ <= t) out_ = wanted_, due_ = neverTick;
        out[0] = out_ ? 1 : 0;
        return {};
    }
    Tick next(Tick) const override { return due_; }
    void memory(Memory& all) override {
        all.flag("wanted", wanted_), all.flag("output", out_), all.instant("due", due_);
    }

private:
    Tick rise_, fall_, due_ = neverTick;
    bool wanted_ = false, out_ = false;
};

class SampleHold final : public SignalProcess {
public:
    explicit SampleHold(bool tracks) : tracks_(tracks) {}
    Status advance(Tick, std::span<const double> in, std::span<double> out) override {
        if (on(in[1]) && (tracks_ || !before_)) held_ = in[0];
        before_ = on(in[1]);
        out[0] = held_;
        return {};
    }
    void memory(Memory& all) override { all.flag("trigger before", before_), all.number("held", held_); }

private:
    bool tracks_, before_ = false;
    double held_ = 0;
};

/// A state table, read from text.
struct StateTable {
    struct Literal {
        std::size_t input;
        bool wanted;
    };
    struct Way {
        std::size_t from, to;
        std::vector<std::vector<Literal>> when;  ///< any of these, in each of which all must hold
    };
    static constexpr std::size_t inputCount = 4, outputCount = 3;
    std::vector<std::string> names;
    std::vector<std::vector<double>> outputs;
    std::vector<Way> ways;
};

Result<StateTable> readTable(const std::string& text) {
    StateTable table;
    const auto fault = [](std::string message) {
        return Error{ErrorCode::syntax, std::move(message), {}, {}, "table"};
    };
    std::vector<std::string> lines;
    for (std::size_t start = 0; start <= text.size();) {
        const std::size_t end = std::min(text.find_first_of(";\n", start), text.size());
        if (std::string line(trimmed(text.substr(start, end - start))); !line.empty()) lines.push_back(std::move(line));
        start = end + 1;
    }
    const auto stateCalled = [&](std::string_view name) {
        return static_cast<std::size_t>(std::find(table.names.begin(), table.names.end(), trimmed(name)) -
                                        table.names.begin());
    };
    for (const std::string& line : lines) {
        const std::size_t colon = line.find(':');
        if (colon == std::string::npos)
            return fault(fmt::format("'{}' has no colon: write 'run: 1 0 0' or 'rest > run: a'", line));
        if (line.find('>') < colon) continue;
        const std::string name(trimmed(line.substr(0, colon)));
        if (!isIdentifier(name)) return fault(fmt::format("'{}' is no name for a state", name));
        if (stateCalled(name) < table.names.size()) return fault(fmt::format("there are two states called {}", name));
        std::vector<double> values;
        for (const std::string& word : words(line.substr(colon + 1))) {
            auto value = evaluate(word);
            if (!value) return fault(fmt::format("state {}: '{}': {}", name, word, value.error().message));
            values.push_back(value->value);
        }
        if (values.size() > StateTable::outputCount)
            return fault(
                fmt::format("state {} has {} outputs, but there are {}", name, values.size(), StateTable::outputCount));
        values.resize(StateTable::outputCount);
        table.names.push_back(name);
        table.outputs.push_back(std::move(values));
    }
    if (table.names.empty()) return fault("there is no state: write 'rest: 0 0 0'");
    for (const std::string& line : lines) {
        const std::size_t colon = line.find(':'), arrow = line.find('>');
        if (arrow >= colon) continue;
        StateTable::Way way{
            stateCalled(line.substr(0, arrow)), stateCalled(line.substr(arrow + 1, colon - arrow - 1)), {}};
        if (std::max(way.from, way.to) >= table.names.size())
            return fault(fmt::format("'{}' names a state that is not there", trimmed(line.substr(0, colon))));
        const std::string condition = line.substr(colon + 1) + "|";
        std::vector<StateTable::Literal> all;
        std::string word;
        for (const char c : condition) {
            if (c != '&' && c != '|') {
                if (c != ' ') word += c;
                continue;
            }
            const bool wanted = !word.starts_with('!');
            const std::string input = wanted ? word : word.substr(1);
            if (input.size() != 1 || input[0] < 'a' || input[0] > 'd')
                return fault(fmt::format("'{}' is no condition: inputs are a to d, with ! & |",
                                         trimmed(line.substr(colon + 1))));
            all.push_back({static_cast<std::size_t>(input[0] - 'a'), wanted});
            word.clear();
            if (c == '|') way.when.push_back(std::move(all)), all.clear();
        }
        table.ways.push_back(std::move(way));
    }
    return table;
}

class StateProcess final : public SignalProcess {
public:
    explicit StateProcess(std::shared_ptr<const StateTable> table) : table_(std::move(table)) {}
    Status advance(Tick, std::span<const double> in, std::span<double> out) override {
        // One way at a time; a ring of ways that are all open ends after each was taken once.
        for (std::size_t taken = 0; taken <= table_->ways.size(); ++taken) {
            const auto way = std::find_if(table_->ways.begin(), table_->ways.end(), [&](const StateTable::Way& w) {
                return w.from == state_ && holds(w, in);
            });
            if (way == table_->ways.end()) break;
            if (taken == table_->ways.size())
                return Error{ErrorCode::numeric, "its states follow each other in a ring without end: state " +
                                                     table_->names[state_]};
            state_ = way->to;
        }
        const auto& values = table_->outputs[state_];
        std::copy(values.begin(), values.end(), out.begin());
        out[StateTable::outputCount] = static_cast<double>(state_);
        return {};
    }
    void memory(Memory& all) override {
        all.whole("state", state_, 0, static_cast<std::int64_t>(table_->names.size()) - 1);
    }

private:
    static bool holds(const StateTable::Way& way, std::span<const double> in) {
        return std::any_of(way.when.begin(), way.when.end(), [&](const std::vector<StateTable::Literal>& all) {
            return std::all_of(all.begin(), all.end(),
                               [&](const StateTable::Literal& l) { return on(in[l.input]) == l.wanted; });
        });
    }
    std::shared_ptr<const StateTable> table_;
    std::size_t state_ = 0;
};

}  // namespace

void registerEdges(PartLibrary& library) {
    const auto add = [&](const SignalKind& kind, ProcessPart::Plan plan) {
        library.add(std::make_unique<ProcessPart>(kind, std::move(plan), true));
    };
    add({"latch",
         "Latch",
         "FF",
         {"flip-flop", "set reset", "rs"},
         "Remembers which of two inputs was on last",
         "s turns it on and r off; while both are on the one that wins decides. n is its opposite. Set by a clock and "
         "reset by a comparator it makes peak-current control.",
         {"s", "r"},
         {"q", "n"},
         "S/R",
         {choiceOf("wins", "wins", {"reset", "set"})},
         "q set by s, reset by r"},
        [](const NetworkBuilder& b) -> ProcessPart::MakeProcess {
            return [resetWins = b.choice("wins") == "reset"] { return std::make_unique<Latch>(resetWins); };
        });
    add({"one-shot",
         "One-shot",
         "OS",
         {"monostable", "pulse former"},
         "A pulse of one length from each rising edge",
         "While a pulse is on, a further edge makes it longer or is not seen.",
         {"u"},
         {"q"},
         "1x",
         {positive("length", "length", "t_p", "1u", "s", true),
          choiceOf("further", "a further edge", {"starts again", "is not seen"})},
         "q = 1 for t_p after an edge"},
        [](const NetworkBuilder& b) -> ProcessPart::MakeProcess {
            return [length = b.value("length"), again = b.choice("further") == "starts again"] {
                return std::make_unique<OneShot>(length, again);
            };
        });
    add({"counter",
         "Counter",
         "CT",
         {"count", "divider by n"},
         "Counts rising edges",
         "Counts the rising edges of u; at the modulus it begins again at zero. It is zero while the reset is on.",
         {"u", "reset?"},
         {"y"},
         "count",
         {positive("modulus", "modulus", "n", "1M", "", true)},
         "y = number of edges, modulo n"},
        [](const NetworkBuilder& b) -> ProcessPart::MakeProcess {
            return [modulus = b.value("modulus")] { return std::make_unique<Counter>(modulus); };
        });
    add({"edge-delay",
         "Edge delay",
         "ED",
         {"delay of edges", "on-delay", "off-delay", "blanking"},
         "Edges that come late",
         "Rising edges come late by one time and falling ones by another, for gate drives and contactors. A pulse "
         "shorter than its delay does not come.",
         {"u"},
         {"q"},
         "delay",
         {number("rise", "rising edges late by", "t_r", "100n", "s", true),
          number("fall", "falling edges late by", "t_f", "100n", "s", true)},
         "q(t) = u(t − t_r) on rising, u(t − t_f) on falling edges"},
        [](const NetworkBuilder& b) -> ProcessPart::MakeProcess {
            const double rise = b.value("rise"), fall = b.value("fall");
            if (rise < 0 || fall < 0) b.refuse(rise < 0 ? "rise" : "fall", "a delay must not be negative");
            return [rise, fall] { return std::make_unique<EdgeDelay>(rise, fall); };
        });
    SignalKind hold{
        "sample-hold",
        "Sample and hold",
        "SH",
        {"sampler", "track and hold"},
        "Keeps a value from an edge on",
        "Takes over its input at each rising edge of s, or all the edges that come while s is on, and holds "
        "it. For sampling at equal distances give the parts behind it a task instead.",
        {"u", "s"},
        {"y"},
        "S/H",
        {choiceOf("how", "takes over", {"at the edge", "while on"})},
        "y = u at the edge of s"};
    hold.sensed = {"u"};
    add(hold, [](const NetworkBuilder& b) -> ProcessPart::MakeProcess {
        return [tracks = b.choice("how") == "while on"] { return std::make_unique<SampleHold>(tracks); };
    });
    add({"states",
         "State table",
         "SM",
         {"state machine", "sequencer"},
         "States with outputs, and ways between them",
         "Lines separated by semicolons. 'rest: 0 0 0' is a state with the values of q1, q2 and q3; the first is where "
         "it starts. 'rest > run: a & !b | c' is a way from one to another and when it is taken; the first open one "
         "in their order counts. 'state' is the number of the present state, from 0.",
         {"a?", "b?", "c?", "d?"},
         {"q1", "q2", "q3", "state"},
         "states",
         {textOf("table", "states and ways", "rest: 0 0 0; run: 1 0 0; rest > run: a; run > rest: !a")},
         "as the table says"},
        [](const NetworkBuilder& b) -> ProcessPart::MakeProcess {
            auto table = readTable(b.text("table"));
            if (!table) b.refuse("table", table.error().message), table = readTable("rest: 0");
            return [shared = std::make_shared<const StateTable>(*table)] {
                return std::make_unique<StateProcess>(shared);
            };
        });
}

}  // namespace hedgerow

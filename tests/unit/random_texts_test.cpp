// Texts made at random from their grammars, against the same thing computed in C++: structured text, expressions of
// fields, events of scenes, points. And the same texts with something wrong in them: an error with its place.

#include <cmath>
#include <fstream>
#include <functional>
#include <random>

#include "base/file.h"
#include "control/st/program.h"
#include "model/event_text.h"
#include "model/points.h"
#include "model/quantity.h"
#include "model/values.h"
#include "runs/registry.h"
#include "runs/state_file.h"
#include "support/circuit.h"
#include "support/folder.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

class Random {
public:
    explicit Random(unsigned seed) : random_(seed) {}
    int below(int n) { return static_cast<int>(random_() % static_cast<unsigned>(n)); }
    bool chance(int one) { return below(one) == 0; }
    double between(double low, double high) { return std::uniform_real_distribution<double>(low, high)(random_); }
    template <class T>
    const T& of(const std::vector<T>& all) {
        return all[static_cast<std::size_t>(below(static_cast<int>(all.size())))];
    }
    /// A text with one to three places that are not what they were.
    std::string damaged(std::string text) {
        static const std::string spare = "0.5eE+-*/()=:,;_ \tmkuVAµ\"'%\xff\n";
        for (int n = 1 + below(3); n > 0; --n) {
            const std::size_t at = text.empty() ? 0 : static_cast<std::size_t>(below(static_cast<int>(text.size())));
            switch (below(4)) {
                case 0:
                    text.erase(at, static_cast<std::size_t>(below(6)));
                    break;
                case 1:
                    text.insert(at, 1, spare[static_cast<std::size_t>(below(static_cast<int>(spare.size())))]);
                    break;
                case 2:
                    if (!text.empty()) text[at] = static_cast<char>(below(256));
                    break;
                default:
                    text.insert(at, text.substr(0, static_cast<std::size_t>(below(12))));
            }
        }
        return text;
    }

private:
    std::mt19937 random_;
};

/// A term as text, as tightly as its outermost operator binds, and what it comes to.
template <class T>
struct Term {
    std::string text;
    int level;  ///< the higher, the tighter
    T value;
    /// The text as an operand of something that binds with `needed`.
    std::string in(int needed) const { return level >= needed ? text : "(" + text + ")"; }
};

/// Whole numbers in DINT, which wrap in 32 bits. Levels: sums 4, products 5, signs 7, the rest 9.
Term<std::int32_t> whole(Random& random, int depth) {
    using T = Term<std::int32_t>;
    const auto wrapped = [](std::int64_t value) {
        return static_cast<std::int32_t>(static_cast<std::uint32_t>(value));
    };
    static const std::vector<T> variables = {{"a", 9, 7}, {"b", 9, -13}, {"c", 9, 2000000001}, {"d", 9, -2000000007}};
    if (depth == 0) {
        if (random.chance(2)) return random.of(variables);
        const int value = random.below(1000);
        return {std::to_string(value), 9, value};
    }
    const T x = whole(random, depth - 1), y = whole(random, depth - 1);
    const std::int64_t p = x.value, q = y.value;
    // A function of numbers alone would be a LINT: one of its arguments is a variable.
    const T z = {"a + " + y.in(5), 4, wrapped(7 + q)};
    const int divisor = 1 + random.below(50);
    const std::string by = std::to_string(divisor);
    switch (random.below(8)) {
        case 0:
            return {x.in(4) + " + " + y.in(5), 4, wrapped(p + q)};
        case 1:
            return {x.in(4) + " - " + y.in(5), 4, wrapped(p - q)};
        case 2:
            return {x.in(5) + " * " + y.in(6), 5, wrapped(p * q)};
        case 3:
            return {x.in(5) + " / " + by, 5, static_cast<std::int32_t>(p / divisor)};
        case 4:
            return {x.in(5) + " MOD " + by, 5, static_cast<std::int32_t>(p % divisor)};
        case 5:
            return {"-" + x.in(9), 7, wrapped(-p)};
        case 6:
            return {"MAX(" + x.text + ", " + z.text + ")", 9, std::max(x.value, z.value)};
        default:
            return {"SEL(" + x.in(4) + " > " + y.in(4) + ", " + x.text + ", " + z.text + ")", 9,
                    x.value > y.value ? z.value : x.value};
    }
}

/// Numbers in LREAL.
Term<double> real(Random& random, int depth) {
    using T = Term<double>;
    static const std::vector<T> variables = {{"u", 9, 0.375}, {"v", 9, -12.0625}, {"w", 9, 1e6}};
    if (depth == 0) {
        if (random.chance(2)) return random.of(variables);
        const double value = random.below(4096) / 64.0;
        std::string text = std::to_string(value);
        return {text, 9, value};
    }
    const T x = real(random, depth - 1), y = real(random, depth - 1);
    switch (random.below(8)) {
        case 0:
            return {x.in(4) + " + " + y.in(5), 4, x.value + y.value};
        case 1:
            return {x.in(4) + " - " + y.in(5), 4, x.value - y.value};
        case 2:
            return {x.in(5) + " * " + y.in(6), 5, x.value * y.value};
        case 3:
            return {x.in(5) + " / (ABS(" + y.text + ") + 1.5)", 5, x.value / (std::abs(y.value) + 1.5)};
        case 4:
            return {"-" + x.in(9), 7, -x.value};
        case 5:
            return {"SQRT(ABS(" + x.text + "))", 9, std::sqrt(std::abs(x.value))};
        case 6:
            return {"MIN(" + x.text + ", " + y.text + ")", 9, std::min(x.value, y.value)};
        default:
            return {"SEL(" + x.in(4) + " <= " + y.in(4) + ", " + x.text + ", " + y.text + ")", 9,
                    x.value <= y.value ? y.value : x.value};
    }
}

/// Levels: OR 0, XOR 1, AND 2, comparisons 3.
Term<bool> truth(Random& random, int depth) {
    using T = Term<bool>;
    if (depth == 0 || random.chance(4)) {
        const auto x = whole(random, 1), y = whole(random, 1);
        switch (random.below(4)) {
            case 0:
                return {x.in(4) + " < " + y.in(4), 3, x.value < y.value};
            case 1:
                return {x.in(4) + " >= " + y.in(4), 3, x.value >= y.value};
            case 2:
                return {"(" + x.in(4) + " = " + y.in(4) + ")", 9, x.value == y.value};
            default:
                return {"(" + x.in(4) + " <> " + y.in(4) + ")", 9, x.value != y.value};
        }
    }
    const T x = truth(random, depth - 1), y = truth(random, depth - 1);
    switch (random.below(4)) {
        case 0:
            return {x.in(0) + " OR " + y.in(1), 0, x.value || y.value};
        case 1:
            return {x.in(1) + " XOR " + y.in(2), 1, x.value != y.value};
        case 2:
            return {x.in(2) + " AND " + y.in(3), 2, x.value && y.value};
        default:
            return {"NOT " + x.in(9), 7, !x.value};
    }
}

/// What a program makes of `y`.
double computed(const std::string& type, const std::string& expression) {
    const auto program = st::Program::compile(
        "VAR a : DINT := 7; b : DINT := -13; c : DINT := 2000000001; d : DINT := -2000000007;\n"
        "u : LREAL := 0.375; v : LREAL := -12.0625; w : LREAL := 1E6; y : " +
            type + "; END_VAR\ny := " + expression + ";",
        1e-3);
    EXPECT_TRUE(program) << program.error().text() << "\n" << expression;
    if (!program) return NAN;
    st::Machine machine(*program);
    const auto done = machine.run(0);
    EXPECT_TRUE(done) << done.error().text() << "\n" << expression;
    return machine.value(*(*program)->main().find("Y"));
}

/// An expression of a field. Levels: sums 4, products 5, signs 6, powers 7, the rest 9.
Term<double> field(Random& random, int depth) {
    using T = Term<double>;
    if (depth == 0) {
        static const std::vector<T> numbers = {{"47u", 9, 47e-6}, {"2.2k", 9, 2200},       {"1e-3", 9, 1e-3},
                                               {"12", 9, 12},     {"0.5", 9, 0.5},         {"3.3M", 9, 3.3e6},
                                               {"pi", 9, M_PI},   {"100n", 9, 100e-9},     {"7.25", 9, 7.25},
                                               {"Rload", 9, 22},  {"sqrt(2)", 9, M_SQRT2}, {"1", 9, 1}};
        return random.of(numbers);
    }
    const T x = field(random, depth - 1), y = field(random, depth - 1);
    const int power = 1 + random.below(3);
    switch (random.below(7)) {
        case 0:
            return {x.in(4) + " + " + y.in(5), 4, x.value + y.value};
        case 1:
            return {x.in(4) + "-" + y.in(5), 4, x.value - y.value};
        case 2:
            return {x.in(5) + "*" + y.in(6), 5, x.value * y.value};
        case 3:
            if (y.value == 0) return x;
            return {x.in(5) + "/" + y.in(6), 5, x.value / y.value};
        case 4:
            return {"-" + x.in(7), 6, -x.value};
        case 5:
            return {x.in(9) + "^" + std::to_string(power), 7, std::pow(x.value, power)};
        default:
            return {"max(" + x.text + ", " + y.text + ")", 9, std::max(x.value, y.value)};
    }
}

}  // namespace

TEST(RandomTexts, StructuredTextComputesWhatItSays) {
    Random random(1);
    for (int trial = 0; trial < 1500; ++trial) {
        const int depth = 1 + trial % 5;
        const auto integer = whole(random, depth);
        EXPECT_EQ(computed("DINT", integer.text), integer.value) << integer.text;
        const auto number = real(random, depth);
        EXPECT_EQ(computed("LREAL", number.text), number.value) << number.text;
        const auto decision = truth(random, depth);
        EXPECT_EQ(computed("BOOL", decision.text), decision.value ? 1 : 0) << decision.text;
        if (HasFailure()) return;
    }
}

// Loops and branches over random tables: sums, largest values and places, as C++ finds them.
TEST(RandomTexts, LoopsAndBranchesDoWhatTheySay) {
    Random random(2);
    for (int trial = 0; trial < 200; ++trial) {
        const int count = 1 + random.below(12), step = 1 + random.below(3), limit = random.below(100);
        std::string table;
        std::vector<int> numbers;
        for (int i = 0; i < count; ++i) {
            numbers.push_back(random.below(200) - 100);
            table += (i > 0 ? ", " : "") + std::to_string(numbers.back());
        }
        int sum = 0, large = 0, at = -1;
        for (int i = 0; i < count; i += step) {
            const int x = numbers[static_cast<std::size_t>(i)];
            if (x > limit) {
                ++large;
            } else if (x < 0) {
                sum -= x;
            } else {
                sum += 2 * x;
            }
            if (at < 0 && x % 7 == 0) at = i;
        }
        const std::string source = "VAR t : ARRAY[0.." + std::to_string(count - 1) + "] OF DINT := [" + table +
                                   "]; i : DINT; sum : DINT; large : DINT; at : DINT := -1; y : DINT; END_VAR\n"
                                   "FOR i := 0 TO " +
                                   std::to_string(count - 1) + " BY " + std::to_string(step) +
                                   " DO\n"
                                   "  IF t[i] > " +
                                   std::to_string(limit) +
                                   " THEN large := large + 1;\n"
                                   "  ELSIF t[i] < 0 THEN sum := sum - t[i];\n"
                                   "  ELSE sum := sum + 2 * t[i]; END_IF;\n"
                                   "  CASE t[i] MOD 7 OF 0: IF at < 0 THEN at := i; END_IF; END_CASE;\n"
                                   "END_FOR;\ny := sum * 10000 + large * 100 + at;";
        const auto program = st::Program::compile(source, 1e-3);
        ASSERT_TRUE(program) << program.error().text() << "\n" << source;
        st::Machine machine(*program);
        ASSERT_TRUE(machine.run(0));
        ASSERT_EQ(machine.value(*(*program)->main().find("Y")), sum * 10000 + large * 100 + at) << source;
    }
}

TEST(RandomTexts, FieldsComputeWhatTheySay) {
    Random random(3);
    const ParameterLookup lookup = [](std::string_view name) -> Result<Quantity> {
        if (name == "Rload") return Quantity{22, {}};
        return Error{ErrorCode::name, "there is no such parameter"};
    };
    int finite = 0;
    for (int trial = 0; trial < 6000; ++trial) {
        const auto term = field(random, trial % 5);
        const auto value = evaluate(term.text, lookup);
        if (!std::isfinite(term.value)) {
            EXPECT_FALSE(value) << term.text;
            continue;
        }
        ++finite;
        ASSERT_TRUE(value) << term.text << ": " << value.error().message;
        EXPECT_NEAR(value->value, term.value, 1e-13 * std::abs(term.value)) << term.text;
        const std::string broken = random.damaged(term.text);
        const auto other = evaluate(broken, lookup);
        if (other) {
            EXPECT_TRUE(std::isfinite(other->value)) << broken;
        } else {
            EXPECT_FALSE(other.error().message.empty()) << broken;
            EXPECT_GE(other.error().position, 0) << broken;
            EXPECT_LE(other.error().position, static_cast<int>(broken.size())) << broken;
        }
    }
    EXPECT_GT(finite, 5000);
}

TEST(RandomTexts, EventsComeBackAsTheyWereWritten) {
    Random random(4);
    const std::vector<std::string> times = {"0", "10m", "1/50", "T*3", "2.5u"}, waves = {"", "", "V1", "VGrid"},
                                   angles = {"0", "90", "-30", "a+5"}, targets = {"R1.r", "Vin", "X1.S1.ron"},
                                   values = {"1.2", "31 V", "Vin*2", "on"}, durations = {"", "", "5m", "T/2"};
    for (int trial = 0; trial < 2000; ++trial) {
        SceneEvent event;
        event.at = random.of(times);
        event.wave = random.of(waves);
        if (!event.wave.empty()) event.angle = random.of(angles);
        event.target = random.of(targets);
        event.value = random.of(values);
        event.duration = random.of(durations);
        const std::string text = eventText(event);
        const auto read = readEventText(text);
        ASSERT_TRUE(read) << text << ": " << read.error().message;
        EXPECT_EQ(*read, event) << text;
        const std::string broken = random.damaged(text);
        const auto other = readEventText(broken);
        if (other) {
            const auto again = readEventText(eventText(*other));
            ASSERT_TRUE(again) << broken;
            EXPECT_EQ(eventText(*again), eventText(*other)) << broken;
        } else {
            EXPECT_FALSE(other.error().message.empty()) << broken;
            EXPECT_GE(other.error().position, 0) << broken;
            EXPECT_LE(other.error().position, static_cast<int>(broken.size())) << broken;
        }
    }
}

TEST(RandomTexts, PointsRiseOrSayWhichDoesNot) {
    Random random(5);
    TemporaryFolder folder;
    for (int trial = 0; trial < 600; ++trial) {
        const int count = 1 + random.below(8), wrong = random.chance(3) && count > 1 ? 1 + random.below(count - 1) : -1;
        std::vector<std::pair<double, double>> points;
        std::string typed, table = random.chance(2) ? "time,value\n" : "";
        for (int i = 0; i < count; ++i) {
            // Steps: two points at one time.
            const double before = points.empty() ? 0.0 : points.back().first,
                         t = i == wrong ? before - 1e-3 : before + (random.chance(4) ? 0.0 : random.below(100) * 1e-3),
                         value = random.below(2000) / 8.0 - 100;
            points.emplace_back(t, value);
            char pair[80], line[80];
            std::snprintf(pair, sizeof pair, "%s%.17g %.17g", i > 0 ? ", " : "", t, value);
            std::snprintf(line, sizeof line, random.chance(2) ? "%.17g,%.17g\n" : " %.17g ; %.17g ;more\n", t, value);
            typed += pair;
            table += line;
        }
        std::ofstream(folder.path() / "t.csv") << table;
        for (const std::string& text : {typed, std::string("t.csv")}) {
            const auto read = pointsOf(text, "s", "V", ProjectFolder(folder.path()));
            if (wrong >= 0) {
                ASSERT_FALSE(read) << text << "\n" << table;
                EXPECT_NE(read.error().message.find("point " + std::to_string(wrong + 1)), std::string::npos)
                    << read.error().message;
                continue;
            }
            ASSERT_TRUE(read) << read.error().message << "\n" << table;
            ASSERT_EQ(read->size(), points.size());
            for (std::size_t i = 0; i < points.size(); ++i) {
                EXPECT_EQ((*read)[i].t, points[i].first);
                EXPECT_EQ((*read)[i].value, points[i].second);
            }
        }
        const auto broken = pointsOf(random.damaged(typed), "s", "V", ProjectFolder(folder.path()));
        EXPECT_TRUE(broken || !broken.error().message.empty());
        std::ofstream(folder.path() / "b.csv") << random.damaged(table);
        const auto torn = pointsOf("b.csv", "s", "V", ProjectFolder(folder.path()));
        EXPECT_TRUE(torn || !torn.error().message.empty());
    }
}

// Entries typed for every kind of part: its keys with numbers in range are understood as they stand; damaged ones are
// refused at a place within them.
TEST(RandomTexts, EntriesOfEveryKindAreUnderstood) {
    Random random(6);
    const Catalogue& catalogue = partLibrary().catalogue();
    const ParameterLookup none = [](std::string_view) -> Result<Quantity> {
        return Error{ErrorCode::name, "there is no such parameter"};
    };
    int understood = 0;
    for (const PartKind* kind : catalogue.all()) {
        for (int trial = 0; trial < 8; ++trial) {
            std::string typed;
            std::vector<std::pair<std::string, std::string>> given;
            for (const ParameterKind& parameter : kind->parameters) {
                if (!random.chance(3) || parameter.standard.empty() || parameter.text || parameter.expressions)
                    continue;
                if (parameter.standard.find_first_of(" \"") != std::string::npos) continue;
                typed += (typed.empty() ? "" : " ") + parameter.key + " " + parameter.standard;
                given.emplace_back(parameter.key, parameter.standard);
            }
            const auto entry = readEntryValues(typed, *kind, none);
            ASSERT_TRUE(entry) << kind->id << ": " << typed << ": " << entry.error().message;
            EXPECT_EQ(entry->kind, kind);
            for (const auto& [key, text] : given) {
                const std::string* const value = entry->values.find(key);
                ASSERT_TRUE(value) << kind->id << ": " << typed;
                EXPECT_EQ(*value, text);
                ++understood;
            }
            const std::string broken = random.damaged(kind->id + " " + typed);
            const auto other = readEntry(broken, catalogue, none);
            EXPECT_TRUE(other || !other.error().message.empty()) << broken;
        }
    }
    EXPECT_GT(understood, 400);
}

// The end of a run on disk, damaged: an error, or values for every state.
TEST(RandomTexts, StoredEndsNeverBreakAStart) {
    Random random(7);
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
        .add("inductor", "L1", {"in", "out"}, {{"l", "47u"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "47u"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "5"}})
        .add("sampled-sine", "K1", {"ref"}, {{"rate", "10k"}})
        .plan("100u");
    const auto r = run(c);
    ASSERT_TRUE(r);
    TemporaryFolder folder;
    const auto path = folder.path() / "end.json";
    const Network& network = r->elaboration().network;
    ASSERT_TRUE(writeStates(path, r->summary().snapshot));
    std::string text;
    std::getline(std::ifstream(path), text, '\0');
    const auto sound = readStates(*readFile(path), "end.json", network);
    ASSERT_TRUE(sound) << sound.error().message;
    ASSERT_EQ(sound->states.size(), network.states.size());
    EXPECT_EQ(sound->states, r->summary().snapshot.values()) << "to the last digit";
    int read = 0, refused = 0;
    for (int trial = 0; trial < 3000; ++trial) {
        std::ofstream(path, std::ios::trunc) << random.damaged(text);
        const auto end = readStates(*readFile(path), "end.json", network);
        if (!end) {
            EXPECT_FALSE(end.error().message.empty());
            ++refused;
            continue;
        }
        ++read;
        ASSERT_EQ(end->states.size(), network.states.size());
        for (const double value : end->states) ASSERT_TRUE(std::isfinite(value));
    }
    EXPECT_GT(read, 100);
    EXPECT_GT(refused, 100);
}

#include "control/st/program.h"
#include "control/st/words.h"

#include <cmath>

#include <gtest/gtest.h>

using namespace hedgerow;
using namespace hedgerow::st;

namespace {

/// The value of `y` after so many runs.
double after(const std::string& source, int runs = 1, double period = 1e-3) {
    auto program = Program::compile(source, period);
    EXPECT_TRUE(program) << (program ? "" : program.error().text()) << "\n" << source;
    if (!program) return NAN;
    Machine machine(*program);
    for (int i = 0; i < runs; ++i) {
        const auto done = machine.run(i * period);
        EXPECT_TRUE(done) << (done ? "" : done.error().message);
    }
    const Variable* y = (*program)->main().find("Y");
    EXPECT_TRUE(y);
    return y ? machine.value(*y) : NAN;
}
double real(const std::string& expression) { return after("VAR y : LREAL; END_VAR y := " + expression + ";"); }
double whole(const std::string& expression) { return after("VAR y : LINT; END_VAR y := " + expression + ";"); }
bool truth(const std::string& expression) { return after("VAR y : BOOL; END_VAR y := " + expression + ";") > 0.5; }

/// What compiling says, with "line:column " in front.
std::string fault(const std::string& source) {
    const auto program = Program::compile(source, 1e-3);
    if (program) return "";
    return std::to_string(program.error().line) + ":" + std::to_string(program.error().column) + " " +
           program.error().message;
}

}  // namespace

// Cases from the rules of IEC 61131-3: precedence (table 71), types, rounding (6.6.2.5.3), bits.
TEST(StructuredText, OperatorsHaveTheirPrecedence) {
    EXPECT_EQ(whole("2 + 3 * 4"), 14);
    EXPECT_EQ(whole("(2 + 3) * 4"), 20);
    EXPECT_EQ(whole("17 MOD 5 + 1"), 3);
    EXPECT_EQ(whole("-17 / 5"), -3);
    EXPECT_EQ(real("2.0 ** 3.0 * 2.0"), 16);
    EXPECT_EQ(real("-2.0 ** 2.0"), 4);  // a sign binds more tightly than a power
    EXPECT_TRUE(truth("TRUE OR FALSE AND FALSE"));
    EXPECT_TRUE(truth("NOT FALSE AND TRUE"));
    EXPECT_TRUE(truth("1 + 1 = 2"));
    EXPECT_TRUE(truth("3 > 2 AND 2 >= 2 AND 1 <> 2"));
    EXPECT_FALSE(truth("TRUE XOR TRUE"));
    EXPECT_TRUE(truth("TRUE & TRUE"));
}

TEST(StructuredText, NumbersAreReadInEveryForm) {
    EXPECT_EQ(whole("16#FF + 2#1010 + 8#17 + 1_000"), 255 + 10 + 15 + 1000);
    EXPECT_DOUBLE_EQ(real("1.5e-3 + LREAL#2"), 2.0015);
    EXPECT_EQ(whole("INT#-5 + DINT#7"), 2);
    EXPECT_TRUE(truth("BOOL#TRUE AND T#1m30s = T#90s AND T#1.5ms > T#1ms499us"));
}

TEST(StructuredText, WholeNumbersWrapInTheirTypes) {
    EXPECT_EQ(after("VAR a : INT := 32767; y : INT; END_VAR y := a + 1;"), -32768);
    EXPECT_EQ(after("VAR a : USINT := 250; y : USINT; END_VAR y := a + 10;"), 4);
    EXPECT_EQ(after("VAR a : UINT := 1; b : INT := -2; y : DINT; END_VAR y := a + b;"), -1);
    EXPECT_EQ(whole("DINT_TO_INT(70000)"), 70000 - 65536);
    EXPECT_EQ(after("VAR a : BYTE := 16#81; y : BYTE; END_VAR y := ROL(a, 1);"), 3);
    EXPECT_EQ(after("VAR a : BYTE := 16#81; y : BYTE; END_VAR y := SHR(a, 4) OR SHL(a, 7);"), 0x88);
    EXPECT_EQ(after("VAR a : WORD := 16#F0F0; y : WORD; END_VAR y := NOT a AND 16#0FFF;"), 0x0F0F);
}

TEST(StructuredText, ConversionsRoundToTheNearestEven) {
    EXPECT_EQ(whole("LREAL_TO_LINT(2.5)"), 2);
    EXPECT_EQ(whole("LREAL_TO_LINT(3.5)"), 4);
    EXPECT_EQ(whole("LREAL_TO_LINT(-2.6)"), -3);
    EXPECT_EQ(whole("TRUNC(-2.6)"), -2);
    EXPECT_EQ(whole("BOOL_TO_INT(TRUE) + INT_TO_DINT(4)"), 5);
    // A REAL has 24 bits.
    EXPECT_EQ(after("VAR a : REAL; y : LREAL; END_VAR a := 0.1; y := a;"), static_cast<double>(0.1f));
    EXPECT_EQ(after("VAR a : REAL; y : LREAL; END_VAR a := LREAL_TO_REAL(16777217.0); y := a;"), 16777216.0);
}

TEST(StructuredText, StandardFunctions) {
    EXPECT_DOUBLE_EQ(real("SQRT(2.0) + LN(3.0) + LOG(5.0) + EXP(0.5)"),
                     std::sqrt(2) + std::log(3) + std::log10(5) + std::exp(0.5));
    EXPECT_DOUBLE_EQ(real("SIN(0.3) * COS(0.3) - TAN(0.2) + ASIN(0.1) + ACOS(0.1) + ATAN(2.0) + ATAN2(1.0, -1.0)"),
                     std::sin(0.3) * std::cos(0.3) - std::tan(0.2) + std::asin(0.1) + std::acos(0.1) + std::atan(2) +
                         std::atan2(1, -1));
    EXPECT_EQ(real("MIN(3, 1.5, 2) + MAX(1, 2, 4.5) + ABS(-2.0) + EXPT(2.0, 10)"), 1.5 + 4.5 + 2 + 1024);
    EXPECT_EQ(real("LIMIT(0.0, 1.7, 1.0) + LIMIT(0, -3, 5)"), 1);
    EXPECT_EQ(whole("SEL(TRUE, 3, 4) + MUX(2, 10, 20, 30)"), 34);
    EXPECT_TRUE(truth("GT(3, 2) AND LE(2, 2) AND NE(1, 2)"));
    EXPECT_EQ(whole("ADD(1, 2, 3) + SUB(10, 4) + MUL(2, 3)"), 18);
}

TEST(StructuredText, ControlStatements) {
    EXPECT_EQ(after("VAR y : INT; i : INT; END_VAR FOR i := 1 TO 10 DO y := y + i; END_FOR;"), 55);
    EXPECT_EQ(after("VAR y : INT; i : INT; END_VAR FOR i := 10 TO 1 BY -3 DO y := y + i; END_FOR;"), 10 + 7 + 4 + 1);
    EXPECT_EQ(after("VAR y : INT; i : INT; s : INT := 2; END_VAR FOR i := 0 TO 6 BY s DO y := y + 1; END_FOR;"), 4);
    EXPECT_EQ(after("VAR y : INT; i : SINT; END_VAR FOR i := 120 TO 127 DO y := y + 1; END_FOR;"), 8);
    EXPECT_EQ(after("VAR y : INT; END_VAR WHILE TRUE DO y := y + 1; IF y = 7 THEN EXIT; END_IF; END_WHILE;"), 7);
    EXPECT_EQ(after("VAR y : INT; i : INT; END_VAR REPEAT i := i + 1; IF i MOD 2 = 0 THEN CONTINUE; END_IF; y := y + "
                    "i; UNTIL i >= 9 END_REPEAT;"),
              25);
    const std::string cases =
        "VAR CONSTANT five : INT := 5; END_VAR VAR y : INT; u : INT := %; END_VAR "
        "CASE u OF 0: y := 100; 1, 2: y := 12; five: y := 5; 6..9, -3: y := 69; ELSE y := -1; END_CASE;";
    for (const auto& [u, y] : {std::pair(0, 100), {2, 12}, {5, 5}, {8, 69}, {-3, 69}, {40, -1}}) {
        std::string source = cases;
        source.replace(source.find('%'), 1, std::to_string(u));
        EXPECT_EQ(after(source), y) << u;
    }
    EXPECT_EQ(after("VAR y : INT; END_VAR y := 1; RETURN; y := 2;"), 1);
    EXPECT_EQ(after("VAR y : INT; a : INT := 3; END_VAR IF a = 1 THEN y := 1; ELSIF a = 2 THEN y := 2; ELSIF a = 3 "
                    "THEN y := 3; ELSE y := 4; END_IF;"),
              3);
}

TEST(StructuredText, ArraysAreCheckedAtTheirBounds) {
    EXPECT_EQ(after("VAR a : ARRAY[-1..2] OF INT := [1, 2, 3, 4]; y : INT; i : INT; END_VAR FOR i := -1 TO 2 DO y := y "
                    "+ a[i] * (i + 2); END_FOR; a[0] := 9; y := y + a[0];"),
              1 + 4 + 9 + 16 + 9);
    auto program = Program::compile("VAR a : ARRAY[0..3] OF INT; i : INT := 4; END_VAR\n\na[i] := 1;", 1e-3);
    ASSERT_TRUE(program);
    const auto done = Machine(*program).run(0);
    ASSERT_FALSE(done);
    EXPECT_EQ(done.error().message, "line 3: the index 4 is out of range, 0 to 3");
}

TEST(StructuredText, VariablesKeepTheirValues) {
    EXPECT_EQ(after("VAR y : INT := 10; END_VAR y := y + 1;", 5), 15);
    EXPECT_DOUBLE_EQ(after("VAR y : LREAL; END_VAR y := y + SAMPLE_TIME;", 4, 0.25), 1.0);
}

TEST(StructuredText, FunctionsAndBlocksOfOnesOwn) {
    EXPECT_EQ(after("FUNCTION twice : INT VAR_INPUT a : INT; END_VAR VAR t : INT := 1; END_VAR t := t + 2 * a - 1; "
                    "twice := t; END_FUNCTION\n"
                    "VAR y : INT; END_VAR y := twice(twice(3)) + twice(a := 1);",
                    2),
              14);
    EXPECT_EQ(
        after("FUNCTION_BLOCK sum VAR_INPUT u : LREAL; END_VAR VAR_OUTPUT s : LREAL; END_VAR s := s + u; "
              "END_FUNCTION_BLOCK\n"
              "FUNCTION_BLOCK both VAR_INPUT u : LREAL; END_VAR VAR_OUTPUT d : LREAL; END_VAR VAR a, b : sum; END_VAR "
              "a(u := u); b(u := 2.0 * u); d := b.s - a.s; END_FUNCTION_BLOCK\n"
              "PROGRAM p VAR f : both; y : LREAL; END_VAR f(u := 3.0, d => y); END_PROGRAM",
              4),
        12);
}

TEST(StructuredText, StandardBlocks) {
    const std::string edge =
        "VAR r : R_TRIG; f : F_TRIG; n : INT; y : INT; END_VAR n := n + 1; r(CLK := n MOD 4 >= 2); f(CLK := n MOD 4 >= "
        "2); IF r.Q THEN y := y + 1; END_IF; IF f.Q THEN y := y + 100; END_IF;";
    EXPECT_EQ(after(edge, 9), 202);  // rises at 2 and 6, falls at 4 and 8
    EXPECT_EQ(after("VAR c : CTU; n : INT; y : LINT; END_VAR n := n + 1; c(CU := n MOD 2 = 0, PV := 3); y := c.CV; IF "
                    "c.Q THEN y := y + 10; END_IF;",
                    8),
              14);
    // On-delay of 2.5 ms, called each ms from 0: on first at 3 ms.
    const std::string delay =
        "VAR t : TON; y : INT; END_VAR t(IN := TRUE, PT := T#2500us); IF t.Q THEN y := y + 1; END_IF;";
    EXPECT_EQ(after(delay, 3), 0);
    EXPECT_EQ(after(delay, 4), 1);
    EXPECT_EQ(after("VAR t : TP; n : INT; y : INT; END_VAR n := n + 1; t(IN := n = 1, PT := T#3ms); IF t.Q THEN y := y "
                    "+ 1; END_IF;",
                    10),
              3);
    EXPECT_EQ(after("VAR t : TOF; n : INT; y : INT; END_VAR n := n + 1; t(IN := n <= 2, PT := T#3ms); IF t.Q THEN y := "
                    "y + 1; END_IF;",
                    10),
              5);
    EXPECT_EQ(after("VAR a : SR; b : RS; y : INT; END_VAR a(S1 := TRUE, R := TRUE); b(S := TRUE, R1 := TRUE); IF a.Q1 "
                    "AND NOT b.Q1 THEN y := 1; END_IF;"),
              1);
}

TEST(StructuredText, MistakesNameLineAndColumn) {
    EXPECT_EQ(fault("VAR y : INT; END_VAR\ny := x;"), "2:6 there is no variable called X");
    EXPECT_EQ(fault("VAR y : INT; END_VAR\ny = 3;"), "2:3 ':=' was expected behind the variable, not '='");
    EXPECT_EQ(fault("VAR y : INT; END_VAR\ny := 3"),
              "2:7 ';' was expected at the end of the statement, but the text ends");
    EXPECT_EQ(fault("VAR y : INT; END_VAR\n y := 1.5;"),
              "2:7 LREAL does not become INT by itself: write a whole number");
    EXPECT_EQ(fault("VAR y : INT; a : LREAL; END_VAR y := a;"),
              "1:38 LREAL does not become INT by itself: use LREAL_TO_INT");
    EXPECT_EQ(fault("VAR y : SINT; END_VAR y := 200;"), "1:28 200 is out of the range of SINT");
    EXPECT_EQ(fault("VAR y : INT; y : INT; END_VAR"), "1:14 there are two variables called Y");
    EXPECT_EQ(fault("VAR_INPUT u : INT; END_VAR u := 1;"), "1:28 U is an input");
    EXPECT_EQ(fault("VAR y : INT; END_VAR IF y THEN y := 1; END_IF;"),
              "1:25 INT does not become BOOL by itself: use INT_TO_BOOL");
    EXPECT_EQ(fault("VAR y : INT; END_VAR y := nonsense(1);"), "1:27 there is no function or block called NONSENSE");
    EXPECT_EQ(fault("EXIT;"), "1:1 EXIT stands outside of a loop");
    EXPECT_EQ(fault("(* never closed"), "1:1 this comment does not end with *)");
    EXPECT_EQ(fault("VAR y : FOO; END_VAR"), "1:9 there is no type or function block called FOO");
}

TEST(StructuredText, AnEndlessLoopEndsWithItsLine) {
    for (const char* loop : {"VAR y : INT; END_VAR\n\nWHILE TRUE DO y := 1; END_WHILE;",
                             "VAR y : INT; END_VAR\n\nREPEAT y := 1; UNTIL FALSE END_REPEAT;"}) {
        auto program = Program::compile(loop, 1e-3);
        ASSERT_TRUE(program);
        const auto done = Machine(*program, 1000).run(0);
        ASSERT_FALSE(done);
        EXPECT_EQ(done.error().line, 3) << done.error().message;
    }
}

TEST(StructuredText, FaultsOfNumbersAreCaught) {
    for (const char* source : {"VAR a, y : INT; END_VAR\ny := 1 / a;", "VAR a, y : INT; END_VAR\ny := 1 MOD a;",
                               "VAR a : LREAL; y : LINT; END_VAR\ny := LREAL_TO_LINT(1.0 / a);"}) {
        auto program = Program::compile(source, 1e-3);
        ASSERT_TRUE(program);
        const auto done = Machine(*program).run(0);
        ASSERT_FALSE(done) << source;
        EXPECT_EQ(done.error().line, 2);
    }
    EXPECT_EQ(after("VAR a : LINT := -9223372036854775807; y : LINT; END_VAR a := a - 1; y := a / -1 + ABS(a) - a;"),
              -9223372036854775808.0);
}

TEST(StructuredText, MemoryIsTakenOver) {
    auto program = Program::compile("VAR y : LREAL; t : TON; END_VAR t(IN := TRUE, PT := T#1s); y := y + 1.5;", 1e-3);
    ASSERT_TRUE(program);
    Machine first(*program), second(*program);
    ASSERT_TRUE(first.run(0) && first.run(1e-3));
    const auto kept = Memory::put([&](Memory& m) { first.memory(m); }, Memory::Instants::left);
    EXPECT_TRUE(Memory::take(kept, [&](Memory& m) { second.memory(m); }, Memory::Instants::left).empty());
    ASSERT_TRUE(second.run(2e-3));
    EXPECT_EQ(second.value(*(*program)->main().find("Y")), 4.5);
}

// Any text compiles or is refused; what compiles runs to its end or to a fault.
TEST(StructuredText, SurvivesAnyText) {
    const std::string seed =
        "FUNCTION f : LREAL VAR_INPUT a : LREAL; END_VAR f := a * 2.0; END_FUNCTION\n"
        "VAR_INPUT u : LREAL; END_VAR VAR_OUTPUT y : LREAL; END_VAR VAR i : INT; a : ARRAY[0..3] OF LREAL; t : TON; "
        "END_VAR\n"
        "FOR i := 0 TO 3 DO a[i] := f(u) + SQRT(a[3 - i]); END_FOR; t(IN := u > 1.0, PT := T#1ms);\n"
        "CASE i OF 1: y := 1; 2..3: y := 2; ELSE y := SEL(t.Q, 0.0, 1.0); END_CASE; WHILE i > 0 DO i := i - 1; "
        "END_WHILE;";
    std::uint64_t state = 12345;
    const auto random = [&](std::size_t below) {
        state = state * 6364136223846793005u + 1442695040888963407u;
        return static_cast<std::size_t>(state >> 33) % below;
    };
    const std::string spare = "();:=<>+-*/[].,#&eE019_ \nIFEND_VARTHENDO";
    int compiled = 0;
    for (int trial = 0; trial < 20000; ++trial) {
        std::string text = seed;
        for (std::size_t n = random(4) + 1; n-- > 0;) {
            const std::size_t at = random(text.size());
            switch (random(4)) {
                case 0:
                    text.erase(at, random(8) + 1);
                    break;
                case 1:
                    text.insert(at, 1, spare[random(spare.size())]);
                    break;
                case 2:
                    text[at] = static_cast<char>(random(256));
                    break;
                default:
                    text.insert(at, text.substr(random(text.size()), random(30)));
            }
        }
        const auto program = Program::compile(text, 1e-3);
        if (!program) {
            EXPECT_GT(program.error().line, 0);
            continue;
        }
        ++compiled;
        Machine machine(*program, 10000);
        if (machine.run(0)) (void)machine.run(1e-3);
    }
    EXPECT_GT(compiled, 100);
    EXPECT_FALSE(Program::compile(std::string(5000, '('), 1e-3));
    EXPECT_FALSE(Program::compile("VAR y : LREAL; END_VAR y := " + std::string(100000, '-') + "1;", 1e-3));
}

// What the editor colours and offers is what the compiler takes: a name is a type, a block, or a function it knows.
TEST(StructuredText, EveryStandardNameIsKnownAndNoReservedWordNamesAVariable) {
    for (const std::string_view word : standardNames()) {
        const std::string name(word);
        const bool type = fault("VAR v : " + name + "; END_VAR").empty();
        const std::string called = fault("VAR y : LREAL; END_VAR y := " + name + "(1, 1, 1);");
        EXPECT_TRUE(type || called.find("there is no function") == std::string::npos) << name << ": " << called;
    }
    EXPECT_NE(fault("VAR y : LREAL; END_VAR y := NOSUCH(1);").find("there is no function"), std::string::npos);
    for (const std::string_view word : reservedWords())
        EXPECT_FALSE(fault("VAR " + std::string(word) + " : INT; END_VAR").empty()) << word;
}

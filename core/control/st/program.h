#pragma once
// Programs in structured text (IEC 61131-3, 3rd edition): compiled to instructions for a small machine and run in it
// with a budget, so that no program can hang or harm the one who opens it.
//
// What is supported: BOOL; SINT to LINT, USINT to ULINT, BYTE to LWORD; REAL and LREAL; TIME; arrays of these with
// constant bounds; VAR, VAR_INPUT, VAR_OUTPUT, VAR CONSTANT; FUNCTION and FUNCTION_BLOCK of one's own; all control
// statements; the standard functions of numbers, bits, selection and comparison; the blocks R_TRIG F_TRIG SR RS TON TOF
// TP CTU CTD CTUD. SAMPLE_TIME is the time between calls in seconds. Texts, structures and pointers are not.
//
// Arithmetic on REAL is carried in double precision and rounded when it is stored.

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/memory.h"
#include "base/result.h"

namespace hedgerow::st {

enum class Base : std::uint8_t { boolean, integer, real, time };

/// The type of a value or, with `length`, of an array of them.
struct Type {
    Base base = Base::integer;
    std::uint8_t bits = 64;  ///< of an integer; of a real: 32 or 64
    bool isSigned = true;
    std::string name = "LINT";
    std::int64_t low = 0;      ///< first index of an array
    std::uint32_t length = 0;  ///< 0: no array
    int block = -1;            ///< index of a function block: an instance of it

    bool isReal() const { return base == Base::real; }
    bool isArray() const { return length > 0; }
    bool isBlock() const { return block >= 0; }
};

/// A place in the memory of a program.
union Slot {
    double real;
    std::int64_t integer;
};

enum class Role : std::uint8_t { input, output, local, constant };

struct Variable {
    std::string name;  ///< in capitals
    Type type;
    Role role = Role::local;
    std::uint32_t slot = 0;  ///< relative to the start of its program or block
    int line = 0;
};

enum class Op : std::uint8_t {
    copy,
    jump,
    jumpUnless,
    jumpIf,
    call,
    callFresh,
    leave,
    now,
    addI,
    subtractI,
    multiplyI,
    divideI,
    moduloI,
    negateI,
    powerR,
    addR,
    subtractR,
    multiplyR,
    divideR,
    negateR,
    equalI,
    unequalI,
    lessI,
    notMoreI,
    equalR,
    unequalR,
    lessR,
    notMoreR,
    bitAnd,
    bitOr,
    bitXor,
    bitNot,
    boolNot,
    toReal,
    toInteger,
    truncate,
    single,
    wrap,
    toBool,
    load,
    store,
    bounds,
    shiftLeft,
    shiftRight,
    rotateLeft,
    rotateRight,
    minimumI,
    maximumI,
    minimumR,
    maximumR,
    absoluteI,
    absolute,
    squareRoot,
    logarithm,
    logarithm10,
    exponential,
    sine,
    cosine,
    tangent,
    arcSine,
    arcCosine,
    arcTangent,
    arcTangent2,
    timesTime,
};

/// a is where the result goes; b and c are operands: places relative to the frame, or what the operation says.
struct Instruction {
    Op op;
    std::uint32_t a = 0, b = 0, c = 0;
};

/// The code of a program, a function or a function block. A frame of `size` slots belongs to each use of it.
struct Unit {
    std::string name;
    bool isFunction = false;
    Type result;  ///< of a function, in slot 0
    std::vector<Variable> variables;
    std::vector<Slot> image;  ///< the frame at the start, constants included
    std::vector<Instruction> code;
    std::vector<int> lines;  ///< of each instruction; empty for the standard blocks
    /// Uses of other units within the frame: where they start, and which.
    std::vector<std::pair<std::uint32_t, int>> parts;
    const Variable* find(std::string_view name) const;
};

class Program {
public:
    /// Names of LREAL constants that are known without a declaration, with their values.
    using Constants = std::vector<std::pair<std::string, double>>;
    /// Compiles. A source is either a PROGRAM with the functions and blocks before it, or declarations and statements
    /// alone. @param sampleTime  s
    /// Errors carry line and column of the source.
    static Result<std::shared_ptr<const Program>> compile(std::string_view source, double sampleTime,
                                                          const Constants& constants = {});

    const Unit& main() const { return units_.back(); }
    const std::vector<Unit>& units() const { return units_; }

private:
    std::vector<Unit> units_;  ///< what others use comes before them
};

/// The variables of one role, in the order of the source.
std::vector<const Variable*> variablesOf(const Program& program, Role role);

/// Runs a program again and again and keeps its variables.
class Machine {
public:
    static constexpr std::int64_t standardBudget = 20'000'000;  ///< instructions in loops and calls, a run

    explicit Machine(std::shared_ptr<const Program> program, std::int64_t budget = standardBudget);
    /// From now on run() ends with an error when it comes to a line; the error gives the variables. 0: at none.
    void stopAt(int line) { stop_ = line; }
    /// Once through the program. @param now  s, since the start. Errors name the line.
    Status run(double now);
    /// As a number: BOOL as 0 or 1, TIME in seconds.
    double value(const Variable& variable) const;
    void set(const Variable& variable, double value);
    /// Visits all variables but constants, each by its name and type: what changed since is not taken over.
    void memory(Memory& all);

private:
    template <bool watched>
    Status execute(const Unit& unit, Slot* frame);
    Error stopped() const;
    void visit(Memory& all, const Unit& unit, Slot* frame);
    Error fault(const Unit& unit, std::size_t at, std::string message) const;

    std::shared_ptr<const Program> program_;
    std::vector<Slot> frame_;
    std::int64_t budget_, left_ = 0;
    std::int64_t now_ = 0;
    int stop_ = 0;
};

}  // namespace hedgerow::st

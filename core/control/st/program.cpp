#include "control/st/program.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>
#include <numbers>

#include <fmt/format.h>

#include "base/text.h"
#include "control/st/compiler.h"

namespace hedgerow::st {

namespace {

/// The standard function blocks, in their own language (IEC 61131-3, 6.6.3.5; times of the first call on are counted).
constexpr std::string_view standardBlocks = R"(
FUNCTION_BLOCK R_TRIG VAR_INPUT CLK: BOOL; END_VAR VAR_OUTPUT Q: BOOL; END_VAR VAR M: BOOL; END_VAR
  Q := CLK AND NOT M; M := CLK; END_FUNCTION_BLOCK
FUNCTION_BLOCK F_TRIG VAR_INPUT CLK: BOOL; END_VAR VAR_OUTPUT Q: BOOL; END_VAR VAR M: BOOL := TRUE; END_VAR
  Q := NOT CLK AND NOT M; M := NOT CLK; END_FUNCTION_BLOCK
FUNCTION_BLOCK SR VAR_INPUT S1: BOOL; R: BOOL; END_VAR VAR_OUTPUT Q1: BOOL; END_VAR
  Q1 := S1 OR (NOT R AND Q1); END_FUNCTION_BLOCK
FUNCTION_BLOCK RS VAR_INPUT S: BOOL; R1: BOOL; END_VAR VAR_OUTPUT Q1: BOOL; END_VAR
  Q1 := NOT R1 AND (S OR Q1); END_FUNCTION_BLOCK
FUNCTION_BLOCK CTU VAR_INPUT CU: BOOL; R: BOOL; PV: LINT; END_VAR VAR_OUTPUT Q: BOOL; CV: LINT; END_VAR VAR M: BOOL; END_VAR
  IF R THEN CV := 0; ELSIF CU AND NOT M THEN CV := CV + 1; END_IF; M := CU; Q := CV >= PV; END_FUNCTION_BLOCK
FUNCTION_BLOCK CTD VAR_INPUT CD: BOOL; LD: BOOL; PV: LINT; END_VAR VAR_OUTPUT Q: BOOL; CV: LINT; END_VAR VAR M: BOOL; END_VAR
  IF LD THEN CV := PV; ELSIF CD AND NOT M THEN CV := CV - 1; END_IF; M := CD; Q := CV <= 0; END_FUNCTION_BLOCK
FUNCTION_BLOCK CTUD VAR_INPUT CU: BOOL; CD: BOOL; R: BOOL; LD: BOOL; PV: LINT; END_VAR
  VAR_OUTPUT QU: BOOL; QD: BOOL; CV: LINT; END_VAR VAR MU: BOOL; MD: BOOL; END_VAR
  IF R THEN CV := 0; ELSIF LD THEN CV := PV;
  ELSE IF CU AND NOT MU AND NOT (CD AND NOT MD) THEN CV := CV + 1; END_IF;
       IF CD AND NOT MD AND NOT (CU AND NOT MU) THEN CV := CV - 1; END_IF; END_IF;
  MU := CU; MD := CD; QU := CV >= PV; QD := CV <= 0; END_FUNCTION_BLOCK
FUNCTION_BLOCK TON VAR_INPUT IN: BOOL; PT: TIME; END_VAR VAR_OUTPUT Q: BOOL; ET: TIME; END_VAR VAR START: TIME; M: BOOL; END_VAR
  IF NOT IN THEN Q := FALSE; ET := T#0s; ELSE
    IF NOT M THEN START := TIME(); END_IF;
    ET := MIN(TIME() - START, PT); Q := ET >= PT; END_IF; M := IN; END_FUNCTION_BLOCK
FUNCTION_BLOCK TOF VAR_INPUT IN: BOOL; PT: TIME; END_VAR VAR_OUTPUT Q: BOOL; ET: TIME; END_VAR VAR START: TIME; M: BOOL; END_VAR
  IF IN THEN Q := TRUE; ET := T#0s; ELSIF Q THEN
    IF M THEN START := TIME(); END_IF;
    ET := MIN(TIME() - START, PT); Q := ET < PT; END_IF; M := IN; END_FUNCTION_BLOCK
FUNCTION_BLOCK TP VAR_INPUT IN: BOOL; PT: TIME; END_VAR VAR_OUTPUT Q: BOOL; ET: TIME; END_VAR VAR START: TIME; M: BOOL; END_VAR
  IF IN AND NOT M AND NOT Q THEN START := TIME(); Q := TRUE; END_IF;
  IF Q THEN ET := MIN(TIME() - START, PT); Q := ET < PT; END_IF;
  IF NOT Q AND NOT IN THEN ET := T#0s; END_IF; M := IN; END_FUNCTION_BLOCK
)";

std::int64_t wrapped(std::int64_t value, std::uint32_t how) {
    const std::uint32_t bits = how & 255;
    if (bits >= 64) return value;
    const std::uint64_t mask = (std::uint64_t{1} << bits) - 1, low = static_cast<std::uint64_t>(value) & mask;
    if (!(how & 256) || !(low >> (bits - 1))) return static_cast<std::int64_t>(low);
    return static_cast<std::int64_t>(low | ~mask);
}

std::uint64_t bitsOf(std::int64_t value, std::int64_t bits) {
    return bits >= 64 ? static_cast<std::uint64_t>(value)
                      : static_cast<std::uint64_t>(value) & ((std::uint64_t{1} << bits) - 1);
}
std::int64_t shifted(Op op, std::int64_t value, std::int64_t bits, std::int64_t by) {
    const std::uint64_t all = bitsOf(value, bits);
    if (op == Op::shiftLeft) return by < 0 || by >= bits ? 0 : static_cast<std::int64_t>(all << by);
    if (op == Op::shiftRight) return by < 0 || by >= bits ? 0 : static_cast<std::int64_t>(all >> by);
    std::int64_t turn = ((by % bits) + bits) % bits;
    if (op == Op::rotateRight) turn = (bits - turn) % bits;
    if (turn == 0) return value;
    return static_cast<std::int64_t>((all << turn) | (all >> (bits - turn)));
}

/// The values that a variable of this type can have.
std::pair<std::int64_t, std::int64_t> rangeOf(const Type& type) {
    if (type.base == Base::boolean) return {0, 1};
    if (type.base == Base::time || type.bits >= 64)
        return {std::numeric_limits<std::int64_t>::min(), std::numeric_limits<std::int64_t>::max()};
    const std::int64_t half = std::int64_t{1} << (type.bits - 1);
    return type.isSigned ? std::pair(-half, half - 1) : std::pair(std::int64_t{0}, 2 * half - 1);
}

/// A double as a whole number; false where it has none.
bool whole(double value, std::int64_t& result) {
    if (!(std::abs(value) < 0x1p63)) return false;
    result = static_cast<std::int64_t>(value);
    return true;
}

}  // namespace

const Variable* Unit::find(std::string_view name) const {
    for (const Variable& variable : variables)
        if (variable.name == name) return &variable;
    return nullptr;
}

Result<std::shared_ptr<const Program>> Program::compile(std::string_view source, double sampleTime,
                                                        const Constants& constants) {
    static const Result<std::vector<Token>> blocks = tokensOf(standardBlocks);
    constexpr std::size_t longest = std::size_t{1} << 20;
    if (source.size() > longest) return Error{ErrorCode::resource, "the code is longer than 1 MB"};
    auto tokens = tokensOf(source);
    if (!tokens) return tokens.error();
    auto program = std::make_shared<Program>();
    try {
        Compiler(*blocks, program->units_, sampleTime, {}).compile(false);
        for (Unit& unit : program->units_) unit.lines.clear();
        Compiler(std::move(*tokens), program->units_, sampleTime, constants).compile(true);
    } catch (const Failure& failure) {
        return failure.error;
    }
    return std::shared_ptr<const Program>(std::move(program));
}

std::vector<const Variable*> variablesOf(const Program& program, Role role) {
    std::vector<const Variable*> found;
    for (const Variable& variable : program.main().variables)
        if (variable.role == role) found.push_back(&variable);
    return found;
}

Machine::Machine(std::shared_ptr<const Program> program, std::int64_t budget)
    : program_(std::move(program)), frame_(program_->main().image), budget_(budget) {}

double Machine::value(const Variable& variable) const {
    const Slot slot = frame_[variable.slot];
    if (variable.type.isReal()) return slot.real;
    if (variable.type.base == Base::time) return static_cast<double>(slot.integer) * 1e-9;
    return static_cast<double>(slot.integer);
}

void Machine::set(const Variable& variable, double value) {
    Slot& slot = frame_[variable.slot];
    if (variable.type.isReal())
        slot.real = variable.type.bits == 32 ? static_cast<double>(static_cast<float>(value)) : value;
    else if (variable.type.base == Base::boolean)
        slot.integer = value > 0.5 ? 1 : 0;
    else if (std::int64_t number = 0;
             whole(std::nearbyint(variable.type.base == Base::time ? value * 1e9 : value), number))
        slot.integer = variable.type.base == Base::time
                           ? number
                           : wrapped(number, variable.type.bits | (variable.type.isSigned ? 256u : 0u));
}

void Machine::memory(Memory& all) { visit(all, program_->main(), frame_.data()); }

void Machine::visit(Memory& all, const Unit& unit, Slot* frame) {
    for (const Variable& variable : unit.variables) {
        const Type& type = variable.type;
        Slot* const first = frame + variable.slot;
        if (variable.role == Role::constant) continue;
        if (type.isBlock()) {
            const Unit& block = program_->units()[static_cast<std::size_t>(type.block)];
            all.inside(variable.name, [&](Memory& inner) { visit(inner, block, first); });
            continue;
        }
        const std::size_t count = type.isArray() ? type.length : 1;
        all.together([&](Memory& own) {
            if (type.isReal()) {
                std::vector<double> values(count);
                for (std::size_t i = 0; i < count; ++i) values[i] = first[i].real;
                own.anyNumbers(variable.name, values);
                for (std::size_t i = 0; own.reading() && i < count; ++i) first[i].real = values[i];
                return;
            }
            std::vector<std::int64_t> values(count);
            for (std::size_t i = 0; i < count; ++i) values[i] = first[i].integer;
            const auto [least, most] = rangeOf(type);
            own.wholes(variable.name, values, least, most);
            for (std::size_t i = 0; own.reading() && i < count; ++i) first[i].integer = values[i];
        });
    }
}

Status Machine::run(double now) {
    left_ = budget_;
    now_ = static_cast<std::int64_t>(std::llround(now * 1e9));
    return stop_ > 0 ? execute<true>(program_->main(), frame_.data()) : execute<false>(program_->main(), frame_.data());
}

/// What the variables are where it stopped.
Error Machine::stopped() const {
    constexpr std::size_t mostShown = 24;
    std::vector<std::string> shown;
    for (const Variable& variable : program_->main().variables) {
        if (variable.type.isArray() || variable.type.isBlock() || variable.role == Role::constant ||
            shown.size() >= mostShown)
            continue;
        shown.push_back(fmt::format("{} = {:.6g}", lowerCase(variable.name), value(variable)));
    }
    Error error{ErrorCode::stop, fmt::format("stopped at line {} as asked: {}", stop_, joined(shown, ", "))};
    error.line = stop_;
    return error;
}

Error Machine::fault(const Unit& unit, std::size_t at, std::string message) const {
    if (at >= unit.lines.size()) return {ErrorCode::numeric, fmt::format("{}: {}", unit.name, message)};
    Error error{ErrorCode::numeric, fmt::format("line {}: {}", unit.lines[at], message)};
    error.line = unit.lines[at];
    return error;
}

template <bool watched>
Status Machine::execute(const Unit& unit, Slot* f) {
    const Instruction* const code = unit.code.data();
    for (std::size_t pc = 0;;) {
        const Instruction& i = code[pc];
        if constexpr (watched)
            if (pc < unit.lines.size() && unit.lines[pc] == stop_) return stopped();
        const auto go = [&](std::uint32_t to) {
            if (to <= pc) left_ -= static_cast<std::int64_t>(pc - to) + 1;
            pc = to;
        };
        ++pc;
        switch (i.op) {
            case Op::copy:
                f[i.a] = f[i.b];
                break;
            case Op::jump:
                go(i.a);
                if (left_ < 0) return fault(unit, pc, "the code does not come to an end: a loop without exit?");
                break;
            case Op::jumpUnless:
                if (f[i.b].integer == 0) {
                    go(i.a);
                    if (left_ < 0) return fault(unit, pc, "the code does not come to an end: a loop without exit?");
                }
                break;
            case Op::jumpIf:
                if (f[i.b].integer != 0) {
                    go(i.a);
                    if (left_ < 0) return fault(unit, pc, "the code does not come to an end: a loop without exit?");
                }
                break;
            case Op::call: {
                const Unit& called = program_->units()[i.a];
                left_ -= static_cast<std::int64_t>(called.code.size());
                if (left_ < 0) return fault(unit, pc - 1, "the code does not come to an end");
                if (auto done = execute<watched>(called, f + i.b); !done) return done;
                break;
            }
            case Op::callFresh: {
                const std::vector<Slot>& image = program_->units()[i.a].image;
                left_ -= static_cast<std::int64_t>(image.size());
                if (left_ < 0) return fault(unit, pc - 1, "the code does not come to an end");
                std::copy(image.begin(), image.end(), f + i.b);
                break;
            }
            case Op::leave:
                return {};
            case Op::now:
                f[i.a].integer = now_;
                break;
            // Whole numbers wrap around; the machine counts them without sign, so that nothing overflows.
            case Op::addI:
                f[i.a].integer = static_cast<std::int64_t>(static_cast<std::uint64_t>(f[i.b].integer) +
                                                           static_cast<std::uint64_t>(f[i.c].integer));
                break;
            case Op::subtractI:
                f[i.a].integer = static_cast<std::int64_t>(static_cast<std::uint64_t>(f[i.b].integer) -
                                                           static_cast<std::uint64_t>(f[i.c].integer));
                break;
            case Op::multiplyI:
                f[i.a].integer = static_cast<std::int64_t>(static_cast<std::uint64_t>(f[i.b].integer) *
                                                           static_cast<std::uint64_t>(f[i.c].integer));
                break;
            case Op::divideI:
            case Op::moduloI: {
                const std::int64_t by = f[i.c].integer, of = f[i.b].integer;
                if (by == 0) return fault(unit, pc - 1, "a whole number is divided by zero");
                if (by == -1)
                    f[i.a].integer =
                        i.op == Op::divideI ? static_cast<std::int64_t>(-static_cast<std::uint64_t>(of)) : 0;
                else
                    f[i.a].integer = i.op == Op::divideI ? of / by : of % by;
                break;
            }
            case Op::negateI:
                f[i.a].integer = static_cast<std::int64_t>(-static_cast<std::uint64_t>(f[i.b].integer));
                break;
            case Op::powerR:
                f[i.a].real = std::pow(f[i.b].real, f[i.c].real);
                break;
            case Op::addR:
                f[i.a].real = f[i.b].real + f[i.c].real;
                break;
            case Op::subtractR:
                f[i.a].real = f[i.b].real - f[i.c].real;
                break;
            case Op::multiplyR:
                f[i.a].real = f[i.b].real * f[i.c].real;
                break;
            case Op::divideR:
                f[i.a].real = f[i.b].real / f[i.c].real;
                break;
            case Op::negateR:
                f[i.a].real = -f[i.b].real;
                break;
            case Op::equalI:
                f[i.a].integer = f[i.b].integer == f[i.c].integer;
                break;
            case Op::unequalI:
                f[i.a].integer = f[i.b].integer != f[i.c].integer;
                break;
            case Op::lessI:
                f[i.a].integer = f[i.b].integer < f[i.c].integer;
                break;
            case Op::notMoreI:
                f[i.a].integer = f[i.b].integer <= f[i.c].integer;
                break;
            case Op::equalR:
                f[i.a].integer = f[i.b].real == f[i.c].real;
                break;
            case Op::unequalR:
                f[i.a].integer = f[i.b].real != f[i.c].real;
                break;
            case Op::lessR:
                f[i.a].integer = f[i.b].real < f[i.c].real;
                break;
            case Op::notMoreR:
                f[i.a].integer = f[i.b].real <= f[i.c].real;
                break;
            case Op::bitAnd:
                f[i.a].integer = f[i.b].integer & f[i.c].integer;
                break;
            case Op::bitOr:
                f[i.a].integer = f[i.b].integer | f[i.c].integer;
                break;
            case Op::bitXor:
                f[i.a].integer = f[i.b].integer ^ f[i.c].integer;
                break;
            case Op::bitNot:
                f[i.a].integer = ~f[i.b].integer;
                break;
            case Op::boolNot:
                f[i.a].integer = f[i.b].integer == 0;
                break;
            case Op::toReal:
                f[i.a].real = static_cast<double>(f[i.b].integer);
                break;
            case Op::toInteger:
            case Op::truncate: {
                const double value = f[i.b].real;
                if (!whole(i.op == Op::truncate ? std::trunc(value) : std::nearbyint(value), f[i.a].integer))
                    return fault(unit, pc - 1, fmt::format("{} is no whole number of 64 bits", value));
                break;
            }
            case Op::single:
                f[i.a].real = static_cast<double>(static_cast<float>(f[i.b].real));
                break;
            case Op::wrap:
                f[i.a].integer = wrapped(f[i.b].integer, i.c);
                break;
            case Op::toBool:
                f[i.a].integer = f[i.b].integer != 0;
                break;
            case Op::bounds: {
                // From here on the place counts from the first element.
                const std::int64_t index = f[i.a].integer, low = f[i.b].integer, high = f[i.c].integer;
                if (index < low || index > high)
                    return fault(unit, pc - 1, fmt::format("the index {} is out of range, {} to {}", index, low, high));
                f[i.a].integer = index - low;
                break;
            }
            case Op::load:
                f[i.a] = f[static_cast<std::size_t>(i.b) + static_cast<std::size_t>(f[i.c].integer)];
                break;
            case Op::store:
                f[static_cast<std::size_t>(i.a) + static_cast<std::size_t>(f[i.b].integer)] = f[i.c];
                break;
            case Op::shiftLeft:
            case Op::shiftRight:
            case Op::rotateLeft:
            case Op::rotateRight:
                f[i.a].integer = shifted(i.op, f[i.b].integer, f[i.c].integer, f[i.c + 1].integer);
                break;
            case Op::minimumI:
                f[i.a].integer = std::min(f[i.b].integer, f[i.c].integer);
                break;
            case Op::maximumI:
                f[i.a].integer = std::max(f[i.b].integer, f[i.c].integer);
                break;
            case Op::minimumR:
                f[i.a].real = std::min(f[i.b].real, f[i.c].real);
                break;
            case Op::maximumR:
                f[i.a].real = std::max(f[i.b].real, f[i.c].real);
                break;
            case Op::absoluteI:
                f[i.a].integer = f[i.b].integer < 0
                                     ? static_cast<std::int64_t>(-static_cast<std::uint64_t>(f[i.b].integer))
                                     : f[i.b].integer;
                break;
            case Op::absolute:
                f[i.a].real = std::abs(f[i.b].real);
                break;
            case Op::squareRoot:
                f[i.a].real = std::sqrt(f[i.b].real);
                break;
            case Op::logarithm:
                f[i.a].real = std::log(f[i.b].real);
                break;
            case Op::logarithm10:
                f[i.a].real = std::log10(f[i.b].real);
                break;
            case Op::exponential:
                f[i.a].real = std::exp(f[i.b].real);
                break;
            case Op::sine:
                f[i.a].real = std::sin(f[i.b].real);
                break;
            case Op::cosine:
                f[i.a].real = std::cos(f[i.b].real);
                break;
            case Op::tangent:
                f[i.a].real = std::tan(f[i.b].real);
                break;
            case Op::arcSine:
                f[i.a].real = std::asin(f[i.b].real);
                break;
            case Op::arcCosine:
                f[i.a].real = std::acos(f[i.b].real);
                break;
            case Op::arcTangent:
                f[i.a].real = std::atan(f[i.b].real);
                break;
            case Op::arcTangent2:
                f[i.a].real = std::atan2(f[i.b].real, f[i.c].real);
                break;
            case Op::timesTime: {
                const double value = std::nearbyint(static_cast<double>(f[i.b].integer) * f[i.c].real);
                if (!whole(value, f[i.a].integer)) return fault(unit, pc - 1, "this time is too long");
                break;
            }
        }
    }
}

}  // namespace hedgerow::st

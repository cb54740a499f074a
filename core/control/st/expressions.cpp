#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "control/st/compiler.h"

namespace hedgerow::st {

namespace {

/// Operators of equal precedence, from the weakest on (IEC 61131-3, table 71).
const std::vector<std::vector<std::string_view>> levels = {
    {"OR"}, {"XOR"}, {"AND", "&"}, {"=", "<>"}, {"<", ">", "<=", ">="}, {"+", "-"}, {"*", "/", "MOD"}};

std::int64_t least(const Type& type) {
    return !type.isSigned    ? 0
           : type.bits == 64 ? std::numeric_limits<std::int64_t>::min()
                             : -(std::int64_t{1} << (type.bits - 1));
}
std::int64_t greatest(const Type& type) {
    if (type.bits == 64) return std::numeric_limits<std::int64_t>::max();
    return (std::int64_t{1} << (type.isSigned ? type.bits - 1 : type.bits)) - 1;
}

Operand literalOf(const Type& type, Slot value) {
    Operand operand{type};
    operand.literal = true, operand.value = value;
    return operand;
}

}  // namespace

Operand Compiler::expression() {
    const Depth guard(*this);
    return binary(0);
}

Operand Compiler::binary(int level) {
    if (level == static_cast<int>(levels.size())) return power();
    const auto& symbols = levels[static_cast<std::size_t>(level)];
    Operand left = binary(level + 1);
    while (true) {
        const auto found = std::find_if(symbols.begin(), symbols.end(), [&](std::string_view s) { return is(s); });
        if (found == symbols.end()) return left;
        const Token at = take();
        const Operand right = binary(level + 1);
        left = level == 3 || level == 4 ? compare(at, at.text, left, right) : combine(at, at.text, left, right);
    }
}

Operand Compiler::power() {
    const Token at = now();
    Operand base = unary();
    while (is("**")) {
        take();
        const Operand exponent = unary();
        const Type type = base.type.isReal() && !base.literal ? base.type : *typeCalled("LREAL");
        const std::uint32_t b = real(at, base), c = real(at, exponent);
        base = result(Op::powerR, type, b, c);
    }
    return base;
}

Operand Compiler::unary() {
    const Depth guard(*this);
    const Token at = now();
    if (accept("-")) {
        Operand value = unary();
        if (value.type.base == Base::boolean) failAt(at, "a truth has no sign");
        if (value.literal) {
            if (value.type.isReal())
                value.value.real = -value.value.real;
            else
                value.value.integer = static_cast<std::int64_t>(-static_cast<std::uint64_t>(value.value.integer));
            return value;
        }
        return result(value.type.isReal() ? Op::negateR : Op::negateI, value.type, value.slot);
    }
    if (accept("+")) return unary();
    if (accept("NOT")) {
        const Operand value = unary();
        if (value.type.base == Base::boolean) return result(Op::boolNot, value.type, as(at, value, value.type));
        if (value.type.base != Base::integer || value.literal)
            failAt(at, "NOT takes a truth or the bits of a whole number");
        const Operand turned = result(Op::bitNot, value.type, value.slot);
        return result(Op::wrap, value.type, turned.slot, value.type.bits | (value.type.isSigned ? 256u : 0u));
    }
    return primary();
}

Operand Compiler::primary() {
    const Token at = now();
    if (accept("(")) {
        const Operand inner = expression();
        expect(")", "behind the expression");
        return inner;
    }
    if (at.sort == TokenSort::integer || at.sort == TokenSort::real || at.sort == TokenSort::time ||
        !at.typed.empty() || is("TRUE") || is("FALSE"))
        return literal();
    if (accept("SAMPLE_TIME")) return literalOf(*typeCalled("LREAL"), Slot{.real = sampleTime_});
    if (at.sort == TokenSort::name && ahead().sort == TokenSort::symbol && ahead().text == "(") {
        const Variable* found = code().find(at.text);
        if (found && found->type.isBlock())
            failAt(at, fmt::format("{} is a block: call it in a statement of its own, then read its outputs", at.text));
        take();
        return function(at);
    }
    return variable(at);
}

Operand Compiler::literal() {
    const Token at = take();
    if (at.sort == TokenSort::time) return literalOf(*typeCalled("TIME"), Slot{.integer = at.integer});
    std::optional<Type> wanted;
    if (!at.typed.empty()) {
        wanted = typeCalled(at.typed);
        if (!wanted) failAt(at, fmt::format("there is no type {}", at.typed));
    }
    if (at.sort == TokenSort::name) {
        if (at.text != "TRUE" && at.text != "FALSE") failAt(at, fmt::format("{}#{} is no value", at.typed, at.text));
        return literalOf(*typeCalled("BOOL"), Slot{.integer = at.text == "TRUE" ? 1 : 0});
    }
    if (wanted && wanted->base == Base::boolean) return literalOf(*wanted, Slot{.integer = at.integer != 0 ? 1 : 0});
    Operand value = at.sort == TokenSort::real ? literalOf(*typeCalled("LREAL"), Slot{.real = at.real})
                                               : literalOf(*typeCalled("LINT"), Slot{.integer = at.integer});
    if (!wanted) return value;
    const std::uint32_t slot = as(at, value, *wanted);
    return {*wanted, slot};
}

Operand Compiler::variable(const Token& at) {
    const Element from = place(at, false);
    if (from.indexed) {
        // The places of array elements begin at `base` in the frame.
        const Operand value = result(Op::load, from.type, from.base, from.index);
        return value;
    }
    const Variable* found = code().find(at.text);
    if (found && found->role == Role::constant && !found->type.isArray() && !found->type.isBlock()) {
        Operand value = literalOf(from.type, code().image[from.slot]);
        return value;
    }
    return {from.type, from.slot};
}

Type Compiler::common(const Token& at, const Operand& a, const Operand& b) const {
    if (a.type.base == Base::boolean || b.type.base == Base::boolean) {
        if (a.type.base != b.type.base) failAt(at, "a truth and a number do not go together");
        return a.type;
    }
    if (a.type.base == Base::time || b.type.base == Base::time) {
        if (a.type.base != b.type.base) failAt(at, "a time and a number do not go together");
        return a.type;
    }
    if (a.type.isReal() || b.type.isReal()) {
        if (a.type.isReal() && !a.literal)
            return b.type.isReal() && !b.literal && b.type.bits > a.type.bits ? b.type : a.type;
        if (b.type.isReal() && !b.literal) return b.type;
        return *typeCalled("LREAL");
    }
    if (a.literal && !b.literal) return b.type;
    if (b.literal && !a.literal) return a.type;
    Type type = a.type.bits >= b.type.bits ? a.type : b.type;
    if (a.type.isSigned != b.type.isSigned && !(a.literal || b.literal)) {
        const int needed = (a.type.isSigned ? b.type.bits : a.type.bits) + 1;
        const int bits = std::max({needed, static_cast<int>(a.type.bits), static_cast<int>(b.type.bits)});
        type = *typeCalled(bits <= 16 ? "INT" : bits <= 32 ? "DINT" : "LINT");
    }
    return type;
}

/// Two whole numbers that stand in the source: what comes of them takes the type that is wanted, as they do.
std::int64_t Compiler::folded(const Token& at, const std::string& symbol, const Operand& a, const Operand& b) {
    const std::int64_t x = a.value.integer, y = b.value.integer;
    const auto left = static_cast<std::uint64_t>(x), right = static_cast<std::uint64_t>(y);
    if (symbol == "+") return static_cast<std::int64_t>(left + right);
    if (symbol == "-") return static_cast<std::int64_t>(left - right);
    if (symbol == "*") return static_cast<std::int64_t>(left * right);
    if (y == 0) failAt(at, "a division by zero");
    if (y == -1) return symbol == "/" ? static_cast<std::int64_t>(-left) : 0;  // the smallest number has no opposite
    return symbol == "/" ? x / y : x % y;
}

Operand Compiler::combine(const Token& at, const std::string& symbol, Operand a, Operand b) {
    const bool logic = symbol == "AND" || symbol == "&" || symbol == "OR" || symbol == "XOR";
    // A time can be stretched by a number.
    if (a.type.base == Base::time && b.type.base != Base::time && (symbol == "*" || symbol == "/")) {
        std::uint32_t factor = real(at, b);
        if (symbol == "/") factor = result(Op::divideR, *typeCalled("LREAL"), constant(1.0), factor).slot;
        const std::uint32_t time = as(at, a, a.type);
        return result(Op::timesTime, a.type, time, factor);
    }
    if (b.type.base == Base::time && a.type.base != Base::time && symbol == "*") return combine(at, symbol, b, a);
    const Type type = common(at, a, b);
    if (logic) {
        if (type.isReal() || type.base == Base::time)
            failAt(at, fmt::format("{} takes truths or the bits of whole numbers", symbol));
        const std::uint32_t left = as(at, a, type), right = as(at, b, type);
        return result(symbol == "OR" ? Op::bitOr : symbol == "XOR" ? Op::bitXor : Op::bitAnd, type, left, right);
    }
    if (type.base == Base::boolean) failAt(at, fmt::format("truths cannot be joined by {}", symbol));
    if (type.base == Base::time && symbol != "+" && symbol != "-") failAt(at, "times can be added and subtracted");
    if (type.isReal()) {
        if (symbol == "MOD") failAt(at, "MOD takes whole numbers");
        if (a.literal && b.literal) {
            const auto number = [](const Operand& o) {
                return o.type.isReal() ? o.value.real : static_cast<double>(o.value.integer);
            };
            const double x = number(a), y = number(b);
            return literalOf(type, Slot{.real = symbol == "+"   ? x + y
                                                : symbol == "-" ? x - y
                                                : symbol == "*" ? x * y
                                                                : x / y});
        }
        const std::uint32_t left = real(at, a), right = real(at, b);
        return result(symbol == "+"   ? Op::addR
                      : symbol == "-" ? Op::subtractR
                      : symbol == "*" ? Op::multiplyR
                                      : Op::divideR,
                      type, left, right);
    }
    if (a.literal && b.literal && type.bits == 64) return literalOf(type, Slot{.integer = folded(at, symbol, a, b)});
    const std::uint32_t left = as(at, a, type), right = as(at, b, type);
    const Operand value = result(symbol == "+"   ? Op::addI
                                 : symbol == "-" ? Op::subtractI
                                 : symbol == "*" ? Op::multiplyI
                                 : symbol == "/" ? Op::divideI
                                                 : Op::moduloI,
                                 type, left, right);
    if (type.bits == 64) return value;
    return result(Op::wrap, type, value.slot, type.bits | (type.isSigned ? 256u : 0u));
}

Operand Compiler::compare(const Token& at, const std::string& symbol, Operand a, Operand b) {
    const Type type = common(at, a, b), boolean = *typeCalled("BOOL");
    const bool swapped = symbol == ">" || symbol == ">=";
    if (swapped) std::swap(a, b);
    if (type.isReal()) {
        const std::uint32_t left = real(at, a), right = real(at, b);
        return result(symbol == "="        ? Op::equalR
                      : symbol == "<>"     ? Op::unequalR
                      : symbol.size() == 1 ? Op::lessR
                                           : Op::notMoreR,
                      boolean, left, right);
    }
    const std::uint32_t left = as(at, a, type), right = as(at, b, type);
    return result(symbol == "="        ? Op::equalI
                  : symbol == "<>"     ? Op::unequalI
                  : symbol.size() == 1 ? Op::lessI
                                       : Op::notMoreI,
                  boolean, left, right);
}

std::uint32_t Compiler::real(const Token& at, const Operand& operand) { return as(at, operand, *typeCalled("LREAL")); }

std::uint32_t Compiler::as(const Token& at, const Operand& o, const Type& type) {
    const auto refuse = [&](const std::string& hint) {
        failAt(at, fmt::format("{} does not become {} by itself{}",
                               o.literal && !o.type.isReal() && o.type.base == Base::integer
                                   ? fmt::format("{}", o.value.integer)
                                   : o.type.name,
                               type.name, hint));
    };
    if (o.type.isBlock() || o.type.isArray() || type.isBlock() || type.isArray())
        failAt(at, "a single value was expected");
    if (o.literal) {
        if (type.isReal()) {
            if (o.type.isReal())
                return constant(type.bits == 32 ? static_cast<double>(static_cast<float>(o.value.real)) : o.value.real);
            if (o.type.base == Base::integer) return constant(static_cast<double>(o.value.integer));
            refuse("");
        }
        if (type.base == Base::integer && o.type.base == Base::integer) {
            if (o.value.integer < least(type) || o.value.integer > greatest(type))
                failAt(at, fmt::format("{} is out of the range of {}", o.value.integer, type.name));
            return constant(o.value.integer);
        }
        if (type.base == Base::boolean && o.type.base == Base::integer &&
            (o.value.integer == 0 || o.value.integer == 1))
            return constant(o.value.integer);
        if (type.base == o.type.base) return constant(o.value);
        refuse(type.base == Base::integer && o.type.isReal() ? ": write a whole number" : "");
    }
    if (type.base == o.type.base) {
        if (type.isReal() && type.bits < o.type.bits) refuse(fmt::format(": use {}_TO_{}", o.type.name, type.name));
        if (type.base == Base::integer && (least(type) > least(o.type) || greatest(type) < greatest(o.type)))
            refuse(fmt::format(": use {}_TO_{}", o.type.name, type.name));
        return o.slot;
    }
    if (type.isReal() && o.type.base == Base::integer) return result(Op::toReal, type, o.slot).slot;
    refuse(o.type.base != Base::time && type.base != Base::time ? fmt::format(": use {}_TO_{}", o.type.name, type.name)
                                                                : "");
    return 0;
}

Operand Compiler::conversion(const Token& at, const Operand& from, const Type& to) {
    if (from.type.base == Base::time || to.base == Base::time) {
        if (from.type.base == to.base) return from;
        failAt(at, "times and numbers do not become each other: compare with a time, or divide two numbers");
    }
    Operand value = from;
    if (value.literal) value = {from.type, as(at, from, from.type)};
    if (to.base == Base::boolean) {
        if (value.type.base == Base::boolean) return value;
        if (value.type.isReal()) return result(Op::unequalR, to, value.slot, constant(0.0));
        return result(Op::toBool, to, value.slot);
    }
    if (to.isReal()) {
        if (!value.type.isReal()) return result(Op::toReal, to, value.slot);
        if (to.bits == 32) return result(Op::single, to, value.slot);
        return {to, value.slot};
    }
    if (value.type.isReal()) value = result(Op::toInteger, *typeCalled("LINT"), value.slot);
    if (to.bits == 64) return {to, value.slot};
    return result(Op::wrap, to, value.slot, to.bits | (to.isSigned ? 256u : 0u));
}

std::int64_t Compiler::constantInteger(std::string_view what) {
    const Token at = now();
    const bool minus = accept("-");
    Operand value;
    if (now().sort == TokenSort::integer) {
        value = literal();
        if (!value.literal) value.value = code().image[value.slot];
    } else {
        const Token where = now();
        const Variable* found = now().sort == TokenSort::name ? code().find(now().text) : nullptr;
        if (!found || found->role != Role::constant || found->type.base != Base::integer || found->type.isArray() ||
            found->type.isBlock())
            failAt(where, fmt::format("{} is a whole constant", what));
        take();
        value.value = code().image[found->slot];
        value.type = found->type;
    }
    if (value.type.base != Base::integer) failAt(at, fmt::format("{} is a whole constant", what));
    return minus ? -value.value.integer : value.value.integer;
}

}  // namespace hedgerow::st

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "control/st/compiler.h"

namespace hedgerow::st {

std::vector<Operand> Compiler::arguments() {
    std::vector<Operand> list;
    expect("(", "behind the name of a function");
    while (!accept(")")) {
        if (now().sort == TokenSort::name && ahead().text == ":=" && ahead().sort == TokenSort::symbol)
            fail("arguments of standard functions are given in their order, without names");
        list.push_back(expression());
        if (!is(")")) expect(",", "between arguments");
    }
    return list;
}

Operand Compiler::function(const Token& at) {
    const int own = unitCalled(at.text);
    if (own >= 0) return ownFunction(at, own);
    return standardFunction(at, arguments());
}

Operand Compiler::ownFunction(const Token& at, int index) {
    const auto unit = [&]() -> const Unit& { return units_[static_cast<std::size_t>(index)]; };
    if (!unit().isFunction) failAt(at, fmt::format("{} is a function block: declare a variable of that type", at.text));
    const std::uint32_t frame = instance(index);
    std::vector<Variable> inputs;
    for (const Variable& v : unit().variables)
        if (v.role == Role::input) inputs.push_back(v);
    // All arguments first: one of them may call the same function.
    std::vector<std::pair<Variable, std::uint32_t>> given;
    expect("(", "behind the name of a function");
    while (!accept(")")) {
        const Token where = now();
        const Variable* to = nullptr;
        if (now().sort == TokenSort::name && ahead().text == ":=" && ahead().sort == TokenSort::symbol) {
            to = unit().find(take().text);
            take();
            if (!to || to->role != Role::input) failAt(where, fmt::format("{} has no input {}", at.text, where.text));
        } else {
            if (given.size() >= inputs.size())
                failAt(where, fmt::format("{} takes {} arguments", at.text, inputs.size()));
            to = &inputs[given.size()];
        }
        const Variable target = *to;
        const std::uint32_t kept = reserve(1);
        put(where, {0, 0, target.type, kept, false}, expression());
        given.emplace_back(target, kept);
        if (!is(")")) expect(",", "between arguments");
    }
    if (given.size() < inputs.size()) failAt(at, fmt::format("{} takes {} arguments", at.text, inputs.size()));
    emit(Op::callFresh, static_cast<std::uint32_t>(index), frame);
    for (const auto& [target, kept] : given) emit(Op::copy, frame + target.slot, kept);
    emit(Op::call, static_cast<std::uint32_t>(index), frame);
    Operand value{unit().result, reserve(1)};
    emit(Op::copy, value.slot, frame);
    return value;
}

Operand Compiler::standardFunction(const Token& at, std::vector<Operand> arguments) {
    const std::string& called = at.text;
    const auto need = [&](std::size_t least, std::size_t most) {
        if (arguments.size() >= least && arguments.size() <= most) return;
        failAt(at, fmt::format("{} takes {} argument{}, not {}", called,
                               least == most ? fmt::format("{}", least) : fmt::format("{} or more", least),
                               least == 1 && most == 1 ? "" : "s", arguments.size()));
    };
    if (const std::size_t to = called.find("_TO_"); to != std::string::npos) {
        const auto source = typeCalled(called.substr(0, to)), target = typeCalled(called.substr(to + 4));
        if (!source || !target) failAt(at, fmt::format("there is no function {}", called));
        need(1, 1);
        const std::uint32_t slot = as(at, arguments[0], *source);
        return conversion(at, {*source, slot}, *target);
    }
    static const std::map<std::string, Op> ofReals = {
        {"SQRT", Op::squareRoot}, {"LN", Op::logarithm},   {"LOG", Op::logarithm10}, {"EXP", Op::exponential},
        {"SIN", Op::sine},        {"COS", Op::cosine},     {"TAN", Op::tangent},     {"ASIN", Op::arcSine},
        {"ACOS", Op::arcCosine},  {"ATAN", Op::arcTangent}};
    const auto realType = [&] {
        return std::any_of(arguments.begin(), arguments.end(),
                           [](const Operand& o) { return o.type.isReal() && o.type.bits == 32 && !o.literal; })
                   ? *typeCalled("REAL")
                   : *typeCalled("LREAL");
    };
    if (const auto found = ofReals.find(called); found != ofReals.end()) {
        need(1, 1);
        return result(found->second, realType(), real(at, arguments[0]));
    }
    if (called == "ATAN2" || called == "EXPT") {
        need(2, 2);
        const std::uint32_t first = real(at, arguments[0]), second = real(at, arguments[1]);
        return result(called == "ATAN2" ? Op::arcTangent2 : Op::powerR, realType(), first, second);
    }
    if (called == "ABS") {
        need(1, 1);
        const Operand& u = arguments[0];
        if (u.type.base == Base::boolean) failAt(at, "a truth has no magnitude");
        return result(u.type.isReal() ? Op::absolute : Op::absoluteI, u.type, as(at, u, u.type));
    }
    if (called == "TRUNC") {
        need(1, 1);
        return result(Op::truncate, *typeCalled("LINT"), real(at, arguments[0]));
    }
    if (called == "MOVE") {
        need(1, 1);
        return {arguments[0].type, as(at, arguments[0], arguments[0].type)};
    }
    if (called == "MIN" || called == "MAX") {
        need(2, 64);
        Operand value = arguments[0];
        for (std::size_t i = 1; i < arguments.size(); ++i) {
            const Type type = common(at, value, arguments[i]);
            const std::uint32_t left = as(at, value, type), right = as(at, arguments[i], type);
            const bool least = called == "MIN";
            value =
                result(type.isReal() ? (least ? Op::minimumR : Op::maximumR) : (least ? Op::minimumI : Op::maximumI),
                       type, left, right);
        }
        return value;
    }
    if (called == "LIMIT") {  // least, value, greatest
        need(3, 3);
        Operand type{common(at, arguments[1], arguments[0])};
        type.literal = arguments[0].literal && arguments[1].literal;
        const Type all = common(at, type, arguments[2]);
        const std::uint32_t low = as(at, arguments[0], all), value = as(at, arguments[1], all),
                            high = as(at, arguments[2], all);
        const Operand above = result(all.isReal() ? Op::maximumR : Op::maximumI, all, value, low);
        return result(all.isReal() ? Op::minimumR : Op::minimumI, all, above.slot, high);
    }
    if (called == "SEL" || called == "MUX") {  // which, value of 0, of 1, ...
        need(called == "SEL" ? 3 : 2, called == "SEL" ? 3 : 64);
        Type type = arguments[1].type;
        bool typed = !arguments[1].literal;
        for (std::size_t i = 2; i < arguments.size(); ++i) {
            Operand so{type};
            so.literal = !typed;
            type = common(at, so, arguments[i]);
            typed = typed || !arguments[i].literal;
        }
        const std::uint32_t which =
            called == "SEL" ? as(at, arguments[0], *typeCalled("BOOL")) : as(at, arguments[0], *typeCalled("LINT"));
        const std::uint32_t first = reserve(arguments.size() - 1), place = reserve(1);
        for (std::size_t i = 1; i < arguments.size(); ++i)
            emit(Op::copy, first + static_cast<std::uint32_t>(i) - 1, as(at, arguments[i], type));
        emit(Op::copy, place, which);
        emit(Op::bounds, place, constant(std::int64_t{0}), constant(static_cast<std::int64_t>(arguments.size()) - 2));
        return result(Op::load, type, first, place);
    }
    static const std::map<std::string, Op> shifts = {
        {"SHL", Op::shiftLeft}, {"SHR", Op::shiftRight}, {"ROL", Op::rotateLeft}, {"ROR", Op::rotateRight}};
    if (const auto found = shifts.find(called); found != shifts.end()) {
        need(2, 2);
        const Operand& bits = arguments[0];
        if (bits.type.base != Base::integer || bits.literal)
            failAt(at, fmt::format("{} takes the bits of a variable", called));
        // The number of bits comes along in the place before the shift.
        const std::uint32_t pair = reserve(2);
        emit(Op::copy, pair, constant(static_cast<std::int64_t>(bits.type.bits)));
        emit(Op::copy, pair + 1, as(at, arguments[1], *typeCalled("LINT")));
        const Operand moved = result(found->second, bits.type, bits.slot, pair);
        return result(Op::wrap, bits.type, moved.slot, bits.type.bits | (bits.type.isSigned ? 256u : 0u));
    }
    static const std::map<std::string, std::string> named = {
        {"ADD", "+"},   {"SUB", "-"}, {"MUL", "*"}, {"DIV", "/"}, {"MOD", "MOD"}, {"AND", "AND"}, {"OR", "OR"},
        {"XOR", "XOR"}, {"GT", ">"},  {"GE", ">="}, {"EQ", "="},  {"LE", "<="},   {"LT", "<"},    {"NE", "<>"}};
    if (const auto found = named.find(called); found != named.end()) {
        need(2, 64);
        const bool compares = std::string_view("<>=").find(found->second.front()) != std::string_view::npos;
        Operand value = arguments[0];
        if (compares) need(2, 2);
        for (std::size_t i = 1; i < arguments.size(); ++i)
            value = compares ? compare(at, found->second, value, arguments[i])
                             : combine(at, found->second, value, arguments[i]);
        return value;
    }
    if (called == "TIME") {
        need(0, 0);
        return result(Op::now, *typeCalled("TIME"));
    }
    failAt(at, fmt::format("there is no function or block called {}", called));
}

}  // namespace hedgerow::st

#include "control/st/compiler.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "control/st/words.h"

namespace hedgerow::st {

namespace {

constexpr std::size_t mostSlots = 1'000'000, mostSlotsInAll = 2 * mostSlots;  ///< of a unit, and of all its units

}  // namespace

std::optional<Type> typeCalled(const std::string& name) {
    static const std::map<std::string, Type> types = [] {
        std::map<std::string, Type> all;
        const auto add = [&](const char* name, Base base, int bits, bool isSigned) {
            all[name] = {base, static_cast<std::uint8_t>(bits), isSigned, name};
        };
        add("BOOL", Base::boolean, 1, false);
        add("SINT", Base::integer, 8, true), add("INT", Base::integer, 16, true);
        add("DINT", Base::integer, 32, true), add("LINT", Base::integer, 64, true);
        add("USINT", Base::integer, 8, false), add("UINT", Base::integer, 16, false);
        add("UDINT", Base::integer, 32, false), add("ULINT", Base::integer, 64, false);
        add("BYTE", Base::integer, 8, false), add("WORD", Base::integer, 16, false);
        add("DWORD", Base::integer, 32, false), add("LWORD", Base::integer, 64, false);
        add("REAL", Base::real, 32, true), add("LREAL", Base::real, 64, true);
        add("TIME", Base::time, 64, true), add("LTIME", Base::time, 64, true);
        return all;
    }();
    const auto found = types.find(name);
    return found == types.end() ? std::nullopt : std::optional(found->second);
}

bool Compiler::is(std::string_view text) const {
    return (now().sort == TokenSort::name || now().sort == TokenSort::symbol) && now().typed.empty() &&
           now().text == text;
}
bool Compiler::accept(std::string_view text) {
    if (!is(text)) return false;
    take();
    return true;
}
void Compiler::expect(std::string_view text, std::string_view where) {
    if (accept(text)) return;
    fail(fmt::format("'{}' was expected {}{}", text, where,
                     now().sort == TokenSort::end ? ", but the text ends" : fmt::format(", not '{}'", now().text)));
}
std::string Compiler::name(std::string_view what) {
    if (now().sort != TokenSort::name || !now().typed.empty()) fail(fmt::format("{} was expected", what));
    const auto reserved = reservedWords();
    if (std::find(reserved.begin(), reserved.end(), now().text) != reserved.end())
        fail(fmt::format("{} was expected, but {} is a word of the language", what, now().text));
    return take().text;
}
void Compiler::failAt(const Token& token, std::string message) {
    Error error{ErrorCode::syntax, std::move(message)};
    error.line = token.line, error.column = token.column;
    throw Failure{error};
}

std::uint32_t Compiler::reserve(std::size_t count) {
    std::vector<Slot>& image = code().image;
    slots_ += count;
    if (image.size() + count > mostSlots || slots_ > mostSlotsInAll)
        fail(fmt::format("the variables need more memory than there is: {} values", mostSlotsInAll));
    const auto first = static_cast<std::uint32_t>(image.size());
    image.resize(image.size() + count, Slot{.integer = 0});
    return first;
}
std::uint32_t Compiler::constant(Slot value) {
    const auto [known, fresh] = constants_.try_emplace(value.integer, 0);
    if (fresh) {
        known->second = reserve(1);
        code().image.back() = value;
    }
    return known->second;
}
std::uint32_t Compiler::constant(double value) { return constant(Slot{.real = value}); }
std::uint32_t Compiler::constant(std::int64_t value) { return constant(Slot{.integer = value}); }

std::size_t Compiler::emit(Op op, std::uint32_t a, std::uint32_t b, std::uint32_t c) {
    code().code.push_back({op, a, b, c});
    code().lines.push_back(now().line);
    return code().code.size() - 1;
}
Operand Compiler::result(Op op, const Type& type, std::uint32_t b, std::uint32_t c) {
    Operand value{type, reserve(1)};
    emit(op, value.slot, b, c);
    return value;
}
int Compiler::unitCalled(const std::string& name) const {
    for (std::size_t i = 0; i + 1 < units_.size(); ++i)
        if (units_[i].name == name) return static_cast<int>(i);
    return -1;
}
/// Room for a use of another unit.
std::uint32_t Compiler::instance(int unit) {
    const auto index = static_cast<std::size_t>(unit);
    const std::uint32_t first = reserve(units_[index].image.size());
    std::copy(units_[index].image.begin(), units_[index].image.end(), code().image.begin() + first);
    code().parts.emplace_back(first, unit);
    return first;
}

void Compiler::compile(bool withMain) {
    while (is("FUNCTION") || is("FUNCTION_BLOCK")) unit();
    if (!withMain) return;
    units_.emplace_back();
    constants_.clear();
    const bool wrapped = accept("PROGRAM");
    code().name = wrapped ? name("the name of the program") : "PROGRAM";
    for (const auto& [called, value] : given_) {
        code().variables.push_back({called, *typeCalled("LREAL"), Role::constant, reserve(1), 0});
        code().image.back().real = value;
    }
    declarations();
    body(wrapped ? "END_PROGRAM" : "");
    if (now().sort != TokenSort::end) fail("nothing may follow the program");
}

void Compiler::unit() {
    const bool isFunction = take().text == "FUNCTION";
    const Token at = now();
    const std::string called = name(isFunction ? "the name of the function" : "the name of the block");
    units_.emplace_back();
    constants_.clear();
    if (unitCalled(called) >= 0) failAt(at, fmt::format("there are two units called {}", called));
    code().name = called;
    code().isFunction = isFunction;
    if (isFunction) {
        expect(":", "before the type of the function");
        code().result = typeName();
        if (code().result.isArray() || code().result.isBlock()) failAt(at, "a function returns one value");
        code().variables.push_back({called, code().result, Role::local, reserve(1), at.line});
    }
    declarations();
    body(isFunction ? "END_FUNCTION" : "END_FUNCTION_BLOCK");
}

void Compiler::declarations() {
    while (true) {
        if (accept("VAR_INPUT"))
            variables(Role::input);
        else if (accept("VAR_OUTPUT"))
            variables(Role::output);
        else if (accept("VAR"))
            variables(accept("CONSTANT") ? Role::constant : Role::local);
        else
            return;
    }
}

void Compiler::variables(Role role) {
    while (!accept("END_VAR")) {
        std::vector<Token> names;
        do {
            names.push_back(now());
            name("the name of a variable, or END_VAR,");
        } while (accept(","));
        expect(":", "before the type");
        const Type type = typeName();
        std::vector<Slot> values;
        if (accept(":=")) {
            if (type.isBlock()) fail("a block has no value to start from");
            if (type.isArray()) {
                expect("[", "before the values of an array");
                Type element = type;
                element.length = 0;
                do values.push_back(initial(element));
                while (accept(","));
                expect("]", "behind the values of an array");
                if (values.size() > type.length) fail(fmt::format("there are more than {} values", type.length));
            } else {
                values.push_back(initial(type));
            }
        }
        expect(";", "behind the declaration");
        for (const Token& at : names) declare(at, type, role, values);
    }
}

Type Compiler::typeName() {
    if (accept("ARRAY")) {
        expect("[", "before the bounds of an array");
        const std::int64_t low = constantInteger("the first index");
        expect("..", "between the bounds of an array");
        const std::int64_t high = constantInteger("the last index");
        expect("]", "behind the bounds of an array");
        expect("OF", "before the type of the elements");
        if (high < low || high - low >= static_cast<std::int64_t>(mostSlots))
            fail("the bounds of the array are out of range");
        Type type = typeName();
        if (type.isArray() || type.isBlock()) fail("elements of an array are plain values");
        type.low = low, type.length = static_cast<std::uint32_t>(high - low + 1);
        return type;
    }
    const Token at = now();
    const std::string called = name("a type");
    if (auto type = typeCalled(called)) return *type;
    const int block = unitCalled(called);
    if (block < 0 || units_[static_cast<std::size_t>(block)].isFunction)
        failAt(at, fmt::format("there is no type or function block called {}", called));
    Type type;
    type.name = called, type.block = block;
    return type;
}

Slot Compiler::initial(const Type& type) {
    const Token at = now();
    const Operand value = expression();
    if (!value.literal && !(value.type.base == Base::boolean && type.base == Base::boolean))
        failAt(at, "a constant was expected");
    const std::uint32_t slot = as(at, value, type);
    return code().image[slot];
}

void Compiler::declare(const Token& at, Type type, Role role, const std::vector<Slot>& values) {
    if (code().find(at.text)) failAt(at, fmt::format("there are two variables called {}", at.text));
    if (role == Role::constant && values.empty()) failAt(at, fmt::format("{} is constant, but has no value", at.text));
    if (type.isArray() && role != Role::local && role != Role::constant)
        failAt(at, "inputs and outputs are single values");
    const std::uint32_t slot = type.isBlock() ? instance(type.block) : reserve(std::max(1u, type.length));
    std::copy(values.begin(), values.end(), code().image.begin() + slot);
    code().variables.push_back({at.text, std::move(type), role, slot, at.line});
}

void Compiler::body(std::string_view end) {
    if (end.empty())
        while (now().sort != TokenSort::end) statement();
    else
        statements({end});
    emit(Op::leave);
    if (!end.empty()) take();
}

}  // namespace hedgerow::st

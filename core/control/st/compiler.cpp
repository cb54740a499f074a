#include "control/st/compiler.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>

#include <fmt/format.h>

namespace hedgerow::st {

namespace {

constexpr std::size_t mostSlots = 1'000'000;

const std::vector<std::string_view> reserved = {
    "IF", "THEN", "ELSIF", "ELSE", "END_IF", "CASE", "OF", "END_CASE", "FOR", "TO", "BY", "DO", "END_FOR", "WHILE",
    "END_WHILE", "REPEAT", "UNTIL", "END_REPEAT", "EXIT", "CONTINUE", "RETURN", "VAR", "VAR_INPUT", "VAR_OUTPUT",
    "END_VAR", "CONSTANT", "AND", "OR", "XOR", "NOT", "MOD", "TRUE", "FALSE", "ARRAY", "PROGRAM", "END_PROGRAM",
    "FUNCTION", "END_FUNCTION", "FUNCTION_BLOCK", "END_FUNCTION_BLOCK", "SAMPLE_TIME"};

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
    return (now().sort == TokenSort::name || now().sort == TokenSort::symbol) && now().typed.empty() && now().text == text;
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
    if (image.size() + count > mostSlots) fail("the variables need more memory than there is");
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
        if (high < low || high - low >= static_cast<std::int64_t>(mostSlots)) fail("the bounds of the array are out of range");
        Type type = typeName();
        if (type.isArray() || type.isBlock()) fail("elements of an array are plain values");
        type.low = low, type.length = static_cast<std::uint32_t>(high - low + 1);
        return type;
    }
    const Token at = now();
    const std::string called = name("a type");
    if (auto type = typeCalled(called)) return *type;
    const int block = unitCalled(called);
    if (block < 0 || units_[static_cast<std::size_t>(block)].isFunction) failAt(at, fmt::format("there is no type or function block called {}", called));
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
    if (type.isArray() && role != Role::local && role != Role::constant) failAt(at, "inputs and outputs are single values");
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

void Compiler::statements(std::initializer_list<std::string_view> ends) {
    const auto ended = [&] { return std::any_of(ends.begin(), ends.end(), [&](std::string_view e) { return is(e); }); };
    while (!ended()) {
        if (now().sort == TokenSort::end) fail(fmt::format("the text ends before {}", *(ends.end() - 1)));
        statement();
    }
}

void Compiler::statement() {
    const Depth guard(*this);
    if (accept(";")) return;
    if (accept("IF")) return ifStatement();
    if (accept("CASE")) return caseStatement();
    if (accept("FOR")) return forStatement();
    if (accept("WHILE")) return whileStatement();
    if (accept("REPEAT")) return repeatStatement();
    if (is("EXIT") || is("CONTINUE")) {
        if (loops_.empty()) fail(fmt::format("{} stands outside of a loop", now().text));
        const bool exits = take().text == "EXIT";
        (exits ? loops_.back().exits : loops_.back().continues).push_back(emit(Op::jump));
    } else if (accept("RETURN")) {
        emit(Op::leave);
    } else if (now().sort == TokenSort::name && ahead().text == "(" && ahead().sort == TokenSort::symbol) {
        const Variable* found = code().find(now().text);
        if (found && found->type.isBlock()) {
            take();
            const Variable instance = *found;
            blockCall(instance);
        } else {
            expression();
        }
    } else {
        assignment();
    }
    expect(";", "at the end of the statement");
}

void Compiler::assignment() {
    const Element to = place(now(), true);
    expect(":=", "behind the variable");
    const Token value = now();
    put(value, to, expression());
}

void Compiler::put(const Token& at, const Element& to, const Operand& value) {
    std::uint32_t slot = as(at, value, to.type);
    if (to.type.isReal() && to.type.bits == 32 && !value.literal) {
        const Operand rounded = result(Op::single, to.type, slot);
        slot = rounded.slot;
    }
    if (to.indexed)
        emit(Op::store, to.base, to.index, slot);
    else
        emit(Op::copy, to.slot, slot);
}

/// A variable, an element of an array, or a member of a block.
Compiler::Element Compiler::place(const Token& at, bool toWrite) {
    const std::string called = name("a variable or a statement");
    const Variable* found = code().find(called);
    if (!found) failAt(at, fmt::format("there is no variable called {}", called));
    if (toWrite && found->role == Role::constant) failAt(at, fmt::format("{} is constant", called));
    if (toWrite && found->role == Role::input) failAt(at, fmt::format("{} is an input", called));
    const Variable variable = *found;
    if (variable.type.isBlock()) {
        expect(".", "behind the name of a block");
        const Unit& unit = units_[static_cast<std::size_t>(variable.type.block)];
        const Token member = now();
        const Variable* inner = unit.find(name("a member of the block"));
        if (!inner || inner->type.isArray() || inner->type.isBlock())
            failAt(member, fmt::format("{} has no member {}", unit.name, member.text));
        if (toWrite && inner->role != Role::input) failAt(member, fmt::format("{} is no input of {}", member.text, called));
        return {0, 0, inner->type, variable.slot + inner->slot, false};
    }
    if (!variable.type.isArray()) return {0, 0, variable.type, variable.slot, false};
    expect("[", "behind the name of an array");
    const Token where = now();
    const Operand index = expression();
    if (index.type.base != Base::integer) failAt(where, "an index is a whole number");
    expect("]", "behind an index");
    Type element = variable.type;
    element.length = 0;
    const std::int64_t low = variable.type.low, high = low + variable.type.length - 1;
    if (index.literal) {
        if (index.value.integer < low || index.value.integer > high)
            failAt(where, fmt::format("the index {} is out of range, {} to {}", index.value.integer, low, high));
        return {0, 0, element, variable.slot + static_cast<std::uint32_t>(index.value.integer - low), false};
    }
    const std::uint32_t place = reserve(1);
    emit(Op::copy, place, as(where, index, *typeCalled("LINT")));
    emit(Op::bounds, place, constant(low), constant(high));
    return {variable.slot, place, element, 0, true};
}

std::uint32_t Compiler::condition() {
    const Token at = now();
    return as(at, expression(), *typeCalled("BOOL"));
}

void Compiler::ifStatement() {
    std::vector<std::size_t> ends;
    std::size_t next = emit(Op::jumpUnless, 0, condition());
    expect("THEN", "behind the condition");
    statements({"ELSIF", "ELSE", "END_IF"});
    while (true) {
        if (accept("END_IF")) {
            jumpHere(next);
            break;
        }
        ends.push_back(emit(Op::jump));
        jumpHere(next);
        if (accept("ELSE")) {
            statements({"END_IF"});
            take();
            break;
        }
        take();
        next = emit(Op::jumpUnless, 0, condition());
        expect("THEN", "behind the condition");
        statements({"ELSIF", "ELSE", "END_IF"});
    }
    for (const std::size_t jump : ends) jumpHere(jump);
    accept(";");
}

void Compiler::caseStatement() {
    const Token at = now();
    const std::uint32_t selector = as(at, expression(), *typeCalled("LINT"));
    const std::uint32_t kept = reserve(1);
    emit(Op::copy, kept, selector);
    expect("OF", "behind the expression of CASE");
    const Type boolean = *typeCalled("BOOL");
    std::vector<std::size_t> ends;
    while (!is("ELSE") && !is("END_CASE")) {
        if (now().sort == TokenSort::end) fail("the text ends before END_CASE");
        std::vector<std::size_t> hits;
        do {
            const std::int64_t first = constantInteger("a case");
            if (accept("..")) {
                const std::int64_t last = constantInteger("the end of a range of cases");
                const Operand above = result(Op::notMoreI, boolean, constant(first), kept);
                const Operand below = result(Op::notMoreI, boolean, kept, constant(last));
                const Operand both = result(Op::bitAnd, boolean, above.slot, below.slot);
                hits.push_back(emit(Op::jumpIf, 0, both.slot));
            } else {
                const Operand equal = result(Op::equalI, boolean, kept, constant(first));
                hits.push_back(emit(Op::jumpIf, 0, equal.slot));
            }
        } while (accept(","));
        expect(":", "behind the cases");
        const std::size_t next = emit(Op::jump);
        for (const std::size_t hit : hits) jumpHere(hit);
        // A case ends where the next one, which begins with a constant, ELSE or END_CASE comes.
        while (!is("ELSE") && !is("END_CASE") && now().sort != TokenSort::integer && !is("-") && now().sort != TokenSort::end) {
            const Variable* constantCase = now().sort == TokenSort::name ? code().find(now().text) : nullptr;
            if (constantCase && constantCase->role == Role::constant) break;
            statement();
        }
        ends.push_back(emit(Op::jump));
        jumpHere(next);
    }
    if (accept("ELSE")) statements({"END_CASE"});
    take();
    for (const std::size_t jump : ends) jumpHere(jump);
    accept(";");
}

void Compiler::forStatement() {
    const Token at = now();
    const Element variable = place(at, true);
    if (variable.indexed || variable.type.base != Base::integer) failAt(at, "a loop counts with a whole variable");
    expect(":=", "behind the variable of the loop");
    put(at, variable, expression());
    expect("TO", "behind the first value");
    const Type whole = *typeCalled("LINT"), boolean = *typeCalled("BOOL");
    const std::uint32_t last = reserve(1), step = reserve(1);
    emit(Op::copy, last, as(now(), expression(), whole));
    Operand by{whole, constant(std::int64_t{1}), true, Slot{.integer = 1}};
    if (accept("BY")) by = expression();
    emit(Op::copy, step, as(at, by, whole));
    expect("DO", "before the body of the loop");
    const std::uint32_t start = here();
    std::uint32_t goes = 0;
    if (by.literal) {
        if (by.value.integer == 0) failAt(at, "the step of the loop is zero");
        goes = (by.value.integer > 0 ? result(Op::notMoreI, boolean, variable.slot, last)
                                     : result(Op::notMoreI, boolean, last, variable.slot)).slot;
    } else {
        // (step >= 0 and i <= last) or (step < 0 and i >= last)
        const Operand down = result(Op::lessI, boolean, step, constant(std::int64_t{0}));
        const Operand up = result(Op::boolNot, boolean, down.slot);
        const Operand below = result(Op::notMoreI, boolean, variable.slot, last);
        const Operand above = result(Op::notMoreI, boolean, last, variable.slot);
        const Operand first = result(Op::bitAnd, boolean, up.slot, below.slot);
        const Operand second = result(Op::bitAnd, boolean, down.slot, above.slot);
        goes = result(Op::bitOr, boolean, first.slot, second.slot).slot;
    }
    const std::size_t out = emit(Op::jumpUnless, 0, goes);
    loops_.emplace_back();
    statements({"END_FOR"});
    take();
    const Loop loop = loops_.back();
    loops_.pop_back();
    for (const std::size_t jump : loop.continues) jumpHere(jump);
    // The counter itself is not wrapped, so that a loop to the last value of its type ends.
    emit(Op::addI, variable.slot, variable.slot, step);
    emit(Op::jump, start);
    jumpHere(out);
    for (const std::size_t jump : loop.exits) jumpHere(jump);
    accept(";");
}

void Compiler::whileStatement() {
    const std::uint32_t start = here();
    const std::size_t out = emit(Op::jumpUnless, 0, condition());
    expect("DO", "before the body of the loop");
    loops_.emplace_back();
    statements({"END_WHILE"});
    take();
    for (const std::size_t jump : loops_.back().continues) code().code[jump].a = start;
    emit(Op::jump, start);
    jumpHere(out);
    for (const std::size_t jump : loops_.back().exits) jumpHere(jump);
    loops_.pop_back();
    accept(";");
}

void Compiler::repeatStatement() {
    const std::uint32_t start = here();
    loops_.emplace_back();
    statements({"UNTIL"});
    take();
    for (const std::size_t jump : loops_.back().continues) jumpHere(jump);
    emit(Op::jumpUnless, start, condition());
    accept(";");
    expect("END_REPEAT", "behind the condition");
    for (const std::size_t jump : loops_.back().exits) jumpHere(jump);
    loops_.pop_back();
    accept(";");
}

/// t1(IN := a, PT := T#1s, Q => b)
void Compiler::blockCall(const Variable& instance) {
    const int index = instance.type.block;
    const auto unitOf = [&]() -> const Unit& { return units_[static_cast<std::size_t>(index)]; };
    expect("(", "behind the name of a block");
    std::vector<std::pair<Token, std::string>> outputs;  // the member, and where in the tokens its target begins
    std::vector<std::size_t> targets;
    while (!accept(")")) {
        const Token at = now();
        const Variable* member = unitOf().find(name("a member of the block"));
        if (!member || member->role == Role::local) failAt(at, fmt::format("{} has no input or output {}", unitOf().name, at.text));
        const Type type = member->type;
        const std::uint32_t slot = instance.slot + member->slot;
        if (accept("=>")) {
            if (member->role != Role::output) failAt(at, fmt::format("{} is no output", at.text));
            outputs.emplace_back(at, at.text);
            targets.push_back(at_);
            place(now(), true);
        } else {
            expect(":=", "behind the name of an input");
            if (member->role != Role::input) failAt(at, fmt::format("{} is no input", at.text));
            const Token value = now();
            put(value, {0, 0, type, slot, false}, expression());
        }
        if (!is(")")) expect(",", "between what a block is given");
    }
    emit(Op::call, static_cast<std::uint32_t>(index), instance.slot);
    const std::size_t after = at_;
    for (std::size_t i = 0; i < outputs.size(); ++i) {
        const Variable* member = unitOf().find(outputs[i].second);
        at_ = targets[i];
        put(outputs[i].first, place(now(), true), {member->type, instance.slot + member->slot});
    }
    at_ = after;
}

}  // namespace hedgerow::st

#include <algorithm>

#include <fmt/format.h>

#include "control/st/compiler.h"

namespace hedgerow::st {

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
        if (toWrite && inner->role != Role::input)
            failAt(member, fmt::format("{} is no input of {}", member.text, called));
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
        while (!is("ELSE") && !is("END_CASE") && now().sort != TokenSort::integer && !is("-") &&
               now().sort != TokenSort::end) {
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
                                     : result(Op::notMoreI, boolean, last, variable.slot))
                   .slot;
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
        if (!member || member->role == Role::local)
            failAt(at, fmt::format("{} has no input or output {}", unitOf().name, at.text));
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

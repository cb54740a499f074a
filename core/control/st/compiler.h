#pragma once
// From words to instructions, in one pass by recursive descent. Internal to control/st.

#include <map>
#include <optional>

#include "control/st/lexer.h"
#include "control/st/program.h"

namespace hedgerow::st {

/// Thrown at the first fault and caught where compiling began.
struct Failure {
    Error error;
};

/// A value while an expression is compiled.
struct Operand {
    Type type;
    std::uint32_t slot = 0;
    bool literal = false;  ///< a number without a type of its own: it takes the one that is wanted
    Slot value = {};       ///< of a literal
};

std::optional<Type> typeCalled(const std::string& name);

class Compiler {
public:
    /// @param units  what may be used; what is compiled is added
    Compiler(std::vector<Token> tokens, std::vector<Unit>& units, double sampleTime, Program::Constants given)
        : tokens_(std::move(tokens)), units_(units), sampleTime_(sampleTime), given_(std::move(given)) {}
    /// Functions and blocks, and where `withMain`, the program behind them.
    void compile(bool withMain);

private:
    // Words.
    const Token& now() const { return tokens_[at_]; }
    const Token& ahead() const { return tokens_[std::min(at_ + 1, tokens_.size() - 1)]; }
    Token take() { return at_ + 1 < tokens_.size() ? tokens_[at_++] : tokens_[at_]; }
    bool is(std::string_view text) const;
    bool accept(std::string_view text);
    void expect(std::string_view text, std::string_view where);
    std::string name(std::string_view what);
    [[noreturn]] void fail(std::string message) const { failAt(now(), std::move(message)); }
    [[noreturn]] static void failAt(const Token& token, std::string message);

    // Declarations.
    void unit();
    void declarations();
    void variables(Role role);
    Type typeName();
    Slot initial(const Type& type);
    void declare(const Token& at, Type type, Role role, const std::vector<Slot>& values);
    void body(std::string_view end);

    // Statements.
    void statements(std::initializer_list<std::string_view> ends);
    void statement();
    void assignment();
    void ifStatement();
    void caseStatement();
    void forStatement();
    void whileStatement();
    void repeatStatement();
    void blockCall(const Variable& instance);

    // Expressions.
    Operand expression();
    Operand binary(int level);
    Operand unary();
    Operand power();
    Operand primary();
    Operand literal();
    Operand variable(const Token& at);
    Operand function(const Token& at);
    Operand standardFunction(const Token& at, std::vector<Operand> arguments);
    Operand ownFunction(const Token& at, int unit);
    Operand combine(const Token& at, const std::string& symbol, Operand a, Operand b);
    static std::int64_t folded(const Token& at, const std::string& symbol, const Operand& a, const Operand& b);
    Operand compare(const Token& at, const std::string& symbol, Operand a, Operand b);
    Operand conversion(const Token& at, const Operand& from, const Type& to);
    std::vector<Operand> arguments();

    /// Both of one type that holds either.
    Type common(const Token& at, const Operand& a, const Operand& b) const;
    /// The slot of the operand as a value of the type; refuses what would lose digits.
    std::uint32_t as(const Token& at, const Operand& operand, const Type& type);
    std::uint32_t real(const Token& at, const Operand& operand);
    std::uint32_t condition();
    std::int64_t constantInteger(std::string_view what);

    // Code.
    Unit& code() { return units_.back(); }
    std::uint32_t reserve(std::size_t count);
    std::uint32_t constant(Slot value);
    std::uint32_t constant(double value);
    std::uint32_t constant(std::int64_t value);
    std::size_t emit(Op op, std::uint32_t a = 0, std::uint32_t b = 0, std::uint32_t c = 0);
    Operand result(Op op, const Type& type, std::uint32_t b = 0, std::uint32_t c = 0);
    void jumpHere(std::size_t instruction) {
        code().code[instruction].a = static_cast<std::uint32_t>(code().code.size());
    }
    std::uint32_t here() { return static_cast<std::uint32_t>(code().code.size()); }
    std::uint32_t instance(int unit);
    int unitCalled(const std::string& name) const;
    /// The place of one element of an array: the number of its first slot is in `base`.
    struct Element {
        std::uint32_t base, index;
        Type type;
        std::uint32_t slot = 0;  ///< where no index is needed
        bool indexed = false;
    };
    Element place(const Token& at, bool toWrite);
    void put(const Token& at, const Element& to, const Operand& value);

    /// Counts how deeply what it stands in is nested.
    class Depth {
    public:
        explicit Depth(Compiler& compiler) : compiler_(compiler) {
            if (compiler_.depth_ > 100) compiler_.fail("this is nested too deeply");
            ++compiler_.depth_;
        }
        ~Depth() { --compiler_.depth_; }
        Depth(const Depth&) = delete;
        Depth& operator=(const Depth&) = delete;

    private:
        Compiler& compiler_;
    };
    struct Loop {
        std::vector<std::size_t> exits, continues;
    };

    std::vector<Token> tokens_;
    std::size_t at_ = 0;
    std::vector<Unit>& units_;
    double sampleTime_;
    Program::Constants given_;
    std::vector<Loop> loops_;
    std::map<std::int64_t, std::uint32_t> constants_;  ///< of the unit at hand, by their bits
    std::size_t slots_ = 0;  ///< of all units
    int depth_ = 0;
};

}  // namespace hedgerow::st

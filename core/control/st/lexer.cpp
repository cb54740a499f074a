#include "control/st/lexer.h"

#include <cctype>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

namespace hedgerow::st {

namespace {

bool letter(char c) { return std::isalpha(static_cast<unsigned char>(c)) || c == '_'; }
bool digit(char c) { return std::isdigit(static_cast<unsigned char>(c)); }

class Lexer {
public:
    explicit Lexer(std::string_view source) : source_(source) {}

    Result<std::vector<Token>> all() {
        std::vector<Token> tokens;
        while (true) {
            if (!skip()) return *error_;
            Token token;
            token.line = line_, token.column = column_;
            if (at_ >= source_.size()) {
                tokens.push_back(token);
                return tokens;
            }
            if (letter(peek()))
                word(token);
            else if (digit(peek()))
                number(token);
            else
                symbol(token);
            if (error_) return *error_;
            tokens.push_back(std::move(token));
        }
    }

private:
    char peek(std::size_t ahead = 0) const { return at_ + ahead < source_.size() ? source_[at_ + ahead] : '\0'; }
    char take() {
        const char c = source_[at_++];
        if (c == '\n')
            ++line_, column_ = 1;
        else if ((static_cast<unsigned char>(c) & 0xc0) != 0x80)
            ++column_;
        return c;
    }
    void fail(std::string message) {
        if (error_) return;
        error_ = Error{ErrorCode::syntax, std::move(message)};
        error_->line = line_, error_->column = column_;
    }

    /// Blanks, comments and pragmas. Returns false at one that does not end.
    bool skip() {
        while (at_ < source_.size()) {
            const char c = peek();
            if (std::isspace(static_cast<unsigned char>(c))) {
                take();
            } else if (c == '/' && peek(1) == '/') {
                while (at_ < source_.size() && peek() != '\n') take();
            } else if ((c == '(' && peek(1) == '*') || (c == '/' && peek(1) == '*') || c == '{') {
                if (!enclosed(c == '{' ? "}" : c == '(' ? "*)" : "*/", c == '{' ? 1 : 2)) return false;
            } else {
                return true;
            }
        }
        return true;
    }
    bool enclosed(std::string_view end, int opening) {
        const int line = line_, column = column_;
        for (int i = 0; i < opening; ++i) take();
        while (at_ < source_.size() && source_.substr(at_, end.size()) != end) take();
        if (at_ >= source_.size()) {
            fail(fmt::format("this comment does not end with {}", end));
            error_->line = line, error_->column = column;
            return false;
        }
        for (std::size_t i = 0; i < end.size(); ++i) take();
        return true;
    }

    void word(Token& token) {
        token.sort = TokenSort::name;
        while (letter(peek()) || digit(peek()))
            token.text += static_cast<char>(std::toupper(static_cast<unsigned char>(take())));
        if (peek() != '#') return;
        take();
        token.typed = token.text;
        token.text.clear();
        if (token.typed == "T" || token.typed == "TIME" || token.typed == "LTIME" || token.typed == "LT")
            return duration(token);
        if (letter(peek())) {  // BOOL#TRUE
            while (letter(peek()) || digit(peek()))
                token.text += static_cast<char>(std::toupper(static_cast<unsigned char>(take())));
            return;
        }
        const bool negative = peek() == '-';
        if (negative || peek() == '+') take();
        if (!digit(peek())) return fail(fmt::format("a number was expected behind {}#", token.typed));
        number(token);
        if (negative) token.real = -token.real, token.integer = -token.integer;
    }

    void number(Token& token) {
        std::string digits;
        while (digit(peek()) || peek() == '_')
            if (const char c = take(); c != '_') digits += c;
        if (peek() == '#') return based(token, digits);
        token.sort = TokenSort::integer;
        if (peek() == '.' && digit(peek(1))) {
            token.sort = TokenSort::real;
            digits += take();
            while (digit(peek()) || peek() == '_')
                if (const char c = take(); c != '_') digits += c;
        }
        if ((peek() == 'e' || peek() == 'E') &&
            (digit(peek(1)) || ((peek(1) == '+' || peek(1) == '-') && digit(peek(2))))) {
            token.sort = TokenSort::real;
            digits += take();
            if (!digit(peek())) digits += take();
            while (digit(peek())) digits += take();
        }
        if (letter(peek())) return fail(fmt::format("'{}{}' is no number", digits, peek()));
        const auto read = std::from_chars(digits.data(), digits.data() + digits.size(), token.real);
        if (read.ec != std::errc() || !std::isfinite(token.real)) return fail("this number is too large");
        if (token.sort != TokenSort::integer) return;
        const auto whole = std::from_chars(digits.data(), digits.data() + digits.size(), token.integer);
        if (whole.ec != std::errc()) fail("this number is too large for 64 bits");
    }
    /// 16#FF, 8#17, 2#1010.
    void based(Token& token, const std::string& digits) {
        take();
        const int base = digits == "16" ? 16 : digits == "8" ? 8 : digits == "2" ? 2 : 0;
        if (base == 0) return fail("numbers are written to base 2, 8, 10 or 16");
        std::string text;
        while (std::isxdigit(static_cast<unsigned char>(peek())) || peek() == '_')
            if (const char c = take(); c != '_') text += c;
        std::uint64_t value = 0;
        const auto read = std::from_chars(text.data(), text.data() + text.size(), value, base);
        if (text.empty() || read.ec != std::errc() || read.ptr != text.data() + text.size())
            return fail(fmt::format("'{}' is no number to base {}", text, base));
        token.sort = TokenSort::integer;
        token.integer = static_cast<std::int64_t>(value);
        token.real = static_cast<double>(token.integer);
    }
    /// T#1h2m3s4ms5us6ns, with a fraction at the last.
    void duration(Token& token) {
        token.sort = TokenSort::time;
        const bool negative = peek() == '-';
        if (negative) take();
        long double total = 0;
        bool any = false;
        while (digit(peek())) {
            std::string digits;
            while (digit(peek()) || peek() == '_' || peek() == '.')
                if (const char c = take(); c != '_') digits += c;
            std::string unit;
            while (std::isalpha(static_cast<unsigned char>(peek())))
                unit += static_cast<char>(std::tolower(static_cast<unsigned char>(take())));
            if (peek() == '_') take();
            const long double nanoseconds = unit == "d"    ? 86400e9L
                                            : unit == "h"  ? 3600e9L
                                            : unit == "m"  ? 60e9L
                                            : unit == "s"  ? 1e9L
                                            : unit == "ms" ? 1e6L
                                            : unit == "us" ? 1e3L
                                            : unit == "ns" ? 1.0L
                                                           : 0.0L;
            if (nanoseconds == 0) return fail(fmt::format("'{}' is no unit of time: d h m s ms us ns", unit));
            double value = 0;
            const auto read = std::from_chars(digits.data(), digits.data() + digits.size(), value);
            if (read.ec != std::errc() || read.ptr != digits.data() + digits.size())
                return fail(fmt::format("'{}' is no number", digits));
            total += static_cast<long double>(value) * nanoseconds;
            any = true;
        }
        if (!any) return fail("a time was expected, as in T#1.5ms");
        if (total > 9e18L) return fail("this time is too long");
        token.integer = std::llroundl(negative ? -total : total);
        token.real = static_cast<double>(token.integer);
    }

    void symbol(Token& token) {
        token.sort = TokenSort::symbol;
        for (const std::string_view two : {":=", "<=", ">=", "<>", "**", "=>", ".."})
            if (source_.substr(at_, 2) == two) {
                token.text = two;
                take(), take();
                return;
            }
        if (std::string_view("+-*/()[]:;,.<>=&").find(peek()) == std::string_view::npos)
            return fail(peek() == '\'' || peek() == '"'
                            ? std::string("texts are not supported")
                            : fmt::format("'{}' has no meaning here", source_.substr(at_, 1)));
        token.text = take();
    }

    std::string_view source_;
    std::size_t at_ = 0;
    int line_ = 1, column_ = 1;
    std::optional<Error> error_;
};

}  // namespace

Result<std::vector<Token>> tokensOf(std::string_view source) { return Lexer(source).all(); }

}  // namespace hedgerow::st

#include "formats/cards/card_file.h"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

namespace {

std::string capitals(std::string_view text) {
    std::string result(text);
    for (char& c : result) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    return result;
}

struct Statement {
    int line;
    std::string text;
};

/// Remarks are gone, and lines that go on are joined.
std::vector<Statement> statementsOf(std::string_view text) {
    std::vector<Statement> all;
    int line = 0;
    for (std::size_t start = 0; start < text.size();) {
        const std::size_t end = std::min(text.find('\n', start), text.size());
        std::string_view one = text.substr(start, end - start);
        start = end + 1;
        ++line;
        one = trimmed(one.substr(0, one.find_first_of(";$")));
        if (one.empty() || one.front() == '*') continue;
        if (one.front() == '+' && !all.empty())
            all.back().text += " " + std::string(one.substr(1));
        else
            all.push_back({line, std::string(one)});
    }
    return all;
}

/// Words; = stands alone, parentheses and commas only part words. Braces hold an expression together.
std::vector<std::string> wordsOf(std::string_view text) {
    std::vector<std::string> words;
    std::string word;
    int braces = 0;
    const auto finish = [&] {
        if (!word.empty()) words.push_back(std::exchange(word, {}));
    };
    for (const char c : text) {
        braces += c == '{' ? 1 : c == '}' ? -1 : 0;
        if (braces > 0 || c == '}') {
            word += c;
        } else if (std::isspace(static_cast<unsigned char>(c)) || c == '(' || c == ')' || c == ',') {
            finish();
        } else if (c == '=') {
            finish();
            words.emplace_back("=");
        } else {
            word += c;
        }
    }
    finish();
    return words;
}

/// .model NAME TYPE(KEY=VALUE ...)
void readModel(const Statement& statement, const std::vector<std::string>& words, CardFile& file) {
    if (words.size() < 3) {
        file.remarks.push_back({statement.line, statement.text, "a name and a type are expected"});
        return;
    }
    ModelCard card{statement.line, words[1], capitals(words[2]), {}};
    for (std::size_t i = 3; i < words.size();) {
        if (i + 2 < words.size() + 0 && words[i + 1] == "=") {
            const auto value = cardNumber(words[i + 2]);
            if (value)
                card.values[capitals(words[i])] = *value;
            else
                file.remarks.push_back({statement.line, words[i] + "=" + words[i + 2], value.error().message});
            i += 3;
        } else {
            file.remarks.push_back({statement.line, words[i], "a value is expected, KEY=VALUE"});
            ++i;
        }
    }
    file.models.push_back(std::move(card));
}

}  // namespace

Result<double> cardNumber(std::string_view text) {
    text = trimmed(text);
    if (!text.empty() && text.front() == '+') text.remove_prefix(1);
    double value = 0;
    const auto [end, wrong] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (wrong != std::errc() || !std::isfinite(value))
        return Error{ErrorCode::syntax, fmt::format("'{}' is no number", text)};
    const std::string unit = capitals(text.substr(static_cast<std::size_t>(end - text.data())));
    for (const char c : unit)
        if (!std::isalpha(static_cast<unsigned char>(c)))
            return Error{ErrorCode::syntax, fmt::format("'{}' is no number", text)};
    if (unit.starts_with("MEG")) return value * 1e6;
    if (unit.starts_with("MIL")) return value * 25.4e-6;
    const std::string_view letters = "TGKMUNPF";
    const double factors[] = {1e12, 1e9, 1e3, 1e-3, 1e-6, 1e-9, 1e-12, 1e-15};
    if (unit.empty()) return value;
    const std::size_t at = letters.find(unit.front());
    return at == std::string_view::npos ? value : value * factors[at];
}

CardFile readCards(std::string_view text) {
    CardFile file;
    bool inside = false;
    for (const Statement& statement : statementsOf(text)) {
        const std::vector<std::string> words = wordsOf(statement.text);
        if (words.empty()) continue;
        const std::string first = capitals(words.front());
        if (first == ".MODEL") {
            readModel(statement, words, file);
        } else if (first == ".SUBCKT") {
            if (inside) {
                file.remarks.push_back({statement.line, statement.text, "a subcircuit within another is not taken"});
            } else if (words.size() < 3) {
                file.remarks.push_back({statement.line, statement.text, "a name and pins are expected"});
            } else {
                inside = true;
                CardSubcircuit sub{statement.line, words[1], {}, {}};
                for (std::size_t i = 2; i < words.size(); ++i) {
                    if (words[i] == "=" || capitals(words[i]) == "PARAMS:" ||
                        (i + 1 < words.size() && words[i + 1] == "=")) {
                        file.remarks.push_back(
                            {statement.line, statement.text, "parameters of a subcircuit are not taken"});
                        break;
                    }
                    sub.pins.push_back(words[i]);
                }
                file.subcircuits.push_back(std::move(sub));
            }
        } else if (first == ".ENDS") {
            inside = false;
        } else if (first == ".END") {
            break;
        } else if (inside && first.front() != '.') {
            file.subcircuits.back().elements.push_back(
                {statement.line, words.front(), {words.begin() + 1, words.end()}});
        } else {
            file.remarks.push_back(
                {statement.line, statement.text, inside ? "this statement is not taken" : "it stands in no card"});
        }
    }
    if (inside) file.remarks.push_back({file.subcircuits.back().line, file.subcircuits.back().name, "it has no .ends"});
    return file;
}

}  // namespace hedgerow

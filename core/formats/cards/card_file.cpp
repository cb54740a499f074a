#include "formats/cards/card_file.h"

#include <algorithm>
#include <cctype>
#include <cmath>

#include <fmt/format.h>

#include "base/text.h"
#include "formats/cards/card_expansion.h"

namespace hedgerow {

namespace {

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

/// Reads the statements one after the other.
class FileReader {
public:
    CardFile all(std::string_view text) {
        for (const Statement& statement : statementsOf(text)) {
            const std::vector<std::string> words = wordsOf(statement.text);
            if (words.empty()) continue;
            if (upperCase(words.front()) == ".END") break;
            read(statement, words);
        }
        if (inside_) remark({definitions_.back().written.line, definitions_.back().written.name}, "it has no .ends");
        expandSubcircuits(definitions_, file_);
        return std::move(file_);
    }

private:
    using Texts = std::vector<std::pair<std::string, std::string>>;

    void remark(const Statement& statement, std::string why) {
        file_.remarks.push_back({statement.line, statement.text, std::move(why)});
    }

    void read(const Statement& statement, const std::vector<std::string>& words) {
        const std::string first = upperCase(words.front());
        if (first == ".MODEL") {
            readModel(statement, words);
        } else if (first == ".PARAM") {
            const Texts texts = textsOf(statement, words, 1);
            evaluate(inside_ ? nullptr : &statement, texts, parameters_);
            if (inside_)
                definitions_.back().parameters.insert(definitions_.back().parameters.end(), texts.begin(), texts.end());
        } else if (first == ".SUBCKT") {
            openSubcircuit(statement, words);
        } else if (first == ".ENDS") {
            if (inside_) parameters_ = definitions_.back().outside;
            inside_ = false;
        } else if (inside_ && first.front() != '.') {
            definitions_.back().written.elements.push_back(elementOf(statement, words));
        } else {
            remark(statement, inside_ ? "this statement is not taken" : "it stands in no card");
        }
    }

    static CardElement elementOf(const Statement& statement, const std::vector<std::string>& words) {
        CardElement element{statement.line, words.front(), {words.begin() + 1, words.end()}};
        const std::size_t equals = statement.text.find('=');
        if (lowerCase(element.name).front() != 'b' || equals == std::string::npos || words.size() < 4) return element;
        std::string_view formula = trimmed(std::string_view(statement.text).substr(equals + 1));
        if (formula.size() >= 2 && formula.front() == '{' && formula.back() == '}')
            formula = formula.substr(1, formula.size() - 2);
        element.words = {words[1], words[2], upperCase(words[3]), std::string(formula)};
        return element;
    }

    /// KEY=VALUE ... from a word on.
    Texts textsOf(const Statement& statement, const std::vector<std::string>& words, std::size_t i) {
        Texts texts;
        while (i < words.size()) {
            if (i + 2 < words.size() && words[i + 1] == "=") {
                texts.emplace_back(words[i], words[i + 2]);
                i += 3;
            } else {
                file_.remarks.push_back({statement.line, words[i], "a value is expected, KEY=VALUE"});
                ++i;
            }
        }
        return texts;
    }

    /// @param told  what remarks are about; null for none
    void evaluate(const Statement* told, const Texts& texts, CardParameters& values) {
        for (const auto& [key, text] : texts)
            if (const auto value = cardValue(text, parameters_))
                values[upperCase(key)] = *value;
            else if (told)
                file_.remarks.push_back({told->line, key + "=" + text, value.error().message});
    }

    /// .model NAME TYPE(KEY=VALUE ...)
    void readModel(const Statement& statement, const std::vector<std::string>& words) {
        if (words.size() < 3) return remark(statement, "a name and a type are expected");
        ModelCard card{statement.line, words[1], upperCase(words[2]), {}};
        const Texts texts = textsOf(statement, words, 3);
        evaluate(&statement, texts, card.values);
        if (inside_) definitions_.back().models.push_back({card, texts});
        file_.models.push_back(std::move(card));
    }

    /// .subckt NAME PIN ... [params:] KEY=VALUE ...
    void openSubcircuit(const Statement& statement, const std::vector<std::string>& words) {
        if (inside_) return remark(statement, "a subcircuit defined within another is not taken");
        if (words.size() < 3) return remark(statement, "a name and pins are expected");
        inside_ = true;
        CardDefinition definition{{statement.line, words[1], {}, {}}, parameters_, {}, {}};
        std::size_t i = 2;
        for (; i < words.size(); ++i) {
            if (upperCase(words[i]) == "PARAMS:") {
                ++i;
                break;
            }
            if (i + 1 < words.size() && words[i + 1] == "=") break;
            if (words[i] != "=") definition.written.pins.push_back(words[i]);
        }
        definition.parameters = textsOf(statement, words, i);
        evaluate(nullptr, definition.parameters, parameters_);
        definitions_.push_back(std::move(definition));
    }

    CardFile file_;
    std::vector<CardDefinition> definitions_;
    CardParameters parameters_;  ///< that hold at the statement at hand
    bool inside_ = false;        ///< of the last definition
};

}  // namespace

Result<double> cardNumber(std::string_view text) {
    text = trimmed(text);
    std::string_view behind;
    const auto number = numberIn(text, &behind);
    if (!number) return Error{ErrorCode::syntax, fmt::format("'{}' is no number", text)};
    const double value = *number;
    const std::string unit = upperCase(behind);
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

CardFile readCards(std::string_view text) { return FileReader().all(text); }

}  // namespace hedgerow

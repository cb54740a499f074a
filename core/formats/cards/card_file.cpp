#include "formats/cards/card_file.h"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

#include "base/text.h"
#include "formats/cards/card_expression.h"

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
        if (inside_) remark({file_.subcircuits.back().line, file_.subcircuits.back().name}, "it has no .ends");
        return std::move(file_);
    }

private:
    void remark(const Statement& statement, std::string why) {
        file_.remarks.push_back({statement.line, statement.text, std::move(why)});
    }

    void read(const Statement& statement, const std::vector<std::string>& words) {
        const std::string first = upperCase(words.front());
        if (first == ".MODEL") {
            readModel(statement, words);
        } else if (first == ".PARAM") {
            readValues(statement, words, 1, parameters_);
        } else if (first == ".SUBCKT") {
            openSubcircuit(statement, words);
        } else if (first == ".ENDS") {
            if (inside_) parameters_ = outer_;
            inside_ = false;
        } else if (inside_ && first.front() != '.') {
            file_.subcircuits.back().elements.push_back({statement.line, words.front(), evaluated(words)});
        } else {
            remark(statement, inside_ ? "this statement is not taken" : "it stands in no card");
        }
    }

    /// The words behind the name; expressions in braces become numbers where all that they name is known.
    std::vector<std::string> evaluated(const std::vector<std::string>& words) const {
        std::vector<std::string> result(words.begin() + 1, words.end());
        for (std::string& word : result)
            if (word.front() == '{')
                if (const auto value = cardValue(word, parameters_)) word = fmt::format("{:.17g}", *value);
        return result;
    }

    /// KEY=VALUE ... from a word on.
    void readValues(const Statement& statement, const std::vector<std::string>& words, std::size_t i,
                    CardParameters& values) {
        while (i < words.size()) {
            if (i + 2 < words.size() && words[i + 1] == "=") {
                if (const auto value = cardValue(words[i + 2], parameters_))
                    values[upperCase(words[i])] = *value;
                else
                    file_.remarks.push_back({statement.line, words[i] + "=" + words[i + 2], value.error().message});
                i += 3;
            } else {
                file_.remarks.push_back({statement.line, words[i], "a value is expected, KEY=VALUE"});
                ++i;
            }
        }
    }

    /// .model NAME TYPE(KEY=VALUE ...)
    void readModel(const Statement& statement, const std::vector<std::string>& words) {
        if (words.size() < 3) return remark(statement, "a name and a type are expected");
        ModelCard card{statement.line, words[1], upperCase(words[2]), {}};
        readValues(statement, words, 3, card.values);
        file_.models.push_back(std::move(card));
    }

    /// .subckt NAME PIN ... [params:] KEY=VALUE ...: parameters keep the values that they are given here.
    void openSubcircuit(const Statement& statement, const std::vector<std::string>& words) {
        if (inside_) return remark(statement, "a subcircuit within another is not taken");
        if (words.size() < 3) return remark(statement, "a name and pins are expected");
        inside_ = true;
        outer_ = parameters_;
        CardSubcircuit sub{statement.line, words[1], {}, {}};
        std::size_t i = 2;
        for (; i < words.size(); ++i) {
            if (upperCase(words[i]) == "PARAMS:") {
                ++i;
                break;
            }
            if (i + 1 < words.size() && words[i + 1] == "=") break;
            if (words[i] != "=") sub.pins.push_back(words[i]);
        }
        file_.subcircuits.push_back(std::move(sub));
        readValues(statement, words, i, parameters_);
    }

    CardFile file_;
    CardParameters parameters_, outer_;  ///< that hold at the statement at hand; those outside of the subcircuit
    bool inside_ = false;
};

}  // namespace

Result<double> cardNumber(std::string_view text) {
    text = trimmed(text);
    if (!text.empty() && text.front() == '+') text.remove_prefix(1);
    double value = 0;
    const auto [end, wrong] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (wrong != std::errc() || !std::isfinite(value))
        return Error{ErrorCode::syntax, fmt::format("'{}' is no number", text)};
    const std::string unit = upperCase(text.substr(static_cast<std::size_t>(end - text.data())));
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

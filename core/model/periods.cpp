#include "model/periods.h"

#include <algorithm>
#include <cctype>
#include <string_view>
#include <vector>

#include <fmt/format.h>

#include "base/text.h"
#include "model/modules.h"
#include "model/vectors.h"

namespace hedgerow {

Result<double> periodOf(const std::string& part, const Project& project, const Catalogue& catalogue,
                        const ParameterLookup& lookup) {
    FlatProject flat;
    const Part* found = project.findPart(part);
    const PartKind* kind = found ? catalogue.find(found->kind) : nullptr;
    if (!kind) {  // inside a module, or one that stands for three
        flat = flattened(project, catalogue);
        found = flat.project.findPart(part);
        if (!found) found = flat.project.findPart(part + std::string(ofThree[0]));
        kind = found ? catalogue.find(found->kind) : nullptr;
    }
    const auto none = [&](const char* what) {
        Error error{ErrorCode::name, fmt::format("{} {}", part, what)};
        error.part = part;
        return error;
    };
    if (!kind) return Error{ErrorCode::name, fmt::format("there is no part {} whose periods could be counted", part)};
    const ParameterKind *const f = kind->findParameter("f"), *const period = kind->findParameter("period");
    if (f && f->unit == "Hz") {
        const auto value = partValue(*found, *kind, "f", lookup);
        if (!value) return value.error();
        if (!(*value > 0)) return none("has the frequency zero: it has no period");
        return 1 / *value;
    }
    if (period && period->unit == "s") {
        const auto value = partValue(*found, *kind, "period", lookup);
        if (!value) return value.error();
        if (!(*value > 0)) return none("is not repeated: it has no period");
        return *value;
    }
    return none("has no frequency: its periods cannot be counted");
}

namespace {

constexpr std::string_view blanks = " \t\n\r";

/// Reads on in a text.
class Reader {
public:
    Reader(std::string_view text, std::size_t at) : text_(text), at_(at) {}
    std::size_t at() const { return at_; }
    /// @return whether there was one
    bool blank() {
        const std::size_t from = at_;
        at_ = std::min(text_.find_first_not_of(blanks, at_), text_.size());
        return at_ > from;
    }
    bool word(std::string_view expected) {
        if (text_.substr(at_).substr(0, expected.size()) != expected) return false;
        at_ += expected.size();
        return true;
    }
    /// A name with dots; "" where none begins.
    std::string_view name() {
        const auto letter = [](char c) { return std::isalpha(static_cast<unsigned char>(c)) || c == '_'; };
        const std::size_t from = at_;
        if (at_ < text_.size() && letter(text_[at_]))
            while (at_ < text_.size() && (letter(text_[at_]) || std::isdigit(static_cast<unsigned char>(text_[at_])) ||
                                          text_[at_] == '.'))
                ++at_;
        return text_.substr(from, at_ - from);
    }

private:
    std::string_view text_;
    std::size_t at_;
};

}  // namespace

std::vector<TimePiece> timePieces(const std::string& text) {
    constexpr std::size_t longest = 1000;  // that is searched for words
    std::vector<TimePiece> pieces;
    std::size_t begin = 0;  // of the expression
    for (std::size_t found = 0; text.size() <= longest && (found = text.find("period", found)) != std::string::npos;) {
        Reader reader(text, found);
        std::size_t start = found;  // of the blanks before it
        while (start > begin && blanks.find(text[start - 1]) != std::string_view::npos) --start;
        const std::size_t before = found;
        (void)reader.word("period");
        (void)reader.word("s");
        found = reader.at();
        if (start == before || !reader.blank() || !reader.word("of") || !reader.blank()) continue;
        const std::string_view part = reader.name();
        if (part.empty()) continue;
        found = reader.at();
        Reader sign = reader;
        (void)sign.blank();
        if (sign.word("+") || sign.word("-")) found = sign.at();
        pieces.push_back({text.substr(begin, start - begin), text.substr(start, found - start), std::string(part)});
        begin = found;
    }
    if (begin < text.size() || pieces.empty()) pieces.push_back({text.substr(begin), ""});
    return pieces;
}

Result<double> evaluateTime(const std::string& text, const Project& project, const Catalogue& catalogue,
                            const ParameterLookup& lookup) {
    static const Unit second = *findUnit("s");
    const std::vector<TimePiece> pieces = timePieces(text);
    if (pieces.size() == 1 && pieces.front().part.empty()) return evaluateField(text, second, lookup);
    std::string plain;
    for (const TimePiece& piece : pieces) {
        plain += piece.expression;
        if (piece.part.empty()) continue;
        const auto period = periodOf(piece.part, project, catalogue, lookup);
        if (!period) return period.error();
        plain += fmt::format("*{}", *period);
        if (const std::size_t sign = piece.words.find_last_of("+-"); sign != std::string::npos)
            plain += piece.words.substr(sign);
    }
    auto value = evaluateField(plain, second, lookup);
    if (value) return value;
    Error error = value.error();
    error.position = -1;  // of another text
    return error;
}

}  // namespace hedgerow

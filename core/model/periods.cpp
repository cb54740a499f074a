#include "model/periods.h"

#include <regex>
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

std::vector<TimePiece> timePieces(const std::string& text) {
    constexpr std::size_t longest = 1000;  // that is searched for words
    static const std::regex words(R"(\s+periods?\s+of\s+([A-Za-z_][A-Za-z0-9_.]*)(\s*[+-])?)");
    std::vector<TimePiece> pieces;
    auto at = text.cbegin();
    if (text.size() <= longest && text.find("period") != std::string::npos)
        for (std::sregex_iterator it(text.begin(), text.end(), words), none; it != none; ++it) {
            pieces.push_back({std::string(at, (*it)[0].first), (*it)[0], (*it)[1]});
            at = (*it)[0].second;
        }
    if (at != text.cend() || pieces.empty()) pieces.push_back({std::string(at, text.cend()), ""});
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

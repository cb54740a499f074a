#pragma once
// From typed text to numbers: project parameters and the values of parts.

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "model/part_kind.h"
#include "model/project.h"
#include "model/quantity.h"

namespace hedgerow {

/// The evaluated parameters of a project. Reports unknown names, and cycles with all their members.
class ParameterTable {
public:
    explicit ParameterTable(const std::vector<Parameter>& parameters);

    /// The value of a parameter by name. A parameter with a unit has that dimension.
    Result<Quantity> value(std::string_view name) const;
    ParameterLookup lookup() const;
    /// Why each faulty parameter has no value; empty when all are sound.
    std::vector<Error> errors() const;

private:
    Status inRange(const Parameter& parameter, double value) const;
    const Result<Quantity>& resolve(const std::string& name) const;
    Result<Quantity> evaluated(const Parameter& parameter) const;

    std::map<std::string, Parameter, std::less<>> parameters_;
    std::vector<std::string> duplicates_;
    mutable std::map<std::string, Result<Quantity>, std::less<>> known_;  ///< what is evaluated, or why it cannot be
};

/// The word for what is not there: no loss, no capacitance.
inline constexpr std::string_view noneWord = "none";

/// A typed text as a value of this kind, in SI, whatever its range; "none" where that can be typed.
Result<double> evaluateValue(const std::string& text, const ParameterKind& parameter, const ParameterLookup& lookup);

/// The value of one parameter of a part in SI, checked against its range.
/// Errors name the part and the field. @pre `kind` is the part's kind and `key` one of its numeric parameters.
Result<double> partValue(const Part& part, const PartKind& kind, std::string_view key, const ParameterLookup& lookup);
/// The word chosen for a parameter with choices.
Result<std::string> partChoice(const Part& part, const PartKind& kind, std::string_view key);

/// The text typed for a parameter that is one, or its default.
std::string textValue(const Part& part, const PartKind& kind, std::string_view key);

/// What the entry line understood: a part ready to be placed, or where the text is wrong.
struct Entry {
    const PartKind* kind = nullptr;
    TypedValues values;
    std::string understood;  ///< the values in words: "47 µH, winding resistance 12 mΩ"
    int rung = -1;           ///< -1: the one that the values need
};
/// Reads "l 47u dcr 12m": a word that finds the part, then its main values in order, then key-value pairs.
Result<Entry> readEntry(std::string_view typed, const Catalogue& catalogue, const ParameterLookup& lookup);
/// As readEntry, for a part that was already chosen from the matches.
Result<Entry> readEntryValues(std::string_view typed, const PartKind& kind, const ParameterLookup& lookup);

}  // namespace hedgerow

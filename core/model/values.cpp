#include "model/values.h"

#include <algorithm>
#include <cmath>
#include <set>

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

Result<double> evaluateValue(const std::string& text, const ParameterKind& parameter, const ParameterLookup& lookup) {
    if (parameter.none && trimmed(text) == noneWord) return *parameter.none;
    if (!parameter.anyUnit) return evaluateField(text, findUnit(parameter.unit).value_or(Unit{}), lookup);
    auto value = evaluate(text, lookup);
    if (!value) return value.error();
    return value->value;
}

ParameterTable::ParameterTable(const std::vector<Parameter>& parameters) {
    for (const Parameter& parameter : parameters)
        if (!parameters_.emplace(parameter.name, parameter).second) duplicates_.push_back(parameter.name);
}

Result<Quantity> ParameterTable::value(std::string_view name) const {
    const auto found = parameters_.find(name);
    if (found == parameters_.end())
        return Error{ErrorCode::name, fmt::format("there is no parameter '{}'", name), {}, {}, std::string(name)};
    const Result<Quantity>& known = resolve(found->first);
    if (known || known.error().message.starts_with("parameter")) return known;
    Error error = known.error();
    error.message = fmt::format("parameter {}: {}", name, error.message);
    return error;
}

ParameterLookup ParameterTable::lookup() const {
    return [this](std::string_view name) { return value(name); };
}

std::vector<Error> ParameterTable::errors() const {
    std::vector<Error> found;
    for (const std::string& name : duplicates_)
        found.push_back({ErrorCode::name, fmt::format("the parameter {} is defined twice", name), {}, {}, name});
    for (const auto& [name, parameter] : parameters_) {
        auto result = value(name);
        Status sound = result ? inRange(parameter, result->value) : Status(result.error());
        if (sound) continue;
        Error error = sound.error();
        error.field = name;
        found.push_back(std::move(error));
    }
    return found;
}

/// Whether a parameter lies between the bounds that the user gave it.
Status ParameterTable::inRange(const Parameter& parameter, double value) const {
    const Unit unit = findUnit(parameter.unit).value_or(Unit{});
    for (const std::string* typed : {&parameter.least, &parameter.most}) {
        if (typed->empty()) continue;
        const bool low = typed == &parameter.least;
        const auto bound = evaluateField(*typed, unit, lookup());
        if (!bound)
            return Error{bound.error().code, fmt::format("parameter {}: its {} value: {}", parameter.name,
                                                         low ? "least" : "greatest", bound.error().message)};
        if (low ? value < *bound : value > *bound)
            return Error{ErrorCode::range,
                         fmt::format("parameter {} is {}, but must be {} {}", parameter.name,
                                     formatQuantity(value, parameter.unit), low ? "at least" : "at most",
                                     formatQuantity(*bound, parameter.unit))};
    }
    return {};
}

/// A parameter whose own parameters are all known.
Result<Quantity> ParameterTable::evaluated(const Parameter& parameter) const {
    const auto unit = findUnit(parameter.unit);
    if (!unit)
        return Error{ErrorCode::unit, fmt::format("parameter {}: '{}' is not a unit", parameter.name, parameter.unit)};
    auto number = evaluateField(parameter.value, *unit, [this](std::string_view other) -> Result<Quantity> {
        if (const auto known = known_.find(other); known != known_.end()) return known->second;
        return Error{ErrorCode::name, fmt::format("there is no parameter '{}'", other), {}, {}, std::string(other)};
    });
    if (!number) return number.error();
    return Quantity{*number, unit->dimension};
}

/// What it needs comes before it, on a list of our own: chains may be as long as they like. @pre there is such a one
const Result<Quantity>& ParameterTable::resolve(const std::string& name) const {
    struct Wanted {
        const Parameter* parameter;
        std::vector<std::string> needs;
        std::size_t next = 0;
    };
    std::vector<Wanted> way;
    std::set<std::string, std::less<>> onWay;
    const auto want = [&](const Parameter& parameter) {
        way.push_back({&parameter, parametersIn(parameter.value)});
        onWay.insert(parameter.name);
    };
    if (!known_.contains(name)) want(parameters_.find(name)->second);
    while (!way.empty()) {
        Wanted& last = way.back();
        if (last.next < last.needs.size()) {
            const auto need = parameters_.find(last.needs[last.next++]);
            if (need == parameters_.end() || known_.contains(need->first)) continue;
            if (!onWay.contains(need->first)) {
                want(need->second);
                continue;
            }
            const auto start = std::find_if(way.begin(), way.end(),
                                            [&](const Wanted& wanted) { return wanted.parameter == &need->second; });
            constexpr std::ptrdiff_t mostNamed = 20;
            std::vector<std::string> circle;
            for (auto at = start; at != way.end() && at - start < mostNamed; ++at)
                circle.push_back(at->parameter->name);
            if (way.end() - start > mostNamed) circle.emplace_back("…");
            circle.push_back(need->first);
            const Error error{ErrorCode::name,
                              fmt::format("parameters define each other in a circle: {}", joined(circle, " → "))};
            for (auto at = start; at != way.end(); ++at) {
                known_.emplace(at->parameter->name, error);
                onWay.erase(at->parameter->name);
            }
            way.erase(start, way.end());
            continue;
        }
        known_.emplace(last.parameter->name, evaluated(*last.parameter));
        onWay.erase(last.parameter->name);
        way.pop_back();
    }
    return known_.find(name)->second;
}

namespace {

/// Says which character of a typed value is wrong.
std::string pointed(const Error& error) {
    return error.position > 0 ? fmt::format("{} (character {})", error.message, error.position + 1) : error.message;
}

Error about(Error error, const Part& part, const ParameterKind& parameter) {
    error.part = part.name;
    error.field = parameter.key;
    error.message = fmt::format("{}: {}: {}", part.name, parameter.label, pointed(error));
    return error;
}

std::string rangeText(const ParameterKind& p) {
    const bool low = std::isfinite(p.least), high = std::isfinite(p.most);
    const std::string least = formatQuantity(p.least, p.unit), most = formatQuantity(p.most, p.unit);
    if (low && high) return fmt::format("{} {} and at most {}", p.aboveLeast ? "above" : "at least", least, most);
    if (low) return fmt::format("{} {}", p.aboveLeast ? "above" : "at least", least);
    return fmt::format("at most {}", most);
}

Result<double> checkedValue(const std::string& text, const ParameterKind& parameter, const ParameterLookup& lookup) {
    auto value = evaluateValue(text, parameter, lookup);
    if (!value) return value;
    if (parameter.none && *value == *parameter.none) return value;
    const bool low = parameter.aboveLeast ? *value <= parameter.least : *value < parameter.least;
    if (low || *value > parameter.most)
        return Error{ErrorCode::range, fmt::format("{} is out of range, it must be {}",
                                                   formatQuantity(*value, parameter.unit), rangeText(parameter))};
    return value;
}

}  // namespace

Result<double> partValue(const Part& part, const PartKind& kind, std::string_view key, const ParameterLookup& lookup) {
    const ParameterKind& parameter = *kind.findParameter(key);
    const std::string* typed = part.values.find(key);
    const std::string& text = typed ? *typed : parameter.standard;
    if (text.empty()) return about({ErrorCode::range, "a value is needed"}, part, parameter);
    auto value = checkedValue(text, parameter, lookup);
    if (!value) return about(value.error(), part, parameter);
    return value;
}

Result<std::string> partChoice(const Part& part, const PartKind& kind, std::string_view key) {
    const ParameterKind& parameter = *kind.findParameter(key);
    const std::string* typed = part.values.find(key);
    const std::string& word = typed ? *typed : parameter.standard;
    if (std::find(parameter.choices.begin(), parameter.choices.end(), word) == parameter.choices.end())
        return about({ErrorCode::range, fmt::format("'{}' is not one of {}", word, listed(parameter.choices))}, part,
                     parameter);
    return word;
}

std::string textValue(const Part& part, const PartKind& kind, std::string_view key) {
    const std::string* typed = part.values.find(key);
    return typed ? *typed : kind.findParameter(key)->standard;
}

namespace {

/// Splits at blanks, but keeps "10 mH" together: a unit-like word after a number belongs to it.
std::vector<std::string> entryWords(std::string_view typed, const PartKind& kind) {
    std::vector<std::string> merged;
    for (std::string& word : words(typed)) {
        const bool afterNumber = !merged.empty() && evaluate(merged.back(), [](std::string_view) {
            return Quantity{1, {}};
        });
        const bool unitLike = afterNumber && !isdigit(static_cast<unsigned char>(word.front())) &&
                              !kind.findParameter(word) && !isIdentifier(merged.back()) && evaluate("1 " + word);
        if (unitLike)
            merged.back() += " " + word;
        else
            merged.push_back(std::move(word));
    }
    return merged;
}

Status takeValue(Entry& entry, const ParameterKind& parameter, const std::string& text, const ParameterLookup& lookup) {
    std::string shown;
    if (!parameter.choices.empty()) {
        if (std::find(parameter.choices.begin(), parameter.choices.end(), text) == parameter.choices.end())
            return Error{ErrorCode::range,
                         fmt::format("{}: '{}' is not one of {}", parameter.label, text, listed(parameter.choices)),
                         {},
                         {},
                         parameter.key};
        shown = text;
    } else if (parameter.text) {
        shown = text;
    } else {
        auto value = checkedValue(text, parameter, lookup);
        if (!value) {
            Error error = value.error();
            error.field = parameter.key;
            error.message = parameter.label + ": " + pointed(error);
            const bool bounded = std::isfinite(parameter.least) || std::isfinite(parameter.most);
            if (bounded && error.code != ErrorCode::range) error.message += "; it must be " + rangeText(parameter);
            return error;
        }
        shown = formatQuantity(*value, parameter.unit);
    }
    entry.values.set(parameter.key, text);
    entry.understood +=
        (entry.understood.empty() ? "" : ", ") + (parameter.shownOnSheet ? shown : parameter.label + " " + shown);
    return {};
}

}  // namespace

Result<Entry> readEntryValues(std::string_view typed, const PartKind& kind, const ParameterLookup& lookup) {
    Entry entry;
    entry.kind = &kind;
    const std::vector<std::string> given = entryWords(typed, kind);
    std::size_t position = 0;
    for (std::size_t i = 0; i < given.size(); ++i) {
        const ParameterKind* parameter = kind.findParameter(given[i]);
        if (parameter) {
            if (i + 1 >= given.size())
                return Error{ErrorCode::syntax,
                             fmt::format("{} needs a value after it", parameter->label),
                             {},
                             {},
                             parameter->key};
            if (auto taken = takeValue(entry, *parameter, given[++i], lookup); !taken) return taken.error();
            continue;
        }
        while (position < kind.parameters.size() && !kind.parameters[position].shownOnSheet) ++position;
        if (position >= kind.parameters.size())
            return Error{ErrorCode::name, fmt::format("{} has no value '{}'", kind.title, given[i])};
        if (auto taken = takeValue(entry, kind.parameters[position++], given[i], lookup); !taken) return taken.error();
    }
    return entry;
}

Result<Entry> readEntry(std::string_view typed, const Catalogue& catalogue, const ParameterLookup& lookup) {
    const std::string_view line = trimmed(typed);
    const std::size_t blank = line.find(' ');
    const std::string_view word = line.substr(0, blank);
    const auto matches = catalogue.search(word);
    if (word.empty() || matches.empty()) return Error{ErrorCode::name, fmt::format("no part is called '{}'", word)};
    return readEntryValues(blank == std::string_view::npos ? "" : line.substr(blank), *matches.front(), lookup);
}

}  // namespace hedgerow

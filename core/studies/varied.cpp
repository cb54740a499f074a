#include "studies/varied.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <numbers>
#include <numeric>
#include <random>

#include <fmt/format.h>

#include "base/text.h"
#include "model/modules.h"
#include "model/rung_rule.h"
#include "model/values.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr std::size_t mostBytes = std::size_t{64} << 20, mostCorners = 20, mostVaried = 1000;
constexpr std::size_t usualSearch = 200;
constexpr std::string_view allKept = "all kept", minimiseWord = "minimise ", maximiseWord = "maximise ";

Error fault(std::string_view line, std::string message) {
    return {ErrorCode::syntax, fmt::format("\"{}\": {}", line, message), {}, {}, "varied"};
}

std::vector<std::string> piecesOf(std::string_view text, char between) {
    std::vector<std::string> pieces;
    for (std::size_t from = 0; from <= text.size();) {
        // A comma within parentheses separates the arguments of a function.
        int depth = 0;
        std::size_t to = from;
        for (; to < text.size() && (text[to] != between || depth > 0); ++to) depth += (text[to] == '(') - (text[to] == ')');
        if (const auto piece = trimmed(text.substr(from, to - from)); !piece.empty()) pieces.emplace_back(piece);
        from = to + 1;
    }
    return pieces;
}

/// The shortest text that is read as the same number.
std::string numberText(double value) { return fmt::format("{}", value); }

/// The unit of a target; nothing where the project has no such thing, or only a module has.
std::optional<Unit> unitOf(const Project& project, std::string_view target) {
    for (const Parameter& parameter : project.parameters)
        if (parameter.name == target) return findUnit(parameter.unit);
    const std::size_t dot = target.find('.');
    if (dot == std::string_view::npos) return std::nullopt;
    for (const Part& part : project.sheets.front().parts) {
        if (part.name != target.substr(0, dot)) continue;
        const PartKind* const kind = partLibrary().catalogue().find(part.kind);
        const ParameterKind* const parameter = kind ? kind->findParameter(target.substr(dot + 1)) : nullptr;
        if (parameter) return findUnit(parameter->unit);
    }
    return std::nullopt;
}

bool isWord(std::string_view target) { return target == "rungs" || target == "plan" || target == "scene"; }

/// The part of a path such as "X1.S1", from a sheet down; nullptr where there is none.
const Part* findPart(const Project& project, const Sheet& sheet, std::string_view path) {
    const std::size_t dot = path.find('.');
    for (const Part& part : sheet.parts) {
        if (part.name != path.substr(0, dot)) continue;
        if (dot == std::string_view::npos) return &part;
        const Sheet* const module = project.findSheet(moduleOf(part.kind));
        return module ? findPart(project, *module, path.substr(dot + 1)) : nullptr;
    }
    return nullptr;
}

/// What can stand in the place of a part: kept parts of its kind, or modules of the project, by name.
std::vector<std::string> substitutesOf(const Project& project, const Part& part) {
    std::vector<std::string> names;
    if (moduleOf(part.kind).empty()) {
        for (const Part& kept : project.kept)
            if (kept.kind == part.kind) names.push_back(kept.name);
        return names;
    }
    for (std::size_t i = 1; i < project.sheets.size(); ++i) names.push_back(project.sheets[i].name);
    return names;
}

/// Preferred values of a decade (IEC 60063): E3 to E24 by rounding of the older rows as they are tabled, the finer ones by ratio.
std::vector<double> preferred(int row) {
    static constexpr std::array e24{1.0, 1.1, 1.2, 1.3, 1.5, 1.6, 1.8, 2.0, 2.2, 2.4, 2.7, 3.0,
                                    3.3, 3.6, 3.9, 4.3, 4.7, 5.1, 5.6, 6.2, 6.8, 7.5, 8.2, 9.1};
    std::vector<double> values;
    if (row <= 24) {
        for (std::size_t i = 0; i < e24.size(); i += 24 / static_cast<std::size_t>(row)) values.push_back(e24[i]);
        return values;
    }
    for (int i = 0; i < row; ++i) values.push_back(std::round(100 * std::pow(10.0, static_cast<double>(i) / row)) / 100);
    return values;
}

std::uint64_t mixed(std::uint64_t x) {
    // splitmix64: S. Vigna's public-domain mixing function.
    x += 0x9e3779b97f4a7c15ull;
    x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9ull;
    x = (x ^ (x >> 27)) * 0x94d049bb133111ebull;
    return x ^ (x >> 31);
}
double uniformOf(std::uint64_t seed, std::uint64_t axis, std::uint64_t index) {
    const std::uint64_t bits = mixed(mixed(seed) ^ mixed(axis * 0x1000003ull + 17) ^ mixed(index + 0x5bd1e995ull));
    return (static_cast<double>(bits >> 11) + 0.5) * 0x1p-53;
}

/// Primitive polynomials and first direction numbers of the Sobol sequence: S. Joe and F. Y. Kuo, "Constructing Sobol
/// sequences with better two-dimensional projections", SIAM J. Sci. Comput. 30 (2008), the first rows of their table.
struct Direction {
    unsigned degree, coefficients;
    std::array<std::uint32_t, 6> first;
};
constexpr std::array directions{
    Direction{1, 0, {1}},           Direction{2, 1, {1, 3}},           Direction{3, 1, {1, 3, 1}},
    Direction{3, 2, {1, 1, 1}},     Direction{4, 1, {1, 1, 3, 3}},     Direction{4, 4, {1, 3, 5, 13}},
    Direction{5, 2, {1, 1, 5, 5, 17}}, Direction{5, 4, {1, 1, 5, 5, 5}}, Direction{5, 7, {1, 1, 7, 11, 19}},
    Direction{5, 11, {1, 1, 5, 1, 1}}, Direction{5, 13, {1, 1, 1, 3, 11}}, Direction{5, 14, {1, 3, 5, 5, 31}},
    Direction{6, 1, {1, 3, 3, 9, 7, 49}}, Direction{6, 13, {1, 1, 1, 15, 21, 21}}, Direction{6, 16, {1, 3, 1, 13, 27, 49}}};
constexpr std::size_t mostSobol = directions.size() + 1;

/// Part `index` of the sequence in a dimension, by its Gray code; shifted by a number of the seed, modulo 1.
double sobol(std::size_t dimension, std::uint64_t index, double shift) {
    constexpr unsigned bits = 32;
    std::array<std::uint32_t, bits> v{};
    if (dimension == 0) {
        for (unsigned i = 0; i < bits; ++i) v[i] = 1u << (31 - i);
    } else {
        const Direction& d = directions[dimension - 1];
        for (unsigned i = 0; i < bits; ++i) {
            if (i < d.degree) {
                v[i] = d.first[i] << (31 - i);
                continue;
            }
            v[i] = v[i - d.degree] ^ (v[i - d.degree] >> d.degree);
            for (unsigned k = 1; k < d.degree; ++k) v[i] ^= (((d.coefficients >> (d.degree - 1 - k)) & 1u) * v[i - k]);
        }
    }
    const std::uint64_t gray = index ^ (index >> 1);
    std::uint32_t x = 0;
    for (unsigned i = 0; i < bits; ++i)
        if ((gray >> i) & 1u) x ^= v[i];
    const double value = (static_cast<double>(x) + 0.5) * 0x1p-32 + shift;
    return value - std::floor(value);
}

/// Reads one line.
class LineReader {
public:
    LineReader(std::string_view line, const Project& project)
        : line_(line), project_(project), parameters_(project.parameters) {}

    Result<Varied> read() {
        const std::size_t colon = line_.find(':');
        if (colon == std::string_view::npos) return fault(line_, "write what varies, a colon, and its values: C2.c: 22u, 47u, 100u");
        varied_.target = trimmed(line_.substr(0, colon));
        const std::string_view rest = trimmed(line_.substr(colon + 1));
        if (varied_.target.empty()) return fault(line_, "say what varies: a parameter, a value of a part as C2.c, rungs, plan or scene");
        if (rest.empty()) return fault(line_, "its values are missing");
        if (isWord(varied_.target)) return words(rest);
        const bool parameter = std::any_of(project_.parameters.begin(), project_.parameters.end(),
                                           [&](const Parameter& one) { return one.name == varied_.target; });
        if (const Part* const part = parameter ? nullptr : findPart(project_, project_.sheets.front(), varied_.target))
            return substitutes(*part, rest);
        const auto unit = unitOf(project_, varied_.target);
        if (!unit && varied_.target.find('.') == std::string::npos)
            return fault(line_, fmt::format("the project has no parameter '{}'; a value of a part is written C2.c", varied_.target));
        if (unit) unit_ = *unit, varied_.unit = unit->symbol;
        if (rest.starts_with("normal ")) return normal(rest.substr(7));
        if (rest.starts_with("measured ")) return measured(trimmed(rest.substr(9)));
        if (rest.front() == 'E' && rest.find(" from ") != std::string_view::npos) return row(rest);
        if (rest.find(" to ") != std::string_view::npos) return range(rest);
        const std::string_view sign = rest.find("±") != std::string_view::npos ? "±" : "+-";
        if (const std::size_t at = rest.find(sign); at != std::string_view::npos)
            return around(trimmed(rest.substr(0, at)), trimmed(rest.substr(at + sign.size())));
        varied_.texts = piecesOf(rest, ',');
        if (varied_.texts.empty()) return fault(line_, "its values are missing");
        return varied_;
    }

private:
    Result<double> number(std::string_view text) {
        const auto value = evaluateField(text, unit_, parameters_.lookup());
        if (!value) return fault(line_, value.error().message);
        if (!std::isfinite(*value)) return fault(line_, fmt::format("'{}' is no number", text));
        return *value;
    }
    /// A number, or a part of another one: "20 %".
    Result<double> spread(std::string_view text, double of) {
        if (!text.ends_with('%')) return number(text);
        const auto value = evaluateField(trimmed(text.substr(0, text.size() - 1)), Unit{}, parameters_.lookup());
        if (!value) return fault(line_, value.error().message);
        return std::abs(of) * *value / 100;
    }
    Result<std::size_t> count(std::string_view text, std::size_t least) {
        const auto value = numberIn(trimmed(text));
        if (!value || *value != std::floor(*value) || *value < static_cast<double>(least) ||
            *value > static_cast<double>(mostStudyRuns))
            return fault(line_, fmt::format("'{}' is no number of values; write {} or more", trimmed(text), least));
        return static_cast<std::size_t>(*value);
    }

    Result<Varied> words(std::string_view rest) {
        varied_.texts = piecesOf(rest, ';');
        for (const std::string& text : varied_.texts) {
            if (varied_.target == "plan" && !project_.findPlan(text))
                return fault(line_, fmt::format("the project has no plan '{}'; several are separated by ;", text));
            if (varied_.target == "scene" && !project_.findScene(text))
                return fault(line_, fmt::format("the project has no scene '{}'; several are separated by ;", text));
            if (varied_.target == "rungs")
                if (const auto sound = checkRungRule(text, project_); !sound) return fault(line_, sound.error().message);
        }
        if (varied_.texts.empty()) return fault(line_, "its values are missing");
        return varied_;
    }
    Result<Varied> substitutes(const Part& part, std::string_view rest) {
        const bool module = !moduleOf(part.kind).empty();
        const std::vector<std::string> known = substitutesOf(project_, part);
        if (rest == allKept) {
            if (module) return fault(line_, fmt::format("'{}' is a module: name modules of the project, separated by ;", part.name));
            varied_.texts = known;
        } else {
            varied_.texts = piecesOf(rest, ';');
        }
        for (const std::string& text : varied_.texts)
            if (std::find(known.begin(), known.end(), text) == known.end())
                return fault(line_, module ? fmt::format("the project has no module '{}'; several are separated by ;", text)
                                           : fmt::format("no kept part of the kind of '{}' is called '{}'; several are separated by ;", part.name, text));
        if (varied_.texts.empty())
            return fault(line_, known.empty() ? fmt::format("the project has no kept part of the kind of '{}'", part.name) : "its values are missing");
        return varied_;
    }
    static Status checkRungRule(const std::string& text, const Project& project) {
        FlatProject flat = flattened(project, partLibrary().catalogue());
        if (auto applied = applyRungRule(text, flat.project, partLibrary().catalogue()); !applied) return applied.error();
        return {};
    }

    Result<Varied> range(std::string_view rest) {
        const std::size_t to = rest.find(" to ");
        std::string_view high = rest.substr(to + 4);
        std::size_t steps = 0;
        double perDecade = 0;
        if (const std::size_t comma = high.rfind(','); comma != std::string_view::npos && high.ends_with(" a decade")) {
            const std::string_view text = trimmed(high.substr(comma + 1, high.size() - comma - 1 - std::string_view(" a decade").size()));
            const auto n = count(text, 1);
            if (!n) return n.error();
            perDecade = static_cast<double>(*n);
            high = high.substr(0, comma);
        } else if (const std::size_t in = high.rfind(" in "); in != std::string_view::npos) {
            std::string_view text = high.substr(in + 4);
            if (const std::size_t word = text.find("by ratio"); word != std::string_view::npos)
                varied_.byRatio = true, text = text.substr(0, word);
            const auto n = count(text, 2);
            if (!n) return n.error();
            steps = *n;
            high = high.substr(0, in);
        }
        const auto from = number(trimmed(rest.substr(0, to))), until = number(trimmed(high));
        if (!from) return from.error();
        if (!until) return until.error();
        varied_.sort = Varied::Sort::range;
        varied_.low = *from, varied_.high = *until;
        if (perDecade > 0) varied_.byRatio = true;
        if (varied_.byRatio && !(*from > 0 && *until > 0)) return fault(line_, "what is spaced by ratio lies above 0");
        if (*from == *until) return fault(line_, "both ends are alike");
        if (perDecade > 0) {
            const double decades = std::abs(std::log10(*until / *from));
            if (decades * perDecade > static_cast<double>(mostStudyRuns)) return fault(line_, "these are too many values");
            steps = static_cast<std::size_t>(std::floor(decades * perDecade + 1e-9)) + 1;
            const double sign = *until > *from ? 1 : -1;
            for (std::size_t i = 0; i < steps; ++i)
                varied_.texts.push_back(numberText(*from * std::pow(10.0, sign * static_cast<double>(i) / perDecade)));
            return varied_;
        }
        for (std::size_t i = 0; i < steps; ++i) {
            const double part = static_cast<double>(i) / static_cast<double>(steps - 1);
            varied_.texts.push_back(i == 0 ? numberText(*from) : i + 1 == steps ? numberText(*until) : numberText(between(part)));
        }
        return varied_;
    }
    double between(double part) const {
        return varied_.byRatio ? varied_.low * std::pow(varied_.high / varied_.low, part)
                               : varied_.low + part * (varied_.high - varied_.low);
    }

    Result<Varied> row(std::string_view rest) {
        const std::size_t from = rest.find(" from "), to = rest.find(" to ");
        const auto which = numberIn(trimmed(rest.substr(1, from - 1)));
        constexpr std::array rows{3.0, 6.0, 12.0, 24.0, 48.0, 96.0};
        if (!which || std::find(rows.begin(), rows.end(), *which) == rows.end())
            return fault(line_, "the rows of preferred values are E3, E6, E12, E24, E48 and E96");
        if (to == std::string_view::npos || to < from) return fault(line_, "write E12 from 10u to 100u");
        const auto low = number(trimmed(rest.substr(from + 6, to - from - 6))), high = number(trimmed(rest.substr(to + 4)));
        if (!low) return low.error();
        if (!high) return high.error();
        if (!(*low > 0 && *high >= *low)) return fault(line_, "preferred values lie above 0, the least first");
        for (int decade = static_cast<int>(std::floor(std::log10(*low))) - 1; std::pow(10.0, decade) <= *high; ++decade)
            for (const double value : preferred(static_cast<int>(*which))) {
                const double at = value * std::pow(10.0, decade);
                if (at >= *low * (1 - 1e-9) && at <= *high * (1 + 1e-9)) varied_.texts.push_back(fmt::format("{:.6g}", at));
            }
        if (varied_.texts.empty()) return fault(line_, "no preferred value lies there");
        return varied_;
    }

    Result<Varied> around(std::string_view middle, std::string_view by) {
        const auto value = number(middle);
        if (!value) return value.error();
        const auto wide = spread(by, *value);
        if (!wide) return wide.error();
        if (!(*wide > 0)) return fault(line_, "the limits lie apart by more than 0");
        varied_.sort = Varied::Sort::uniform;
        varied_.low = *value - *wide, varied_.high = *value + *wide;
        return varied_;
    }

    Result<Varied> normal(std::string_view rest) {
        varied_.sort = Varied::Sort::normal;
        bool first = true;
        std::string_view within, deviation;
        for (const std::string& piece : piecesOf(rest, ',')) {
            if (first) {
                const auto mean = number(piece);
                if (!mean) return mean.error();
                varied_.mean = *mean;
                first = false;
            } else if (piece.starts_with("deviation ")) {
                const auto value = spread(trimmed(std::string_view(piece).substr(10)), varied_.mean);
                if (!value) return value.error();
                varied_.deviation = *value;
            } else if (piece.starts_with("within ")) {
                const auto value = spread(trimmed(std::string_view(piece).substr(7)), varied_.mean);
                if (!value) return value.error();
                varied_.low = varied_.mean - *value, varied_.high = varied_.mean + *value;
                if (!(*value > 0)) return fault(line_, "it is cut at more than 0 from its mean");
            } else {
                return fault(line_, fmt::format("'{}' is not understood: normal 22u, deviation 2 %, within 5 %", piece));
            }
        }
        if (first || !(varied_.deviation > 0)) return fault(line_, "write its mean and its deviation: normal 22u, deviation 2 %");
        if (varied_.low == varied_.high) varied_.low = -INFINITY, varied_.high = INFINITY;
        return varied_;
    }

    Result<Varied> measured(std::string_view file) {
        auto text = project_.folder.read(std::string(file), mostBytes);
        if (!text) return fault(line_, text.error().message);
        varied_.sort = Varied::Sort::measured;
        for (const std::string& piece : piecesOf(*text, '\n')) {
            const std::string_view cell = trimmed(std::string_view(piece).substr(0, piece.find_first_of(",;\t")));
            if (const auto value = numberIn(cell); value && std::isfinite(*value)) varied_.samples.push_back(*value);
        }
        if (varied_.samples.size() < 2) return fault(line_, fmt::format("{} has no column of numbers", file));
        std::sort(varied_.samples.begin(), varied_.samples.end());
        return varied_;
    }

    std::string_view line_;
    const Project& project_;
    ParameterTable parameters_;
    Varied varied_;
    Unit unit_;
};

Result<std::vector<Varied>> readTable(std::string_view line, const Project& project) {
    const std::string file(trimmed(line.substr(6)));
    const auto text = project.folder.read(file, mostBytes);
    if (!text) return fault(line, text.error().message);
    std::vector<Varied> columns;
    std::size_t row = 0;
    for (std::string& piece : piecesOf(*text, '\n')) {
        if (piece.ends_with('\r')) piece.pop_back();
        if (piece.starts_with('#')) continue;
        const std::vector<std::string> cells = piecesOf(piece, ',');
        if (row++ == 0) {
            for (const std::string& cell : cells) {
                if (!isWord(cell) && cell.find('.') == std::string::npos && !unitOf(project, cell))
                    return fault(line, fmt::format("{}: the project has no parameter '{}'", file, cell));
                columns.push_back({.target = cell});
                if (const auto unit = unitOf(project, cell)) columns.back().unit = unit->symbol;
            }
            continue;
        }
        if (cells.size() != columns.size())
            return fault(line, fmt::format("{}: row {} has {} values, not {}", file, row, cells.size(), columns.size()));
        for (std::size_t i = 0; i < cells.size(); ++i) columns[i].texts.push_back(cells[i]);
    }
    if (columns.empty() || columns.front().texts.empty()) return fault(line, fmt::format("{} has no rows", file));
    return columns;
}

/// "tolerances", "tolerances of L1, C2, normal": each value with a tolerance on its card.
Result<std::vector<Varied>> readTolerances(std::string_view line, const Project& project) {
    std::vector<std::string> names = piecesOf(line, ',');
    const bool normal = names.size() > 1 && names.back() == "normal";
    if (normal) names.pop_back();
    const bool some = names.front().starts_with("tolerances of ");
    if (some) names.front() = trimmed(std::string_view(names.front()).substr(14));
    if (!some && (names.size() > 1 || names.front() != "tolerances"))
        return fault(line, "write: tolerances; or: tolerances of L1, C2, normal");
    const FlatProject flat = flattened(project, partLibrary().catalogue());
    const ParameterTable parameters(flat.project.parameters);
    std::vector<Varied> all;
    for (const Part& part : flat.project.sheet().parts) {
        const auto named = std::find(names.begin(), names.end(), part.name);
        if (some && named == names.end()) continue;
        const PartKind* const kind = partLibrary().catalogue().find(part.kind);
        const ParameterKind* const tolerance = kind ? kind->findParameter("tolerance") : nullptr;
        if (!tolerance || !part.values.find("tolerance")) {
            if (some) return fault(line, fmt::format("{} has no tolerance on its card", part.name));
            continue;
        }
        if (some) names.erase(named);
        const auto wide = partValue(part, *kind, "tolerance", parameters.lookup());
        if (!wide) return fault(line, wide.error().text());
        const ParameterKind& value = kind->parameters.front();
        const auto mean = partValue(part, *kind, value.key, parameters.lookup());
        if (!mean) return fault(line, mean.error().text());
        Varied varied{.target = part.name + "." + value.key, .sort = normal ? Varied::Sort::normal : Varied::Sort::uniform};
        varied.low = *mean * (1 - *wide), varied.high = *mean * (1 + *wide);
        varied.mean = *mean, varied.deviation = std::abs(*mean) * *wide / 3;
        varied.unit = value.unit;
        all.push_back(std::move(varied));
    }
    if (some && !names.empty()) return fault(line, fmt::format("the circuit has no part '{}'", names.front()));
    if (all.empty()) return fault(line, "no part has a tolerance on its card");
    return all;
}

}  // namespace

double normalQuantile(double u) {
    // Newton's method on the distribution function; its tails by symmetry.
    if (u > 0.5) return -normalQuantile(1 - u);
    double x = u < 0.02 ? -std::sqrt(-2 * std::log(u)) : 2.5 * (u - 0.5);
    for (int k = 0; k < 60; ++k) {
        const double below = 0.5 * std::erfc(-x / std::numbers::sqrt2);
        const double density = std::exp(-x * x / 2) / std::sqrt(2 * std::numbers::pi);
        // Of the logarithm: it is nearly straight in the tail.
        const double step = below * (std::log(below) - std::log(u)) / density;
        x -= step;
        if (std::abs(step) < 1e-14 * (1 + std::abs(x))) break;
    }
    return x;
}

bool Varied::numeric() const {
    if (sort != Sort::list) return true;
    if (isWord(target)) return false;
    return std::all_of(texts.begin(), texts.end(), [](const std::string& text) { return evaluate(text).operator bool(); });
}

std::string Varied::at(double u) const {
    switch (sort) {
        case Sort::list: return texts[std::min(texts.size() - 1, static_cast<std::size_t>(u * static_cast<double>(texts.size())))];
        case Sort::range:
            return numberText(byRatio ? low * std::pow(high / low, u) : low + u * (high - low));
        case Sort::uniform: return numberText(low + u * (high - low));
        case Sort::measured: {
            const double place = u * static_cast<double>(samples.size() - 1);
            const auto before = std::min(samples.size() - 2, static_cast<std::size_t>(place));
            return numberText(samples[before] + (place - static_cast<double>(before)) * (samples[before + 1] - samples[before]));
        }
        case Sort::normal: {
            // What lies outside of the cut is not drawn: the distribution between is stretched to all of u.
            const auto below = [&](double x) { return 0.5 * std::erfc(-(x - mean) / deviation / std::numbers::sqrt2); };
            const double from = std::isfinite(low) ? below(low) : 0, to = std::isfinite(high) ? below(high) : 1;
            const double part = std::clamp(from + u * (to - from), 1e-300, 1 - 1e-16);
            return numberText(std::clamp(mean + deviation * normalQuantile(part), low, high));
        }
    }
    return {};
}

double Varied::placeOf(double value) const {
    const auto part = [](double from, double to, double x) { return std::clamp((x - from) / (to - from), 0.0, 1.0); };
    if (sort == Sort::list || (!texts.empty() && sort != Sort::range)) {
        std::size_t nearest = 0;
        double least = INFINITY;
        for (std::size_t i = 0; i < texts.size(); ++i)
            if (const auto one = evaluate(texts[i]); one && std::abs(one->value - value) < least) least = std::abs(one->value - value), nearest = i;
        return texts.size() < 2 ? 0.5 : static_cast<double>(nearest) / static_cast<double>(texts.size() - 1);
    }
    if (sort == Sort::measured) return part(samples.front(), samples.back(), value);
    if (sort == Sort::range && byRatio) return value > 0 ? part(std::log(low), std::log(high), std::log(value)) : 0.0;
    return part(low, high, value);
}

std::optional<double> presentValue(const Project& project, const std::string& target) {
    const FlatProject flat = flattened(project, partLibrary().catalogue());
    const ParameterTable parameters(flat.project.parameters);
    if (const auto value = parameters.value(target)) return value->value;
    const std::size_t dot = target.rfind('.');
    if (dot == std::string::npos) return std::nullopt;
    for (const Part& part : flat.project.sheet().parts) {
        if (part.name != target.substr(0, dot)) continue;
        const PartKind* const kind = partLibrary().catalogue().find(part.kind);
        const ParameterKind* const known = kind ? kind->findParameter(target.substr(dot + 1)) : nullptr;
        if (!known || known->text || !known->choices.empty()) return std::nullopt;
        const auto value = partValue(part, *kind, known->key, parameters.lookup());
        return value ? std::optional(*value) : std::nullopt;
    }
    return std::nullopt;
}

Result<VariedSet> readVaried(const std::vector<std::string>& lines, const Project& project) {
    VariedSet set;
    std::vector<std::pair<std::string, std::string>> correlated;
    for (const std::string& raw : lines) {
        const std::string_view line = trimmed(raw);
        if (line.empty()) continue;
        if (line.starts_with("correlation of ")) {
            correlated.emplace_back(line, "");
            continue;
        }
        if (line == "tolerances" || line.starts_with("tolerances ") || line.starts_with("tolerances,")) {
            auto toleranced = readTolerances(line, project);
            if (!toleranced) return toleranced.error();
            for (Varied& one : *toleranced) set.all.push_back(std::move(one));
            continue;
        }
        if (line.starts_with("table ")) {
            auto columns = readTable(line, project);
            if (!columns) return columns.error();
            set.table = true;
            for (Varied& column : *columns) set.all.push_back(std::move(column));
            continue;
        }
        auto varied = LineReader(line, project).read();
        if (!varied) return varied.error();
        set.all.push_back(std::move(*varied));
    }
    for (std::size_t i = 0; i < set.all.size(); ++i)
        for (std::size_t k = 0; k < i; ++k)
            if (set.all[i].target == set.all[k].target)
                return Error{ErrorCode::name, fmt::format("'{}' varies twice", set.all[i].target), {}, {}, "varied"};
    if (set.all.size() > mostVaried)
        return Error{ErrorCode::range, fmt::format("more than {} things vary", mostVaried), {}, {}, "varied"};
    for (const auto& [line, unused] : correlated) {
        const std::string_view text = std::string_view(line).substr(15);
        const std::size_t comma = text.find(" and "), colon = text.rfind(':');
        if (comma == std::string_view::npos || colon == std::string_view::npos || colon < comma)
            return fault(line, "write: correlation of L1.l and L2.l: 0.8");
        const auto indexOf = [&](std::string_view name) {
            std::size_t i = 0;
            while (i < set.all.size() && set.all[i].target != name) ++i;
            return i;
        };
        VariedSet::Correlation one{.a = indexOf(trimmed(text.substr(0, comma))),
                                   .b = indexOf(trimmed(text.substr(comma + 5, colon - comma - 5)))};
        if (one.a == set.all.size() || one.b == set.all.size() || one.a == one.b)
            return fault(line, "name two different things that vary");
        const auto value = numberIn(trimmed(text.substr(colon + 1)));
        if (!value || !(std::abs(*value) < 1)) return fault(line, "a correlation lies between -1 and 1");
        one.value = *value;
        set.correlations.push_back(one);
    }
    return set;
}

Result<Sampling> readSampling(std::string_view text) {
    text = trimmed(text);
    const Error wrong{ErrorCode::syntax,
                      fmt::format("'{}' does not say which runs: grid, rows, corners, random 200, latin 200, sobol 256, minimise losses", text),
                      {}, {}, "runs"};
    if (text.empty() || text == "grid") return Sampling{};
    if (text == "rows") return Sampling{.sort = Sampling::Sort::rows};
    if (text == "corners") return Sampling{.sort = Sampling::Sort::corners};
    const auto countIn = [](std::string_view digits) -> std::optional<std::size_t> {
        const auto count = numberIn(trimmed(digits));
        if (!count || *count != std::floor(*count) || *count < 1 || *count > static_cast<double>(mostStudyRuns)) return std::nullopt;
        return static_cast<std::size_t>(*count);
    };
    if (text.starts_with(minimiseWord) || text.starts_with(maximiseWord)) {
        Sampling sampling{.sort = Sampling::Sort::search, .count = usualSearch};
        sampling.search.most = text.starts_with(maximiseWord);
        std::vector<std::string> pieces = piecesOf(text.substr(minimiseWord.size()), ',');
        if (pieces.empty()) return wrong;
        sampling.search.objective = pieces.front();
        for (std::size_t i = 1; i < pieces.size(); ++i) {
            const std::string& piece = pieces[i];
            if (piece == "globally")
                sampling.search.way = Sampling::Search::Way::global;
            else if (piece == "by gradient")
                sampling.search.way = Sampling::Search::Way::gradient;
            else if (const auto count = piece.ends_with(" runs") ? countIn(std::string_view(piece).substr(0, piece.size() - 5)) : std::nullopt)
                sampling.count = *count;
            else
                return Error{ErrorCode::syntax,
                             fmt::format("'{}' is not understood: minimise losses + fsw / 1M, 300 runs, globally (or: by gradient)", piece), {},
                             {}, "runs"};
        }
        return sampling;
    }
    for (const auto& [word, sort] : {std::pair<std::string_view, Sampling::Sort>{"random ", Sampling::Sort::random},
                                     {"latin ", Sampling::Sort::latin}, {"sobol ", Sampling::Sort::sobol}}) {
        if (!text.starts_with(word)) continue;
        const auto count = countIn(text.substr(word.size()));
        if (!count) return wrong;
        return Sampling{.sort = sort, .count = *count};
    }
    return wrong;
}

std::string samplingText(const Sampling& sampling) {
    switch (sampling.sort) {
        case Sampling::Sort::grid: return "grid";
        case Sampling::Sort::rows: return "rows";
        case Sampling::Sort::corners: return "corners";
        case Sampling::Sort::random: return fmt::format("random {}", sampling.count);
        case Sampling::Sort::latin: return fmt::format("latin {}", sampling.count);
        case Sampling::Sort::sobol: return fmt::format("sobol {}", sampling.count);
        case Sampling::Sort::search: break;
    }
    using Way = Sampling::Search::Way;
    const Sampling::Search& search = sampling.search;
    return fmt::format("{}{}{}{}", search.most ? maximiseWord : minimiseWord, search.objective,
                       sampling.count == usualSearch ? "" : fmt::format(", {} runs", sampling.count),
                       search.way == Way::global ? ", globally" : search.way == Way::gradient ? ", by gradient" : "");
}

Result<StudyPoints> StudyPoints::make(VariedSet set, const Sampling& sampling, std::uint64_t seed) {
    const auto wrong = [](std::string message) { return Error{ErrorCode::range, std::move(message), {}, {}, "runs"}; };
    StudyPoints points;
    points.sampling_ = sampling, points.seed_ = seed;
    if (set.all.empty()) return Error{ErrorCode::range, "nothing varies: write C2.c: 22u, 47u, 100u", {}, {}, "varied"};
    const bool drawn = sampling.sort == Sampling::Sort::random || sampling.sort == Sampling::Sort::latin ||
                       sampling.sort == Sampling::Sort::sobol;
    const bool searched = sampling.sort == Sampling::Sort::search;
    if (set.table && !searched) points.sampling_.sort = Sampling::Sort::rows;
    const Sampling::Sort sort = points.sampling_.sort;
    if (searched)
        for (const Varied& one : set.all)
            if (!one.numeric() || (one.sort == Varied::Sort::normal && !std::isfinite(one.low)))
                return Error{ErrorCode::range, fmt::format("'{}' has no range to be searched: write 10u to 100u, or E12 from 10u to 100u",
                                                           one.target), {}, {}, "varied"};
    if (!drawn && !set.correlations.empty()) return wrong("correlations are of random runs: random 200");
    if (!set.correlations.empty() && sort != Sampling::Sort::random) return wrong("correlated values are drawn with: random 200");
    const auto levels = [](const Varied& varied) { return varied.texts.size(); };
    if (sort == Sampling::Sort::grid || sort == Sampling::Sort::rows) {
        std::size_t all = sort == Sampling::Sort::grid ? 1 : levels(set.all.front());
        for (const Varied& varied : set.all) {
            if (levels(varied) == 0)
                return wrong(fmt::format("'{}' has no single values: say how many (\"in 10\", \"3 a decade\"), or how many runs are drawn "
                                         "(random 200)", varied.target));
            if (sort == Sampling::Sort::rows) {
                if (levels(varied) != all)
                    return wrong(fmt::format("in rows all lists are as long: '{}' has {} values, '{}' has {}", set.all.front().target,
                                             all, varied.target, levels(varied)));
                continue;
            }
            if (all > mostStudyRuns / levels(varied)) return wrong(fmt::format("this grid has more than {} runs", mostStudyRuns));
            all *= levels(varied);
        }
        points.size_ = all;
    } else if (sort == Sampling::Sort::corners) {
        if (set.all.size() > mostCorners) return wrong(fmt::format("corners are of up to {} things", mostCorners));
        for (const Varied& varied : set.all)
            if (varied.sort == Varied::Sort::normal && !std::isfinite(varied.low))
                return wrong(fmt::format("'{}' has no corners: say where it is cut (within 5 %)", varied.target));
        points.size_ = std::size_t{1} << set.all.size();
    } else {
        points.size_ = sampling.count;
        if (sort == Sampling::Sort::sobol && set.all.size() > mostSobol)
            return wrong(fmt::format("Sobol points are of up to {} things; take latin", mostSobol));
    }
    if (points.sampling_.sort == Sampling::Sort::latin && drawn) {
        std::mt19937_64 random(seed);
        for (std::size_t i = 0; i < set.all.size(); ++i) {
            std::vector<std::uint32_t> order(points.size_);
            std::iota(order.begin(), order.end(), 0u);
            std::shuffle(order.begin(), order.end(), random);
            points.strata_.push_back(std::move(order));
        }
    }
    if (!set.correlations.empty()) {
        // Correlated normal numbers by the factor of their matrix (Cholesky), each then to its own distribution.
        const std::size_t n = set.all.size();
        std::vector<double> matrix(n * n, 0.0);
        for (std::size_t i = 0; i < n; ++i) matrix[i * n + i] = 1;
        for (const auto& one : set.correlations) matrix[one.a * n + one.b] = matrix[one.b * n + one.a] = one.value;
        points.factor_.assign(n * n, 0.0);
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t k = 0; k <= i; ++k) {
                double sum = matrix[i * n + k];
                for (std::size_t j = 0; j < k; ++j) sum -= points.factor_[i * n + j] * points.factor_[k * n + j];
                if (i == k && !(sum > 1e-12)) return wrong("no distribution has all these correlations");
                points.factor_[i * n + k] = i == k ? std::sqrt(sum) : sum / points.factor_[k * n + k];
            }
    }
    points.set_ = std::move(set);
    return points;
}

double StudyPoints::part(std::size_t axis, std::size_t index) const {
    if (sampling_.sort == Sampling::Sort::sobol) return sobol(axis, index, seed_ == 1 ? 0.0 : uniformOf(seed_, axis, 0));
    const double u = uniformOf(seed_, axis, index);
    if (sampling_.sort == Sampling::Sort::latin)
        return (static_cast<double>(strata_[axis][index]) + u) / static_cast<double>(size_);
    if (factor_.empty()) return u;
    const std::size_t n = set_.all.size();
    double normal = 0;
    for (std::size_t k = 0; k <= axis; ++k) normal += factor_[axis * n + k] * normalQuantile(uniformOf(seed_, k, index));
    return std::min(0.5 * std::erfc(-normal / std::numbers::sqrt2), 1 - 0x1p-53);
}

StudyPoint StudyPoints::at(std::size_t index) const {
    StudyPoint point(set_.all.size());
    std::size_t left = index;
    for (std::size_t i = set_.all.size(); i-- > 0;) {  // the last one varies fastest
        const Varied& varied = set_.all[i];
        switch (sampling_.sort) {
            case Sampling::Sort::grid:
                point[i] = varied.texts[left % varied.texts.size()];
                left /= varied.texts.size();
                break;
            case Sampling::Sort::rows: point[i] = varied.texts[index]; break;
            case Sampling::Sort::corners: {
                const bool high = (index >> (set_.all.size() - 1 - i)) & 1;
                if (!varied.texts.empty())
                    point[i] = high ? varied.texts.back() : varied.texts.front();
                else if (varied.sort == Varied::Sort::measured)
                    point[i] = numberText(high ? varied.samples.back() : varied.samples.front());
                else
                    point[i] = numberText(high ? varied.high : varied.low);
                break;
            }
            case Sampling::Sort::search: point[i] = varied.at(0.5); break;
            default: point[i] = varied.at(part(i, index));
        }
    }
    return point;
}

namespace {

/// The part of a path from a sheet down, "R1", "X1.A.S1". A module on the way becomes one of its own, so that other places of it stay as they
/// are. nullptr where there is none.
Part* ownPart(Project& project, std::size_t sheet, std::string_view path) {
    const std::size_t dot = path.find('.');
    std::vector<Part>& parts = project.sheets[sheet].parts;
    const auto found = std::find_if(parts.begin(), parts.end(), [&](const Part& part) { return part.name == path.substr(0, dot); });
    if (found == parts.end()) return nullptr;
    if (dot == std::string_view::npos) return &*found;
    const Sheet* const module = project.findSheet(moduleOf(found->kind));
    if (!module) return nullptr;
    Sheet copy = *module;
    copy.name += fmt::format(" at {}.{}", project.sheets[sheet].name, found->name);
    found->kind = moduleKindId(copy.name);
    const auto isCopy = [&](const Sheet& one) { return one.name == copy.name; };
    if (std::none_of(project.sheets.begin(), project.sheets.end(), isCopy)) project.sheets.push_back(copy);
    const auto at = std::find_if(project.sheets.begin(), project.sheets.end(), isCopy);
    return ownPart(project, static_cast<std::size_t>(at - project.sheets.begin()), path.substr(dot + 1));
}

/// Sets a value of a part, or puts another one into its place.
Status setTarget(Project& project, const std::string& target, const std::string& text) {
    const Error missing{ErrorCode::name, fmt::format("'{}' is no value of a part of the project", target), {}, {}, "varied"};
    if (const Part* const there = findPart(project, project.sheets.front(), target)) {
        const bool module = !moduleOf(there->kind).empty();
        Part& part = *ownPart(project, 0, target);
        if (module) {
            if (!project.findSheet(text)) return missing;
            part.kind = moduleKindId(text);
            return {};
        }
        const auto kept = std::find_if(project.kept.begin(), project.kept.end(),
                                       [&](const Part& one) { return one.name == text && one.kind == part.kind; });
        if (kept == project.kept.end()) return missing;
        part.values = kept->values;
        return {};
    }
    const std::size_t dot = target.rfind('.');
    if (dot == std::string::npos) return missing;
    const std::string path = target.substr(0, dot), key = target.substr(dot + 1);
    const Part* const there = findPart(project, project.sheets.front(), path);
    if (!there) return missing;
    if (const PartKind* const kind = partLibrary().catalogue().find(there->kind)) {
        if (!kind->findParameter(key)) return missing;
    } else {
        const Sheet* const module = project.findSheet(moduleOf(there->kind));
        if (!module || std::none_of(module->parameters.begin(), module->parameters.end(),
                                    [&](const Parameter& parameter) { return parameter.name == key; }))
            return missing;
    }
    ownPart(project, 0, path)->values.set(key, text);
    return {};
}

}  // namespace

Result<Project> withPoint(const Project& project, const ParameterStudy& study, const std::vector<Varied>& varied,
                          const StudyPoint& point) {
    Project changed = project;
    std::string planName = study.plan.empty() ? project.plans.front().name : study.plan;
    std::string sceneName = study.scene.empty() ? project.scenes.front().name : study.scene;
    for (std::size_t i = 0; i < varied.size(); ++i) {
        if (varied[i].target == "plan") planName = point[i];
        if (varied[i].target == "scene") sceneName = point[i];
    }
    const auto first = [](auto& list, const std::string& name) {
        const auto found = std::find_if(list.begin(), list.end(), [&](const auto& one) { return one.name == name; });
        if (found == list.end()) return false;
        std::rotate(list.begin(), found, found + 1);
        return true;
    };
    if (!first(changed.plans, planName))
        return Error{ErrorCode::name, fmt::format("the project has no plan '{}'", planName), {}, {}, "plan"};
    if (!first(changed.scenes, sceneName))
        return Error{ErrorCode::name, fmt::format("the project has no scene '{}'", sceneName), {}, {}, "scene"};
    for (std::size_t i = 0; i < varied.size(); ++i) {
        const std::string& target = varied[i].target;
        if (target == "plan" || target == "scene") continue;
        if (target == "rungs") {
            std::vector<Span>& spans = changed.plans.front().spans;
            if (spans.empty()) spans.emplace_back();
            for (Span& span : spans) span.rungs = point[i];
            continue;
        }
        if (Parameter* const parameter = changed.findParameter(target)) {
            parameter->value = point[i];
            continue;
        }
        if (auto set = setTarget(changed, target, point[i]); !set) return set.error();
    }
    return changed;
}

}  // namespace hedgerow

#include "model/rung_rule.h"

#include <algorithm>

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

namespace {

constexpr int leastRung = 0, mostRung = 4;
enum Exactness { none, every, group, kindOf, place, itself };

/// The terms with where each begins.
std::vector<std::pair<std::string_view, std::size_t>> termsIn(std::string_view text) {
    std::vector<std::pair<std::string_view, std::size_t>> terms;
    for (std::size_t from = 0; from <= text.size();) {
        const std::size_t comma = std::min(text.find(',', from), text.size());
        terms.emplace_back(text.substr(from, comma - from), from);
        from = comma + 1;
    }
    return terms;
}

Exactness fits(const std::string& selector, const Part& part, const PartKind& kind) {
    if (part.name == selector) return itself;
    if (part.name.starts_with(selector + ".")) return place;
    const std::string wanted = lowerCase(selector);
    if (lowerCase(kind.id) == wanted || lowerCase(kind.title) == wanted) return kindOf;
    if (lowerCase(kind.group) == wanted) return group;
    return wanted == "all" ? every : none;
}

}  // namespace

Result<std::vector<RungTerm>> readRungRule(std::string_view text) {
    std::vector<RungTerm> list;
    if (trimmed(text).empty() || trimmed(text) == asDrawn) return list;
    for (const auto& [piece, from] : termsIn(text)) {
        const auto fault = [&, at = from](std::string message) {
            Error error{ErrorCode::syntax, std::move(message)};
            error.position = static_cast<int>(at);
            return error;
        };
        const std::string_view term = trimmed(piece);
        const std::size_t blank = term.rfind(' ');
        const auto number = blank == std::string_view::npos ? std::optional<double>() : numberIn(term.substr(blank + 1));
        if (!number || *number != static_cast<int>(*number) || *number < leastRung || *number > mostRung)
            return fault(fmt::format("'{}' is no rung of parts: write Q1 on 3, Switches on 2, all on 1, or at most 2",
                                     term));
        RungTerm one{.rung = static_cast<int>(*number)};
        std::string_view what = trimmed(term.substr(0, blank));
        if (what.ends_with(" rung")) what = trimmed(what.substr(0, what.size() - 5));
        if (what == "at most") {
            one.sort = RungTerm::Sort::atMost;
        } else if (what == "at least") {
            one.sort = RungTerm::Sort::atLeast;
        } else if (what.ends_with(" on") && !trimmed(what.substr(0, what.size() - 3)).empty()) {
            one.selector = trimmed(what.substr(0, what.size() - 3));
        } else {
            return fault(fmt::format("'{}': write which parts, 'on', and a rung: Q1 on 3", term));
        }
        list.push_back(std::move(one));
    }
    return list;
}

Status applyRungRule(std::string_view rule, Project& flat, const Catalogue& catalogue) {
    const auto terms = readRungRule(rule);
    if (!terms) return terms.error();
    std::vector<bool> used(terms->size());
    for (Part& part : flat.sheet().parts) {
        const PartKind* const kind = catalogue.find(part.kind);
        if (!kind) continue;
        Exactness best = none;
        int rung = part.rung;
        for (std::size_t i = 0; i < terms->size(); ++i) {
            const RungTerm& term = (*terms)[i];
            if (term.sort != RungTerm::Sort::on) continue;
            const Exactness exactness = fits(term.selector, part, *kind);
            used[i] = used[i] || exactness > none || lowerCase(term.selector) == "all";
            if (exactness > none && exactness >= best) best = exactness, rung = term.rung;
        }
        for (const RungTerm& term : *terms) {
            if (term.sort == RungTerm::Sort::atMost) rung = std::min(rung, term.rung);
            if (term.sort == RungTerm::Sort::atLeast) rung = std::max(rung, term.rung);
        }
        part.rung = kind->rungAtOrBelow(rung).rung;
    }
    for (std::size_t i = 0; i < terms->size(); ++i)
        if ((*terms)[i].sort == RungTerm::Sort::on && !used[i])
            return Error{ErrorCode::name, fmt::format("rungs: there is no part, kind or group of parts called {}",
                                                      (*terms)[i].selector)};
    return {};
}

std::string withRenamedInRungs(const std::string& rule, const std::string& from, const std::string& to) {
    std::string all;
    for (const auto& [piece, at] : termsIn(rule)) {
        const std::size_t begin = piece.find_first_not_of(' ');
        std::string term(piece);
        if (begin != std::string_view::npos && piece.substr(begin).starts_with(from) &&
            (piece.size() > begin + from.size()) &&
            (piece[begin + from.size()] == ' ' || piece[begin + from.size()] == '.'))
            term.replace(begin, from.size(), to);
        all += (at == 0 ? "" : ",") + term;
    }
    return all;
}

}  // namespace hedgerow

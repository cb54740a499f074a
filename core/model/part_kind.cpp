#include "model/part_kind.h"

#include <algorithm>
#include <cassert>
#include <sstream>

#include "base/text.h"

namespace hedgerow {

namespace {

/// 0 is a perfect match, larger is worse, -1 is none.
int mismatch(const std::string& typed, const std::string& candidate) {
    if (candidate == typed) return 0;
    if (candidate.starts_with(typed)) return 1;
    for (const std::string& word : words(candidate))
        if (word.starts_with(typed)) return 2;
    std::size_t matched = 0;
    for (const char c : candidate)
        if (matched < typed.size() && c == typed[matched]) ++matched;
    return typed.size() > 1 && matched == typed.size() ? 3 : -1;
}

int mismatch(const std::string& typed, const PartKind& kind) {
    int best = -1;
    const auto consider = [&](const std::string& candidate) {
        const int now = mismatch(typed, lowerCase(candidate));
        if (now >= 0 && (best < 0 || now < best)) best = now;
    };
    consider(kind.id);
    consider(kind.title);
    for (const std::string& synonym : kind.synonyms) consider(synonym);
    return best;
}

}  // namespace

const ParameterKind* PartKind::findParameter(std::string_view key) const {
    const auto found =
        std::find_if(parameters.begin(), parameters.end(), [key](const auto& p) { return p.key == key; });
    return found == parameters.end() ? nullptr : &*found;
}

const RungKind& PartKind::rungAtOrBelow(int rung) const {
    const RungKind* best = &rungs.front();
    for (const RungKind& candidate : rungs)
        if (candidate.rung <= rung) best = &candidate;
    return *best;
}

bool PartKind::hasRung(int rung) const {
    return std::any_of(rungs.begin(), rungs.end(), [rung](const RungKind& r) { return r.rung == rung; });
}

int PartKind::findPin(std::string_view name) const {
    for (std::size_t i = 0; i < pins.size(); ++i)
        if (pins[i].name == name) return static_cast<int>(i);
    return -1;
}

namespace {

std::pair<Point, Point> boundsOf(const PartKind& kind) {
    Point low{-gridStep, -gridStep}, high{gridStep, gridStep};
    const auto include = [&](double x, double y) {
        low = {std::min(low.x, static_cast<int>(x)), std::min(low.y, static_cast<int>(y))};
        high = {std::max(high.x, static_cast<int>(x)), std::max(high.y, static_cast<int>(y))};
    };
    for (const PinKind& pin : kind.pins) include(pin.at.x, pin.at.y);
    for (const Stroke& stroke : kind.symbol) {
        std::istringstream path(stroke.path);
        for (std::string command; path >> command;) {
            double x = 0, y = 0, r = 0, skipped = 0;
            if (command == "M" || command == "L") {
                path >> x >> y;
                include(x, y);
            } else if (command == "O" || command == "A") {
                path >> x >> y >> r;
                if (command == "A") path >> skipped >> skipped;
                include(x - r, y - r);
                include(x + r, y + r);
            }
        }
    }
    return {low, high};
}

}  // namespace

Box boxAround(Point a, Point b) {
    return {{std::min(a.x, b.x), std::min(a.y, b.y)}, {std::max(a.x, b.x), std::max(a.y, b.y)}};
}

Box boxOf(const Part& part, const PartKind& kind) {
    const auto& [low, high] = kind.bounds();
    return boxAround(part.toSheet(low), part.toSheet(high));
}

void Catalogue::add(PartKind kind) {
    assert(!kinds_.contains(kind.id));
    set(std::move(kind));
}

void Catalogue::set(PartKind kind) {
    kind.box = boundsOf(kind);
    std::shared_ptr<const PartKind>& place = kinds_[kind.id];
    if (place) std::erase(ordered_, place.get());
    place = std::make_shared<const PartKind>(std::move(kind));
    ordered_.push_back(place.get());
}

const PartKind* Catalogue::find(std::string_view id) const {
    const auto found = kinds_.find(id);
    return found == kinds_.end() ? nullptr : found->second.get();
}

const PartKind* Catalogue::findByWord(std::string_view word) const {
    const auto matches = search(word);
    return !matches.empty() && mismatch(lowerCase(word), *matches.front()) == 0 ? matches.front() : nullptr;
}

std::vector<const PartKind*> Catalogue::search(std::string_view typed, const std::vector<std::string>& recently) const {
    const std::string wanted = lowerCase(trimmed(typed));
    if (wanted.empty()) return ordered_;
    std::vector<std::pair<std::pair<int, std::ptrdiff_t>, const PartKind*>> found;
    for (const PartKind* kind : ordered_)
        if (const int score = mismatch(wanted, *kind); score >= 0)
            found.emplace_back(
                std::pair(score, std::find(recently.begin(), recently.end(), kind->id) - recently.begin()), kind);
    std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<const PartKind*> kinds;
    for (const auto& entry : found) kinds.push_back(entry.second);
    return kinds;
}

}  // namespace hedgerow

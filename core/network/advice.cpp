#include "network/advice.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include <fmt/format.h>

#include "model/quantity.h"

namespace hedgerow {

namespace {

constexpr double noticeable = 0.02;  ///< of a resistance around it: an on-resistance above that changes results
constexpr double sameStart = 1e-9;   ///< relative difference of start values that counts as none

class Adviser {
public:
    Adviser(const Project& project, const PartLibrary& library, const NetList& nets, const ParameterTable& parameters)
        : sheet_(project.sheet()), library_(library), nets_(nets), parameters_(parameters) {}

    std::vector<Error> all() {
        startValues();
        onResistances();
        return std::move(found_);
    }

private:
    std::optional<double> value(const Part& part, std::string_view key) const {
        const PartKind* kind = library_.catalogue().find(part.kind);
        const ParameterKind* parameter = kind ? kind->findParameter(key) : nullptr;
        if (!parameter || parameter->rung > part.rung) return {};
        const auto number = partValue(part, *kind, key, parameters_.lookup());
        return number ? std::optional(*number) : std::nullopt;
    }
    int net(const Part& part, int pin) const { return nets_.netOfPin.at({part.id, pin}); }
    bool given(const Part& part, std::string_view key) const { return part.values.find(key) != nullptr; }

    /// Two-pin parts of a kind, by the nets they lie between.
    std::map<std::pair<int, int>, std::vector<const Part*>> between(std::string_view kind) const {
        std::map<std::pair<int, int>, std::vector<const Part*>> found;
        for (const Part& part : sheet_.parts)
            if (part.kind == kind) found[std::minmax(net(part, 0), net(part, 1))].push_back(&part);
        return found;
    }

    /// Capacitors beside each other or beside a dc source, and inductors in one branch, that start at other values.
    void startValues() {
        const auto capacitors = between("capacitor"), sources = between("dc-voltage");
        for (const auto& [nets, parts] : capacitors) {
            const Part* first = nullptr;
            for (const Part* part : parts) {
                if (!given(*part, "v0")) continue;
                if (first) compare(*first, *part, "v0", "V", net(*first, 0) == net(*part, 0), "they lie side by side");
                if (!first) first = part;
            }
            const auto source = sources.find(nets);
            if (!first || source == sources.end()) continue;
            const Part& dc = *source->second.front();
            if (first->rung > 1 || dc.rung > 1) continue;  // a resistance lies between them
            const auto level = value(dc, "level"), start = value(*first, "v0");
            if (!level || !start) continue;
            const double forced = net(dc, 0) == net(*first, 0) ? *level : -*level;
            if (differ(forced, *start))
                caution(
                    *first, "v0",
                    fmt::format("{} starts at {}, but {} holds it at {}: give it that value, or a resistance between "
                                "them",
                                first->name, formatQuantity(*start, "V"), dc.name, formatQuantity(forced, "V")));
        }
        std::vector<std::vector<std::pair<const Part*, int>>> atNet(nets_.nets.size());
        for (const Part& part : sheet_.parts)
            if (part.kind == "inductor")
                for (const int pin : {0, 1}) atNet[static_cast<std::size_t>(net(part, pin))].emplace_back(&part, pin);
        for (std::size_t n = 0; n < atNet.size(); ++n) {
            if (nets_.nets[n].pins.size() != 2 || atNet[n].size() != 2) continue;
            const auto& [first, second] = std::pair(atNet[n][0], atNet[n][1]);
            if (first.first != second.first && given(*first.first, "i0") && given(*second.first, "i0"))
                compare(*first.first, *second.first, "i0", "A", first.second != second.second,
                        "they lie in one branch");
        }
    }
    static bool differ(double a, double b) {
        return std::abs(a - b) > sameStart * std::max({std::abs(a), std::abs(b), 1e-12});
    }
    void compare(const Part& a, const Part& b, const char* key, const char* unit, bool sameWay, const char* why) {
        const auto first = value(a, key), second = value(b, key);
        if (!first || !second || !differ(*first, sameWay ? *second : -*second)) return;
        caution(b, key,
                fmt::format("{} starts at {} and {} at {}, but {}: give both the same value", a.name,
                            formatQuantity(*first, unit), b.name, formatQuantity(*second, unit), why));
    }

    /// A switch beside resistors that its on-resistance is not small against.
    void onResistances() {
        std::vector<const Part*> smallest(nets_.nets.size(), nullptr);
        for (const Part& part : sheet_.parts)
            if (part.kind == "resistor")
                for (const int pin : {0, 1}) {
                    const Part*& known = smallest[static_cast<std::size_t>(net(part, pin))];
                    const auto now = value(part, "r"), before = known ? value(*known, "r") : std::nullopt;
                    if (now && (!before || *now < *before)) known = &part;
                }
        for (const Part& part : sheet_.parts) {
            const auto on = value(part, "ron");
            const PartKind* kind = library_.catalogue().find(part.kind);
            if (!on || !kind) continue;
            for (std::size_t pin = 0; pin < kind->pins.size(); ++pin) {
                if (kind->pins[pin].sort != PinSort::power) continue;
                const Part* resistor = smallest[static_cast<std::size_t>(net(part, static_cast<int>(pin)))];
                const auto around = resistor ? value(*resistor, "r") : std::nullopt;
                if (!around || *on <= noticeable * *around) continue;
                caution(part, "ron",
                        fmt::format("{} has {} when on, {:.0f} % of {} beside it: is that meant?", part.name,
                                    formatQuantity(*on, "Ω"), 100 * *on / *around, resistor->name));
                break;
            }
        }
    }
    void caution(const Part& part, const char* field, std::string message) {
        found_.push_back({ErrorCode::range, std::move(message), part.name, {}, field});
    }

    const Sheet& sheet_;
    const PartLibrary& library_;
    const NetList& nets_;
    const ParameterTable& parameters_;
    std::vector<Error> found_;
};

}  // namespace

std::vector<Error> advise(const Project& project, const PartLibrary& library, const NetList& nets,
                          const ParameterTable& parameters) {
    return Adviser(project, library, nets, parameters).all();
}

}  // namespace hedgerow

#include "network/changes.h"

#include <algorithm>

#include <fmt/format.h>

#include "model/values.h"
#include "model/vectors.h"

namespace hedgerow {

namespace {

class Straight final : public SourceGenerator {
public:
    explicit Straight(const Ramp& ramp) : ramp_(ramp) {}
    int size() const override { return 2; }
    void dynamics(std::span<double> s) const override { s[1] = 1.0; }
    void valueAt(Tick t, std::span<double> w) const override {
        w[0] = t < ramp_.to ? ramp_.before : ramp_.after;
        w[1] = 0;
        if (t < ramp_.from || t >= ramp_.to) return;
        w[1] = (ramp_.after - ramp_.before) / toSeconds(ramp_.to - ramp_.from);
        w[0] += w[1] * toSeconds(t - ramp_.from);
    }
    Recurrences recurrences() const override { return {Recurrence::up(ramp_.to)}; }

private:
    Ramp ramp_;
};

class Level final : public SourceGenerator {
public:
    explicit Level(double value) : value_(value) {}
    int size() const override { return 1; }
    void dynamics(std::span<double>) const override {}
    void valueAt(Tick, std::span<double> w) const override { w[0] = value_; }

private:
    double value_;
};

}  // namespace

std::unique_ptr<SourceGenerator> rampWave(const Ramp& ramp) {
    if (ramp.steps) return std::make_unique<Level>(ramp.before);
    return std::make_unique<Straight>(ramp);
}

void setParameters(Project& project, const Changes::List& list) {
    for (const auto& [target, text] : list)
        for (Parameter& parameter : project.parameters)
            if (parameter.name == target) parameter.value = text;
}
void setValues(Project& flat, const Changes::List& list) {
    std::multimap<std::string_view, Part*> parts;
    for (Part& part : flat.sheet().parts) {
        parts.emplace(part.name, &part);
        // One that stands for three is set as a whole, too.
        if (const std::string_view whole = withoutOfThree(part.name); whole != part.name) parts.emplace(whole, &part);
    }
    for (const auto& [target, text] : list) {
        const std::size_t dot = target.rfind('.');
        if (dot == std::string::npos) continue;
        const auto [first, last] = parts.equal_range(std::string_view(target).substr(0, dot));
        for (auto found = first; found != last; ++found) found->second->values.set(target.substr(dot + 1), text);
    }
}

Moving movingWith(const std::vector<std::string>& names, const std::vector<Parameter>& parameters) {
    Moving moving(names.begin(), names.end());
    for (bool more = true; more;) {
        more = false;
        for (const Parameter& parameter : parameters)
            for (const std::string& name : parametersIn(parameter.value))
                if (moving.contains(name) && moving.insert(parameter.name).second) more = true;
    }
    return moving;
}

bool moves(const Part& part, const ParameterKind& parameter, const Moving& moving) {
    if (parameter.text || parameter.atStart || parameter.rating || !parameter.choices.empty()) return false;
    const std::string* const typed = part.values.find(parameter.key);
    if (!typed || parameter.rung > part.rung) return false;
    for (const std::string_view name : {std::string_view(part.name), withoutOfThree(part.name)})
        if (moving.contains(fmt::format("{}.{}", name, parameter.key))) return true;
    const auto names = parametersIn(*typed);
    return std::any_of(names.begin(), names.end(), [&](const auto& name) { return moving.contains(name); });
}

Ramps rampsBetween(const Project& start, const Project& end, const Changes& changes, const PartLibrary& library,
                   std::vector<Error>& errors) {
    Ramps all;
    const ParameterTable before(start.parameters), after(end.parameters);
    const Moving moving = movingWith(changes.ramped, start.parameters),
                 stepping = movingWith(changes.stepped, start.parameters);
    for (std::size_t i = 0; i < start.sheet().parts.size(); ++i) {
        const Part &first = start.sheet().parts[i], &last = end.sheet().parts[i];
        const PartKind& kind = *library.catalogue().find(first.kind);
        for (const ParameterKind& parameter : kind.parameters) {
            const bool ramps = moves(first, parameter, moving);
            if (!ramps && !(parameter.ramps && moves(first, parameter, stepping))) continue;
            const auto from = partValue(first, kind, parameter.key, before.lookup());
            const auto to = partValue(last, kind, parameter.key, after.lookup());
            if (!from || !to)
                errors.push_back(from ? to.error() : from.error());
            else
                all[{first.name, parameter.key}] = {
                    .before = *from, .after = *to, .from = changes.from, .to = changes.to, .steps = !ramps};
        }
    }
    return all;
}

}  // namespace hedgerow

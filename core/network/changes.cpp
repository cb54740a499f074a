#include "network/changes.h"

#include <set>

#include <fmt/format.h>

#include "model/values.h"

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

private:
    Ramp ramp_;
};

}  // namespace

std::unique_ptr<SourceGenerator> rampWave(const Ramp& ramp) { return std::make_unique<Straight>(ramp); }

void setParameters(Project& project, const Changes::List& list) {
    for (const auto& [target, text] : list)
        for (Parameter& parameter : project.parameters)
            if (parameter.name == target) parameter.value = text;
}
void setValues(Project& flat, const Changes::List& list) {
    std::map<std::string_view, Part*> parts;
    for (Part& part : flat.sheet().parts) parts.emplace(part.name, &part);
    for (const auto& [target, text] : list) {
        const std::size_t dot = target.rfind('.');
        const auto found = dot == std::string::npos ? parts.end() : parts.find(std::string_view(target).substr(0, dot));
        if (found != parts.end()) found->second->values.set(target.substr(dot + 1), text);
    }
}

Ramps rampsBetween(const Project& start, const Project& end, const Changes& changes, const PartLibrary& library,
                   std::vector<Error>& errors) {
    Ramps ramps;
    const ParameterTable before(start.parameters), after(end.parameters);
    // Names that a ramp reaches: the parameters themselves, and those that follow from them.
    std::set<std::string, std::less<>> moving(changes.ramped.begin(), changes.ramped.end());
    for (bool more = true; more;) {
        more = false;
        for (const Parameter& parameter : start.parameters)
            for (const std::string& name : parametersIn(parameter.value))
                if (moving.contains(name) && moving.insert(parameter.name).second) more = true;
    }
    for (std::size_t i = 0; i < start.sheet().parts.size(); ++i) {
        const Part &first = start.sheet().parts[i], &last = end.sheet().parts[i];
        const PartKind& kind = *library.catalogue().find(first.kind);
        for (const ParameterKind& parameter : kind.parameters) {
            if (parameter.text || parameter.atStart || parameter.rating || !parameter.choices.empty()) continue;
            const std::string* typed = first.values.find(parameter.key);
            if (!typed || parameter.rung > first.rung) continue;
            bool moves = moving.contains(first.name + "." + parameter.key);
            for (const std::string& name : parametersIn(*typed)) moves = moves || moving.contains(name);
            if (!moves) continue;
            const auto from = partValue(first, kind, parameter.key, before.lookup());
            const auto to = partValue(last, kind, parameter.key, after.lookup());
            if (!from || !to) {
                errors.push_back(from ? to.error() : from.error());
            } else if (!parameter.ramps) {
                errors.push_back({ErrorCode::range,
                                  fmt::format("{} of {} follows a ramp of the scene, but can only step: what ramps are "
                                              "levels of dc sources and constants",
                                              parameter.label, first.name),
                                  first.name,
                                  {},
                                  parameter.key});
            } else {
                ramps[{first.name, parameter.key}] = {*from, *to, changes.from, changes.to};
            }
        }
    }
    return ramps;
}

}  // namespace hedgerow

#include "support/circuit.h"

#include <cmath>

#include <gtest/gtest.h>

#include "runs/registry.h"

namespace hedgerow::test {

Circuit::Circuit() {
    project_.title = "test";
    add("reference", "REF", {"0"});
}

Circuit& Circuit::add(const std::string& kind, const std::string& name, const std::vector<std::string>& nets,
                      Values values, int rung) {
    const PartKind* descriptor = partLibrary().catalogue().find(kind);
    EXPECT_NE(descriptor, nullptr) << kind;
    Part part;
    part.id = project_.newId();
    part.name = name;
    part.kind = kind;
    part.rung = rung;
    part.at = {200 * column_++, 0};
    for (const auto& [key, text] : values) {
        EXPECT_NE(descriptor->findParameter(key), nullptr) << kind << " has no " << key;
        part.values.set(key, text);
    }
    EXPECT_EQ(nets.size(), descriptor->pins.size()) << name;
    for (std::size_t i = 0; i < nets.size(); ++i)
        if (!nets[i].empty())
            project_.sheet().labels.push_back({project_.newId(), part.toSheet(descriptor->pins[i].at), nets[i], ""});
    project_.sheet().parts.push_back(std::move(part));
    return *this;
}

Circuit& Circuit::set(const std::string& name, const std::string& key, const std::string& text) {
    for (Part& part : project_.sheet().parts)
        if (part.name == name) part.values.set(key, text);
    return *this;
}

Circuit& Circuit::plan(const std::string& end, const std::string& tolerance) {
    project_.plans.front().end = end;
    project_.plans.front().tolerance = tolerance;
    return *this;
}

std::shared_ptr<Run> run(const Circuit& circuit) { return run(circuit.project()); }

std::shared_ptr<Run> run(const Project& project) {
    auto prepared = Run::prepare(std::make_shared<const Project>(project));
    if (!prepared) {
        ADD_FAILURE() << prepared.error().message;
        return nullptr;
    }
    (*prepared)->execute();
    return *prepared;
}

double at(const Run& run, const std::string& quantity, double seconds) {
    const auto trace = run.trace(quantity);
    if (!trace) {
        ADD_FAILURE() << "no quantity " << quantity;
        return NAN;
    }
    return trace->at(toTicks(seconds)).value_or(NAN);
}

Measures measures(const Run& run, const std::string& quantity, double from, double to) {
    const auto trace = run.trace(quantity);
    if (!trace) {
        ADD_FAILURE() << "no quantity " << quantity;
        return {};
    }
    return trace->measure(toTicks(from), toTicks(to)).value_or(Measures{NAN, NAN, NAN, NAN});
}

std::vector<double> edges(const Run& run, const std::string& quantity) {
    std::vector<double> found;
    const auto trace = run.trace(quantity);
    for (std::size_t i = 1; trace && i < trace->size(); ++i)
        if (trace->value(i) != trace->value(i - 1)) found.push_back(toSeconds(trace->time(i)));
    return found;
}

}  // namespace hedgerow::test

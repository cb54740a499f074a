#include "support/circuit_file.h"

#include <algorithm>
#include <fstream>
#include <sstream>
#include <stdexcept>

#include <fmt/format.h>

#include "model/quantity.h"
#include "model/text_form.h"
#include "runs/registry.h"

namespace hedgerow::test {

namespace {

double number(const std::string& text, const char* unit) {
    const auto value = evaluateField(text, *findUnit(unit));
    if (!value) throw std::runtime_error(value.error().message);
    return *value;
}

/// "mean out.v from 4m to 5m is 48 within 1e-3 source: volt-second balance", the measure already taken.
Expectation expectation(const std::string& measure, std::istringstream& words) {
    Expectation e;
    e.measure = measure;
    std::string from, to, value, within, word;
    words >> e.quantity >> word >> from >> word >> to >> word >> value >> word >> within >> word;
    std::getline(words, e.source);
    if (word != "source:" || e.source.size() < 2) throw std::runtime_error("an expectation says where it is from");
    e.from = number(from, "s"), e.to = number(to, "s"), e.value = number(value, ""), e.within = number(within, "");
    return e;
}

void setting(CircuitCase& made, const std::string& line) {
    std::istringstream words(line);
    std::string word, text;
    words >> word;
    if (word == "end") {
        words >> text;
        made.circuit.plan(text);
    } else if (word == "short") {
        words >> made.shortEnd;
    } else if (word == "step") {
        words >> made.step;
    } else if (word == "engines") {
        while (words >> text) made.engines.push_back(text);
    } else {
        made.expectations.push_back(expectation(word, words));
    }
}

}  // namespace

CircuitCase readCircuitCase(const std::filesystem::path& file) {
    CircuitCase made;
    made.name = file.stem().string();
    std::replace(made.name.begin(), made.name.end(), '-', '_');
    std::ifstream in(file);
    std::string line, text;
    for (int number = 1; std::getline(in, line); ++number) {
        try {
            if (line.starts_with("# "))
                made.title = line.substr(2);
            else if (line.starts_with("% "))
                setting(made, line.substr(2));
            else
                text += line + "\n";
        } catch (const std::runtime_error& error) {
            throw std::runtime_error(fmt::format("{}:{}: {}", file.string(), number, error.what()));
        }
    }
    const TextCircuit circuit = readText(text, partLibrary().catalogue());
    if (!circuit.errors.empty())
        throw std::runtime_error(fmt::format("{}: {}", file.string(), circuit.errors.front().text()));
    for (const TextLine& part : circuit.lines) {
        if (part.kind->id == "reference") continue;  // net 0 is one already
        made.circuit.add(std::string(part.kind->id), part.name, part.nets, {}, part.rung);
        for (const auto& [key, value] : part.values.all()) made.circuit.set(part.name, key, value);
    }
    return made;
}

std::vector<CircuitCase> circuitCases(const std::filesystem::path& folder) {
    std::vector<std::filesystem::path> files;
    for (const auto& entry : std::filesystem::directory_iterator(folder))
        if (entry.path().extension() == ".circuit") files.push_back(entry.path());
    std::sort(files.begin(), files.end());
    std::vector<CircuitCase> cases;
    for (const auto& file : files) cases.push_back(readCircuitCase(file));
    return cases;
}

double measured(const Run& run, const Expectation& expectation) {
    const Measures all = measures(run, expectation.quantity, expectation.from, expectation.to);
    if (expectation.measure == "mean") return all.mean;
    if (expectation.measure == "rms") return all.rms;
    if (expectation.measure == "min") return all.min;
    if (expectation.measure == "max") return all.max;
    if (expectation.measure == "swing") return all.max - all.min;
    throw std::runtime_error("there is no measure " + expectation.measure);
}

}  // namespace hedgerow::test

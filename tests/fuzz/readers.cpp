#include "fuzz/readers.h"

#include <sqlite3.h>
#include <unistd.h>
#include <filesystem>
#include <fstream>
#include <stdexcept>

#include "base/formula.h"
#include "base/text.h"
#include "control/st/program.h"
#include "formats/touchstone/touchstone.h"
#include "formats/cards/card_file.h"
#include "formats/comtrade/records.h"
#include "formats/csv/read_csv.h"
#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "model/event_text.h"
#include "model/rung_rule.h"
#include "model/span_text.h"
#include "runs/price_book.h"
#include "studies/feature.h"
#include "studies/study_file.h"
#include "studies/trade_file.h"
#include "model/points.h"
#include "model/quantity.h"
#include "model/text_form.h"
#include "model/values.h"
#include "network/elaborate.h"
#include "desk/card_import.h"
#include "ledger/ledger.h"
#include "files/recovery.h"
#include "runs/registry.h"
#include "ledger/run_file.h"
#include "runs/state_file.h"
#include "traces/expression.h"
#include "traces/limit_line.h"

namespace hedgerow::test {

namespace {

namespace fs = std::filesystem;

/// A folder that goes with its scope.
class Place {
public:
    Place() {
        fs::remove_all(path);
        fs::create_directories(path);
    }
    ~Place() { fs::remove_all(path); }
    fs::path put(const std::string& name, std::string_view bytes) const {
        fs::create_directories((path / name).parent_path());
        std::ofstream(path / name, std::ios::binary).write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
        return path / name;
    }
    const fs::path path = fs::temp_directory_path() / ("hedgerow_reader_" + std::to_string(::getpid()));
};

/// What can be read can be checked, and written and read again to the same text.
void project(std::string_view bytes) {
    const auto loaded = readHedge(bytes);
    if (!loaded) return;
    const std::string text = writeHedge(loaded->project);
    const auto again = readHedge(text);
    if (!again || writeHedge(again->project) != text) std::abort();
    (void)checkProject(loaded->project, partLibrary());
}

void circuitText(std::string_view bytes) {
    TextCircuit circuit = readText(bytes, partLibrary().catalogue());
    if (!circuit.errors.empty()) return;
    Project project;
    (void)edits::becomeText(std::move(circuit), partLibrary().catalogue()).apply(project);
}

void structuredText(std::string_view bytes) {
    auto program = st::Program::compile(bytes, 1e-4, {{"KP", 0.5}});
    if (!program) return;
    st::Machine machine(*program, 20'000);
    for (int sample = 0; sample < 3; ++sample)
        if (!machine.run(sample * 1e-4)) return;
    const auto kept = Memory::put([&](Memory& m) { machine.memory(m); }, Memory::Instants::left);
    (void)Memory::take(kept, [&](Memory& m) { machine.memory(m); }, Memory::Instants::left);
}

/// Configuration and data, divided by a zero byte.
void comtradePair(std::string_view bytes) {
    const std::size_t middle = bytes.find('\0');
    (void)comtrade::read(bytes.substr(0, middle),
                         middle == std::string_view::npos ? std::string_view() : bytes.substr(middle + 1));
}

void traceFile(const char* name, std::string_view bytes) {
    const Place place;
    const fs::path file = place.put(name, bytes);
    for (const auto& format : traceFormats())
        if (format->extension() == file.extension().string()) (void)format->read(file);
}

const Network& controlled() {
    static const Elaboration made = [] {
        const auto loaded = readHedge(R"({"hedgerow": 1, "sheets": [{"name": "main", "parts": [
            {"name": "REF1", "kind": "reference", "at": [0, 0]},
            {"name": "V1", "kind": "dc-voltage", "at": [400, 0], "values": {"level": "5"}},
            {"name": "L1", "kind": "inductor", "at": [800, 0], "values": {"l": "1m"}},
            {"name": "K1", "kind": "constant", "at": [1200, 0], "values": {"value": "0.5"}},
            {"name": "T1", "kind": "task", "at": [1600, 0], "values": {"period": "50u"}},
            {"name": "MM1", "kind": "moving-mean", "at": [2000, 0], "values": {"window": "1m", "task": "T1"}}],
            "labels": [{"net": "0", "at": [0, 0]}, {"net": "a", "at": [400, -32]}, {"net": "0", "at": [400, 32]},
            {"net": "a", "at": [768, 0]}, {"net": "0", "at": [832, 0]}, {"net": "k", "at": [1232, 0]},
            {"net": "k", "at": [1968, 0]}]}]})");
        auto elaboration = elaborate(loaded->project, partLibrary());
        if (!elaboration) throw std::logic_error(elaboration.error().message);
        return std::move(*elaboration);
    }();
    return made.network;
}

/// States, and then memory taken up by the parts.
void storedEnd(std::string_view bytes) {
    const auto end = readStates(bytes, "end.json", controlled());
    if (!end) return;
    for (std::size_t i = 0; i < end->memories.size(); ++i) {
        const auto process = controlled().signalBlocks[i].block->process();
        if (!process) continue;
        for (const auto instants : {Memory::Instants::left, Memory::Instants::kept})
            (void)Memory::take(
                end->memories[i], [&](Memory& m) { process->memory(m); }, instants);
        std::vector<double> inputs(8, 1.0), outputs(8, 0.0);
        for (const Tick t : {Tick{0}, process->next(0)})
            if (t != neverTick) (void)process->advance(t, inputs, outputs);
    }
}

void formulas(std::string_view bytes) {
    (void)evaluate(bytes);
    (void)evaluateField(bytes, *findUnit("V"));
    const auto names = parametersIn(bytes);
    if (!names.empty()) (void)withRenamed(bytes, names.front(), "other");
    (void)steppedValue(bytes, 3);
    Formula::Names known;
    known.number = [](std::string_view text) -> Result<double> {
        if (const auto number = numberIn(text)) return *number;
        return Error{ErrorCode::syntax, "no number"};
    };
    const auto formula = Formula::read(bytes, known);
    if (formula) (void)formula->at({1, 2, 3});
    (void)traceOf(bytes, [](std::string_view) { return nullptr; });
}

/// Name, value and unit of parameters, a line each.
void parameters(std::string_view bytes) {
    std::vector<Parameter> list;
    for (std::size_t start = 0; start < bytes.size() && list.size() < 64;) {
        const std::size_t end = std::min(bytes.find('\n', start), bytes.size());
        const std::string_view line = bytes.substr(start, end - start);
        const std::size_t equals = std::min(line.find('='), line.size());
        Parameter& parameter = list.emplace_back();
        parameter.name = line.substr(0, equals);
        parameter.value = line.substr(std::min(equals + 1, line.size()));
        start = end + 1;
    }
    (void)ParameterTable(list).errors();
}

void lines(std::string_view bytes) {
    (void)readEventText(bytes);
    if (const auto span = readSpanText(bytes)) (void)readSpanText(spanText(*span));
    (void)readSpanCondition(bytes);
    (void)readRungRule(bytes);
    if (const auto feature = readFeature(bytes)) (void)readFeature(featureText(*feature));
    (void)pointsOf(std::string(bytes), "s", "V", ProjectFolder());
    (void)readEntry(bytes, partLibrary().catalogue(), {});
}

/// The first line says which runs, the others what varies, and of each also what would be measured.
void studies(std::string_view bytes) {
    std::vector<std::string> lines;
    for (std::size_t from = 0; from < bytes.size() && lines.size() < 20;) {
        const std::size_t to = std::min(bytes.find('\n', from), bytes.size());
        lines.emplace_back(bytes.substr(from, to - from));
        from = to + 1;
    }
    if (lines.empty()) return;
    Project project;
    project.parameters.push_back({.name = "A", .value = "1", .unit = "V", .note = "", .extra = {}});
    project.parameters.push_back({.name = "B", .value = "2", .unit = "", .note = "", .extra = {}});
    const auto sampling = readSampling(lines.front());
    lines.erase(lines.begin());
    for (const std::string& line : lines) (void)readStudyMeasure(line, project);
    auto set = readVaried(lines, project);
    if (!sampling || !set) return;
    constexpr std::size_t few = 4096;
    if (sampling->sort == Sampling::Sort::latin && sampling->count > few) return;  // its order takes its time, as it may
    const auto points = StudyPoints::make(std::move(*set), *sampling, 1);
    if (!points) return;
    for (const std::size_t at : {std::size_t{0}, points->size() / 2, points->size() - 1}) (void)points->at(at);
}

void studyFile(std::string_view bytes) {
    static const Place place;
    place.put("a.study", bytes);
    if (const auto file = StudyFile::open(place.path / "a.study", true)) {
        (void)(*file)->table();
        (void)(*file)->setup();
    }
}

void prices(std::string_view bytes) {
    const Place place;
    place.put("prices.json", bytes);
    const PriceBook book = PriceBook::read(place.path / "prices.json");
    (void)book.factor("exact");
}

void recovered(std::string_view bytes) {
    const Place place;
    place.put("1-0.json", bytes);
    (void)RecoverySlot::pending(place.path);
}

void runHead(std::string_view bytes) {
    const Place place;
    place.put("run-x/run.h5", bytes);
    if (const auto folder = OpenFolder::open(place.path / "run-x")) (void)openRunFolder(*folder);
}

void runAbout(std::string_view bytes) {
    RunAbout about;
    (void)readAbout(std::string(bytes), about);
}

void ledgerFile(std::string_view bytes) {
    const Place place;
    place.put("a.hedge-runs/ledger.sqlite", bytes);
    if (const auto ledger = Ledger::open(place.path / "a.hedge-runs")) {
        (void)(*ledger)->runs();
        (void)(*ledger)->setName(1, "x");
        (void)(*ledger)->remove(1);
    }
}

}  // namespace

const std::map<std::string, Reader>& readers() {
    static const std::map<std::string, Reader> all = {
        {"project", project},
        {"clip", [](std::string_view bytes) { (void)readClip(bytes); }},
        {"circuit-text", circuitText},
        {"structured-text", structuredText},
        {"cards", [](std::string_view bytes) { (void)readCards(bytes); }},
        {"csv", [](std::string_view bytes) { (void)readCsv(bytes); }},
        {"comtrade", comtradePair},
        {"comtrade-file", [](std::string_view bytes) { traceFile("a.cff", bytes); }},
        {"hdf5", [](std::string_view bytes) { traceFile("a.h5", bytes); }},
        {"stored-end", storedEnd},
        {"formulas", formulas},
        {"parameters", parameters},
        {"lines", lines},
        {"recovered", recovered},
        {"run-head", runHead},
        {"run-about", runAbout},
        {"ledger", ledgerFile},
        {"touchstone", [](std::string_view bytes) { (void)readTouchstone(bytes, 2), (void)readTouchstone(bytes, 1); }},
        {"response-table", [](std::string_view bytes) { (void)readResponseTable(bytes); }},
        {"trade", [](std::string_view bytes) { (void)readTrade(bytes); }},
        {"prices", prices},
        {"studies", studies},
        {"study-file", studyFile}};
    return all;
}

}  // namespace hedgerow::test

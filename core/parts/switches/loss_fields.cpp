#include "parts/switches/loss_fields.h"

#include "network/loss_data.h"

namespace hedgerow::parts {

namespace {
bool turnsOn(LossSort sort) { return sort != LossSort::diode; }
bool turnsOff(LossSort sort) { return sort == LossSort::contact || sort == LossSort::transistor; }
bool recovers(LossSort sort) { return sort != LossSort::contact; }
bool onDesk(LossSort sort) { return sort == LossSort::diode || sort == LossSort::transistor; }
}  // namespace

std::vector<ParameterKind> lossParameters(LossSort sort) {
    const auto text = [](const char* key, const char* label, const char* symbol) {
        return ParameterKind{
            .key = key, .label = label, .symbol = symbol, .unit = "", .standard = "", .rung = 2, .text = true};
    };
    std::vector<ParameterKind> all;
    if (turnsOn(sort)) all.push_back(text("eon", "turn-on energy", "E_on"));
    if (turnsOff(sort)) all.push_back(text("eoff", "turn-off energy", "E_off"));
    if (recovers(sort))
        all.push_back(text("err", turnsOff(sort) ? "recovery energy of the diode" : "recovery energy", "E_rr"));
    if (sort != LossSort::contact) all.push_back(text("learned", "energies learnt from", ""));
    all.push_back(text("zth", "thermal impedance", "Z_th"));
    ParameterKind ladder = text("ladder", "thermal pairs", "");
    ladder.text = false;
    ladder.choices = {"K/W and s", "K/W and J/K"};
    ladder.standard = ladder.choices.front();
    all.push_back(ladder);
    all.push_back({.key = "tcase",
                   .label = "temperature of the case, °C",
                   .symbol = "T_c",
                   .unit = "",
                   .standard = "80",
                   .least = -200,
                   .most = 400,
                   .rung = 2});
    if (onDesk(sort)) {
        all.push_back(sheetFigures());
        all.push_back(estimatedKeys());
    }
    return all;
}

PartKind withLosses(PartKind kind, LossSort sort) {
    const std::vector<ParameterKind> losses = lossParameters(sort);
    kind.parameters.insert(kind.parameters.end() - 2, losses.begin(), losses.end());
    return kind;
}

ParameterKind estimatedKeys() {
    return {.key = "estimated",
            .label = "values that are estimated",
            .symbol = "",
            .unit = "",
            .standard = "",
            .rung = 2,
            .text = true};
}

ParameterKind sheetFigures() {
    return {.key = "sheet",
            .label = "data-sheet figures, 'Eon 120u, Qrr 300n'",
            .symbol = "",
            .unit = "",
            .standard = "",
            .rung = 2,
            .text = true};
}

Status checkLossTexts(const std::function<std::string(std::string_view)>& text, LossSort sort) {
    const auto about = [](Error error, const char* key) {
        error.field = key;
        return error;
    };
    const std::pair<const char*, bool> tables[] = {
        {"eon", turnsOn(sort)}, {"eoff", turnsOff(sort)}, {"err", recovers(sort)}};
    for (const auto& [key, has] : tables)
        if (has)
            if (auto table = EnergyTable::read(text(key)); !table) return about(table.error(), key);
    if (auto network = ThermalNetwork::read(text("zth"), false); !network) return about(network.error(), "zth");
    return {};
}

}  // namespace hedgerow::parts

#include "parts/switches/loss_fields.h"

#include "network/loss_data.h"

namespace hedgerow::parts {

std::vector<ParameterKind> lossParameters(bool transistor) {
    const auto text = [](const char* key, const char* label, const char* symbol) {
        return ParameterKind{
            .key = key, .label = label, .symbol = symbol, .unit = "", .standard = "", .rung = 2, .text = true};
    };
    std::vector<ParameterKind> all;
    if (transistor) {
        all.push_back(text("eon", "turn-on energy", "E_on"));
        all.push_back(text("eoff", "turn-off energy", "E_off"));
    }
    all.push_back(text("err", transistor ? "recovery energy of the diode" : "recovery energy", "E_rr"));
    all.push_back(text("zth", "thermal impedance", "Z_th"));
    ParameterKind ladder = text("ladder", "its pairs are", "");
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
    all.push_back(sheetFigures());
    all.push_back(estimatedKeys());
    return all;
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
            .label = "figures to meet, 'Eon 120u, Qrr 300n'",
            .symbol = "",
            .unit = "",
            .standard = "",
            .rung = 2,
            .text = true};
}

Status checkLossTexts(const std::function<std::string(std::string_view)>& text, bool transistor) {
    const auto about = [](Error error, const char* key) {
        error.field = key;
        return error;
    };
    for (const char* key : {"eon", "eoff", "err"})
        if (transistor || std::string_view(key) == "err")
            if (auto table = EnergyTable::read(text(key)); !table) return about(table.error(), key);
    if (auto network = ThermalNetwork::read(text("zth"), false); !network) return about(network.error(), "zth");
    return {};
}

}  // namespace hedgerow::parts

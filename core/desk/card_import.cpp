#include "desk/card_import.h"

#include <algorithm>
#include <cmath>
#include <functional>
#include <optional>
#include <set>

#include <fmt/format.h>

#include "base/text.h"
#include "model/history.h"
#include "model/quantity.h"
#include "model/text_form.h"
#include "desk/card_module.h"
#include "runs/registry.h"
#include "desk/straight_lines.h"

namespace hedgerow {

namespace {

std::string number(double value) { return fmt::format("{:.9g}", value); }

constexpr double fullDrive = 12;                           ///< V, of a gate
constexpr double oxidePermittivity = 3.9 * 8.8541878e-12;  ///< of silicon dioxide, F/m
constexpr double leastCapacitance = 1e-15;
constexpr double standardSize = 100e-6;  ///< m, of width and length in the Berkeley grammar

class Importer {
public:
    Importer(const CardFile& file, double current, int lines, const CancelToken& cancel)
        : file_(file), current_(current), lines_(lines), cancel_(cancel) {
        import_.remarks = file.remarks;
    }

    CardImport all() {
        for (const ModelCard& card : file_.models) {
            auto part = partOf(card);
            if (part && !names_.insert(lowerCase(part->name)).second)
                remark(card.line, ".model " + card.name, "there is another card of this name before it");
            else if (part)
                import_.devices.push_back(reduced(std::move(*part), card));
        }
        for (const CardSubcircuit& sub : file_.subcircuits) addModule(sub);
        std::stable_sort(import_.remarks.begin(), import_.remarks.end(),
                         [](const CardRemark& a, const CardRemark& b) { return a.line < b.line; });
        return std::move(import_);
    }

private:
    void remark(int line, std::string text, std::string why) {
        import_.remarks.push_back({line, std::move(text), std::move(why)});
    }

    /// Takes values over; what is left is listed.
    struct Taker {
        const ModelCard& card;
        Part& part;
        std::set<std::string> taken;
        std::optional<double> get(const char* key) {
            taken.insert(key);
            const auto found = card.values.find(key);
            return found == card.values.end() ? std::optional<double>() : found->second;
        }
        void take(const char* from, const char* to) {
            if (const auto value = get(from)) part.values.set(to, number(*value));
        }
    };
    void listRest(const ModelCard& card, const Taker& taker) {
        for (const auto& [key, value] : card.values)
            if (!taker.taken.contains(key))
                remark(card.line, fmt::format("{}={}", key, number(value)),
                       fmt::format("the part for {} has no such value", card.name));
    }

    std::optional<Part> partOf(const ModelCard& card) {
        Part part;
        part.name = cardIdentifier(card.name, "M");
        part.rung = 4;
        if (card.type == "D") return diode(card, std::move(part));
        if (card.type == "NMOS" || card.type == "PMOS") return transistor(card, std::move(part));
        if (card.type == "NPN" || card.type == "PNP") return bipolar(card, std::move(part));
        if (card.type == "SW") return contact(card, std::move(part));
        remark(card.line, fmt::format(".model {} {}", card.name, card.type),
               "there is no part for this type: diodes (D), bipolar (NPN, PNP) and field-effect transistors (NMOS, "
               "PMOS) and switches by voltage (SW) are taken");
        return {};
    }

    /// I_s (exp(v / (N V_T)) - 1) behind R_S, C_JO (1 - v / V_J)^-M, a charge T_T i, and a breakdown at B_V.
    std::optional<Part> diode(const ModelCard& card, Part part) {
        Taker taker{card, part, {}};
        const auto breakdown = taker.get("BV");
        part.kind = breakdown ? "zener" : "diode";
        if (breakdown) part.values.set("vz", number(std::abs(*breakdown)));
        part.values.set("is", number(taker.get("IS").value_or(1e-14)));
        part.values.set("n", number(taker.get("N").value_or(1)));
        part.values.set("ron", number(taker.get("RS").value_or(0)));
        if (breakdown) part.values.set("rz", number(std::max(taker.get("RS").value_or(0), 1e-3)));
        part.values.set("cj", number(std::max(taker.get("CJO").value_or(taker.get("CJ0").value_or(0)), 1e-15)));
        part.values.set("phi", number(taker.get("VJ").value_or(1)));
        part.values.set("grading", number(std::clamp(taker.get("M").value_or(0.5), 0.0, 0.9)));
        const double charge = std::max(taker.get("TT").value_or(0), 1e-12);
        part.values.set("tau", number(charge));
        // The card's charge leaves at once; ours takes a transit. Half of its life is a soft recovery.
        part.values.set("tm", number(charge / 2));
        part.values.set("estimated", "tm");
        if (card.values.contains("TT"))
            remark(card.line, "TT",
                   "taken as the life of the stored charge; the transit time, half of it, is estimated");
        listRest(card, taker);
        return part;
    }

    /// The transport form that the part has on rung 4; its knees are those of the card at the current.
    std::optional<Part> bipolar(const ModelCard& card, Part part) {
        Taker taker{card, part, {}};
        part.kind = "bipolar-transistor";
        part.values.set("polarity", card.type == "PNP" ? "pnp" : "npn");
        const double gain = std::max(taker.get("BF").value_or(100), 1e-3), emission = taker.get("NF").value_or(1),
                     saturation = std::max(taker.get("IS").value_or(1e-16), 1e-40),
                     base = std::max(taker.get("RB").value_or(0), 0.0), emitter = taker.get("RE").value_or(0);
        part.values.set("beta", number(gain));
        const double reverse = std::max(taker.get("BR").value_or(1), 1e-3);
        part.values.set("betar", number(reverse));
        part.values.set("is", number(saturation));
        part.values.set("n", number(std::clamp(emission, 0.5, 10.0)));
        part.values.set("rb", number(base + emitter * (1 + gain)));
        part.values.set("ron", number(std::max(taker.get("RC").value_or(0) + emitter, 0.0)));
        part.values.set("cbe", number(std::max(taker.get("CJE").value_or(0), 1e-15)));
        part.values.set("cbc", number(std::max(taker.get("CJC").value_or(0), 1e-15)));
        part.values.set("phi", number(std::max(taker.get("VJE").value_or(0.75), 1e-3)));
        part.values.set("grading", number(std::clamp(taker.get("MJE").value_or(0.33), 0.0, 0.9)));
        part.values.set("tf", number(std::max(taker.get("TF").value_or(0), 0.0)));
        part.values.set("tr", number(std::max(taker.get("TR").value_or(0), 0.0)));
        // Rungs 2 and 3: the base at the current, and a collector as it saturates at a tenth of the gain.
        const double thermal = emission * 0.025693, forced = gain / 10;
        part.values.set("vf", number(thermal * std::log(current_ / saturation + 1)));
        // From i_C = f i_B of the transport form: exp(v_CE / (n V_T)) = (1 + (1 + f) / beta_R) / (1 - f / beta).
        part.values.set("vsat", number(thermal * std::log((1 + (1 + forced) / reverse) / (1 - forced / gain))));
        if (emitter > 0) remark(card.line, "RE", "added to the resistances of base and collector, as the gain has it");
        remark(card.line, fmt::format(".model {} {}", card.name, card.type),
               "the knees of rungs 2 and 3 are those of its own formulas at the current, saturated at a tenth of the "
               "gain");
        listRest(card, taker);
        return part;
    }

    /// V_T and V_H: it closes above V_T + V_H and opens below V_T - V_H.
    std::optional<Part> contact(const ModelCard& card, Part part) {
        Taker taker{card, part, {}};
        part.kind = "voltage-controlled-switch";
        part.rung = 2;
        const double middle = taker.get("VT").value_or(0), half = std::abs(taker.get("VH").value_or(0));
        part.values.set("von", number(middle + half));
        part.values.set("voff", number(middle - half));
        const double on = std::max(taker.get("RON").value_or(1), 0.0), off = taker.get("ROFF").value_or(1e12);
        if (off <= on) {
            remark(card.line, fmt::format(".model {} SW", card.name), "it conducts more when it is open");
            return {};
        }
        part.values.set("ron", number(on));
        part.values.set("roff", number(off));
        listRest(card, taker);
        return part;
    }

    /// Level 1: i = K_P W / L ((v_gs - V_TO) v - v^2 / 2)(1 + LAMBDA v), as the part's channel on rung 4. The threshold
    /// of a p-channel counts as magnitude. @param drive  gate voltage at which the on-resistance is told
    void takeChannel(Taker& taker, double threshold, double drive) const {
        const double gain = gainOf(taker);
        taker.part.values.set("vth", number(threshold));
        taker.part.values.set("ron", number(1 / (gain * (drive - threshold)) + taker.get("RD").value_or(0) +
                                            taker.get("RS").value_or(0)));
        taker.part.values.set("gm", number(std::sqrt(2 * gain * current_)));
        taker.take("LAMBDA", "lambda");
        taker.take("IS", "is");
        taker.take("N", "n");
        taker.take("PB", "phi");
        if (const auto grading = taker.get("MJ"))
            taker.part.values.set("grading", number(std::clamp(*grading, 0.0, 0.9)));
    }
    static double gainOf(Taker& taker) {
        return taker.get("KP").value_or(2e-5) * taker.get("W").value_or(standardSize) /
               taker.get("L").value_or(standardSize);
    }

    /// With a gate that a modulator drives, for n-channels; others are parts with a gate pin.
    std::optional<Part> transistor(const ModelCard& card, Part part) {
        Taker taker{card, part, {}};
        const std::string about = fmt::format(".model {} {}", card.name, card.type);
        if (const double level = taker.get("LEVEL").value_or(1); level != 1) {
            remark(card.line, about,
                   fmt::format("level {} has other equations than the part: level 1 is taken", number(level)));
            return {};
        }
        const double threshold = taker.get("VTO").value_or(0);
        if (gainOf(taker) <= 0) {
            remark(card.line, about, "its channel conducts nothing");
            return {};
        }
        if (card.type == "PMOS" || threshold <= 0 || threshold >= fullDrive) {
            auto pinned = gatePinned(card, {});
            if (!pinned) {
                remark(card.line, about, "its threshold lies too high");
                return {};
            }
            pinned->name = part.name;
            remark(card.line, about, "the gate of the part is a pin, behind its own resistance");
            listRest(card, {card, part, everyFieldEffectKey()});
            return pinned;
        }
        part.kind = "mosfet";
        takeChannel(taker, threshold, fullDrive);
        if (const auto output = taker.get("CBD")) {
            // Ours is given at a voltage: half of it is there already at 0 V.
            part.values.set("coss", number(*output));
            part.values.set("crss", number(*output / 10));
            part.values.set("estimated", "crss");
            part.values.set("vc", "1m");
            remark(card.line, "CBD",
                   "taken as output capacitance at 0 V; the reverse transfer capacitance, a tenth of "
                   "it, is estimated");
        }
        remark(card.line, about,
               "the gate of the part is driven by a signal, from 0 V to 12 V behind its own resistance");
        taker.taken.merge(everyFieldEffectKey());  // of its gate: they count where it is a pin
        listRest(card, taker);
        return part;
    }

    static std::set<std::string> everyFieldEffectKey() {
        return {"LEVEL", "VTO", "KP", "W",   "L",    "RD",   "RS",  "LAMBDA", "IS",
                "N",     "PB",  "MJ", "CBD", "CGSO", "CGDO", "TOX", "RG"};
    }

    /// As a part whose gate is a pin, as in subcircuits. Capacitances are those at 0 V: C_GSO W and C_GDO W of the
    /// overlaps, two thirds of the oxide's where T_OX tells it, C_BD of the diode.
    std::optional<Part> gatePinned(const ModelCard& card, const std::map<std::string, double>& own) const {
        ModelCard whole = card;
        for (const auto& [key, value] : own) whole.values[key] = value;
        Part part;
        part.name = cardIdentifier(card.name, "M");
        part.kind = "mosfet-with-gate-pin";
        part.rung = 4;
        Taker taker{whole, part, {}};
        const double sign = card.type == "PMOS" ? -1 : 1, threshold = sign * taker.get("VTO").value_or(0);
        const double drive = std::max(fullDrive, threshold + 5);
        if (gainOf(taker) <= 0 || taker.get("LEVEL").value_or(1) != 1 || !std::isfinite(threshold)) return {};
        part.values.set("channel", sign > 0 ? "n-channel" : "p-channel");
        takeChannel(taker, threshold, drive);
        part.values.set("von", number(drive));
        part.values.set("corner", "1m");  // level 1 has a sharp threshold
        part.values.set("kt", "0");
        part.values.set("rg", number(std::max(taker.get("RG").value_or(0), 1e-3)));
        part.values.set("lpk", "0");
        const double width = taker.get("W").value_or(standardSize), length = taker.get("L").value_or(standardSize);
        const auto oxide = taker.get("TOX");
        const double inside = oxide && *oxide > 0 ? 2.0 / 3 * oxidePermittivity / *oxide * width * length : 0;
        const double reverse = std::max(taker.get("CGDO").value_or(0) * width, leastCapacitance);
        part.values.set("crss", number(reverse));
        part.values.set("ciss",
                        number(reverse + std::max(taker.get("CGSO").value_or(0) * width + inside, leastCapacitance)));
        part.values.set("coss", number(reverse + std::max(taker.get("CBD").value_or(0), leastCapacitance)));
        part.values.set("vc", "1m");
        // Level 1 stores no charge in its diode.
        part.values.set("tau", "1p");
        part.values.set("tm", "1p");
        part.values.set("rd", number(std::max(taker.get("RD").value_or(0) + taker.get("RS").value_or(0), 1e-3)));
        return part;
    }

    /// The knee of rungs 2 and 3 from the curve of rung 4, by least squares over a tenth of the current to all of it.
    ImportedDevice reduced(Part part, const ModelCard& card) {
        ImportedDevice device{std::move(part)};
        if (device.part.kind != "diode" && device.part.kind != "zener") return device;
        auto lines = straightLines({}, device.part, device.part.kind == "diode" ? lines_ : 1, current_, cancel_);
        if (!lines) {
            remark(card.line, card.name, "rungs 2 and 3 keep standard values: " + lines.error().message);
            return device;
        }
        for (const auto& [key, text] : lines->values) device.part.values.set(key, text);
        device.residual = lines->residual;
        return device;
    }

    void addModule(const CardSubcircuit& sub) {
        if (!names_.insert(lowerCase(cardIdentifier(sub.name, "X"))).second)
            return remark(sub.line, ".subckt " + sub.name, "there is another card of this name before it");
        const auto device = [&](const std::string& card,
                                const std::map<std::string, double>& own) -> std::optional<Part> {
            for (const ModelCard& one : file_.models)
                if (lowerCase(one.name) == lowerCase(card) && (one.type == "NMOS" || one.type == "PMOS"))
                    return gatePinned(one, own);
            for (const ImportedDevice& one : import_.devices)
                if (lowerCase(one.part.name) == lowerCase(cardIdentifier(card, "M"))) return one.part;
            return {};
        };
        const Catalogue& catalogue = partLibrary().catalogue();
        TextCircuit circuit = readText(moduleText(sub, device, import_.remarks), catalogue);
        if (!circuit.errors.empty()) {
            remark(sub.line, ".subckt " + sub.name, circuit.errors.front().message);
            return;
        }
        History history{Project()};
        if (auto status = history.apply(edits::becomeText(std::move(circuit), catalogue)); !status) {
            remark(sub.line, ".subckt " + sub.name, status.error().message);
            return;
        }
        Sheet sheet = history.project().sheets.front();
        sheet.name = cardIdentifier(sub.name, "X");
        sheet.note = fmt::format("from a maker's card, {} elements", sub.elements.size());
        import_.modules.push_back(std::move(sheet));
    }

    const CardFile& file_;
    double current_;
    int lines_;
    const CancelToken& cancel_;
    CardImport import_;
    std::set<std::string> names_;  ///< of all cards taken, in small letters
};

}  // namespace

CardImport importCards(std::string_view text, double current, const CancelToken& cancel, int lines) {
    const CardFile file = readCards(text);
    return Importer(file, current, lines, cancel).all();
}

Project projectOf(const CardImport& import, std::string title) {
    Project project;
    project.title = std::move(title);
    int column = 0;
    for (const ImportedDevice& device : import.devices) {
        Part part = device.part;
        part.id = project.newId();
        part.at = {128 + 160 * (column % 5), 128 + 160 * (column / 5)};
        ++column;
        project.sheet().parts.push_back(part);
        part.id = 0;
        part.at = {};
        project.kept.push_back(std::move(part));
    }
    for (const Sheet& module : import.modules) {
        Sheet sheet = module;
        for (Part& part : sheet.parts) part.id = project.newId();
        for (Wire& wire : sheet.wires) wire.id = project.newId();
        for (Label& label : sheet.labels) label.id = project.newId();
        project.sheets.push_back(std::move(sheet));
    }
    return project;
}

}  // namespace hedgerow

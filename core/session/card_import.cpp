#include "session/card_import.h"

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
#include "session/registry.h"
#include "session/straight_lines.h"

namespace hedgerow {

namespace {

std::string number(double value) { return fmt::format("{:.6g}", value); }

/// A word that names a part, a net or a module.
std::string identifier(const std::string& text, const char* before) {
    std::string word;
    for (const char c : text) word += std::isalnum(static_cast<unsigned char>(c)) || c == '_' ? c : '_';
    if (word.empty() || !std::isalpha(static_cast<unsigned char>(word.front()))) word = before + word;
    return word;
}

class Importer {
public:
    Importer(const CardFile& file, double current, int lines, const CancelToken& cancel)
        : file_(file), current_(current), lines_(lines), cancel_(cancel) {
        import_.remarks = file.remarks;
    }

    CardImport all() {
        for (const ModelCard& card : file_.models) {
            auto part = partOf(card);
            if (part && !names_.insert(lowered(part->name)).second)
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
        part.name = identifier(card.name, "M");
        part.rung = 4;
        if (card.type == "D") return diode(card, std::move(part));
        if (card.type == "NMOS") return transistor(card, std::move(part));
        if (card.type == "NPN" || card.type == "PNP") return bipolar(card, std::move(part));
        if (card.type == "SW") return contact(card, std::move(part));
        remark(card.line, fmt::format(".model {} {}", card.name, card.type),
               "there is no part for this type: diodes (D), bipolar (NPN, PNP) and n-channel transistors (NMOS) and "
               "switches by voltage (SW) are taken");
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
        part.values.set("betar", number(std::max(taker.get("BR").value_or(1), 1e-3)));
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
        const double thermal = emission * 0.025693, forced = gain / 10, reverse = std::stod(*part.values.find("betar"));
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

    /// Level 1: i = K_P ((v_gs - V_TO) v - v^2 / 2)(1 + LAMBDA v), as the part's channel on rung 4.
    std::optional<Part> transistor(const ModelCard& card, Part part) {
        Taker taker{card, part, {}};
        if (const double level = taker.get("LEVEL").value_or(1); level != 1) {
            remark(card.line, fmt::format(".model {} NMOS", card.name),
                   fmt::format("level {} has other equations than the part: level 1 is taken", number(level)));
            return {};
        }
        part.kind = "mosfet";
        const double threshold = taker.get("VTO").value_or(0), drive = 12;
        const double gain = taker.get("KP").value_or(2e-5) * taker.get("W").value_or(1) / taker.get("L").value_or(1);
        if (threshold <= 0 || threshold >= drive || gain <= 0) {
            remark(card.line, fmt::format(".model {} NMOS", card.name),
                   "its threshold lies outside what a gate drive from 0 V to 12 V switches");
            return {};
        }
        part.values.set("vth", number(threshold));
        part.values.set("ron", number(1 / (gain * (drive - threshold)) + taker.get("RD").value_or(0) +
                                      taker.get("RS").value_or(0)));
        part.values.set("gm", number(std::sqrt(2 * gain * current_)));
        taker.take("LAMBDA", "lambda");
        taker.take("IS", "is");
        taker.take("N", "n");
        taker.take("PB", "phi");
        if (const auto grading = taker.get("MJ")) part.values.set("grading", number(std::clamp(*grading, 0.0, 0.9)));
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
        remark(card.line, fmt::format(".model {} NMOS", card.name),
               "the gate of the part is driven by a signal, from 0 V to 12 V behind its own resistance");
        listRest(card, taker);
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

    // ---- subcircuits, by way of circuit text

    void addModule(const CardSubcircuit& sub) {
        if (!names_.insert(lowered(identifier(sub.name, "X"))).second)
            return remark(sub.line, ".subckt " + sub.name, "there is another card of this name before it");
        nets_.clear();
        now_ = &sub;
        std::string text;
        std::map<std::string, int> controls;  // how many currents are read from a voltage source
        for (const CardElement& element : sub.elements)
            if (const char letter = lower(element.name.front());
                (letter == 'f' || letter == 'h') && element.words.size() >= 3)
                ++controls[lowered(element.words[2])];
        std::map<std::string, int> used;
        bool grounded = false;
        for (const CardElement& element : sub.elements) text += lineOf(element, controls, used);
        for (std::size_t i = 0; i < sub.pins.size(); ++i) {
            const char* const side = i < (sub.pins.size() + 1) / 2 ? "left" : "right";
            text += fmt::format("{} pin {} side {}\n", identifier(sub.pins[i], "P"), net(sub.pins[i]), side);
        }
        for (const std::string& name : nets_) grounded = grounded || name == "0";
        if (grounded) text += "REF1 reference 0\n";
        const Catalogue& catalogue = partLibrary().catalogue();
        TextCircuit circuit = readText(text, catalogue);
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
        sheet.name = identifier(sub.name, "X");
        sheet.note = fmt::format("from a maker's card, {} elements", sub.elements.size());
        import_.modules.push_back(std::move(sheet));
    }

    static char lower(char c) { return static_cast<char>(std::tolower(static_cast<unsigned char>(c))); }
    static std::string lowered(std::string text) {
        for (char& c : text) c = lower(c);
        return text;
    }
    std::string net(const std::string& word) {
        const std::string name = word == "0" ? word : identifier(word, "n");
        nets_.insert(name);
        return name;
    }

    /// One element as a line of circuit text; "" and a remark where there is no part for it.
    std::string lineOf(const CardElement& element, std::map<std::string, int>& controls,
                       std::map<std::string, int>& used) {
        const auto& w = element.words;
        const char letter = lower(element.name.front());
        const std::string name = identifier(element.name, "U");
        const auto refuse = [&](const std::string& why) {
            remark(element.line, element.name + " " + joined(w, " "), why);
            return std::string();
        };
        const auto value = [&](std::size_t at) { return at < w.size() ? cardNumber(w[at]) : cardNumber(""); };
        const auto two = [&](const char* kind, const char* key, std::size_t at) {
            const auto found = value(at);
            if (!found) return refuse(found.error().message);
            return fmt::format("{} {} {} {} {} {}\n", name, kind, net(w[0]), net(w[1]), key, number(*found));
        };
        const std::size_t least = letter == 'e' || letter == 'g' || letter == 's'   ? 5
                                  : letter == 'f' || letter == 'h' || letter == 'q' ? 4
                                                                                    : 3;
        if (w.size() < least) return refuse("it is not complete");
        switch (letter) {
            case 'r':
                return two("resistor", "r", 2);
            case 'l':
                return two("inductor", "l", 2);
            case 'c':
                return two("capacitor", "c", 2);
            case 'i':
            case 'v': {
                const std::size_t at = lowered(w[2]) == "dc" ? 3 : 2;
                const auto found = value(at);
                if (!found || w.size() > at + 1) return refuse("only constant sources are taken");
                if (letter == 'i') return two("dc-current", "level", at);
                // Currents that others read flow through their control pins, one after the other.
                const bool read = controls.contains(lowered(element.name));
                return fmt::format("{} dc-voltage {} {} level {}\n", name, net(w[0]),
                                   read ? tail(element.name, 1) : net(w[1]), number(*found));
            }
            case 'e':
            case 'g': {
                const auto gain = value(4);
                if (!gain) return refuse("only linear control is taken: " + gain.error().message);
                if (w.size() > 5) return refuse("only linear control is taken");
                return fmt::format("{} {} {} {} {} {} gain {}\n", name,
                                   letter == 'e' ? "voltage-controlled-voltage" : "voltage-controlled-current",
                                   net(w[0]), net(w[1]), net(w[2]), net(w[3]), number(*gain));
            }
            case 'f':
            case 'h': {
                const auto gain = value(3);
                const std::string source = lowered(w[2]);
                const auto* end = endOf(source);
                if (!gain || w.size() > 4 || !end)
                    return refuse(end ? "only linear control is taken"
                                      : "it reads the current of no voltage source here");
                const int k = ++used[source];
                return fmt::format("{} {} {} {} {} {} gain {}\n", name,
                                   letter == 'h' ? "current-controlled-voltage" : "current-controlled-current",
                                   net(w[0]), net(w[1]), tail(source, k),
                                   k == controls[source] ? net(*end) : tail(source, k + 1), number(*gain));
            }
            case 'd':
                if (const Part* diode = carded(w[2], {"diode", "zener"})) return deviceLine(name, {w[0], w[1]}, *diode);
                return refuse(fmt::format("there is no card of a diode '{}'", w[2]));
            case 'q': {
                // Collector, base, emitter; a substrate, where there is one, comes before the card.
                const bool substrate = w.size() > 4 && !carded(w[3], {"bipolar-transistor"});
                const std::string& card = w[substrate ? 4 : 3];
                if (const Part* transistor = carded(card, {"bipolar-transistor"}))
                    return deviceLine(name, {w[0], w[1], w[2]}, *transistor);
                return refuse(fmt::format("there is no card of a bipolar transistor '{}'", card));
            }
            case 's':
                if (const Part* contact = carded(w[4], {"voltage-controlled-switch"}))
                    return deviceLine(name, {w[0], w[1], w[2], w[3]}, *contact);
                return refuse(fmt::format("there is no card of a switch '{}'", w[4]));
            default:
                return refuse(fmt::format("there is no part for elements of this kind ({})", element.name.front()));
        }
    }

    /// A device of one of these kinds that a card of this name became.
    const Part* carded(const std::string& card, std::initializer_list<std::string_view> kinds) const {
        for (const ImportedDevice& device : import_.devices)
            if (lowered(device.part.name) == lowered(identifier(card, "M")) &&
                std::find(kinds.begin(), kinds.end(), device.part.kind) != kinds.end())
                return &device.part;
        return nullptr;
    }

    std::string deviceLine(const std::string& name, const std::vector<std::string>& nets, const Part& device) {
        std::string line = fmt::format("{} {}", name, device.kind);
        for (const std::string& word : nets) line += " " + net(word);
        line += fmt::format(" rung {}", device.rung);
        const PartKind& kind = *partLibrary().catalogue().find(device.kind);
        for (const ParameterKind& parameter : kind.parameters)
            if (const std::string* text = device.values.find(parameter.key))
                line += fmt::format(" {} {}", parameter.key, parameter.text ? '"' + *text + '"' : *text);
        return line + "\n";
    }

    /// The k-th net behind a source whose current is read.
    static std::string tail(const std::string& source, int k) {
        return fmt::format("i{}_{}", k, identifier(lowered(source), "V"));
    }
    /// Where a voltage source of the subcircuit at hand ends.
    const std::string* endOf(const std::string& source) const {
        for (const CardElement& element : now_->elements)
            if (lowered(element.name) == source && lower(element.name.front()) == 'v' && element.words.size() >= 3)
                return &element.words[1];
        return nullptr;
    }

    const CardFile& file_;
    double current_;
    int lines_;
    const CancelToken& cancel_;
    CardImport import_;
    const CardSubcircuit* now_ = nullptr;  ///< at hand
    std::set<std::string> nets_;           ///< of it
    std::set<std::string> names_;          ///< of all cards taken, in small letters
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

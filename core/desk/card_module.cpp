#include "desk/card_module.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>
#include <set>

#include <fmt/format.h>

#include "base/formula.h"
#include "base/text.h"
#include "formats/cards/card_expansion.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

std::string number(double value) { return fmt::format("{:.9g}", value); }

char kindOf(const CardElement& element) { return lowerCase(element.name).front(); }

/// v(...) and i(...) of a formula, in the order in which they first stand there.
struct Probe {
    char what;
    std::vector<std::string> names;
    friend bool operator==(const Probe&, const Probe&) = default;
};

std::string withProbes(const std::string& text, std::vector<Probe>& probes,
                       const std::function<std::string(std::size_t)>& written) {
    return rewrittenExpression(text, {}, [&](char what, const std::vector<std::string>& names) {
        const Probe probe{what, names};
        const auto found = std::find(probes.begin(), probes.end(), probe);
        const auto at = static_cast<std::size_t>(found - probes.begin());
        if (found == probes.end()) probes.push_back(probe);
        return written(at);
    });
}

/// p_0 + p_1 x + p_2 y + ... + p_3 x^2 + p_4 x y ...: by degree, and in each in the order of the inputs.
std::string polynomial(const std::vector<double>& coefficients, std::size_t count) {
    static const char* const names[] = {"x", "y", "z"};
    std::string text;
    std::vector<std::size_t> factors;  // of the term at hand, never falling
    for (const double coefficient : coefficients) {
        if (coefficient != 0) {
            text += fmt::format("{}{:.17g}", text.empty() ? "" : " + ", coefficient);
            for (const std::size_t factor : factors) text += fmt::format("*{}", names[factor]);
        }
        std::size_t last = factors.size();
        while (last > 0 && factors[last - 1] + 1 == count) --last;
        if (last == 0) {
            factors.assign(factors.size() + 1, 0);
        } else {
            const std::size_t next = factors[last - 1] + 1;
            std::fill(factors.begin() + static_cast<std::ptrdiff_t>(last) - 1, factors.end(), next);
        }
    }
    return text.empty() ? "0" : text;
}

class ModuleWriter {
public:
    ModuleWriter(const CardSubcircuit& sub, const CardedDevice& device, std::vector<CardRemark>& remarks)
        : sub_(sub), device_(device), remarks_(remarks) {}

    std::string all() {
        for (const CardElement& element : sub_.elements)
            for (const std::string& source : currentsReadBy(element)) ++readings_[source].all;
        joinWindings();
        for (const CardElement& element : sub_.elements) text_ += lineOf(element);
        for (std::size_t i = 0; i < sub_.pins.size(); ++i) {
            const char* const side = i < (sub_.pins.size() + 1) / 2 ? "left" : "right";
            text_ += fmt::format("{} pin {} side {}\n", cardIdentifier(sub_.pins[i], "P"), net(sub_.pins[i]), side);
        }
        if (nets_.contains("0")) text_ += "REF1 reference 0\n";
        return std::move(text_);
    }

private:
    std::string refuse(const CardElement& element, std::string why) {
        remarks_.push_back({element.line, element.name + " " + joined(element.words, " "), std::move(why)});
        return "";
    }
    std::string net(const std::string& word) {
        const std::string name = word == "0" ? word : cardIdentifier(word, "n");
        nets_.insert(name);
        return name;
    }
    static std::string nameOf(const CardElement& element) { return cardIdentifier(element.name, "U"); }
    const CardElement* elementNamed(const std::string& name, char kind) const {
        for (const CardElement& element : sub_.elements)
            if (lowerCase(element.name) == lowerCase(name) && kindOf(element) == kind) return &element;
        return nullptr;
    }

    // ---- currents that others read flow through their control pins, one after the other

    struct Readings {
        int all = 0, done = 0;
    };
    static std::vector<std::string> currentsReadBy(const CardElement& element) {
        std::vector<std::string> sources;
        const char kind = kindOf(element);
        const auto& w = element.words;
        if (kind == 'b' && w.size() == 4) {
            std::vector<Probe> probes;
            withProbes(w[3], probes, [](std::size_t) { return std::string(); });
            for (const Probe& probe : probes)
                if (probe.what == 'i' && probe.names.size() == 1) sources.push_back(lowerCase(probe.names[0]));
        } else if (kind == 'f' || kind == 'h') {
            const std::size_t at = polynomialAt(element), first = at > 0 ? at : 2,
                              count = at > 0 ? polynomialInputs(element) : 1;
            for (std::size_t i = first; i < std::min(first + count, w.size()); ++i) sources.push_back(lowerCase(w[i]));
        }
        return sources;
    }
    /// The k-th net behind a source whose current is read.
    static std::string tail(const std::string& source, int k) {
        return fmt::format("i{}_{}", k, cardIdentifier(lowerCase(source), "V"));
    }
    /// The two nets between which the current of a voltage source can be read once more; nothing without that source.
    std::optional<std::string> controlPins(const std::string& source) {
        const CardElement* const found = elementNamed(source, 'v');
        if (!found || found->words.size() < 3) return {};
        Readings& readings = readings_[lowerCase(source)];
        const int k = ++readings.done;
        return tail(source, k) + " " + (k == readings.all ? net(found->words[1]) : tail(source, k + 1));
    }

    // ---- coupled windings

    /// K1 L1 L2 0.98: the inductors of a core, by the first of them.
    void joinWindings() {
        std::map<std::string, std::string> core;  // of an inductor
        std::map<std::string, double> couplings;  // "a b"
        for (const CardElement& element : sub_.elements) {
            if (kindOf(element) != 'k') continue;
            const auto& w = element.words;
            const auto value = w.size() >= 3 ? cardNumber(w.back()) : cardNumber("");
            if (!value || !(std::abs(*value) <= 1)) {
                refuse(element, "two inductors and a coupling from -1 to 1 are expected");
                continue;
            }
            std::vector<std::string> joined(w.begin(), w.end() - 1);
            for (std::string& name : joined) name = lowerCase(name);
            const auto missing =
                std::find_if(joined.begin(), joined.end(), [&](const auto& name) { return !elementNamed(name, 'l'); });
            if (missing != joined.end()) {
                refuse(element, fmt::format("there is no inductor '{}' here", *missing));
                continue;
            }
            for (std::size_t i = 0; i < joined.size(); ++i)
                for (std::size_t j = i + 1; j < joined.size(); ++j) {
                    couplings[joined[i] + " " + joined[j]] = couplings[joined[j] + " " + joined[i]] = *value;
                    const auto nameOfCore = [&](const std::string& name) {
                        return core.contains(name) ? core[name] : name;
                    };
                    const std::string a = nameOfCore(joined[i]), b = nameOfCore(joined[j]);
                    for (auto& [name, its] : core)
                        if (its == b) its = a;
                    core[joined[i]] = core[joined[j]] = a;
                }
        }
        std::map<std::string, std::vector<const CardElement*>> cores;
        for (const CardElement& element : sub_.elements)
            if (const auto found = core.find(lowerCase(element.name)); found != core.end() && kindOf(element) == 'l')
                cores[found->second].push_back(&element);
        for (const auto& [name, windings] : cores) writeWindings(windings, couplings);
    }
    void writeWindings(const std::vector<const CardElement*>& windings,
                       const std::map<std::string, double>& couplings) {
        if (windings.size() > 6) {
            refuse(*windings.front(), fmt::format("{} windings on one core: up to 6 are taken", windings.size()));
            return;
        }
        std::string nets, values;
        for (std::size_t i = 0; i < windings.size(); ++i) {
            const auto& w = windings[i]->words;
            const auto inductance = w.size() >= 3 ? cardNumber(w[2]) : cardNumber("");
            if (!inductance) return;  // told when its own turn comes
            nets += fmt::format(" {} {}", net(w[0]), net(w[1]));
            values += fmt::format(" l{} {}", i + 1, number(*inductance));
            for (std::size_t j = i + 1; j < windings.size(); ++j) {
                const auto found = couplings.find(lowerCase(windings[i]->name) + " " + lowerCase(windings[j]->name));
                values += fmt::format(" k{}{} {}", i + 1, j + 1, number(found == couplings.end() ? 0 : found->second));
            }
        }
        text_ += fmt::format("{} coupled-inductors-{}{}{}\n", nameOf(*windings.front()), windings.size(), nets, values);
        for (const CardElement* winding : windings) onCores_.insert(winding);
    }

    // ---- elements

    std::string lineOf(const CardElement& element) {
        const auto& w = element.words;
        const char kind = kindOf(element);
        const std::size_t least = kind == 'e' || kind == 'g' || kind == 's' || kind == 'm'   ? 5
                                  : kind == 'b' || kind == 'f' || kind == 'h' || kind == 'q' ? 4
                                                                                             : 3;
        if (w.size() < least) return refuse(element, "it is not complete");
        switch (kind) {
            case 'r':
                return passive(element, "resistor", "r");
            case 'l':
                return onCores_.contains(&element) ? "" : passive(element, "inductor", "l");
            case 'c':
                return passive(element, "capacitor", "c");
            case 'k':
                return "";
            case 'i':
            case 'v':
                return source(element);
            case 'b':
                return byFormula(element);
            case 'e':
            case 'f':
            case 'g':
            case 'h':
                return polynomialAt(element) > 0 ? byPolynomial(element) : controlled(element);
            case 'd':
                return carded(element, w[2], 2, {"diode", "zener"}, "diode");
            case 'q': {
                // Collector, base, emitter; a substrate, where there is one, comes before the card.
                const bool substrate = w.size() > 4 && !device_(w[3], {});
                return carded(element, w[substrate ? 4 : 3], 3, {"bipolar-transistor"}, "bipolar transistor");
            }
            case 'm':
                return fieldEffect(element);
            case 's':
                return carded(element, w[4], 4, {"voltage-controlled-switch"}, "switch");
            default:
                return refuse(element,
                              fmt::format("there is no part for elements of this kind ({})", element.name.front()));
        }
    }

    std::string passive(const CardElement& element, const char* kind, const char* key) {
        const auto& w = element.words;
        const auto value = cardNumber(w[2]);
        if (!value) return refuse(element, value.error().message);
        return fmt::format("{} {} {} {} {} {}\n", nameOf(element), kind, net(w[0]), net(w[1]), key, number(*value));
    }
    std::string source(const CardElement& element) {
        const auto& w = element.words;
        const std::size_t at = lowerCase(w[2]) == "dc" ? 3 : 2;
        const auto value = at < w.size() ? cardNumber(w[at]) : cardNumber("");
        if (!value || w.size() > at + 1) return refuse(element, "only constant sources are taken");
        const bool voltage = kindOf(element) == 'v', read = voltage && readings_.contains(lowerCase(element.name));
        return fmt::format("{} {} {} {} level {}\n", nameOf(element), voltage ? "dc-voltage" : "dc-current", net(w[0]),
                           read ? tail(element.name, 1) : net(w[1]), number(*value));
    }
    std::string controlled(const CardElement& element) {
        const auto& w = element.words;
        const char kind = kindOf(element);
        const bool byCurrent = kind == 'f' || kind == 'h', voltage = kind == 'e' || kind == 'h';
        const std::size_t at = byCurrent ? 3 : 4;
        const auto gain = cardNumber(w[at]);
        if (!gain || w.size() > at + 1) return refuse(element, "linear control is taken, and polynomials (POLY)");
        std::string control;
        if (byCurrent) {
            const auto pins = controlPins(w[2]);
            if (!pins) return refuse(element, "it reads the current of no voltage source here");
            control = *pins;
        } else {
            control = net(w[2]) + " " + net(w[3]);
        }
        return fmt::format("{} {}-controlled-{} {} {} {} gain {}\n", nameOf(element), byCurrent ? "current" : "voltage",
                           voltage ? "voltage" : "current", net(w[0]), net(w[1]), control, number(*gain));
    }

    /// What a source by formula reads: pairs of nets as words.
    std::string formulaLine(const CardElement& element, bool voltage, const std::vector<std::string>& inputs,
                            const std::string& formula) {
        std::string pins;
        for (std::size_t i = 0; i < Formula::mostInputs; ++i) pins += i < inputs.size() ? " " + inputs[i] : " - -";
        return fmt::format("{} {}-by-formula {} {}{} rung 4 formula \"{}\"\n", nameOf(element),
                           voltage ? "voltage" : "current", net(element.words[0]), net(element.words[1]), pins,
                           formula);
    }
    /// A current as a voltage, 1 V an ampere, between a net of its own and the source's second one. @return both
    std::optional<std::string> readCurrent(const CardElement& element, const std::string& source, std::string& lines) {
        const auto pins = controlPins(source);
        if (!pins) return {};
        const std::string helper = fmt::format("{}_{}", nameOf(element), cardIdentifier(lowerCase(source), "V")),
                          both = helper + " " + net(element.words[1]);
        lines += fmt::format("H_{} current-controlled-voltage {} {} gain 1\n", helper, both, *pins);
        return both;
    }
    std::string byFormula(const CardElement& element) {
        const auto& w = element.words;
        if (w[2] != "V" && w[2] != "I") return refuse(element, "V = formula or I = formula is expected");
        static const char* const names[] = {"x", "y", "z", "?"};
        std::vector<Probe> probes;
        const std::string formula =
            withProbes(w[3], probes, [](std::size_t i) { return names[std::min<std::size_t>(i, 3)]; });
        if (probes.size() > Formula::mostInputs)
            return refuse(element, fmt::format("its formula reads {} voltages and currents: up to {} are taken",
                                               probes.size(), Formula::mostInputs));
        const auto read = Formula::read(formula, {.number = cardNumber, .input = [](const std::string& name) {
                                                      return name.size() == 1 && name[0] >= 'x' && name[0] <= 'z'
                                                                 ? std::optional<std::size_t>(name[0] - 'x')
                                                                 : std::nullopt;
                                                  }});
        if (!read) return refuse(element, read.error().message);
        std::string lines;
        std::vector<std::string> inputs;
        for (const Probe& probe : probes) {
            if (probe.what == 'v' && (probe.names.size() == 1 || probe.names.size() == 2)) {
                inputs.push_back(net(probe.names[0]) + " " + net(probe.names.size() == 2 ? probe.names[1] : "0"));
                continue;
            }
            const auto pins = probe.what == 'i' && probe.names.size() == 1 ? readCurrent(element, probe.names[0], lines)
                                                                           : std::optional<std::string>();
            if (!pins)
                return refuse(element, fmt::format("{}({}) is no voltage and no current of a voltage source here",
                                                   probe.what, joined(probe.names, ",")));
            inputs.push_back(*pins);
        }
        return lines + formulaLine(element, w[2] == "V", inputs, formula);
    }
    /// E1 A B POLY(2) C D E F p0 p1 ..., the older form of the Berkeley grammar; one that only has p1 is linear.
    std::string byPolynomial(const CardElement& element) {
        const auto& w = element.words;
        const char kind = kindOf(element);
        const bool byCurrent = kind == 'f' || kind == 'h';
        const std::size_t count = polynomialInputs(element), at = polynomialAt(element),
                          first = at + count * (byCurrent ? 1 : 2);
        if (count == 0 || count > Formula::mostInputs)
            return refuse(element, fmt::format("polynomials of 1 to {} inputs are taken", Formula::mostInputs));
        if (w.size() <= first) return refuse(element, "it is not complete");
        std::vector<double> coefficients;
        for (std::size_t i = first; i < w.size(); ++i) {
            const auto value = cardNumber(w[i]);
            if (!value) return refuse(element, value.error().message);
            coefficients.push_back(*value);
        }
        if (coefficients.size() == 1 && count == 1) coefficients.insert(coefficients.begin(), 0.0);
        std::string lines;
        std::vector<std::string> inputs;
        for (std::size_t i = 0; i < count; ++i) {
            const auto pins = byCurrent ? readCurrent(element, w[at + i], lines)
                                        : std::optional(net(w[at + 2 * i]) + " " + net(w[at + 2 * i + 1]));
            if (!pins) return refuse(element, "it reads the current of no voltage source here");
            inputs.push_back(*pins);
        }
        return lines + formulaLine(element, kind == 'e' || kind == 'h', inputs, polynomial(coefficients, count));
    }

    std::string carded(const CardElement& element, const std::string& card, std::size_t nets,
                       std::initializer_list<std::string_view> kinds, const char* what) {
        const auto device = device_(card, {});
        if (!device || std::find(kinds.begin(), kinds.end(), device->kind) == kinds.end())
            return refuse(element, fmt::format("there is no card of a {} '{}'", what, card));
        std::string pins;
        for (std::size_t i = 0; i < nets; ++i) pins += " " + net(element.words[i]);
        return deviceLine(element, *device, pins);
    }

    /// M1 DRAIN GATE SOURCE BULK CARD [L=...] [W=...]: the bulk is that of the diode, at the source.
    std::string fieldEffect(const CardElement& element) {
        const auto& w = element.words;
        std::map<std::string, double> own;
        for (std::size_t i = 5; i + 2 < w.size(); ++i)
            if (const auto value = w[i + 1] == "=" ? cardNumber(w[i + 2]) : cardNumber(""))
                own[upperCase(w[i])] = *value;
        const auto device = device_(w[4], own);
        if (!device || device->kind != "mosfet-with-gate-pin")
            return refuse(element, fmt::format("there is no card of a field-effect transistor '{}'", w[4]));
        if (lowerCase(w[3]) != lowerCase(w[2])) refuse(element, "its bulk is taken as joined to its source");
        for (const auto& [key, value] : own)
            if (key != "W" && key != "L") refuse(element, fmt::format("{} is not taken", key));
        return deviceLine(element, *device, " " + net(w[0]) + " " + net(w[1]) + " " + net(w[2]));
    }

    std::string deviceLine(const CardElement& element, const Part& device, const std::string& pins) {
        std::string line = fmt::format("{} {}{} rung {}", nameOf(element), device.kind, pins, device.rung);
        for (const ParameterKind& parameter : partLibrary().catalogue().find(device.kind)->parameters)
            if (const std::string* text = device.values.find(parameter.key))
                line += fmt::format(" {} {}", parameter.key, parameter.text ? '"' + *text + '"' : *text);
        return line + "\n";
    }

    const CardSubcircuit& sub_;
    const CardedDevice& device_;
    std::vector<CardRemark>& remarks_;
    std::string text_;
    std::set<std::string> nets_;
    std::map<std::string, Readings> readings_;  ///< by names in small letters
    std::set<const CardElement*> onCores_;
};

}  // namespace

std::string cardIdentifier(const std::string& text, const char* before) {
    std::string word;
    for (const char c : text) word += std::isalnum(static_cast<unsigned char>(c)) || c == '_' ? c : '_';
    if (word.empty() || !std::isalpha(static_cast<unsigned char>(word.front()))) word = before + word;
    return word;
}

std::string moduleText(const CardSubcircuit& sub, const CardedDevice& device, std::vector<CardRemark>& remarks) {
    return ModuleWriter(sub, device, remarks).all();
}

}  // namespace hedgerow

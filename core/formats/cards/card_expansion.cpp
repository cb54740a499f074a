#include "formats/cards/card_expansion.h"

#include <algorithm>
#include <utility>

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

namespace {

constexpr int deepest = 20;
constexpr std::size_t mostElements = 5000;  ///< of one subcircuit, instances worked out

char kindOf(const CardElement& element) { return lowerCase(element.name).front(); }

/// Where an instance stands: what its parameters are, what its nets are called outside, and what its names end with.
struct Place {
    CardParameters parameters;
    std::map<std::string, std::string> nets, models;  ///< by names in small letters
    std::string ending;
};

class Expander {
public:
    Expander(const std::vector<CardDefinition>& definitions, CardFile& file) : definitions_(definitions), file_(file) {}

    void all() {
        for (const CardDefinition& definition : definitions_) {
            CardSubcircuit sub = definition.written;
            sub.elements.clear();
            out_ = &sub.elements;
            top_ = &definition.written;
            Place place{parametersOf(definition, {}, true), {}, {}, ""};
            for (const std::string& pin : definition.written.pins) place.nets[lowerCase(pin)] = pin;
            expand(definition, place, 0);
            file_.subcircuits.push_back(std::move(sub));
        }
    }

private:
    void remark(const CardElement& element, std::string why) {
        file_.remarks.push_back({element.line, element.name + " " + joined(element.words, " "), std::move(why)});
    }

    /// Values of all parameters; those that the instance gives come before its own.
    CardParameters parametersOf(const CardDefinition& definition, const CardParameters& given, bool tell) {
        CardParameters values = definition.outside;
        for (const auto& [name, text] : definition.parameters) {
            const std::string key = upperCase(name);
            if (const auto found = given.find(key); found != given.end())
                values[key] = found->second;
            else if (const auto value = cardValue(text, values))
                values[key] = *value;
            else if (tell)
                file_.remarks.push_back({definition.written.line, name + "=" + text, value.error().message});
        }
        return values;
    }

    void expand(const CardDefinition& definition, const Place& place, int depth) {
        for (const CardElement& element : definition.written.elements) {
            if (out_->size() >= mostElements) return tellFull();
            if (kindOf(element) == 'x')
                instance(element, place, depth);
            else
                out_->push_back(placed(element, place));
        }
    }

    /// Once for each subcircuit of the file.
    void tellFull() {
        if (std::exchange(full_, top_) != top_)
            file_.remarks.push_back({top_->line, ".subckt " + top_->name,
                                     fmt::format("it has more than {} elements: it ends there", mostElements)});
    }

    /// X1 NET ... SUBCIRCUIT [params:] KEY=VALUE ...
    void instance(const CardElement& element, const Place& outer, int depth) {
        if (depth >= deepest) return remark(element, "subcircuits stand in one another more deeply than is taken");
        std::size_t end = element.words.size();
        for (std::size_t i = 0; i < element.words.size(); ++i)
            if (upperCase(element.words[i]) == "PARAMS:" ||
                (i + 1 < element.words.size() && element.words[i + 1] == "=")) {
                end = i;
                break;
            }
        if (end < 2) return remark(element, "nets and the name of a subcircuit are expected");
        const std::string name = lowerCase(element.words[end - 1]);
        const auto found = std::find_if(definitions_.begin(), definitions_.end(),
                                        [&](const CardDefinition& d) { return lowerCase(d.written.name) == name; });
        if (found == definitions_.end())
            return remark(element, fmt::format("there is no subcircuit '{}'", element.words[end - 1]));
        if (found->written.pins.size() != end - 1)
            return remark(element, fmt::format("{} has {} pins, but {} nets stand here", found->written.name,
                                               found->written.pins.size(), end - 1));
        CardParameters given;
        for (std::size_t i = end; i < element.words.size();) {
            if (i + 2 < element.words.size() && element.words[i + 1] == "=") {
                if (const auto value = cardValue(element.words[i + 2], outer.parameters))
                    given[upperCase(element.words[i])] = *value;
                else
                    remark(element, element.words[i] + ": " + value.error().message);
                i += 3;
            } else {
                ++i;
            }
        }
        Place inner{parametersOf(*found, given, false), {}, {}, "_" + element.name + outer.ending};
        for (std::size_t i = 0; i + 1 < end; ++i)
            inner.nets[lowerCase(found->written.pins[i])] = net(element.words[i], outer);
        for (const CardDefinition::Model& model : found->models) ownModel(model, inner);
        expand(*found, inner, depth + 1);
    }

    /// A model of an instance's own, where its values are not those of the model as it stands.
    void ownModel(const CardDefinition::Model& model, Place& place) {
        ModelCard card = model.card;
        for (const auto& [key, text] : model.values)
            if (const auto value = cardValue(text, place.parameters)) card.values[upperCase(key)] = *value;
        if (card.values == model.card.values) return;
        card.name += place.ending;
        place.models[lowerCase(model.card.name)] = card.name;
        file_.models.push_back(std::move(card));
    }

    static std::string net(const std::string& word, const Place& place) {
        if (word == "0") return word;
        const auto found = place.nets.find(lowerCase(word));
        return found != place.nets.end() ? found->second : word + place.ending;
    }

    /// The element with its nets and names as they are called outside, and its expressions worked out.
    static CardElement placed(const CardElement& element, const Place& place) {
        CardElement result = element;
        result.name += place.ending;
        const std::size_t nets = std::min(netCount(element), element.words.size());
        for (std::size_t i = 0; i < nets; ++i) result.words[i] = net(element.words[i], place);
        const char kind = kindOf(element);
        if (kind == 'b' && element.words.size() == 4) {
            result.words[3] = placedFormula(element.words[3], place);
            return result;
        }
        const std::size_t control = polynomialAt(element);
        const bool byCurrent = kind == 'f' || kind == 'h';
        for (std::size_t i = nets; i < element.words.size(); ++i) {
            std::string& word = result.words[i];
            if (const auto model = place.models.find(lowerCase(word)); model != place.models.end())
                word = model->second;
            else if (control > 0 && i >= control && i < control + polynomialInputs(element) * (byCurrent ? 1 : 2))
                word = byCurrent ? word + place.ending : net(word, place);
            else if (kind == 'k' ? i < 2 : byCurrent && control == 0 && i == 2)
                word += place.ending;
            else if (word.front() == '{')
                if (const auto value = cardValue(word, place.parameters)) word = fmt::format("{:.17g}", *value);
        }
        return result;
    }

    static std::string placedFormula(const std::string& text, const Place& place) {
        return rewrittenExpression(text, place.parameters, [&](char what, const std::vector<std::string>& names) {
            std::vector<std::string> placed;
            for (const std::string& name : names)
                placed.push_back(what == 'v' ? net(name, place) : name + place.ending);
            return fmt::format("{}({})", what, joined(placed, ","));
        });
    }

    /// How many words, from the first on, are nets.
    static std::size_t netCount(const CardElement& element) {
        switch (kindOf(element)) {
            case 'e':
            case 'g':
                return polynomialAt(element) > 0 ? 2 : 4;
            case 's':
            case 'm':
                return 4;
            case 'q':
                // A substrate, where there is one, stands before the card; an area may stand behind it.
                return element.words.size() > 4 && !cardNumber(element.words[4]) ? 4 : 3;
            case 'k':
                return 0;
            default:
                return 2;
        }
    }

    const std::vector<CardDefinition>& definitions_;
    CardFile& file_;
    std::vector<CardElement>* out_ = nullptr;
    const CardSubcircuit *top_ = nullptr, *full_ = nullptr;
};

}  // namespace

std::size_t polynomialAt(const CardElement& element) {
    return element.words.size() > 4 && upperCase(element.words[2]) == "POLY" ? 4 : 0;
}

std::size_t polynomialInputs(const CardElement& element) {
    const auto count = cardNumber(element.words.at(3));
    return count && *count >= 1 && *count <= 100 ? static_cast<std::size_t>(*count) : 0;
}

void expandSubcircuits(const std::vector<CardDefinition>& definitions, CardFile& file) {
    Expander(definitions, file).all();
}

}  // namespace hedgerow

#pragma once
// Subcircuits within subcircuits: every instance becomes the elements that it is made of, with its own parameters.

#include <map>
#include <string>
#include <vector>

#include "formats/cards/card_expression.h"
#include "formats/cards/card_file.h"

namespace hedgerow {

/// A subcircuit as it stands in the text.
struct CardDefinition {
    CardSubcircuit written;                                       ///< elements with words as they are written
    CardParameters outside;                                       ///< that held where it begins
    std::vector<std::pair<std::string, std::string>> parameters;  ///< names and texts, in their order
    struct Model {
        ModelCard card;                                           ///< with the parameters' own values
        std::vector<std::pair<std::string, std::string>> values;  ///< names and texts
    };
    std::vector<Model> models;
};

/// Where the inputs of a polynomial (E1 A B POLY(2) ...) begin among the words; 0 where there is none.
std::size_t polynomialAt(const CardElement& element);
/// How many inputs it says that it has. @pre polynomialAt() > 0
std::size_t polynomialInputs(const CardElement& element);

/// Works the words of all subcircuits out, and puts those of instances (X) in their places: names and inner nets of
/// what comes from instance X1 end with _X1. Where an instance changes a parameter that a model inside depends on, it
/// gets a model of its own, which is added to the file's.
void expandSubcircuits(const std::vector<CardDefinition>& definitions, CardFile& file);

}  // namespace hedgerow

#pragma once
// Makers' model cards: `.model` and `.subckt` text in the public Berkeley grammar (University of California).
//
// A line is a statement; one that begins with + goes on with the one before, one that begins with * is a remark, and so
// is what follows a ; or a $. Letters count the same in both cases.

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"

namespace hedgerow {

struct ModelCard {
    int line;                              ///< 1-based
    std::string name, type;                ///< as written; in capitals
    std::map<std::string, double> values;  ///< by names in capitals
};

/// One element of a subcircuit. What comes from an instance of another has a name that ends with _ and the instance's.
struct CardElement {
    int line;
    std::string name;
    /// Behind the name, constants worked out. Of a source by formula: two nets, "V" or "I", and the formula, in which
    /// nets and sources are called as here.
    std::vector<std::string> words;
};

struct CardSubcircuit {
    int line;
    std::string name;
    std::vector<std::string> pins;
    std::vector<CardElement> elements;
};

/// What was not taken, and why.
struct CardRemark {
    int line;
    std::string text, why;
};

struct CardFile {
    std::vector<ModelCard> models;  ///< those inside subcircuits too
    std::vector<CardSubcircuit> subcircuits;
    std::vector<CardRemark> remarks;
};

/// Reads text that may hold anything else besides: what is no card is listed, line by line.
CardFile readCards(std::string_view text);

/// "4.7k", "10meg", "33pF": the factor follows the number, letters behind it say nothing.
Result<double> cardNumber(std::string_view text);

}  // namespace hedgerow

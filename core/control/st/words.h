#pragma once
// The words of structured text, for the compiler and for those who show or offer them.

#include <span>
#include <string_view>

namespace hedgerow::st {

/// Words no variable may be called by, in capitals.
std::span<const std::string_view> reservedWords();

/// Names that mean something without being declared, in capitals: types, standard functions and blocks, and the most
/// used conversions (any pair of types has one).
std::span<const std::string_view> standardNames();

}  // namespace hedgerow::st

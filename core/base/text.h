#pragma once
// Small text helpers shared by the whole core.

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace hedgerow {

/// Lower case of ASCII letters; other bytes stay.
std::string lowerCase(std::string_view text);
std::string upperCase(std::string_view text);
std::string_view trimmed(std::string_view text);
/// Splits at runs of blanks; no empty words.
std::vector<std::string> words(std::string_view text);
std::string joined(const std::vector<std::string>& pieces, std::string_view separator);
/// "a", "a and b", "a, b and c".
std::string listed(const std::vector<std::string>& names);
/// The finite number a text begins with, with a point whatever the language of the user is. @param rest  gets what is
/// behind it; without, nothing may be
std::optional<double> numberIn(std::string_view text, std::string_view* rest = nullptr);
/// Letters, digits and underscores, not starting with a digit.
bool isIdentifier(std::string_view text);
/// Number of characters (not bytes) of UTF-8 text before byte `offset`.
int characterCount(std::string_view text, std::size_t offset);

}  // namespace hedgerow

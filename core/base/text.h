#pragma once
// Small text helpers shared by the whole core.

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
/// Letters, digits and underscores, not starting with a digit.
bool isIdentifier(std::string_view text);
/// Number of characters (not bytes) of UTF-8 text before byte `offset`.
int characterCount(std::string_view text, std::size_t offset);

}  // namespace hedgerow

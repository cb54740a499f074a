#pragma once
// Finding where in a JSON text a value stands, so that errors can point at it.

#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace hedgerow {

/// A member name or an element index.
using JsonStep = std::variant<std::string, std::size_t>;
using JsonPath = std::vector<JsonStep>;

struct TextPlace {
    int line = 1, column = 1;
};

TextPlace placeOfByte(std::string_view text, std::size_t byte);
/// Where the value at `path` begins. @pre `text` is valid JSON; the place of the nearest parent when the path ends
/// early
TextPlace placeOfValue(std::string_view text, const JsonPath& path);

/// Why a text should not be parsed at all: it is nested too deeply, or its objects have more members than can be told
/// apart in a moment. "" when it may be.
std::string beyondBounds(std::string_view text);

}  // namespace hedgerow

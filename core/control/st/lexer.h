#pragma once
// Structured text (IEC 61131-3, 3rd edition) in words.

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"

namespace hedgerow::st {

enum class TokenSort { name, integer, real, time, symbol, end };

struct Token {
    TokenSort sort = TokenSort::end;
    std::string text;          ///< names and keywords in capitals; symbols as written
    std::string typed = {};    ///< the type in front of a literal, as in INT#5
    double real = 0;           ///< of a number, also of an integer
    std::int64_t integer = 0;  ///< of an integer; of a time in ns
    int line = 1, column = 1;
};

/// All tokens, an end token last. Comments and pragmas are passed over. Errors carry line and column.
Result<std::vector<Token>> tokensOf(std::string_view source);

}  // namespace hedgerow::st

#include "control/st/words.h"

namespace hedgerow::st {

namespace {

// clang-format off
constexpr std::string_view reserved[] = {
    "IF", "THEN", "ELSIF", "ELSE", "END_IF", "CASE", "OF", "END_CASE", "FOR",
    "TO", "BY", "DO", "END_FOR", "WHILE", "END_WHILE", "REPEAT", "UNTIL", "END_REPEAT",
    "EXIT", "CONTINUE", "RETURN", "VAR", "VAR_INPUT", "VAR_OUTPUT", "END_VAR", "CONSTANT", "AND",
    "OR", "XOR", "NOT", "MOD", "TRUE", "FALSE", "ARRAY", "PROGRAM", "END_PROGRAM",
    "FUNCTION", "END_FUNCTION", "FUNCTION_BLOCK", "END_FUNCTION_BLOCK", "SAMPLE_TIME",
};
constexpr std::string_view standard[] = {
    "BOOL", "SINT", "INT", "DINT", "LINT", "USINT", "UINT", "UDINT", "ULINT", "BYTE",
    "WORD", "DWORD", "LWORD", "REAL", "LREAL", "TIME", "LTIME", "ABS", "SQRT", "LN",
    "LOG", "EXP", "SIN", "COS", "TAN", "ASIN", "ACOS", "ATAN", "ATAN2", "EXPT",
    "MIN", "MAX", "LIMIT", "SEL", "MUX", "TRUNC", "SHL", "SHR", "ROL", "ROR",
    "MOVE", "ADD", "SUB", "MUL", "DIV", "GT", "GE", "EQ", "LE", "LT",
    "NE", "R_TRIG", "F_TRIG", "SR", "RS", "TON", "TOF", "TP", "CTU", "CTD",
    "CTUD", "LREAL_TO_INT", "LREAL_TO_DINT", "LREAL_TO_REAL", "INT_TO_LREAL", "DINT_TO_INT", "BOOL_TO_INT",
    "INT_TO_BOOL", "BOOL_TO_LREAL", "LREAL_TO_BOOL",
};
// clang-format on

}  // namespace

std::span<const std::string_view> reservedWords() { return reserved; }
std::span<const std::string_view> standardNames() { return standard; }

}  // namespace hedgerow::st

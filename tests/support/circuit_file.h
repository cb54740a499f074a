#pragma once
// Circuits as data: the text of a circuit, how to run it, and what is to come out, in one file.
//
//     # A title.
//     L1 inductor in sw l 47u                 (lines as in the text form of a circuit)
//     % end 5m
//     % short 400u                            (enough to try what simulations promise)
//     % step 50n                              (of the engine with a fixed step)
//     % engines adaptive                      (all that take the circuit, where the line is not there)
//     % mean out.v from 4m to 5m is 48 within 1e-3   source: volt-second balance
//
// "mean", "rms", "min", "max" and "swing" are known; "within" is relative; every expectation says where its number is
// from.

#include <filesystem>
#include <string>
#include <vector>

#include "support/circuit.h"

namespace hedgerow::test {

struct Expectation {
    std::string measure, quantity;
    double from = 0, to = 0;  ///< s
    double value = 0, within = 0;
    std::string source;
};

struct CircuitCase {
    std::string name, title, step, shortEnd;
    Circuit circuit;
    std::vector<std::string> engines;
    std::vector<Expectation> expectations;
};

/// Throws std::runtime_error, with file and line, where a file cannot be read.
CircuitCase readCircuitCase(const std::filesystem::path& file);
/// Those of a folder, by name.
std::vector<CircuitCase> circuitCases(const std::filesystem::path& folder);
double measured(const Run& run, const Expectation& expectation);

}  // namespace hedgerow::test

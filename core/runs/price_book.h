#pragma once
// What this machine has learnt about prices: how truth compared with what was expected, by kind of work.

#include <filesystem>
#include <map>
#include <string>

#include "base/result.h"

namespace hedgerow {

/// For one thread. Errors of files are not errors: without a file nothing has been learnt yet.
class PriceBook {
public:
    /// Nothing learnt.
    PriceBook() = default;
    /// What a file says; what it does not say, or says wrongly, is not learnt.
    static PriceBook read(const std::filesystem::path& file);
    Status write(const std::filesystem::path& file) const;
    /// $XDG_STATE_HOME/hedgerow/prices.json, or below ~/.local/state.
    static std::filesystem::path usualFile();

    /// A run has ended. @param kind  "adaptive, 32 unknowns"  @param expected, actual  s
    void learn(const std::string& kind, double expected, double actual);
    struct Factor {
        double likely = 1, low = 1, high = 1;  ///< by which an expected price is to be multiplied
        int known = 0;                         ///< runs it was learnt from
    };
    Factor factor(const std::string& kind) const;

private:
    /// Of the logarithm of actual over expected; older runs count less and less.
    struct Entry {
        double weight = 0, mean = 0, square = 0;
        int count = 0;
    };
    std::map<std::string, Entry> entries_;
};

}  // namespace hedgerow

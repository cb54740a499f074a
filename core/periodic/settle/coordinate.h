#pragma once
// One number of a snapshot.

#include <cstddef>
#include <string>

namespace hedgerow::settle {

struct Coordinate {
    enum class Sort { state, output, number, instant };
    Sort sort = Sort::state;
    std::size_t place = 0;   ///< among the states, or the blocks
    std::string entry = {};  ///< of the memory of a block
    std::size_t index = 0;   ///< among the outputs, or within the entry
    std::string name = {};   ///< "C1.v"
    std::string unit = {};
    bool heat = false;
    bool operator==(const Coordinate& other) const {
        return sort == other.sort && place == other.place && entry == other.entry && index == other.index;
    }
};

}  // namespace hedgerow::settle

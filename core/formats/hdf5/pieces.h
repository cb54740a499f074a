#pragma once
// The pieces of a dataset, unpacked here: the library of the distribution believes what a damaged file says about the
// size of an unpacked piece, and reads beyond its memory.

#include <cstddef>
#include <optional>
#include <vector>

#include <hdf5.h>

namespace hedgerow::hdf5 {

/// How the numbers of a column lie in the file.
class Pieces {
public:
    /// @param data a dataset that is one column of `count` numbers
    /// @return nothing unless its numbers are of a simple type, and are all there: in pieces that are packed by methods
    ///   known here, or in a row. A file that claims more numbers than its bytes can hold is refused here, before
    ///   memory is taken for them.
    static std::optional<Pieces> of(hid_t data, hsize_t count);

    /// Numbers [first, first + count) in `memoryType`, a native type of `size` bytes. @return whether they are sound
    bool read(hid_t memoryType, std::size_t size, hsize_t first, hsize_t count, void* to) const;

private:
    Pieces() = default;
    /// The piece that begins with number `start`, as bytes in the file's type; nothing when it is damaged.
    std::optional<std::vector<unsigned char>> piece(hsize_t start) const;

    hid_t data_ = -1;
    hsize_t length_ = 0;                 ///< numbers in a piece; 0: all in a row
    std::size_t numberSize_ = 0;         ///< bytes
    std::vector<H5Z_filter_t> packing_;  ///< in the order of writing
};

}  // namespace hedgerow::hdf5

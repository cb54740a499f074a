#include "formats/hdf5/pieces.h"

#include <algorithm>
#include <cstdint>
#include <cstring>

#include <zlib.h>

#include "formats/hdf5/hdf5_file.h"

namespace hedgerow::hdf5 {

namespace {

using Bytes = std::vector<unsigned char>;

constexpr hsize_t mostPieceBytes = hsize_t{1} << 26;
constexpr hsize_t mostGrowth = 1040;  ///< of bytes by unpacking; zlib.net/zlib_tech.html: at most 1032
constexpr std::size_t checksumBytes = 4;

/// Of 16-bit words, the first byte the higher one, as the HDF5 File Format Specification has it (RFC 1146, 32 bits).
std::uint32_t fletcher32(const unsigned char* bytes, std::size_t size) {
    std::uint32_t first = 0, second = 0;
    for (std::size_t i = 0; i < size; i += 2) {
        first = (first + (bytes[i] << 8 | (i + 1 < size ? bytes[i + 1] : 0))) % 65535;
        second = (second + first) % 65535;
    }
    return second << 16 | first;
}

/// Sums are equal modulo 65535, which is what they are taken by.
bool sameSum(std::uint32_t a, std::uint32_t b) {
    return (a & 0xffff) % 65535 == (b & 0xffff) % 65535 && (a >> 16) % 65535 == (b >> 16) % 65535;
}

bool checked(Bytes& bytes) {
    if (bytes.size() < checksumBytes) return false;
    const std::size_t size = bytes.size() - checksumBytes;
    const unsigned char* sum = bytes.data() + size;
    const std::uint32_t told = sum[0] | sum[1] << 8 | sum[2] << 16 | std::uint32_t{sum[3]} << 24;
    if (!sameSum(told, fletcher32(bytes.data(), size))) return false;
    bytes.resize(size);
    return true;
}

bool inflated(Bytes& bytes, std::size_t most) {
    Bytes to(most);
    uLongf size = most;
    if (uncompress(to.data(), &size, bytes.data(), bytes.size()) != Z_OK) return false;
    to.resize(size);
    bytes = std::move(to);
    return true;
}

/// First bytes of all numbers, second bytes of all numbers ...: back to numbers. What is left over stays at the end.
void unshuffled(Bytes& bytes, std::size_t numberSize) {
    const std::size_t count = bytes.size() / numberSize;
    Bytes to(bytes);
    for (std::size_t b = 0; b < numberSize; ++b)
        for (std::size_t i = 0; i < count; ++i) to[i * numberSize + b] = bytes[b * count + i];
    bytes = std::move(to);
}

bool isKnown(H5Z_filter_t method) {
    return method == H5Z_FILTER_DEFLATE || method == H5Z_FILTER_SHUFFLE || method == H5Z_FILTER_FLETCHER32;
}

/// The bytes of a number, where it is a plain integer or floating-point number; 0 otherwise.
std::size_t sizeOfNumber(hid_t data) {
    const Handle type(H5Dget_type(data), H5Tclose);
    if (!type.good()) return 0;
    const H5T_class_t kind = H5Tget_class(type);
    const std::size_t size = H5Tget_size(type);
    return (kind == H5T_INTEGER || kind == H5T_FLOAT) && size <= 16 ? size : 0;
}

}  // namespace

std::optional<Pieces> Pieces::of(hid_t data, hsize_t count) {
    Pieces pieces;
    pieces.data_ = data;
    pieces.numberSize_ = sizeOfNumber(data);
    const Handle properties(H5Dget_create_plist(data), H5Pclose);
    if (pieces.numberSize_ == 0 || !properties.good() || count > (hsize_t{1} << 48)) return {};
    const H5D_layout_t layout = H5Pget_layout(properties);
    const hsize_t stored = H5Dget_storage_size(data), needed = count * pieces.numberSize_;
    if (layout == H5D_COMPACT || layout == H5D_CONTIGUOUS)
        return stored >= needed && H5Pget_external_count(properties) == 0 ? std::optional(pieces) : std::nullopt;
    if (layout != H5D_CHUNKED || H5Pget_chunk(properties, 1, &pieces.length_) != 1 || pieces.length_ == 0 ||
        pieces.length_ > mostPieceBytes / pieces.numberSize_ || stored > (hsize_t{1} << 48) ||
        stored * mostGrowth < needed)
        return {};
    for (int i = 0; i < H5Pget_nfilters(properties); ++i) {
        unsigned flags = 0;
        std::size_t none = 0;
        pieces.packing_.push_back(
            H5Pget_filter2(properties, static_cast<unsigned>(i), &flags, &none, nullptr, 0, nullptr, nullptr));
        if (!isKnown(pieces.packing_.back())) return {};
    }
    return pieces;
}

std::optional<Bytes> Pieces::piece(hsize_t start) const {
    const std::size_t size = length_ * numberSize_;
    hsize_t packed = 0;
    if (H5Dget_chunk_storage_size(data_, &start, &packed) < 0 || packed == 0 || packed > 2 * size + 64) return {};
    Bytes bytes(packed);
    std::uint32_t left = 0;  // a bit for each method that was left out when writing, from the first on
    if (H5Dread_chunk(data_, H5P_DEFAULT, &start, &left, bytes.data()) < 0) return {};
    for (std::size_t i = packing_.size(); i-- > 0;) {
        if (left >> i & 1) continue;
        const bool good = packing_[i] == H5Z_FILTER_FLETCHER32 ? checked(bytes)
                          : packing_[i] == H5Z_FILTER_DEFLATE  ? inflated(bytes, size + 2 * checksumBytes)
                                                               : (unshuffled(bytes, numberSize_), true);
        if (!good) return {};
    }
    return bytes.size() == size ? std::optional(std::move(bytes)) : std::nullopt;
}

bool Pieces::read(hid_t memoryType, std::size_t size, hsize_t first, hsize_t count, void* to) const {
    if (count == 0) return true;
    if (length_ == 0) {
        const Handle space(H5Dget_space(data_), H5Sclose), memory(H5Screate_simple(1, &count, nullptr), H5Sclose);
        H5Sselect_hyperslab(space, H5S_SELECT_SET, &first, nullptr, &count, nullptr);
        return H5Dread(data_, memoryType, memory, space, H5P_DEFAULT, to) >= 0;
    }
    const Handle type(H5Dget_type(data_), H5Tclose);
    auto* out = static_cast<unsigned char*>(to);
    for (hsize_t at = first, end = first + count; at < end;) {
        const hsize_t inside = at % length_, many = std::min(length_ - inside, end - at);
        const auto bytes = piece(at - inside);
        if (!bytes) return false;
        Bytes numbers(many * std::max(size, numberSize_));
        std::memcpy(numbers.data(), bytes->data() + inside * numberSize_, many * numberSize_);
        if (H5Tconvert(type, memoryType, many, numbers.data(), nullptr, H5P_DEFAULT) < 0) return false;
        std::memcpy(out, numbers.data(), many * size);
        out += many * size;
        at += many;
    }
    return true;
}

}  // namespace hedgerow::hdf5

#include "formats/hdf5/hdf5_file.h"

#include <algorithm>

#include "formats/hdf5/pieces.h"

namespace hedgerow::hdf5 {

namespace {

constexpr hsize_t chunkLength = 4096;
constexpr hsize_t mostNumbers = hsize_t{1} << 31, mostText = hsize_t{1} << 25;
constexpr std::size_t mostAttribute = 1 << 16;  ///< bytes

template <class Number>
bool writeNumbers(hid_t at, const std::string& name, hid_t fileType, hid_t memoryType, hsize_t count,
                  const std::function<Number(hsize_t)>& value, const std::string* unit) {
    auto held = lock();
    const Handle space(H5Screate_simple(1, &count, nullptr), H5Sclose);
    const Handle properties(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
    H5Pset_obj_track_times(properties, false);  // same run, same bytes
    if (count > 0) {
        const hsize_t chunk = std::min(count, chunkLength);
        H5Pset_chunk(properties, 1, &chunk);
        H5Pset_shuffle(properties);
        H5Pset_deflate(properties, 2);
        H5Pset_fletcher32(properties);
    }
    Handle data(H5Dcreate2(at, name.c_str(), fileType, space, H5P_DEFAULT, properties, H5P_DEFAULT), H5Dclose);
    if (!data.good() || (unit && !writeAttribute(data, "unit", *unit))) return false;
    std::vector<Number> buffer;
    for (hsize_t start = 0; start < count; start += chunkLength) {
        const hsize_t length = std::min(chunkLength, count - start);
        buffer.resize(length);
        held.unlock();
        for (hsize_t i = 0; i < length; ++i) buffer[i] = value(start + i);
        held.lock();
        const Handle memory(H5Screate_simple(1, &length, nullptr), H5Sclose);
        const Handle file(H5Dget_space(data), H5Sclose);
        H5Sselect_hyperslab(file, H5S_SELECT_SET, &start, nullptr, &length, nullptr);
        if (H5Dwrite(data, memoryType, memory, file, H5P_DEFAULT, buffer.data()) < 0) return false;
    }
    return data.close();
}

/// The length of a dataset that is one column.
std::optional<hsize_t> length(hid_t data) {
    if (data < 0) return {};
    const Handle space(H5Dget_space(data), H5Sclose);
    hsize_t count = 0;
    if (!space.good() || H5Sget_simple_extent_ndims(space) != 1 ||
        H5Sget_simple_extent_dims(space, &count, nullptr) != 1)
        return {};
    return count;
}

hid_t openData(hid_t at, const std::string& name) {
    return H5Lexists(at, name.c_str(), H5P_DEFAULT) > 0 ? H5Dopen2(at, name.c_str(), H5P_DEFAULT) : -1;
}

/// All numbers of a dataset, or `count` of them from `first` on.
template <class Number>
std::optional<std::vector<Number>> readNumbers(hid_t at, const std::string& name, hid_t memoryType, hsize_t most,
                                               hsize_t first = 0, std::optional<hsize_t> count = {}) {
    const Handle data(openData(at, name), H5Dclose);
    const auto there = length(data);
    if (!there) return {};
    if (!count) count = *there;
    if (*count > most || first > *there || *count > *there - first) return {};
    if (*count == 0) return std::vector<Number>{};
    const auto pieces = Pieces::of(data, *there);
    if (!pieces) return {};
    std::vector<Number> values(*count);
    if (!pieces->read(memoryType, sizeof(Number), first, *count, values.data())) return {};
    return values;
}

}  // namespace

std::unique_lock<std::recursive_mutex> lock() {
    static std::recursive_mutex mutex;
    // Every file is closed here. Where closing fails, on a full disk, the library would fall over what is left of the
    // file when the program ends.
    static const bool leftAlone = H5dont_atexit() >= 0;
    (void)leftAlone;
    std::unique_lock held(mutex);
    H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr);  // errors are told by this program, not printed by the library
    return held;
}

hid_t createFile(const std::string& path) {
    const Handle access(H5Pcreate(H5P_FILE_ACCESS), H5Pclose);
    H5Pset_libver_bounds(access, H5F_LIBVER_V110, H5F_LIBVER_LATEST);
    const Handle making(H5Pcreate(H5P_FILE_CREATE), H5Pclose);
    H5Pset_obj_track_times(making, false);
    return H5Fcreate(path.c_str(), H5F_ACC_TRUNC, making, access);
}

hid_t openFile(const OpenFolder& folder, const std::string& name) {
    if (folder.entry(name) != OpenFolder::Entry::file) return -1;
    return H5Fopen(folder.way(name).c_str(), H5F_ACC_RDONLY, H5P_DEFAULT);
}

hid_t createGroup(hid_t at, const std::string& name) {
    const Handle making(H5Pcreate(H5P_GROUP_CREATE), H5Pclose);
    H5Pset_obj_track_times(making, false);
    return H5Gcreate2(at, name.c_str(), H5P_DEFAULT, making, H5P_DEFAULT);
}

bool writeAttribute(hid_t at, const std::string& name, const std::string& text) {
    const Handle type(H5Tcopy(H5T_C_S1), H5Tclose);
    H5Tset_size(type, std::max<std::size_t>(1, text.size()));
    H5Tset_cset(type, H5T_CSET_UTF8);
    const Handle space(H5Screate(H5S_SCALAR), H5Sclose);
    const Handle attribute(H5Acreate2(at, name.c_str(), type, space, H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    return attribute.good() && H5Awrite(attribute, type, text.c_str()) >= 0;
}

std::optional<std::string> readAttribute(hid_t at, const std::string& name) {
    if (H5Aexists(at, name.c_str()) <= 0) return {};
    const Handle attribute(H5Aopen(at, name.c_str(), H5P_DEFAULT), H5Aclose);
    const Handle type(attribute.good() ? H5Aget_type(attribute) : -1, H5Tclose);
    const Handle space(attribute.good() ? H5Aget_space(attribute) : -1, H5Sclose);
    if (!type.good() || !space.good() || H5Tget_class(type) != H5T_STRING || H5Tis_variable_str(type) > 0 ||
        H5Tget_size(type) > mostAttribute || H5Sget_simple_extent_npoints(space) != 1)
        return {};
    std::string text(H5Tget_size(type), '\0');
    if (H5Aread(attribute, type, text.data()) < 0) return {};
    text.resize(std::min(text.size(), text.find('\0')));
    return text;
}

bool writeText(hid_t at, const std::string& name, const std::string& text) {
    const std::function<std::int64_t(hsize_t)> byte = [&](hsize_t i) {
        return static_cast<std::int64_t>(static_cast<unsigned char>(text[i]));
    };
    return writeNumbers<std::int64_t>(at, name, H5T_STD_U8LE, H5T_NATIVE_INT64, text.size(), byte, nullptr);
}

std::optional<std::string> readText(hid_t at, const std::string& name) {
    const auto bytes = readNumbers<unsigned char>(at, name, H5T_NATIVE_UCHAR, mostText);
    if (!bytes) return {};
    return std::string(bytes->begin(), bytes->end());
}

bool writeColumn(hid_t at, const std::string& name, const std::string& unit, hsize_t count,
                 const std::function<double(hsize_t)>& value) {
    return writeNumbers<double>(at, name, H5T_IEEE_F64LE, H5T_NATIVE_DOUBLE, count, value, &unit);
}

bool writeTicks(hid_t at, const std::string& name, hsize_t count, const std::function<std::int64_t(hsize_t)>& value) {
    return writeNumbers<std::int64_t>(at, name, H5T_STD_I64LE, H5T_NATIVE_INT64, count, value, nullptr);
}

std::optional<std::size_t> lengthOf(hid_t at, const std::string& name) {
    const Handle data(openData(at, name), H5Dclose);
    return length(data);
}

bool writeColumn(hid_t at, const std::string& name, std::span<const double> values) {
    return writeNumbers<double>(
        at, name, H5T_IEEE_F64LE, H5T_NATIVE_DOUBLE, values.size(), [&](hsize_t i) { return values[i]; }, nullptr);
}

bool writeTicks(hid_t at, const std::string& name, std::span<const std::int64_t> values) {
    return writeTicks(at, name, values.size(), [&](hsize_t i) { return values[i]; });
}

bool writeCounts(hid_t at, const std::string& name, std::span<const std::uint32_t> values) {
    return writeNumbers<std::uint32_t>(
        at, name, H5T_STD_U32LE, H5T_NATIVE_UINT32, values.size(), [&](hsize_t i) { return values[i]; }, nullptr);
}

std::optional<std::vector<double>> readColumn(hid_t at, const std::string& name) {
    return readNumbers<double>(at, name, H5T_NATIVE_DOUBLE, mostNumbers);
}

std::optional<std::vector<std::int64_t>> readTicks(hid_t at, const std::string& name) {
    return readNumbers<std::int64_t>(at, name, H5T_NATIVE_INT64, mostNumbers);
}

std::optional<std::vector<std::uint32_t>> readCounts(hid_t at, const std::string& name) {
    return readNumbers<std::uint32_t>(at, name, H5T_NATIVE_UINT32, mostNumbers);
}

std::optional<std::vector<double>> readColumn(hid_t at, const std::string& name, hsize_t first, hsize_t count) {
    return readNumbers<double>(at, name, H5T_NATIVE_DOUBLE, mostNumbers, first, count);
}

std::optional<std::vector<std::int64_t>> readTicks(hid_t at, const std::string& name, hsize_t first, hsize_t count) {
    return readNumbers<std::int64_t>(at, name, H5T_NATIVE_INT64, mostNumbers, first, count);
}

std::optional<std::vector<std::uint32_t>> readCounts(hid_t at, const std::string& name, hsize_t first, hsize_t count) {
    return readNumbers<std::uint32_t>(at, name, H5T_NATIVE_UINT32, mostNumbers, first, count);
}

}  // namespace hedgerow::hdf5

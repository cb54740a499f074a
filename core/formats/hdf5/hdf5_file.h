#pragma once
// Thin covers of the HDF5 library: identifiers that close themselves, columns and texts in and out.
//
// The library of the distribution is not safe for threads: hold lock() around everything. Who holds it may take it
// again.

#include <functional>
#include <mutex>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include <hdf5.h>

#include "base/folder.h"

namespace hedgerow::hdf5 {

std::unique_lock<std::recursive_mutex> lock();

/// An HDF5 identifier that is closed at the end of its scope.
class Handle {
public:
    Handle(hid_t id, herr_t (*close)(hid_t)) : id_(id), close_(close) {}
    ~Handle() {
        if (id_ >= 0) close_(id_);
    }
    Handle(const Handle&) = delete;
    Handle& operator=(const Handle&) = delete;
    operator hid_t() const { return id_; }
    bool good() const { return id_ >= 0; }
    /// Closes it now. @return whether it was open, and all that was held back could be written
    bool close() { return id_ >= 0 && close_(std::exchange(id_, -1)) >= 0; }

private:
    hid_t id_;
    herr_t (*close_)(hid_t);
};

/// A new file in which everything, the library's own structures too, carries checksums: what is damaged is refused
/// before it is used. The same content is the same bytes: no times are kept. @return the identifier for H5Fclose, below
/// 0 when it cannot be made
hid_t createFile(const std::string& path);
/// Opens a regular file for reading, not through a link. @return the identifier for H5Fclose, below 0 when it cannot be
/// opened
hid_t openFile(const OpenFolder& folder, const std::string& name);
/// @return the identifier of the new group, for H5Gclose; below 0 when it cannot be made
hid_t createGroup(hid_t at, const std::string& name);

/// A short text as an attribute. @return whether it was written, as all below
bool writeAttribute(hid_t at, const std::string& name, const std::string& text);
std::optional<std::string> readAttribute(hid_t at, const std::string& name);
/// A text of any length as a dataset of bytes.
bool writeText(hid_t at, const std::string& name, const std::string& text);
std::optional<std::string> readText(hid_t at, const std::string& name);

/// `value(i)` for i below `count`, in compressed pieces, so that no second copy of a long run is needed.
bool writeColumn(hid_t at, const std::string& name, const std::string& unit, hsize_t count,
                 const std::function<double(hsize_t)>& value);
bool writeTicks(hid_t at, const std::string& name, hsize_t count, const std::function<std::int64_t(hsize_t)>& value);
bool writeColumn(hid_t at, const std::string& name, std::span<const double> values);
bool writeTicks(hid_t at, const std::string& name, std::span<const std::int64_t> values);
bool writeCounts(hid_t at, const std::string& name, std::span<const std::uint32_t> values);
/// Nothing when the dataset is missing or damaged, or is not one column.
std::optional<std::vector<double>> readColumn(hid_t at, const std::string& name);
std::optional<std::vector<std::int64_t>> readTicks(hid_t at, const std::string& name);
std::optional<std::vector<std::uint32_t>> readCounts(hid_t at, const std::string& name);
/// How many numbers a column has, without reading them.
std::optional<std::size_t> lengthOf(hid_t at, const std::string& name);
/// Numbers [first, first + count) only; nothing also when there are not so many.
std::optional<std::vector<double>> readColumn(hid_t at, const std::string& name, hsize_t first, hsize_t count);
std::optional<std::vector<std::int64_t>> readTicks(hid_t at, const std::string& name, hsize_t first, hsize_t count);
std::optional<std::vector<std::uint32_t>> readCounts(hid_t at, const std::string& name, hsize_t first, hsize_t count);

}  // namespace hedgerow::hdf5

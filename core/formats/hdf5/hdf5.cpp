// HDF5: /time and one dataset a trace under /traces, chunked and compressed, with units and provenance as attributes.

#include <algorithm>
#include <vector>

#include <hdf5.h>

#include "formats/file.h"
#include "formats/trace_format.h"

namespace hedgerow {

namespace {

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

private:
    hid_t id_;
    herr_t (*close_)(hid_t);
};

constexpr hsize_t chunkLength = 16384;

bool writeText(hid_t at, const std::string& name, const std::string& text) {
    const Handle type(H5Tcopy(H5T_C_S1), H5Tclose);
    H5Tset_size(type, std::max<std::size_t>(1, text.size()));
    H5Tset_cset(type, H5T_CSET_UTF8);
    const Handle space(H5Screate(H5S_SCALAR), H5Sclose);
    const Handle attribute(H5Acreate2(at, name.c_str(), type, space, H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    return attribute.good() && H5Awrite(attribute, type, text.c_str()) >= 0;
}

/// `value(i)` for i below `count`, in pieces, so that no second copy of a long run is needed.
template <class Value>
bool writeColumn(hid_t at, const std::string& name, const std::string& unit, hsize_t count, Value value) {
    const Handle space(H5Screate_simple(1, &count, nullptr), H5Sclose);
    const Handle properties(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
    if (count > 0) {
        const hsize_t chunk = std::min(count, chunkLength);
        H5Pset_chunk(properties, 1, &chunk);
        H5Pset_shuffle(properties);
        H5Pset_deflate(properties, 4);
    }
    const Handle data(H5Dcreate2(at, name.c_str(), H5T_IEEE_F64LE, space, H5P_DEFAULT, properties, H5P_DEFAULT),
                      H5Dclose);
    if (!data.good() || !writeText(data, "unit", unit)) return false;
    std::vector<double> buffer;
    for (hsize_t start = 0; start < count; start += chunkLength) {
        const hsize_t length = std::min(chunkLength, count - start);
        buffer.resize(length);
        for (hsize_t i = 0; i < length; ++i) buffer[i] = value(start + i);
        const Handle memory(H5Screate_simple(1, &length, nullptr), H5Sclose);
        const Handle file(H5Dget_space(data), H5Sclose);
        H5Sselect_hyperslab(file, H5S_SELECT_SET, &start, nullptr, &length, nullptr);
        if (H5Dwrite(data, H5T_NATIVE_DOUBLE, memory, file, H5P_DEFAULT, buffer.data()) < 0) return false;
    }
    return true;
}

class Hdf5Format final : public TraceFormat {
public:
    std::string_view name() const override { return "hdf5"; }
    std::string_view extension() const override { return ".h5"; }
    Status write(const TraceTable& table, const std::filesystem::path& path) const override {
        return replaceAtomically(path, [&](const std::filesystem::path& temporary) -> Status {
            H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr);
            const Error failure{ErrorCode::file, path.string() + " cannot be written"};
            const Handle file(H5Fcreate(temporary.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT), H5Fclose);
            if (!file.good()) return failure;
            const Trace& first = *table.traces.front();
            bool good = true;
            for (const auto& [key, text] : table.provenance) good = good && writeText(file, key, text);
            good = good &&
                   writeColumn(file, "time", "s", first.size(), [&](hsize_t i) { return toSeconds(first.time(i)); });
            const Handle group(H5Gcreate2(file, "traces", H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Gclose);
            good = good && group.good();
            for (const Trace* trace : table.traces)
                good = good && writeColumn(group, trace->name(), trace->unit(), trace->size(),
                                           [&](hsize_t i) { return trace->value(i); });
            if (!good || H5Fflush(file, H5F_SCOPE_GLOBAL) < 0) return failure;
            return {};
        });
    }
};

}  // namespace

std::unique_ptr<TraceFormat> makeHdf5() { return std::make_unique<Hdf5Format>(); }

}  // namespace hedgerow

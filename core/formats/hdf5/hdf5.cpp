// HDF5: /time and one dataset a trace under /traces, chunked and compressed, with units and provenance as attributes.

#include "formats/file.h"
#include "formats/hdf5/hdf5_file.h"
#include "formats/trace_format.h"

namespace hedgerow {

namespace {

class Hdf5Format final : public TraceFormat {
public:
    std::string_view name() const override { return "hdf5"; }
    std::string_view extension() const override { return ".h5"; }
    Status write(const TraceTable& table, const std::filesystem::path& path) const override {
        return replaceAtomically(path, [&](const std::filesystem::path& temporary) -> Status {
            const auto held = hdf5::lock();
            const Error failure{ErrorCode::file, path.string() + " cannot be written"};
            const hdf5::Handle file(H5Fcreate(temporary.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT), H5Fclose);
            if (!file.good()) return failure;
            const Trace& first = *table.traces.front();
            bool good = true;
            for (const auto& [key, text] : table.provenance) good = good && hdf5::writeAttribute(file, key, text);
            good = good && hdf5::writeColumn(file, "time", "s", first.size(),
                                             [&](hsize_t i) { return toSeconds(first.time(i)); });
            const hdf5::Handle group(H5Gcreate2(file, "traces", H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Gclose);
            good = good && group.good();
            for (const Trace* trace : table.traces)
                good = good && hdf5::writeColumn(group, trace->name(), trace->unit(), trace->size(),
                                                 [&](hsize_t i) { return trace->value(i); });
            if (!good || H5Fflush(file, H5F_SCOPE_GLOBAL) < 0) return failure;
            return {};
        });
    }
};

}  // namespace

std::unique_ptr<TraceFormat> makeHdf5() { return std::make_unique<Hdf5Format>(); }

}  // namespace hedgerow

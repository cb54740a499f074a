// HDF5: /time and one dataset a trace under /traces, chunked and compressed, with units and provenance as attributes.

#include "base/apart.h"
#include "formats/file.h"
#include "formats/hdf5/hdf5_file.h"
#include "formats/trace_format.h"

namespace hedgerow {

namespace {

constexpr std::chrono::seconds longestReading{120};  ///< of computing

class Hdf5Format final : public TraceFormat {
public:
    std::string_view name() const override { return "hdf5"; }
    std::string_view extension() const override { return ".h5"; }
    Status write(const TraceTable& table, const std::filesystem::path& path) const override {
        return replaceAtomically(path, [&](const std::filesystem::path& temporary) -> Status {
            const Error failure{ErrorCode::file, path.string() + " cannot be written"};
            auto held = hdf5::lock();
            hdf5::Handle file(hdf5::createFile(temporary.string()), H5Fclose);
            if (!file.good()) return failure;
            const Trace& first = *table.traces.front();
            bool good = true;
            for (const auto& [key, text] : table.provenance) good = good && hdf5::writeAttribute(file, key, text);
            hdf5::Handle group(hdf5::createGroup(file, "traces"), H5Gclose);
            good = good && group.good();
            // The others who read and write have their turn between two pieces: columns take the lock for each.
            held.unlock();
            // What is stopped is filled up at once, and then thrown away.
            const auto value = [&](auto read) {
                return [&, read](hsize_t i) { return table.cancel.cancelled() ? 0.0 : read(i); };
            };
            good = good && hdf5::writeColumn(file, "time", "s", first.size(),
                                             value([&](hsize_t i) { return toSeconds(first.time(i)); }));
            for (const Trace* trace : table.traces)
                good = good && !table.cancel.cancelled() &&
                       hdf5::writeColumn(group, trace->name(), trace->unit(), trace->size(),
                                         value([&](hsize_t i) { return trace->value(i); }));
            held.lock();
            if (auto stopped = table.stopped(); !stopped) return stopped;
            if (!good || !group.close() || H5Fflush(file, H5F_SCOPE_GLOBAL) < 0 || !file.close()) return failure;
            return {};
        });
    }
    /// A column /time and columns of its length under /traces, as written here. Other programs write structures
    /// without checksums, and the library of the distribution falls over damaged ones: it is tried apart first.
    Result<MeasuredData> read(const std::filesystem::path& path) const override {
        const auto held = hdf5::lock();
        const auto readable = comesToAnEnd([&] { (void)readHere(path); }, longestReading);
        if (!readable || !*readable)
            return Error{readable ? ErrorCode::file : ErrorCode::resource,
                         path.filename().string() +
                             (readable ? ": this HDF5 file is damaged" : ": there is no memory left to try it apart")};
        return readHere(path);
    }

private:
    static Result<MeasuredData> readHere(const std::filesystem::path& path) {
        const auto fault = [&](const std::string& what) {
            return Error{ErrorCode::file, path.filename().string() + ": " + what};
        };
        const hdf5::Handle file(H5Fopen(path.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
        if (!file.good()) return fault("this is no readable HDF5 file");
        auto times = hdf5::readColumn(file, "time");
        const hdf5::Handle group(times ? H5Gopen2(file, "traces", H5P_DEFAULT) : -1, H5Gclose);
        if (!group.good()) return fault("a column /time and traces under /traces were expected");
        MeasuredData data{std::move(*times), {}};
        H5G_info_t info{};
        if (H5Gget_info(group, &info) < 0) return fault("the traces cannot be listed");
        for (hsize_t i = 0; i < info.nlinks; ++i) {
            char name[256];
            if (H5Lget_name_by_idx(group, ".", H5_INDEX_NAME, H5_ITER_INC, i, name, sizeof name, H5P_DEFAULT) < 0)
                return fault("the traces cannot be listed");
            auto values = hdf5::readColumn(group, name);
            if (!values || values->size() != data.times.size())
                return fault(std::string("/traces/") + name + " is not a column as long as /time");
            const hdf5::Handle set(H5Dopen2(group, name, H5P_DEFAULT), H5Dclose);
            data.columns.push_back({name, hdf5::readAttribute(set, "unit").value_or(""), std::move(*values)});
        }
        return data;
    }
};

}  // namespace

std::unique_ptr<TraceFormat> makeHdf5() { return std::make_unique<Hdf5Format>(); }

}  // namespace hedgerow

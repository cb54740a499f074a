// COMTRADE as a pair of files: the configuration (.cfg) and the data in text (.dat).

#include "formats/comtrade/records.h"
#include "formats/file.h"
#include "formats/trace_format.h"

namespace hedgerow {

namespace {

class Comtrade final : public TraceFormat {
public:
    std::string_view name() const override { return "comtrade"; }
    std::string_view extension() const override { return ".cfg"; }
    /// The data first: a configuration is never without them.
    Status write(const TraceTable& table, const std::filesystem::path& path) const override {
        using comtrade::DataKind;
        std::filesystem::path data = path;
        data.replace_extension(".dat");
        const std::string numbers = comtrade::data(table, DataKind::ascii);
        if (auto stopped = table.stopped(); !stopped) return stopped;
        if (auto status = writeFileAtomically(data, numbers); !status) return status;
        return writeFileAtomically(path, comtrade::configuration(table, DataKind::ascii));
    }
    Result<MeasuredData> read(const std::filesystem::path& path) const override {
        const auto configuration = readFile(path);
        if (!configuration) return configuration.error();
        std::filesystem::path file = path;
        file.replace_extension(".dat");
        if (std::error_code failed; !std::filesystem::exists(file, failed)) file.replace_extension(".DAT");
        const auto data = readFile(file, std::size_t{2} << 30);
        if (!data) return data.error();
        return comtrade::read(*configuration, *data);
    }
};

}  // namespace

std::unique_ptr<TraceFormat> makeComtrade() { return std::make_unique<Comtrade>(); }

}  // namespace hedgerow

// Comma-separated values (RFC 4180): a header with names and units, a row a stored instant, shortest exact numbers.

#include <cstdio>

#include <cmath>

#include <fmt/format.h>

#include "formats/csv/read_csv.h"
#include "formats/file.h"
#include "formats/trace_format.h"

namespace hedgerow {

namespace {

class CsvFormat final : public TraceFormat {
public:
    std::string_view name() const override { return "csv"; }
    std::string_view extension() const override { return ".csv"; }
    Status write(const TraceTable& table, const std::filesystem::path& path) const override {
        return replaceAtomically(path, [&](const std::filesystem::path& temporary) -> Status {
            std::unique_ptr<std::FILE, int (*)(std::FILE*)> file(std::fopen(temporary.c_str(), "w"), &std::fclose);
            if (!file) return Error{ErrorCode::file, path.string() + " cannot be written"};
            std::string buffer = "time [s]";
            for (const Trace* trace : table.traces) buffer += fmt::format(",{} [{}]", trace->name(), trace->unit());
            buffer += "\n";
            bool good = true;
            for (std::size_t i = 0; i < table.traces.front()->size() && good; ++i) {
                if (i % 1024 == 0)
                    if (auto stopped = table.stopped(); !stopped) return stopped;
                fmt::format_to(std::back_inserter(buffer), "{}", toSeconds(table.traces.front()->time(i)));
                for (const Trace* trace : table.traces)
                    if (const double value = trace->value(i); std::isnan(value))
                        buffer += ',';  // a gap
                    else
                        fmt::format_to(std::back_inserter(buffer), ",{}", value);
                buffer += '\n';
                if (buffer.size() > (1 << 16)) {
                    good = std::fwrite(buffer.data(), 1, buffer.size(), file.get()) == buffer.size();
                    buffer.clear();
                }
            }
            good = good && std::fwrite(buffer.data(), 1, buffer.size(), file.get()) == buffer.size() &&
                   std::fflush(file.get()) == 0;
            if (!good) return Error{ErrorCode::file, path.string() + " cannot be written: the disk may be full"};
            return {};
        });
    }
    Result<MeasuredData> read(const std::filesystem::path& path) const override {
        auto text = readFile(path, std::size_t{2} << 30);
        if (!text) return text.error();
        return readCsv(*text);
    }
};

}  // namespace

std::unique_ptr<TraceFormat> makeCsv() { return std::make_unique<CsvFormat>(); }

}  // namespace hedgerow

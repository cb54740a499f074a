// COMTRADE as one file (.cff) with binary data of 32-bit floating point.

#include <charconv>

#include <fmt/format.h>

#include "base/text.h"
#include "formats/comtrade/records.h"
#include "formats/file.h"
#include "formats/trace_format.h"

namespace hedgerow {

namespace {

constexpr std::string_view mark = "--- file type:";

class ComtradeFile final : public TraceFormat {
public:
    std::string_view name() const override { return "comtrade-file"; }
    std::string_view extension() const override { return ".cff"; }
    Status write(const TraceTable& table, const std::filesystem::path& path) const override {
        using comtrade::DataKind;
        const std::string data = comtrade::data(table, DataKind::float32);
        if (auto stopped = table.stopped(); !stopped) return stopped;
        return writeFileAtomically(
            path, fmt::format("{0} CFG ---\r\n{1}{0} INF ---\r\n{0} HDR ---\r\n{0} DAT BINARY: {2} ---\r\n", mark,
                              comtrade::configuration(table, DataKind::float32), data.size()) +
                      data);
    }
    Result<MeasuredData> read(const std::filesystem::path& path) const override {
        const auto text = readFile(path, std::size_t{2} << 30);
        if (!text) return text.error();
        return sections(*text);
    }

private:
    static Result<MeasuredData> sections(std::string_view text) {
        std::string_view configuration, data;
        while (text.starts_with(mark)) {
            const std::size_t end = text.find('\n');
            if (end == std::string_view::npos) break;
            const std::string head = lowerCase(text.substr(mark.size(), end - mark.size()));
            text.remove_prefix(end + 1);
            std::size_t length = text.find(mark);
            if (const std::size_t colon = head.find(':'); colon != std::string::npos) {
                const std::string_view count = trimmed(std::string_view(head).substr(colon + 1));
                if (std::from_chars(count.data(), count.data() + count.size(), length).ec != std::errc() ||
                    length > text.size())
                    return Error{ErrorCode::file, "the data are shorter than their heading says"};
            }
            const std::string_view section = text.substr(0, length);
            if (head.find("cfg") != std::string::npos) configuration = section;
            if (head.find("dat") != std::string::npos) data = section;
            text.remove_prefix(section.size());
            while (text.starts_with('\r') || text.starts_with('\n')) text.remove_prefix(1);
        }
        if (configuration.empty())
            return Error{ErrorCode::file, "this is no COMTRADE file: the section CFG is missing"};
        return comtrade::read(configuration, data);
    }
};

}  // namespace

std::unique_ptr<TraceFormat> makeComtradeFile() { return std::make_unique<ComtradeFile>(); }

}  // namespace hedgerow

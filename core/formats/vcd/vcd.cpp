// Value change dump of gates and conducting states, IEEE Std 1364-2005, clause 18, in steps of 1 ps.

#include <cmath>

#include <fmt/format.h>

#include "formats/file.h"
#include "formats/trace_format.h"

namespace hedgerow {

namespace {

/// Short identifiers of printable characters.
std::string identifier(std::size_t index) {
    std::string text;
    do {
        text += static_cast<char>('!' + index % 94);
        index /= 94;
    } while (index > 0);
    return text;
}

class Vcd final : public TraceFormat {
public:
    std::string_view name() const override { return "vcd"; }
    std::string_view extension() const override { return ".vcd"; }
    /// Writes those traces of the table that are logic; an error when there are none.
    Status write(const TraceTable& table, const std::filesystem::path& path) const override {
        std::vector<const Trace*> logic;
        for (const Trace* trace : table.traces)
            if (trace->logic()) logic.push_back(trace);
        if (logic.empty())
            return Error{ErrorCode::name, "a value change dump holds gates and conducting states, and none was chosen"};
        std::string text = "$version Hedgerow $end\n$timescale 1 ps $end\n$scope module run $end\n";
        for (std::size_t k = 0; k < logic.size(); ++k)
            text += fmt::format("$var wire 1 {} {} $end\n", identifier(k), logic[k]->name());
        text += "$upscope $end\n$enddefinitions $end\n";
        std::vector<char> last(logic.size(), ' ');
        const Trace& clock = *logic.front();
        for (std::size_t i = 0; i < clock.size(); ++i) {
            if (i % 1024 == 0)
                if (auto stopped = table.stopped(); !stopped) return stopped;
            // Of the points of one instant the last one counts.
            if (i + 1 < clock.size() && clock.time(i + 1) == clock.time(i)) continue;
            std::string changes;
            for (std::size_t k = 0; k < logic.size(); ++k) {
                const double value = logic[k]->value(i);
                const char now = std::isnan(value) ? 'x' : value > 0.5 ? '1' : '0';  // x: it has no value
                if (now != last[k]) changes += fmt::format("{}{}\n", now, identifier(k));
                last[k] = now;
            }
            if (!changes.empty())
                text += fmt::format("#{}\n{}", std::llround(toSeconds(clock.time(i)) * 1e12), changes);
        }
        text += fmt::format("#{}\n", std::llround(toSeconds(clock.time(clock.size() - 1)) * 1e12));
        return writeFileAtomically(path, text);
    }
};

}  // namespace

std::unique_ptr<TraceFormat> makeVcd() { return std::make_unique<Vcd>(); }

}  // namespace hedgerow

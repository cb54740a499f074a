#include "formats/comtrade/records.h"

#include <algorithm>
#include <limits>
#include <bit>
#include <charconv>
#include <cmath>
#include <cstring>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow::comtrade {

namespace {

constexpr double largestStamp = 4.0e9;  ///< of the 32 bits of a time stamp
constexpr double asciiSpan = 99'999;    ///< samples of text lie from -99999 to 99999
constexpr int mostChannels = 10'000;

struct Split {
    std::vector<const Trace*> analogue, status;
};
Split split(const TraceTable& table) {
    Split all;
    for (const Trace* trace : table.traces) (trace->logic() ? all.status : all.analogue).push_back(trace);
    return all;
}

/// Channel names may not hold commas and are at most 64 characters long.
std::string channelName(std::string name) {
    std::replace(name.begin(), name.end(), ',', ';');
    if (name.size() > 64) name.resize(64);
    return name;
}

struct Scale {
    double a = 1, b = 0;
};
Scale scaleOf(const Trace& trace, DataKind kind) {
    if (kind == DataKind::float32) return {};
    const auto [low, high] = trace.range(0, trace.size());
    if (!(low <= high)) return {};  // it has no values
    return {high > low ? (high - low) / (2 * asciiSpan) : 1.0, (high + low) / 2};
}

/// Microseconds a unit of the time stamps stands for.
double stampUnit(const Trace& clock) {
    const double last = toSeconds(clock.time(clock.size() - 1)) * 1e6;
    return std::max(last / largestStamp, 1e-9);
}

std::uint32_t stamp(const Trace& clock, std::size_t i, double unit) {
    return static_cast<std::uint32_t>(std::llround(std::max(0.0, toSeconds(clock.time(i)) * 1e6 / unit)));
}

template <class Number>
void put(std::string& out, Number value) {
    char bytes[sizeof value];
    std::memcpy(bytes, &value, sizeof value);  // both this machine and the standard put the lowest byte first
    static_assert(std::endian::native == std::endian::little);
    out.append(bytes, sizeof value);
}

template <class Number>
Number take(std::string_view& in) {
    Number value{};
    std::memcpy(&value, in.data(), sizeof value);
    in.remove_prefix(sizeof value);
    return value;
}

/// ---- reading

std::vector<std::string> fields(std::string_view line) {
    std::vector<std::string> all;
    for (std::size_t at = 0;;) {
        const std::size_t comma = line.find(',', at);
        all.emplace_back(trimmed(line.substr(at, comma == std::string_view::npos ? comma : comma - at)));
        if (comma == std::string_view::npos) return all;
        at = comma + 1;
    }
}

bool real(const std::string& text, double& value) {
    const auto read = std::from_chars(text.data(), text.data() + text.size(), value);
    return read.ec == std::errc() && read.ptr == text.data() + text.size();
}

class Reader {
public:
    Reader(std::string_view configuration, std::string_view data) : data_(data) {
        while (!configuration.empty()) {
            const std::size_t end = configuration.find('\n');
            std::string_view line = configuration.substr(0, end);
            if (line.ends_with('\r')) line.remove_suffix(1);
            lines_.push_back(fields(line));
            configuration = end == std::string_view::npos ? std::string_view{} : configuration.substr(end + 1);
        }
    }

    Result<MeasuredData> read() {
        if (auto status = readConfiguration(); !status) return status.error();
        const std::string& kind = lower_;
        if (kind == "ascii") {
            if (auto status = readAscii(); !status) return status.error();
        } else if (auto status = readBinary(kind == "binary" ? 2 : 4, kind == "float32"); !status) {
            return status.error();
        }
        if (result_.times.size() < 2) return Error{ErrorCode::file, "the data hold fewer than two samples"};
        for (std::size_t i = 1; i < result_.times.size(); ++i)
            if (result_.times[i] < result_.times[i - 1])
                return Error{ErrorCode::file,
                             fmt::format("the time of sample {} lies before the one before it", i + 1)};
        return std::move(result_);
    }

private:
    struct Analogue {
        double a, b, unit;
    };

    Error fault(std::size_t line, const std::string& expected) const {
        Error error{ErrorCode::file, fmt::format("line {} of the configuration: {}", line + 1, expected)};
        error.line = static_cast<int>(line) + 1;
        return error;
    }
    std::string field(std::size_t line, std::size_t index) const {
        return line < lines_.size() && index < lines_[line].size() ? lines_[line][index] : "";
    }
    static int countOf(const std::string& text, char letter) {
        int value = -1;
        if (text.empty() || (text.back() != letter && text.back() != letter + 32)) return -1;
        std::from_chars(text.data(), text.data() + text.size() - 1, value);
        return value;
    }

    Status readConfiguration() {
        const int analogue = countOf(field(1, 1), 'A');
        status_ = countOf(field(1, 2), 'D');
        if (analogue < 0 || status_ < 0 || analogue + status_ < 1 || analogue + status_ > mostChannels)
            return fault(1, "the numbers of channels were expected, as 4,3A,1D");
        std::size_t line = 2;
        for (int i = 0; i < analogue; ++i, ++line) {
            Analogue channel{1, 0, 1};
            if (!real(field(line, 5), channel.a) || !real(field(line, 6), channel.b))
                return fault(line, "an analogue channel with its factors a and b was expected");
            std::string unit = field(line, 4);
            if (const auto one = evaluate("1 " + unit); one && !unit.empty()) {
                channel.unit = one->value;
                unit = symbolOf(one->dimension);
            }
            analogue_.push_back(channel);
            result_.columns.push_back({field(line, 1), unit, {}});
        }
        for (int i = 0; i < status_; ++i, ++line) {
            if (field(line, 1).empty()) return fault(line, "a status channel was expected");
            result_.columns.push_back({field(line, 1), "", {}, true});
        }
        ++line;  // line frequency
        double rates = 0;
        if (!real(field(line, 0), rates) || rates < 0 || rates > 1000)
            return fault(line, "the number of sampling rates was expected");
        ++line;
        for (int i = 0; i < std::max(1, static_cast<int>(rates)); ++i, ++line) {
            double rate = 0, end = 0;
            if (!real(field(line, 0), rate) || !real(field(line, 1), end) || rate < 0)
                return fault(line, "a sampling rate and its last sample were expected");
            if (rates > 0 && rate > 0) rates_.emplace_back(rate, end);
        }
        line += 2;  // the times of the first sample and of the trigger
        lower_ = lowerCase(field(line, 0));
        if (lower_ != "ascii" && lower_ != "binary" && lower_ != "binary32" && lower_ != "float32")
            return fault(line, "ASCII, BINARY, BINARY32 or FLOAT32 was expected");
        double multiplier = 1;
        if (real(field(line + 1, 0), multiplier) && multiplier > 0) stampSeconds_ = multiplier * 1e-6;
        return {};
    }

    /// By the sampling rates where there are any, else by the stamp.
    double timeOf(std::size_t sample, double stamp) const {
        if (rates_.empty()) return stamp * stampSeconds_;
        double start = 0, first = 0;
        for (const auto& [rate, end] : rates_) {
            const auto n = static_cast<double>(sample);
            if (n < end || &rate == &rates_.back().first) return start + (n - first) / rate;
            start += (end - first) / rate;
            first = end;
        }
        return start;
    }

    Status readAscii() {
        std::size_t sample = 0;
        std::string_view rest = data_;
        while (!rest.empty()) {
            const std::size_t end = rest.find('\n');
            std::string_view line = rest.substr(0, end);
            rest = end == std::string_view::npos ? std::string_view{} : rest.substr(end + 1);
            if (line.ends_with('\r')) line.remove_suffix(1);
            if (trimmed(line).empty() || line.front() == '\x1a') continue;
            const auto values = fields(line);
            const auto wrong = [&] {
                return Error{ErrorCode::file, fmt::format("sample {}: a number, a time and {} values were expected",
                                                          sample + 1, result_.columns.size())};
            };
            double stamp = 0;
            if (values.size() != result_.columns.size() + 2 || (!real(values[1], stamp) && rates_.empty()))
                return wrong();
            result_.times.push_back(timeOf(sample, stamp));
            for (std::size_t i = 0; i < result_.columns.size(); ++i) {
                double value = 0;
                const bool missing = i < analogue_.size() && trimmed(values[i + 2]).empty();
                if (missing)
                    value = std::numeric_limits<double>::quiet_NaN();
                else if (!real(values[i + 2], value))
                    return wrong();
                addValue(i, value);
            }
            ++sample;
        }
        return {};
    }

    Status readBinary(std::size_t width, bool floating) {
        const std::size_t words = static_cast<std::size_t>(status_ + 15) / 16;
        const std::size_t record = 8 + analogue_.size() * width + 2 * words;
        std::string_view rest = data_;
        for (std::size_t sample = 0; rest.size() >= record; ++sample) {
            (void)take<std::uint32_t>(rest);
            result_.times.push_back(timeOf(sample, take<std::uint32_t>(rest)));
            for (std::size_t i = 0; i < analogue_.size(); ++i) {
                const double value = floating     ? static_cast<double>(take<float>(rest))
                                     : width == 2 ? static_cast<double>(take<std::int16_t>(rest))
                                                  : static_cast<double>(take<std::int32_t>(rest));
                const bool missing = !floating && value == (width == 2 ? -32768.0 : -2147483648.0);
                addValue(i, missing ? std::numeric_limits<double>::quiet_NaN() : value);
            }
            for (std::size_t w = 0; w < words; ++w) {
                const auto bits = take<std::uint16_t>(rest);
                for (std::size_t k = 0; k < 16 && w * 16 + k < static_cast<std::size_t>(status_); ++k)
                    addValue(analogue_.size() + w * 16 + k, bits >> k & 1);
            }
        }
        if (!rest.empty())
            return Error{
                ErrorCode::file,
                fmt::format("the data end within a sample: {} bytes are left, a sample has {}", rest.size(), record)};
        return {};
    }

    void addValue(std::size_t column, double value) {
        if (column < analogue_.size()) {
            const Analogue& channel = analogue_[column];
            value = (channel.a * value + channel.b) * channel.unit;
        }
        result_.columns[column].values.push_back(value);
    }

    std::vector<std::vector<std::string>> lines_;
    std::string_view data_;
    MeasuredData result_;
    std::vector<Analogue> analogue_;
    int status_ = 0;
    std::vector<std::pair<double, double>> rates_;  ///< samples a second, and the last sample
    std::string lower_;
    double stampSeconds_ = 1e-6;
};

}  // namespace

std::string configuration(const TraceTable& table, DataKind kind) {
    const Split all = split(table);
    const Trace& clock = *table.traces.front();
    std::string project;
    for (const auto& [key, text] : table.provenance)
        if (key == "project") project = text;
    std::string text = fmt::format("{},Hedgerow,2013\r\n{},{}A,{}D\r\n", channelName(project), table.traces.size(),
                                   all.analogue.size(), all.status.size());
    for (std::size_t i = 0; i < all.analogue.size(); ++i) {
        const Trace& trace = *all.analogue[i];
        const Scale scale = scaleOf(trace, kind);
        const double limit = kind == DataKind::ascii ? asciiSpan : 3.4028235e38;
        text += fmt::format("{},{},,,{},{:.9g},{:.9g},0,{:.8g},{:.8g},1,1,P\r\n", i + 1, channelName(trace.name()),
                            trace.unit(), scale.a, scale.b, -limit, limit);
    }
    for (std::size_t i = 0; i < all.status.size(); ++i)
        text += fmt::format("{},{},,,0\r\n", i + 1, channelName(all.status[i]->name()));
    // Simulated time has no date: it starts with the century.
    text += fmt::format(
        "50\r\n0\r\n0,{}\r\n01/01/2000,00:00:00.000000\r\n01/01/2000,00:00:00.000000\r\n{}\r\n{:.9g}\r\n"
        "0,0\r\n0,0\r\n",
        clock.size(), kind == DataKind::ascii ? "ASCII" : "FLOAT32", stampUnit(clock));
    return text;
}

std::string data(const TraceTable& table, DataKind kind) {
    const Split all = split(table);
    const Trace& clock = *table.traces.front();
    const double unit = stampUnit(clock);
    std::vector<Scale> scales;
    for (const Trace* trace : all.analogue) scales.push_back(scaleOf(*trace, kind));
    std::string out;
    for (std::size_t i = 0; i < clock.size() && !table.cancel.cancelled(); ++i) {
        const auto number = static_cast<std::uint32_t>(i + 1), time = stamp(clock, i, unit);
        if (kind == DataKind::ascii) {
            out += fmt::format("{},{}", number, time);
            for (std::size_t k = 0; k < all.analogue.size(); ++k)
                if (const double value = all.analogue[k]->value(i); std::isnan(value))
                    out += ',';  // missing: nothing between the separators
                else
                    out += fmt::format(",{}", std::lround((value - scales[k].b) / scales[k].a));
            for (const Trace* trace : all.status) out += trace->value(i) > 0.5 ? ",1" : ",0";
            out += "\r\n";
            continue;
        }
        put(out, number);
        put(out, time);
        for (const Trace* trace : all.analogue) put(out, static_cast<float>(trace->value(i)));
        for (std::size_t first = 0; first < all.status.size(); first += 16) {
            std::uint16_t bits = 0;
            for (std::size_t k = 0; k < 16 && first + k < all.status.size(); ++k)
                if (all.status[first + k]->value(i) > 0.5) bits = static_cast<std::uint16_t>(bits | 1u << k);
            put(out, bits);
        }
    }
    return out;
}

Result<MeasuredData> read(std::string_view configuration, std::string_view data) {
    return Reader(configuration, data).read();
}

}  // namespace hedgerow::comtrade

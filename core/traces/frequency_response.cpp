#include "traces/frequency_response.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

std::vector<double> phaseOf(const FrequencyResponse& response) {
    std::vector<double> all;
    for (const std::complex<double>& value : response.values) {
        double phase = std::arg(value) * 180 / std::numbers::pi;
        if (!all.empty()) phase += 360 * std::round((all.back() - phase) / 360);
        all.push_back(phase);
    }
    return all;
}

Margins marginsOf(const FrequencyResponse& response) {
    Margins margins;
    const std::vector<double> phase = phaseOf(response);
    const std::size_t n = response.values.size();
    std::vector<double> gain, place;
    for (std::size_t i = 0; i < n; ++i) {
        gain.push_back(std::log(std::max(std::abs(response.values[i]), 1e-300)));
        place.push_back(std::log(response.frequencies[i]));
        if (std::abs(response.values[i]) > margins.peak)
            margins.peak = std::abs(response.values[i]), margins.peakAt = response.frequencies[i];
    }
    const auto between = [](double a, double b, double part) { return a + (b - a) * part; };
    for (std::size_t i = 0; i + 1 < n; ++i) {
        if (gain[i] >= 0 && gain[i + 1] < 0) {
            const double part = gain[i] / (gain[i] - gain[i + 1]);
            margins.crossover = std::exp(between(place[i], place[i + 1], part));
            // From -180 degrees, whichever turn the phase is in.
            const double margin = between(phase[i], phase[i + 1], part) + 180;
            margins.phaseMargin = margin - 360 * std::round(margin / 360);
        }
        // -180 degrees, or a whole number of turns from it.
        const double a = (phase[i] + 180) / 360, b = (phase[i + 1] + 180) / 360;
        if (!margins.gainMargin && std::floor(a) != std::floor(b) && std::ceil(a) != std::ceil(b) && a > b) {
            const double part = (a - std::ceil(b)) / (a - b);
            margins.phaseCrossover = std::exp(between(place[i], place[i + 1], part));
            margins.gainMargin = std::exp(-between(gain[i], gain[i + 1], part));
        }
        const double fallen = gain[0] - std::numbers::ln2 / 2;
        if (!margins.bandwidth && gain[i] >= fallen && gain[i + 1] < fallen)
            margins.bandwidth = std::exp(between(place[i], place[i + 1], (gain[i] - fallen) / (gain[i] - gain[i + 1])));
    }
    return margins;
}

std::string responsesAsCsv(const std::vector<FrequencyResponse>& responses) {
    std::string text = "frequency [Hz]";
    for (const FrequencyResponse& one : responses) {
        const std::string of = one.unit.empty() ? "" : " " + one.unit;
        text += fmt::format(",\"{0}, gain [dB{1}]\",\"{0}, phase [deg]\",\"{0}, real{2}\",\"{0}, imaginary{2}\"",
                            one.name, of, one.unit.empty() ? "" : " [" + one.unit + "]");
    }
    text += "\n";
    std::vector<std::vector<double>> phases;
    std::size_t rows = SIZE_MAX;
    for (const FrequencyResponse& one : responses) {
        phases.push_back(phaseOf(one));
        rows = std::min(rows, one.values.size());
    }
    for (std::size_t i = 0; !responses.empty() && i < rows; ++i) {
        text += fmt::format("{}", responses.front().frequencies[i]);
        for (std::size_t k = 0; k < responses.size(); ++k) {
            const std::complex<double> value = responses[k].values[i];
            text +=
                fmt::format(",{},{},{},{}", 20 * std::log10(std::abs(value)), phases[k][i], value.real(), value.imag());
        }
        text += "\n";
    }
    return text;
}

namespace {

/// The cells of a line, quoted ones without their quotes.
std::vector<std::string> cellsOf(std::string_view line, char separator) {
    std::vector<std::string> cells(1);
    bool quoted = false;
    for (const char c : line) {
        if (c == '"')
            quoted = !quoted;
        else if (c == separator && !quoted)
            cells.emplace_back();
        else if (c != '\r')
            cells.back() += c;
    }
    for (std::string& cell : cells) cell = std::string(trimmed(cell));
    return cells;
}

Error atLine(int line, std::string message) { return {ErrorCode::syntax, std::move(message), {}, {}, {}, line, 1}; }

bool says(const std::string& cell, const char* word) { return lowerCase(cell).find(word) != std::string::npos; }

}  // namespace

Result<std::vector<FrequencyResponse>> readResponseTable(std::string_view text) {
    constexpr std::size_t mostRows = 10'000'000;
    std::vector<FrequencyResponse> all;
    struct Columns {
        std::size_t gain = 0, phase = 0;
        bool decibel = true;
    };
    std::vector<Columns> columns;
    std::size_t width = 0;
    char separator = ',';
    int number = 0;
    for (std::size_t start = 0; start < text.size();) {
        const std::size_t end = std::min(text.find('\n', start), text.size());
        const std::string_view line = text.substr(start, end - start);
        start = end + 1;
        ++number;
        if (trimmed(line).empty() || line.front() == '#') continue;
        if (width == 0) {
            if (line.find(';') != std::string_view::npos) separator = ';';
            if (line.find('\t') != std::string_view::npos) separator = '\t';
            const std::vector<std::string> head = cellsOf(line, separator);
            width = head.size();
            for (std::size_t i = 1; i + 1 < head.size(); ++i) {
                if (!says(head[i], "gain") && !says(head[i], "magnitude") && !says(head[i], "db")) continue;
                if (!says(head[i + 1], "phase")) return atLine(number, "the column behind a gain must be its phase");
                columns.push_back({i, i + 1, says(head[i], "db")});
                std::string name = head[i].substr(0, head[i].find(", gain"));
                all.push_back({name.empty() ? "measured" : name, "", {}, {}});
                ++i;
            }
            if (columns.empty()) return atLine(number, "the first line must name columns of gain and phase");
            continue;
        }
        const std::vector<std::string> cells = cellsOf(line, separator);
        if (cells.size() < width) return atLine(number, fmt::format("{} columns were expected", width));
        const auto frequency = numberIn(cells[0]);
        if (!frequency || !(*frequency > 0)) return atLine(number, fmt::format("'{}' is no frequency", cells[0]));
        for (std::size_t k = 0; k < all.size(); ++k) {
            const auto gain = numberIn(cells[columns[k].gain]), phase = numberIn(cells[columns[k].phase]);
            if (!gain || !phase) return atLine(number, "a gain and a phase in numbers were expected");
            if (!all[k].frequencies.empty() && *frequency <= all[k].frequencies.back())
                return atLine(number, "frequencies must rise");
            const double size = columns[k].decibel ? std::pow(10.0, *gain / 20) : *gain;
            if (!std::isfinite(size)) return atLine(number, "the gain is out of range");
            all[k].frequencies.push_back(*frequency);
            all[k].values.push_back(std::polar(std::abs(size), std::fmod(*phase, 360.0) * std::numbers::pi / 180));
            if (all[k].values.size() > mostRows) return atLine(number, "there are more rows than can be read");
        }
    }
    if (all.empty() || all.front().values.empty())
        return Error{ErrorCode::syntax, "there are no numbers in this table"};
    return all;
}

}  // namespace hedgerow

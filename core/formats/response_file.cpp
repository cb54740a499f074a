#include "formats/response_file.h"

#include <cmath>
#include <span>

#include <fmt/format.h>

#include "base/file.h"
#include "base/text.h"
#include "formats/file.h"
#include "formats/hdf5/hdf5_file.h"
#include "formats/touchstone/touchstone.h"

namespace hedgerow {

namespace {

constexpr std::size_t mostBytes = std::size_t{64} << 20;

bool writeCurve(hid_t group, const FrequencyResponse& one) {
    std::vector<double> gain, real, imaginary;
    for (const std::complex<double>& value : one.values) {
        gain.push_back(20 * std::log10(std::abs(value)));
        real.push_back(value.real()), imaginary.push_back(value.imag());
    }
    const std::vector<double> phase = phaseOf(one);
    return hdf5::writeAttribute(group, "name", one.name) && hdf5::writeAttribute(group, "unit", one.unit) &&
           hdf5::writeColumn(group, "gain", gain) && hdf5::writeColumn(group, "phase", phase) &&
           hdf5::writeColumn(group, "real", real) && hdf5::writeColumn(group, "imaginary", imaginary);
}

Status writeHdf5(const std::filesystem::path& path, const std::vector<FrequencyResponse>& responses) {
    return replaceAtomically(path, [&](const std::filesystem::path& temporary) -> Status {
        const Error failure{ErrorCode::file, path.string() + " cannot be written"};
        const auto held = hdf5::lock();
        hdf5::Handle file(hdf5::createFile(temporary.string()), H5Fclose);
        if (!file.good()) return failure;
        hdf5::Handle all(hdf5::createGroup(file, "responses"), H5Gclose);
        bool good = all.good() && hdf5::writeColumn(file, "frequency", std::span(responses.front().frequencies));
        for (std::size_t i = 0; good && i < responses.size(); ++i) {
            hdf5::Handle group(hdf5::createGroup(all, fmt::format("{}", i + 1)), H5Gclose);
            good = group.good() && writeCurve(group, responses[i]) && group.close();
        }
        if (!good || !all.close() || H5Fflush(file, H5F_SCOPE_GLOBAL) < 0 || !file.close()) return failure;
        return {};
    });
}

}  // namespace

Status writeResponses(const std::filesystem::path& path, const std::vector<FrequencyResponse>& responses) {
    if (responses.empty()) return Error{ErrorCode::name, "there is no response to write"};
    const std::string ending = lowerCase(path.extension().string());
    if (ending == ".csv") return writeFileAtomically(path, responsesAsCsv(responses));
    if (ending == ".h5") return writeHdf5(path, responses);
    return Error{ErrorCode::name, fmt::format("responses are written as .csv and .h5, not as '{}'", ending)};
}

Result<std::vector<FrequencyResponse>> readResponses(const std::filesystem::path& path) {
    const std::string name = path.filename().string();
    const auto text = readFile(path, mostBytes);
    if (!text) return text.error();
    const int ports = portsOfName(name);
    const bool touchstone = ports > 0 || text->find("[Version]") != std::string::npos;
    auto read = touchstone ? readTouchstone(*text, ports) : readResponseTable(*text);
    if (!read) {
        Error error = read.error();
        error.message = name + ": " + error.text();
        error.line = 0;
        return error;
    }
    for (FrequencyResponse& curve : *read) curve.name = read->size() > 1 || touchstone ? name + " " + curve.name : name;
    return read;
}

}  // namespace hedgerow

// Between project files and the text form of a circuit.

#include <unistd.h>
#include <filesystem>
#include <iostream>
#include <iterator>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

#include "base/text.h"
#include "commands.h"
#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "model/nets.h"
#include "model/text_form.h"
#include "runs/registry.h"

namespace hedgerow::cli {

namespace {

constexpr std::size_t mostTextBytes = std::size_t{64} << 20;

bool isProject(const std::string& file) {
    return lowerCase(std::filesystem::path(file).extension().string()) == ".hedge";
}

Result<std::string> textOf(const std::string& file) {
    if (file != "-") return readFile(file, mostTextBytes);
    std::string text;
    for (std::istreambuf_iterator<char> at(std::cin), end; at != end; ++at) {
        if (text.size() >= mostTextBytes) return Error{ErrorCode::resource, "standard input is longer than 64 MB"};
        text += *at;
    }
    return text;
}

int toText(const std::string& from, const std::string& to, bool overwrite) {
    const auto loaded = loadHedge(from);
    if (!loaded) {
        spdlog::error("{}", loaded.error().text());
        return unreadable;
    }
    const Catalogue& catalogue = partLibrary().catalogue();
    const std::string text = writeText(loaded->project, catalogue, findNets(loaded->project.sheet(), catalogue));
    if (loaded->project.sheets.size() > 1)
        spdlog::warn("{}: the text has the main sheet only; the modules stay in the project", from);
    if (to == "-") {
        fmt::print("{}", text);
        return success;
    }
    if (std::filesystem::exists(to) && !overwrite) {
        spdlog::error("{} exists; --overwrite replaces it", to);
        return usage;
    }
    if (const Status written = writeFileAtomically(to, text); !written) {
        spdlog::error("{}", written.error().text());
        return unwritable;
    }
    return success;
}

int toProject(const std::string& from, const std::string& to, const std::string& onto, bool overwrite) {
    const auto text = textOf(from);
    if (!text) {
        spdlog::error("{}", text.error().text());
        return unreadable;
    }
    Project project;
    if (!onto.empty()) {
        auto loaded = loadHedge(onto);
        if (!loaded) {
            spdlog::error("{}", loaded.error().text());
            return unreadable;
        }
        project = std::move(loaded->project);
    } else {
        project.title = std::filesystem::path(to).stem().string();
    }
    const Catalogue& catalogue = partLibrary().catalogue();
    TextCircuit circuit = readText(*text, catalogue);
    for (const Error& error : circuit.errors) spdlog::error("{}: {}", from, error.text());
    if (!circuit.errors.empty()) return unreadable;
    if (const Status done = edits::becomeText(std::move(circuit), catalogue).apply(project); !done) {
        spdlog::error("{}: {}", from, done.error().text());
        return unsound;
    }
    if (std::filesystem::exists(to) && !overwrite) {
        spdlog::error("{} exists; --overwrite replaces it", to);
        return usage;
    }
    if (const Status saved = saveHedge(project, to); !saved) {
        spdlog::error("{}", saved.error().text());
        return unwritable;
    }
    return success;
}

}  // namespace

int convert(const std::string& from, const std::string& to, const std::string& onto, bool overwrite) {
    if (isProject(from) == isProject(to)) {
        spdlog::error("one of the two is a *.hedge file, the other one a text");
        return usage;
    }
    if (isProject(from) && !onto.empty()) {
        spdlog::error("--onto is for a text that becomes a project");
        return usage;
    }
    return isProject(from) ? toText(from, to, overwrite) : toProject(from, to, onto, overwrite);
}

}  // namespace hedgerow::cli

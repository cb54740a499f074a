#include "base/project_folder.h"

#include <algorithm>

#include <fmt/format.h>

#include "base/file.h"

namespace hedgerow {

namespace fs = std::filesystem;

bool ProjectFolder::mayRead(const fs::path& real) const {
    if (all_ || allowed_.contains(real.string())) return true;
    if (path_.empty()) return false;
    std::error_code failed;
    const fs::path folder = fs::canonical(path_, failed);
    // The root holds everything: a project that lies there reads beside it only.
    if (failed || folder == folder.root_path()) return !failed && real.parent_path() == folder;
    return std::mismatch(folder.begin(), folder.end(), real.begin(), real.end()).first == folder.end();
}

std::string ProjectFolder::outside(const std::string& name) const {
    if (path_.empty() && !fs::path(name).is_absolute()) return "";
    std::error_code failed;
    const fs::path real = fs::weakly_canonical(placeOf(name), failed);
    return failed || mayRead(real) ? "" : real.string();
}

Result<std::string> ProjectFolder::read(const std::string& name, std::size_t mostBytes) const {
    const auto refused = [&](std::string message) { return Error{ErrorCode::file, std::move(message)}; };
    if (name.find('\0') != std::string::npos) return refused("the name of a file has no zero bytes");
    if (path_.empty() && !fs::path(name).is_absolute())
        return refused(fmt::format(
            "the file {} cannot be found: names start at the folder of the project, which was not saved yet", name));
    if (const std::string real = outside(name); !real.empty())
        return refused(fmt::format("the file {} lies outside of the project's folder and was not allowed", name));
    auto file = openRegular(placeOf(name));
    if (!file) return refused(fmt::format("the file {} cannot be read: {}", name, file.error().message));
    // What was opened may be another file than what was looked at.
    std::error_code failed;
    const fs::path real = fs::read_symlink(fmt::format("/proc/self/fd/{}", file->get()), failed);
    if (!failed && !mayRead(real))
        return refused(fmt::format("the file {} lies outside of the project's folder and was not allowed", name));
    auto text = readAll(*file, name, mostBytes);
    if (!text) return refused("the file " + text.error().message);
    return text;
}

}  // namespace hedgerow

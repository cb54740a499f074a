#include "files/outside_files.h"

#include <algorithm>

#include <nlohmann/json.hpp>

#include "formats/file.h"
#include "formats/hedge/json_place.h"
#include "files/library.h"

namespace hedgerow {

namespace {

using Json = nlohmann::ordered_json;

std::string keyOf(const std::filesystem::path& project) {
    std::error_code failed;
    const auto real = std::filesystem::weakly_canonical(project, failed);
    return failed ? project.string() : real.string();
}

Json stored(const std::filesystem::path& store) {
    constexpr std::size_t mostBytes = std::size_t{8} << 20;
    const auto text = readFile(store, mostBytes);
    Json json = text && beyondBounds(*text).empty() ? Json::parse(*text, nullptr, false) : Json();
    return json.is_object() ? json : Json::object();
}

}  // namespace

std::vector<std::string> namedFiles(const Project& project) {
    std::set<std::string> names;
    const auto addFrom = [&](const Part& part) {
        for (const auto& [key, text] : part.values.all())
            if ((text.ends_with(".csv") || text.ends_with(".st")) && text.find('\n') == std::string::npos)
                names.insert(text);
    };
    for (const Sheet& sheet : project.sheets)
        for (const Part& part : sheet.parts) addFrom(part);
    for (const Part& part : project.kept) addFrom(part);
    for (const Plan& plan : project.plans)
        if (plan.start != "given" && plan.start != "operating point" && !plan.start.empty()) names.insert(plan.start);
    return {names.begin(), names.end()};
}

std::set<std::string> outsideFiles(const Project& project) {
    std::set<std::string> places;
    for (const std::string& name : namedFiles(project))
        if (std::string place = project.folder.outside(name); !place.empty()) places.insert(std::move(place));
    return places;
}

AllowedFiles AllowedFiles::ofUser() { return AllowedFiles(ownLibraryFolder().parent_path() / "allowed.json"); }

std::set<std::string> AllowedFiles::of(const std::filesystem::path& project) const {
    std::set<std::string> files;
    const Json json = stored(store_);
    if (const auto found = json.find(keyOf(project)); found != json.end() && found->is_array())
        for (const Json& file : *found)
            if (file.is_string()) files.insert(file.get<std::string>());
    return files;
}

Status AllowedFiles::allow(const std::filesystem::path& project, const std::set<std::string>& files) const {
    std::set<std::string> all = of(project);
    all.insert(files.begin(), files.end());
    Json json = stored(store_);
    json[keyOf(project)] = all;
    std::error_code failed;
    std::filesystem::create_directories(store_.parent_path(), failed);
    return writeFileAtomically(store_, json.dump(1, ' ', false, Json::error_handler_t::replace) + "\n");
}

}  // namespace hedgerow

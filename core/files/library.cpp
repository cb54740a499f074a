#include "files/library.h"

#include <algorithm>
#include <cstdlib>

#include "formats/hedge/hedge.h"
#include "model/modules.h"

namespace hedgerow {

namespace {

namespace fs = std::filesystem;

template <class Item>
void addNew(std::vector<Item>& list, const Item& item) {
    const auto same = [&](const Item& other) { return other.name == item.name; };
    if (std::none_of(list.begin(), list.end(), same)) list.push_back(item);
}

template <class Item>
void replace(std::vector<Item>& list, const Item& item) {
    const auto same =
        std::find_if(list.begin(), list.end(), [&](const Item& other) { return other.name == item.name; });
    if (same == list.end())
        list.push_back(item);
    else
        *same = item;
}

}  // namespace

Library readLibrary(const std::vector<fs::path>& folders) {
    Library library;
    for (const fs::path& folder : folders) {
        std::vector<fs::path> files;
        std::error_code failed;
        for (const auto& entry : fs::directory_iterator(folder, failed))
            if (entry.path().extension() == ".hedge") files.push_back(entry.path());
        std::sort(files.begin(), files.end());
        for (const fs::path& file : files) {
            auto loaded = loadHedge(file);
            if (!loaded) {
                library.errors.push_back(loaded.error());
                continue;
            }
            const std::vector<Sheet>& sheets = loaded->project.sheets;
            for (std::size_t i = 1; i < sheets.size(); ++i) {
                Sheet module = sheets[i];
                module.origin = file.stem().string();
                addNew(library.modules, module);
            }
            for (const Part& part : loaded->project.kept) addNew(library.kept, part);
        }
    }
    return library;
}

Status shareInLibrary(const fs::path& file, const Project& project, const std::vector<std::string>& modules,
                      const std::vector<std::string>& kept) {
    Project shared;
    shared.title = file.stem().string();
    std::error_code failed;
    if (fs::exists(file, failed)) {
        auto loaded = loadHedge(file);
        if (!loaded) return loaded.error();
        if (loaded->readOnly)
            return Error{ErrorCode::file,
                         file.filename().string() + " was written by a newer version: it stays as it is"};
        shared = std::move(loaded->project);
    }
    Sheet needed;
    for (const std::string& name : modules) needed.parts.emplace_back().kind = moduleKindId(name);
    for (const Part& part : project.kept)
        if (std::find(kept.begin(), kept.end(), part.name) != kept.end()) {
            replace(shared.kept, part);
            needed.parts.push_back(part);
        }
    for (const Sheet* sheet : modulesUnder(needed, project.sheets)) {
        if (sheet == &needed || sheet == &project.sheets.front()) continue;
        Sheet module = *sheet;
        module.origin.clear();
        replace(shared.sheets, module);
    }
    fs::create_directories(file.parent_path(), failed);
    return saveHedge(shared, file);
}

fs::path ownLibraryFolder() {
    if (const char* data = std::getenv("XDG_DATA_HOME"); data && *data) return fs::path(data) / "hedgerow" / "library";
    const char* home = std::getenv("HOME");
    return fs::path(home ? home : ".") / ".local" / "share" / "hedgerow" / "library";
}

}  // namespace hedgerow

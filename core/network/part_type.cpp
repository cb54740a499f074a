#include "network/part_type.h"

#include "network/layout.h"

namespace hedgerow {

void PartLibrary::add(std::unique_ptr<PartType> type) {
    PartKind kind = type->kind();
    addLayoutValues(kind);
    types_[kind.id] = std::move(type);
    catalogue_.add(std::move(kind));
}

const PartType* PartLibrary::find(std::string_view kind) const {
    const auto found = types_.find(kind);
    return found == types_.end() ? nullptr : found->second.get();
}

}  // namespace hedgerow

#include "base/memory.h"

#include <algorithm>
#include <cmath>

namespace hedgerow {

MemoryRecord Memory::put(const Visit& visit, Instants instants) {
    Memory memory(Way::write, instants);
    visit(memory);
    return std::move(memory.written_);
}

std::vector<std::string> Memory::take(const MemoryRecord& record, const Visit& visit, Instants instants) {
    Memory memory(Way::read, instants);
    memory.record_ = &record;
    memory.together(visit);
    std::sort(memory.used_.begin(), memory.used_.end());
    for (const auto& [name, entry] : record)
        if (!std::binary_search(memory.used_.begin(), memory.used_.end(), name)) memory.misfits_.push_back(name);
    std::sort(memory.misfits_.begin(), memory.misfits_.end());
    memory.misfits_.erase(std::unique(memory.misfits_.begin(), memory.misfits_.end()), memory.misfits_.end());
    return std::move(memory.misfits_);
}

void Memory::together(const Visit& visit) {
    // Looked at by the check of what is around it: it decides for itself when its turn to be read comes.
    if (way_ == Way::check) return;
    if (way_ == Way::write) return visit(*this);
    way_ = Way::check;
    fits_ = true;
    visit(*this);
    way_ = Way::read;
    if (fits_) visit(*this);
}

void Memory::inside(std::string_view name, const Visit& visit) {
    const std::size_t length = prefix_.size();
    prefix_ += std::string(name) + ".";
    visit(*this);
    prefix_.resize(length);
}

const MemoryEntry* Memory::miss(std::string_view name) {
    fits_ = false;
    misfits_.push_back(full(name));
    return nullptr;
}

/// The entry of this name and sort, or nullptr.
const MemoryEntry* Memory::find(std::string_view name, MemoryEntry::Sort sort) {
    const auto found = record_->find(full(name));
    if (found != record_->end()) used_.push_back(found->first);
    return found != record_->end() && found->second.sort == sort ? &found->second : miss(name);
}

void Memory::numbers(std::string_view name, std::span<double> values, bool finite) {
    if (way_ == Way::write) {
        written_[full(name)] = {MemoryEntry::Sort::number, {values.begin(), values.end()}, {}};
        return;
    }
    const MemoryEntry* entry = find(name, MemoryEntry::Sort::number);
    if (!entry) return;
    const bool sound =
        entry->numbers.size() == values.size() &&
        (!finite || std::all_of(entry->numbers.begin(), entry->numbers.end(), [](double n) { return std::isfinite(n); }));
    if (!sound) return (void)miss(name);
    if (reading()) std::copy(entry->numbers.begin(), entry->numbers.end(), values.begin());
}

void Memory::scalars(std::string_view name, std::span<std::int64_t> values, MemoryEntry::Sort sort, Range bounds) {
    if (way_ == Way::write) {
        written_[full(name)] = {sort, {}, {values.begin(), values.end()}};
        return;
    }
    const MemoryEntry* entry = find(name, sort);
    if (!entry) return;
    const bool sound = entry->wholes.size() == values.size() &&
                       std::all_of(entry->wholes.begin(), entry->wholes.end(),
                                   [&](std::int64_t w) { return w >= bounds.least && w <= bounds.most; });
    if (!sound) return (void)miss(name);
    if (reading()) std::copy(entry->wholes.begin(), entry->wholes.end(), values.begin());
}

void Memory::flag(std::string_view name, bool& value) {
    std::int64_t wide = value ? 1 : 0;
    scalars(name, {&wide, 1}, MemoryEntry::Sort::flag, {0, 1});
    if (reading()) value = wide != 0;
}

void Memory::wholes(std::string_view name, std::span<std::int64_t> values, std::int64_t least, std::int64_t most) {
    scalars(name, values, MemoryEntry::Sort::whole, {least, most});
}

void Memory::instants(std::string_view name, std::vector<Tick>& values, std::size_t most) {
    if (way_ == Way::write) {
        written_[full(name)] = {MemoryEntry::Sort::instant, {}, values};
        return;
    }
    const MemoryEntry* entry = find(name, MemoryEntry::Sort::instant);
    if (entry && entry->wholes.size() > most) entry = miss(name);
    if (entry && reading()) values = entry->wholes;
}

void Memory::list(std::string_view name, std::vector<double>& values, std::size_t most) {
    if (way_ == Way::write) {
        written_[full(name)] = {MemoryEntry::Sort::number, values, {}};
        return;
    }
    const MemoryEntry* entry = find(name, MemoryEntry::Sort::number);
    if (entry && entry->numbers.size() > most) entry = miss(name);
    if (entry && reading()) values = entry->numbers;
}

void Memory::list(std::string_view name, std::vector<std::int64_t>& values, std::size_t most, std::int64_t greatest) {
    if (way_ == Way::write) {
        written_[full(name)] = {MemoryEntry::Sort::whole, {}, values};
        return;
    }
    const MemoryEntry* entry = find(name, MemoryEntry::Sort::whole);
    const bool sound = entry && entry->wholes.size() <= most &&
                       std::all_of(entry->wholes.begin(), entry->wholes.end(),
                                   [&](std::int64_t w) { return w >= 0 && w <= greatest; });
    if (entry && !sound) entry = miss(name);
    if (entry && reading()) values = entry->wholes;
}

}  // namespace hedgerow

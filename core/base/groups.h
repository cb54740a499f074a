#pragma once
// Things by number that are joined to groups, two at a time (R. E. Tarjan, J. ACM 22 (1975), 215).

#include <cstddef>
#include <vector>

namespace hedgerow {

class Groups {
public:
    explicit Groups(std::size_t count) : leader_(count) {
        for (std::size_t i = 0; i < count; ++i) leader_[i] = i;
    }
    /// The same number for all members of a group.
    std::size_t of(std::size_t i) {
        while (leader_[i] != i) i = leader_[i] = leader_[leader_[i]];
        return i;
    }
    void join(std::size_t a, std::size_t b) { leader_[of(a)] = of(b); }

private:
    std::vector<std::size_t> leader_;
};

}  // namespace hedgerow

/// @file base/disjoint_sets.hpp
/// Sets that only grow together (union-find with path halving; Tarjan 1975).

#pragma once
#include <algorithm>
#include <cstdint>
#include <numeric>
#include <vector>

namespace escultura {

/// @tparam Index  holds the count of members
template <class Index = std::int32_t>
class DisjointSets {
  public:
    /// Every member is a set of its own.
    explicit DisjointSets(std::size_t count) : parent_(count) { std::iota(parent_.begin(), parent_.end(), Index(0)); }

    /// The least member of a set stands for it, whatever the order in which sets were joined.
    Index find(Index member) {
        while (parent_[member] != member) {
            parent_[member] = parent_[parent_[member]];
            member = parent_[member];
        }
        return member;
    }
    void join(Index a, Index b) {
        a = find(a);
        b = find(b);
        if (a != b) parent_[std::max(a, b)] = std::min(a, b);
    }

  private:
    std::vector<Index> parent_;
};

}  // namespace escultura

/// @file lattice/edge_table.hpp
/// A table of numbers by edges, for tight loops over tetrahedra: open addressing, and a mark at every vertex that has
/// an edge in it, so that most questions need no look into the table. Inside this folder only.

#pragma once
#include <algorithm>
#include <cstdint>
#include <utility>
#include <vector>

namespace escultura::lattice {

inline std::uint64_t edgeKey(std::int32_t a, std::int32_t b) {
    return (static_cast<std::uint64_t>(std::min(a, b)) << 32) | static_cast<std::uint32_t>(std::max(a, b));
}
inline std::int32_t lowEnd(std::uint64_t key) {
    return static_cast<std::int32_t>(key >> 32);
}
inline std::int32_t highEnd(std::uint64_t key) {
    return static_cast<std::int32_t>(key & 0xffffffffu);
}

class EdgeTable {
  public:
    /// @param vertices  how many there are. @param expected  edges that it will hold; it grows beyond
    explicit EdgeTable(std::size_t vertices, std::size_t expected = 0) : touched_(vertices, 0) {
        std::size_t size = 64;
        while (size < 2 * expected) size *= 2;
        key_.assign(size, 0);
        value_.resize(size);
    }
    /// Value of an edge; null when it is not in the table.
    std::int32_t* find(std::int32_t a, std::int32_t b) {
        return const_cast<std::int32_t*>(std::as_const(*this).find(a, b));
    }
    const std::int32_t* find(std::int32_t a, std::int32_t b) const {
        if (!touched_[static_cast<std::size_t>(a)] || !touched_[static_cast<std::size_t>(b)]) return nullptr;
        const std::size_t at = slotOf(edgeKey(a, b));
        return key_[at] ? &value_[at] : nullptr;
    }
    /// @return whether it was not there before
    bool add(std::int32_t a, std::int32_t b, std::int32_t value) {
        const std::uint64_t key = edgeKey(a, b);
        std::size_t at = slotOf(key);
        if (key_[at]) return false;
        if (2 * (count_ + 1) > key_.size()) {
            grow();
            at = slotOf(key);
        }
        key_[at] = key;
        value_[at] = value;
        ++count_;
        touched_[static_cast<std::size_t>(a)] = touched_[static_cast<std::size_t>(b)] = 1;
        return true;
    }
    std::size_t size() const { return count_; }
    bool touches(std::int32_t vertex) const { return touched_[static_cast<std::size_t>(vertex)] != 0; }
    /// In ascending order: the same whatever the order in which they came.
    std::vector<std::uint64_t> keys() const {
        std::vector<std::uint64_t> all;
        all.reserve(count_);
        for (const std::uint64_t k : key_)
            if (k) all.push_back(k);
        std::sort(all.begin(), all.end());
        return all;
    }

  private:
    /// Where a key is or belongs. No edge has the key 0.
    std::size_t slotOf(std::uint64_t key) const {
        std::uint64_t h = key * 0x9E3779B97F4A7C15u;
        h ^= h >> 32;
        std::size_t at = h & (key_.size() - 1);
        while (key_[at] && key_[at] != key) at = (at + 1) & (key_.size() - 1);
        return at;
    }
    void grow() {
        std::vector<std::uint64_t> keys(2 * key_.size(), 0);
        std::vector<std::int32_t> values(keys.size());
        keys.swap(key_);
        values.swap(value_);
        for (std::size_t s = 0; s < keys.size(); ++s)
            if (keys[s]) {
                const std::size_t at = slotOf(keys[s]);
                key_[at] = keys[s];
                value_[at] = values[s];
            }
    }
    std::vector<char> touched_;
    std::vector<std::uint64_t> key_;
    std::vector<std::int32_t> value_;
    std::size_t count_ = 0;
};

}  // namespace escultura::lattice

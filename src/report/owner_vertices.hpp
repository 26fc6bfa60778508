/// @file report/owner_vertices.hpp
/// Vertices of a mesh numbered apart for each owner of their triangles, so that edges between owners look sharp.

#pragma once
#include <cstdint>
#include <map>
#include <utility>
#include <vector>

namespace escultura::report {

class OwnerVertices {
  public:
    explicit OwnerVertices(std::size_t vertices) : first_(vertices, {-1, -1}) {}
    /// @return number of the vertex for this owner, and whether it is new; numbers run from 0 in the order of asking
    std::pair<std::int32_t, bool> number(std::int32_t vertex, std::int32_t owner) {
        auto& [ownerOfFirst, numberOfFirst] = first_[static_cast<std::size_t>(vertex)];
        if (numberOfFirst < 0) {
            ownerOfFirst = owner;
            numberOfFirst = count_;
            return {count_++, true};
        }
        if (ownerOfFirst == owner) return {numberOfFirst, false};
        const auto [at, isNew] = others_.try_emplace({vertex, owner}, count_);
        count_ += isNew;
        return {at->second, isNew};
    }

  private:
    std::vector<std::pair<std::int32_t, std::int32_t>> first_;  // [vertices] owner that came first, and its number
    std::map<std::pair<std::int32_t, std::int32_t>, std::int32_t> others_;  // few: along edges between owners
    std::int32_t count_ = 0;
};

}  // namespace escultura::report

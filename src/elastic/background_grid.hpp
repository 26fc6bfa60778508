/// @file elastic/background_grid.hpp
/// Octrees laid over a part: the nested coarse spaces of the multigrid solver.

#pragma once
#include <array>
#include <cstdint>
#include <unordered_map>
#include <vector>

#include "base/geometry.hpp"

namespace escultura::elastic {

/// A share of a grid node's value.
struct GridWeight {
    std::int32_t node;
    float weight;
};

/// Leaves of an octree of different sizes; only those that hold points exist. Corners that hang on the side of a larger
/// leaf take that leaf's interpolation, so the interpolation is continuous and exact for linear functions; no balance
/// between neighbours is needed.
class BackgroundGrid {
  public:
    /// Lays leaves around points.
    /// @param finest  edge of a leaf of level 0, mm
    /// @param level   [points] wanted level: the leaf of a point is at most finest * 2^level wide
    BackgroundGrid(const std::vector<Vec3>& points, const std::vector<int>& level, double finest);

    /// The same with leaves merged by two, wherever all parts of the larger leaf are whole.
    BackgroundGrid coarser() const;

    std::size_t nodeCount() const { return position_.size(); }
    std::size_t leafCount() const { return leaves_.size(); }
    const std::vector<Vec3>& position() const { return position_; }  ///< [nodes] mm

    /// Leaf that holds a point, or the closest of those around it; leaves are in Morton order. -1: none near.
    int leafAt(const Vec3& point) const;
    /// Shares of the grid's nodes at a point, by the interpolation of one leaf.
    void interpolate(int leaf, const Vec3& point, std::vector<GridWeight>& out) const;

  private:
    struct Cell {
        std::int32_t level, i, j, k;  ///< in units of its own size
    };
    using Corner = std::array<std::int32_t, 3>;  ///< in units of level 0

    BackgroundGrid() = default;
    static std::uint64_t keyOf(const Cell& cell);
    static std::uint64_t keyOf(const Corner& corner);
    /// Leaf whose half-open box holds the level-0 cell; -1: none.
    int locate(const Corner& cell) const;
    /// Numbers the corners and resolves the hanging ones.
    void build();

    Vec3 origin_ = Vec3::Zero();
    double finest_ = 1;
    int coarsest_ = 0;
    std::vector<Cell> leaves_;
    std::unordered_map<std::uint64_t, std::int32_t> leafOf_;
    std::vector<std::array<std::int32_t, 8>> corners_;  ///< [leaves] into resolved_
    std::vector<std::vector<GridWeight>> resolved_;     ///< [corners] shares of the nodes
    std::vector<Vec3> position_;
};

}  // namespace escultura::elastic

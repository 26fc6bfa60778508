/// @file elastic/numbering.hpp
/// The unknowns of a supported mesh, and the way from nodes to unknowns and back.

#pragma once
#include <optional>
#include <utility>
#include <vector>

#include "elastic/background_grid.hpp"
#include "elastic/loads.hpp"
#include "elastic/supports.hpp"

namespace escultura::elastic {

/// Loads of one case in the terms of the mesh.
struct LoadVector {
    NodalForces forces;         ///< [nodes] N
    std::vector<double> given;  ///< [constraints] mm, added to Constraint::value; empty: nothing
};

/// Rows of three unknowns: one for each node, in the node's own frame where it is held along slanted directions; two
/// for each rigid group (translation, and rotation times a length). Held unknowns stay as rows of their own.
class Numbering {
  public:
    struct Row {
        Vec3 position;             ///< mm
        std::int8_t freeMask = 7;  ///< bit k: component k is an unknown
        bool framed = false;       ///< components are along the columns of frame, else global
        std::int32_t group = -1;   ///< of a rigid group's rows
        bool rotation = false;     ///< the second row of the group
        Mat3 frame = Mat3::Identity();
        bool isFree(int component) const { return freeMask >> component & 1; }
    };
    /// @param mesh        must outlive this
    /// @param gridFactor  background grid's spacing over the local corner spacing; 0: no grid, rows in the nodes' order
    /// @throws InputError where supports contradict one another
    Numbering(const mesh::TetMesh& mesh, const Supports& supports, double gridFactor);

    const mesh::TetMesh& mesh() const { return mesh_; }
    std::size_t rows() const { return row_.size(); }
    const Row& row(std::size_t r) const { return row_[r]; }
    std::size_t unknowns() const;
    /// Row of a node; of a node in a rigid group that of its translation, and the rotation's follows it.
    std::int32_t rowOf(std::int32_t node) const { return rowOf_[node]; }
    /// Rows of a node. @return how many: 1, or 2 in a rigid group
    int rowsOf(std::int32_t node, std::int32_t* two) const;
    /// How a row's unknowns move a node.
    Mat3 transform(std::int32_t node, std::int32_t row) const;

    /// The grid laid over the nodes, when asked for; and the leaf of each row.
    const std::optional<BackgroundGrid>& grid() const { return grid_; }
    const std::vector<std::int32_t>& leafOfRow() const { return leaf_; }
    void dropGrid() { grid_.reset(); }
    /// Shares of the grid in a row's unknowns: how the coarse displacement field sets them. Blocks are row-major.
    void prolongation(std::size_t row, std::vector<GridWeight>& scalar,
                      std::vector<std::pair<std::int32_t, Mat3>>& blocks, bool& usesBlocks) const;

    /// Displacements of nodes from unknowns (one vector of three a row), plus the given ones.
    std::vector<Vec3> displacement(const std::vector<Vec3>& q) const;
    /// Given displacements of a case as unknowns; zero where free.
    std::vector<Vec3> givenPart(const LoadVector& load) const;
    /// Forces on unknowns from forces on nodes; zero where held.
    std::vector<Vec3> restricted(const std::vector<Vec3>& nodal) const;
    /// Nodes on which supports of any kind act.
    const std::vector<char>& supportedNodes() const { return supported_; }

  private:
    void markSupported(const Supports& supports);
    void gatherGroups(const Supports& supports, std::vector<std::int32_t>& groupOf);
    /// Nodes in the order of their leaves, so that the products read memory in order.
    std::vector<std::int32_t> orderByLeaf(double gridFactor, std::vector<std::int32_t>& leaf);
    void placeRows(const std::vector<std::int32_t>& groupOf, double gridFactor);
    /// Takes what the constraints of a node hold out of its unknowns.
    void hold(std::int32_t node, const std::vector<std::int32_t>& list, const std::vector<Constraint>& constraints);
    void holdAlongAxes(std::int32_t node, const std::vector<std::int32_t>& list,
                       const std::vector<Constraint>& constraints);

    const mesh::TetMesh& mesh_;
    std::vector<Row> row_;
    std::vector<std::int32_t> rowOf_;  ///< [nodes] of a group's nodes: the translation's row
    struct Held {
        std::int32_t row;
        std::int8_t component;
        std::vector<std::pair<std::int32_t, double>> of;  ///< constraints and factors
    };
    std::vector<Held> held_;
    /// Constraints that others imply, as sums of given displacements that must be zero.
    std::vector<std::vector<std::pair<std::int32_t, double>>> repeated_;
    std::vector<double> constraintValue_;
    struct Group {
        Vec3 middle;
        double length;
        std::vector<std::int32_t> nodes;
        std::array<bool, 6> held;
        /// A few of the nodes, far apart, from whose motion that of the group is told on coarse grids: with all of them
        /// the coarse equations would have a dense block of the whole face.
        std::vector<std::int32_t> spread;
        Vec3 spreadMiddle;
        Mat3 spreadInertia;  ///< inverse
    };
    void spreadOver(Group& group) const;
    std::vector<Group> group_;
    std::vector<char> supported_;
    std::optional<BackgroundGrid> grid_;
    std::vector<std::int32_t> leaf_;
};

}  // namespace escultura::elastic

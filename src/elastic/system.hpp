/// @file elastic/system.hpp
/// The equations of a supported mesh: unknowns after supports and rigid groups, their matrix, and the way back.

#pragma once
#include <memory>
#include <optional>

#include "elastic/background_grid.hpp"
#include "elastic/block_matrix.hpp"
#include "elastic/loads.hpp"
#include "elastic/supports.hpp"

namespace escultura::elastic {

/// Loads of one case in the terms of the mesh.
struct LoadVector {
    NodalForces forces;         ///< [nodes] N
    std::vector<double> given;  ///< [constraints] mm, added to Constraint::value; empty: nothing
};

/// Internal forces K u of displacements, by integrating the stresses. [nodes] N
/// @param displacement  [nodes] mm
std::vector<Vec3> internalForces(const mesh::TetMesh& mesh, const Stiffness6& elasticity,
                                 const std::vector<Vec3>& displacement);

/// Rows of three unknowns: one for each node, in the node's own frame where it is held along slanted directions; two
/// for each rigid group (translation, and rotation times a length). Held unknowns stay in the matrix as uncoupled rows.
class System {
  public:
    struct Row {
        Vec3 position;             ///< mm
        std::int8_t freeMask = 7;  ///< bit k: component k is an unknown
        bool framed = false;       ///< components are along the columns of frame, else global
        std::int32_t group = -1;   ///< of a rigid group's rows
        bool rotation = false;     ///< the second row of the group
        Mat3 frame = Mat3::Identity();
    };
    /// @param gridFactor  background grid's spacing over the local corner spacing; 0: no grid, rows in the nodes' order
    System(const mesh::TetMesh& mesh, const Material& material, const Supports& supports, double gridFactor,
           Progress& progress);

    std::size_t rows() const { return row_.size(); }
    const Row& row(std::size_t r) const { return row_[r]; }
    std::size_t unknowns() const;
    const SplitBlocks& matrix() const { return matrix_; }
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
    /// Forces of the elastic beds on the nodes (against the displacement).
    void addBedForces(const std::vector<Vec3>& displacement, std::vector<Vec3>& nodal) const;
    /// Nodes on which supports act.
    const std::vector<char>& supportedNodes() const { return supported_; }

    /// Rows of the mean motions that are held, as vectors of unknowns (B); displacements must give B u = 0. As sparse
    /// as the face: they never enter the matrix.
    const std::vector<std::vector<std::pair<std::int32_t, Vec3>>>& meanRows() const { return meanRows_; }
    /// Where mean motions are held the matrix has a soft bed on top of the stiffness, without which it could be
    /// singular: matrix() = stiffness + bed. Takes the bed's share out of a product: y -= bed x.
    /// @param vectors  1 or 4, laid out [row][component][vector]
    void subtractBed(int vectors, const double* x, double* y) const;

  private:
    void placeRows(const Supports& supports, double gridFactor);
    void assemble(const Material& material, const Supports& supports, Progress& progress);
    Mat3 transform(std::int32_t node, std::int32_t row) const;

    const mesh::TetMesh& mesh_;
    std::vector<ElasticBed> beds_;
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
    std::vector<std::vector<std::pair<std::int32_t, Vec3>>> meanRows_;
    struct BedEntry {
        std::int32_t row, column;
        Mat3 block;
    };
    std::vector<BedEntry> bed_;  ///< of held mean motions
    SplitBlocks matrix_;
    std::optional<BackgroundGrid> grid_;
    std::vector<std::int32_t> leaf_;
};

}  // namespace escultura::elastic

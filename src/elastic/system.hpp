/// @file elastic/system.hpp
/// The equations of a supported mesh: its numbering, the stiffness assembled on it, and what is held beyond nodes.

#pragma once
#include "elastic/block_matrix.hpp"
#include "elastic/kernels.hpp"
#include "elastic/numbering.hpp"

namespace escultura::elastic {

/// Held unknowns stay in the matrix as uncoupled rows.
class System : public Numbering {
  public:
    /// @param gridFactor  background grid's spacing over the local corner spacing; 0: no grid, rows in the nodes' order
    System(const mesh::TetMesh& mesh, const Material& material, const Supports& supports, double gridFactor,
           Progress& progress);

    const SplitBlocks& matrix() const { return matrix_; }
    /// Another matrix on the same unknowns, from what the elements contribute; rows and columns of held unknowns are
    /// zero. @param words  what is assembled, for the progress
    SplitBlocks assembled(const ElementKernel& kernel, const std::string& words, Progress& progress) const;

    /// Forces of the elastic beds on the nodes (against the displacement).
    void addBedForces(const std::vector<Vec3>& displacement, std::vector<Vec3>& nodal) const;

    /// Rows of the mean motions that are held, as vectors of unknowns (B); displacements must give B u = 0. As sparse
    /// as the face: they never enter the matrix.
    const std::vector<std::vector<std::pair<std::int32_t, Vec3>>>& meanRows() const { return meanRows_; }
    /// Where mean motions are held the matrix has a soft bed on top of the stiffness, without which it could be
    /// singular: matrix() = stiffness + bed. Takes the bed's share out of a product: y -= bed x.
    /// @param vectors  1 or 4, laid out [row][component][vector]
    void subtractBed(int vectors, const double* x, double* y) const;

  private:
    void holdMeans(const Supports& supports);
    void addBeds();
    void addSoftBeds(const Supports& supports, double shearModulus);

    std::vector<ElasticBed> beds_;
    std::vector<std::vector<std::pair<std::int32_t, Vec3>>> meanRows_;
    struct BedEntry {
        std::int32_t row, column;
        Mat3 block;
    };
    std::vector<BedEntry> bed_;  ///< of held mean motions
    SplitBlocks matrix_;
};

}  // namespace escultura::elastic

/// @file elastic/submodel.hpp
/// A piece of a solved model on its own: where it was cut out it is moved as the whole model moves there.

#pragma once
#include "elastic/system.hpp"

namespace escultura::elastic {

/// A piece of a mesh with all that acts on it. The faces along the cut are not in the mesh's boundary.
struct Submodel {
    mesh::TetMesh mesh;
    std::vector<std::int32_t> node;  ///< [nodes] of the whole mesh
    Supports supports;               ///< those of the whole model on the piece, then the cut
    std::vector<LoadVector> loads;   ///< [cases]
};

/// Displacement of a node of the whole mesh in a case, mm.
using CutDisplacement = std::function<Vec3(std::size_t loadCase, std::int32_t node)>;

/// Takes all elements at the faces whose mean motion is held and that a piece reaches, in any of several sets of
/// supports: what cutOut() would take along for each. @param keep  [elements] 1: belongs to the piece
void takeHeldFaces(const mesh::TetMesh& mesh, const std::vector<Supports>& sets, std::vector<char>& keep);

/// Cuts a piece out. Faces whose mean motion is held come along whole; nodes of rigid groups are moved like the cut.
/// @param keep   [elements] 1: belongs to the piece
/// @param loads  [cases] on the whole mesh
Submodel cutOut(const mesh::TetMesh& mesh, std::vector<char> keep, const Supports& supports,
                const std::vector<LoadVector>& loads, const CutDisplacement& displacement);

}  // namespace escultura::elastic

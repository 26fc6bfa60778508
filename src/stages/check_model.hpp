/// @file stages/check_model.hpp
/// A part's duty in the terms of a mesh: what the solver gets.

#pragma once
#include "elastic/solve.hpp"
#include "stages/part_shape.hpp"

namespace escultura::stages {

struct CheckModel {
    elastic::Supports supports;
    std::vector<std::string> cases;          ///< names of the cases that are solved, in order
    std::vector<elastic::LoadVector> loads;  ///< [cases]
    std::vector<double> facetShare;    ///< [cases] largest difference between applied and meant that facets explain
    std::vector<MeantLoad> meant;      ///< [cases]
    std::vector<double> intoSupports;  ///< [cases] shareIntoSupports() of what acts on faces
};

/// Share of nodal forces that acts along directions in which their nodes are held, 0 to 1: what never loads the part.
double shareIntoSupports(const elastic::Supports& supports, const elastic::NodalForces& forces);

/// @throws InputError naming the interface that the part does not reach
CheckModel checkModel(const Part& part, const std::vector<NamedFace>& faces, const mesh::TetMesh& mesh);

/// Faces of the mesh's boundary that belong to a named face.
std::vector<std::int32_t> facesOf(const mesh::TetMesh& mesh, const NamedFace& face);
/// @throws InputError when the interface has no such face
const NamedFace& findFace(const std::vector<NamedFace>& faces, const std::string& interface, const std::string& face);

}  // namespace escultura::stages

/// @file stages/check_model.hpp
/// A part's duty in the terms of a mesh: what the solver gets.

#pragma once
#include "elastic/solve.hpp"
#include "stages/part_shape.hpp"

namespace escultura::stages {

struct CheckModel {
    std::vector<std::string> sets;            ///< names of the sets of supports; empty: what holds in every case
    std::vector<elastic::Supports> supports;  ///< [sets]
    std::vector<std::string> cases;           ///< names of the cases that are solved, in order
    std::vector<std::size_t> setOf;           ///< [cases]
    std::vector<elastic::LoadVector> loads;   ///< [cases]
    std::vector<double> facetShare;    ///< [cases] largest difference between applied and meant that facets explain
    std::vector<MeantLoad> meant;      ///< [cases]
    std::vector<double> intoSupports;  ///< [cases] shareIntoSupports() of what acts on faces
};

/// Solves cases with the supports of their sets: one set-up for each set. @param setOf  [loads] index of a set
/// @throws what elastic::solve() throws
elastic::Solution solveSets(const mesh::TetMesh& mesh, const elastic::Material& material,
                            const std::vector<elastic::Supports>& supports, const std::vector<std::string>& sets,
                            const std::vector<elastic::LoadVector>& loads, const std::vector<std::size_t>& setOf,
                            const elastic::SolveOptions& options, Progress& progress);
/// Cases that belong to a set, in order.
std::vector<std::size_t> casesOf(const std::vector<std::size_t>& setOf, std::size_t set);

/// Share of nodal forces that acts along directions in which their nodes are held, 0 to 1: what never loads the part.
double shareIntoSupports(const elastic::Supports& supports, const elastic::NodalForces& forces);

/// @throws InputError naming the interface that the part does not reach
CheckModel checkModel(const Part& part, const std::vector<NamedFace>& faces, const mesh::TetMesh& mesh);

/// Faces of the mesh's boundary that belong to a named face.
std::vector<std::int32_t> facesOf(const mesh::TetMesh& mesh, const NamedFace& face);
/// The same for all surfaces that a face of an interface has. @throws InputError when it has none
std::vector<std::int32_t> facesOf(const mesh::TetMesh& mesh, const std::vector<NamedFace>& faces,
                                  const std::string& interface, const std::string& face);
/// @throws InputError when the interface has no such face
const NamedFace& findFace(const std::vector<NamedFace>& faces, const std::string& interface, const std::string& face);

}  // namespace escultura::stages

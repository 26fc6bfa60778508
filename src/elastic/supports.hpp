/// @file elastic/supports.hpp
/// How a part is held, in the terms of its mesh.

#pragma once
#include <array>
#include <string>
#include <vector>

#include "elastic/material.hpp"
#include "mesh/tet_mesh.hpp"

namespace escultura::elastic {

/// The displacement of one node along one direction is given, mm. Several may hold one node; those that say the same
/// direction twice count once.
struct Constraint {
    Constraint(std::int32_t heldNode, int component, double given = 0)
        : node(heldNode), direction(Vec3::Unit(component)), value(given) {}
    Constraint(std::int32_t heldNode, const Vec3& along, double given = 0)
        : node(heldNode), direction(along), value(given) {}
    std::int32_t node;
    Vec3 direction;  ///< unit vector
    double value;    ///< in every load case; LoadVector::given adds to it
};

/// Faces on springs to the ground: an elastic bed.
struct ElasticBed {
    std::vector<std::int32_t> faces;  ///< indices into mesh.boundary
    double normal = 0;                ///< stiffness per area along the face's normal, N/mm3
    double tangential = 0;            ///< across it, N/mm3
};

/// Faces whose mean motion is held while they stay free to deform: a remote support.
struct MeanHold {
    std::vector<std::int32_t> faces;
    Vec3 centre = Vec3::Zero();  ///< mm; rotations are held about it
    /// Mean translation along x, y, z, then mean rotation about x, y, z through the centre.
    std::array<bool, 6> held{true, true, true, true, true, true};
    Mat3 frame = Mat3::Identity();  ///< its columns are the directions x, y, z
};

/// Nodes that move as one rigid body; with `held`, one that does not move at all along those motions.
struct RigidGroup {
    std::vector<std::int32_t> nodes;
    std::array<bool, 6> held{};  ///< three translations of the group's middle, three rotations, global
};

struct Supports {
    std::vector<Constraint> constraints;
    std::vector<ElasticBed> beds;
    std::vector<MeanHold> meanHolds;
    std::vector<RigidGroup> rigidGroups;
};

/// Names of the rigid motions that the supports leave free; empty when the part is held. For example
/// "rotation about (0, 1, 0)".
std::vector<std::string> freeMotions(const mesh::TetMesh& mesh, const Supports& supports);

/// Area-weighted mean motion of faces as rows over nodes: translation = sum of weight * u; rotation fitted by least
/// squares about the centre. Sparse: only the nodes of the faces have entries.
struct MeanMotion {
    std::vector<std::int32_t> node;
    std::vector<Eigen::Matrix<double, 6, 3>> weight;  ///< [node] in the hold's frame; rotation in rad
};
MeanMotion meanMotion(const mesh::TetMesh& mesh, const MeanHold& hold);

}  // namespace escultura::elastic

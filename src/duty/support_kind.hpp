/// @file duty/support_kind.hpp
/// The kinds of supports, each described in one file of `duty/supports`, as load_kind.hpp does it for loads.

#pragma once
#include <functional>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "duty/figure.hpp"
#include "elastic/supports.hpp"

namespace escultura::duty {

class Node;

/// One face of an interface that a support acts on, and where what it holds goes.
struct SupportTarget {
    const mesh::TetMesh& mesh;
    const Interface& interface;
    const std::vector<std::int32_t>& faces;  ///< indices into the mesh's boundary
    const std::set<std::int32_t>& nodes;     ///< of the faces
    Mat3 axes;                               ///< of the support's frame
    elastic::Supports& supports;             ///< beds, mean holds and rigid groups are added to
    /// Holds a node along a unit vector; a displacement may move what is held this way.
    std::function<void(std::int32_t node, const Vec3& direction)> hold;
    /// Unit vector from the interface's axis to a node.
    Vec3 radial(std::int32_t node) const;
    /// Unit normal of a face that is not flat at a node.
    Vec3 normal(std::int32_t node) const;
};

/// A point of a nominal face, for judging what is held before there is a mesh.
struct NominalPoint {
    const Interface& interface;
    Vec3 normal;  ///< outward
    Mat3 axes;    ///< of the support's frame
};

struct SupportKind {
    Support::Kind kind;
    const char* key;       ///< of the part file
    const char* words;     ///< of the screen
    const char* hint;      ///< beside the form; empty: none
    bool onLines = false;  ///< edges and points as well
    bool hasFrame = false;
    bool canBeMoved = false;             ///< by a load of kind 'displacement'
    const char* motionsKey = "";         ///< of the part file: which motions are held; empty: no choice
    std::vector<const char*> motions{};  ///< that may be held: three kept in Support::held, or six in Support::motions
    bool motionsWrittenIfAll = true;     ///< else holding all of them goes without saying
    std::vector<Figure<Support>> figures{};
    void (*apply)(const Support& support, const SupportTarget& target) = nullptr;
    /// Directions that are held at a point of the face; none: only the mesh tells.
    std::optional<std::vector<Vec3>> (*heldAt)(const Support& support, const NominalPoint& at) = nullptr;
    /// What must hold beyond its figures; refuses at a node. Null: nothing.
    void (*require)(const Support& support, const Node& node) = nullptr;
    /// What it holds, such as "x, y, z", without its frame. Null: the motions that are held.
    std::string (*describe)(const Support& support) = nullptr;
};

/// All kinds, in the order of Support::Kind.
const std::vector<SupportKind>& supportKinds();
const SupportKind& supportKind(Support::Kind kind);

/// Whether a motion of the kind's list is held.
bool isHeld(const Support& support, std::size_t motion);
void setHeld(Support& support, std::size_t motion, bool held);

}  // namespace escultura::duty

/// @file duty/load_kind.hpp
/// The kinds of loads, each described in one file of `duty/loads`: what the part file says, words and figures of the
/// window, what the kind does to a mesh, what it is meant to add up to, how it is drawn, and what looks odd about it.
/// A new kind is a new file there, a line in load_kinds.cpp, and its name in Load::Kind (with what it keeps in Load).

#pragma once
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "duty/figure.hpp"
#include "elastic/loads.hpp"

namespace escultura::duty {

class Node;

/// A face of an interface on a mesh.
struct LoadedFace {
    const Interface& interface;
    const std::vector<std::int32_t>& faces;  ///< indices into the mesh's boundary
    Vec3 middle;                             ///< of the nominal face, mm
};

/// Volume, centroid and second moments about it, by the elements of a mesh.
struct MeshMass {
    double volume = 0;           ///< mm3
    Vec3 centre = Vec3::Zero();  ///< mm
    Mat3 spread = Mat3::Zero();  ///< integral of d d^T with d from the centroid, mm5
};

/// What a load acts on: a mesh with the load's faces, and where its forces go.
struct LoadTarget {
    const Part& part;
    const mesh::TetMesh& mesh;
    const std::vector<LoadedFace>& faces;  ///< empty for loads on the whole part
    Mat3 axes;                             ///< of the load's frame
    double share;                          ///< of a total on each face
    elastic::NodalForces& forces;          ///< on faces
    elastic::NodalForces& bodyForces;      ///< on the whole part
    MeantLoad& meant;
    /// Moves what supports hold on a face by a displacement, mm.
    std::function<void(const Interface& interface, const Vec3& displacement)> move;
    std::function<MeshMass()> mass;
};

/// Sum of a load's forces and moments by the part file's numbers alone.
struct NominalLoad {
    Vec3 force = Vec3::Zero(), moment = Vec3::Zero();  ///< N; about the global origin, N mm
    double size = 0, lever = 0;                        ///< sums of sizes: what zero is measured against
};

/// A sign of a load in the view.
struct LoadMark {
    enum class Shape { arrow, ring, spoke } shape = Shape::arrow;
    Vec3 at = Vec3::Zero();        ///< arrow: where it starts (or ends); ring: its centre; spoke: from, mm
    Vec3 along = Vec3::UnitZ();    ///< arrow: direction; ring: axis; spoke: to, mm
    bool endsAt = false;           ///< of an arrow
    bool amidst = false;           ///< stands in the middle of the part as it is drawn, not at `at`
    double radius = 0, turns = 1;  ///< ring; mm, 0: a quarter of the part's size
    std::string on{}, text{};      ///< label; an empty text: none
};

/// Something about a load that is probably a slip.
struct OddLoad {
    std::string text, fix;  ///< the text goes on after "Case 'storm'": ", force on eye: ...", " has ..."
};

struct LoadKind {
    Load::Kind kind;
    const char* key;    ///< of the part file
    const char* words;  ///< of the screen
    const char* hint;   ///< beside the form; empty: none
    bool onFaces = true;
    bool onLines = false;  ///< edges and points as well: spread over the surface around them
    bool hasFrame = false;
    bool canShare = false;  ///< a total over its interfaces, or the whole for each
    bool inTables = false;  ///< of load tables: what such a table replaces
    std::vector<Figure<Load>> figures{};
    /// Adds it to a mesh and to what is meant.
    void (*apply)(const Load& load, LoadTarget& target) = nullptr;
    /// Force per volume at a point, N/mm3, of a load on the whole part. Null: on faces only.
    Vec3 (*bodyForce)(const Load& load, const Part& part, const Vec3& point) = nullptr;
    /// Its figures with units, such as "(0, -3, 0) kN".
    std::string (*describe)(const Load& load) = nullptr;
    /// How it is drawn. @param factor  of its case
    std::vector<LoadMark> (*marks)(const Load& load, const Part& part, double factor) = nullptr;
    /// What must hold beyond its figures; refuses at a node. Null: nothing.
    void (*require)(const Load& load, const Part& part, const Node& node) = nullptr;
    /// Null: known only on a mesh.
    NominalLoad (*nominal)(const Load& load, const Part& part) = nullptr;
    /// @param factor  of its case. Null: nothing is looked at
    std::vector<OddLoad> (*odd)(const Load& load, const Part& part, double factor) = nullptr;
    /// Largest difference between applied and meant that facets of curved faces explain, as a share.
    double facetShare = 1e-6;
};

/// All kinds, in the order of Load::Kind.
const std::vector<LoadKind>& loadKinds();
const LoadKind& loadKind(Load::Kind kind);

}  // namespace escultura::duty

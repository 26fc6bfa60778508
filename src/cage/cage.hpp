/// @file cage/cage.hpp
/// The control cage: quads that drive a smooth body (the limit surface of Catmull and Clark 1978).

#pragma once
#include <cstdint>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/geometry.hpp"

namespace escultura::cage {

/// Corners of a cage face, counter-clockwise from outside.
using Quad = std::array<std::int32_t, 4>;

/// An edge that stays sharp: 0 is smooth, `sharpest` and above an edge of the body, between them rounded.
struct Crease {
    std::int32_t a = 0, b = 0;  ///< vertices, a < b
    double sharpness = 0;
    bool operator==(const Crease&) const = default;
};
inline constexpr double sharpest = 10;

/// All-quad control cage. Plain value.
struct Cage {
    std::vector<Vec3> position;  ///< [vertices] mm
    std::vector<Quad> face;      ///< [faces]
    std::vector<Crease> crease;  ///< sorted by vertices, one an edge
    bool operator==(const Cage&) const = default;
};

/// Who meets whom. Rebuilt when faces change.
class Connectivity {
  public:
    struct Edge {
        std::int32_t a = 0, b = 0;                 ///< vertices, a < b
        std::array<std::int32_t, 2> face{-1, -1};  ///< the first two faces; -1 at a border
        std::array<std::int8_t, 2> side{-1, -1};   ///< side of the face: from corner `side` to the next
        int faces = 0;                             ///< more than two: not manifold
        bool opposed = true;                       ///< its two faces run along it in opposite directions
    };
    explicit Connectivity(const Cage& cage);

    std::vector<Edge> edge;
    std::vector<std::array<std::int32_t, 4>> edgeOfFace;  ///< side k: from corner k to corner k+1
    std::vector<std::vector<std::int32_t>> facesOfVertex;
    std::vector<std::vector<std::int32_t>> edgesOfVertex;
    /// Edge between two vertices; -1: none.
    std::int32_t edgeBetween(std::int32_t a, std::int32_t b) const;
    /// The face on the other side of an edge; -1 at a border.
    std::int32_t across(std::int32_t edge, std::int32_t face) const;
    bool isBorder(std::int32_t edge) const { return this->edge[edge].faces == 1; }

  private:
    std::unordered_map<std::uint64_t, std::int32_t> byVertices_;
};

/// What is wrong with a cage, and where.
struct CageProblem {
    std::string text;
    Vec3 at = Vec3::Zero();  ///< mm
};

struct CageReport {
    bool closed = false, manifold = false;
    int pieces = 0;
    int genus = 0;                  ///< handles, summed over the pieces; counts for closed cages only
    int euler = 0;                  ///< vertices - edges + faces
    std::array<int, 8> valences{};  ///< vertices with 0, 1, ... 6 and more than 6 edges
    std::vector<CageProblem> problems;
};

/// Euler number, pieces, borders, edges with more than two faces, faces that touch in a vertex only, doubled corners.
CageReport inspect(const Cage& cage);

/// Mean of a face's corners, mm.
Vec3 middleOf(const Cage& cage, std::int32_t face);

/// "(1, 2, 3) mm", for messages.
std::string placeText(const Vec3& p);

/// Mean length of the edges, mm.
double meanEdge(const Cage& cage);

/// Mirror image of each vertex at a plane; -1: none within the tolerance (mm).
std::vector<std::int32_t> mirrorVertices(const Cage& cage, const std::array<Vec3, 2>& plane, double tolerance);

/// Drops vertices without faces and renumbers. @return [old vertices] new index, -1: dropped
std::vector<std::int32_t> dropUnused(Cage& cage);

}  // namespace escultura::cage

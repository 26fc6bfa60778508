/// @file lattice/tet_complex.hpp
/// Linear tetrahedra whose boundary vertices know the surfaces they lie on: what the lattice makes of a Shape.

#pragma once
#include <array>
#include <cstdint>
#include <vector>

#include "base/geometry.hpp"

namespace escultura::lattice {

using Tet = std::array<std::int32_t, 4>;

/// The surfaces that a vertex lies on, ascending: none inside, one on a face, two on an edge, three at a corner.
struct SurfaceSet {
    std::array<std::int16_t, 3> id{-1, -1, -1};

    int count() const { return id[0] < 0 ? 0 : id[1] < 0 ? 1 : id[2] < 0 ? 2 : 3; }
    bool has(int surface) const { return id[0] == surface || id[1] == surface || id[2] == surface; }
    /// Adds an id. @return false when three others are there already
    /// @throws InputError when the shape has more surfaces than can be told apart
    bool add(int surface);
    /// Ids in both sets.
    SurfaceSet common(const SurfaceSet& other) const;
    bool operator==(const SurfaceSet&) const = default;
};

/// Tetrahedra of positive volume.
struct TetComplex {
    std::vector<Vec3> position;        ///< [vertices] mm
    std::vector<SurfaceSet> surfaces;  ///< [vertices]
    std::vector<Tet> tets;
    int droppedPieces = 0;     ///< of the shape that were left out
    double droppedVolume = 0;  ///< mm3
};

/// Id of a surface as it is stored. @throws InputError beyond 32,767
std::int16_t surfaceId(std::int64_t surface);

/// Vertex -> tetrahedra, as offsets and a flat list.
struct Incidence {
    std::vector<std::int32_t> offset;  ///< [vertices + 1]
    std::vector<std::int32_t> tet;
};
Incidence incidence(std::size_t vertices, const std::vector<Tet>& tets);

/// Faces of boundary vertices that belong to one tetrahedron only, oriented outward, in the order of the tetrahedra.
struct BoundaryFaces {
    std::vector<Triangle> triangle;
    std::vector<std::int32_t> tet;  ///< the tetrahedron behind each
};
BoundaryFaces boundaryFaces(const TetComplex& complex);

/// Smallest sine of the six dihedral angles; negative when the tetrahedron is inverted. 1 is impossible, 0.943 regular.
double minimumSine(const Vec3& a, const Vec3& b, const Vec3& c, const Vec3& d);

/// The six dihedral angles, degrees.
std::array<double, 6> dihedralAngles(const Vec3& a, const Vec3& b, const Vec3& c, const Vec3& d);

/// Keeps the given tetrahedra and drops vertices without any.
void keepTets(TetComplex& complex, const std::vector<char>& keep);

}  // namespace escultura::lattice

/// @file stages/thin_members.hpp
/// Members of the raw field that are thinner than the smallest: where they are, how thick, and what the recipe makes of
/// them before the field is smoothed. Internal to stage Surface.

#pragma once
#include <vector>

#include "base/progress.hpp"
#include "field/density_field.hpp"
#include "shape/shape.hpp"
#include "stages/surface_stage.hpp"
#include "surface/bins.hpp"

namespace escultura::stages {

/// Inscribed balls of the raw iso-surface that touch two opposite walls; members are chains of them.
struct RawMember {
    ThinMember told;
    std::vector<surface::Ball> balls;
};

/// The raw iso-surface, and what finds places on it.
struct IsoSurface {
    surface::TriMesh mesh;
    surface::TriangleTree tree;
    explicit IsoSurface(surface::TriMesh m) : mesh(std::move(m)), tree(mesh) {}
    IsoSurface(const IsoSurface&) = delete;
};

/// The cell that a place lies in, the nearest one outside the grid.
std::size_t cellAt(const field::DensityField& field, const Vec3& p);
/// How deep a body's material is near a place: the middle of a member may have moved a little. mm
double deepestNear(const shape::Shape& solid, const surface::TriangleTree& tree, const Vec3& p, double cell);

/// @param shaped  [cells] non-zero where the part file shapes the body: nothing is listed there
/// @return        members thinner than the smallest, thinnest first; specks that are no longer than thick are left out
/// @throws Cancelled
std::vector<RawMember> findThinMembers(const Part& part, const FieldResult& field, const Recipe& recipe,
                                       const IsoSurface& iso, const std::vector<char>& shaped, Progress& progress);

/// The smallest thickness of the recipe, mm: one cell where none is asked for.
double smallestMember(const Recipe& recipe, const field::DensityField& field);

/// Thickness of the thinnest member near each cell; 0 where none is thinner than asked. [cells] mm
std::vector<float> thicknessNear(const field::DensityField& field, const IsoSurface& iso, double thinnerThan,
                                 Progress& progress);

/// Members to be left out are taken out of the field whole, those to be brought up are filled to the smallest around
/// their middles.
void applyFates(const std::vector<RawMember>& members, const FieldResult& field, const Recipe& recipe,
                const IsoSurface& iso, field::DensityField& cells);

/// Measures the members in the surface, and tells those that are undecided or not as decided.
/// @param solid  the body of the surface. @param tree  of its triangles
void tellThinMembers(std::vector<RawMember> members, const Part& part, const Recipe& recipe,
                     const field::DensityField& field, const shape::Shape& solid, const surface::TriangleTree& tree,
                     SurfaceResult& r);

}  // namespace escultura::stages

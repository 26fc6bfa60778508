/// @file stages/surface_figures.hpp
/// What a surface is measured by against the raw field: deviation, bores, what of the field it has lost. Internal to
/// the stage.

#pragma once
#include "field/topology.hpp"
#include "shape/raw_body.hpp"
#include "stages/surface_stage.hpp"
#include "stages/thin_members.hpp"

namespace escultura::stages {

/// A place where the raw field has a member (or a gap) and the surface has less of it.
struct Loss {
    Vec3 position;
    double before, after;
};

/// Deviation of vertices and its figures. @param shaped  [cells] non-zero where the part file shapes the body
/// @param inner        where the sides of the design space do not trim the body
/// @param ofTriangles  figures by area, else by corners
void measureDeviation(const field::DensityField& field, const shape::RawBody& raw, const surface::TriangleTree& tree,
                      const std::vector<char>& shaped, const Box3& inner, bool ofTriangles, SurfaceResult& r,
                      Progress& progress);

void measureBores(const Part& part, const std::vector<lattice::SurfaceSet>& vertexSurfaces, SurfaceResult& r);

/// What the surface should have: the cells where the field alone speaks, elsewhere the solid, which the part file
/// shapes there. @param shaped  [cells] non-zero there
field::Topology meantTopology(const field::DensityField& f, double threshold, const std::vector<char>& shaped,
                              const shape::Shape& solid);

/// Compares walls and gaps of the raw iso-surface, measured by inscribed balls, with the surface: by its own triangles
/// where members are kept, else by the solid's distance at the middle of a ball.
/// @return lost or thinned members, closed gaps
std::array<std::vector<Loss>, 2> thinnerPlaces(const FieldResult& field, const Recipe& recipe, const IsoSurface& iso,
                                               const surface::TriangleTree& ownTree, const PartShape& solid,
                                               const std::vector<char>& shaped, Progress& progress);

/// Findings about members, gaps, interfaces, pieces and handles.
void findLosses(const Part& part, const FieldResult& field, const std::array<std::vector<Loss>, 2>& losses,
                SurfaceResult& r);

}  // namespace escultura::stages

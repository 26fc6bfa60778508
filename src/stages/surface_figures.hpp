/// @file stages/surface_figures.hpp
/// What a surface is measured by against the raw field: deviation, bores, what of the field it has lost. Internal to
/// the stage.

#pragma once
#include "field/topology.hpp"
#include "shape/shape.hpp"
#include "stages/surface_stage.hpp"

namespace escultura::stages {

/// The raw field as a body: trilinear between cell centres, empty beyond the grid.
class RawBody final : public shape::Shape {
  public:
    RawBody(const field::DensityField& f, double threshold) : f_(f), t_(threshold) {}
    shape::Sample evaluate(const Vec3& p) const override { return {surfaceValue(0, p), 0}; }
    int surfaceCount() const override { return 1; }
    double surfaceValue(int, const Vec3& p) const override {
        const Vec3 x = (p - f_.origin).cwiseQuotient(f_.spacing) - Vec3::Constant(0.5);
        double value = 0;
        const int i = static_cast<int>(std::floor(x[0])), j = static_cast<int>(std::floor(x[1])),
                  k = static_cast<int>(std::floor(x[2]));
        const Vec3 t = x - Vec3(i, j, k);
        for (int m = 0; m < 8; ++m) {
            const int a = i + (m & 1), b = j + (m >> 1 & 1), c = k + (m >> 2);
            if (a < 0 || b < 0 || c < 0 || a >= f_.cells[0] || b >= f_.cells[1] || c >= f_.cells[2]) continue;
            value += (m & 1 ? t[0] : 1 - t[0]) * (m & 2 ? t[1] : 1 - t[1]) * (m & 4 ? t[2] : 1 - t[2]) *
                     f_.density[f_.index(a, b, c)];
        }
        return (t_ - value) * f_.spacing.minCoeff();
    }
    Vec3 surfaceGradient(int, const Vec3&) const override { return Vec3::UnitX(); }
    Box3 bounds() const override { return f_.bounds().grown(f_.spacing.maxCoeff()); }

  private:
    const field::DensityField& f_;
    double t_;
};

/// A place where the raw field has a member (or a gap) and the surface has less of it.
struct Loss {
    Vec3 position;
    double before, after;
};

/// Deviation of vertices and its figures. @param shaped  [cells] non-zero where the part file shapes the body
/// @param ofTriangles  figures by area, else by corners
void measureDeviation(const field::DensityField& field, const RawBody& raw, const surface::TriangleTree& tree,
                      const std::vector<char>& shaped, const Box3& designSpace, bool ofTriangles, SurfaceResult& r,
                      Progress& progress);

void measureBores(const Part& part, const std::vector<lattice::SurfaceSet>& vertexSurfaces, SurfaceResult& r);

/// What the surface should have: the cells where the field alone speaks, elsewhere the solid, which the part file
/// shapes there. @param shaped  [cells] non-zero there
field::Topology meantTopology(const field::DensityField& f, double threshold, const std::vector<char>& shaped,
                              const shape::Shape& solid);

/// Compares walls and gaps of the raw iso-surface, measured by inscribed balls, with the surface: by its own triangles
/// where members are kept, else by the solid's distance at the middle of a ball.
/// @return lost or thinned members, closed gaps
std::array<std::vector<Loss>, 2> thinnerPlaces(const FieldResult& field, const Recipe& recipe,
                                               const surface::TriMesh& iso, const surface::TriangleTree& tree,
                                               const surface::TriangleTree& ownTree, const PartShape& solid,
                                               const std::vector<char>& shaped, Progress& progress);

/// Findings about members, gaps, interfaces, pieces and handles.
void findLosses(const Part& part, const FieldResult& field, const std::array<std::vector<Loss>, 2>& losses,
                SurfaceResult& r);

}  // namespace escultura::stages

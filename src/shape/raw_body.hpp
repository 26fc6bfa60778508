/// @file shape/raw_body.hpp
/// A density field as it is, as a body: what smooth surfaces are measured against.

#pragma once
#include <array>
#include <vector>

#include "field/density_field.hpp"
#include "shape/shape.hpp"

namespace escultura::shape {

/// Weights of four values around a place by cubic convolution (Keys 1981, a = -1/2). @param t  place between the second
/// and the third, 0 to 1
std::array<double, 4> cubicWeights(double t);

/// The raw field by cubic convolution between the cells' centres, empty beyond the grid. Linear interpolation would cut
/// what is curved: a strut of two cells comes out a sixth thinner. The field must outlive it.
class RawBody final : public Shape {
  public:
    RawBody(const field::DensityField& f, double threshold) : f_(f), t_(threshold) {}
    Sample evaluate(const Vec3& p) const override { return {surfaceValue(0, p), 0}; }
    int surfaceCount() const override { return 1; }
    double surfaceValue(int, const Vec3& p) const override;
    Vec3 surfaceGradient(int, const Vec3&) const override { return Vec3::UnitX(); }
    Box3 bounds() const override { return f_.bounds().grown(f_.spacing.maxCoeff()); }

  private:
    const field::DensityField& f_;
    double t_;
};

}  // namespace escultura::shape

/// @file shape/raw_body.hpp
/// A density field as it is, as a body: what smooth surfaces are measured against.

#pragma once
#include <array>
#include <cmath>
#include <vector>

#include "field/density_field.hpp"
#include "shape/shape.hpp"

namespace escultura::shape {

/// Weights of four values around a place by cubic convolution (Keys 1981, a = -1/2). @param t  place between the second
/// and the third, 0 to 1
std::array<double, 4> cubicWeights(double t);

/// Values on a grid by cubic convolution. @param x  in cells from the first value
/// @param line  of (weights along x, first cell along x, j, k): the weighted sum of the four cells of a line
template <class Line>
double cubicBetween(const Vec3& x, const Line& line) {
    std::array<int, 3> first;
    std::array<std::array<double, 4>, 3> w;
    for (std::size_t a = 0; a < 3; ++a) {
        const double whole = std::floor(x[static_cast<int>(a)]);
        first[a] = static_cast<int>(whole) - 1;
        w[a] = cubicWeights(x[static_cast<int>(a)] - whole);
    }
    double value = 0;
    for (int k = 0; k < 4; ++k)
        for (int j = 0; j < 4; ++j)
            value += w[1][static_cast<std::size_t>(j)] * w[2][static_cast<std::size_t>(k)] *
                     line(w[0], first[0], first[1] + j, first[2] + k);
    return value;
}

/// The raw field by cubic convolution between the cells' centres, empty beyond the grid. Linear interpolation would cut
/// what is curved: a strut of two cells comes out a sixth thinner. Values far from the surface are bounds of the right
/// sign. The field must outlive it.
class RawBody final : public Shape {
  public:
    RawBody(const field::DensityField& f, double threshold);
    Sample evaluate(const Vec3& p) const override { return {surfaceValue(0, p), 0}; }
    int surfaceCount() const override { return 1; }
    double surfaceValue(int, const Vec3& p) const override;
    Vec3 surfaceGradient(int, const Vec3&) const override { return Vec3::UnitX(); }
    Box3 bounds() const override { return f_.bounds().grown(f_.spacing.maxCoeff()); }

  private:
    /// Least and largest value that the interpolation can take within a block of cells.
    struct Range {
        float least, most;
    };
    const field::DensityField& f_;
    double t_;
    std::array<int, 3> blocks_{};
    std::vector<Range> range_;  // [blocks]
};

}  // namespace escultura::shape

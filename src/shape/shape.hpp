/// @file shape/shape.hpp
/// The one abstraction of a solid: how far is a point from the boundary, inside or outside, and which surface owns the
/// nearest boundary. Extraction and meshing know nothing else.

#pragma once
#include "base/geometry.hpp"

namespace escultura::shape {

/// Value of a shape at a point.
struct Sample {
    double value = 0;  ///< approximately signed distance to the boundary, negative inside, mm; zero exactly on it
    int surface = 0;   ///< surface that owns the nearest boundary
};

/// A closed solid given by a continuous function. Its boundary is made of smooth surfaces with ids 0 ...
/// surfaceCount()-1 (0 is the free-form one, where there is one); edges are where two of them meet. Evaluation is
/// thread-safe.
class Shape {
  public:
    virtual ~Shape() = default;
    virtual Sample evaluate(const Vec3& p) const = 0;
    virtual int surfaceCount() const = 0;
    /// Signed function of one surface alone, zero on it, growing out of the solid; unit slope where it is exact. mm
    virtual double surfaceValue(int surface, const Vec3& p) const = 0;
    /// Its gradient.
    virtual Vec3 surfaceGradient(int surface, const Vec3& p) const = 0;
    /// A box that holds the solid.
    virtual Box3 bounds() const = 0;
    /// How far the free surface (id 0) may jump where its pieces meet, mm: no point of it is known better there.
    virtual double roughness() const { return 0; }
    /// Whether only triangles with every corner on a surface may count as its own.
    virtual bool ownsExactly(int surface) const { return surface < 0; }
};

/// Moves a point onto one, two or three surfaces at once by Newton's method (least-norm steps).
/// @param surfaces  ids, at most three
/// @param outside  how far outside the free surface (id 0) it is to lie instead of on it, mm
/// @return false when it does not converge to |value| < 1e-9 * scale (the free surface: or its roughness) within the
/// radius
bool projectOnto(const Shape& shape, const int* surfaces, int count, Vec3& p, double radius, double outside = 0);

}  // namespace escultura::shape

/// @file base/geometry.hpp
/// Small geometry types. Lengths in mm.

#pragma once
#include <Eigen/Core>
#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cstdint>
#include <limits>
#include <vector>

namespace escultura {

using Vec3 = Eigen::Vector3d;
using Mat3 = Eigen::Matrix3d;
using Triangle = std::array<std::int32_t, 3>;

/// Axis-aligned box; empty when low > high.
struct Box3 {
    Vec3 low = Vec3::Constant(std::numeric_limits<double>::infinity());
    Vec3 high = Vec3::Constant(-std::numeric_limits<double>::infinity());

    void include(const Vec3& p) {
        low = low.cwiseMin(p);
        high = high.cwiseMax(p);
    }
    Vec3 size() const { return high - low; }
    Vec3 centre() const { return 0.5 * (low + high); }
    double diagonal() const { return size().norm(); }
    Box3 grown(double margin) const { return {low - Vec3::Constant(margin), high + Vec3::Constant(margin)}; }
    bool contains(const Vec3& p) const { return (p.array() >= low.array()).all() && (p.array() <= high.array()).all(); }
};

/// Two unit vectors that complete a unit vector to a right-handed frame (u, v, axis).
inline std::array<Vec3, 2> perpendicular(const Vec3& axis) {
    const Vec3 helper = std::abs(axis.x()) < 0.9 ? Vec3::UnitX() : Vec3::UnitY();
    const Vec3 u = (helper - helper.dot(axis) * axis).normalized();
    return {u, axis.cross(u)};
}

/// Signed volume of a tetrahedron: positive when d lies on the side of (b-a)x(c-a). mm3
inline double tetVolume(const Vec3& a, const Vec3& b, const Vec3& c, const Vec3& d) {
    return (b - a).cross(c - a).dot(d - a) / 6.0;
}

}  // namespace escultura

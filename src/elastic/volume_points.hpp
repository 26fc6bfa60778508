/// @file elastic/volume_points.hpp
/// Integration over tetrahedra.

#pragma once
#include <array>

#include "base/geometry.hpp"

namespace escultura::elastic {

struct VolumePoint {
    Vec3 at;        ///< natural coordinates
    double weight;  ///< share of the reference tetrahedron's volume, over 6
};

/// Eleven-point rule of degree 4 (Keast 1986): exact for the products of two quadratic shape functions on straight
/// elements.
inline const std::array<VolumePoint, 11>& volumePoints() {
    static const double a = 0.399403576166799, b = 0.100596423833201, c = 11.0 / 14, d = 1.0 / 14;
    static const double w0 = -0.01315555555555556, w1 = 0.007622222222222222, w2 = 0.02488888888888889;
    static const std::array<VolumePoint, 11> all = {{{Vec3(.25, .25, .25), w0},
                                                     {Vec3(d, d, d), w1},
                                                     {Vec3(c, d, d), w1},
                                                     {Vec3(d, c, d), w1},
                                                     {Vec3(d, d, c), w1},
                                                     {Vec3(a, a, b), w2},
                                                     {Vec3(a, b, a), w2},
                                                     {Vec3(b, a, a), w2},
                                                     {Vec3(a, b, b), w2},
                                                     {Vec3(b, a, b), w2},
                                                     {Vec3(b, b, a), w2}}};
    return all;
}

}  // namespace escultura::elastic

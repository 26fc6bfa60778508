/// @file tests/surface_accuracy.hpp
/// Surfaces of shapes with known volume and area, shared by the benchmark program and the tests.

#pragma once
#include <string>
#include <vector>

namespace escultura::verification {

/// One shape at one lattice spacing.
struct SurfaceRow {
    std::string shape;
    double spacing = 0;  ///< mm
    std::size_t triangles = 0;
    double volumeError = 0, areaError = 0;  ///< relative; area 0 where it is not known
    double distance = 0;                    ///< largest distance of the triangles' middles from the exact shape, mm
    double orderOfDistance = 0;             ///< from the row before; 0 for the first
};

/// Sphere of radius 25, torus 22/9, and two periods of a gyroid in a cube of 40 mm (it fills half of each period's
/// volume), at three spacings.
std::vector<SurfaceRow> surfaceAccuracy();

}  // namespace escultura::verification

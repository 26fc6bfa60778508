/// @file tests/surface_accuracy.hpp
/// Surfaces of shapes with known volume and area, shared by the benchmark program and the tests.

#pragma once
#include <array>
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

/// How true the smooth body of a field is: tilted shapes put on cells of 1 mm, as 0/1 cells or with a grey band of one
/// and a half cells, smoothed over some cells with the volume kept locally.
struct FieldRow {
    std::string shape;
    bool grey = false;
    double smoothing = 0;                 ///< full width at half height, cells
    double mean = 0, rms = 0, worst = 0;  ///< distance of the body from the exact shape, positive outside, cells
    double normals = 0;                   ///< RMS angle between the normals, degrees
    double lost = 0;                      ///< share of the shape's surface where the body is not found
};
std::vector<FieldRow> fieldAccuracy(const std::vector<double>& smoothings);

/// Two thick bars with three thin rods between them, slightly tilted, as 0/1 or grey cells of 1 mm: share of each rod's
/// axis that is inside the smooth body, for radii of 0.8, 1.1 and 1.5 cells.
/// @param local  whether the volume is kept locally; else one threshold of 0.5
std::array<double, 3> rodsInside(bool grey, bool local, double smoothing);

}  // namespace escultura::verification

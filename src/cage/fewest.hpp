/// @file cage/fewest.hpp
/// The cage with the fewest faces whose limit surface stays within a distance of the target.

#pragma once
#include "cage/automatic.hpp"

namespace escultura::cage {

/// A body to be wrapped with faces of about one size. What is machined off later is covered by a margin that goes with
/// that size, so target and value do too.
struct WrapBody {
    std::function<double(const Vec3&)> value;  ///< negative inside; thread-safe
    Box3 bounds;
    std::shared_ptr<const Target> target;
    std::vector<std::array<Vec3, 2>> symmetry;  ///< planes (point, unit normal)
};

struct FewestOptions {
    double largest = 1;    ///< distance between limit surface and target that is allowed, both ways, mm
    double rms = 0.2;      ///< and its root mean square, mm
    double firstSize = 0;  ///< face size that is tried first, mm: faces of half the part are too large for any
    double leastSize = 0;  ///< smaller faces are not tried, mm
    /// Faces of all cages that are fitted to the end. Beyond that the search ends with what it has, or takes large
    /// steps to the first cage within the distances.
    double mostWork = 4000;
};

struct FewestCage {
    AutomaticCage cage;
    WrapBody body;        ///< that it was fitted to
    bool within = false;  ///< right pieces and handles, no folds, both distances kept
    int wraps = 0;        ///< grids tried
    int irregular = 0;    ///< vertices with other than four edges
    double kink = 0;      ///< largest angle between the patches of neighbouring faces, degrees
};

/// Wraps many grids (sizes that fall by a twentieth, shifted and stretched), keeps those with the right pieces and
/// handles that lie near the target, fits the ones with the fewest faces and irregular vertices first, splits them at
/// their worst places, and takes the cage with the fewest faces that stays within the distances. The same for any
/// number of threads.
/// @param bodyOf  called when the face size has changed by a quarter
/// @return without any cage when no grid had the right handles
/// @throws Cancelled
FewestCage fewestFaces(const std::function<WrapBody(double faceSize)>& bodyOf, const FewestOptions& options,
                       Progress& progress);

/// Divisions of a face's sides for which the largest distance is met wherever it lies: as fine as the target's own
/// triangles, 5 to 24.
int fineDivisions(const Cage& cage, const Target& target);

/// Vertices with other than four edges.
int irregularVertices(const Cage& cage);

}  // namespace escultura::cage

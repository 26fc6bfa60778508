/// @file cage/fit.hpp
/// Fits the limit surface of a cage to a target surface and measures how far they are apart, both ways.

#pragma once
#include <functional>
#include <memory>

#include "base/progress.hpp"
#include "cage/limit.hpp"
#include "shape/shape.hpp"

namespace escultura::cage {

/// What a cage is fitted to. Thread-safe once built.
class Target {
  public:
    /// @param mesh     closed surface
    /// @param shape    the body that the mesh was extracted from, its surface 0 exact; null: the mesh itself counts
    /// @param leftOut  places whose deviation is given separately (interfaces: their features make them exact)
    Target(surface::TriMesh mesh, std::shared_ptr<const shape::Shape> shape, std::function<bool(const Vec3&)> leftOut);
    Target(const Target&) = delete;
    Target& operator=(const Target&) = delete;

    struct Point {
        Vec3 point = Vec3::Zero(), normal = Vec3::UnitZ();  ///< on the surface; unit, out of the body
    };
    /// @param exact  on the body itself; else on the mesh's triangles, which is quicker
    Point nearest(const Vec3& p, bool exact = true) const;
    bool isLeftOut(const Vec3& p) const { return leftOut_ && leftOut_(p); }
    const surface::TriMesh& mesh() const { return mesh_; }
    const surface::TriangleTree& tree() const { return tree_; }
    const surface::Measures& measures() const { return measures_; }

  private:
    surface::TriMesh mesh_;
    surface::TriangleTree tree_;
    std::shared_ptr<const shape::Shape> shape_;
    std::function<bool(const Vec3&)> leftOut_;
    std::vector<Vec3> normal_;
    surface::Measures measures_;
};

struct FitOptions {
    int iterations = 10;
    int exact = 2;               ///< the last iterations meet the body itself, the others its triangles
    double fairness = 0.1;       ///< weight of the bi-Laplacian of the cage at the first iteration
    double lastFairness = 1e-3;  ///< and at the last; falls by a constant factor
    double tangential = 0.02;    ///< weight of the distance along the surface
    double pull = 0.1;           ///< places of the target farther than this from the limit surface pull it, mean edges
    /// Samples farther than this from the target weigh more the farther they are, mm; 0: all weigh the same. It lowers
    /// the largest distance at the cost of the mean.
    double emphasis = 0;
    std::vector<std::array<Vec3, 2>> symmetry;  ///< planes (point, unit normal): mirrored vertices stay so
    std::vector<char> held;                     ///< [vertices] non-zero: does not move; may be empty
};

/// Moves the cage's vertices so that its limit surface meets the target: Gauss-Newton on point-to-plane distances with
/// a small tangential term (Wang, Pottmann and Liu 2006), 4 x 4 samples a face; matches whose normals disagree are left
/// out. Records the curve "deviation" (RMS in mm over the iterations).
/// @throws Cancelled
void fitCage(Cage& cage, const Target& target, const FitOptions& options, Progress& progress);

/// Moves the limit surface near its vertices along its normals. @param amount  at a place, outward, mm
void moveLimit(Cage& cage, const std::function<double(const Vec3&)>& amount);

/// Signed distances of points to a target, positive outside it. mm
std::vector<float> signedDistances(const Target& target, const std::vector<Vec3>& points, bool exact = true);

/// Distances between limit surface and target, both ways. Positive: the limit surface lies outside the target. mm
struct CageDeviation {
    double rms = 0, largest = 0, mean = 0;  ///< from the limit surface to the target, left-out places aside
    Vec3 largestAt = Vec3::Zero();
    double backRms = 0, backLargest = 0;  ///< from the target to the limit surface, left-out places aside
    Vec3 backLargestAt = Vec3::Zero();
    double zoneRms = 0, zoneLargest = 0;  ///< of the left-out places, both ways together
    double edge = 0;                      ///< mean edge of the cage
    surface::TriMesh surface;             ///< triangles of the limit surface
    std::vector<float> atVertex;          ///< [vertices of surface] signed deviation
    std::vector<std::int32_t> faceOf;     ///< [triangles of surface] cage face
    std::vector<float> ofFace;            ///< [cage faces] largest size of the deviation, left-out places aside
    std::vector<float> back;              ///< [vertices of the target] distance to the limit surface
    std::vector<std::int32_t> backFace;   ///< [vertices of the target] nearest cage face; -1: left out
};
/// @param divisions  of each side of a face for the triangles
/// @param exact      from the body itself, else from its triangles, which is quicker
CageDeviation deviationOf(const Cage& cage, const Target& target, int divisions, Progress& progress, bool exact = true);

}  // namespace escultura::cage

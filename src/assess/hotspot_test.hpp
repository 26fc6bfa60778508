/// @file assess/hotspot_test.hpp
/// Whether a hotspot is real: the geometry around it, its distance from idealised boundaries, and how its peak follows
/// two local refinements of the mesh. A stress that grows as h^-lambda has no value; lambda is 0.456 at a square
/// re-entrant corner (Williams 1952).

#pragma once
#include <cmath>
#include <functional>
#include <limits>
#include <span>
#include <string>
#include <vector>

#include "assess/assess.hpp"
#include "base/progress.hpp"

namespace escultura::assess {

enum class HotspotClass {
    untested,
    real,        ///< the peak has converged
    singular,    ///< grows without limit at a sharp re-entrant edge
    artefact,    ///< grows within the zone of a support or load: belongs to the idealised boundary
    unresolved,  ///< neither converged nor explained
};
const char* name(HotspotClass c);

/// Boundary around a place.
struct Surroundings {
    double angle = 180;  ///< sharpest re-entrant edge: angle of the empty side, degrees; 180: none
    double radius = std::numeric_limits<double>::infinity();  ///< smallest hollow radius, mm; infinite: none
};
/// @param reach   edges and nodes within this distance count, mm
/// @param fit     nodes within this distance of the place give the radius, by a least-squares quadric, mm
Surroundings surroundings(const mesh::TetMesh& mesh, const Vec3& place, double reach, double fit);

/// Whether two surfaces of the shape meet within reach of a place in a re-entrant edge: however fine the mesh, it stays
/// as sharp, and its stress grows without limit. The facets of one smooth surface are none. @param reach  mm
bool isAtSharpEdge(const mesh::TetMesh& mesh, const Vec3& place, double reach);

/// Mean longest edge of the elements within a distance of a place, mm; of the nearest element when none is there.
double sizeAround(const mesh::TetMesh& mesh, const Vec3& place, double reach);

/// The size that hotspot tests measure in: as sizeAround() over the elements next to a place, mm.
double elementSizeAt(const mesh::TetMesh& mesh, const Vec3& place);

/// Largest error of a peak by the cut around its piece that a verdict may rest on, share.
inline constexpr double cutErrorBar = 0.02;
/// Whether the cut decides something: not where the peak grows by much more at the refinement itself, as it does at
/// singular places whatever the cut.
/// @param change  of the peak by the last refinement, share
inline bool cutMatters(double cutError, double change) {
    return cutError > cutErrorBar && cutError > 0.3 * std::abs(change);
}

/// Radius of the ball that each refinement of a test adds around the spot, in element sizes of the first mesh; the last
/// is around the peak.
inline constexpr double refinedBall[] = {1.75, 1.1, 1.1};
/// Radius within which a test looks for the peak, mm.
double testReach(const mesh::TetMesh& mesh, const Vec3& place);

/// What is known of a hotspot after its test.
struct Evidence {
    std::vector<double> size;            ///< [3 or 4] element size around the spot, coarsest first, mm
    std::vector<double> peak;            ///< [3 or 4] highest stress around the spot, worst of the cases, MPa
    std::vector<std::int64_t> elements;  ///< [3 or 4] of the whole mesh
    std::vector<double> alongEdge;       ///< [3 or 4] mean stress on the re-entrant edges around the spot, MPa; 0: none
    std::vector<double> casePeak;        ///< [cases] highest stress around the spot on the finest mesh, MPa
    /// lambda of stress ~ size^-lambda, least squares of the logarithms: of the mean along a sharp edge, which single
    /// nodes disturb less, else of the peak.
    double exponent = 0;
    double change = 0;  ///< of the last refinement, share of the finest peak
    double angle = 180, radius = std::numeric_limits<double>::infinity();  ///< on the finest mesh, as Surroundings
    bool sharp = false;      ///< the re-entrant edge stays as sharp when the mesh gets finer
    Vec3 at = Vec3::Zero();  ///< place of the highest stress on the finest mesh, mm
    double reach = 0;        ///< radius within which the peak was looked for, mm
    double toSupport = std::numeric_limits<double>::infinity(), toLoad = toSupport;  ///< from that place, mm
    double zone = 0;      ///< within this distance of its face an idealised boundary shapes the stress, mm
    double cutError = 0;  ///< estimated error of the peak by the cut around the piece that was solved, share
    HotspotClass verdict = HotspotClass::untested;
    std::string reason;  ///< one sentence with the figures that decided
    /// Stress that counts, MPa: the finest peak when it is real; when nothing explains the growth the last step is
    /// added once more, as the truth may lie that far beyond.
    double counts(std::size_t loadCase) const;
    double counts() const;
};

/// Sets exponent, change, verdict and reason from the rest: first whether the mesh did get finer and the cut does not
/// matter, then how the peak follows the size, then the geometry, last the distance to an idealised boundary.
void classify(Evidence& evidence);

/// Where idealised boundaries are, seen from a place.
struct NearBoundary {
    double toSupport = std::numeric_limits<double>::infinity(), toLoad = toSupport;  ///< mm
    double zone = 0;                                                                 ///< of the nearer one, mm
};

/// A hotspot to test.
struct Suspect {
    Vec3 place = Vec3::Zero();                                         ///< mm
    std::function<NearBoundary(const Vec3& place)> nearBoundary = {};  ///< none: far from all
};

/// A finer mesh around a suspect, or of the whole body, and the stress that the failure rule compares at its nodes.
struct Refined {
    mesh::TetMesh mesh;
    std::vector<std::vector<double>> stress;  ///< [cases][nodes] MPa
    std::int64_t elements = 0;                ///< of the whole body; 0: the mesh is the whole body
    double cutError = 0;                      ///< of a piece, share
};
/// Makes and solves meshes whose longest edges are at most this long at each place. Calls ask for ever finer meshes.
/// @param suspects  indices of those that are looked at
/// @return          one for each of these, or one for all
using Resolve = std::function<std::vector<Refined>(const std::function<double(const Vec3&)>& size,
                                                   std::span<const std::size_t> suspects)>;

/// Halves the elements around all suspects twice, solves anew each time, and classes them; those whose peak still
/// changes by more than 2 % then are halved once more.
/// @param stress  [cases][nodes] on the mesh as it is, MPa
/// @throws Cancelled
std::vector<Evidence> testHotspots(const mesh::TetMesh& mesh, const std::vector<std::vector<double>>& stress,
                                   std::span<const Suspect> suspects, const Resolve& resolve, Progress& progress);

/// Nodes whose stress belongs to a tested singular edge: those within a distance of the re-entrant edges that are as
/// sharp as the tested one and connected with the place, without leaving the hotspot's own slopes; without such edges
/// those within the distance of the place. [nodes] 0 or 1
/// @param angle     of the tested edge's empty side, degrees
/// @param distance  mm
/// @param isOwn     whether a node belongs to the hotspot
std::vector<char> singularZone(const mesh::TetMesh& mesh, const Vec3& place, double angle, double distance,
                               const std::function<bool(std::int32_t node)>& isOwn);

}  // namespace escultura::assess

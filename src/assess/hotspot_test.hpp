/// @file assess/hotspot_test.hpp
/// Whether a hotspot is real: the geometry around it, its distance from idealised boundaries, and how its peak follows
/// two local refinements of the mesh. A stress that grows as h^-lambda has no value; lambda is 0.456 at a square
/// re-entrant corner (Williams 1952).

#pragma once
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

/// Mean longest edge of the elements within a distance of a place, mm; of the nearest element when none is there.
double sizeAround(const mesh::TetMesh& mesh, const Vec3& place, double reach);

/// The size that hotspot tests measure in: as sizeAround() over the elements next to a place, mm.
double elementSizeAt(const mesh::TetMesh& mesh, const Vec3& place);

/// What is known of a hotspot after its test.
struct Evidence {
    std::vector<double> size;            ///< [3 or 4] element size around the spot, coarsest first, mm
    std::vector<double> peak;            ///< [3 or 4] highest stress around the spot, MPa
    std::vector<std::int64_t> elements;  ///< [3 or 4] of the whole mesh
    std::vector<double> alongEdge;       ///< [3 or 4] mean stress on the re-entrant edges around the spot, MPa; 0: none
    /// lambda of stress ~ size^-lambda, least squares of the logarithms: of the mean along a sharp edge, which single
    /// nodes disturb less, else of the peak.
    double exponent = 0;
    double change = 0;  ///< of the last refinement, share of the finest peak
    double angle = 180, radius = std::numeric_limits<double>::infinity();  ///< on the finest mesh, as Surroundings
    bool sharp = false;  ///< the re-entrant edge stays as sharp when the mesh gets finer
    double toSupport = std::numeric_limits<double>::infinity(), toLoad = toSupport;  ///< mm
    double zone = 0;  ///< within this distance an idealised boundary shapes the stress, mm
    HotspotClass verdict = HotspotClass::untested;
    std::string reason;  ///< one sentence with the figures that decided
};

/// Sets exponent, change, verdict and reason from the rest.
void classify(Evidence& evidence);

/// A hotspot to test, with what is known about its surroundings beforehand.
struct Suspect {
    Vec3 place = Vec3::Zero();                                                       ///< mm
    double toSupport = std::numeric_limits<double>::infinity(), toLoad = toSupport;  ///< mm
};

/// A finer mesh around a suspect, or of the whole body, and the stress that the failure rule compares at its nodes,
/// worst of the cases, MPa.
struct Refined {
    mesh::TetMesh mesh;
    std::vector<double> stress;
    std::int64_t elements = 0;  ///< of the whole body; 0: the mesh is the whole body
};
/// Makes and solves meshes whose longest edges are at most this long at each place. Calls ask for ever finer meshes.
/// @param suspects  indices of those that are looked at
/// @return          one for each of these, or one for all
using Resolve = std::function<std::vector<Refined>(const std::function<double(const Vec3&)>& size,
                                                   std::span<const std::size_t> suspects)>;

/// Halves the elements around all suspects twice, solves anew each time, and classes them; those that are unresolved
/// then are halved once more.
/// @param stress  at the nodes of the mesh as it is, MPa
/// @throws Cancelled
std::vector<Evidence> testHotspots(const mesh::TetMesh& mesh, std::span<const double> stress,
                                   std::span<const Suspect> suspects, const Resolve& resolve, Progress& progress);

/// Boundary nodes whose stress belongs to a singular edge: those within a distance of the sharp re-entrant edges that
/// are connected with the place; without such edges those within the distance of the place. [nodes] 0 or 1
std::vector<char> singularZone(const mesh::TetMesh& mesh, const Vec3& place, double distance);

}  // namespace escultura::assess

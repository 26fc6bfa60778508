/// @file stages/findings_stage.hpp
/// Stage Findings: hotspots of a check, and warnings of the other stages, each with its place.

#pragma once
#include <algorithm>
#include <array>
#include <map>
#include <string>
#include <vector>

#include "assess/hotspot_test.hpp"
#include "stages/check_stage.hpp"
#include "stages/surface_stage.hpp"

namespace escultura::stages {

/// The boundary around a place in seven numbers: weighted area in mm2, its middle in mm, its mean normal. What is cut
/// or added there changes them.
using LocalPrint = std::array<double, 7>;

/// A further place on the slopes of a tested hotspot, looked at because the check's mesh says more there.
struct FurtherTest {
    std::int32_t node = -1;
    int group = 0;
    assess::Evidence evidence;
};

/// Place of a hotspot where the mesh of the check does not follow the body: no test on it tells anything.
inline const char* const atMissedWall = "mesh misses the body";

/// A hotspot, or a warning of another stage with its place.
struct Finding {
    enum class Kind {
        hotspot,
        thinWall,    ///< thinner than a requirement allows
        memberLost,  ///< of the raw field, in the surface
        memberThinned,
        gapClosed,
        interfaceLost,
        pieces,
        lostWalls,  ///< walls thinner than the elements of the check
        badElements,
        undercut,
        deviation,   ///< beyond what a requirement allows
        thinMember,  ///< thinner than the smallest, and undecided or not as decided
    } kind = Kind::hotspot;
    std::string id;                ///< "H1" ... hotspots, "G1" ... the others
    std::string place;             ///< hotspot: "near support", "near load", "sharp edge", atMissedWall, "free body"
    std::string text;              ///< one sentence with its figures; empty for hotspots
    Vec3 position = Vec3::Zero();  ///< mm
    std::int32_t node = -1;
    double peak = 0;  ///< MPa, the judged stress that the failure rule compares, in the governing case
    /// Most that counts on its slopes before it is tested, in each case; larger than the peak where the two estimates
    /// of stress disagree. [cases] MPa
    std::vector<double> counts{};
    /// Highest judged stress on its slopes outside the ball that a test looks into, in each case. [cases] MPa
    std::vector<double> beside{};
    double upper() const { return counts.empty() ? peak : *std::max_element(counts.begin(), counts.end()); }
    double safetyFactor = 0, persistence = 0, area = 0;
    std::string caseName;
    std::string nearestInterface;
    double distance = 0;               ///< to the nearest face of an interface, mm
    double toSupport = 0, toLoad = 0;  ///< to the nearest face that is held or loaded, mm; infinite: none
    LocalPrint print{};                ///< of the boundary around it
    double reach = 0;                  ///< of the print, mm
    assess::Evidence evidence;         ///< hotspots: of their test
    int testGroup = 0;                 ///< those of one group were refined together, in this order; 0: not tested
    std::vector<FurtherTest> further;  ///< further places on its slopes, where the coarse mesh says more than the test
    bool canGoOn() const;              ///< whether a further place may be tested
};
const char* name(Finding::Kind kind);
/// Class of a hotspot ("real" ... or "not tested, near support"), kind of another finding.
std::string classOf(const Finding& finding);

struct FindingsResult {
    std::vector<Finding> findings;    ///< hotspots, highest first, then the others
    double sensitivity = 0;           ///< MPa
    std::vector<double> heights;      ///< of all peaks high enough to count, over their saddles, highest first, MPa:
                                      ///< how many there are at another sensitivity
    std::vector<std::int32_t> basin;  ///< [nodes] hotspot on whose slopes a node lies, -1: of none
    std::vector<double> rest;         ///< [cases] most that counts on the slopes of none, MPa
};

/// Evidence of the hotspots of one check, by node.
struct HotspotTests {
    std::map<std::int32_t, assess::Evidence> byNode;
    std::map<std::int32_t, int> group;  ///< by node: which were refined together, from 1 in the order of the tests
    std::map<std::int32_t, std::vector<FurtherTest>> further;  ///< by the hotspot's node
    /// By the hotspot's node: highest judged stress on its slopes outside the balls that the tests of real peaks looked
    /// into. [cases] MPa
    std::map<std::int32_t, std::vector<double>> beside;
};

/// What the safety factor leaves out of a check.
struct ExcludedNodes {
    std::vector<char> excluded;                              ///< [nodes of the check] 0 or 1
    std::vector<std::string> findings;                       ///< ids
    std::map<std::string, std::vector<double>> remaining{};  ///< by id: most that counts on its slopes outside its
                                                             ///< zone, [cases] MPa
};

/// @param process  draft figures, when a requirement asks for them; may be null
FindingsResult evaluateFindings(const Part& part, const SurfaceResult& surface, const CheckResult& check,
                                const Recipe& recipe, Progress& progress, const ProcessResult* process = nullptr);
/// Allowable stress of the strictest safety factor that is required, MPa.
double allowableStress(const Part& part);
/// The boundary of a mesh around a place.
LocalPrint localPrint(const mesh::TetMesh& mesh, const Vec3& place, double reach);
/// Whether two prints tell the same geometry, as far as different meshes of one shape agree.
bool isSamePrint(const LocalPrint& a, const LocalPrint& b, double reach);

}  // namespace escultura::stages

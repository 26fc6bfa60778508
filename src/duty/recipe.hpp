/// @file duty/recipe.hpp
/// The parameters of every stage: what makes a variant.

#pragma once
#include <array>
#include <memory>
#include <string>
#include <vector>

#include "base/geometry.hpp"
#include "cage/cage.hpp"
#include "duty/analysis_kind.hpp"
#include "elastic/solve.hpp"
#include "solid/feature.hpp"

namespace escultura::duty {

/// Which of the part's fields a variant is made from.
struct FieldChoice {
    enum class How { one, maximum, mean, weightedSum, made } how = How::one;
    int which = 0;                ///< one: index of the field
    std::vector<double> weights;  ///< weightedSum: one a field
    /// made: key of what the field was made from; empty: not made yet
    std::string made{};
    bool operator==(const FieldChoice&) const = default;
};

/// A source of fields, in the order of FieldChoice::How.
struct FieldSourceKind {
    FieldChoice::How how;
    const char* words;        ///< of the list of fields; null: the fields' own names
    bool isCombined = false;  ///< of several fields of the part
    bool hasWeights = false;
};
inline const std::vector<FieldSourceKind>& fieldSources() {
    using How = FieldChoice::How;
    static const std::vector<FieldSourceKind> all = {{How::one, nullptr},
                                                     {How::maximum, "maximum of all fields", true},
                                                     {How::mean, "mean of all fields", true},
                                                     {How::weightedSum, "weighted sum of all fields", true, true},
                                                     {How::made, "made here, from the duty"}};
    return all;
}

/// Draft for casting: walls lean away from the parting plane so that the mould opens along the pull direction.
struct Draft {
    bool add = false;           ///< make walls comply; else only shown
    Vec3 pull = Vec3::UnitZ();  ///< unit vector
    double parting = 0;         ///< place of the parting plane along the pull direction, mm
    double angle = 2;           ///< wanted, degrees
    bool operator==(const Draft&) const = default;
};

/// Printing: surfaces that lean out too far over the build direction need supports.
struct Printing {
    Vec3 up = Vec3::UnitZ();  ///< build direction, unit vector
    double overhang = 45;     ///< least angle between surface and base plane without support, degrees
    bool operator==(const Printing&) const = default;
};

/// How the triangles of the surface are laid out.
enum class Triangles { asExtracted, even, budget };

/// How much a check is worth.
enum class Level {
    look,       ///< coarser elements and a loose tolerance: seconds
    standard,   ///< the chosen elements
    converged,  ///< refined until safety factor and displacement change little
};
const char* name(Level level);

/// Smaller elements in a region.
struct LocalSize {
    enum class Kind { box, sphere, interface } kind = Kind::sphere;
    Vec3 low = Vec3::Zero(), high = Vec3::Zero();  ///< box, mm
    Vec3 centre = Vec3::Zero();                    ///< sphere, mm
    double radius = 0;                             ///< sphere; interface: distance from its faces, mm
    std::string interface;
    std::string name;  ///< where it comes from, such as a finding
    double size = 1;   ///< element size there, mm
    bool operator==(const LocalSize&) const = default;
};
const char* name(LocalSize::Kind kind);

/// The mesh of the check and how it is solved.
struct CheckChoice {
    bool original = false;  ///< checks the design before the optimisation instead of the surface
    bool rebuilt = false;   ///< checks the rebuilt solid instead of the surface
    Level level = Level::standard;
    double convergence = 0.03;  ///< level converged: largest relative change of the last pass
    int passes = 5;             ///< most passes of the level converged
    int elementsThrough = 0;    ///< elements through each member at least; 0: as the element size gives
    int aroundCircle = 0;       ///< elements around a full circle of the surface's curvature at least; 0: as they come
    double chordError = 0;      ///< most that straight edges of elements leave the surface by, mm; 0: as it comes
    std::vector<LocalSize> localSizes{};
    elastic::Method method = elastic::Method::automatic;
    double tolerance = 1e-8;  ///< relative residual of the iterative solver
    bool operator==(const CheckChoice&) const = default;
};

/// A tube between two places, blended into the body.
struct Member {
    Vec3 from = Vec3::Zero(), to = Vec3::Zero();  ///< ends of its axis, mm
    double radiusFrom = 6, radiusTo = 6;          ///< mm
    double blend = 6;                             ///< radius of the blend at its ends, mm
    bool operator==(const Member&) const = default;
};

/// Surface moved outward (or, negative, inward) in a region.
struct Thickening {
    bool box = false;
    Vec3 low = Vec3::Zero(), high = Vec3::Zero();  ///< box, mm
    Vec3 centre = Vec3::Zero();                    ///< ball, mm
    std::vector<Vec3> painted{};                   ///< balls around these places instead, mm
    double radius = 15;                            ///< of the balls, mm
    double amount = 1;                             ///< mm
    double edge = 8;                               ///< width over which it fades out around the region, mm
    bool operator==(const Thickening&) const = default;
};
/// 1 inside the region, falling smoothly to 0 over the edge around it.
double weightAt(const Thickening& thickening, const Vec3& p);
/// @throws InputError when its numbers cannot be used. @param name  for the error
void requireSound(const Thickening& thickening, const std::string& name);

/// One change to the control cage, applied in order after the automatic wrap.
struct CageStep {
    enum class Kind {
        member,      ///< the body with the member is wrapped anew
        thickening,  ///< the cage's vertices move along the surface's normals
        byHand,      ///< the whole cage as it was left: what comes before it is part of it
    } kind = Kind::member;
    std::string name;
    bool on = true;
    Member member{};
    Thickening thickening{};
    std::shared_ptr<const cage::Cage> cage{};  ///< byHand
    std::string digest;                        ///< of the cage
    /// byHand: face size of the wrap that it began as, mm, which tells what it was fitted to; 0: not known
    double faceSize = 0;
    bool operator==(const CageStep& other) const {
        return kind == other.kind && name == other.name && on == other.on && member == other.member &&
               thickening == other.thickening && digest == other.digest && faceSize == other.faceSize;
    }
};
const char* name(CageStep::Kind kind);
/// A step that holds a cage edited by hand. @param faceSize  of the wrap that it began as, mm; 0: not known
CageStep byHandStep(cage::Cage cage, double faceSize = 0);

/// How the editable solid is made.
struct Rebuild {
    /// Largest distance between cage and surface that matters, mm; 0: half a cell of the field. The cage gets the
    /// fewest faces that keep it, unless their size or count is given.
    double tolerance = 0;
    double faceSize = 0;  ///< edge length of a cage face, mm; 0: from faceCount, or by the tolerance
    int faceCount = 0;    ///< wanted count; 0: by the tolerance
    bool adapt = true;    ///< smaller faces where the fit deviates: thin members, tight curvature
    std::vector<CageStep> steps{};
    bool ownFeatures = false;                ///< the list was changed by hand; else it follows from the interfaces
    std::vector<solid::Feature> features{};  ///< in order; geometry of those with an interface comes from the part
    bool operator==(const Rebuild&) const = default;
};

/// What becomes of a member of the field that is thinner than the smallest.
enum class MemberFate { undecided, keep, thicken, leaveOut };
/// "undecided", "keep", "bring up", "leave out".
const char* name(MemberFate fate);

/// What becomes of one member.
struct MemberDecision {
    Vec3 at = Vec3::Zero();  ///< a place inside it, mm
    MemberFate fate = MemberFate::keep;
    bool operator==(const MemberDecision&) const = default;
};

/// Thin members of the field, before it is smoothed. Undecided ones are kept at their thickness.
struct ThinMembers {
    double smallest = 0;                        ///< thickness below which a member is listed, mm; 0: one cell
    MemberFate others = MemberFate::undecided;  ///< of members without a decision of their own
    std::vector<MemberDecision> decisions{};    ///< later ones come before earlier ones
    bool operator==(const ThinMembers&) const = default;
};

/// Edges where the free body meets the sides of the design space.
struct DesignEdges {
    double radius = 4;  ///< of their rounding, mm; 0: sharp
    /// Of single sides: x low, x high, y low ... z high; negative: as the others, mm
    std::array<double, 6> side{-1, -1, -1, -1, -1, -1};
    double at(int k) const {
        return side[static_cast<std::size_t>(k)] < 0 ? radius : side[static_cast<std::size_t>(k)];
    }
    bool operator==(const DesignEdges&) const = default;
};

/// A number of the part file that a variant has otherwise, such as a bore's diameter or the factor of a load case.
struct PartNumber {
    std::string place;  ///< by names, such as "/interfaces/pin L/bore_diameter": see partNumbers()
    double value = 0;   ///< in the part file's units
    bool operator==(const PartNumber&) const = default;
};

struct Recipe {
    double threshold = 0.5;
    double smoothing = 5;  ///< full width of the smoothing kernel at half its height, mm
    /// Keeps the volume of the field locally, so that thin members stay; they are smoothed less than the rest.
    bool keepMembers = false;
    ThinMembers thin{};
    DesignEdges edges{};
    double surfaceSpacing = 2;   ///< lattice spacing of the surface, and edge length of even triangles, mm
    double edgeError = 0;        ///< most that its triangles leave rounded edges and fillets by, mm; 0: as they come
    double elementSize = 4;      ///< lattice spacing of the check's mesh, mm
    double hotspotShare = 0.10;  ///< smallest height of a hotspot above its saddle, share of the allowable stress
    FieldChoice field{};
    bool largestPieceOnly = true;  ///< else pieces of at least smallestIsland are kept
    double smallestIsland = 0;     ///< mm3
    Triangles triangles = Triangles::asExtracted;
    int triangleBudget = 50000;  ///< of the layout 'budget'
    Draft draft{};
    Printing printing{};
    std::vector<Thickening> thickenings{};  ///< of the smooth surface, on top of the asked volume
    std::vector<PartNumber> numbers{};      ///< of the part file, where this variant has others
    Rebuild rebuild{};
    CheckChoice check{};
    std::vector<AnalysisChoice> analyses{};  ///< beside those that a requirement needs, each kind once
    bool operator==(const Recipe&) const = default;
};

}  // namespace escultura::duty

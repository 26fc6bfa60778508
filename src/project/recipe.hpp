/// @file project/recipe.hpp
/// The parameters of every stage: what makes a variant.

#pragma once
#include <string>
#include <vector>

#include "base/geometry.hpp"
#include "elastic/solve.hpp"

namespace escultura::project {

/// Which of the part's fields a variant is made from.
struct FieldChoice {
    enum class How { one, maximum, mean, weightedSum } how = How::one;
    int which = 0;                ///< one: index of the field
    std::vector<double> weights;  ///< weightedSum: one a field
    bool operator==(const FieldChoice&) const = default;
};

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
    Level level = Level::standard;
    double convergence = 0.03;  ///< level converged: largest relative change of the last pass
    int passes = 5;             ///< most passes of the level converged
    int elementsThrough = 0;    ///< elements through each member at least; 0: as the element size gives
    std::vector<LocalSize> localSizes{};
    elastic::Method method = elastic::Method::automatic;
    double tolerance = 1e-8;  ///< relative residual of the iterative solver
    bool operator==(const CheckChoice&) const = default;
};

struct Recipe {
    double threshold = 0.5;
    double smoothing = 5;        ///< full width of the smoothing kernel at half its height, mm
    double surfaceSpacing = 2;   ///< lattice spacing of the surface, and edge length of even triangles, mm
    double elementSize = 4;      ///< lattice spacing of the check's mesh, mm
    double hotspotShare = 0.10;  ///< smallest height of a hotspot above its saddle, share of the allowable stress
    FieldChoice field{};
    bool largestPieceOnly = true;  ///< else pieces of at least smallestIsland are kept
    double smallestIsland = 0;     ///< mm3
    Triangles triangles = Triangles::asExtracted;
    int triangleBudget = 50000;  ///< of the layout 'budget'
    Draft draft{};
    Printing printing{};
    CheckChoice check{};
    bool operator==(const Recipe&) const = default;
};

}  // namespace escultura::project

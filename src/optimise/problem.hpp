/// @file optimise/problem.hpp
/// What is optimised: a part's design space, supports and loads on a grid, what is aimed at and by which rules.

#pragma once
#include <functional>
#include <string>
#include <utility>
#include <vector>

#include "optimise/density_chain.hpp"

namespace escultura::optimise {

struct GridCase {
    std::string name;
    std::vector<std::pair<std::size_t, Vec3>> forces;    ///< node, N
    std::function<Vec3(const Vec3& point)> bodyForce{};  ///< N/mm3 of solid material; empty: none
    std::vector<double> given{};                         ///< [holds] displacements, mm; empty: all zero
};

/// Cells i and twice - 1 - i along the axis are images of each other.
struct Mirror {
    int axis = 0;
    int twice = 0;  ///< place of the plane in half cells from the low end
    bool operator==(const Mirror&) const = default;
};

struct Problem {
    Grid grid;
    std::vector<CellUse> use;  ///< [cells]
    double youngsModulus = 0;  ///< MPa
    double poissonsRatio = 0.3;
    std::vector<Hold> holds;
    std::vector<Spring> springs;
    std::vector<GridCase> cases;
    std::vector<Mirror> mirrors;
    std::vector<char> unjudged;  ///< [cells] 1: stress there is not held against the limit; empty: all are judged

    /// Volume of all cells that may hold material, mm3.
    double volume() const;
    /// Share of it that is always material.
    double solidShare() const;
};

enum class Aim {
    stiffest,  ///< least compliance with a share of the volume
    lightest,  ///< least volume within limits
};

struct Choice {
    Aim aim = Aim::stiffest;
    double share = 0.3;           ///< stiffest: of Problem::volume()
    bool worstCase = false;       ///< stiffest: the worst case counts, not the sum
    std::vector<double> weights;  ///< [cases] stiffest; empty: all one. Each on its compliance over its first one
    double allowable = 0;         ///< lightest: largest von Mises stress, MPa; 0: no limit
    double complianceOver = 0;    ///< lightest: largest compliance over that of the full design space; 0: no limit
    double filterRadius = 0;      ///< mm
    std::vector<LayerRule> rules;
    int steps = 100;          ///< at most
    double tolerance = 1e-4;  ///< of the equations, relative
};

/// One step of the optimisation.
struct Step {
    int number = 0;
    double objective = 0;          ///< stiffest: weighted compliance over the first; lightest: share of the volume
    double share = 0;              ///< of the volume
    double sharpness = 0;          ///< of the projection
    double change = 0;             ///< largest of a design variable
    int iterations = 0;            ///< of the equations, all cases
    std::vector<double> limits{};  ///< lightest: each over its bound; at most 1 when met
};

}  // namespace escultura::optimise

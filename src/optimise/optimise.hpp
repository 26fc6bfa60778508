/// @file optimise/optimise.hpp
/// The optimisation of a density field on a grid.

#pragma once
#include "optimise/responses.hpp"

namespace escultura::optimise {

struct Outcome {
    std::vector<float> density;  ///< [cells]
    std::vector<double> design;  ///< [cells] variables that it came from
    std::vector<Step> steps;
    std::vector<double> compliance;  ///< [cases] N mm
    double share = 0;
    double worstLimit = 0;  ///< lightest: the largest over its bound
    bool stopped = false;   ///< by the listener
    bool within = true;     ///< every limit is met
};

/// Called after each step on the fine grid. [cells]. @return whether to go on; else what is there is kept
using StepListener = std::function<bool(const Step& step, const std::vector<double>& density)>;

/// Stiffest by optimality criteria (Bendsoe 1995), lightest by moving asymptotes. First without projection, on a grid
/// of twice the cell size when there is one; then the projection grows sharper as the design settles.
/// @param coarse  the same problem with cells of twice the size; null: begin on the fine grid
/// @throws InputError when the share is less than what is always material, or the equations cannot be solved; Cancelled
Outcome makeDensities(const Problem& problem, const Problem* coarse, const Choice& choice, const StepListener& listener,
                      Progress& progress);

/// Objective, limits and their gradients by the design variables at one design, for checking them.
struct Point {
    double objective = 0;
    std::vector<double> gradient;               ///< [cells]
    std::vector<double> limit;                  ///< at most 0 when met
    std::vector<std::vector<double>> jacobian;  ///< [limits][cells]
};
Point evaluate(const Problem& problem, const Choice& choice, const std::vector<double>& design, double sharpness,
               Progress& progress);

}  // namespace escultura::optimise

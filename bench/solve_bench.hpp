/// @file bench/solve_bench.hpp
/// The equation solvers side by side on one part.

#pragma once
#include <string>

#include "elastic/solve.hpp"

namespace escultura::bench {

/// One solution of all load cases.
struct OneSolution {
    double size = 4;  ///< element size, mm
    std::string method = "multigrid";
    double poisson = 0;  ///< 0: the material's own
    double ball = 0;     ///< element size in a ball of 8 mm radius on the boundary, mm; 0: none
    double gridFactor = elastic::SolveOptions{}.gridFactor;
    int degree = elastic::SolveOptions{}.smootherDegree;
};
/// Prints seconds of set-up and solution, bytes held, peak bytes, iterations (least, most), unknowns, elements, angle.
int solveOne(const std::string& part, const OneSolution& one);

/// Prints tables of time, memory and iterations over sizes. @return exit code
int benchSolve(const std::string& part, double largest, bool direct, const std::string& other);

}  // namespace escultura::bench

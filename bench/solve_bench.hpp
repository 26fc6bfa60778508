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

/// A block of 120 mm of n bricks a side, loaded on one side and held on the opposite one.
/// @param support  "plain": its nodes; "remote": its mean motion
int solveBlock(int bricks, const std::string& support);

/// Plain supports against a remote support on a whole side; exit code 1 when the remote one takes more than 1.3 times
/// the time, or 5 GB.
int benchBlock(int bricks);

}  // namespace escultura::bench

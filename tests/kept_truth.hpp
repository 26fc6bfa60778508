/// @file tests/kept_truth.hpp
/// Whole surfaces of made-up fields beside the exact shapes that the fields stand for, shared by the benchmark program
/// and the tests.

#pragma once
#include <string>
#include <vector>

namespace escultura::verification {

/// A spherical cavity of 15 mm in a solid block, not centred on a cell, on cells of some sizes in mm.
struct CavityRow {
    double cell = 0;  ///< mm
    bool grey = false;
    double fieldRadius = 0;   ///< of the ball with the volume that the cells leave empty, mm
    double toldRadius = 0;    ///< of the ball that the raw iso-surface encloses, mm
    double volumeRadius = 0;  ///< of the ball with the volume of the surface's cavity, mm
    double meanRadius = 0;    ///< of the cavity's vertices, mm
    double farthest = 0;      ///< largest distance of its vertices from the exact sphere, mm
    int cavities = 0;
};
std::vector<CavityRow> cavities(const std::vector<double>& cells);

/// Two bosses that the field holds solid, joined by a rod; the part file bores the bosses. How far the rod and the
/// bosses' outsides are from the exact shape, in cells, positive outside.
struct BoredRow {
    bool grey = false;
    double cell = 0;                               ///< mm
    double rodMean = 0, rodRms = 0, rodWorst = 0;  ///< a boss's radius away from the bosses
    double sideMean = 0, sideWorst = 0;            ///< of the bosses' round sides
    double told = 0;                               ///< the mean deviation that the surface tells
};
std::vector<BoredRow> boredBosses(const std::vector<double>& cells);

}  // namespace escultura::verification

/// @file stages/quantities.hpp
/// The quantities of a check's results, at every node, per case or as the worst of all cases.

#pragma once
#include <string>
#include <vector>

#include "stages/check_stage.hpp"

namespace escultura::stages {

enum class Quantity {
    vonMises,
    safetyFactor,
    displacement,
    signedVonMises,
    maximumPrincipal,
    minimumPrincipal,
    maximumShear,
    stressXX,
    stressYY,
    stressZZ,
    stressXY,
    stressYZ,
    stressZX,
    displacementX,
    displacementY,
    displacementZ,
    equivalentStrain,
    strainXX,
    strainYY,
    strainZZ,
    strainXY,
    strainYZ,
    strainZX,
    energyDensity,
    errorEstimate,
    governingCase,
};
inline constexpr int quantityCount = 26;

/// What a quantity measures: decides its units.
enum class Measure { stress, length, strain, energyDensity, number };

const char* title(Quantity quantity);
Measure measure(Quantity quantity);
/// Units it can be shown in; the first is the usual one. Empty text: none.
const std::vector<std::string>& unitsOf(Measure measure);
/// A value in internal units (MPa, mm, 1, N/mm2) in such a unit.
double inUnit(double value, Measure measure, const std::string& unit);
/// Whether values of both signs are to be told apart.
bool isSigned(Quantity quantity);
/// Whether a component depends on the frame.
bool usesFrame(Quantity quantity);
/// Whether the smallest value is the worst one.
bool worstIsLow(Quantity quantity);

/// [nodes] internal units. @param loadCase  index into check.cases; -1: the worst of all, by size where signed
/// @param axes  columns: directions of components
std::vector<double> quantityField(const Part& part, const CheckResult& check, Quantity quantity, int loadCase,
                                  const Mat3& axes = Mat3::Identity());
double quantityAt(const Part& part, const CheckResult& check, Quantity quantity, int loadCase, std::size_t node,
                  const Mat3& axes = Mat3::Identity());

}  // namespace escultura::stages

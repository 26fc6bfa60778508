/// @file duty/loads/common.hpp
/// What kinds of loads share. Internal to this folder.

#pragma once
#include "duty/load_kind.hpp"

namespace escultura::duty {

/// Force of a load, or its magnitude and direction; its moment. In tables under f and m where the kind is in them.
Figure<Load> forceFigure(bool inTables);
Figure<Load> momentFigure(bool inTables);

/// "(1, 2, 3)"
std::string vectorText(const Vec3& v);
/// "3 kN", "250 N"
std::string forceText(double newtons);
/// "(0, -3, 0) kN", "moment (0, 0, 12) N m", with a comma between.
std::string forceAndMomentText(const Load& load);
/// Outer radius of an interface's material, mm.
double outerRadius(const Interface& interface);
/// Of a total on each interface, times the factor of its case.
double shareOf(const Load& load, double factor);

/// Force, moment and torque on faces, at the middle of each face or at the load's point.
NominalLoad nominalOnFaces(const Load& load, const Part& part, bool atPoint = false);
/// A force over its faces beside the material's strength: slips of units by a thousand.
std::vector<OddLoad> oddStress(const Load& load, const Part& part, double factor);
std::vector<OddLoad> oddAcceleration(const Load& load, const Part& part, double factor);

/// An arrow for a force on a face, or a ring for a moment alone.
std::vector<LoadMark> forceMarks(const Load& load, const Part& part, double factor);
LoadMark arrowMark(const Vec3& at, const Vec3& along, const std::string& on, const std::string& text);
LoadMark ringMark(const Vec3& at, const Vec3& axis, double radius, double turns);

/// A force (or magnitude and direction) or a moment that is not zero.
void requireForce(const Load& load, const Part& part, const Node& node);

}  // namespace escultura::duty

/// @file stages/spot_test.hpp
/// Tests of hotspots: the same body on meshes that are finer around them.

#pragma once
#include <functional>
#include <vector>

#include "assess/hotspot_test.hpp"
#include "stages/check_stage.hpp"

namespace escultura::stages {

/// Where the held and loaded faces of a check are, seen from a place; keeps no reference.
std::function<assess::NearBoundary(const Vec3& place)> boundaryFinder(const Part& part, const CheckResult& check);

/// Tests hotspots of a check on meshes that are finer around them; all load cases are solved on each. Only a piece
/// around each is solved, moved at its cut as the check's solution moves; where the amplitude of its stresses tells
/// that the cut matters the piece grows to twice and four times its radius, at last to the whole refined model.
/// @param corners  of the mesh that the check started from
/// @param places   of the hotspots, mm
std::vector<assess::Evidence> testSpots(const Part& part, const CheckedBody& body, lattice::TetComplex corners,
                                        const CheckResult& check, const std::vector<Vec3>& places, Progress& progress);

}  // namespace escultura::stages

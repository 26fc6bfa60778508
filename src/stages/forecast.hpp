/// @file stages/forecast.hpp
/// What surface and check will take, before any of it is done.

#pragma once
#include "stages/ready.hpp"

namespace escultura::stages {

/// Sizes, memory and time that a recipe asks for. Within a factor of two or so: from the field's volume as long as
/// there is no surface, without what local sizes and small bores add.
struct RunForecast {
    double latticeVertices = 0;  ///< of the surface, over the design space
    double elements = 0, unknowns = 0;
    std::string solver;
    double thinWalls = 0;  ///< share of the surface's area whose wall is too thin for the elements to hold
    double surfaceMemory = 0, checkMemory = 0;  ///< bytes, each at its highest
    double surfaceSeconds = 0;                  ///< on two cores
    double checkSeconds = 0;                    ///< the same, with its further analyses, without tests of hotspots
    double memory() const { return std::max(surfaceMemory, checkMemory); }
};
/// @param surface  null: not built yet
RunForecast forecastRun(const Part& part, const Recipe& recipe, const FieldResult& field, const SurfaceResult* surface);

/// "about 99 k elements, 470 k unknowns, 0.8 GB, 30 s on two cores (multigrid)".
std::string checkWords(const RunForecast& forecast);
/// Surface and check.
std::string words(const RunForecast& forecast);

/// What does not fit into the machine (blocker), hardly fits, or takes long (warnings), with the option that helps.
/// @param memory  of the machine, bytes; 0: not known
std::vector<ReadyNote> forecastNotes(const RunForecast& forecast, const Recipe& recipe, double memory);

}  // namespace escultura::stages

/// @file cage/automatic.hpp
/// One action from a target surface to a fitted cage.

#pragma once
#include "cage/fit.hpp"
#include "cage/wrap.hpp"

namespace escultura::cage {

struct AutomaticOptions {
    double faceSize = 0;       ///< wanted edge length of a face, mm; 0: from faceCount
    int faceCount = 800;       ///< wanted count, met within about a third; used when faceSize is 0
    bool adapt = true;         ///< splits faces where members are thin or curved
    double tolerance = 0.105;  ///< faces that deviate by more are split, mean edges
    double largest = 0;        ///< distance that is allowed, mm; 0: 0.12 mean edges. Faces beyond 0.85 of it are split
    double rms = 0;            ///< root mean square that is allowed, mm; 0: 0.01 mean edges
    double thickest = 1.6;     ///< walls thinner than this many faces are wrapped as if they were so thick
    std::vector<std::array<Vec3, 2>> symmetry;  ///< planes (point, unit normal)
};

struct AutomaticCage {
    Cage cage;
    CageDeviation deviation;
    CageReport report;
    double faceSize = 0;  ///< that the wrap was made with, mm
    int tries = 0;        ///< wraps until pieces and handles agreed
    bool agrees = false;  ///< pieces and genus are the target's
    std::vector<std::int32_t> folded;
};

/// Whether a cage is sound and has the target's pieces and handles.
bool isRight(const CageReport& report, const Target& target);

/// Wraps, compares pieces and handles with the target (else shifts the grid and makes faces smaller, genus is not
/// monotone in the size), fits, and splits faces that still deviate.
/// @param value   negative inside; thread-safe
/// @throws InputError, Cancelled
AutomaticCage automaticCage(const std::function<double(const Vec3&)>& value, const Box3& bounds, const Target& target,
                            const AutomaticOptions& options, Progress& progress);

}  // namespace escultura::cage

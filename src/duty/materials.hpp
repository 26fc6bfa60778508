/// @file duty/materials.hpp
/// Materials that ship with the program, by their standard designations.

#pragma once
#include <vector>

#include "elastic/material.hpp"

namespace escultura::duty {

struct LibraryMaterial {
    elastic::Material material;  ///< yieldSource says the standard, and minimum or typical
    bool minimum = true;         ///< strengths are minima of the standard; else typical values
    const char* group;           ///< "aluminium", "steel" ...
};

/// Common alloys and polymers. Isotropic, at room temperature.
const std::vector<LibraryMaterial>& materialLibrary();

}  // namespace escultura::duty

/// @file duty/optimisation_text.hpp
/// The part file's object 'optimisation'. Internal to this folder.

#pragma once
#include "duty/optimisation.hpp"
#include "duty/part_node.hpp"

namespace escultura::duty {

/// @throws InputError when it names a case that the part does not have, or asks for what does not go together
Optimisation readOptimisation(const Node& n, const Units& u, const Part& part);

}  // namespace escultura::duty

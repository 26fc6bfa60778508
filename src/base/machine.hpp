/// @file base/machine.hpp
/// What the machine has.

#pragma once

namespace escultura {

/// Memory that the program may use, bytes: the machine's, or less where it is limited; 0: not known.
double machineMemory();

}  // namespace escultura

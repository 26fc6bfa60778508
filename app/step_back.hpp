/// @file step_back.hpp
/// Long work leaves the processor to the window when both want it.

#pragma once
#include <sys/resource.h>

namespace escultura::app {

/// Lets the interface thread go before the one that calls, and before those that it starts.
/// @param behind  nice value: drawings 5, work 10
inline void stepBack(int behind) {
    setpriority(PRIO_PROCESS, 0, behind);  // of the calling thread alone, here
}

}  // namespace escultura::app

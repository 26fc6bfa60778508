/// @file base/both.hpp
/// Two pieces of work side by side.

#pragma once
#include <tbb/parallel_invoke.h>

namespace escultura {

/// Does both, side by side where there are threads for it; they must not write shared data. Under the thread sanitizer
/// one after the other: see base/parallel.hpp.
template <class First, class Second>
void parallelBoth(const First& first, const Second& second) {
#ifdef __SANITIZE_THREAD__
    first();
    second();
#else
    tbb::parallel_invoke(first, second);
#endif
}

}  // namespace escultura

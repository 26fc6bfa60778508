/// @file base/parallel.hpp
/// Data-parallel loops. Results never depend on the number of threads: every index is written by one body only, and
/// sums are taken over fixed blocks in order.

#pragma once
#include <tbb/blocked_range.h>
#include <tbb/parallel_for.h>

#include <algorithm>
#include <cstddef>
#include <vector>
#ifdef __SANITIZE_THREAD__
#include <atomic>
#include <exception>
#include <thread>
#endif

namespace escultura {

#ifdef __SANITIZE_THREAD__
/// The thread sanitizer does not see how the library's own threads wait for each other, so that it would call every
/// loop a race: under it the loops run on plain threads. A loop within a loop runs on the thread that it is met on.
template <class Body>
void parallelFor(std::size_t count, const Body& body, std::size_t grain = 256) {
    static thread_local bool inside = false;
    if (inside || count <= grain) {
        for (std::size_t i = 0; i < count; ++i) body(i);
        return;
    }
    std::atomic<std::size_t> next = 0;
    std::exception_ptr error[3];
    std::vector<std::thread> threads;
    for (auto& e : error)
        threads.emplace_back([&] {
            inside = true;
            try {
                for (std::size_t begin; (begin = next.fetch_add(grain)) < count;)
                    for (std::size_t i = begin; i < std::min(count, begin + grain); ++i) body(i);
            } catch (...) {
                e = std::current_exception();
            }
        });
    for (auto& t : threads) t.join();
    for (const auto& e : error)
        if (e) std::rethrow_exception(e);
}
#else
/// Calls body(i) for i in [0, count); bodies must not write shared data.
template <class Body>
void parallelFor(std::size_t count, const Body& body, std::size_t grain = 256) {
    tbb::parallel_for(tbb::blocked_range<std::size_t>(0, count, grain),
                      [&](const tbb::blocked_range<std::size_t>& range) {
                          for (std::size_t i = range.begin(); i != range.end(); ++i) body(i);
                      });
}
#endif

/// Sum of term(i) over [0, count) in blocks of fixed size: the same bits for any number of threads.
template <class Value, class Term>
Value orderedSum(std::size_t count, Value zero, const Term& term) {
    constexpr std::size_t block = 4096;
    std::vector<Value> partial((count + block - 1) / block, zero);
    parallelFor(
        partial.size(),
        [&](std::size_t b) {
            Value sum = zero;
            for (std::size_t i = b * block, end = std::min(count, (b + 1) * block); i < end; ++i) sum = sum + term(i);
            partial[b] = sum;
        },
        1);
    Value total = zero;
    for (const Value& p : partial) total = total + p;
    return total;
}

}  // namespace escultura

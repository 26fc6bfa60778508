/// @file surface/bins.hpp
/// Cubic bins of space, for what lies near a place.

#pragma once
#include <array>
#include <cmath>
#include <cstdint>

#include "base/geometry.hpp"

namespace escultura::surface {

struct Ball {
    Vec3 centre = Vec3::Zero();
    double radius = 0;  ///< mm
};

class Bins {
  public:
    /// @param size  edge length of a bin, mm
    explicit Bins(double size = 1) : size_(size) {}
    std::int64_t keyAt(const Vec3& p) const { return keyOf(binAt(p)); }
    /// Calls f(key) for every bin that meets a box.
    template <class F>
    void within(const Vec3& low, const Vec3& high, const F& f) const {
        const auto a = binAt(low), b = binAt(high);
        for (auto k = a[2]; k <= b[2]; ++k)
            for (auto j = a[1]; j <= b[1]; ++j)
                for (auto i = a[0]; i <= b[0]; ++i) f(keyOf({i, j, k}));
    }

  private:
    using Bin = std::array<std::int64_t, 3>;
    Bin binAt(const Vec3& p) const {
        Bin c;
        for (int a = 0; a < 3; ++a) c[a] = static_cast<std::int64_t>(std::floor(p[a] / size_));
        return c;
    }
    static std::int64_t keyOf(const Bin& c) {
        return ((c[0] & 0x1fffff) << 42) | ((c[1] & 0x1fffff) << 21) | (c[2] & 0x1fffff);
    }
    double size_;
};

}  // namespace escultura::surface

#include "lattice/stencil.hpp"

#include <cmath>

namespace escultura::lattice {

Cut cutBetween(const shape::Shape& shape, const Vec3& p, const Vec3& q, Side pSide, Side qSide, double spacing) {
    double t0 = 0, t1 = 1, f0 = shape.evaluate(p).value, f1 = shape.evaluate(q).value;
    if (pSide == Side::outside) f0 = std::max(f0, nothing * spacing);
    if (qSide == Side::outside) f1 = std::max(f1, nothing * spacing);
    double t = 0.5;
    shape::Sample s;
    int last = 0;
    for (int i = 0; i < 60; ++i) {
        t = f1 == f0 ? 0.5 * (t0 + t1) : (t0 * f1 - t1 * f0) / (f1 - f0);
        if (!(t > t0 && t < t1) || i > 40) t = 0.5 * (t0 + t1);
        s = shape.evaluate(p + t * (q - p));
        if (std::abs(s.value) < 1e-10 * spacing || t1 - t0 < 1e-13) break;
        if ((s.value < 0) == (f0 < 0)) {
            t0 = t;
            f0 = s.value;
            if (last == 1) f1 *= 0.5;
            last = 1;
        } else {
            t1 = t;
            f1 = s.value;
            if (last == 2) f0 *= 0.5;
            last = 2;
        }
    }
    return {t, p + t * (q - p), surfaceId(s.surface)};
}

void Filling::emitPrism(const std::array<std::int32_t, 3>& a, const std::array<std::int32_t, 3>& b,
                        const std::array<bool, 3>& startsAtFirst) {
    // find the vertex of the a triangle at which both adjacent diagonals start
    for (int k = 0; k < 3; ++k) {
        const int next = (k + 1) % 3, last = (k + 2) % 3;
        const bool here = startsAtFirst[k] && !startsAtFirst[last];  // quads (k,next) and (last,k)
        if (!here) continue;
        emit(a[k], b[0], b[1], b[2]);
        // left: pyramid with apex a[k] over quad a[next], a[last], b[last], b[next]
        if (startsAtFirst[next]) {
            emit(a[k], a[next], a[last], b[last]);
            emit(a[k], a[next], b[last], b[next]);
        } else {
            emit(a[k], a[next], a[last], b[next]);
            emit(a[k], a[last], b[last], b[next]);
        }
        return;
    }
}

}  // namespace escultura::lattice

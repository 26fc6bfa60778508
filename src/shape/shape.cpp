#include "shape/shape.hpp"

#include <Eigen/Dense>

namespace escultura::shape {

bool projectOnto(const Shape& shape, const int* surfaces, int count, Vec3& p, double radius, double outside) {
    const Vec3 start = p;
    const double tolerance = 1e-9 * std::max(1.0, radius);
    const double rough = shape.roughness();
    for (int iteration = 0; iteration < 20; ++iteration) {
        // unused rows stay zero with a unit diagonal, so that one 3x3 system serves one to three surfaces
        Mat3 g = Mat3::Zero(), gram = Mat3::Identity();
        Vec3 f = Vec3::Zero();
        for (int i = 0; i < count; ++i) {
            f[i] = shape.surfaceValue(surfaces[i], p) - (surfaces[i] == 0 ? outside : 0.0);
            g.row(i) = shape.surfaceGradient(surfaces[i], p).transpose();
        }
        if (f.cwiseAbs().maxCoeff() < tolerance) return true;
        if (iteration >= 4 && rough > 0 && f.cwiseAbs().maxCoeff() < rough) {
            // exactly on the others; between the pieces of the free surface it would go to and fro
            int others[3], left = 0;
            for (int i = 0; i < count; ++i)
                if (surfaces[i] != 0) others[left++] = surfaces[i];
            if (left < count && projectOnto(shape, others, left, p, rough)) return true;
        }
        for (int i = 0; i < count; ++i)
            for (int j = 0; j < count; ++j) gram(i, j) = g.row(i).dot(g.row(j)) + (i == j ? 1e-12 : 0.0);
        Vec3 step = -g.transpose() * gram.inverse() * f;
        if (!step.allFinite()) return false;
        const double length = step.norm();
        if (length > 0.5 * radius) step *= 0.5 * radius / length;
        p += step;
        if ((p - start).norm() > radius) return false;
    }
    return false;
}

}  // namespace escultura::shape

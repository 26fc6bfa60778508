#include "elastic/conjugate_gradients.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <cstdio>

#include "base/parallel.hpp"

namespace escultura::elastic {

IterationReport solveIteratively(const System& system, const Preconditioner& preconditioner,
                                 const MeanProjection* means, const std::vector<std::vector<Vec3>>& b,
                                 std::vector<std::vector<Vec3>>& x, double tolerance, int limit, Progress& progress) {
    const std::size_t rows = system.rows();
    IterationReport report;
    report.iterations.assign(b.size(), 0);
    x.assign(b.size(), std::vector<Vec3>(rows, Vec3::Zero()));
    for (std::size_t first = 0; first < b.size();) {
        const int width = b.size() - first == 1 ? 1 : 4;  // vectors of a product; some may be empty
        const int count = static_cast<int>(std::min<std::size_t>(width, b.size() - first));
        const std::size_t n = 3 * rows * width;
        std::vector<double> u(n, 0.0), r(n, 0.0), p(n, 0.0), q(n);
        std::vector<float> scaled(n, 0.0f), z(n, 0.0f);
        using Four = Eigen::Array4d;
        for (int v = 0; v < count; ++v)
            for (std::size_t i = 0; i < 3 * rows; ++i) r[i * width + v] = b[first + v][i / 3][i % 3];
        auto dot = [&](const auto& left, const auto& right) {
            return orderedSum(3 * rows, Four(Four::Zero()), [&](std::size_t i) {
                Four s = Four::Zero();
                for (int v = 0; v < width; ++v)
                    s[v] = static_cast<double>(left[i * width + v]) * static_cast<double>(right[i * width + v]);
                return s;
            });
        };
        std::vector<double> step;  // the preconditioned residual, where it is projected
        if (means) {
            step.resize(n);
            means->projectResidual(width, r);
        }
        auto stepAt = [&](std::size_t i) { return means ? step[i] : static_cast<double>(z[i]); };
        const Four size = dot(r, r).sqrt();
        Four norm = size, pq = Four::Ones();
        Four active = (size > 0).cast<double>();
        auto record = [&](int iteration) {
            std::vector<float> now(count);
            double worst = 0;
            for (int v = 0; v < count; ++v) {
                now[v] = size[v] > 0 ? static_cast<float>(norm[v] / size[v]) : 0.0f;
                worst = std::max<double>(worst, now[v]);
            }
            report.residual.push_back(now);
            progress.record("residual", iteration, worst);
            const double share = worst > 0 ? std::clamp(std::log(worst) / std::log(tolerance), 0.0, 1.0) : 1.0;
            char text[64];
            std::snprintf(text, sizeof text, "Iteration %d, residual %.1e", iteration, worst);
            progress.step(text, share);
        };
        record(0);
        int iteration = 0;
        for (; iteration < limit && (active > 0).any(); ++iteration) {
            parallelFor(
                3 * rows,
                [&](std::size_t i) {
                    for (int v = 0; v < width; ++v)
                        scaled[i * width + v] = active[v] > 0 ? static_cast<float>(r[i * width + v] / norm[v]) : 0.0f;
                },
                4096);
            preconditioner(width, scaled, z);
            if (means) {
                std::copy(z.begin(), z.end(), step.begin());
                means->projectStep(width, step);
            }
            Four beta = Four::Zero();
            if (iteration > 0) {
                // flexible (Polak and Ribiere), with r_new - r_old = -alpha A p: beta = -(z A p) / (p A p)
                const Four qz = (means ? dot(q, step) : dot(q, z)) * norm;
                for (int v = 0; v < width; ++v)
                    if (active[v] > 0) beta[v] = -qz[v] / pq[v];
            }
            parallelFor(
                3 * rows,
                [&](std::size_t i) {
                    for (int v = 0; v < width; ++v)
                        p[i * width + v] = active[v] * (norm[v] * stepAt(i * width + v) + beta[v] * p[i * width + v]);
                },
                4096);
            multiply(system.matrix(), width, p.data(), q.data());
            if (means) system.subtractBed(width, p.data(), q.data());
            pq = dot(p, q);
            const Four pr = dot(p, r);
            Four alpha = Four::Zero();
            for (int v = 0; v < width; ++v)
                if (active[v] > 0 && pq[v] > 0) alpha[v] = pr[v] / pq[v];
            parallelFor(
                3 * rows,
                [&](std::size_t i) {
                    for (int v = 0; v < width; ++v) {
                        u[i * width + v] += alpha[v] * p[i * width + v];
                        r[i * width + v] -= alpha[v] * q[i * width + v];
                    }
                },
                4096);
            if (means) means->projectResidual(width, r);
            norm = dot(r, r).sqrt();
            for (int v = 0; v < count; ++v)
                if (active[v] > 0) {
                    report.iterations[first + v] = iteration + 1;
                    if (norm[v] <= tolerance * size[v]) active[v] = 0;
                }
            record(iteration + 1);
        }
        if ((active > 0).any()) report.converged = false;
        for (int v = 0; v < count; ++v)
            for (std::size_t i = 0; i < 3 * rows; ++i) x[first + v][i / 3][i % 3] = u[i * width + v];
        first += static_cast<std::size_t>(count);
    }
    return report;
}

}  // namespace escultura::elastic

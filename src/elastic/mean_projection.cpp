#include "elastic/mean_projection.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"

namespace escultura::elastic {

MeanProjection::MeanProjection(const System& system, const Preconditioner& preconditioner) : system_(system) {
    const auto& means = system.meanRows();
    const std::size_t n = 3 * system.rows(), count = means.size();
    step_.assign(count, std::vector<double>(n, 0.0));
    Eigen::MatrixXd rows = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(count), static_cast<Eigen::Index>(count));
    std::vector<double> dense(n, 0.0);
    for (std::size_t k = 0; k < count; ++k) {
        for (const auto& [row, v] : means[k])
            for (int a = 0; a < 3; ++a) dense[3 * static_cast<std::size_t>(row) + a] += v[a];
        for (std::size_t j = 0; j < count; ++j)
            for (const auto& [row, v] : means[j])
                for (int a = 0; a < 3; ++a) rows(j, k) += v[a] * dense[3 * static_cast<std::size_t>(row) + a];
        std::fill(dense.begin(), dense.end(), 0.0);
    }
    for (std::size_t first = 0; first < count; first += 4) {
        std::vector<float> r(4 * n, 0.0f), z(4 * n, 0.0f);
        const std::size_t width = std::min<std::size_t>(4, count - first);
        std::vector<double> size(width, 0.0);
        for (std::size_t v = 0; v < width; ++v) size[v] = std::sqrt(std::max(rows(first + v, first + v), 1e-300));
        for (std::size_t v = 0; v < width; ++v)
            for (const auto& [row, value] : means[first + v])
                for (int a = 0; a < 3; ++a)
                    r[(3 * static_cast<std::size_t>(row) + a) * 4 + v] += static_cast<float>(value[a] / size[v]);
        preconditioner(4, r, z);
        for (std::size_t v = 0; v < width; ++v)
            for (std::size_t i = 0; i < n; ++i) step_[first + v][i] = size[v] * z[i * 4 + v];
    }
    Eigen::MatrixXd ofStep(count, count);
    for (std::size_t k = 0; k < count; ++k) ofStep.col(static_cast<Eigen::Index>(k)) = rowsTimes(1, step_[k]).col(0);
    ofStep_.compute(ofStep);
    ofRows_.compute(rows);
}

Eigen::MatrixXd MeanProjection::rowsTimes(int vectors, const std::vector<double>& x) const {
    const auto& means = system_.meanRows();
    Eigen::MatrixXd b = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(means.size()), vectors);
    for (std::size_t k = 0; k < means.size(); ++k)
        for (const auto& [row, value] : means[k])
            for (int a = 0; a < 3; ++a)
                for (int v = 0; v < vectors; ++v)
                    b(static_cast<Eigen::Index>(k), v) +=
                        value[a] * x[(3 * static_cast<std::size_t>(row) + a) * vectors + v];
    return b;
}

void MeanProjection::projectStep(int vectors, std::vector<double>& z) const {
    const Eigen::MatrixXd share = ofStep_.solve(rowsTimes(vectors, z));
    parallelFor(
        step_[0].size(),
        [&](std::size_t i) {
            for (int v = 0; v < vectors; ++v)
                for (std::size_t k = 0; k < step_.size(); ++k)
                    z[i * vectors + v] -= share(static_cast<Eigen::Index>(k), v) * step_[k][i];
        },
        4096);
}

void MeanProjection::projectResidual(int vectors, std::vector<double>& r) const {
    const Eigen::MatrixXd share = ofRows_.solve(rowsTimes(vectors, r));
    const auto& means = system_.meanRows();
    for (std::size_t k = 0; k < means.size(); ++k)
        for (const auto& [row, value] : means[k])
            for (int a = 0; a < 3; ++a)
                for (int v = 0; v < vectors; ++v)
                    r[(3 * static_cast<std::size_t>(row) + a) * vectors + v] -=
                        share(static_cast<Eigen::Index>(k), v) * value[a];
}

std::vector<Vec3> MeanProjection::particular(const Eigen::VectorXd& wanted) const {
    const Eigen::VectorXd share = ofStep_.solve(wanted);
    std::vector<Vec3> x(system_.rows(), Vec3::Zero());
    for (std::size_t k = 0; k < step_.size(); ++k)
        for (std::size_t i = 0; i < step_[k].size(); ++i)
            x[i / 3][i % 3] += share[static_cast<Eigen::Index>(k)] * step_[k][i];
    return x;
}

Eigen::VectorXd MeanProjection::meanOf(const std::vector<Vec3>& x) const {
    std::vector<double> flat(3 * x.size());
    for (std::size_t i = 0; i < flat.size(); ++i) flat[i] = x[i / 3][i % 3];
    return rowsTimes(1, flat).col(0);
}

}  // namespace escultura::elastic

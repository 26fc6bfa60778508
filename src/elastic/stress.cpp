#include "elastic/stress.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>

#include "base/parallel.hpp"

namespace escultura::elastic {
namespace {

constexpr double near = 0.585410196624969, far = 0.138196601125011;

const Vec3* gaussPoints() {
    static const Vec3 point[4] = {Vec3(far, far, far), Vec3(near, far, far), Vec3(far, near, far),
                                  Vec3(far, far, near)};
    return point;
}

/// Corners and middles of the edges in the element's own coordinates.
const Vec3* nodePoints() {
    static const auto points = [] {
        std::array<Vec3, 10> p{Vec3(0, 0, 0), Vec3(1, 0, 0), Vec3(0, 1, 0), Vec3(0, 0, 1)};
        for (int k = 0; k < 6; ++k) p[4 + k] = 0.5 * (p[mesh::edgeCorners[k][0]] + p[mesh::edgeCorners[k][1]]);
        return p;
    }();
    return points.data();
}

/// Stress of one element at a point of its own coordinates.
Voigt6 stressAt(const mesh::TetMesh& mesh, const Stiffness6& c, std::size_t e, const Vec3& xi,
                const std::vector<Vec3>& u) {
    Vec3 d[10];
    mesh::shapeDerivatives(xi, d);
    Mat3 j = Mat3::Zero(), du = Mat3::Zero();
    for (int n = 0; n < 10; ++n) {
        j += mesh.position[mesh.tet[e][n]] * d[n].transpose();
        du += u[mesh.tet[e][n]] * d[n].transpose();
    }
    const Mat3 h = du * j.inverse();
    Voigt6 strain;
    strain << h(0, 0), h(1, 1), h(2, 2), h(0, 1) + h(1, 0), h(1, 2) + h(2, 1), h(2, 0) + h(0, 2);
    return c * strain;
}

Vec3 pointOf(const mesh::TetMesh& mesh, std::size_t e, const Vec3& xi) {
    double n[10];
    mesh::shapeFunctions(xi, n);
    Vec3 p = Vec3::Zero();
    for (int k = 0; k < 10; ++k) p += n[k] * mesh.position[mesh.tet[e][k]];
    return p;
}

}  // namespace

std::vector<Voigt6> gaussStress(const mesh::TetMesh& mesh, const Material& material, const std::vector<Vec3>& u) {
    const Stiffness6 c = elasticity(material);
    std::vector<Voigt6> stress(4 * mesh.tet.size());
    parallelFor(mesh.tet.size(), [&](std::size_t e) {
        for (int g = 0; g < 4; ++g) stress[4 * e + g] = stressAt(mesh, c, e, gaussPoints()[g], u);
    });
    return stress;
}

std::vector<Voigt6> recoverStress(const mesh::TetMesh& mesh, std::span<const Voigt6> gauss, Progress& progress) {
    progress.step("Recovering nodal stresses");
    const std::size_t corners = mesh.cornerCount;
    std::vector<std::int32_t> start(corners + 1, 0), elements;
    for (const auto& t : mesh.tet)
        for (int k = 0; k < 4; ++k) ++start[t[k] + 1];
    for (std::size_t n = 0; n < corners; ++n) start[n + 1] += start[n];
    elements.resize(start.back());
    std::vector<std::int32_t> next(start.begin(), start.end() - 1);
    for (std::size_t e = 0; e < mesh.tet.size(); ++e)
        for (int k = 0; k < 4; ++k) elements[next[mesh.tet[e][k]]++] = static_cast<std::int32_t>(e);

    // stress(p) = coefficients^T (1, (p - corner)/size)
    using Coefficients = Eigen::Matrix<double, 4, 6>;
    std::vector<Coefficients> fit(corners);
    std::vector<double> size(corners, 1.0);
    parallelFor(corners, [&](std::size_t n) {
        std::vector<std::int32_t> patch(elements.begin() + start[n], elements.begin() + start[n + 1]);
        if (patch.size() < 8) {  // at an edge or corner of the part: take the neighbours' elements too
            const auto own = patch;
            for (auto e : own)
                for (int k = 0; k < 4; ++k) {
                    const auto m = mesh.tet[e][k];
                    patch.insert(patch.end(), elements.begin() + start[m], elements.begin() + start[m + 1]);
                }
            std::sort(patch.begin(), patch.end());
            patch.erase(std::unique(patch.begin(), patch.end()), patch.end());
        }
        const Vec3 origin = mesh.position[n];
        double reach = 0;
        for (auto e : patch) reach = std::max(reach, (pointOf(mesh, e, Vec3(.25, .25, .25)) - origin).norm());
        Eigen::Matrix4d a = Eigen::Matrix4d::Zero();
        Coefficients b = Coefficients::Zero();
        for (auto e : patch)
            for (int g = 0; g < 4; ++g) {
                const Vec3 r = (pointOf(mesh, e, gaussPoints()[g]) - origin) / reach;
                const Eigen::Vector4d p(1, r[0], r[1], r[2]);
                a += p * p.transpose();
                b += p * gauss[4 * e + g].transpose();
            }
        fit[n] = a.ldlt().solve(b);
        size[n] = reach;
    });
    auto at = [&](std::size_t n, const Vec3& p) -> Voigt6 {
        const Vec3 r = (p - mesh.position[n]) / size[n];
        return fit[n].transpose() * Eigen::Vector4d(1, r[0], r[1], r[2]);
    };
    std::vector<Voigt6> nodal(mesh.position.size(), Voigt6::Zero());
    for (std::size_t n = 0; n < corners; ++n) nodal[n] = fit[n].row(0).transpose();
    std::vector<char> done(mesh.position.size(), 0);
    for (const auto& t : mesh.tet)
        for (int k = 0; k < 6; ++k) {
            const auto m = t[4 + k];
            if (done[m]) continue;
            done[m] = 1;
            nodal[m] = 0.5 * (at(t[mesh::edgeCorners[k][0]], mesh.position[m]) +
                              at(t[mesh::edgeCorners[k][1]], mesh.position[m]));
        }
    return nodal;
}

std::vector<Voigt6> averagedStress(const mesh::TetMesh& mesh, const Material& material, const std::vector<Vec3>& u) {
    const Stiffness6 c = elasticity(material);
    std::vector<Voigt6> sum(mesh.position.size(), Voigt6::Zero());
    std::vector<std::int32_t> elements(mesh.position.size(), 0);
    constexpr std::size_t chunk = 8192;
    std::vector<std::array<Voigt6, 10>> own(std::min(chunk, mesh.tet.size()));
    for (std::size_t begin = 0; begin < mesh.tet.size(); begin += chunk) {
        const std::size_t count = std::min(chunk, mesh.tet.size() - begin);
        parallelFor(
            count,
            [&](std::size_t i) {
                for (int n = 0; n < 10; ++n) own[i][n] = stressAt(mesh, c, begin + i, nodePoints()[n], u);
            },
            64);
        for (std::size_t i = 0; i < count; ++i)  // in order: the same sums for any number of threads
            for (int n = 0; n < 10; ++n) {
                sum[mesh.tet[begin + i][n]] += own[i][n];
                ++elements[mesh.tet[begin + i][n]];
            }
    }
    for (std::size_t n = 0; n < sum.size(); ++n)
        if (elements[n] > 0) sum[n] /= elements[n];
    return sum;
}

JudgedStress judgedStress(const mesh::TetMesh& mesh, const Material& material, const std::vector<Vec3>& u,
                          std::span<const Voigt6> recovered, const std::function<double(const Voigt6&)>& rule) {
    JudgedStress s;
    s.value = averagedStress(mesh, material, u);
    s.counts.resize(s.value.size());
    parallelFor(s.value.size(),
                [&](std::size_t n) { s.counts[n] = countedStress(rule(s.value[n]), rule(recovered[n])); });
    return s;
}

double strainEnergy(const mesh::TetMesh& mesh, const Material& material, std::span<const Voigt6> gauss) {
    const Stiffness6 compliance = elasticity(material).inverse();
    return orderedSum(mesh.tet.size(), 0.0, [&](std::size_t e) {
        double energy = 0;
        for (int g = 0; g < 4; ++g) {
            const Voigt6& s = gauss[4 * e + g];
            energy += mesh::jacobian(mesh, e, gaussPoints()[g]).determinant() / 48 * s.dot(compliance * s);
        }
        return energy;
    });
}

ErrorEstimate errorEstimate(const mesh::TetMesh& mesh, const Material& material, std::span<const Voigt6> gauss,
                            std::span<const Voigt6> nodal) {
    const Stiffness6 compliance = elasticity(material).inverse();
    ErrorEstimate estimate;
    estimate.element.assign(mesh.tet.size(), 0.0);
    struct Pair {
        double error = 0, whole = 0;
        Pair operator+(const Pair& o) const { return {error + o.error, whole + o.whole}; }
    };
    const Pair sum = orderedSum(mesh.tet.size(), Pair{}, [&](std::size_t e) {
        Pair p;
        for (int g = 0; g < 4; ++g) {
            double n[10];
            mesh::shapeFunctions(gaussPoints()[g], n);
            Voigt6 smooth = Voigt6::Zero();
            for (int k = 0; k < 10; ++k) smooth += n[k] * nodal[mesh.tet[e][k]];
            const double w = mesh::jacobian(mesh, e, gaussPoints()[g]).determinant() / 24;
            const Voigt6 d = smooth - gauss[4 * e + g];
            p.error += w * d.dot(compliance * d);
            p.whole += w * smooth.dot(compliance * smooth);
        }
        estimate.element[e] = p.error;
        return p;
    });
    estimate.relative = sum.whole > 0 ? std::sqrt(sum.error / sum.whole) : 0;
    return estimate;
}

}  // namespace escultura::elastic

#include "elastic/kernels.hpp"

#include <Eigen/Dense>

#include "base/parallel.hpp"
#include "elastic/volume_points.hpp"

namespace escultura::elastic {
namespace {

constexpr double near = 0.585410196624969, far = 0.138196601125011;
const Vec3 gauss[4] = {Vec3(far, far, far), Vec3(near, far, far), Vec3(far, near, far), Vec3(far, far, near)};

/// Gradients of the ten shape functions and the weight of an integration point.
double gradients(const mesh::TetMesh& mesh, std::size_t e, int g, Vec3* d) {
    mesh::shapeDerivatives(gauss[g], d);
    Mat3 j = Mat3::Zero();
    for (int n = 0; n < 10; ++n) j += mesh.position[mesh.tet[e][n]] * d[n].transpose();
    const Mat3 inverse = j.inverse().transpose();
    for (int n = 0; n < 10; ++n) d[n] = inverse * d[n];
    return j.determinant() / 24;
}

/// Six rows of the strain operator of one node.
Eigen::Matrix<double, 6, 3> strainOperator(const Vec3& d) {
    Eigen::Matrix<double, 6, 3> b = Eigen::Matrix<double, 6, 3>::Zero();
    b(0, 0) = b(3, 1) = b(5, 2) = d[0];
    b(1, 1) = b(3, 0) = b(4, 2) = d[1];
    b(2, 2) = b(4, 1) = b(5, 0) = d[2];
    return b;
}

/// Element stiffness with the four-point rule, exact for straight elements.
void elementStiffness(const mesh::TetMesh& mesh, std::size_t e, const Stiffness6& c, bool isotropic, ElementMatrix& k) {
    const double lambda = c(0, 1), mu = c(3, 3);
    for (Mat3& block : k) block.setZero();
    for (int g = 0; g < 4; ++g) {
        Vec3 d[10];
        const double weight = gradients(mesh, e, g, d);
        int at = 0;
        if (!isotropic) {
            Eigen::Matrix<double, 6, 3> b[10];
            for (int n = 0; n < 10; ++n) b[n] = strainOperator(d[n]);
            for (int n = 0; n < 10; ++n) {
                const Eigen::Matrix<double, 3, 6> left = weight * b[n].transpose() * c;
                for (int m = n; m < 10; ++m, ++at) k[at].noalias() += left * b[m];
            }
            continue;
        }
        for (int n = 0; n < 10; ++n)
            for (int m = n; m < 10; ++m, ++at) {
                Mat3& block = k[at];
                block.noalias() += (weight * lambda) * d[n] * d[m].transpose();
                block.noalias() += (weight * mu) * d[m] * d[n].transpose();
                block.diagonal().array() += weight * mu * d[n].dot(d[m]);
            }
    }
}

/// Stress of displacements at an integration point, times its weight.
Mat3 stressAt(const mesh::TetMesh& mesh, std::size_t e, const Stiffness6& c, const std::vector<Vec3>& u, const Vec3* d,
              double weight) {
    const auto& t = mesh.tet[e];
    Mat3 h = Mat3::Zero();
    for (int n = 0; n < 10; ++n) h += u[t[n]] * d[n].transpose();
    Voigt6 strain;
    strain << h(0, 0), h(1, 1), h(2, 2), h(0, 1) + h(1, 0), h(1, 2) + h(2, 1), h(2, 0) + h(0, 2);
    const Voigt6 s = weight * (c * strain);
    Mat3 tensor;
    tensor << s[0], s[3], s[5], s[3], s[1], s[4], s[5], s[4], s[2];
    return tensor;
}

}  // namespace

ElementKernel stiffnessKernel(const mesh::TetMesh& mesh, const Material& material) {
    return [&mesh, c = elasticity(material), isotropic = !material.orthotropic](std::size_t e, ElementMatrix& k) {
        elementStiffness(mesh, e, c, isotropic, k);
    };
}

ElementKernel massKernel(const mesh::TetMesh& mesh, double density) {
    return [&mesh, density](std::size_t e, ElementMatrix& m) {
        for (Mat3& block : m) block.setZero();
        double n[10];
        Vec3 d[10];
        for (const VolumePoint& q : volumePoints()) {
            mesh::shapeFunctions(q.at, n);
            mesh::shapeDerivatives(q.at, d);
            Mat3 j = Mat3::Zero();
            for (int k = 0; k < 10; ++k) j += mesh.position[mesh.tet[e][k]] * d[k].transpose();
            const double weight = density * q.weight * j.determinant();
            int at = 0;
            for (int a = 0; a < 10; ++a)
                for (int b = a; b < 10; ++b, ++at) m[at].diagonal().array() += weight * n[a] * n[b];
        }
    };
}

ElementKernel geometricKernel(const mesh::TetMesh& mesh, const Material& material, const std::vector<Vec3>& u) {
    return [&mesh, &u, c = elasticity(material)](std::size_t e, ElementMatrix& k) {
        for (Mat3& block : k) block.setZero();
        for (int g = 0; g < 4; ++g) {
            Vec3 d[10];
            const double weight = gradients(mesh, e, g, d);
            const Mat3 stress = stressAt(mesh, e, c, u, d, weight);
            int at = 0;
            for (int a = 0; a < 10; ++a)
                for (int b = a; b < 10; ++b, ++at) k[at].diagonal().array() += d[a].dot(stress * d[b]);
        }
    };
}

std::vector<Vec3> internalForces(const mesh::TetMesh& mesh, const Stiffness6& c, const std::vector<Vec3>& u) {
    std::vector<Vec3> force(mesh.position.size(), Vec3::Zero());
    constexpr std::size_t chunk = 8192;
    std::vector<std::array<Vec3, 10>> part(chunk);
    for (std::size_t begin = 0; begin < mesh.tet.size(); begin += chunk) {
        const std::size_t count = std::min(chunk, mesh.tet.size() - begin);
        parallelFor(
            count,
            [&](std::size_t i) {
                part[i].fill(Vec3::Zero());
                for (int g = 0; g < 4; ++g) {
                    Vec3 d[10];
                    const double weight = gradients(mesh, begin + i, g, d);
                    const Mat3 tensor = stressAt(mesh, begin + i, c, u, d, weight);
                    for (int n = 0; n < 10; ++n) part[i][n] += tensor * d[n];
                }
            },
            64);
        for (std::size_t i = 0; i < count; ++i)  // in order: the same sums for any number of threads
            for (int n = 0; n < 10; ++n) force[mesh.tet[begin + i][n]] += part[i][n];
    }
    return force;
}

}  // namespace escultura::elastic

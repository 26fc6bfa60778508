#include "elastic/loads.hpp"

#include <Eigen/Dense>
#include <cmath>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "elastic/face_points.hpp"
#include "elastic/volume_points.hpp"

namespace escultura::elastic {
namespace {

/// Adds the field w(x) (c + d x (x - centre)) that brings the given resultant and moment.
void addCorrection(const mesh::TetMesh& mesh, std::span<const std::int32_t> faces,
                   const std::function<double(const Vec3&, const Vec3&)>& weight, const Vec3& force, const Vec3& moment,
                   const Vec3& centre, NodalForces& forces) {
    using Matrix6 = Eigen::Matrix<double, 6, 6>;
    Matrix6 a = Matrix6::Zero();
    auto cross = [](const Vec3& r) {
        Mat3 m;
        m << 0, -r[2], r[1], r[2], 0, -r[0], -r[1], r[0], 0;
        return m;
    };
    for (auto face : faces)
        forFacePoints(mesh, face, [&](const FacePoint& q, const mesh::Triangle6&) {
            const double w = q.weight * weight(q.point, q.normal);
            const Mat3 r = cross(q.point - centre);
            a.topLeftCorner<3, 3>() += w * Mat3::Identity();
            a.topRightCorner<3, 3>() -= w * r;  // d x r = -r x d
            a.bottomLeftCorner<3, 3>() += w * r;
            a.bottomRightCorner<3, 3>() -= w * r * r;
        });
    Eigen::Matrix<double, 6, 1> wanted;
    wanted << force, moment;
    // Scaled, so that faces in one plane or on one line (zero lever about some axis) do not spoil the rest.
    const double lever = std::sqrt(std::max(a(3, 3) + a(4, 4) + a(5, 5), 1e-30) / std::max(a(0, 0), 1e-30));
    Eigen::Matrix<double, 6, 1> scale;
    scale << 1, 1, 1, 1 / lever, 1 / lever, 1 / lever;
    const Matrix6 scaled = scale.asDiagonal() * a * scale.asDiagonal();
    const Eigen::Matrix<double, 6, 1> x =
        scale.asDiagonal() * scaled.completeOrthogonalDecomposition().solve(scale.asDiagonal() * wanted);
    const Vec3 c = x.head<3>(), d = x.tail<3>();
    for (auto face : faces)
        forFacePoints(mesh, face, [&](const FacePoint& q, const mesh::Triangle6& f) {
            const Vec3 t = q.weight * weight(q.point, q.normal) * (c + d.cross(q.point - centre));
            for (int k = 0; k < 6; ++k) forces[f[k]] += q.n[k] * t;
        });
}

}  // namespace

void addTraction(const mesh::TetMesh& mesh, std::span<const std::int32_t> faces,
                 const std::function<Vec3(const Vec3&, const Vec3&)>& traction, NodalForces& forces) {
    for (auto face : faces)
        forFacePoints(mesh, face, [&](const FacePoint& q, const mesh::Triangle6& f) {
            const Vec3 t = q.weight * traction(q.point, q.normal);
            for (int k = 0; k < 6; ++k) forces[f[k]] += q.n[k] * t;
        });
}

void addSpreadForce(const mesh::TetMesh& mesh, std::span<const std::int32_t> faces, const Vec3& force,
                    const Vec3& moment, const Vec3& centre, NodalForces& forces) {
    if (faces.empty()) throw InputError("A load has no face to act on.");
    addCorrection(
        mesh, faces, [](const Vec3&, const Vec3&) { return 1.0; }, force, moment, centre, forces);
}

void addBearing(const mesh::TetMesh& mesh, std::span<const std::int32_t> faces, const Vec3& axis, const Vec3& centre,
                const Vec3& force, NodalForces& forces) {
    const Vec3 along = force.dot(axis) * axis, across = force - along;
    if (along.norm() > 1e-12 * force.norm()) addSpreadForce(mesh, faces, along, Vec3::Zero(), centre, forces);
    const double size = across.norm();
    if (size <= 1e-12 * force.norm()) return;
    const Vec3 direction = across / size;
    // the pin presses where the outward normal of the material looks against the force
    auto cosine = [&](const Vec3&, const Vec3& normal) { return std::max(-normal.dot(direction), 0.0); };
    NodalForces pressure(mesh.position.size(), Vec3::Zero());
    addTraction(
        mesh, faces, [&](const Vec3& p, const Vec3& n) -> Vec3 { return -cosine(p, n) * n; }, pressure);
    const double reached = resultant(mesh, pressure, centre).force.dot(direction);
    if (!(reached > 0))
        throw InputError(ErrorDetail{"A bearing load finds no part of the bore to press on.",
                                     {},
                                     {},
                                     "faces that look against the force",
                                     "none of them does"});
    for (Vec3& f : pressure) f *= size / reached;
    // what the mesh's facets leave of the wanted resultant and line of action
    const Resultant r = resultant(mesh, pressure, centre);
    addCorrection(mesh, faces, cosine, across - r.force, -r.moment, centre, pressure);
    for (std::size_t i = 0; i < forces.size(); ++i) forces[i] += pressure[i];
}

void addBodyForce(const mesh::TetMesh& mesh, const std::function<Vec3(const Vec3&)>& force, NodalForces& forces) {
    for (std::size_t e = 0; e < mesh.tet.size(); ++e)
        for (const auto& [xi, w] : volumePoints()) {
            double n[10];
            mesh::shapeFunctions(xi, n);
            Vec3 p = Vec3::Zero();
            for (int k = 0; k < 10; ++k) p += n[k] * mesh.position[mesh.tet[e][k]];
            const Vec3 f = w * mesh::jacobian(mesh, e, xi).determinant() * force(p);
            for (int k = 0; k < 10; ++k) forces[mesh.tet[e][k]] += n[k] * f;
        }
}

Resultant resultant(const mesh::TetMesh& mesh, const NodalForces& forces, const Vec3& about) {
    Resultant r;
    for (std::size_t i = 0; i < forces.size(); ++i) {
        r.force += forces[i];
        r.moment += (mesh.position[i] - about).cross(forces[i]);
    }
    return r;
}

double faceArea(const mesh::TetMesh& mesh, std::int32_t face) {
    double area = 0;
    forFacePoints(mesh, face, [&](const FacePoint& q, const mesh::Triangle6&) { area += q.weight; });
    return area;
}

}  // namespace escultura::elastic

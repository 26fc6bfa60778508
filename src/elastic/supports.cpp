#include "elastic/supports.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <map>

#include "base/quantity.hpp"
#include "elastic/face_points.hpp"

namespace escultura::elastic {
namespace {

/// The six rigid motions at a point: three translations, three rotations about the centre scaled by `size`.
Eigen::Matrix<double, 3, 6> rigidMotions(const Vec3& p, const Vec3& centre, double size) {
    const Vec3 r = (p - centre) / size;
    Eigen::Matrix<double, 3, 6> m;
    m.leftCols<3>().setIdentity();
    m.col(3) = Vec3::UnitX().cross(r);
    m.col(4) = Vec3::UnitY().cross(r);
    m.col(5) = Vec3::UnitZ().cross(r);
    return m;
}

}  // namespace

std::vector<std::string> freeMotions(const mesh::TetMesh& mesh, const Supports& supports) {
    Box3 box;
    for (std::size_t i = 0; i < mesh.cornerCount; ++i) box.include(mesh.position[i]);
    const double size = std::max(0.5 * box.diagonal(), 1e-9);
    const Vec3 centre = box.centre();
    using Gram = Eigen::Matrix<double, 6, 6>;
    using Row = Eigen::Matrix<double, 1, 6>;
    Gram gram = Gram::Zero();
    double count = 0;
    auto hold = [&](const Row& row, double weight = 1) {
        gram += weight * row.transpose() * row;
        count += weight;
    };
    for (const Constraint& c : supports.constraints)
        hold(c.direction.transpose() * rigidMotions(mesh.position[c.node], centre, size));
    for (const ElasticBed& bed : supports.beds) {
        const double strongest = std::max(bed.normal, bed.tangential);
        if (!(strongest > 0)) continue;
        for (auto face : bed.faces)
            forFacePoints(mesh, face, [&](const FacePoint& q, const mesh::Triangle6&) {
                const auto m = rigidMotions(q.point, centre, size);
                hold(q.normal.transpose() * m, bed.normal / strongest);
                for (const Vec3& t : perpendicular(q.normal)) hold(t.transpose() * m, bed.tangential / strongest);
            });
    }
    for (const MeanHold& h : supports.meanHolds) {
        const MeanMotion mean = meanMotion(mesh, h);
        Gram rows = Gram::Zero();
        for (std::size_t n = 0; n < mean.node.size(); ++n)
            rows += mean.weight[n] * rigidMotions(mesh.position[mean.node[n]], centre, size);
        for (int k = 0; k < 6; ++k)
            if (h.held[k]) hold(rows.row(k) * (k < 3 ? 1 : size));
    }
    for (const RigidGroup& g : supports.rigidGroups) {
        Vec3 middle = Vec3::Zero();
        for (auto n : g.nodes) middle += mesh.position[n] / static_cast<double>(g.nodes.size());
        const auto m = rigidMotions(middle, centre, size);
        for (int k = 0; k < 3; ++k) {
            if (g.held[k]) hold(m.row(k));
            Row turn = Row::Zero();
            turn[3 + k] = 1;
            if (g.held[3 + k]) hold(turn);
        }
    }
    if (count > 0) gram /= count;
    const Eigen::SelfAdjointEigenSolver<Gram> eigen(gram);
    std::vector<std::string> names;
    for (int k = 0; k < 6; ++k) {
        if (eigen.eigenvalues()[k] > 1e-8) continue;
        const Eigen::Matrix<double, 6, 1> v = eigen.eigenvectors().col(k);
        const bool turns = v.tail<3>().norm() > 0.5 * v.head<3>().norm();
        Vec3 d = turns ? Vec3(v.tail<3>()) : Vec3(v.head<3>());
        d.normalize();
        int largest = 0;
        d.cwiseAbs().maxCoeff(&largest);
        if (d[largest] < 0) d = -d;
        auto part = [](double x) { return formatNumber(std::round(100 * x) / 100 + 0.0, 2); };
        names.push_back((turns ? "rotation about (" : "translation along (") + part(d[0]) + ", " + part(d[1]) + ", " +
                        part(d[2]) + ")");
    }
    return names;
}

MeanMotion meanMotion(const mesh::TetMesh& mesh, const MeanHold& hold) {
    std::map<std::int32_t, double> share;
    double area = 0;
    for (auto face : hold.faces)
        forFacePoints(mesh, face, [&](const FacePoint& q, const mesh::Triangle6& f) {
            for (int k = 0; k < 6; ++k) share[f[k]] += q.weight * q.n[k];
            area += q.weight;
        });
    MeanMotion m;
    Mat3 inertia = Mat3::Zero();
    Vec3 middle = Vec3::Zero();
    for (auto& [node, w] : share) {
        w /= area;
        middle += w * mesh.position[node];
    }
    for (const auto& [node, w] : share) {
        const Vec3 r = mesh.position[node] - middle;
        inertia += w * (r.squaredNorm() * Mat3::Identity() - r * r.transpose());
    }
    // the rotation that fits best; a flat or thin face has no lever about some axis, then none is measured there
    const Mat3 inverse = inertia.completeOrthogonalDecomposition().pseudoInverse();
    for (const auto& [node, w] : share) {
        const Vec3 r = mesh.position[node] - middle;
        Mat3 cross;
        cross << 0, -r[2], r[1], r[2], 0, -r[0], -r[1], r[0], 0;
        const Mat3 turn = w * inverse * cross;
        const Vec3 lever = hold.centre - middle;  // translation at the centre = mean + rotation x lever
        Mat3 leverCross;
        leverCross << 0, -lever[2], lever[1], lever[2], 0, -lever[0], -lever[1], lever[0], 0;
        Eigen::Matrix<double, 6, 3> rows;
        rows.topRows<3>() = hold.frame.transpose() * (w * Mat3::Identity() - leverCross * turn);
        rows.bottomRows<3>() = hold.frame.transpose() * turn;
        m.node.push_back(node);
        m.weight.push_back(rows);
    }
    return m;
}

}  // namespace escultura::elastic

/// The equations of a mesh: the stiffness on what supports leave free, elastic beds, held mean motions.

#include "elastic/system.hpp"

#include <algorithm>

#include "base/error.hpp"
#include "elastic/assembly.hpp"
#include "elastic/face_points.hpp"

namespace escultura::elastic {

System::System(const mesh::TetMesh& mesh, const Material& material, const Supports& supports, double gridFactor,
               Progress& progress)
    : Numbering((progress.step("Numbering the unknowns"), mesh), supports, gridFactor), beds_(supports.beds) {
    holdMeans(supports);
    matrix_.pattern = patternOf(*this);
    matrix_.high.assign(9 * matrix_.pattern.column.size(), 0);
    matrix_.low.assign(9 * matrix_.pattern.column.size(), 0);
    addElements(*this, stiffnessKernel(mesh, material), "Assembling the stiffness", matrix_, progress);
    addBeds();
    addSoftBeds(supports, elasticity(material)(3, 3));
    uncouple(*this, true, matrix_);
}

SplitBlocks System::assembled(const ElementKernel& kernel, const std::string& words, Progress& progress) const {
    SplitBlocks matrix;
    matrix.pattern = matrix_.pattern;
    matrix.high.assign(matrix_.high.size(), 0);
    matrix.low.assign(matrix_.low.size(), 0);
    addElements(*this, kernel, words, matrix, progress);
    uncouple(*this, false, matrix);
    return matrix;
}

void System::holdMeans(const Supports& supports) {
    for (const MeanHold& h : supports.meanHolds) {
        const MeanMotion mean = meanMotion(mesh(), h);
        for (int k = 0; k < 6; ++k) {
            if (!h.held[k]) continue;
            std::vector<std::pair<std::int32_t, Vec3>> means;
            for (std::size_t i = 0; i < mean.node.size(); ++i) {
                const auto n = mean.node[i];
                if (row(rowOf(n)).group >= 0)
                    throw InputError("A face is held rigidly and by its mean motion at once: choose one.");
                Vec3 v = transform(n, rowOf(n)).transpose() * mean.weight[i].row(k).transpose();
                for (int a = 0; a < 3; ++a)
                    if (!row(rowOf(n)).isFree(a)) v[a] = 0;
                means.emplace_back(rowOf(n), v);
            }
            meanRows_.push_back(std::move(means));
        }
    }
}

void System::addBeds() {
    auto addNodal = [&](std::int32_t n, std::int32_t m, const Mat3& block) {
        std::int32_t a[2], b[2];
        const int na = rowsOf(n, a), nb = rowsOf(m, b);
        for (int p = 0; p < na; ++p)
            for (int q = 0; q < nb; ++q)
                addBlock(matrix_, a[p], b[q], transform(n, a[p]).transpose() * block * transform(m, b[q]));
    };
    for (const ElasticBed& bed : beds_)
        for (auto face : bed.faces)
            forFacePoints(mesh(), face, [&](const FacePoint& q, const mesh::Triangle6& f) {
                const Mat3 k = q.weight * (bed.tangential * Mat3::Identity() +
                                           (bed.normal - bed.tangential) * q.normal * q.normal.transpose());
                for (int n = 0; n < 6; ++n)
                    for (int m = 0; m < 6; ++m) addNodal(f[n], f[m], q.n[n] * q.n[m] * k);
            });
}

void System::addSoftBeds(const Supports& supports, double shearModulus) {
    // Where nothing else holds the part a held mean motion leaves the stiffness singular. A soft bed on the face, as
    // stiff as the body behind it, makes it regular; whoever solves takes the bed out again (B^T B would do it without,
    // but is a dense block of the whole face).
    Box3 extent;
    for (const Vec3& p : mesh().position) extent.include(p);
    const double softness = shearModulus / std::max(0.5 * extent.diagonal(), 1e-9);
    for (const MeanHold& hold : supports.meanHolds)
        for (auto face : hold.faces) {
            double share[6][6] = {};
            mesh::Triangle6 nodes{};
            forFacePoints(mesh(), face, [&](const FacePoint& q, const mesh::Triangle6& f) {
                nodes = f;
                for (int n = 0; n < 6; ++n)
                    for (int m = 0; m < 6; ++m) share[n][m] += softness * q.weight * q.n[n] * q.n[m];
            });
            for (int n = 0; n < 6; ++n)
                for (int m = 0; m < 6; ++m) {
                    const std::int32_t a = rowOf(nodes[n]), b = rowOf(nodes[m]);
                    BedEntry e{a, b, share[n][m] * transform(nodes[n], a).transpose() * transform(nodes[m], b)};
                    for (int k = 0; k < 3; ++k) {
                        if (!row(a).isFree(k)) e.block.row(k).setZero();
                        if (!row(b).isFree(k)) e.block.col(k).setZero();
                    }
                    addBlock(matrix_, a, b, e.block);
                    bed_.push_back(e);
                }
        }
}

void System::subtractBed(int vectors, const double* x, double* y) const {
    for (const BedEntry& e : bed_) {
        const double* from = x + 3 * static_cast<std::size_t>(e.column) * vectors;
        double* to = y + 3 * static_cast<std::size_t>(e.row) * vectors;
        for (int a = 0; a < 3; ++a)
            for (int b = 0; b < 3; ++b)
                for (int v = 0; v < vectors; ++v) to[a * vectors + v] -= e.block(a, b) * from[b * vectors + v];
    }
}

void System::addBedForces(const std::vector<Vec3>& u, std::vector<Vec3>& nodal) const {
    for (const ElasticBed& bed : beds_)
        for (auto face : bed.faces)
            forFacePoints(mesh(), face, [&](const FacePoint& q, const mesh::Triangle6& f) {
                Vec3 at = Vec3::Zero();
                for (int k = 0; k < 6; ++k) at += q.n[k] * u[f[k]];
                const Vec3 t =
                    q.weight * (bed.tangential * at + (bed.normal - bed.tangential) * q.normal.dot(at) * q.normal);
                for (int k = 0; k < 6; ++k) nodal[f[k]] += q.n[k] * t;
            });
}

}  // namespace escultura::elastic

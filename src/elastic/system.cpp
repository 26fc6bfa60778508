/// The equations of a mesh: unknowns tied by supports, the stiffness assembled on what is left, forces taken in and
/// displacements given back.

#include "elastic/system.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <numeric>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "elastic/face_points.hpp"

namespace escultura::elastic {
namespace {

using ElementMatrix = std::array<Mat3, 55>;  // upper triangle of 10 x 10 blocks, by rows

constexpr double near = 0.585410196624969, far = 0.138196601125011;
const Vec3 gauss[4] = {Vec3(far, far, far), Vec3(near, far, far), Vec3(far, near, far), Vec3(far, far, near)};

Mat3 crossMatrix(const Vec3& r) {
    Mat3 m;
    m << 0, -r[2], r[1], r[2], 0, -r[0], -r[1], r[0], 0;
    return m;
}

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

/// Levels of the grid that suit the elements around each node: 0 the finest.
std::vector<int> gridLevels(const mesh::TetMesh& mesh, double factor, double& finest) {
    std::vector<float> size(mesh.tet.size()), largest(mesh.position.size(), 0);
    for (std::size_t e = 0; e < mesh.tet.size(); ++e) {
        const auto& t = mesh.tet[e];
        size[e] = static_cast<float>(std::cbrt(
            6 * tetVolume(mesh.position[t[0]], mesh.position[t[1]], mesh.position[t[2]], mesh.position[t[3]])));
        for (auto n : t) largest[n] = std::max(largest[n], size[e]);
    }
    std::nth_element(size.begin(), size.begin() + static_cast<std::ptrdiff_t>(size.size() / 2), size.end());
    const double usual = size[size.size() / 2];
    // a node asks for another level only when its elements are clearly of another size
    std::vector<int> level(largest.size());
    int lowest = 0;
    for (std::size_t n = 0; n < level.size(); ++n) {
        const double x = std::log2(std::max<double>(largest[n], 1e-9) / usual);
        level[n] = x >= 0 ? static_cast<int>(x + 0.36) : -static_cast<int>(-x + 0.14);
        level[n] = std::clamp(level[n], -8, 6);
        lowest = std::min(lowest, level[n]);
    }
    for (int& l : level) l -= lowest;
    finest = factor * usual * std::ldexp(1.0, lowest);
    return level;
}

}  // namespace

std::vector<Vec3> internalForces(const mesh::TetMesh& mesh, const Stiffness6& c, const std::vector<Vec3>& u) {
    std::vector<Vec3> force(mesh.position.size(), Vec3::Zero());
    constexpr std::size_t chunk = 8192;
    std::vector<std::array<Vec3, 10>> part(chunk);
    for (std::size_t begin = 0; begin < mesh.tet.size(); begin += chunk) {
        const std::size_t count = std::min(chunk, mesh.tet.size() - begin);
        parallelFor(
            count,
            [&](std::size_t i) {
                const auto& t = mesh.tet[begin + i];
                part[i].fill(Vec3::Zero());
                for (int g = 0; g < 4; ++g) {
                    Vec3 d[10];
                    const double weight = gradients(mesh, begin + i, g, d);
                    Mat3 h = Mat3::Zero();
                    for (int n = 0; n < 10; ++n) h += u[t[n]] * d[n].transpose();
                    Voigt6 strain;
                    strain << h(0, 0), h(1, 1), h(2, 2), h(0, 1) + h(1, 0), h(1, 2) + h(2, 1), h(2, 0) + h(0, 2);
                    const Voigt6 s = weight * (c * strain);
                    Mat3 tensor;
                    tensor << s[0], s[3], s[5], s[3], s[1], s[4], s[5], s[4], s[2];
                    for (int n = 0; n < 10; ++n) part[i][n] += tensor * d[n];
                }
            },
            64);
        for (std::size_t i = 0; i < count; ++i)  // in order: the same sums for any number of threads
            for (int n = 0; n < 10; ++n) force[mesh.tet[begin + i][n]] += part[i][n];
    }
    return force;
}

System::System(const mesh::TetMesh& mesh, const Material& material, const Supports& supports, double gridFactor,
               Progress& progress)
    : mesh_(mesh), beds_(supports.beds), supported_(mesh.position.size(), 0) {
    progress.step("Numbering the unknowns");
    for (const Constraint& c : supports.constraints) constraintValue_.push_back(c.value), supported_[c.node] = 1;
    for (const ElasticBed& b : beds_)
        for (auto f : b.faces)
            for (auto n : mesh.boundary[f]) supported_[n] = 1;
    placeRows(supports, gridFactor);
    for (const MeanHold& h : supports.meanHolds) {
        const MeanMotion mean = meanMotion(mesh, h);
        for (auto n : mean.node) supported_[n] = 1;
        for (int k = 0; k < 6; ++k) {
            if (!h.held[k]) continue;
            std::vector<std::pair<std::int32_t, Vec3>> row;
            for (std::size_t i = 0; i < mean.node.size(); ++i) {
                const auto n = mean.node[i];
                if (row_[rowOf_[n]].group >= 0)
                    throw InputError("A face is held rigidly and by its mean motion at once: choose one.");
                Vec3 v = transform(n, rowOf_[n]).transpose() * mean.weight[i].row(k).transpose();
                for (int a = 0; a < 3; ++a)
                    if (!(row_[rowOf_[n]].freeMask >> a & 1)) v[a] = 0;
                row.emplace_back(rowOf_[n], v);
            }
            meanRows_.push_back(std::move(row));
        }
    }
    assemble(material, supports, progress);
}

void System::spreadOver(Group& g) const {
    constexpr std::size_t most = 12;
    const auto distance = [&](std::int32_t a, std::int32_t b) {
        return (mesh_.position[a] - mesh_.position[b]).norm();
    };
    std::vector<double> nearest(g.nodes.size(), std::numeric_limits<double>::infinity());
    std::size_t next = 0;
    while (g.spread.size() < std::min(most, g.nodes.size())) {  // each as far from the others as can be
        g.spread.push_back(g.nodes[next]);
        for (std::size_t i = 0; i < g.nodes.size(); ++i)
            nearest[i] = std::min(nearest[i], distance(g.nodes[i], g.spread.back()));
        next = static_cast<std::size_t>(std::max_element(nearest.begin(), nearest.end()) - nearest.begin());
    }
    for (auto n : g.spread) g.spreadMiddle += mesh_.position[n] / static_cast<double>(g.spread.size());
    for (auto n : g.spread) {
        const Vec3 r = mesh_.position[n] - g.spreadMiddle;
        g.spreadInertia += r.squaredNorm() * Mat3::Identity() - r * r.transpose();
    }
    g.spreadInertia = g.spreadInertia.completeOrthogonalDecomposition().pseudoInverse().eval();
}

void System::placeRows(const Supports& supports, double gridFactor) {
    const std::size_t nodes = mesh_.position.size();
    std::vector<std::int32_t> groupOf(nodes, -1);
    for (std::size_t g = 0; g < supports.rigidGroups.size(); ++g) {
        const RigidGroup& from = supports.rigidGroups[g];
        Group to{Vec3::Zero(), 0, from.nodes, from.held, {}, Vec3::Zero(), Mat3::Zero()};
        const bool anyHeld = std::any_of(from.held.begin(), from.held.end(), [](bool h) { return h; });
        for (auto n : from.nodes) {
            if (groupOf[n] >= 0) throw InputError("Two rigid connections share a place of the part: keep one.");
            groupOf[n] = static_cast<std::int32_t>(g);
            to.middle += mesh_.position[n] / static_cast<double>(from.nodes.size());
            if (anyHeld) supported_[n] = 1;
        }
        for (auto n : from.nodes) to.length = std::max(to.length, (mesh_.position[n] - to.middle).norm());
        if (!(to.length > 0)) throw InputError("A rigid connection needs a face of some extent.");
        spreadOver(to);
        group_.push_back(std::move(to));
    }
    // the order of the rows: by leaf, so that the products read memory in order
    std::vector<std::int32_t> order(nodes), leaf(nodes, 0);
    std::iota(order.begin(), order.end(), 0);
    if (gridFactor > 0) {
        double finest = 1;
        const auto level = gridLevels(mesh_, gridFactor, finest);
        grid_.emplace(mesh_.position, level, finest);
        parallelFor(nodes, [&](std::size_t n) { leaf[n] = grid_->leafAt(mesh_.position[n]); });
        std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return leaf[a] < leaf[b]; });
    }
    rowOf_.assign(nodes, -1);
    for (auto n : order) {
        if (groupOf[n] >= 0) {
            if (rowOf_[n] >= 0) continue;
            const Group& g = group_[groupOf[n]];
            for (auto m : g.nodes) rowOf_[m] = static_cast<std::int32_t>(row_.size());
            for (int turn = 0; turn < 2; ++turn) {
                Row r;
                r.position = g.middle;
                r.group = groupOf[n];
                r.rotation = turn;
                for (int k = 0; k < 3; ++k)
                    if (g.held[3 * turn + k]) r.freeMask &= static_cast<std::int8_t>(~(1 << k));
                row_.push_back(r);
                leaf_.push_back(leaf[n]);
            }
            continue;
        }
        rowOf_[n] = static_cast<std::int32_t>(row_.size());
        Row r;
        r.position = mesh_.position[n];
        row_.push_back(r);
        leaf_.push_back(leaf[n]);
    }
    std::map<std::int32_t, std::vector<std::int32_t>> at;  // node -> constraints
    for (std::size_t c = 0; c < supports.constraints.size(); ++c)
        at[supports.constraints[c].node].push_back(static_cast<std::int32_t>(c));
    for (const auto& [node, list] : at) {
        Row& r = row_[rowOf_[node]];
        if (r.group >= 0)
            throw InputError("A face is connected rigidly and held by another support at once: choose one.");
        std::vector<Vec3> kept;
        const bool axes = std::all_of(list.begin(), list.end(), [&](auto c) {
            return supports.constraints[c].direction.cwiseAbs().maxCoeff() > 1 - 1e-12;
        });
        for (auto c : list) {
            const Vec3& d = supports.constraints[c].direction;
            if (axes) {
                int k = 0;
                d.cwiseAbs().maxCoeff(&k);
                if (!(r.freeMask >> k & 1)) {  // said twice: must be the same
                    for (auto h = held_.rbegin(); h != held_.rend() && h->row == rowOf_[node]; ++h)
                        if (h->component == k)
                            repeated_.push_back({{c, d[k] > 0 ? 1.0 : -1.0}, {h->of[0].first, -h->of[0].second}});
                    continue;
                }
                r.freeMask &= static_cast<std::int8_t>(~(1 << k));
                held_.push_back({rowOf_[node], static_cast<std::int8_t>(k), {{c, d[k] > 0 ? 1.0 : -1.0}}});
                continue;
            }
            Vec3 e = d;
            for (const Vec3& k : kept) e -= e.dot(k) * k;
            if (e.norm() < 1e-6) {  // follows from the others: must agree with them
                std::vector<std::pair<std::int32_t, double>> sum{{c, 1.0}};
                for (std::size_t m = 0; m < kept.size(); ++m)
                    for (const auto& [other, factor] : held_[held_.size() - kept.size() + m].of)
                        sum.emplace_back(other, -d.dot(kept[m]) * factor);
                repeated_.push_back(std::move(sum));
                continue;
            }
            e.normalize();
            const auto k = static_cast<std::int8_t>(kept.size());
            Held h{rowOf_[node], k, {{c, 1 / d.dot(e)}}};
            for (int m = 0; m < k; ++m)  // q_k = (v - sum (d . e_m) q_m) / (d . e_k)
                for (const auto& [other, factor] : held_[held_.size() - k + m].of)
                    h.of.emplace_back(other, -d.dot(kept[m]) * factor / d.dot(e));
            held_.push_back(std::move(h));
            kept.push_back(e);
            r.freeMask &= static_cast<std::int8_t>(~(1 << k));
        }
        if (axes) continue;
        r.framed = true;
        if (kept.size() == 1) {
            const auto others = perpendicular(kept[0]);
            kept.insert(kept.end(), others.begin(), others.end());
        }
        if (kept.size() == 2) kept.push_back(kept[0].cross(kept[1]));
        for (int k = 0; k < 3; ++k) r.frame.col(k) = kept[k];
    }
}

Mat3 System::transform(std::int32_t node, std::int32_t row) const {
    const Row& r = row_[row];
    if (r.rotation) {
        const Group& g = group_[r.group];
        return -crossMatrix(mesh_.position[node] - g.middle) / g.length;
    }
    return r.frame;
}

std::size_t System::unknowns() const {
    std::size_t count = 0;
    for (const Row& r : row_)
        for (int k = 0; k < 3; ++k) count += r.freeMask >> k & 1;
    return count;
}

void System::assemble(const Material& material, const Supports& supports, Progress& progress) {
    const std::size_t rows = row_.size();
    // rows of a node: one, or a group's two
    auto rowsOf = [&](std::int32_t node, std::int32_t* out) {
        out[0] = rowOf_[node];
        if (row_[out[0]].group < 0) return 1;
        out[1] = out[0] + 1;
        return 2;
    };
    {
        std::vector<std::int32_t> start(rows + 1, 0), elements;
        auto forRowsOf = [&](const mesh::Tet10& t, auto visit) {
            for (auto n : t) {
                std::int32_t r[2];
                for (int k = 0, count = rowsOf(n, r); k < count; ++k) visit(r[k]);
            }
        };
        for (const auto& t : mesh_.tet) forRowsOf(t, [&](auto r) { ++start[r + 1]; });
        for (std::size_t n = 0; n < rows; ++n) start[n + 1] += start[n];
        elements.resize(start.back());
        std::vector<std::int32_t> next(start.begin(), start.end() - 1);
        for (std::size_t e = 0; e < mesh_.tet.size(); ++e)
            forRowsOf(mesh_.tet[e], [&](auto r) { elements[next[r]++] = static_cast<std::int32_t>(e); });
        auto collect = [&](std::size_t n, std::vector<std::int32_t>& row) {
            row.clear();
            for (auto at = start[n]; at < start[n + 1]; ++at)
                forRowsOf(mesh_.tet[elements[at]], [&](auto r) { row.push_back(r); });
            std::sort(row.begin(), row.end());
            row.erase(std::unique(row.begin(), row.end()), row.end());
        };
        matrix_.pattern.offset.assign(rows + 1, 0);
        auto forAll = [&](auto body) {
            constexpr std::size_t block = 1024;  // each with a row of its own
            parallelFor((rows + block - 1) / block,
                        [&](std::size_t b) {
                            std::vector<std::int32_t> row;
                            for (std::size_t n = b * block; n < std::min(rows, (b + 1) * block); ++n) {
                                collect(n, row);
                                body(n, row);
                            }
                        },
                        1);
        };
        forAll([&](std::size_t n, const auto& row) {
            matrix_.pattern.offset[n + 1] = static_cast<std::int64_t>(row.size());
        });
        for (std::size_t n = 0; n < rows; ++n) matrix_.pattern.offset[n + 1] += matrix_.pattern.offset[n];
        matrix_.pattern.column.resize(matrix_.pattern.offset.back());
        forAll([&](std::size_t n, const auto& row) {
            std::copy(row.begin(), row.end(), matrix_.pattern.column.begin() + matrix_.pattern.offset[n]);
        });
    }
    matrix_.high.assign(9 * matrix_.pattern.column.size(), 0);
    matrix_.low.assign(9 * matrix_.pattern.column.size(), 0);
    auto add = [&](std::int32_t r, std::int32_t c, const Mat3& block) {
        const auto at = matrix_.pattern.find(r, c);
        matrix_.setBlock(at, matrix_.block(at) + block);
    };
    const Stiffness6 c = elasticity(material);
    constexpr std::size_t chunk = 4096, parts = 8;
    std::vector<ElementMatrix> matrices(chunk);
    for (std::size_t begin = 0; begin < mesh_.tet.size(); begin += chunk) {
        progress.step("Assembling the stiffness", static_cast<double>(begin) / static_cast<double>(mesh_.tet.size()));
        const std::size_t count = std::min(chunk, mesh_.tet.size() - begin);
        parallelFor(
            count, [&](std::size_t i) { elementStiffness(mesh_, begin + i, c, !material.orthotropic, matrices[i]); },
            64);
        // each part of the rows is added up by one thread, in the order of the elements: always the same sums
        parallelFor(
            parts,
            [&](std::size_t part) {
                const auto low = static_cast<std::int32_t>(rows * part / parts);
                const auto high = static_cast<std::int32_t>(rows * (part + 1) / parts);
                for (std::size_t i = 0; i < count; ++i) {
                    const auto& t = mesh_.tet[begin + i];
                    int at = 0;
                    for (int n = 0; n < 10; ++n) {
                        const Row& rn = row_[rowOf_[t[n]]];
                        for (int m = n; m < 10; ++m, ++at) {
                            const Row& rm = row_[rowOf_[t[m]]];
                            if (!rn.framed && !rm.framed && rn.group < 0 && rm.group < 0) {
                                const auto a = rowOf_[t[n]], b = rowOf_[t[m]];
                                if (a >= low && a < high) add(a, b, matrices[i][at]);
                                if (m != n && b >= low && b < high) add(b, a, matrices[i][at].transpose());
                                continue;
                            }
                            std::int32_t a[2], b[2];
                            const int na = rowsOf(t[n], a), nb = rowsOf(t[m], b);
                            for (int p = 0; p < na; ++p)
                                for (int q = 0; q < nb; ++q) {
                                    const Mat3 block =
                                        transform(t[n], a[p]).transpose() * matrices[i][at] * transform(t[m], b[q]);
                                    if (a[p] >= low && a[p] < high) add(a[p], b[q], block);
                                    if (m != n && b[q] >= low && b[q] < high) add(b[q], a[p], block.transpose());
                                }
                        }
                    }
                }
            },
            1);
    }
    auto addNodal = [&](std::int32_t n, std::int32_t m, const Mat3& block) {
        std::int32_t a[2], b[2];
        const int na = rowsOf(n, a), nb = rowsOf(m, b);
        for (int p = 0; p < na; ++p)
            for (int q = 0; q < nb; ++q) add(a[p], b[q], transform(n, a[p]).transpose() * block * transform(m, b[q]));
    };
    for (const ElasticBed& bed : supports.beds)
        for (auto face : bed.faces)
            forFacePoints(mesh_, face, [&](const FacePoint& q, const mesh::Triangle6& f) {
                const Mat3 k = q.weight * (bed.tangential * Mat3::Identity() +
                                           (bed.normal - bed.tangential) * q.normal * q.normal.transpose());
                for (int n = 0; n < 6; ++n)
                    for (int m = 0; m < 6; ++m) addNodal(f[n], f[m], q.n[n] * q.n[m] * k);
            });
    // Where nothing else holds the part a held mean motion leaves the stiffness singular. A soft bed on the face, as
    // stiff as the body behind it, makes it regular; whoever solves takes the bed out again (B^T B would do it without,
    // but is a dense block of the whole face).
    Box3 extent;
    for (const Vec3& p : mesh_.position) extent.include(p);
    const double softness = c(3, 3) / std::max(0.5 * extent.diagonal(), 1e-9);
    for (const MeanHold& hold : supports.meanHolds)
        for (auto face : hold.faces) {
            double share[6][6] = {};
            mesh::Triangle6 nodes{};
            forFacePoints(mesh_, face, [&](const FacePoint& q, const mesh::Triangle6& f) {
                nodes = f;
                for (int n = 0; n < 6; ++n)
                    for (int m = 0; m < 6; ++m) share[n][m] += softness * q.weight * q.n[n] * q.n[m];
            });
            for (int n = 0; n < 6; ++n)
                for (int m = 0; m < 6; ++m) {
                    const std::int32_t a = rowOf_[nodes[n]], b = rowOf_[nodes[m]];
                    BedEntry e{a, b, share[n][m] * transform(nodes[n], a).transpose() * transform(nodes[m], b)};
                    for (int k = 0; k < 3; ++k) {
                        if (!(row_[a].freeMask >> k & 1)) e.block.row(k).setZero();
                        if (!(row_[b].freeMask >> k & 1)) e.block.col(k).setZero();
                    }
                    add(a, b, e.block);
                    bed_.push_back(e);
                }
        }
    // held unknowns: uncoupled
    parallelFor(rows, [&](std::size_t r) {
        for (auto at = matrix_.pattern.offset[r]; at < matrix_.pattern.offset[r + 1]; ++at) {
            const auto col = static_cast<std::size_t>(matrix_.pattern.column[at]);
            if (row_[r].freeMask == 7 && row_[col].freeMask == 7) continue;
            Mat3 block = matrix_.block(at);
            const double diagonal = std::max(block.trace() / 3, 1e-30);
            for (int a = 0; a < 3; ++a)
                for (int b = 0; b < 3; ++b)
                    if (!(row_[r].freeMask >> a & 1) || !(row_[col].freeMask >> b & 1))
                        block(a, b) = r == col && a == b ? diagonal : 0;
            matrix_.setBlock(at, block);
        }
    });
}

void System::prolongation(std::size_t r, std::vector<GridWeight>& scalar,
                          std::vector<std::pair<std::int32_t, Mat3>>& blocks, bool& usesBlocks) const {
    const Row& row = row_[r];
    usesBlocks = row.group >= 0 || row.framed || row.freeMask != 7;
    blocks.clear();
    if (row.group < 0) {
        grid_->interpolate(leaf_[r], row.position, scalar);
        if (!usesBlocks) return;
        Mat3 m = row.frame.transpose();
        for (int k = 0; k < 3; ++k)
            if (!(row.freeMask >> k & 1)) m.row(k).setZero();
        for (const GridWeight& g : scalar) blocks.emplace_back(g.node, g.weight * m);
        return;
    }
    const Group& g = group_[row.group];
    std::map<std::int32_t, Mat3> sum;
    for (auto n : g.spread) {
        grid_->interpolate(grid_->leafAt(mesh_.position[n]), mesh_.position[n], scalar);
        const Vec3 arm = mesh_.position[n] - g.spreadMiddle;
        const Mat3 turn = g.spreadInertia * crossMatrix(arm);
        // the motion at the group's middle: the mean, and the turn over the way between the two middles
        const Mat3 part = row.rotation ? Mat3(g.length * turn)
                                       : Mat3(Mat3::Identity() / static_cast<double>(g.spread.size()) -
                                              crossMatrix(g.middle - g.spreadMiddle) * turn);
        for (const GridWeight& w : scalar) {
            const auto found = sum.try_emplace(w.node, Mat3::Zero()).first;
            found->second += w.weight * part;
        }
    }
    for (auto& [node, m] : sum) {
        for (int k = 0; k < 3; ++k)
            if (!(row.freeMask >> k & 1)) m.row(k).setZero();
        blocks.emplace_back(node, m);
    }
}

std::vector<Vec3> System::displacement(const std::vector<Vec3>& q) const {
    std::vector<Vec3> u(mesh_.position.size());
    parallelFor(u.size(), [&](std::size_t n) {
        const auto r = rowOf_[n];
        const auto node = static_cast<std::int32_t>(n);
        u[n] = transform(node, r) * q[r];
        if (row_[r].group >= 0) u[n] += transform(node, r + 1) * q[r + 1];
    });
    return u;
}

std::vector<Vec3> System::givenPart(const LoadVector& load) const {
    std::vector<Vec3> q(rows(), Vec3::Zero());
    auto given = [&](std::int32_t c) { return constraintValue_[c] + (load.given.empty() ? 0.0 : load.given[c]); };
    for (const Held& h : held_)
        for (const auto& [c, factor] : h.of) q[h.row][h.component] += factor * given(c);
    for (const auto& repeated : repeated_) {
        double sum = 0, size = 0;
        for (const auto& [c, factor] : repeated) {
            sum += factor * given(c);
            size = std::max(size, std::abs(factor * given(c)));
        }
        if (std::abs(sum) > 1e-6 * size)
            throw InputError(ErrorDetail{"Two supports want different displacements of one place of the part.",
                                         {},
                                         "supports that meet at an edge",
                                         "the same displacement from both: move one of them, or give them the same",
                                         "a difference of " + formatNumber(std::abs(sum), 3) + " mm"});
    }
    return q;
}

std::vector<Vec3> System::restricted(const std::vector<Vec3>& nodal) const {
    std::vector<Vec3> f(rows(), Vec3::Zero());
    for (std::size_t n = 0; n < nodal.size(); ++n) {
        const auto r = rowOf_[n];
        const auto node = static_cast<std::int32_t>(n);
        f[r] += transform(node, r).transpose() * nodal[n];
        if (row_[r].group >= 0) f[r + 1] += transform(node, r + 1).transpose() * nodal[n];
    }
    for (std::size_t r = 0; r < f.size(); ++r)
        for (int k = 0; k < 3; ++k)
            if (!(row_[r].freeMask >> k & 1)) f[r][k] = 0;
    return f;
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
            forFacePoints(mesh_, face, [&](const FacePoint& q, const mesh::Triangle6& f) {
                Vec3 at = Vec3::Zero();
                for (int k = 0; k < 6; ++k) at += q.n[k] * u[f[k]];
                const Vec3 t =
                    q.weight * (bed.tangential * at + (bed.normal - bed.tangential) * q.normal.dot(at) * q.normal);
                for (int k = 0; k < 6; ++k) nodal[f[k]] += q.n[k] * t;
            });
}

}  // namespace escultura::elastic

#include "elastic/numbering.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <numeric>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"

namespace escultura::elastic {
namespace {

Mat3 crossMatrix(const Vec3& r) {
    Mat3 m;
    m << 0, -r[2], r[1], r[2], 0, -r[0], -r[1], r[0], 0;
    return m;
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

Numbering::Numbering(const mesh::TetMesh& mesh, const Supports& supports, double gridFactor)
    : mesh_(mesh), supported_(mesh.position.size(), 0) {
    for (const Constraint& c : supports.constraints) constraintValue_.push_back(c.value);
    markSupported(supports);
    std::vector<std::int32_t> groupOf(mesh.position.size(), -1);
    gatherGroups(supports, groupOf);
    placeRows(groupOf, gridFactor);
    std::map<std::int32_t, std::vector<std::int32_t>> at;  // node -> constraints
    for (std::size_t c = 0; c < supports.constraints.size(); ++c)
        at[supports.constraints[c].node].push_back(static_cast<std::int32_t>(c));
    for (const auto& [node, list] : at) hold(node, list, supports.constraints);
}

void Numbering::markSupported(const Supports& supports) {
    auto markFaces = [&](const std::vector<std::int32_t>& faces) {
        for (auto f : faces)
            for (auto n : mesh_.boundary[f]) supported_[n] = 1;
    };
    for (const Constraint& c : supports.constraints) supported_[c.node] = 1;
    for (const ElasticBed& b : supports.beds) markFaces(b.faces);
    for (const MeanHold& h : supports.meanHolds) markFaces(h.faces);
    for (const RigidGroup& g : supports.rigidGroups)
        if (std::any_of(g.held.begin(), g.held.end(), [](bool h) { return h; }))
            for (auto n : g.nodes) supported_[n] = 1;
}

void Numbering::spreadOver(Group& g) const {
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

void Numbering::gatherGroups(const Supports& supports, std::vector<std::int32_t>& groupOf) {
    for (std::size_t g = 0; g < supports.rigidGroups.size(); ++g) {
        const RigidGroup& from = supports.rigidGroups[g];
        Group to{Vec3::Zero(), 0, from.nodes, from.held, {}, Vec3::Zero(), Mat3::Zero()};
        for (auto n : from.nodes) {
            if (groupOf[n] >= 0) throw InputError("Two rigid connections share a place of the part: keep one.");
            groupOf[n] = static_cast<std::int32_t>(g);
            to.middle += mesh_.position[n] / static_cast<double>(from.nodes.size());
        }
        for (auto n : from.nodes) to.length = std::max(to.length, (mesh_.position[n] - to.middle).norm());
        if (!(to.length > 0)) throw InputError("A rigid connection needs a face of some extent.");
        spreadOver(to);
        group_.push_back(std::move(to));
    }
}

std::vector<std::int32_t> Numbering::orderByLeaf(double gridFactor, std::vector<std::int32_t>& leaf) {
    const std::size_t nodes = mesh_.position.size();
    std::vector<std::int32_t> order(nodes);
    leaf.assign(nodes, 0);
    std::iota(order.begin(), order.end(), 0);
    if (gridFactor > 0) {
        double finest = 1;
        const auto level = gridLevels(mesh_, gridFactor, finest);
        grid_.emplace(mesh_.position, level, finest);
        parallelFor(nodes, [&](std::size_t n) { leaf[n] = grid_->leafAt(mesh_.position[n]); });
        std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return leaf[a] < leaf[b]; });
    }
    return order;
}

void Numbering::placeRows(const std::vector<std::int32_t>& groupOf, double gridFactor) {
    std::vector<std::int32_t> leaf;
    const auto order = orderByLeaf(gridFactor, leaf);
    rowOf_.assign(mesh_.position.size(), -1);
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
}

void Numbering::holdAlongAxes(std::int32_t node, const std::vector<std::int32_t>& list,
                              const std::vector<Constraint>& constraints) {
    Row& r = row_[rowOf_[node]];
    for (auto c : list) {
        const Vec3& d = constraints[c].direction;
        int k = 0;
        d.cwiseAbs().maxCoeff(&k);
        if (!r.isFree(k)) {  // said twice: must be the same
            for (auto h = held_.rbegin(); h != held_.rend() && h->row == rowOf_[node]; ++h)
                if (h->component == k)
                    repeated_.push_back({{c, d[k] > 0 ? 1.0 : -1.0}, {h->of[0].first, -h->of[0].second}});
            continue;
        }
        r.freeMask &= static_cast<std::int8_t>(~(1 << k));
        held_.push_back({rowOf_[node], static_cast<std::int8_t>(k), {{c, d[k] > 0 ? 1.0 : -1.0}}});
    }
}

void Numbering::hold(std::int32_t node, const std::vector<std::int32_t>& list,
                     const std::vector<Constraint>& constraints) {
    Row& r = row_[rowOf_[node]];
    if (r.group >= 0) throw InputError("A face is connected rigidly and held by another support at once: choose one.");
    if (std::all_of(list.begin(), list.end(),
                    [&](auto c) { return constraints[c].direction.cwiseAbs().maxCoeff() > 1 - 1e-12; })) {
        holdAlongAxes(node, list, constraints);
        return;
    }
    std::vector<Vec3> kept;
    for (auto c : list) {
        const Vec3& d = constraints[c].direction;
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
    r.framed = true;
    if (kept.size() == 1) {
        const auto others = perpendicular(kept[0]);
        kept.insert(kept.end(), others.begin(), others.end());
    }
    if (kept.size() == 2) kept.push_back(kept[0].cross(kept[1]));
    for (int k = 0; k < 3; ++k) r.frame.col(k) = kept[k];
}

Mat3 Numbering::transform(std::int32_t node, std::int32_t row) const {
    const Row& r = row_[row];
    if (r.rotation) {
        const Group& g = group_[r.group];
        return -crossMatrix(mesh_.position[node] - g.middle) / g.length;
    }
    return r.frame;
}

std::size_t Numbering::unknowns() const {
    std::size_t count = 0;
    for (const Row& r : row_)
        for (int k = 0; k < 3; ++k) count += r.isFree(k);
    return count;
}

int Numbering::rowsOf(std::int32_t node, std::int32_t* two) const {
    two[0] = rowOf_[node];
    if (row_[two[0]].group < 0) return 1;
    two[1] = two[0] + 1;
    return 2;
}

void Numbering::prolongation(std::size_t r, std::vector<GridWeight>& scalar,
                             std::vector<std::pair<std::int32_t, Mat3>>& blocks, bool& usesBlocks) const {
    const Row& row = row_[r];
    usesBlocks = row.group >= 0 || row.framed || row.freeMask != 7;
    blocks.clear();
    if (row.group < 0) {
        grid_->interpolate(leaf_[r], row.position, scalar);
        if (!usesBlocks) return;
        Mat3 m = row.frame.transpose();
        for (int k = 0; k < 3; ++k)
            if (!row.isFree(k)) m.row(k).setZero();
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
            if (!row.isFree(k)) m.row(k).setZero();
        blocks.emplace_back(node, m);
    }
}

std::vector<Vec3> Numbering::displacement(const std::vector<Vec3>& q) const {
    std::vector<Vec3> u(mesh_.position.size());
    parallelFor(u.size(), [&](std::size_t n) {
        const auto r = rowOf_[n];
        const auto node = static_cast<std::int32_t>(n);
        u[n] = transform(node, r) * q[r];
        if (row_[r].group >= 0) u[n] += transform(node, r + 1) * q[r + 1];
    });
    return u;
}

std::vector<Vec3> Numbering::givenPart(const LoadVector& load) const {
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

std::vector<Vec3> Numbering::restricted(const std::vector<Vec3>& nodal) const {
    std::vector<Vec3> f(rows(), Vec3::Zero());
    for (std::size_t n = 0; n < nodal.size(); ++n) {
        const auto r = rowOf_[n];
        const auto node = static_cast<std::int32_t>(n);
        f[r] += transform(node, r).transpose() * nodal[n];
        if (row_[r].group >= 0) f[r + 1] += transform(node, r + 1).transpose() * nodal[n];
    }
    for (std::size_t r = 0; r < f.size(); ++r)
        for (int k = 0; k < 3; ++k)
            if (!row_[r].isFree(k)) f[r][k] = 0;
    return f;
}

}  // namespace escultura::elastic

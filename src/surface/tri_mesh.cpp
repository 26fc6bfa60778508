#include "surface/tri_mesh.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

#include "base/disjoint_sets.hpp"

namespace escultura::surface {

Measures measure(const TriMesh& mesh) {
    Measures m;
    Vec3 moment = Vec3::Zero();
    Mat3 second = Mat3::Zero();  // integral of x x^T
    struct Edge {
        std::int32_t low, high;
        std::int8_t direction;
    };
    std::vector<Edge> edges;
    edges.reserve(mesh.triangle.size() * 3);
    DisjointSets pieces(mesh.position.size());
    auto find = [&](std::int32_t vertex) { return pieces.find(vertex); };
    // about a point of the mesh: far from the origin the products would cancel each other's digits
    const Vec3 origin = mesh.position.empty() ? Vec3(Vec3::Zero()) : mesh.position[0];
    for (const Triangle& t : mesh.triangle) {
        const Vec3 a = mesh.position[t[0]] - origin, b = mesh.position[t[1]] - origin, c = mesh.position[t[2]] - origin;
        const double v = a.dot(b.cross(c)) / 6;
        m.volume += v;
        moment += v * (a + b + c) / 4;
        const Vec3 sum = a + b + c;
        second += v / 20 * (sum * sum.transpose() + a * a.transpose() + b * b.transpose() + c * c.transpose());
        m.area += 0.5 * (b - a).cross(c - a).norm();
        for (int k = 0; k < 3; ++k) {
            const auto p = t[k], q = t[(k + 1) % 3];
            edges.push_back({std::min(p, q), std::max(p, q), static_cast<std::int8_t>(p < q ? 1 : -1)});
            pieces.join(p, q);
        }
    }
    if (m.volume != 0) m.centroid = moment / m.volume;
    second -= m.volume * m.centroid * m.centroid.transpose();
    m.inertia = second.trace() * Mat3::Identity() - second;
    if (m.volume != 0) m.centroid += origin;
    std::sort(edges.begin(), edges.end(),
              [](const Edge& a, const Edge& b) { return a.low != b.low ? a.low < b.low : a.high < b.high; });
    long edgeCount = 0;
    m.watertight = !edges.empty();
    for (std::size_t i = 0; i < edges.size();) {
        std::size_t j = i;
        int balance = 0;
        for (; j < edges.size() && edges[j].low == edges[i].low && edges[j].high == edges[i].high; ++j)
            balance += edges[j].direction;
        if (j - i != 2 || balance != 0) m.watertight = false;
        ++edgeCount;
        i = j;
    }
    std::vector<char> used(mesh.position.size(), 0);
    for (const Triangle& t : mesh.triangle)
        for (auto v : t) used[v] = 1;
    std::map<std::int32_t, double> enclosed;  // by the parts of the surface, mm3
    for (const Triangle& t : mesh.triangle)
        enclosed[find(t[0])] +=
            (mesh.position[t[0]] - origin).dot((mesh.position[t[1]] - origin).cross(mesh.position[t[2]] - origin)) / 6;
    for (const auto& [part, volume] : enclosed) ++(volume < 0 ? m.cavities : m.pieces);
    const long vertices = std::count(used.begin(), used.end(), 1);
    const long euler = vertices - edgeCount + static_cast<long>(mesh.triangle.size());
    m.genus = static_cast<int>((2L * (m.pieces + m.cavities) - euler) / 2);
    return m;
}

std::vector<Vec3> cornerNormals(const TriMesh& mesh) {
    std::vector<std::int32_t> offset(mesh.position.size() + 1, 0), around(3 * mesh.triangle.size());
    std::vector<Vec3> face(mesh.triangle.size());
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        const Triangle& v = mesh.triangle[t];
        face[t] = (mesh.position[v[1]] - mesh.position[v[0]]).cross(mesh.position[v[2]] - mesh.position[v[0]]);
        for (auto w : v) ++offset[w + 1];
    }
    std::partial_sum(offset.begin(), offset.end(), offset.begin());
    std::vector<std::int32_t> next(offset.begin(), offset.end() - 1);
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t)
        for (auto w : mesh.triangle[t]) around[next[w]++] = static_cast<std::int32_t>(t);
    std::vector<Vec3> normal(mesh.triangle.size() * 3);
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        const Vec3 own = face[t].normalized();
        for (int k = 0; k < 3; ++k) {
            Vec3 sum = Vec3::Zero();
            for (auto at = offset[mesh.triangle[t][k]]; at < offset[mesh.triangle[t][k] + 1]; ++at) {
                const auto s = around[at];
                const bool sameOwner = mesh.owner.empty() || mesh.owner[s] == mesh.owner[t];
                if (sameOwner || face[s].normalized().dot(own) > 0.87) sum += face[s];
            }
            normal[3 * t + k] = sum.norm() > 0 ? Vec3(sum.normalized()) : own;
        }
    }
    return normal;
}

Vec3 closestOnTriangle(const Vec3& p, const Vec3& a, const Vec3& b, const Vec3& c) {
    const Vec3 ab = b - a, ac = c - a, ap = p - a;
    const double d1 = ab.dot(ap), d2 = ac.dot(ap);
    if (d1 <= 0 && d2 <= 0) return a;
    const Vec3 bp = p - b;
    const double d3 = ab.dot(bp), d4 = ac.dot(bp);
    if (d3 >= 0 && d4 <= d3) return b;
    const double vc = d1 * d4 - d3 * d2;
    if (vc <= 0 && d1 >= 0 && d3 <= 0) return a + d1 / (d1 - d3) * ab;
    const Vec3 cp = p - c;
    const double d5 = ab.dot(cp), d6 = ac.dot(cp);
    if (d6 >= 0 && d5 <= d6) return c;
    const double vb = d5 * d2 - d1 * d6;
    if (vb <= 0 && d2 >= 0 && d6 <= 0) return a + d2 / (d2 - d6) * ac;
    const double va = d3 * d6 - d5 * d4;
    if (va <= 0 && d4 - d3 >= 0 && d5 - d6 >= 0) return b + (d4 - d3) / ((d4 - d3) + (d5 - d6)) * (c - b);
    const double denominator = 1 / (va + vb + vc);
    return a + ab * (vb * denominator) + ac * (vc * denominator);
}

TriangleTree::TriangleTree(const TriMesh& mesh)
    : mesh_(mesh), order_(mesh.triangle.size()), centre_(mesh.triangle.size()) {
    std::iota(order_.begin(), order_.end(), 0);
    for (std::size_t t = 0; t < centre_.size(); ++t) {
        const Triangle& v = mesh.triangle[t];
        centre_[t] = (mesh.position[v[0]] + mesh.position[v[1]] + mesh.position[v[2]]) / 3;
    }
    if (order_.empty()) return;
    nodes_.reserve(2 * order_.size());
    nodes_.push_back({});
    build(0, 0, static_cast<std::int32_t>(order_.size()));
}

void TriangleTree::build(std::int32_t node, std::int32_t begin, std::int32_t end) {
    Box3 box, centres;
    for (auto i = begin; i < end; ++i) {
        for (auto v : mesh_.triangle[order_[i]]) box.include(mesh_.position[v]);
        centres.include(centre_[order_[i]]);
    }
    nodes_[node] = {box, begin, end - begin};
    if (end - begin <= 6) return;
    int axis = 0;
    centres.size().maxCoeff(&axis);
    const auto middle = begin + (end - begin) / 2;
    std::nth_element(order_.begin() + begin, order_.begin() + middle, order_.begin() + end, [&](auto a, auto b) {
        return centre_[a][axis] != centre_[b][axis] ? centre_[a][axis] < centre_[b][axis] : a < b;
    });
    const auto child = static_cast<std::int32_t>(nodes_.size());
    nodes_[node].first = child;
    nodes_[node].count = 0;
    nodes_.push_back({});
    nodes_.push_back({});
    build(child, begin, middle);
    build(child + 1, middle, end);
}

double TriangleTree::distance(const Vec3& p, double limit) const {
    return closest(p, limit).distance;
}

TriangleTree::Closest TriangleTree::closest(const Vec3& p, double limit, int mostVisits) const {
    Closest found;
    found.distance = limit;
    if (nodes_.empty()) return found;
    double best = limit < 1e150 ? limit * limit : limit;
    auto boxDistance = [&](const Box3& b) { return (b.low - p).cwiseMax(p - b.high).cwiseMax(0.0).squaredNorm(); };
    struct Entry {
        std::int32_t node;
        double distance;
    };
    std::array<Entry, 128> stack;
    int top = 0;
    stack[top++] = {0, boxDistance(nodes_[0].box)};
    while (top > 0 && mostVisits-- > 0) {
        const Entry entry = stack[--top];
        if (entry.distance >= best) continue;
        const Node& n = nodes_[entry.node];
        if (n.count > 0) {
            for (auto i = n.first; i < n.first + n.count; ++i) {
                const Triangle& t = mesh_.triangle[order_[i]];
                const Vec3 q = closestOnTriangle(p, mesh_.position[t[0]], mesh_.position[t[1]], mesh_.position[t[2]]);
                const double d = (q - p).squaredNorm();
                if (d < best) {
                    best = d;
                    found.point = q;
                    found.triangle = order_[i];
                }
            }
            continue;
        }
        const Entry a{n.first, boxDistance(nodes_[n.first].box)}, b{n.first + 1, boxDistance(nodes_[n.first + 1].box)};
        stack[top++] = a.distance < b.distance ? b : a;
        stack[top++] = a.distance < b.distance ? a : b;
    }
    found.distance = std::sqrt(best);
    return found;
}

std::optional<TriangleTree::Closest> TriangleTree::firstHit(const Vec3& origin, const Vec3& direction,
                                                            double from) const {
    if (nodes_.empty()) return std::nullopt;
    double best = 1e300;
    Closest found;
    const Vec3 inverse = direction.cwiseInverse();
    auto entry = [&](const Box3& b) {  // slab test
        double low = from, high = best;
        for (int a = 0; a < 3; ++a) {
            if (direction[a] == 0) {
                if (origin[a] < b.low[a] || origin[a] > b.high[a]) return 1e300;
                continue;
            }
            double x = (b.low[a] - origin[a]) * inverse[a], y = (b.high[a] - origin[a]) * inverse[a];
            if (x > y) std::swap(x, y);
            low = std::max(low, x);
            high = std::min(high, y);
        }
        return low <= high * (1 + 1e-12) ? low : 1e300;
    };
    std::array<std::int32_t, 128> stack;
    int top = 0;
    stack[top++] = 0;
    while (top > 0) {
        const Node& n = nodes_[stack[--top]];
        if (entry(n.box) >= best) continue;
        if (n.count == 0) {
            const bool firstNearer = entry(nodes_[n.first].box) < entry(nodes_[n.first + 1].box);
            stack[top++] = firstNearer ? n.first + 1 : n.first;
            stack[top++] = firstNearer ? n.first : n.first + 1;
            continue;
        }
        for (auto i = n.first; i < n.first + n.count; ++i) {  // Moeller and Trumbore 1997
            const Triangle& t = mesh_.triangle[order_[i]];
            const Vec3 &a = mesh_.position[t[0]], e1 = mesh_.position[t[1]] - a, e2 = mesh_.position[t[2]] - a;
            const Vec3 h = direction.cross(e2);
            const double det = e1.dot(h);
            if (det == 0) continue;
            const Vec3 s = (origin - a) / det;
            const double u = s.dot(h);
            if (u < -1e-12 || u > 1 + 1e-12) continue;
            const Vec3 q = s.cross(e1);
            const double v = direction.dot(q);
            if (v < -1e-12 || u + v > 1 + 1e-12) continue;
            const double at = e2.dot(q);
            if (at > from && at < best) {
                best = at;
                found.triangle = order_[i];
            }
        }
    }
    if (found.triangle < 0) return std::nullopt;
    found.distance = best;
    found.point = origin + best * direction;
    return found;
}

void TriangleTree::forOverlapping(const Box3& box, const std::function<void(std::int32_t)>& visit) const {
    if (nodes_.empty()) return;
    auto meet = [](const Box3& a, const Box3& b) {
        return (a.low.array() <= b.high.array()).all() && (b.low.array() <= a.high.array()).all();
    };
    std::vector<std::int32_t> stack{0};
    while (!stack.empty()) {
        const Node& n = nodes_[stack.back()];
        stack.pop_back();
        if (!meet(n.box, box)) continue;
        if (n.count == 0) {
            stack.push_back(n.first + 1);
            stack.push_back(n.first);
            continue;
        }
        for (auto i = n.first; i < n.first + n.count; ++i) {
            Box3 own;
            for (auto v : mesh_.triangle[order_[i]]) own.include(mesh_.position[v]);
            if (meet(own, box)) visit(order_[i]);
        }
    }
}

}  // namespace escultura::surface

#include "surface/recognise.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <map>
#include <random>
#include <set>

namespace escultura::surface {
namespace {

struct Model {
    bool isPlane = true;
    Vec3 point = Vec3::Zero(), axis = Vec3::UnitZ();
    double radius = 0;

    double distance(const Vec3& p) const {
        const Vec3 d = p - point;
        return isPlane ? d.dot(axis) : (d - d.dot(axis) * axis).norm() - radius;
    }
    Vec3 normal(const Vec3& p) const {
        if (isPlane) return axis;
        const Vec3 d = p - point;
        return (d - d.dot(axis) * axis).normalized();
    }
};

class Recogniser {
  public:
    explicit Recogniser(const TriMesh& mesh) : mesh_(mesh) {
        std::map<std::pair<std::int32_t, std::int32_t>, std::int32_t> edge;
        neighbour_.resize(mesh.triangle.size(), {-1, -1, -1});
        for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
            const Triangle& v = mesh.triangle[t];
            const Vec3 across =
                (mesh.position[v[1]] - mesh.position[v[0]]).cross(mesh.position[v[2]] - mesh.position[v[0]]);
            area_.push_back(0.5 * across.norm());
            normal_.push_back(across.normalized());
            for (int k = 0; k < 3; ++k) edge[{v[k], v[(k + 1) % 3]}] = static_cast<std::int32_t>(t);
        }
        for (std::size_t t = 0; t < mesh.triangle.size(); ++t)
            for (int k = 0; k < 3; ++k) {
                const Triangle& v = mesh.triangle[t];
                const auto other = edge.find({v[(k + 1) % 3], v[k]});
                if (other != edge.end()) neighbour_[t][k] = other->second;
            }
    }

    /// Triangles reached from the seed over edges that bend by less than the angle.
    std::vector<std::int32_t> smoothRegion(std::int32_t seed, double cosine) const {
        return grow(seed, [&](std::int32_t from, std::int32_t to) { return normal_[from].dot(normal_[to]) > cosine; });
    }

    /// Triangles within reach of the seed over edges that bend by less than 60 degrees.
    std::vector<std::int32_t> nearRegion(std::int32_t seed, double reach) const {
        const Vec3 from = middle(seed);
        return grow(seed, [&](std::int32_t a, std::int32_t b) {
            return (middle(b) - from).norm() < reach && normal_[a].dot(normal_[b]) > 0.5;
        });
    }

    /// @param cosine  least of the angle between a triangle's normal and the model's
    std::vector<std::int32_t> inliers(std::int32_t seed, const Model& m, double tolerance, double cosine = 0.94) const {
        auto fits = [&](std::int32_t t) {
            for (auto v : mesh_.triangle[t])
                if (std::abs(m.distance(mesh_.position[v])) > tolerance) return false;
            const Triangle& v = mesh_.triangle[t];
            const Vec3 middle = (mesh_.position[v[0]] + mesh_.position[v[1]] + mesh_.position[v[2]]) / 3;
            return std::abs(normal_[t].dot(m.normal(middle))) > cosine;
        };
        if (!fits(seed)) return {};
        return grow(seed, [&](std::int32_t, std::int32_t to) { return fits(to); });
    }

    double areaOf(const std::vector<std::int32_t>& triangles) const {
        double sum = 0;
        for (auto t : triangles) sum += area_[t];
        return sum;
    }

    /// Area that a model explains, each triangle the less the farther it lies off and leans away (after MSAC, Torr and
    /// Zisserman 2000): among many that are within the tolerance the nearest wins.
    double scoreOf(const std::vector<std::int32_t>& triangles, const Model& m, double tolerance) const {
        double sum = 0;
        for (auto t : triangles) {
            const Vec3 at = middle(t);
            const double off = m.distance(at) / tolerance, lean = normal_[t].dot(m.normal(at));
            sum += area_[t] * std::max(0.0, 1 - off * off) * lean * lean;
        }
        return sum;
    }

    /// How far the triangles go round a cylinder's axis, degrees, in steps of ten.
    double arcOf(const std::vector<std::int32_t>& triangles, const Model& m) const {
        const auto [u, v] = perpendicular(m.axis);
        std::array<bool, 36> seen{};
        for (auto t : triangles) {
            const Vec3 n = m.normal(middle(t));
            seen[static_cast<std::size_t>((std::atan2(n.dot(v), n.dot(u)) / M_PI + 1) * 18) % 36] = true;
        }
        return 10.0 * static_cast<double>(std::count(seen.begin(), seen.end(), true));
    }

    std::optional<Model> cylinderFrom(std::int32_t s, std::int32_t t) const {
        const Vec3 axis = normal_[s].cross(normal_[t]);
        if (axis.norm() < 0.05) return std::nullopt;
        Model m;
        m.isPlane = false;
        m.axis = axis.normalized();
        // the normals through both middles, seen along the axis, meet on it
        const auto [u, v] = perpendicular(m.axis);
        auto flat = [&, a = u, b = v](const Vec3& p) { return Eigen::Vector2d(p.dot(a), p.dot(b)); };
        const Vec3 ps = middle(s), pt = middle(t);
        Eigen::Matrix2d lines;
        lines.col(0) = flat(normal_[s]);
        lines.col(1) = -flat(normal_[t]);
        const Eigen::Vector2d at = lines.inverse() * (flat(pt) - flat(ps));
        if (!at.allFinite()) return std::nullopt;
        m.point = ps + at[0] * normal_[s];
        const Vec3 d = ps - m.point;
        m.radius = (d - d.dot(m.axis) * m.axis).norm();
        return m;
    }

    std::optional<Model> planeFrom(std::int32_t r, std::int32_t s, std::int32_t t) const {
        const Vec3 across = (middle(s) - middle(r)).cross(middle(t) - middle(r));
        if (!(across.norm() > 0)) return std::nullopt;
        Model m;
        m.point = middle(r);
        m.axis = across.normalized();
        return m;
    }

    /// Least squares over the triangles' vertices.
    Model refined(Model m, const std::vector<std::int32_t>& triangles) const {
        std::vector<std::int32_t> vertices;
        for (auto t : triangles)
            for (auto v : mesh_.triangle[t]) vertices.push_back(v);
        std::sort(vertices.begin(), vertices.end());
        vertices.erase(std::unique(vertices.begin(), vertices.end()), vertices.end());
        Vec3 mean = Vec3::Zero();
        for (auto v : vertices) mean += mesh_.position[v] / static_cast<double>(vertices.size());
        if (m.isPlane) {
            Mat3 spread = Mat3::Zero();
            for (auto v : vertices) spread += (mesh_.position[v] - mean) * (mesh_.position[v] - mean).transpose();
            const Eigen::SelfAdjointEigenSolver<Mat3> solver(spread);
            const Vec3 n = solver.eigenvectors().col(0);
            m.axis = n.dot(m.axis) < 0 ? Vec3(-n) : n;
            m.point = mean;
            return m;
        }
        for (int i = 0; i < 20; ++i) {
            m.point += (mean - m.point).dot(m.axis) * m.axis;  // beside the data
            const auto [u, v] = perpendicular(m.axis);
            Eigen::Matrix<double, 5, 5> normal = Eigen::Matrix<double, 5, 5>::Zero();
            Eigen::Matrix<double, 5, 1> right = Eigen::Matrix<double, 5, 1>::Zero();
            for (auto w : vertices) {
                const Vec3 d = mesh_.position[w] - m.point;
                const double along = d.dot(m.axis);
                const Vec3 out = (d - along * m.axis).normalized();
                Eigen::Matrix<double, 5, 1> j;  // shift across, tilt, radius
                j << -out.dot(u), -out.dot(v), -along * out.dot(u), -along * out.dot(v), -1;
                const double r = m.distance(mesh_.position[w]);
                normal += j * j.transpose();
                right -= r * j;
            }
            normal.diagonal().array() += 1e-12 * normal.trace();
            const Eigen::Matrix<double, 5, 1> step = normal.ldlt().solve(right);
            if (!step.allFinite()) break;
            m.point += step[0] * u + step[1] * v;
            m.axis = (m.axis + step[2] * u + step[3] * v).normalized();
            m.radius += step[4];
            if (step.norm() < 1e-12 * std::max(m.radius, 1.0)) break;
        }
        return m;
    }

    FittedFace describe(const Model& m, std::vector<std::int32_t> triangles) const {
        FittedFace f;
        f.axis = m.axis;
        f.radius = m.radius;
        Vec3 middleOfArea = Vec3::Zero();
        Vec3 normal = Vec3::Zero();
        double inward = 0, sum = 0;
        int count = 0;
        for (auto t : triangles) {
            middleOfArea += area_[t] * middle(t);
            normal += area_[t] * normal_[t];
            inward += area_[t] * normal_[t].dot(m.normal(middle(t)));
            for (auto v : mesh_.triangle[t]) {
                const double d = std::abs(m.distance(mesh_.position[v]));
                sum += d * d;
                f.largest = std::max(f.largest, d);
                ++count;
            }
        }
        const double area = areaOf(triangles);
        middleOfArea /= area;
        f.rms = std::sqrt(sum / count);
        f.kind = m.isPlane ? FittedFace::Kind::plane : inward < 0 ? FittedFace::Kind::bore : FittedFace::Kind::pin;
        f.point = m.isPlane ? Vec3(middleOfArea - m.distance(middleOfArea) * m.axis)
                            : Vec3(m.point + (middleOfArea - m.point).dot(m.axis) * m.axis);
        if (m.isPlane && normal.dot(f.axis) < 0) f.axis = -f.axis;
        f.low = 1e300;
        f.high = -1e300;
        for (auto t : triangles)
            for (auto v : mesh_.triangle[t]) {
                const double along = (mesh_.position[v] - f.point).dot(f.axis);
                f.low = std::min(f.low, along);
                f.high = std::max(f.high, along);
            }
        f.reach = m.isPlane ? std::sqrt(area / M_PI) : 0;
        f.triangles = std::move(triangles);
        return f;
    }

    Vec3 middle(std::int32_t t) const {
        const Triangle& v = mesh_.triangle[t];
        return (mesh_.position[v[0]] + mesh_.position[v[1]] + mesh_.position[v[2]]) / 3;
    }
    const Vec3& normal(std::int32_t t) const { return normal_[t]; }

  private:
    template <class Accept>
    std::vector<std::int32_t> grow(std::int32_t seed, const Accept& accept) const {
        std::vector<char> seen(mesh_.triangle.size(), 0);
        std::vector<std::int32_t> region{seed};
        seen[seed] = 1;
        for (std::size_t at = 0; at < region.size(); ++at)
            for (auto next : neighbour_[region[at]])
                if (next >= 0 && !seen[next] && accept(region[at], next)) {
                    seen[next] = 1;
                    region.push_back(next);
                }
        return region;
    }

    const TriMesh& mesh_;
    std::vector<std::array<std::int32_t, 3>> neighbour_;
    std::vector<double> area_;
    std::vector<Vec3> normal_;
};

}  // namespace

std::optional<FittedFace> recogniseFace(const TriMesh& whole, std::int32_t seed, double roughness) {
    if (seed < 0 || seed >= static_cast<std::int32_t>(whole.triangle.size())) return std::nullopt;
    TriMesh near;  // of a rough surface, which may be large, only what is looked at
    std::vector<std::int32_t> origin;
    if (roughness > 0) {
        const std::int32_t picked = seed;
        const Vec3 from = whole.position[whole.triangle[picked][0]];
        near.position = whole.position;
        for (std::size_t t = 0; t < whole.triangle.size(); ++t)
            if ((whole.position[whole.triangle[t][0]] - from).norm() < 70 * roughness) {
                if (static_cast<std::int32_t>(t) == picked) seed = static_cast<std::int32_t>(near.triangle.size());
                near.triangle.push_back(whole.triangle[t]);
                origin.push_back(static_cast<std::int32_t>(t));
            }
    }
    const TriMesh& mesh = roughness > 0 ? near : whole;
    const Recogniser r(mesh);
    const bool rough = roughness > 0;
    const auto region = rough ? r.nearRegion(seed, 60 * roughness) : r.smoothRegion(seed, std::cos(35 * M_PI / 180));
    Box3 box;
    for (auto t : region)
        for (auto v : mesh.triangle[t]) box.include(mesh.position[v]);
    const double tolerance = rough ? roughness : std::max(0.004 * box.diagonal(), 1e-6), cosine = rough ? 0.85 : 0.94;
    Model best;
    best.axis = r.normal(seed);
    best.point = r.middle(seed);
    std::vector<std::int32_t> held = r.inliers(seed, best, tolerance, cosine);
    auto worth = [&](const Model& m, const std::vector<std::int32_t>& in) {
        if (!rough) return r.areaOf(in);
        // a short arc of a rough surface fits many cylinders: those that go farther round tell more
        return r.scoreOf(in, m, tolerance) * (m.isPlane ? 1 : std::min(1.0, r.arcOf(in, m) / 180));
    };
    double bestArea = worth(best, held);
    std::mt19937 random(1);
    auto any = [&] { return region[random() % region.size()]; };
    auto compare = [&](const std::optional<Model>& m, double better) {
        if (!m || m->radius > 20 * box.diagonal()) return;
        auto in = r.inliers(seed, *m, tolerance, cosine);
        const double area = worth(*m, in);
        if (area > better * bestArea) {
            bestArea = area;
            best = *m;
            held = std::move(in);
        }
    };
    for (int trial = 0; rough && trial < 100; ++trial) {
        const auto one = any(), two = any();
        compare(r.planeFrom(seed, one, two), 1);
    }
    for (int trial = 0; trial < (rough ? 600 : 60); ++trial) {
        // one of the pair is the seed itself in every second trial: the face must hold it
        const auto s = trial % 2 ? any() : seed;
        compare(r.cylinderFrom(s, any()), best.isPlane ? 1.2 : rough ? 1.0 : 1.2);
    }
    if (held.empty()) return std::nullopt;
    for (int round = 0; round < (rough ? 4 : 2); ++round) {
        const Model next = r.refined(best, held);
        auto again = r.inliers(seed, next, tolerance, cosine);
        if (again.empty()) break;
        best = next;
        held = std::move(again);
    }
    FittedFace f = r.describe(best, held);
    if (!best.isPlane) {
        // an arc must be long enough to tell its radius
        double widest = 0;
        for (auto t : f.triangles) {
            const double angle = std::clamp(r.normal(t).dot(r.normal(seed)), -1.0, 1.0);
            widest = std::max(widest, std::acos(angle));
        }
        if (rough ? r.arcOf(f.triangles, best) < 100 : widest < 10 * M_PI / 180) return std::nullopt;
    }
    if (rough)
        for (auto& t : f.triangles) t = origin[static_cast<std::size_t>(t)];
    return f;
}

std::vector<std::vector<Vec3>> bordersOf(const TriMesh& mesh, const std::vector<std::int32_t>& triangles,
                                         const Vec3& point, const Vec3& normal) {
    std::set<std::pair<std::int32_t, std::int32_t>> edges;
    for (const std::int32_t t : triangles) {
        const Triangle& v = mesh.triangle[static_cast<std::size_t>(t)];
        for (std::size_t k = 0; k < 3; ++k) {
            const std::pair<std::int32_t, std::int32_t> edge{v[k], v[(k + 1) % 3]};
            if (!edges.erase({edge.second, edge.first})) edges.insert(edge);  // what two share is within
        }
    }
    std::vector<std::vector<Vec3>> loops;
    while (!edges.empty()) {
        std::vector<std::int32_t> ring{edges.begin()->first};
        for (auto at = edges.begin(); at != edges.end();
             at = edges.lower_bound({ring.back(), std::numeric_limits<std::int32_t>::min()})) {
            if (at->first != ring.back()) break;
            const std::int32_t next = at->second;
            edges.erase(at);
            if (next == ring.front()) break;
            ring.push_back(next);
        }
        std::vector<Vec3> corners;
        for (const std::int32_t v : ring) {
            const Vec3& p = mesh.position[static_cast<std::size_t>(v)];
            corners.push_back(p - (p - point).dot(normal) * normal);
        }
        std::vector<Vec3> kept;
        for (std::size_t k = 0; k < corners.size(); ++k) {
            const Vec3 &a = corners[(k + corners.size() - 1) % corners.size()], &b = corners[k],
                       &c = corners[(k + 1) % corners.size()];
            if ((b - a).cross(c - b).norm() > 1e-7 * (b - a).norm() * (c - b).norm()) kept.push_back(b);
        }
        if (kept.size() >= 3) loops.push_back(std::move(kept));
    }
    return loops;
}

std::optional<Circle> circleThrough(const Vec3& a, const Vec3& b, const Vec3& c) {
    const Vec3 ab = b - a, ac = c - a, n = ab.cross(ac);
    if (n.norm() < 1e-9 * ab.norm() * ac.norm() || !(n.norm() > 0)) return std::nullopt;
    const Vec3 d = (ac.squaredNorm() * n.cross(ab) + ab.squaredNorm() * ac.cross(n)) / (2 * n.squaredNorm());
    return Circle{a + d, n.normalized(), d.norm()};
}

}  // namespace escultura::surface

#include "cage/fit.hpp"

#include <algorithm>
#include <cmath>

#include "base/both.hpp"
#include "base/parallel.hpp"
#include "surface/thickness.hpp"

namespace escultura::cage {

Target::Target(surface::TriMesh mesh, std::shared_ptr<const shape::Shape> shape,
               std::function<bool(const Vec3&)> leftOut)
    : mesh_(std::move(mesh)),
      tree_(mesh_),
      shape_(std::move(shape)),
      leftOut_(std::move(leftOut)),
      normal_(surface::vertexNormals(mesh_)),
      measures_(surface::measure(mesh_)) {}

Target::Point Target::nearest(const Vec3& p, bool exact) const {
    const auto near = tree_.closest(p);
    const Triangle& t = mesh_.triangle[near.triangle];
    const Vec3 &a = mesh_.position[t[0]], &b = mesh_.position[t[1]], &c = mesh_.position[t[2]];
    // normals between the corners'
    const Vec3 cross = (b - a).cross(c - a);
    const double whole = cross.squaredNorm();
    Vec3 normal = cross;
    if (whole > 0) {
        const double wa = (b - near.point).cross(c - near.point).dot(cross) / whole,
                     wb = (c - near.point).cross(a - near.point).dot(cross) / whole;
        normal = wa * normal_[t[0]] + wb * normal_[t[1]] + (1 - wa - wb) * normal_[t[2]];
    }
    Point r{near.point, normal.normalized()};
    if (!shape_ || !exact) return r;
    // Newton's steps from the facet onto the body, bounded by the facet's size
    const double size = std::sqrt(std::sqrt(whole));
    auto onto = [&](Vec3 q, int steps, Point& found) {
        Vec3 gradient = r.normal;
        double value = 0;
        for (int i = 0; i < steps; ++i) {
            value = shape_->surfaceValue(0, q);
            gradient = shape_->surfaceGradient(0, q);
            const double slope = gradient.squaredNorm();
            if (!(slope > 1e-12)) return false;
            q -= value / slope * gradient;
        }
        found = {q, gradient.normalized()};
        return true;
    };
    Point body;
    const Point facet = r;
    if (onto(near.point, 2, body) && (body.point - near.point).norm() <= 0.3 * size && body.normal.dot(r.normal) >= 0.7)
        r = body;
    // the triangles may have lost the tip of something thin: the body itself can be nearer
    const double distance = (p - r.point).norm();
    if (distance > 0.15 * size && distance < 2 * size && onto(p, 4, body) &&
        std::abs(shape_->surfaceValue(0, body.point)) < 0.01 * size && body.normal.dot(facet.normal) > 0 &&
        (p - body.point).norm() < distance)
        r = body;
    return r;
}

namespace {

constexpr double mostEmphasis = 300;
constexpr int roughLevels = 3;  // no place is nearer to a vertex than an eighth of an edge, but for the vertices

std::vector<LimitPlace> fitPlaces(std::size_t faces) {
    static const double at[4] = {0.07, 0.33, 0.67, 0.93};
    std::vector<LimitPlace> places;
    places.reserve(16 * faces);
    for (std::size_t f = 0; f < faces; ++f)
        for (double v : at)
            for (double u : at) places.push_back({static_cast<std::int32_t>(f), u, v});
    return places;
}

/// y = S^T M S x + lambda L^T L x, with a 3 x 3 matrix a sample.
class NormalEquations {
  public:
    NormalEquations(const StencilMatrix& s, const StencilMatrix& st, const StencilMatrix& l, const StencilMatrix& lt)
        : s_(s), st_(st), l_(l), lt_(lt) {}
    std::vector<Mat3> weight;
    double lambda = 0;
    std::vector<char> held;
    Points apply(const Points& x) const {
        Points p = product(s_, x);
        parallelFor(weight.size(), [&](std::size_t i) {
            const auto r = static_cast<Eigen::Index>(i);
            p.row(r) = (weight[i] * p.row(r).transpose()).transpose();
        });
        Points y = product(st_, p);
        y += lambda * product(lt_, product(l_, x));
        if (!held.empty())
            for (Eigen::Index v = 0; v < y.rows(); ++v)
                if (held[v]) y.row(v).setZero();
        return y;
    }
    Points diagonal() const {
        Points d = Points::Zero(st_.rows(), 3);
        for (Eigen::Index i = 0; i < s_.rows(); ++i)
            for (StencilMatrix::InnerIterator it(s_, i); it; ++it)
                d.row(it.col()) += it.value() * it.value() * weight[i].diagonal().transpose();
        for (Eigen::Index i = 0; i < l_.rows(); ++i)
            for (StencilMatrix::InnerIterator it(l_, i); it; ++it)
                d.row(it.col()) += Eigen::RowVector3d::Constant(lambda * it.value() * it.value());
        return d;
    }

  private:
    const StencilMatrix &s_, &st_, &l_, &lt_;
};

/// Solves A x = b by conjugate gradients with diagonal scaling, from x.
void conjugateGradients(const NormalEquations& a, const Points& b, Points& x, int most) {
    const Points d = a.diagonal().cwiseMax(1e-12);
    Points r = b - a.apply(x);
    if (!a.held.empty())
        for (Eigen::Index v = 0; v < r.rows(); ++v)
            if (a.held[v]) r.row(v).setZero();
    Points z = r.cwiseQuotient(d), p = z;
    double rz = r.cwiseProduct(z).sum();
    const double stop = 1e-8 * std::max(1e-300, b.cwiseProduct(b.cwiseQuotient(d)).sum());
    for (int i = 0; i < most && rz > stop; ++i) {
        const Points q = a.apply(p);
        const double alpha = rz / p.cwiseProduct(q).sum();
        x += alpha * p;
        r -= alpha * q;
        z = r.cwiseQuotient(d);
        const double next = r.cwiseProduct(z).sum();
        p = z + next / rz * p;
        rz = next;
    }
}

StencilMatrix umbrella(const Cage& cage) {
    const Connectivity c(cage);
    std::vector<Eigen::Triplet<double, std::int32_t>> entries;
    for (std::size_t v = 0; v < cage.position.size(); ++v) {
        const auto id = static_cast<std::int32_t>(v);
        if (c.edgesOfVertex[v].empty()) continue;
        entries.emplace_back(id, id, -1.0);
        const double w = 1.0 / static_cast<double>(c.edgesOfVertex[v].size());
        for (auto e : c.edgesOfVertex[v]) entries.emplace_back(id, c.edge[e].a == id ? c.edge[e].b : c.edge[e].a, w);
    }
    StencilMatrix l(static_cast<Eigen::Index>(cage.position.size()), static_cast<Eigen::Index>(cage.position.size()));
    l.setFromTriplets(entries.begin(), entries.end());
    return l;
}

}  // namespace

namespace {

/// Where the target is far from the limit surface (a stub that the wrap cut short), the nearest sample is drawn to it.
void pullBack(const Target& target, const surface::TriMesh& limit, const std::vector<std::int32_t>& faceOf, double far,
              const Points& samples, NormalEquations& equations, Points& goal) {
    const surface::TriangleTree tree(limit);
    const auto& mesh = target.mesh();
    const std::size_t stride = std::max<std::size_t>(1, mesh.position.size() / 12000);
    const std::size_t count = mesh.position.size() / stride;
    struct Pull {
        double distance = 0;
        Vec3 direction, to;
    };
    std::vector<Pull> of(count);
    std::vector<std::int32_t> sample(count, -1);
    parallelFor(count, [&](std::size_t i) {
        const Vec3& v = mesh.position[i * stride];
        const auto near = tree.closest(v);
        if (near.triangle < 0 || near.distance <= far) return;
        const auto face = faceOf[near.triangle];
        double best = 1e300;
        for (int k = 0; k < 16; ++k) {
            const Eigen::Index r = 16 * static_cast<Eigen::Index>(face) + k;
            const double d = (Vec3(samples.row(r).transpose()) - near.point).squaredNorm();
            if (d < best) {
                best = d;
                sample[i] = static_cast<std::int32_t>(r);
            }
        }
        of[i] = {near.distance, (v - near.point) / near.distance, v};
    });
    std::vector<std::int32_t> farthest(static_cast<std::size_t>(samples.rows()), -1);
    for (std::size_t i = 0; i < count; ++i)
        if (sample[i] >= 0 && (farthest[sample[i]] < 0 || of[farthest[sample[i]]].distance < of[i].distance))
            farthest[sample[i]] = static_cast<std::int32_t>(i);
    for (Eigen::Index r = 0; r < samples.rows(); ++r) {
        if (farthest[r] < 0) continue;
        const Pull& pull = of[farthest[r]];
        const Mat3 w = 0.5 / 16 * (pull.direction * pull.direction.transpose());
        equations.weight[r] += w;
        goal.row(r) += (w * pull.to).transpose();
    }
}

}  // namespace

void fitCage(Cage& cage, const Target& target, const FitOptions& options, Progress& progress) {
    const auto places = fitPlaces(cage.face.size());
    const int lastPull = options.pull > 0 ? options.iterations - 4 : -1;
    LimitStencils s;
    std::unique_ptr<const LimitMesh> coarse;
    parallelBoth([&] { s = limitStencils(cage, places, true, roughLevels); },
                 [&] {
                     if (lastPull >= 1) coarse = std::make_unique<LimitMesh>(cage, 3, false, roughLevels);
                 });
    const StencilMatrix st = s.point.transpose();
    const StencilMatrix l = umbrella(cage);
    const StencilMatrix lap = l * l;  // bi-Laplacian
    const StencilMatrix lapT = lap.transpose();
    NormalEquations equations(s.point, st, lap, lapT);
    equations.weight.resize(places.size());
    equations.held = options.held;
    std::vector<std::vector<std::int32_t>> mirror;
    const double edge = meanEdge(cage);
    for (const auto& plane : options.symmetry) mirror.push_back(mirrorVertices(cage, plane, 0.02 * edge));
    Points x = asRows(cage.position);
    for (int iteration = 0; iteration < options.iterations; ++iteration) {
        const double share = options.iterations > 1 ? static_cast<double>(iteration) / (options.iterations - 1) : 1;
        progress.step("Fitting the cage", share);
        equations.lambda = options.fairness * std::pow(options.lastFairness / options.fairness, share);
        const Points p = product(s.point, x), du = product(s.du, x), dv = product(s.dv, x);
        Points goal(p.rows(), 3);
        std::vector<double> squared(places.size());
        parallelFor(places.size(), [&](std::size_t i) {
            const auto r = static_cast<Eigen::Index>(i);
            const Vec3 at = p.row(r).transpose();
            const Target::Point t = target.nearest(at, iteration + options.exact >= options.iterations);
            const Vec3 n = Vec3(du.row(r)).cross(Vec3(dv.row(r))).normalized();
            const bool agrees = n.dot(t.normal) >= 0.3;
            const double d = (at - t.point).dot(t.normal);
            double w = agrees ? 1.0 / 16 : 0.0;
            if (options.emphasis > 0) w *= 1 + std::min(mostEmphasis, std::pow(d / options.emphasis, 4));
            equations.weight[i] = w * (t.normal * t.normal.transpose() + options.tangential * Mat3::Identity());
            goal.row(r) = (equations.weight[i] * t.point).transpose();
            squared[i] = d * d;
        });
        if (iteration % 2 == 1 && iteration <= lastPull)
            pullBack(target, coarse->at(asPoints(x)), coarse->faceOf(), options.pull * edge, p, equations, goal);
        const double rms = std::sqrt(orderedSum(places.size(), 0.0, [&](std::size_t i) { return squared[i]; }) /
                                     static_cast<double>(places.size()));
        progress.record("deviation", iteration, rms);
        conjugateGradients(equations, product(st, goal), x, 25);
        for (std::size_t m = 0; m < mirror.size(); ++m) {
            const Vec3 n = options.symmetry[m][1], at = options.symmetry[m][0];
            const Points old = x;
            for (Eigen::Index v = 0; v < x.rows(); ++v) {
                const auto w = mirror[m][v];
                if (w < 0) continue;
                const Vec3 q = old.row(w).transpose();
                const Vec3 image = q - 2 * (q - at).dot(n) * n;
                x.row(v) = (0.5 * (Vec3(old.row(v).transpose()) + image)).transpose();
            }
        }
    }
    cage.position = asPoints(x);
}

void moveLimit(Cage& cage, const std::function<double(const Vec3&)>& amount) {
    const Connectivity c(cage);
    // the limit surface's normal at each vertex
    std::vector<LimitPlace> places;
    std::vector<std::int32_t> of;
    for (std::size_t v = 0; v < cage.position.size(); ++v) {
        if (c.facesOfVertex[v].empty()) continue;
        const auto f = c.facesOfVertex[v].front();
        const double u[4] = {0, 1, 1, 0}, w[4] = {0, 0, 1, 1};
        for (int k = 0; k < 4; ++k)
            if (cage.face[f][k] == static_cast<std::int32_t>(v)) {
                places.push_back({f, u[k], w[k]});
                of.push_back(static_cast<std::int32_t>(v));
                break;
            }
    }
    const auto s = limitStencils(cage, places, true);
    const auto rows = asRows(cage.position);
    const Points at = s.point * rows, du = s.du * rows, dv = s.dv * rows;
    // the limit surface moves less than the cage does: moved on by what is missing (Richardson iteration)
    Points wanted = Points::Zero(at.rows(), 3), moved = Points::Zero(rows.rows(), 3);
    for (Eigen::Index r = 0; r < at.rows(); ++r) {
        const Vec3 normal = Vec3(du.row(r).transpose()).cross(Vec3(dv.row(r).transpose())).normalized();
        wanted.row(r) = amount(at.row(r).transpose()) * normal.transpose();
    }
    for (int round = 0; round < 8; ++round) {
        const Points missing = wanted - s.point * moved;
        for (std::size_t i = 0; i < of.size(); ++i) moved.row(of[i]) += missing.row(static_cast<Eigen::Index>(i));
    }
    for (auto v : of) cage.position[v] += moved.row(v).transpose();
}

std::vector<float> signedDistances(const Target& target, const std::vector<Vec3>& points, bool exact) {
    std::vector<float> d(points.size());
    parallelFor(points.size(), [&](std::size_t i) {
        const Target::Point t = target.nearest(points[i], exact);
        const double size = (points[i] - t.point).norm();
        d[i] = static_cast<float>((points[i] - t.point).dot(t.normal) >= 0 ? size : -size);
    });
    return d;
}

CageDeviation deviationOf(const Cage& cage, const Target& target, int divisions, Progress& progress, bool exact) {
    progress.step("Measuring the deviation");
    CageDeviation r;
    r.edge = meanEdge(cage);
    const LimitMesh limit(cage, divisions, false, roughLevels);
    r.surface = limit.at(cage.position);
    r.faceOf = limit.faceOf();
    const std::size_t count = r.surface.position.size();
    r.atVertex = signedDistances(target, r.surface.position, exact);
    std::vector<char> left(count);
    parallelFor(count, [&](std::size_t v) { left[v] = target.isLeftOut(r.surface.position[v]); });
    r.ofFace.assign(cage.face.size(), 0);
    double area = 0, sum = 0, squares = 0, zoneArea = 0, zoneSquares = 0;
    for (std::size_t t = 0; t < r.surface.triangle.size(); ++t) {
        const Triangle& k = r.surface.triangle[t];
        const double a = (r.surface.position[k[1]] - r.surface.position[k[0]])
                             .cross(r.surface.position[k[2]] - r.surface.position[k[0]])
                             .norm() /
                         6;
        for (auto v : k) {
            const double d = r.atVertex[v];
            if (left[v]) {
                zoneArea += a;
                zoneSquares += a * d * d;
                r.zoneLargest = std::max(r.zoneLargest, std::abs(d));
                continue;
            }
            area += a;
            sum += a * d;
            squares += a * d * d;
            if (std::abs(d) > r.largest) {
                r.largest = std::abs(d);
                r.largestAt = r.surface.position[v];
            }
            r.ofFace[r.faceOf[t]] = std::max(r.ofFace[r.faceOf[t]], static_cast<float>(std::abs(d)));
        }
    }
    if (area > 0) {
        r.rms = std::sqrt(squares / area);
        r.mean = sum / area;
    }
    progress.step("Measuring the deviation", 0.5);
    // back: the target's vertices to the triangles, a little better than their chords need
    const surface::TriangleTree tree(r.surface);
    const auto& mesh = target.mesh();
    r.back.resize(mesh.position.size());
    r.backFace.assign(mesh.position.size(), -1);
    std::vector<char> backLeft(mesh.position.size());
    parallelFor(mesh.position.size(), [&](std::size_t v) {
        const auto near = tree.closest(mesh.position[v]);
        r.back[v] = static_cast<float>(near.distance);
        backLeft[v] = target.isLeftOut(mesh.position[v]);
        if (!backLeft[v] && near.triangle >= 0) r.backFace[v] = r.faceOf[near.triangle];
    });
    area = squares = 0;
    for (const Triangle& k : mesh.triangle) {
        const double a =
            (mesh.position[k[1]] - mesh.position[k[0]]).cross(mesh.position[k[2]] - mesh.position[k[0]]).norm() / 6;
        for (auto v : k) {
            const double d = r.back[v];
            if (backLeft[v]) {
                zoneArea += a;
                zoneSquares += a * d * d;
                r.zoneLargest = std::max(r.zoneLargest, d);
                continue;
            }
            area += a;
            squares += a * d * d;
            if (d > r.backLargest) {
                r.backLargest = d;
                r.backLargestAt = mesh.position[v];
            }
        }
    }
    if (area > 0) r.backRms = std::sqrt(squares / area);
    if (zoneArea > 0) r.zoneRms = std::sqrt(zoneSquares / zoneArea);
    return r;
}

}  // namespace escultura::cage

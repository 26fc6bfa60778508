/// @file fuzz_shapes.hpp
/// Random bodies that are hard to mesh, the same for a seed: joined and cut balls, boxes, cylinders, webs and struts
/// down to 0.8 elements, bodies that nearly touch or touch in a point, slivers. And what their surfaces and meshes
/// should be.

#pragma once
#include <memory>
#include <random>
#include <string>

#include "base/disjoint_sets.hpp"
#include "base/parallel.hpp"
#include "field/topology.hpp"
#include "mesh/tet_mesh.hpp"
#include "shape/machined_solid.hpp"
#include "surface/extract.hpp"
#include "surface/sizing.hpp"

namespace escultura::made_up {

struct FuzzShape {
    std::shared_ptr<shape::MachinedSolid> solid;
    double element = 1;  ///< size of the elements, mm
};

/// Random numbers, places and simple bodies of a size.
struct FuzzDice {
    using Body = std::function<double(const Vec3&)>;
    std::mt19937 random;
    double h = 1;  ///< mm

    double uniform(double low, double high) { return low + (high - low) * (random() % 1000000) / 1e6; }
    Vec3 direction() {
        Vec3 d;
        do d = Vec3(uniform(-1, 1), uniform(-1, 1), uniform(-1, 1));
        while (d.norm() > 1 || d.norm() < 0.1);
        return d.normalized();
    }
    Vec3 place(double far) { return h * far * Vec3(uniform(-1, 1), uniform(-1, 1), uniform(-1, 1)); }
    static Body ball(const Vec3& c, double r) {
        return [=](const Vec3& p) { return (p - c).norm() - r; };
    }
    Body box(const Vec3& c, const Vec3& half, double rounding) {
        Mat3 turn;
        turn.col(0) = direction();
        turn.col(1) = perpendicular(turn.col(0))[0];
        turn.col(2) = turn.col(0).cross(turn.col(1));
        return [=](const Vec3& p) {
            const Vec3 q = (turn.transpose() * (p - c)).cwiseAbs() - half + Vec3::Constant(rounding);
            return q.cwiseMax(0.0).norm() + std::min(q.maxCoeff(), 0.0) - rounding;
        };
    }
    static Body strut(const Vec3& a, const Vec3& b, double r) {
        return [=](const Vec3& p) {
            const Vec3 d = b - a;
            const double t = std::clamp((p - a).dot(d) / d.squaredNorm(), 0.0, 1.0);
            return (p - a - t * d).norm() - r;
        };
    }
};

/// @param seed  from 1; the size of the elements is between 0.05 and 50 mm
inline FuzzShape fuzzShape(unsigned seed) {
    FuzzDice dice{std::mt19937(seed)};
    const double h = dice.h = std::pow(10, dice.uniform(-1.3, 1.7));
    auto uniform = [&](double low, double high) { return dice.uniform(low, high); };
    auto direction = [&] { return dice.direction(); };
    auto place = [&](double far) { return dice.place(far); };
    auto box = [&](const Vec3& c, const Vec3& half, double rounding) { return dice.box(c, half, rounding); };
    auto& random = dice.random;
    using Body = FuzzDice::Body;
    std::vector<std::pair<Body, double>> joined;
    const int kind = static_cast<int>(seed % 8);
    if (kind == 0) {  // two balls that nearly touch, touch in a point, or just meet
        const double a = h * uniform(1.5, 3), b = h * uniform(1.5, 3);
        const double gaps[] = {0.0, 1e-6, 0.01, 0.1, 0.3, -0.01, -0.1};
        const double gap = h * gaps[random() % 7];
        const Vec3 d = direction();
        joined = {{dice.ball(-a * d, a), 0}, {dice.ball((b + gap) * d, b), 0}};
    } else {
        joined.push_back({dice.ball(place(1), h * uniform(1.2, 3)), 0});
        const int more = 1 + static_cast<int>(random() % 4);
        for (int i = 0; i < more; ++i) {
            const double blend = h * uniform(0.3, 1.5);
            switch (random() % 5) {
                case 0:
                    joined.push_back({dice.ball(place(3), h * uniform(0.8, 2.5)), blend});
                    break;
                case 1:
                    joined.push_back({box(place(2), h * Vec3(uniform(0.8, 3), uniform(0.8, 3), uniform(0.8, 3)),
                                          h * uniform(0.3, 0.8)),
                                      blend});
                    break;
                case 2: {  // a web
                    const double t = h * uniform(0.4, 0.9);
                    joined.push_back(
                        {box(place(1.5), h * Vec3(uniform(2, 4), uniform(2, 4), 0) + t * Vec3::UnitZ(), 0.9 * t),
                         blend});
                    break;
                }
                default:
                    joined.push_back({dice.strut(place(1), place(4.5), h * uniform(0.4, 1.5)), blend});
            }
        }
    }
    auto body = [joined](const Vec3& p) {
        double v = joined[0].first(p);
        for (std::size_t i = 1; i < joined.size(); ++i)
            v = shape::smoothMinimum(v, joined[i].first(p), joined[i].second);
        return v;
    };
    FuzzShape s{std::make_shared<shape::MachinedSolid>(std::make_shared<shape::FunctionBody>(body),
                                                       Box3{Vec3::Constant(-8 * h), Vec3::Constant(8 * h)}),
                h};
    using P = shape::Primitive;
    if (kind == 1)  // a cap: a sliver where it is thin
        s.solid->addInside({P::Kind::plane, place(1.5), direction(), 0});
    if (kind == 2) {  // a wedge between two planes
        const Vec3 n = direction(), m = (n + h / h * uniform(0.15, 0.8) * direction()).normalized();
        s.solid->addInside({P::Kind::plane, h * uniform(0.3, 1.5) * n, n, 0});
        s.solid->addInside({P::Kind::plane, -h * uniform(0.3, 1.5) * m, -m, 0});
    }
    if (kind >= 3 && kind <= 5)
        for (int i = 0, n = 1 + static_cast<int>(random() % 3); i < n; ++i) {  // bores, through or with a bottom
            const Vec3 at = place(1.5), axis = direction();
            const P bore{P::Kind::cylinder, at, axis, h * uniform(0.45, 2)};
            if (random() % 2)
                s.solid->addCut({bore});
            else
                s.solid->addCut({bore, {P::Kind::plane, at, -axis, 0}});
        }
    return s;
}

struct FuzzOutcome {
    std::string problem;  ///< empty: all is as it should be
    double volumeError = 0, minDihedral = 180, minJacobian = 1;
    std::size_t elements = 0;
};

/// Samples below a value, without what hangs together by faces and holds fewer than some.
inline std::vector<char> withoutSpecks(const std::vector<float>& value, int n, double below, double least) {
    DisjointSets<std::size_t> sets(value.size());
    std::vector<char> inside(value.size());
    for (std::size_t c = 0; c < value.size(); ++c) inside[c] = value[c] < below;
    const std::size_t stride[3] = {1, static_cast<std::size_t>(n), static_cast<std::size_t>(n) * n};
    for (std::size_t c = 0; c < value.size(); ++c)
        for (const std::size_t s : stride)
            if (c / s % n > 0 && inside[c] && inside[c - s]) sets.join(c, c - s);
    std::vector<int> size(value.size(), 0);
    for (std::size_t c = 0; c < value.size(); ++c) size[sets.find(c)] += inside[c];
    for (std::size_t c = 0; c < value.size(); ++c) inside[c] = inside[c] && size[sets.find(c)] >= least;
    return inside;
}

/// Extracts the surface of a shape, meshes it, and compares both with a fine grid of samples.
inline FuzzOutcome tryFuzz(const FuzzShape& s) {
    FuzzOutcome o;
    Progress progress;
    const double h = s.element;
    // what it should be, by samples
    constexpr int n = 128;
    const double fine = 16 * h / n;
    const Box3 all = s.solid->bounds();
    std::vector<float> value(static_cast<std::size_t>(n) * n * n);
    parallelFor(static_cast<std::size_t>(n) * n, [&](std::size_t row) {
        for (int i = 0; i < n; ++i)
            value[row * n + i] =
                static_cast<float>(s.solid
                                       ->evaluate(all.low + fine * Vec3(i + 0.5, static_cast<double>(row % n) + 0.5,
                                                                        static_cast<double>(row / n) + 0.5))
                                       .value);
    });
    double volume = 0;
    for (const float v : value) volume += std::clamp(0.5 - v / fine, 0.0, 1.0);
    volume *= fine * fine * fine;
    if (volume < 8 * h * h * h) return o;  // next to nothing is left
    int least = 1 << 30, most = -(1 << 30), leastPieces = 1 << 30, mostPieces = 0;
    // where a small change changes what hangs together, both are right; and so are specks and none
    for (const auto& [shift, speck] :
         {std::pair(-0.2, 0.5), std::pair(0.0, 0.25), std::pair(0.0, 1.0), std::pair(0.2, 0.5)}) {
        const std::vector<char> inside = withoutSpecks(value, n, shift * h, speck * std::pow(h / fine, 3));
        const field::Topology t = field::topologyOf(inside, {n, n, n});
        least = std::min(least, t.leastHandles);
        most = std::max(most, t.mostHandles);
        leastPieces = std::min(leastPieces, t.pieces);
        mostPieces = std::max(mostPieces, t.pieces);
    }
    auto tell = [&](const std::string& what) { o.problem += (o.problem.empty() ? "" : "; ") + what; };
    const surface::TriMesh skin = surface::extractSurface(
        *s.solid, surface::ExtractOptions{0.55 * h, true, {false, 0.5 * h * h * h}, {}, Vec3::Zero()}, progress);
    const surface::Measures m = surface::measure(skin);
    if (!m.watertight) tell("surface is not closed");
    if (m.genus < least || m.genus > most)
        tell("surface has " + std::to_string(m.genus) + " handles, not " + std::to_string(least) + " to " +
             std::to_string(most));
    if (m.pieces < leastPieces || m.pieces > mostPieces)
        tell("surface has " + std::to_string(m.pieces) + " pieces, not " + std::to_string(leastPieces) + " to " +
             std::to_string(mostPieces));
    if (std::abs(m.volume / volume - 1) > 0.08) tell("surface volume off by " + std::to_string(m.volume / volume - 1));
    const surface::TriangleTree tree(skin);
    const surface::Thickness walls = surface::wallThickness(skin, tree, progress);
    mesh::MeshOptions options;
    options.elementSize = h;
    options.allPieces = true;
    options.smallestPiece = 0.5 * h * h * h;
    surface::Sizing sizing;
    sizing.usual = h;
    sizing.through = 2;
    sizing.aroundCircle = 16;
    options.wallSize = surface::latticeSpacing(skin, walls.value, sizing);
    const mesh::TetMesh mesh = mesh::meshShape(*s.solid, options, progress);
    const mesh::Quality q = mesh::measureQuality(mesh);
    o.elements = mesh.tet.size();
    o.minDihedral = q.minDihedral;
    o.minJacobian = q.minScaledJacobian;
    o.volumeError = q.volume / volume - 1;
    if (!(q.minScaledJacobian > 0)) tell("a Jacobian of " + std::to_string(q.minScaledJacobian));
    if (std::abs(o.volumeError) > 0.005) tell("volume off by " + std::to_string(o.volumeError));
    if (q.minDihedral < 10) tell("an angle of " + std::to_string(q.minDihedral));
    surface::TriMesh boundary;
    boundary.position = mesh.position;
    for (const auto& t : mesh.boundary) boundary.triangle.push_back({t[0], t[1], t[2]});
    boundary.owner.assign(boundary.triangle.size(), 0);
    const surface::Measures b = surface::measure(boundary);
    if (!b.watertight) tell("the mesh's boundary is not closed");
    if (b.genus < least || b.genus > most)
        tell("mesh has " + std::to_string(b.genus) + " handles, not " + std::to_string(least) + " to " +
             std::to_string(most));
    return o;
}

}  // namespace escultura::made_up

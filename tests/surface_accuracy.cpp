#include "surface_accuracy.hpp"

#include <cmath>
#include <functional>

#include "shape/field_body.hpp"
#include "shape/machined_solid.hpp"
#include "surface/extract.hpp"

namespace escultura::verification {

std::vector<SurfaceRow> surfaceAccuracy() {
    using namespace shape;
    struct Case {
        const char* name;
        std::function<double(const Vec3&)> f;
        Box3 box;
        double volume, area, reach;  // reach: of the middles that count, from the box's sides
        bool cut;
    };
    const double k = 2 * M_PI / 20;
    auto gyroid = [k](const Vec3& p) {
        const Vec3 q = k * p;
        // divided by the largest slope, so that it is close to a distance
        return (std::sin(q[0]) * std::cos(q[1]) + std::sin(q[1]) * std::cos(q[2]) + std::sin(q[2]) * std::cos(q[0])) /
               (1.5 * k);
    };
    const Case cases[] = {
        {"sphere",
         [](const Vec3& p) { return p.norm() - 25; },
         {Vec3::Constant(-26), Vec3::Constant(26)},
         4.0 / 3 * M_PI * 15625,
         4 * M_PI * 625,
         0,
         false},
        {"torus",
         [](const Vec3& p) { return std::hypot(std::hypot(p[0], p[1]) - 22, p[2]) - 9; },
         {Vec3(-32, -32, -10), Vec3(32, 32, 10)},
         2 * M_PI * M_PI * 22 * 81,
         4 * M_PI * M_PI * 22 * 9,
         0,
         false},
        {"gyroid", gyroid, {Vec3::Constant(0), Vec3::Constant(40)}, 32000, 0, 0, true},
    };
    std::vector<SurfaceRow> rows;
    Progress progress;
    for (const Case& c : cases) {
        double last = 0;
        for (const double spacing : {3.2, 1.6, 0.8}) {
            auto body = std::make_shared<FunctionBody>(c.f);
            MachinedSolid solid(body, c.box);
            if (c.cut)
                for (int a = 0; a < 3; ++a) {
                    solid.addInside({Primitive::Kind::plane, c.box.low, -Vec3::Unit(a)});
                    solid.addInside({Primitive::Kind::plane, c.box.high, Vec3::Unit(a)});
                }
            const surface::TriMesh mesh = surface::extractSurface(solid, spacing, true, progress);
            const surface::Measures m = surface::measure(mesh);
            SurfaceRow r{
                c.name, spacing, mesh.triangle.size(), m.volume / c.volume - 1, c.area > 0 ? m.area / c.area - 1 : 0,
                0,      0};
            for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
                if (mesh.owner[t] != 0) continue;
                const Triangle& v = mesh.triangle[t];
                const Vec3 middle = (mesh.position[v[0]] + mesh.position[v[1]] + mesh.position[v[2]]) / 3;
                // beside the cut the largest error is that of the edge, not of the surface
                if (c.cut && !c.box.grown(-2 * spacing).contains(middle)) continue;
                r.distance = std::max(r.distance, std::abs(c.f(middle)) / body->gradient(middle).norm());
            }
            r.orderOfDistance = last > 0 ? std::log2(last / r.distance) : 0;
            last = r.distance;
            rows.push_back(r);
        }
    }
    return rows;
}

namespace {

/// A shape by its distance, negative inside, with points of its surface.
struct TiltedShape {
    const char* name;
    std::function<double(const Vec3&)> distance;
    std::vector<Vec3> points;
};

/// In a box of 64 cells of 1 mm; what is sampled stays eight cells away from its sides.
std::vector<TiltedShape> tiltedShapes() {
    const Vec3 middle = Vec3::Constant(32.3), tilt = Vec3(0.37, 0.62, 0.69).normalized();
    const auto [u, v] = perpendicular(tilt);
    std::vector<Vec3> plane, upper, wall, sphere, thick, slim, thin;
    for (int i = 0; i < 90; ++i)
        for (int j = 0; j < 90; ++j) {
            const double a = (i + 0.5) / 90, b = (j + 0.5) / 90, turn = 2 * M_PI * a;
            plane.push_back(middle + 36 * (a - 0.5) * u + 36 * (b - 0.5) * v);
            upper.push_back(plane.back() + tilt);
            wall.push_back(plane.back() + 2 * tilt);
            const double z = 2 * b - 1, r = std::sqrt(1 - z * z);
            sphere.push_back(middle + 20 * Vec3(r * std::cos(turn), r * std::sin(turn), z));
            const Vec3 out = std::cos(turn) * u + std::sin(turn) * v;
            thick.push_back(middle + 30 * (b - 0.5) * tilt + 10 * out);
            slim.push_back(middle + 30 * (b - 0.5) * tilt + 2.5 * out);
            thin.push_back(middle + 30 * (b - 0.5) * tilt + 1.5 * out);
        }
    auto across = [=](const Vec3& p) { return ((p - middle) - (p - middle).dot(tilt) * tilt).norm(); };
    return {{"half space", [=](const Vec3& p) { return (p - middle).dot(tilt); }, plane},
            {"sphere r 20", [=](const Vec3& p) { return (p - middle).norm() - 20; }, sphere},
            {"cylinder r 10", [=](const Vec3& p) { return across(p) - 10; }, thick},
            {"plate of 4", [=](const Vec3& p) { return std::abs((p - middle).dot(tilt)) - 2; }, wall},
            {"plate of 2", [=](const Vec3& p) { return std::abs((p - middle).dot(tilt)) - 1; }, upper},
            {"rod r 2.5", [=](const Vec3& p) { return across(p) - 2.5; }, slim},
            {"rod r 1.5", [=](const Vec3& p) { return across(p) - 1.5; }, thin}};
}

field::DensityField cellsOf(const TiltedShape& shape, bool grey, int size = 64) {
    field::DensityField f;
    f.cells = {size, size, size};
    f.density.resize(static_cast<std::size_t>(size) * size * size);
    for (std::size_t c = 0; c < f.count(); ++c) {
        const double d = shape.distance(f.centre(c));
        f.density[c] = static_cast<float>(grey ? std::clamp(0.5 - d / 1.5, 0.0, 1.0) : d < 0);
    }
    return f;
}

}  // namespace

std::vector<FieldRow> fieldAccuracy(const std::vector<double>& smoothings) {
    std::vector<FieldRow> rows;
    for (const TiltedShape& s : tiltedShapes())
        for (const bool grey : {false, true})
            for (const double smoothing : smoothings) {
                const field::DensityField cells = cellsOf(s, grey);
                shape::FieldSmoothing options;
                options.length = smoothing;
                shape::LocalVolume local;
                local.target = shape::keptShares(cells, 0.5);
                local.speaks.assign(cells.count(), 1.0f);
                options.local = std::move(local);
                Progress progress;
                const shape::FieldBody body(
                    std::make_shared<shape::SmoothDensity>(cells, std::vector<char>(), options, progress), 0.5);
                FieldRow r{s.name, grey, smoothing, 0, 0, 0, 0, 0};
                double found = 0;
                for (const Vec3& p : s.points) {
                    Vec3 normal;
                    for (int a = 0; a < 3; ++a)
                        normal[a] =
                            (s.distance(p + 1e-5 * Vec3::Unit(a)) - s.distance(p - 1e-5 * Vec3::Unit(a))) / 2e-5;
                    normal.normalize();
                    // the body's surface along the exact normal, by bisection within a cell and a half
                    double low = -1.5, high = 1.5;
                    if (s.name == std::string("plate of 2") || s.name == std::string("rod r 1.5")) low = -0.95;
                    if (!(body.value(p + low * normal) < 0) || !(body.value(p + high * normal) > 0)) {
                        r.lost += 1.0 / static_cast<double>(s.points.size());
                        continue;
                    }
                    for (int i = 0; i < 30; ++i)
                        (body.value(p + 0.5 * (low + high) * normal) < 0 ? low : high) = 0.5 * (low + high);
                    const double d = 0.5 * (low + high);
                    const Vec3 own = body.gradient(p + d * normal).normalized();
                    const double angle = std::acos(std::clamp(own.dot(normal), -1.0, 1.0)) * 180 / M_PI;
                    ++found;
                    r.mean += d;
                    r.rms += d * d;
                    r.normals += angle * angle;
                    r.worst = std::max(r.worst, std::abs(d));
                }
                r.mean /= found;
                r.rms = std::sqrt(r.rms / found);
                r.normals = std::sqrt(r.normals / found);
                rows.push_back(r);
            }
    return rows;
}

std::array<double, 3> rodsInside(bool grey, bool local, double smoothing) {
    const double radius[3] = {0.8, 1.1, 1.5};
    const Vec3 low[3] = {Vec3(16.2, 15, 35.3), Vec3(35.4, 15, 36.1), Vec3(54.7, 15, 35.6)};
    const Vec3 high[3] = {Vec3(18.9, 57, 36.7), Vec3(37.3, 57, 34.6), Vec3(52.1, 57, 37.2)};
    auto fromLine = [](const Vec3& p, const Vec3& a, const Vec3& b) {
        const double t = std::clamp((p - a).dot(b - a) / (b - a).squaredNorm(), 0.0, 1.0);
        return (p - a - t * (b - a)).norm();
    };
    const TiltedShape shape{"bars and rods",
                            [&](const Vec3& p) {
                                double d = 1e9;
                                for (const double y : {13.0, 59.0})
                                    d = std::min(d, fromLine(p, Vec3(10, y, 36), Vec3(62, y, 36)) - 8);
                                for (int r = 0; r < 3; ++r) d = std::min(d, fromLine(p, low[r], high[r]) - radius[r]);
                                return d;
                            },
                            {}};
    const field::DensityField cells = cellsOf(shape, grey, 72);
    shape::FieldSmoothing options;
    options.length = smoothing;
    if (local) {
        options.local.emplace();
        options.local->target = shape::keptShares(cells, 0.5);
        options.local->speaks.assign(cells.count(), 1.0f);
    }
    Progress progress;
    const shape::FieldBody body(std::make_shared<shape::SmoothDensity>(cells, std::vector<char>(), options, progress),
                                0.5);
    std::array<double, 3> inside{};
    for (int r = 0; r < 3; ++r)
        for (int s = 0; s < 200; ++s) {  // between the bars only
            const Vec3 p = low[r] + (0.2 + 0.6 * (s + 0.5) / 200) * (high[r] - low[r]);
            inside[r] += (body.value(p) < 0) / 200.0;
        }
    return inside;
}

}  // namespace escultura::verification

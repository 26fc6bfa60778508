#include "surface_accuracy.hpp"

#include <cmath>
#include <functional>

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

}  // namespace escultura::verification

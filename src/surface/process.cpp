#include "surface/process.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"

namespace escultura::surface {
namespace {

struct Face {
    Vec3 middle, normal;
    double area;
};

Face faceOf(const TriMesh& mesh, std::size_t t) {
    const Triangle& v = mesh.triangle[t];
    const Vec3 &a = mesh.position[v[0]], &b = mesh.position[v[1]], &c = mesh.position[v[2]];
    const Vec3 across = (b - a).cross(c - a);
    const double length = across.norm();
    return {(a + b + c) / 3, length > 0 ? Vec3(across / length) : Vec3(Vec3::UnitZ()), 0.5 * length};
}

constexpr double degree = M_PI / 180;

}  // namespace

DraftFigures draftFigures(const TriMesh& mesh, const TriangleTree& tree, const Vec3& pull, double parting,
                          double wanted, Progress& progress) {
    progress.step("Measuring the draft");
    DraftFigures d;
    const std::size_t n = mesh.triangle.size();
    d.angle.resize(n);
    d.undercut.assign(n, 0);
    Box3 box;
    for (const Vec3& p : mesh.position) box.include(p);
    const double start = 1e-5 * box.diagonal();
    parallelFor(n, [&](std::size_t t) {
        const Face f = faceOf(mesh, t);
        // a face in the parting plane leaves to the side that it looks to
        const double height = f.middle.dot(pull) - parting;
        const bool up = std::abs(height) < 1e-4 * box.diagonal() ? f.normal.dot(pull) >= 0 : height > 0;
        const Vec3 way = up ? pull : Vec3(-pull);
        const double sine = f.normal.dot(way);
        d.angle[t] = static_cast<float>(std::asin(std::clamp(sine, -1.0, 1.0)) / degree);
        // faces that look back are in the mould's way unless they look straight at the parting plane's own side
        d.undercut[t] = sine < -std::sin(0.5 * degree) || tree.firstHit(f.middle + start * f.normal, way, start);
    });
    double largest = 0;
    bool anyUndercut = false;
    for (std::size_t t = 0; t < n; ++t) {
        if (!mesh.owner.empty() && mesh.owner[t] != 0) continue;
        const Face f = faceOf(mesh, t);
        d.freeArea += f.area;
        const bool bad = d.undercut[t] || d.angle[t] < wanted - 0.05;
        if (bad) d.tooSteepArea += f.area;
        if (d.undercut[t]) d.undercutArea += f.area;
        if (bad && ((d.undercut[t] && !anyUndercut) || (f.area > largest && (d.undercut[t] || !anyUndercut)))) {
            largest = f.area;
            d.worstAt = f.middle;
            anyUndercut |= d.undercut[t] != 0;
        }
    }
    return d;
}

OverhangFigures overhangFigures(const TriMesh& mesh, const TriangleTree& tree, const Vec3& up, double overhang) {
    OverhangFigures o;
    const std::size_t n = mesh.triangle.size();
    o.overhanging.assign(n, 0);
    double plate = 1e300;
    Box3 box;
    for (const Vec3& p : mesh.position) {
        plate = std::min(plate, p.dot(up));
        box.include(p);
    }
    const double limit = std::cos(overhang * degree), start = 1e-5 * box.diagonal();
    struct Support {
        double volume = 0, landing = 0;
    };
    std::vector<Support> support(n);
    parallelFor(n, [&](std::size_t t) {
        const Face f = faceOf(mesh, t);
        const double down = -f.normal.dot(up);
        if (down <= limit + 1e-9 || f.middle.dot(up) < plate + 0.1) return;
        o.overhanging[t] = 1;
        const double projected = f.area * down;
        const auto hit = tree.firstHit(f.middle + start * f.normal, -up, start);
        const double height = hit ? hit->distance : f.middle.dot(up) - plate;
        support[t].volume = projected * height;
        if (hit) support[t].landing = projected / std::max(faceOf(mesh, hit->triangle).normal.dot(up), 0.1);
    });
    double total = 0, touched = 0, largest = 0;
    for (std::size_t t = 0; t < n; ++t) {
        const Face f = faceOf(mesh, t);
        total += f.area;
        if (!o.overhanging[t]) continue;
        o.area += f.area;
        touched += f.area + support[t].landing;
        o.supportVolume += support[t].volume;
        if (f.area > largest) {
            largest = f.area;
            o.worstAt = f.middle;
        }
    }
    o.touchedShare = total > 0 ? std::min(1.0, touched / total) : 0;
    return o;
}

std::vector<BuildDirection> sweepBuildDirections(const TriMesh& mesh, const TriangleTree& tree, double overhang,
                                                 Progress& progress) {
    std::vector<Vec3> directions;
    for (int x = -1; x <= 1; ++x)
        for (int y = -1; y <= 1; ++y)
            for (int z = -1; z <= 1; ++z)
                if (x || y || z) directions.push_back(Vec3(x, y, z).normalized());
    for (int k = 0; k < 8; ++k)
        for (double z : {0.45, -0.45})
            directions.push_back(
                Vec3(std::cos((22.5 + 45 * k) * degree), std::sin((22.5 + 45 * k) * degree), z).normalized());
    std::vector<BuildDirection> found;
    for (std::size_t d = 0; d < directions.size(); ++d) {
        progress.step("Trying build directions", static_cast<double>(d) / static_cast<double>(directions.size()));
        const OverhangFigures o = overhangFigures(mesh, tree, directions[d], overhang);
        double low = 1e300, high = -1e300;
        for (const Vec3& p : mesh.position) {
            low = std::min(low, p.dot(directions[d]));
            high = std::max(high, p.dot(directions[d]));
        }
        found.push_back({directions[d], o.supportVolume, o.area, high - low});
    }
    std::stable_sort(found.begin(), found.end(),
                     [](const auto& a, const auto& b) { return a.supportVolume < b.supportVolume; });
    return found;
}

}  // namespace escultura::surface

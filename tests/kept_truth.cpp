#include "kept_truth.hpp"

#include <algorithm>
#include <cmath>
#include <functional>

#include "shape/local_threshold.hpp"
#include "stages/field_stage.hpp"
#include "stages/surface_stage.hpp"

namespace escultura::verification {
namespace {

/// A field over a box from the corner (0, 0, 0), of a body given by its distance in mm.
field::DensityField fieldOf(const std::function<double(const Vec3&)>& distance, const Vec3& size, double cell,
                            bool grey) {
    field::DensityField f;
    f.source = "made up";
    f.spacing = Vec3::Constant(cell);
    for (int a = 0; a < 3; ++a) f.cells[a] = static_cast<int>(std::lround(size[a] / cell));
    f.density.resize(static_cast<std::size_t>(f.cells[0]) * f.cells[1] * f.cells[2]);
    for (std::size_t c = 0; c < f.count(); ++c) {
        const double d = distance(f.centre(c)) / cell;
        f.density[c] = static_cast<float>(grey ? std::clamp(0.5 - d / 1.5, 0.0, 1.0) : d < 0);
    }
    return f;
}

}  // namespace

std::vector<CavityRow> cavities(const std::vector<double>& cells) {
    std::vector<CavityRow> rows;
    const Vec3 middle(31.3, 24.4, 26.9);
    constexpr double radius = 15;
    for (const bool grey : {false, true})
        for (const double cell : cells) {
            const field::DensityField f =
                fieldOf([&](const Vec3& p) { return radius - (p - middle).norm(); }, Vec3(60, 50, 50), cell, grey);
            CavityRow r{cell, grey};
            double empty = 0;
            for (const float d : f.density) empty += (1 - d) * f.cellVolume();
            r.fieldRadius = std::cbrt(3 * empty / (4 * M_PI));
            double told = 0;
            for (const float share : shape::keptShares(f, 0.5)) told += (1 - share) * f.cellVolume();
            r.toldRadius = std::cbrt(3 * told / (4 * M_PI));
            Progress progress;
            const duty::Part part;
            const stages::FieldResult field = stages::prepareField(part, f);
            const stages::SurfaceResult s =
                stages::evaluateSurface(part, field, stages::defaultRecipe(part, f), progress);
            double volume = 0, count = 0;
            std::vector<char> own(s.mesh.position.size());
            for (std::size_t v = 0; v < own.size(); ++v) own[v] = (s.mesh.position[v] - middle).norm() < 1.2 * radius;
            for (const Triangle& t : s.mesh.triangle)
                if (own[t[0]] && own[t[1]] && own[t[2]])
                    volume -= (s.mesh.position[t[0]] - middle)
                                  .cross(s.mesh.position[t[1]] - middle)
                                  .dot(s.mesh.position[t[2]] - middle) /
                              6;
            for (std::size_t v = 0; v < own.size(); ++v)
                if (own[v]) {
                    const double d = (s.mesh.position[v] - middle).norm();
                    r.meanRadius += d;
                    r.farthest = std::max(r.farthest, std::abs(d - radius));
                    ++count;
                }
            r.meanRadius /= count;
            r.volumeRadius = std::cbrt(3 * volume / (4 * M_PI));
            r.cavities = s.measures.cavities;
            rows.push_back(r);
        }
    return rows;
}

std::vector<BoredRow> boredBosses(const std::vector<double>& cells) {
    std::vector<BoredRow> rows;
    const Vec3 from(25, 29.3, 21.7), to(105, 33.1, 18.9), along = (to - from).normalized();
    constexpr double rod = 9, boss = 15;
    auto fromRod = [&](const Vec3& p) { return (p - from - (p - from).dot(along) * along).norm() - rod; };
    auto fromBoss = [&](const Vec3& p, const Vec3& at) { return std::hypot(p[0] - at[0], p[1] - at[1]) - boss; };
    auto distance = [&](const Vec3& p) {
        const double t = (p - from).dot(along);
        double d = t > 0 && t < (to - from).norm() ? fromRod(p) : 1e9;
        for (const Vec3& at : {from, to}) d = std::min(d, std::max(fromBoss(p, at), std::abs(p[2] - 20) - 16));
        return d;
    };
    for (const bool grey : {false, true})
        for (const double cell : cells) {
            const field::DensityField f = fieldOf(distance, Vec3(130, 60, 40), cell, grey);
            duty::Part part;
            for (const Vec3& at : {from, to}) {
                duty::Interface i;
                i.name = at == from ? "left" : "right";
                i.kind = duty::Interface::Kind::boss;
                i.origin = Vec3(at[0], at[1], 4);
                i.axis = Vec3::UnitZ();
                i.length = 32;
                i.boreDiameter = 18;
                i.ringDiameter = 2 * boss;
                i.blendRadius = 3;
                part.interfaces.push_back(i);
            }
            Progress progress;
            const stages::FieldResult field = stages::prepareField(part, f);
            const stages::SurfaceResult s =
                stages::evaluateSurface(part, field, stages::defaultRecipe(part, f), progress);
            BoredRow r{grey, cell};
            double onRod = 0, onSide = 0;
            for (std::size_t t = 0; t < s.mesh.triangle.size(); ++t) {
                if (s.mesh.owner[t] != 0) continue;
                const Triangle& v = s.mesh.triangle[t];
                const Vec3 p = (s.mesh.position[v[0]] + s.mesh.position[v[1]] + s.mesh.position[v[2]]) / 3;
                if (std::min(fromBoss(p, from), fromBoss(p, to)) > boss) {
                    const double d = fromRod(p) / cell;
                    r.rodMean += d;
                    r.rodRms += d * d;
                    r.rodWorst = std::max(r.rodWorst, std::abs(d));
                    ++onRod;
                } else if (fromRod(p) > 3 * cell && std::abs(p[2] - 20) < 16 - 3 * cell) {
                    const double d = std::min(fromBoss(p, from), fromBoss(p, to)) / cell;
                    r.sideMean += d;
                    r.sideWorst = std::max(r.sideWorst, std::abs(d));
                    ++onSide;
                }
            }
            r.rodMean /= onRod;
            r.rodRms = std::sqrt(r.rodRms / onRod);
            r.sideMean /= onSide;
            r.told = s.deviationMean / cell;
            rows.push_back(r);
        }
    return rows;
}

}  // namespace escultura::verification

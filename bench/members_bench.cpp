/// Members, handles, places and normal jumps of surfaces beside their fields.

#include <chrono>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <map>

#include "made_up_brace.hpp"
#include "project/project.hpp"
#include "project/run.hpp"
#include "surface_bench.hpp"

namespace escultura::bench {
namespace {

/// Largest angle between the normals of two free triangles that share an edge, degrees; and the angle that all but one
/// in a thousand keep.
std::array<double, 2> normalJumps(const surface::TriMesh& mesh) {
    std::map<std::array<std::int32_t, 2>, std::size_t> first;
    std::vector<double> angles;
    auto normal = [&](std::size_t t) {
        const Triangle& v = mesh.triangle[t];
        return Vec3(
            (mesh.position[v[1]] - mesh.position[v[0]]).cross(mesh.position[v[2]] - mesh.position[v[0]]).normalized());
    };
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        if (mesh.owner[t] != 0) continue;
        for (int k = 0; k < 3; ++k) {
            const auto a = mesh.triangle[t][k], b = mesh.triangle[t][(k + 1) % 3];
            const auto [at, isNew] = first.try_emplace({std::min(a, b), std::max(a, b)}, t);
            if (!isNew)
                angles.push_back(std::acos(std::clamp(normal(at->second).dot(normal(t)), -1.0, 1.0)) * 180 / M_PI);
        }
    }
    if (angles.empty()) return {0, 0};
    std::sort(angles.begin(), angles.end());
    return {angles.back(), angles[static_cast<std::size_t>(0.999 * static_cast<double>(angles.size() - 1))]};
}

}  // namespace

int benchMembers(const std::vector<std::string>& parts) {
    using Kind = stages::GeometryFinding::Kind;
    int failed = 0;
    const auto folder = std::filesystem::temp_directory_path() / "escultura-brace";
    std::filesystem::create_directories(folder);
    std::printf(
        "| part | surface | members below a cell | gone | thinned | other warnings | handles (meant) | mean, cells | "
        "RMS, cells | largest, cells | normal jump, degrees: largest, 99.9 %% | triangles | seconds |\n"
        "| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |\n");
    for (int n = 0; n < static_cast<int>(parts.size()) + 2; ++n) {
        const bool isBrace = n >= static_cast<int>(parts.size());
        const bool grey = n == static_cast<int>(parts.size()) + 1;
        const std::string path =
            isBrace ? made_up::writeBrace(folder.string(), grey) : parts[static_cast<std::size_t>(n)];
        Progress progress;
        const project::Project p = project::openPart(path, progress);
        const double cell = p.field()->field.spacing.minCoeff();
        for (const auto& [keep, cells] : {std::pair(false, 2.0), std::pair(true, 2.0), std::pair(true, 4.5)}) {
            duty::Recipe r = p.variants[0].recipe;
            r.keepMembers = keep;
            r.smoothing = cells * cell;
            const auto start = std::chrono::steady_clock::now();
            const stages::SurfaceResult s = stages::evaluateSurface(p.part, *p.field(), r, progress);
            const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
            std::map<Kind, int> count;
            for (const auto& f : s.findings) ++count[f.kind];
            const int told = count[Kind::memberLost] + count[Kind::memberThinned];
            const auto jump = normalJumps(s.mesh);
            std::printf(
                "| %s%s | %s, %.1f cells | %zu | %d | %d | %zu | %d (%d) | %+.3f | %.3f | %.2f | %.0f, %.0f | %zu | "
                "%.1f |\n",
                p.part.name.c_str(), isBrace ? grey ? ", grey" : ", 0/1" : "", keep ? "members kept" : "one threshold",
                cells, s.members.size(), count[Kind::memberLost], count[Kind::memberThinned],
                s.findings.size() - static_cast<std::size_t>(told), s.measures.genus, s.rawGenus,
                s.deviationMean / cell, s.deviationRms / cell, s.deviationMax / cell, jump[0], jump[1],
                s.mesh.triangle.size(), seconds);
            if (keep)
                for (const auto& f : s.findings) std::printf("|  | %s |\n", f.text.c_str());
            std::fflush(stdout);
            failed += keep && (told > 0 || s.measures.genus != s.rawGenus);
        }
    }
    return failed > 0;
}

}  // namespace escultura::bench

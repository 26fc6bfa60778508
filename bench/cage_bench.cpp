#include "cage_bench.hpp"

#include <chrono>
#include <cstdio>
#include <filesystem>

#include "base/quantity.hpp"
#include "cage_shapes.hpp"
#include "project/run.hpp"
#include "stages/rebuild_stage.hpp"
#include "stages/surface_stage.hpp"

namespace escultura::bench {
namespace {

double secondsSince(std::chrono::steady_clock::time_point start) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

bool partRow(const std::string& path) {
    Progress progress;
    project::Project p = project::openPart(path, progress);
    const duty::Recipe recipe = p.current().recipe;
    project::run(p, recipe, project::Stage::surface, progress);
    const auto surface = p.surface(recipe);
    const auto field = p.field(recipe);
    const auto c = stages::evaluateCage(p.part, *field, *surface, recipe, progress);
    const auto b = stages::evaluateRebuild(p.part, *field, *surface, c, recipe, progress);
    const std::string file = (std::filesystem::temp_directory_path() / "escultura-bench-cage.step").string();
    auto start = std::chrono::steady_clock::now();
    const auto differ = stages::writeCheckedStep(file, p.part, b);
    const double step = secondsSince(start);
    const auto bytes = static_cast<double>(std::filesystem::file_size(file));
    std::filesystem::remove(file);
    const auto& d = c.deviation;
    const double cell = field->field.spacing.minCoeff();
    const bool sound = c.within && c.folded.empty() && b.problems.empty() && differ.empty();
    std::printf("| %s | %zu | %d | %.3f, %.3f | %.2f, %.2f | %.2f | %.1f | %.1f | %d | %.2f | %.0f | %.1f | %s |\n",
                p.part.name.c_str(), c.cage.face.size(), c.irregular, d.rms / cell, d.backRms / cell, d.largest / cell,
                d.backLargest / cell, b.irregularJump, c.seconds, b.seconds, b.solid.solid.faces, bytes / 1e6,
                bytes / 1e3 / b.solid.solid.faces, step, sound ? "yes" : "NO");
    for (const auto& text : differ) std::printf("  read back: %s\n", text.c_str());
    if (!c.within) std::printf("  not within the tolerance\n");
    if (!c.folded.empty()) std::printf("  %zu faces fold over\n", c.folded.size());
    for (const auto& text : b.problems) std::printf("  %s\n", text.c_str());
    std::fflush(stdout);
    return sound;
}

bool shapeRow(const made_up::CageShape& s) {
    Progress progress;
    auto start = std::chrono::steady_clock::now();
    const auto few = made_up::fewestOf(s, progress);
    const double cage = secondsSince(start);
    if (few.cage.cage.face.empty()) {
        std::printf("| %s | none |\n", s.name.c_str());
        return false;
    }
    start = std::chrono::steady_clock::now();
    const auto solid = solid::buildSolid(few.cage.cage, cage::makePatches(few.cage.cage), {}, {}, progress);
    const auto& d = few.cage.deviation;
    const bool sound = few.within && solid.solid.valid && solid.solid.closed;
    std::printf("| %s | %zu | %d | %.3f, %.3f | %.2f, %.2f | %.2f | %.1f | %.1f | %d | | | | %s |\n", s.name.c_str(),
                few.cage.cage.face.size(), few.irregular, d.rms / s.cell, d.backRms / s.cell, d.largest / s.cell,
                d.backLargest / s.cell, few.kink, cage, secondsSince(start), solid.solid.faces, sound ? "yes" : "NO");
    std::fflush(stdout);
    return sound;
}

}  // namespace

int benchCages(const std::vector<std::string>& parts, int shapes) {
    std::printf(
        "| part | faces | irregular | RMS there, back, cells | largest there, back, cells | kink, degrees | cage, s | "
        "solid, s | its faces | STEP, MB | kB a face | write and read back, s | sound |\n"
        "| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |\n");
    bool sound = true;
    for (const std::string& part : parts) sound = partRow(part) && sound;
    for (const auto& s : made_up::cageShapes()) sound = shapeRow(s) && sound;
    int kept = 0;
    for (int seed = 1; seed <= shapes; ++seed) {
        const auto organic = made_up::organicShape(static_cast<unsigned>(seed));
        const auto body = organic.solid;
        made_up::CageShape s{"organic " + std::to_string(seed),
                             [body](const Vec3& p) { return body->surfaceValue(0, p); }, body->bounds(), 3};
        kept += shapeRow(s);
    }
    if (shapes > 0) std::printf("\nRandom organic shapes: %d of %d within the tolerance and sound\n", kept, shapes);
    return sound && kept >= 0.95 * shapes ? 0 : 1;
}

}  // namespace escultura::bench

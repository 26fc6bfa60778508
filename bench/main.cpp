/// escultura-bench: verification table and benchmarks. Not run by the tests.

#include <sys/resource.h>

#include <CLI/CLI.hpp>
#include <chrono>
#include <cstdio>
#include <thread>

#include "project/project.hpp"
#include "verification.hpp"

using namespace escultura;

namespace {

double peakMemory() {
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    return static_cast<double>(usage.ru_maxrss) / 1024;
}

int verify() {
    const auto rows = verification::all();
    std::fputs(verification::table(rows).c_str(), stdout);
    int failed = 0;
    for (const auto& r : rows) failed += !r.passes();
    std::printf("\n%zu rows, %d outside their bar\n", rows.size(), failed);
    return failed ? 1 : 0;
}

int runPart(const std::string& path) {
    Progress progress;
    project::Project p = project::openPart(path, progress);
    std::printf("%u threads\n", std::thread::hardware_concurrency());
    for (const auto& t : project::run(p, p.current().recipe, project::Stage::findings, progress))
        std::printf("%-10s %7.2f s\n", t.stage.c_str(), t.seconds);
    const auto c = p.check(p.current().recipe);
    std::printf("%zu elements, %zu unknowns, factor %.0f M entries, peak memory %.0f MB\n", c->mesh.tet.size(),
                c->unknowns, c->factorNonzeros / 1e6, peakMemory());
    return 0;
}

int meshSizes(const std::string& path) {
    Progress progress;
    project::Project p = project::openPart(path, progress);
    const auto field = p.field();
    project::Recipe recipe = p.current().recipe;
    const auto surface = project::evaluateSurface(p.part, *field, recipe, progress);
    const auto solid = project::surfaceShape(p.part, *field, recipe, surface.solvedThreshold, progress);
    std::printf(
        "| size, mm | tetrahedra | seconds | angles, degrees | volume, %% of the surface's | machined edges missed "
        "|\n| --- | --- | --- | --- | --- | --- |\n");
    for (const double size : {5.0, 4.0, 3.5, 3.0, 2.5}) {
        const auto start = std::chrono::steady_clock::now();
        const auto mesh = mesh::meshShape(*solid.solid, {size}, progress);
        const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
        const auto q = mesh::measureQuality(mesh);
        std::printf("| %.1f | %zu | %.2f | %.1f to %.1f | %.3f | %d of %d |\n", size, mesh.tet.size(), seconds,
                    q.minDihedral, q.maxDihedral, 100 * q.volume / surface.measures.volume, mesh.creases.unresolved,
                    mesh.creases.crossings);
    }
    return 0;
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app{"Verification table and benchmarks."};
    app.require_subcommand(1);
    std::string part = "demo/tether-yoke.json";
    auto* v = app.add_subcommand("verify", "Prints the verification table; exit code 1 when a row is outside its bar");
    auto* r = app.add_subcommand("run", "Times all stages on a part");
    r->add_option("part", part, "Part file");
    auto* m = app.add_subcommand("mesh", "Meshes a part at five sizes");
    m->add_option("part", part, "Part file");
    CLI11_PARSE(app, argc, argv);
    try {
        if (*v) return verify();
        if (*r) return runPart(part);
        return meshSizes(part);
    } catch (const std::exception& e) {
        std::fprintf(stderr, "error: %s\n", e.what());
        return 2;
    }
}

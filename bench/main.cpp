/// escultura-bench: verification table and benchmarks. Not run by the tests.

#include <sys/resource.h>
#include <tbb/global_control.h>
#include <vtkFlyingEdges3D.h>
#include <vtkImageData.h>
#include <vtkNew.h>
#include <vtkPolyData.h>

#include <CLI/CLI.hpp>
#include <chrono>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <functional>
#include <random>
#include <thread>

#include "base/quantity.hpp"
#include "cage_bench.hpp"
#include "field/combine.hpp"
#include "hostile_bench.hpp"
#include "kept_truth.hpp"
#include "modes_bench.hpp"
#include "organic_shapes.hpp"
#include "project/project.hpp"
#include "project/run.hpp"
#include "solve_bench.hpp"
#include "spot_cases.hpp"
#include "surface/extract.hpp"
#include "surface/surface_nets.hpp"
#include "surface_accuracy.hpp"
#include "surface_bench.hpp"
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
    std::printf("\n%zu rows, %d outside their bar\n\n", rows.size(), failed);
    auto peaks = verification::mappedPeaks();
    for (auto& p : verification::spotPeaks()) peaks.push_back(std::move(p));
    std::fputs(verification::table(peaks).c_str(), stdout);
    int off = 0;
    for (const auto& p : peaks) off += !p.passes();
    std::printf("\n%zu peaks, %d outside their bar\n", peaks.size(), off);
    failed += off;
    return failed ? 1 : 0;
}

int runPart(const std::string& path) {
    Progress progress;
    project::Project p = project::openPart(path, progress);
    std::printf("%u threads\n", std::thread::hardware_concurrency());
    for (const auto& t : project::run(p, p.current().recipe, project::Stage::findings, progress))
        std::printf("%-10s %7.2f s\n", t.stage.c_str(), t.seconds);
    const auto c = p.check(p.current().recipe);
    std::printf("%zu elements, %zu unknowns, solver memory %.0f MB, peak memory %.0f MB\n", c->mesh.tet.size(),
                c->unknowns, c->solverMemory / 1e6, peakMemory());
    return 0;
}

int meshSizes(const std::string& path) {
    Progress progress;
    project::Project p = project::openPart(path, progress);
    const auto field = p.field();
    duty::Recipe recipe = p.current().recipe;
    const auto surface = stages::evaluateSurface(p.part, *field, recipe, progress);
    const auto solid = stages::surfaceShape(p.part, *field, recipe, surface.solvedThreshold, progress);
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

double secondsOf(const std::function<void()>& work, int runs) {
    double best = 1e300;
    for (int r = 0; r < runs; ++r) {
        const auto start = std::chrono::steady_clock::now();
        work();
        best = std::min(best, std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
    }
    return best;
}

std::string fixed(double v, int digits) {
    char text[40];
    std::snprintf(text, sizeof text, "%.*f", digits, v);
    return text;
}

double peakMegabytes() {
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    return static_cast<double>(usage.ru_maxrss) / 1024;
}

/// The quick iso-surface against flying edges on the same samples, a gyroid-like field of 256^3, one thread each.
void compareExtraction() {
    constexpr int n = 256;
    vtkNew<vtkImageData> image;
    image->SetDimensions(n, n, n);
    image->AllocateScalars(VTK_FLOAT, 1);
    auto* value = static_cast<float*>(image->GetScalarPointer());
    for (int k = 0; k < n; ++k)
        for (int j = 0; j < n; ++j)
            for (int i = 0; i < n; ++i) {
                const double x = 8 * M_PI * i / n, y = 8 * M_PI * j / n, z = 8 * M_PI * k / n;
                value[i + n * (j + static_cast<std::size_t>(n) * k)] = static_cast<float>(
                    std::sin(x) * std::cos(y) + std::sin(y) * std::cos(z) + std::sin(z) * std::cos(x));
            }
    tbb::global_control one(tbb::global_control::max_allowed_parallelism, 1);
    vtkNew<vtkFlyingEdges3D> edges;
    edges->SetInputData(image);
    edges->SetValue(0, 0.1);
    edges->ComputeNormalsOff();
    edges->ComputeGradientsOff();
    edges->ComputeScalarsOff();
    std::size_t triangles = 0;
    double ours = 1e300, theirs = 1e300;
    for (int run = 0; run < 5; ++run) {  // in turns
        ours = std::min(
            ours, secondsOf(
                      [&] {
                          triangles =
                              surface::surfaceNets(
                                  {{n, n, n}, Vec3::Zero(), Vec3::Ones(), {value, static_cast<std::size_t>(n) * n * n}},
                                  0.1f)
                                  .triangle.size();
                      },
                      1));
        theirs = std::min(theirs, secondsOf(
                                      [&] {
                                          edges->Modified();
                                          edges->Update();
                                      },
                                      1));
    }
    std::printf(
        "\nIso-surface of a gyroid-like field of 256^3, one thread: %.3f s (%zu triangles); flying-edges filter of "
        "the visualisation library %.3f s (%lld triangles): %.2f times its speed\n",
        ours, triangles, theirs, static_cast<long long>(edges->GetOutput()->GetNumberOfCells()), theirs / ours);
}

/// Rods between thick bars, and made-up parts of exact shapes, by the whole Surface stage.
void printKept() {
    std::printf(
        "\nShare of a rod's axis inside the body (two thick bars joined by rods of 0.8, 1.1 and 1.5 cells radius; bar: "
        "100 %% from 1.1)\n\n| cells | smoothing, cells | one threshold | volume kept locally |\n| --- | --- | --- | "
        "--- |\n");
    for (const bool grey : {false, true})
        for (const double smoothing : {2.0, 3.0, 4.5}) {
            const auto one = verification::rodsInside(grey, false, smoothing),
                       local = verification::rodsInside(grey, true, smoothing);
            std::printf("| %s | %.1f | %.0f %%, %.0f %%, %.0f %% | %.0f %%, %.0f %%, %.0f %% |\n",
                        grey ? "grey" : "0/1", smoothing, 100 * one[0], 100 * one[1], 100 * one[2], 100 * local[0],
                        100 * local[1], 100 * local[2]);
        }
    std::printf(
        "\nSpherical cavity of 15 mm in a block (radii in mm; bar: 0.1 %%)\n\n| cells | told by the raw iso-surface | "
        "of the "
        "surface's volume | mean of the vertices | largest error |\n| --- | --- | --- | --- | --- |\n");
    for (const auto& r : verification::cavities({2, 1.25}))
        std::printf("| %s, %.2f mm | %.3f | %.3f | %.3f | %.3f |\n", r.grey ? "grey" : "0/1", r.cell, r.toldRadius,
                    r.volumeRadius, r.meanRadius, r.farthest);
    std::printf(
        "\nBosses that the field holds solid, bored by the part file, and the rod between them (cells; bar for the "
        "rod's mean: 0.02)\n\n| cells | rod: mean, RMS, largest | bosses' sides: mean, largest | told |\n| --- | --- | "
        "--- | --- |\n");
    for (const auto& r : verification::boredBosses({2, 1.25}))
        std::printf("| %s, %.2f mm | %+.3f, %.3f, %.3f | %+.3f, %.3f | %+.3f |\n", r.grey ? "grey" : "0/1", r.cell,
                    r.rodMean, r.rodRms, r.rodWorst, r.sideMean, r.sideWorst, r.told);
}

/// Surfaces and smooth bodies beside their exact shapes.
void printAccuracy() {
    std::printf(
        "Accuracy (lattice surfaces; distance: largest, triangles' middles to the exact shape)\n\n"
        "| shape | spacing, mm | triangles | volume, %% | area, %% | distance, mm | order |\n"
        "| --- | --- | --- | --- | --- | --- | --- |\n");
    for (const auto& r : verification::surfaceAccuracy())
        std::printf("| %s | %.1f | %zu | %+.3f | %s | %.4f | %s |\n", r.shape.c_str(), r.spacing, r.triangles,
                    100 * r.volumeError, r.areaError != 0 ? fixed(100 * r.areaError, 3).c_str() : "", r.distance,
                    r.orderOfDistance != 0 ? fixed(r.orderOfDistance, 2).c_str() : "");
    std::printf(
        "\nSmooth bodies of fields (tilted shapes, cells of 1 mm, volume kept locally; distance along the exact "
        "normal)\n\n"
        "| shape | cells | smoothing, cells | mean, cells | RMS, cells | largest, cells | normals, degrees RMS | lost, "
        "%% "
        "|\n| --- | --- | --- | --- | --- | --- | --- | --- |\n");
    for (const auto& r : verification::fieldAccuracy({2, 3, 4.5}))
        std::printf("| %s | %s | %.1f | %+.3f | %.3f | %.3f | %.2f | %.1f |\n", r.shape.c_str(),
                    r.grey ? "grey" : "0/1", r.smoothing, r.mean, r.rms, r.worst, r.normals, 100 * r.lost);
}

/// Extraction against an independent library, threshold figures of a large field, accuracy, and the Surface stage.
int benchSurface(const std::string& path) {
    printAccuracy();
    printKept();
    compareExtraction();

    // threshold figures of 4 million cells
    Progress progress;
    const duty::Part part = duty::readPart(path);
    const auto small = exchange::readField(part.fields[0].source);
    field::DensityField large;
    large.cells = {200, 150, 134};
    large.origin = small.origin;
    large.spacing = small.bounds().size().cwiseQuotient(Vec3(200, 150, 134));
    large.density.assign(200u * 150u * 134u, 0.0f);
    large = field::resample(small, large);
    std::mt19937 random(1);  // speckles: many pieces
    for (int k = 0; k < 20000; ++k)
        large.density[random() % large.count()] = static_cast<float>(random() % 1000) / 1000;
    const std::string file = (std::filesystem::temp_directory_path() / "escultura-bench.npy").string();
    {
        std::ofstream out(file, std::ios::binary);
        std::string head = "{'descr': '<f4', 'fortran_order': False, 'shape': (134, 150, 200), }";
        head.resize(117, ' ');
        head += '\n';
        out.write("\x93NUMPY\x01\x00\x76\x00", 10);
        out << head;
        out.write(reinterpret_cast<const char*>(large.density.data()), static_cast<std::streamsize>(4 * large.count()));
    }
    exchange::FieldSource source{file};
    source.origin = large.origin;
    source.spacing = large.spacing;
    std::shared_ptr<stages::FieldResult> result;
    const double open = secondsOf(
        [&] {
            result = std::make_shared<stages::FieldResult>(stages::prepareField(part, exchange::readField(source)));
        },
        2);
    std::filesystem::remove(file);
    duty::Recipe recipe;
    double slowest = 0;
    int pieces = 0;
    for (int k = 1; k < 100; ++k) {
        recipe.threshold = k / 100.0;
        slowest = std::max(
            slowest,
            secondsOf([&] { pieces = std::max(pieces, stages::thresholdFigures(part, *result, recipe).pieces); }, 1));
    }
    std::printf("Field of %zu cells: opened in %.2f s; threshold figures at most %.2f ms (up to %d pieces)\n",
                large.count(), open, 1000 * slowest, pieces);
    result.reset();

    project::Project p = project::openPart(path, progress);
    std::shared_ptr<stages::SurfaceResult> s;
    const double stage = secondsOf(
        [&] {
            s = std::make_shared<stages::SurfaceResult>(
                stages::evaluateSurface(p.part, *p.field(), p.current().recipe, progress));
        },
        3);
    std::printf("Surface stage of %s: %.2f s (%zu triangles, deviation, thickness and losses included)\n",
                p.part.name.c_str(), stage, s->mesh.triangle.size());
    std::printf("Peak memory: %.0f MB\n", peakMegabytes());
    return 0;
}

/// Cage, fit, patches, joining, booleans and STEP at several counts of faces, then random organic shapes.
int benchRebuild(const std::string& path, int shapes) {
    Progress progress;
    project::Project p = project::openPart(path, progress);
    duty::Recipe recipe = p.current().recipe;
    project::run(p, recipe, project::Stage::surface, progress);
    const auto surface = p.surface(recipe);
    const std::string file = (std::filesystem::temp_directory_path() / "escultura-bench.step").string();
    std::printf(
        "%s\n\n| faces asked | faces | edge, mm | cage, s | RMS, %% of edge | largest, %% | handles | patches, s | "
        "jump, deg "
        "(regular) | solid with features, s | valid | patches to limit, %% | STEP, MB | write and read back, s | "
        "follows a pull in, ms | peak memory so far, MB |\n"
        "| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |\n",
        p.part.name.c_str());
    for (int count : {300, 1000, 3000}) {
        recipe.rebuild.faceCount = count;
        recipe.rebuild.adapt = false;
        const auto c = stages::evaluateCage(p.part, *p.field(), *surface, recipe, progress);
        const double patches = secondsOf([&] { cage::makePatches(c.cage); }, 1);
        const auto b = stages::evaluateRebuild(p.part, *p.field(), *surface, c, recipe, progress);
        const double step = secondsOf([&] { stages::writeCheckedStep(file, p.part, b); }, 1);
        const cage::LimitMesh limit(c.cage, 4);
        const double follow = secondsOf([&] { limit.at(c.cage.position); }, 5);
        const auto& d = c.deviation;
        std::printf(
            "| %d | %zu | %.2f | %.2f | %.2f | %.1f | %d of %d | %.2f | %.2f (%.0e) | %.2f | %s | %.1e | %.1f | %.2f "
            "| %.1f | %.0f |\n",
            count, c.cage.face.size(), d.edge, c.seconds, 100 * std::max(d.rms, d.backRms) / d.edge,
            100 * std::max(d.largest, d.backLargest) / d.edge, c.report.genus, c.targetGenus, patches, b.irregularJump,
            b.regularJump, b.seconds - patches, b.solid.solid.valid && b.solid.solid.closed ? "yes" : "NO",
            100 * std::abs(b.solid.free.volume / b.limit.volume - 1),
            static_cast<double>(std::filesystem::file_size(file)) / 1e6, step, 1000 * follow, peakMegabytes());
        std::fflush(stdout);
    }
    std::filesystem::remove(file);
    int sound = 0, kinked = 0;
    for (int seed = 1; seed <= shapes; ++seed) {
        std::string why;
        try {
            const auto trial = made_up::organicSolid(static_cast<unsigned>(seed));
            const auto& a = trial.cage;
            const auto& target = *trial.target;
            const auto& r = trial.solid;
            auto at = [](const Vec3& q) {
                return " at (" + formatNumber(q.x(), 3) + ", " + formatNumber(q.y(), 3) + ", " +
                       formatNumber(q.z(), 3) + ")";
            };
            if (!a.report.closed || !a.report.manifold) why += " torn" + at(a.report.problems.front().at);
            if (!a.agrees)
                why += " handles " + std::to_string(a.report.genus) + " of " + std::to_string(target.measures().genus);
            if (!a.folded.empty()) why += " folds" + at(a.cage.position[a.cage.face[a.folded.front()][0]]);
            const auto& d = a.deviation;
            if (std::max(d.rms, d.backRms) > 0.01 * d.edge)
                why += " RMS " + formatNumber(100 * std::max(d.rms, d.backRms) / d.edge, 3) + " %";
            if (std::max(d.largest, d.backLargest) > 0.12 * d.edge)
                why += " largest" + at(d.backLargest > d.largest ? d.backLargestAt : d.largestAt);
            if (!(trial.patches.irregularJump < 1))
                why +=
                    " kink of " + formatNumber(trial.patches.irregularJump, 2) + " degrees" + at(trial.patches.jumpAt);
            if (!r.solid.valid || !r.solid.closed) why += " solid not valid";
            if (!r.features[0].built) why += " bore: " + r.features[0].problem + at(r.features[0].at);
        } catch (const std::exception& e) {
            why += std::string(" ") + e.what();
        }
        if (why.empty())
            ++sound;
        else
            std::printf("shape %d:%s\n", seed, why.c_str());
        std::fflush(stdout);
    }
    if (shapes > 0)
        std::printf("\nRandom organic shapes with a bore: %d of %d sound; kinks of a degree or more in %d\n", sound,
                    shapes, kinked);
    std::printf("Peak memory: %.0f MB\n", peakMegabytes());
    return shapes > 0 && sound < 0.95 * shapes ? 1 : 0;
}

int main(int argc, char** argv) {
    CLI::App app{"Verification table and benchmarks."};
    app.require_subcommand(1);
    std::string part = "demo/tether-yoke.json";
    auto* v = app.add_subcommand("verify", "Prints the verification table; exit code 1 when a row is outside its bar");
    auto* r = app.add_subcommand("run", "Times all stages on a part");
    r->add_option("part", part, "Part file");
    auto* m = app.add_subcommand("mesh", "Meshes a part at five sizes");
    m->add_option("part", part, "Part file");
    auto* s = app.add_subcommand("surface", "Accuracy and speed of surfaces, threshold figures, memory");
    s->add_option("part", part, "Part file");
    auto* b = app.add_subcommand("rebuild", "Cage to STEP at 300, 1,000 and 3,000 faces, and random shapes");
    int shapes = 100;
    b->add_option("part", part, "Part file");
    b->add_option("--shapes", shapes, "Count of random organic shapes");
    auto* cg = app.add_subcommand("cage", "Cages with the fewest faces: demo parts, made-up bodies, random shapes");
    std::vector<std::string> cageParts{"demo/rocker-plate.json", "demo/sensor-mast-foot.json", "demo/tether-yoke.json"};
    int cageShapes = 10;
    cg->add_option("parts", cageParts, "Part files");
    cg->add_option("--shapes", cageShapes, "Count of random organic shapes");
    auto* q = app.add_subcommand("solve", "The equation solvers side by side over sizes");
    double largest = 2e6;
    bool direct = true;
    std::string other;
    q->add_option("part", part, "Part file");
    q->add_option("--largest", largest, "Sizes up to this many unknowns");
    q->add_flag("--direct,!--no-direct", direct, "Also solve with CHOLMOD");
    q->add_option("--gamg", other, "Program escultura-bench-gamg, when it was built");
    bench::OneSolution one;
    auto* w = app.add_subcommand("solve-one", "One solution, in figures for 'solve'");
    w->add_option("part", part, "Part file");
    w->add_option("--size", one.size);
    w->add_option("--method", one.method);
    w->add_option("--poisson", one.poisson);
    w->add_option("--ball", one.ball);
    w->add_option("--factor", one.gridFactor, "Background grid's spacing over the local corner spacing");
    w->add_option("--degree", one.degree, "Degree of the Chebyshev smoother");
    auto* me = app.add_subcommand("members", "What surfaces keep of their fields: members, handles, places");
    me->add_option("parts", cageParts, "Part files");
    auto* fu = app.add_subcommand("fuzz", "Random shapes, surfaces and meshes; goes on where it was stopped");
    int firstSeed = 1, fuzzCount = 10000;
    std::string fuzzState = "build/fuzz.txt";
    fu->add_option("--first", firstSeed, "First seed");
    fu->add_option("--count", fuzzCount, "How many");
    fu->add_option("--state", fuzzState, "File with what is done");
    int bricks = 53;
    std::string support = "plain";
    auto* mo = app.add_subcommand("modes", "Natural frequencies and buckling beside theory");
    auto* k = app.add_subcommand("block", "A remote support on a whole side of a block against plain supports");
    auto* ko = app.add_subcommand("block-one", "One of the two, in figures for 'block'");
    for (auto* c : {k, ko}) c->add_option("--bricks", bricks, "Bricks a side; 53: 3.6 million unknowns");
    ko->add_option("--support", support, "plain or remote");
    auto* x = app.add_subcommand("hostile", "Damaged inputs by the thousand; goes on where it was stopped");
    double share = 1;
    std::string hostileFolder = "build/hostile";
    x->add_option("--share", share, "Of 10,000 parts and fields, 2,000 bodies, 1,000 projects and releases");
    x->add_option("--folder", hostileFolder, "Inputs, state and what failed");
    CLI11_PARSE(app, argc, argv);
    try {
        if (*v) return verify();
        if (*r) return runPart(part);
        if (*me) return bench::benchMembers(cageParts);
        if (*fu) return bench::benchFuzz(firstSeed, fuzzCount, fuzzState);
        if (*x) return bench::benchHostile(share, hostileFolder);
        if (*mo) return bench::runModes() > 0;
        if (*k) return bench::benchBlock(bricks);
        if (*ko) return bench::solveBlock(bricks, support);
        if (*w) return bench::solveOne(part, one);
        if (*q) return bench::benchSolve(part, largest, direct, other);
        if (*s) return benchSurface(part);
        if (*cg) return bench::benchCages(cageParts, cageShapes);
        if (*b) return benchRebuild(part, shapes);
        return meshSizes(part);
    } catch (const std::exception& e) {
        std::fprintf(stderr, "error: %s\n", e.what());
        return 2;
    }
}

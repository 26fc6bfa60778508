#include "solve_bench.hpp"

#include <unistd.h>

#include <chrono>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <fstream>

#include "elastic/multigrid.hpp"
#include "project/project.hpp"
#include "project/run.hpp"
#include "verification.hpp"

namespace escultura::bench {
namespace {

struct Figures {
    double setup = 0, solve = 0, memory = 0, peak = 0;  // s, s, bytes, bytes above the start
    int least = 0, most = 0;                            // iterations
    double unknowns = 0, elements = 0, angle = 0;       // smallest dihedral angle, degrees
    std::string failed;
};

double residentBytes() {
    std::ifstream in("/proc/self/statm");
    double pages = 0, resident = 0;
    in >> pages >> resident;
    return resident * static_cast<double>(sysconf(_SC_PAGESIZE));
}

double peakBytes() {
    std::ifstream in("/proc/self/status");
    for (std::string line; std::getline(in, line);)
        if (line.rfind("VmHWM:", 0) == 0) return 1024 * std::stod(line.substr(6));
    return 0;
}

/// Runs one solution in a process of its own, so that its peak memory is its own and what it frees is really gone.
Figures solveApart(const std::string& arguments) {
    const std::string command = "'" + std::filesystem::read_symlink("/proc/self/exe").string() + "' " + arguments;
    std::string answer;
    if (FILE* in = popen(command.c_str(), "r")) {
        char line[300];
        while (std::fgets(line, sizeof line, in)) answer = line;
        pclose(in);
    }
    Figures f;
    if (std::sscanf(answer.c_str(), "%lf %lf %lf %lf %d %d %lf %lf %lf", &f.setup, &f.solve, &f.memory, &f.peak,
                    &f.least, &f.most, &f.unknowns, &f.elements, &f.angle) != 9)
        f.failed = answer;
    return f;
}

Figures solveApart(const std::string& part, const OneSolution& one) {
    char arguments[600];
    std::snprintf(arguments, sizeof arguments, "solve-one '%s' --size %.9g --method %s --poisson %.4g --ball %.9g",
                  part.c_str(), one.size, one.method.c_str(), one.poisson, one.ball);
    return solveApart(arguments);
}

void printFigures(const elastic::Solution& s, std::size_t elements, double angle, double before) {
    int least = 1000, most = 0;
    for (const auto& c : s.cases) least = std::min(least, c.iterations), most = std::max(most, c.iterations);
    std::printf("%g %g %g %g %d %d %zu %zu %g\n", s.setupSeconds, s.solveSeconds, s.memory, peakBytes() - before, least,
                most, s.unknowns, elements, angle);
}

void put32(std::ofstream& out, std::int32_t v) {
    const std::uint32_t u = __builtin_bswap32(static_cast<std::uint32_t>(v));
    out.write(reinterpret_cast<const char*>(&u), 4);
}
void put64(std::ofstream& out, double v) {
    std::uint64_t u;
    std::memcpy(&u, &v, 8);
    u = __builtin_bswap64(u);
    out.write(reinterpret_cast<const char*>(&u), 8);
}

/// Matrix, right-hand sides and positions in PETSc's binary format, for the comparison program. Held nodes are left
/// out: alone in their aggregates they would make its coarse matrices singular.
void writeSystem(const elastic::System& system, const std::vector<std::vector<Vec3>>& right, const std::string& path) {
    std::ofstream out(path, std::ios::binary);
    const auto& m = system.matrix();
    std::vector<std::int32_t> number(system.rows(), -1);
    std::int32_t kept = 0;
    for (std::size_t r = 0; r < system.rows(); ++r)
        if (system.row(r).freeMask != 0) number[r] = kept++;
    auto forRows = [&](auto visit) {
        for (std::size_t r = 0; r < system.rows(); ++r)
            for (int a = 0; number[r] >= 0 && a < 3; ++a) visit(r, a);
    };
    auto forEntries = [&](std::size_t r, auto visit) {
        for (auto at = m.pattern.offset[r]; at < m.pattern.offset[r + 1]; ++at)
            if (number[m.pattern.column[at]] >= 0) visit(at);
    };
    std::int32_t entries = 0;
    forRows([&](std::size_t r, int) { forEntries(r, [&](auto) { entries += 3; }); });
    put32(out, 1211216);
    put32(out, 3 * kept);
    put32(out, 3 * kept);
    put32(out, entries);
    forRows([&](std::size_t r, int) {
        std::int32_t count = 0;
        forEntries(r, [&](auto) { count += 3; });
        put32(out, count);
    });
    forRows([&](std::size_t r, int) {
        forEntries(r, [&](auto at) {
            for (int b = 0; b < 3; ++b) put32(out, 3 * number[m.pattern.column[at]] + b);
        });
    });
    forRows([&](std::size_t r, int a) {
        forEntries(r, [&](auto at) {
            const Mat3 block = m.block(at);
            for (int b = 0; b < 3; ++b) put64(out, block(a, b));
        });
    });
    auto vector = [&](auto value) {
        put32(out, 1211214);
        put32(out, 3 * kept);
        forRows([&](std::size_t r, int a) { put64(out, value(r)[a]); });
    };
    vector([&](std::size_t r) { return system.row(r).position; });
    put32(out, static_cast<std::int32_t>(right.size()));
    for (const auto& b : right) vector([&](std::size_t r) { return b[r]; });
}

stages::MeshResult meshOf(const project::Project& p, const stages::SurfaceResult& surface, const OneSolution& one) {
    Progress progress;
    duty::Recipe recipe = p.current().recipe;
    recipe.elementSize = one.size;
    auto m = stages::evaluateMesh(p.part, *p.field(), surface, recipe, progress);
    if (one.ball > 0) {
        duty::LocalSize ball;
        ball.centre = m.mesh.position[m.mesh.boundary.front()[0]];
        ball.radius = 8;
        ball.size = one.ball;
        recipe.check.localSizes = {ball};
        m = stages::evaluateMesh(p.part, *p.field(), surface, recipe, progress);
    }
    return m;
}

}  // namespace

int solveOne(const std::string& path, const OneSolution& one) {
    Progress progress;
    project::Project p = project::openPart(path, progress);
    const auto surface = stages::evaluateSurface(p.part, *p.field(), p.current().recipe, progress);
    const auto m = meshOf(p, surface, one);
    elastic::Material material = p.part.material;
    if (one.poisson > 0) material.poissonsRatio = one.poisson;
    const auto model = stages::checkModel(p.part, m.faces, m.mesh);
    elastic::SolveOptions o;
    o.method = one.method == "direct" ? elastic::Method::direct : elastic::Method::multigrid;
    o.memoryLimit = 15e9;
    o.gridFactor = one.gridFactor;
    o.smootherDegree = one.degree;
    const double before = residentBytes();
    const auto s = elastic::solve(m.mesh, material, model.supports[0], model.loads, o, progress);
    printFigures(s, m.mesh.tet.size(), m.quality.minDihedral, before);
    return 0;
}

int solveBlock(int bricks, const std::string& support) {
    Progress progress;
    const double side = 120;
    const mesh::TetMesh m =
        verification::mappedBlock(bricks, bricks, bricks, [&](const Vec3& p) { return Vec3(side * p); });
    elastic::Supports supports;
    if (support == "remote")
        supports.meanHolds.push_back(
            {verification::facesWhere(m, [](const Vec3& p) { return p[2] < 1e-9; }), Vec3(side / 2, side / 2, 0)});
    else
        for (auto n : verification::nodesWhere(m, [](const Vec3& p) { return p[2] < 1e-9; }))
            for (int k = 0; k < 3; ++k) supports.constraints.push_back({n, k, 0});
    elastic::LoadVector load{elastic::NodalForces(m.position.size(), Vec3::Zero()), {}};
    elastic::addSpreadForce(m, verification::facesWhere(m, [&](const Vec3& p) { return p[2] > side - 1e-9; }),
                            Vec3(5000, 2000, -20000), Vec3::Zero(), Vec3(side / 2, side / 2, side), load.forces);
    elastic::SolveOptions o;
    o.method = elastic::Method::multigrid;
    o.memoryLimit = 15e9;
    const elastic::Material steel{"steel", 210000, 0.3, 7.85e-6, 250, "typical"};
    const auto s = elastic::solve(m, steel, supports, {load}, o, progress);
    printFigures(s, m.tet.size(), 0, 0);  // the whole process
    return 0;
}

int benchBlock(int bricks) {
    std::printf(
        "| a side of the block is held by | unknowns | set-up + solve, s | iterations | peak of the process, GB |\n"
        "| --- | --- | --- | --- | --- |\n");
    Figures figures[2];
    for (int i = 0; i < 2; ++i) {
        const std::string support = i ? "remote" : "plain";
        Figures& f = figures[i];
        f = solveApart("block-one --bricks " + std::to_string(bricks) + " --support " + support);
        std::printf("| %s | %.0f | %.1f + %.1f %s | %d | %.2f |\n", i ? "its mean motion" : "its nodes", f.unknowns,
                    f.setup, f.solve, f.failed.c_str(), f.most, f.peak / 1e9);
        std::fflush(stdout);
        if (!f.failed.empty() || f.unknowns <= 0) return 1;
    }
    const double times = (figures[1].setup + figures[1].solve) / (figures[0].setup + figures[0].solve);
    std::printf("\nThe remote support takes %.2f times the time.\n", times);
    return times > 1.3 || figures[1].peak > 5e9 ? 1 : 0;
}

/// Prints what another solver takes for the same equations.
static void benchOther(const std::string& other, const project::Project& p, const stages::SurfaceResult& surface,
                       const OneSolution& one, Progress& progress) {
    const auto file = std::filesystem::temp_directory_path() / "escultura-bench-system.bin";
    {
        const auto m = meshOf(p, surface, one);
        const auto model = stages::checkModel(p.part, m.faces, m.mesh);
        const elastic::System system(m.mesh, p.part.material, model.supports[0], 1.25, progress);
        std::vector<std::vector<Vec3>> right;
        for (const auto& l : model.loads) right.push_back(system.restricted(l.forces));
        writeSystem(system, right, file.string());
    }
    // two ranks; prints "set-up solve iterations memory"
    const std::string command =
        "mpirun --allow-run-as-root --oversubscribe -n 2 '" + other + "' '" + file.string() + "' 2>&1";
    std::string answer;
    if (FILE* in = popen(command.c_str(), "r")) {
        char line[300];
        while (std::fgets(line, sizeof line, in)) answer = line;
        pclose(in);
    }
    double setup = 0, solve = 0, memory = 0;
    int iterations = 0;
    if (std::sscanf(answer.c_str(), "%lf %lf %d %lf", &setup, &solve, &iterations, &memory) == 4)
        std::printf(" %.1f + %.1f | %d | %.2f |", setup, solve, iterations, memory / 1e9);
    else
        std::printf(" failed: %s |", answer.c_str());
    std::filesystem::remove(file);
}

int benchSolve(const std::string& path, double largest, bool direct, const std::string& other) {
    Progress progress;
    project::Project p = project::openPart(path, progress);
    const double usual = p.current().recipe.elementSize;
    const auto surface = stages::evaluateSurface(p.part, *p.field(), p.current().recipe, progress);
    std::printf(
        "%s, %zu load cases, residual 1e-8, 2 threads where there are 2. Memory: what the solver holds (matrix, factor "
        "or "
        "grids, vectors); peak: of a process of its own above the mesh.\n\n",
        p.part.name.c_str(), p.part.loadCases.size());
    std::printf(
        "| size, mm | tetrahedra | unknowns | multigrid set-up + solve, s | iterations | memory, GB | peak, GB | us an "
        "unknown | kB an unknown | CHOLMOD, s | its memory, GB | peak, GB | GAMG set-up + solve of all cases, s | its "
        "iterations | its memory, GB |\n");
    std::printf("| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |\n");
    double lastTime = 0, lastUnknowns = 0, lastMemory = 0;
    std::vector<std::string> growth;
    for (const double wanted : {50e3, 200e3, 600e3, 1.5e6}) {
        if (wanted > largest) break;
        OneSolution one;
        one.size = usual * std::cbrt(4.7e5 / wanted);
        const Figures mine = solveApart(path, one);
        const double unknowns = mine.unknowns;
        std::printf("| %.2f | %.0f | %.0f | %.1f + %.1f %s | %d-%d | %.2f | %.2f | %.1f | %.2f |", one.size,
                    mine.elements, unknowns, mine.setup, mine.solve, mine.failed.c_str(), mine.least, mine.most,
                    mine.memory / 1e9, mine.peak / 1e9, 1e6 * (mine.setup + mine.solve) / unknowns,
                    mine.memory / unknowns / 1e3);
        std::fflush(stdout);
        if (direct && unknowns < 9e5) {
            one.method = "direct";
            const Figures c = solveApart(path, one);
            std::printf(" %.1f %s | %.2f | %.2f |", c.setup + c.solve, c.failed.c_str(), c.memory / 1e9, c.peak / 1e9);
        } else {
            std::printf(" not run | | |");
        }
        std::fflush(stdout);
        if (!other.empty()) benchOther(other, p, surface, one, progress);
        std::printf("\n");
        std::fflush(stdout);
        if (lastUnknowns > 0) {
            char text[200];
            std::snprintf(text, sizeof text, "%.0f -> %.0f unknowns: time an unknown x %.2f, memory an unknown x %.2f",
                          lastUnknowns, unknowns, (mine.setup + mine.solve) / unknowns * lastUnknowns / lastTime,
                          mine.memory / unknowns * lastUnknowns / lastMemory);
            growth.push_back(text);
        }
        lastTime = mine.setup + mine.solve;
        lastUnknowns = unknowns;
        lastMemory = mine.memory;
    }
    std::printf("\n");
    for (const auto& g : growth) std::printf("- %s\n", g.c_str());

    std::printf("\n| harder on the solver | unknowns | set-up + solve, s | iterations |\n| --- | --- | --- | --- |\n");
    OneSolution rubbery{usual, "multigrid", 0.45, 0}, local{usual, "multigrid", 0, usual / 8};
    const Figures f = solveApart(path, rubbery), g = solveApart(path, local);
    std::printf("| Poisson's ratio 0.45 | %.0f | %.1f + %.1f %s | %d-%d |\n", f.unknowns, f.setup, f.solve,
                f.failed.c_str(), f.least, f.most);
    std::printf("| a ball of 8 mm radius 8 x finer (worst angle %.1f degrees) | %.0f | %.1f + %.1f %s | %d-%d |\n",
                g.angle, g.unknowns, g.setup, g.solve, g.failed.c_str(), g.least, g.most);
    return 0;
}

}  // namespace escultura::bench

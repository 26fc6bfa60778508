/// escultura-cli: the whole job without a window.

#include <unistd.h>

#include <CLI/CLI.hpp>
#include <QGuiApplication>
#include <chrono>
#include <cstdio>
#include <filesystem>
#include <iostream>
#include <nlohmann/json.hpp>

#include "base/quantity.hpp"
#include "report/report.hpp"

namespace {

using namespace escultura;
using namespace escultura::project;

constexpr int exitUsage = 2, exitInput = 3, exitSolve = 4;

/// Progress as a line on a terminal, or as JSON lines; nothing in a plain pipe.
class Reporter {
  public:
    Reporter(bool quiet, bool json)
        : bar_(!quiet && !json && isatty(STDERR_FILENO)), json_(json), start_(std::chrono::steady_clock::now()) {}
    ~Reporter() {
        if (bar_) std::fprintf(stderr, "\r\033[K");
    }
    void step(const std::string& name, double share) {
        const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count();
        if (bar_) {
            const int filled = static_cast<int>(20 * std::min(share, 1.0));
            std::fprintf(stderr, "\r\033[K[%s%s] %5.1f s  %s", std::string(filled, '#').c_str(),
                         std::string(20 - filled, '.').c_str(), seconds, name.c_str());
            std::fflush(stderr);
        }
        if (json_ && name != last_) {
            std::fprintf(stderr, "%s\n", nlohmann::json{{"time_s", seconds}, {"step", name}}.dump().c_str());
            last_ = name;
        }
    }

  private:
    bool bar_, json_;
    std::string last_;
    std::chrono::steady_clock::time_point start_;
};

struct RunOptions {
    std::string part, out;
    std::optional<double> threshold;
    std::optional<std::string> elementSize, smoothing;
    std::string level = "standard", solver = "automatic";
    std::optional<std::string> faceSize;
    bool rebuild = false;
    bool quiet = false, jsonLog = false;
};

double length(const std::string& text, const char* option, double least) {
    const double v = parseQuantity(text, dimension::length, "mm");
    if (v < least)
        throw InputError(ErrorDetail{
            "An option is out of range.", {}, option, "a length of at least " + formatNumber(least) + " mm", text});
    return v;
}

int runPart(const RunOptions& o, int argc, char** argv) {
    report::requireWritableFolder(o.out);
    Reporter reporter(o.quiet, o.jsonLog);
    Progress progress([&](const std::string& name, double share) { reporter.step(name, share); });
    const auto start = std::chrono::steady_clock::now();
    Project project = openPart(o.part, progress);
    std::vector<Timing> timings{
        {"Field", std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count()}};
    Recipe& recipe = project.variants[0].recipe;
    if (o.threshold) recipe.threshold = *o.threshold;
    if (!(recipe.threshold > 0 && recipe.threshold <= 1))
        throw InputError(ErrorDetail{"An option is out of range.",
                                     {},
                                     "--threshold",
                                     "a value above 0 and at most 1",
                                     formatNumber(recipe.threshold)});
    if (o.elementSize) recipe.elementSize = length(*o.elementSize, "--element-size", 1e-3);
    recipe.check.level = o.level == "look" ? Level::look : o.level == "converged" ? Level::converged : Level::standard;
    recipe.check.method = o.solver == "direct"      ? elastic::Method::direct
                          : o.solver == "multigrid" ? elastic::Method::multigrid
                                                    : elastic::Method::automatic;
    recipe.check.rebuilt = o.rebuild;
    if (o.faceSize) recipe.rebuild.faceSize = length(*o.faceSize, "--face-size", 1e-3);
    if (o.smoothing) recipe.smoothing = length(*o.smoothing, "--smoothing", 0);
    requireConnected(project.part, *project.field(recipe), recipe);
    for (const Timing& t : run(project, recipe, Stage::findings, progress)) timings.push_back(t);
    qputenv("QT_QPA_PLATFORM", "offscreen");
    const QGuiApplication application(argc, argv);
    render::Renderer renderer;
    report::writeRelease(project, project.variants[0], timings, renderer, o.out, progress);
    if (!o.quiet) {
        const auto check = project.check(recipe);
        std::printf(
            "%s: safety factor %s (%s), mass %s kg, %zu findings\n", project.part.name.c_str(),
            formatNumber(check->minSafetyFactor, 3).c_str(), check->governingCase.c_str(),
            formatNumber((project.rebuild(recipe) ? project.rebuild(recipe)->mass : project.surface(recipe)->mass), 3)
                .c_str(),
            project.findings(recipe)->findings.size());
        if (const auto b = project.rebuild(recipe))
            std::printf("solid: %d faces, volume %s mm3 (limit surface and patches agree within %s %%), %s\n",
                        b->solid.solid.faces, formatNumber(b->solid.solid.volume, 7).c_str(),
                        formatNumber(100 * std::abs(b->solid.free.volume / b->limit.volume - 1), 2).c_str(),
                        b->problems.empty() ? "sound" : b->problems.front().c_str());
        const auto blockers = releaseBlockers(project, project.variants[0]);
        std::printf("release: %s\n", blockers.empty() ? "open" : "blocked");
        for (const auto& b : blockers) std::printf("  %s\n", b.c_str());
        std::printf("written: %s\n", o.out.c_str());
    }
    return 0;
}

/// Figures of a STEP file as JSON: a second process that has seen nothing but the file.
int readStepFile(const std::string& path) {
    const solid::StepFigures s = solid::readStepFigures(path);
    using nlohmann::json;
    auto vec = [](const Vec3& v) { return json::array({v[0], v[1], v[2]}); };
    json j = {{"part", s.partName},         {"solids", s.figures.solids},
              {"faces", s.figures.faces},   {"volume_mm3", s.figures.volume},
              {"area_mm2", s.figures.area}, {"centre_of_gravity_mm", vec(s.figures.centroid)},
              {"valid", s.figures.valid},   {"closed", s.figures.closed},
              {"face_names", s.faceNames},  {"cylinders", json::array()},
              {"planes", json::array()}};
    for (const auto& c : s.cylinders)
        j["cylinders"].push_back({{"diameter_mm", 2 * c.radius}, {"point_mm", vec(c.point)}, {"axis", vec(c.axis)}});
    for (const auto& p : s.planes) j["planes"].push_back({{"point_mm", vec(p[0])}, {"normal", vec(p[1])}});
    std::printf("%s\n", j.dump(2).c_str());
    return 0;
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app{
        "From a density field to a checked part: surface, mesh, static stress check, findings, release folder."};
    app.require_subcommand(1);
    app.set_version_flag("--version", std::string(ESCULTURA_VERSION));
    RunOptions o;
    CLI::App* run = app.add_subcommand(
        "run", "Runs all stages on a part file and writes the release folder, whatever the verdict.");
    run->add_option("part", o.part, "Part file (JSON, see docs/part-file.md)")->required()->type_name("PART.json");
    run->add_option("--out", o.out,
                    "Folder for surface.stl, results.vtu, summary.json, report.html, report.pdf and manifest.json; "
                    "made when missing")
        ->required()
        ->type_name("DIR");
    run->add_option("--threshold", o.threshold, "Density from which a cell is kept, 0 to 1 (default: the part file's)")
        ->type_name("T");
    run->add_option("--level", o.level, "look, standard or converged")
        ->check(CLI::IsMember({"look", "standard", "converged"}));
    run->add_option("--solver", o.solver, "automatic, direct or multigrid")
        ->check(CLI::IsMember({"automatic", "direct", "multigrid"}));
    run->add_option("--element-size", o.elementSize, "Size of the tetrahedra, mm or with a unit (default: 1.45 cells)")
        ->type_name("LENGTH");
    run->add_option("--smoothing", o.smoothing, "Width of the smoothing, mm or with a unit (default: 2 cells; 0: none)")
        ->type_name("LENGTH");
    run->add_flag("--rebuild", o.rebuild,
                  "Rebuild the editable solid, check it instead of the surface, and write solid.step");
    run->add_option("--face-size", o.faceSize,
                    "Edge length of the control cage's faces, mm or with a unit (default: by the walls)")
        ->type_name("LENGTH");
    run->add_flag("--quiet", o.quiet, "Print errors only");
    run->add_flag("--json-log", o.jsonLog, "Progress as one JSON object a line on standard error");
    std::string stepFile;
    CLI::App* step = app.add_subcommand("step", "Prints the figures of a STEP file's solids as JSON.");
    step->add_option("file", stepFile, "STEP file")->required()->type_name("FILE.step");
    run->footer("Exit codes: 0 done, 2 wrong usage, 3 bad input, 4 could not be solved.");
    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& e) {
        const int code = app.exit(e);
        return code == 0 ? 0 : exitUsage;
    }
    const bool wasThere = o.out.empty() || std::filesystem::exists(o.out);
    auto leaveNothing = [&] {  // a folder made for this run goes again when the run fails
        std::error_code ignored;
        if (!wasThere) std::filesystem::remove(o.out, ignored);
    };
    try {
        if (*step) return readStepFile(stepFile);
        return runPart(o, argc, argv);
    } catch (const SolveError& e) {
        leaveNothing();
        std::fprintf(stderr, "error: %s\n", e.what());
        return exitSolve;
    } catch (const InputError& e) {
        leaveNothing();
        std::fprintf(stderr, "error: %s\n", e.what());
        return exitInput;
    } catch (const std::exception& e) {
        leaveNothing();
        std::fprintf(stderr, "error: %s\n", e.what());
        return exitSolve;
    }
}

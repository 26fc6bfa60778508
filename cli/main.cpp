/// escultura-cli: the whole job without a window.

#include <CLI/CLI.hpp>
#include <QGuiApplication>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <iostream>
#include <nlohmann/json.hpp>

#include "base/quantity.hpp"
#include "commands.hpp"
#include "duty/schema.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "judge/requirements.hpp"
#include "project/run.hpp"
#include "report/report.hpp"
#include "stages/forecast.hpp"
#include "stages/plausible.hpp"
#include "store/storage.hpp"

namespace {

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;
using namespace escultura::cli;

struct RunOptions {
    std::string part, out;
    std::optional<double> threshold;
    std::optional<std::string> elementSize, smoothing, surfaceSpacing;
    std::string level = "standard", solver = "automatic";
    std::optional<std::string> faceSize, cageTolerance;
    bool rebuild = false, test = false, untested = false, keepMembers = false;
    std::string save;  // project file
    bool quiet = false, jsonLog = false, replace = false;
};

double length(const std::string& text, const char* option, double least) {
    const double v = parseQuantity(text, dimension::length, "mm");
    if (v < least)
        throw InputError(ErrorDetail{
            "An option is out of range.", {}, option, "a length of at least " + formatNumber(least) + " mm", text});
    return v;
}

int runPart(const RunOptions& o, int argc, char** argv) {
    report::requireReleaseTarget(o.out, o.replace);
    Reporter reporter(o.quiet, o.jsonLog);
    Progress progress([&](const std::string& name, double share) { reporter.step(name, share); });
    const auto start = std::chrono::steady_clock::now();
    Project project = openPart(o.part, progress);
    makeMissingFields(project, progress);
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
    if (o.cageTolerance) recipe.rebuild.tolerance = length(*o.cageTolerance, "--cage-tolerance", 1e-3);
    if (o.surfaceSpacing) recipe.surfaceSpacing = length(*o.surfaceSpacing, "--surface-spacing", 1e-3);
    if (o.smoothing) recipe.smoothing = length(*o.smoothing, "--smoothing", 0);
    recipe.keepMembers = o.keepMembers;
    requireConnected(project.part, *project.field(recipe), recipe);
    requirePlausible(project.part, recipe, *project.field(recipe));
    if (!o.quiet && !o.jsonLog)
        std::fprintf(stderr, "expected: %s\n",
                     stages::words(forecastRun(project.part, recipe, *project.field(recipe), nullptr)).c_str());
    for (const Timing& t : run(project, recipe, Stage::findings, progress)) timings.push_back(t);
    if (o.test || (!o.untested && o.level != "look")) {
        const auto begun = std::chrono::steady_clock::now();
        if (o.test) testHotspots(project, recipe, {}, progress);
        testWhatGoverns(project, recipe, progress);
        timings.push_back({"Tests", std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count()});
    }
    if (!o.save.empty()) saveProject(project, o.save);
    qputenv("QT_QPA_PLATFORM", "offscreen");
    const QGuiApplication application(argc, argv);
    render::Renderer renderer;
    report::writeRelease(project, project.variants[0], timings, renderer, o.out, progress, nullptr, o.replace);
    if (!o.quiet) {
        const auto check = project.check(recipe);
        std::printf(
            "%s: safety factor %s (%s), mass %s kg, %zu findings\n", project.part.name.c_str(),
            factorWords(factorOf(project, project.variants[0], *check)).c_str(), check->governingCase.c_str(),
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
        for (const auto& b : blockers) std::printf("  %s\n", b.text.c_str());
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
                    "must be empty or not there yet")
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
    run->add_option("--surface-spacing", o.surfaceSpacing,
                    "Edge length of the surface's triangles, mm or with a unit (default: 0.8 cells); larger takes less "
                    "memory and time")
        ->type_name("LENGTH");
    run->add_flag("--rebuild", o.rebuild,
                  "Rebuild the editable solid, check it instead of the surface, and write solid.step");
    run->add_option("--face-size", o.faceSize,
                    "Edge length of the control cage's faces, mm or with a unit (default: the largest that keep the "
                    "tolerance)")
        ->type_name("LENGTH");
    run->add_option(
           "--cage-tolerance", o.cageTolerance,
           "Largest distance between cage and surface, mm or with a unit (default: half a cell); the cage gets "
           "the fewest faces that keep it")
        ->type_name("LENGTH")
        ->excludes("--face-size");
    run->add_flag("--quiet", o.quiet, "Print errors only");
    run->add_flag("--json-log", o.jsonLog, "Progress as one JSON object a line on standard error");
    run->add_flag("--test", o.test, "Test every hotspot on finer meshes: real, singular or boundary artefact");
    run->add_flag("--keep-members", o.keepMembers,
                  "Keep the field's volume locally, so that thin members stay; a smoothing of 4.5 cells then takes the "
                  "terraces of the cells away");
    run->add_flag("--untested", o.untested,
                  "Leave out the tests of the hotspots that could govern: the safety factor then proves nothing");
    run->add_flag("--replace", o.replace, "Write over an unsigned release in the folder; a signed one always stays");
    run->add_option("--save", o.save, "Also save the project, to go on with in the window")
        ->type_name("FILE.escultura");
    std::string stepFile;
    CLI::App* step = app.add_subcommand("step", "Prints the figures of a STEP file's solids as JSON.");
    step->add_option("file", stepFile, "STEP file")->required()->type_name("FILE.step");
    SweepOptions sweep;
    CLI::App* study =
        app.add_subcommand("sweep", "Varies numbers of the recipe or the part file, and prints what they do, as JSON.");
    study->add_option("part", sweep.part, "Part file")->required()->type_name("PART.json");
    study
        ->add_option("--kind", sweep.kind,
                     "local: effect of a small step of each; range: one number over a range; "
                     "search: the lightest that meets all requirements")
        ->check(CLI::IsMember({"local", "range", "search"}));
    study
        ->add_option("--vary", sweep.vary,
                     "A number: threshold, smoothing, element_size, or a JSON Pointer into the part file such as "
                     "/interfaces/0/bore_diameter; may be given several times, with =LOW:HIGH after it")
        ->required()
        ->type_name("NUMBER[=LOW:HIGH]");
    study->add_option("--evaluations", sweep.evaluations, "Points of a range, or most evaluations of a search");
    study->add_option("--level", sweep.level, "look or standard")->check(CLI::IsMember({"look", "standard"}));
    study->add_option("--save", sweep.save, "Save the project with the study; a search's winner becomes a variant")
        ->type_name("FILE.escultura");
    study->add_flag("--quiet", sweep.quiet, "No progress");
    StoryOptions story;
    CLI::App* whole = app.add_subcommand(
        "story",
        "From the baseline to a signed release: original, raw variant, hotspots tested, fixes applied until every "
        "requirement is met, findings signed, release folder.");
    whole->add_option("part", story.part, "Part file")->required()->type_name("PART.json");
    whole->add_option("--out", story.out, "Release folder")->required()->type_name("DIR");
    whole->add_option("--name", story.name, "Who signs")->required();
    whole->add_option("--role", story.role, "Role of who signs");
    whole->add_option("--reason", story.reason, "Reason of the dispositions")->required();
    whole->add_option("--date", story.date, "Date of the release (default: today)");
    whole->add_option("--threshold", story.threshold, "Density from which a cell is kept")->type_name("T");
    whole->add_option("--fixes", story.fixes, "Most fixes that are applied");
    whole->add_option("--save", story.save, "Also save the project")->type_name("FILE.escultura");
    whole->add_option("--key", story.key, "Secret key that the release is signed with (see the command key)")
        ->type_name("FILE");
    whole->add_flag("--quiet", story.quiet, "No progress");
    std::string releaseFolder;
    bool filesOnly = false;
    CLI::App* verify = app.add_subcommand(
        "verify-release",
        "Checks a release folder: sums of all files, signature, then everything made again from its inputs.");
    verify->add_option("folder", releaseFolder, "Release folder")->required()->type_name("DIR");
    verify->add_flag("--files-only", filesOnly, "Only the sums and the signature");
    std::string openKey;
    verify->add_option("--key", openKey, "The signer's public key, from elsewhere than the folder")
        ->type_name("FILE.pub");
    std::string keyFile;
    CLI::App* key = app.add_subcommand("key", "Makes a key to sign releases with: a secret file and a public one.");
    key->add_option("file", keyFile, "Where the secret key goes; the public one goes to FILE.pub")
        ->required()
        ->type_name("FILE");
    OptimiseOptions optimiseOptions;
    CLI::App* optimise = app.add_subcommand(
        "optimise", "Makes a density field from the part's own duty (its object 'optimisation', or the options).");
    optimise->add_option("part", optimiseOptions.part, "Part file")->required()->type_name("PART.json");
    optimise->add_option("--out", optimiseOptions.out, "The field")->required()->type_name("FIELD.vti");
    auto* stiffest =
        optimise
            ->add_option("--stiffest", optimiseOptions.stiffest, "Stiffest with this share of the design space, 0 to 1")
            ->type_name("SHARE");
    optimise->add_option("--lightest", optimiseOptions.lightest, "Lightest with this safety factor in every case")
        ->type_name("FACTOR")
        ->excludes(stiffest);
    optimise->add_option("--cell-size", optimiseOptions.cellSize, "Edge length of the cells, mm or with a unit")
        ->type_name("LENGTH");
    optimise
        ->add_option("--filter-radius", optimiseOptions.filterRadius,
                     "Radius over which densities are filtered, mm or with a unit (default: two cells)")
        ->type_name("LENGTH");
    optimise->add_option("--steps", optimiseOptions.steps, "Most steps");
    optimise->add_option("--save", optimiseOptions.save, "Also save a project with the field")
        ->type_name("FILE.escultura");
    optimise->add_flag("--quiet", optimiseOptions.quiet, "Print errors only");
    CLI::App* schema = app.add_subcommand("schema", "Prints the JSON schema of part files.");
    run->footer("Exit codes: 0 done, 2 wrong usage, 3 bad input, 4 could not be solved.");
    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& e) {
        const int code = app.exit(e);
        return code == 0 ? 0 : exitUsage;
    }
    // a file that grows beyond a limit is told like a full disk
    std::signal(SIGXFSZ, SIG_IGN);
    try {
        if (*step) return readStepFile(stepFile);
        if (*study) return runSweep(sweep);
        if (*whole) return tellStory(story, argc, argv);
        if (*verify) return verifyFolder(releaseFolder, !filesOnly, openKey);
        if (*key) return makeKey(keyFile);
        if (*optimise) return optimiseField(optimiseOptions);
        if (*schema) {
            std::fputs(duty::partSchema().c_str(), stdout);
            return 0;
        }
        return runPart(o, argc, argv);
    } catch (const SolveError& e) {
        std::fprintf(stderr, "error: %s\n", e.what());
        return exitSolve;
    } catch (const InputError& e) {
        std::fprintf(stderr, "error: %s\n", e.what());
        return exitInput;
    } catch (const std::bad_alloc&) {
        std::fprintf(stderr,
                     "error: This takes more memory than there is. Use larger elements (--element-size) or edges "
                     "(--surface-spacing).\n");
        return exitSolve;
    } catch (const std::length_error&) {
        std::fprintf(stderr, "error: A size in the input is larger than any that can be held.\n");
        return exitInput;
    } catch (const std::exception& e) {
        std::fprintf(stderr, "error: This must not happen, please report it: %s\n", e.what());
        return exitSolve;
    }
}

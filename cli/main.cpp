/// escultura-cli: the whole job without a window.

#include <CLI/CLI.hpp>
#include <csignal>
#include <cstdio>
#include <nlohmann/json.hpp>

#include "base/quantity.hpp"
#include "commands.hpp"
#include "duty/schema.hpp"
#include "elastic/linear_solver.hpp"
#include "solid/build.hpp"

namespace {

using namespace escultura;
using namespace escultura::cli;

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

CLI::App* addRun(CLI::App& app, RunOptions& o) {
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
    std::vector<std::string> solvers;
    for (const auto& m : elastic::methodKinds) solvers.push_back(m.key);
    run->add_option("--solver", o.solver, "automatic, direct or multigrid")->check(CLI::IsMember(solvers));
    run->add_option("--element-size", o.elementSize, "Size of the tetrahedra, mm or with a unit (default: 1.45 cells)")
        ->type_name("LENGTH");
    run->add_option("--smoothing", o.smoothing,
                    "Width of the smoothing, mm or with a unit (default: 4.5 cells; 0: none)")
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
    run->add_option("--analysis", o.analyses,
                    "Also works out natural_frequencies or buckling; may be given several times. What a requirement "
                    "needs is worked out unasked")
        ->type_name("ANALYSIS");
    run->add_flag("--quiet", o.quiet, "Print errors only");
    run->add_flag("--json-log", o.jsonLog, "Progress as one JSON object a line on standard error");
    run->add_flag("--test", o.test, "Test every hotspot on finer meshes: real, singular or boundary artefact");
    run->add_flag("--one-threshold", o.oneThreshold,
                  "Keep the volume of the whole part by one threshold, not that of the field locally: thick members "
                  "then take what thin ones lose");
    run->add_option("--smallest-member", o.smallestMember,
                    "Thickness below which members of the field are listed, mm or with a unit (default: one cell)")
        ->type_name("LENGTH");
    run->add_option("--thin-members", o.thinMembers,
                    "What becomes of them: keep at their thickness, bring-up to the smallest, or leave-out")
        ->check(CLI::IsMember({"keep", "bring-up", "leave-out"}));
    run->add_option("--edge-radius", o.edgeRadius,
                    "Rounding of edges at the sides of the design space, mm or with a unit (default: 1.6 cells; 0: "
                    "sharp)")
        ->type_name("LENGTH");
    run->add_option("--edge-error", o.edgeError,
                    "Most that the surface's triangles leave rounded edges, fillets and rims by, mm or with a unit "
                    "(default: a fiftieth of a cell; 0: as they come, as with --one-threshold)")
        ->type_name("LENGTH");
    run->add_option("--elements-through", o.elementsThrough,
                    "Least number of elements through every wall (default: 2; 0: as the element size gives)")
        ->check(CLI::Range(0, 4));
    run->add_option("--around-circle", o.aroundCircle,
                    "Least number of elements around a full circle of the surface's curvature (default: as the element "
                    "size gives)")
        ->check(CLI::Range(0, 64));
    run->add_option("--chord-error", o.chordError,
                    "Most that straight edges of elements leave the surface by, mm or with a unit (default: as the "
                    "element size gives)")
        ->type_name("LENGTH");
    run->add_flag("--untested", o.untested,
                  "Leave out the tests of the hotspots that could govern: the safety factor then proves nothing");
    run->add_flag("--replace", o.replace, "Write over an unsigned release in the folder; a signed one always stays");
    run->add_option("--save", o.save, "Also save the project, to go on with in the window")
        ->type_name("FILE.escultura");
    run->footer("Exit codes: 0 done, 2 wrong usage, 3 bad input, 4 could not be solved.");
    return run;
}

CLI::App* addSweep(CLI::App& app, SweepOptions& sweep) {
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
    return study;
}

CLI::App* addStory(CLI::App& app, StoryOptions& story) {
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
    return whole;
}

CLI::App* addOptimise(CLI::App& app, OptimiseOptions& options) {
    CLI::App* optimise = app.add_subcommand(
        "optimise", "Makes a density field from the part's own duty (its object 'optimisation', or the options).");
    optimise->add_option("part", options.part, "Part file")->required()->type_name("PART.json");
    optimise->add_option("--out", options.out, "The field")->required()->type_name("FIELD.vti");
    auto* stiffest =
        optimise->add_option("--stiffest", options.stiffest, "Stiffest with this share of the design space, 0 to 1")
            ->type_name("SHARE");
    optimise->add_option("--lightest", options.lightest, "Lightest with this safety factor in every case")
        ->type_name("FACTOR")
        ->excludes(stiffest);
    optimise->add_option("--cell-size", options.cellSize, "Edge length of the cells, mm or with a unit")
        ->type_name("LENGTH");
    optimise
        ->add_option("--filter-radius", options.filterRadius,
                     "Radius over which densities are filtered, mm or with a unit (default: two cells)")
        ->type_name("LENGTH");
    optimise->add_option("--steps", options.steps, "Most steps");
    optimise->add_option("--save", options.save, "Also save a project with the field")->type_name("FILE.escultura");
    optimise->add_flag("--quiet", options.quiet, "Print errors only");
    return optimise;
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app{
        "From a density field to a checked part: surface, mesh, static stress check, findings, release folder."};
    app.require_subcommand(1);
    app.set_version_flag("--version", std::string(ESCULTURA_VERSION));
    RunOptions o;
    addRun(app, o);
    std::string stepFile;
    CLI::App* step = app.add_subcommand("step", "Prints the figures of a STEP file's solids as JSON.");
    step->add_option("file", stepFile, "STEP file")->required()->type_name("FILE.step");
    SweepOptions sweep;
    CLI::App* study = addSweep(app, sweep);
    StoryOptions story;
    CLI::App* whole = addStory(app, story);
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
    CLI::App* optimise = addOptimise(app, optimiseOptions);
    CLI::App* schema = app.add_subcommand("schema", "Prints the JSON schema of part files.");
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

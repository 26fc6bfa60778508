/// The command `run`: all stages on a part file, and the release folder.

#include "project/run.hpp"

#include <QGuiApplication>
#include <chrono>
#include <cstdio>

#include "base/quantity.hpp"
#include "commands.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "judge/requirements.hpp"
#include "report/report.hpp"
#include "stages/forecast.hpp"
#include "stages/plausible.hpp"
#include "store/storage.hpp"

namespace escultura::cli {

using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;

namespace {

double length(const std::string& text, const char* option, double least) {
    const double v = parseQuantity(text, dimension::length, "mm");
    if (v < least)
        throw InputError(ErrorDetail{
            "An option is out of range.", {}, option, "a length of at least " + formatNumber(least) + " mm", text});
    return v;
}

/// What the options say of the recipe. @throws InputError naming the option that cannot be used
void applyOptions(const RunOptions& o, Recipe& recipe) {
    if (o.threshold) recipe.threshold = *o.threshold;
    if (!(recipe.threshold > 0 && recipe.threshold <= 1))
        throw InputError(ErrorDetail{"An option is out of range.",
                                     {},
                                     "--threshold",
                                     "a value above 0 and at most 1",
                                     formatNumber(recipe.threshold)});
    if (o.elementSize) recipe.elementSize = length(*o.elementSize, "--element-size", 1e-3);
    recipe.check.level = o.level == "look" ? Level::look : o.level == "converged" ? Level::converged : Level::standard;
    for (const auto& m : elastic::methodKinds)
        if (o.solver == m.key) recipe.check.method = m.method;
    recipe.check.rebuilt = o.rebuild;
    if (o.faceSize) recipe.rebuild.faceSize = length(*o.faceSize, "--face-size", 1e-3);
    if (o.cageTolerance) recipe.rebuild.tolerance = length(*o.cageTolerance, "--cage-tolerance", 1e-3);
    if (o.surfaceSpacing) recipe.surfaceSpacing = length(*o.surfaceSpacing, "--surface-spacing", 1e-3);
    if (o.smoothing) recipe.smoothing = length(*o.smoothing, "--smoothing", 0);
    if (o.oneThreshold) recipe.keepMembers = false;
    if (o.smallestMember) recipe.thin.smallest = length(*o.smallestMember, "--smallest-member", 0);
    if (!o.thinMembers.empty())
        recipe.thin.others = o.thinMembers == "keep"       ? MemberFate::keep
                             : o.thinMembers == "bring-up" ? MemberFate::thicken
                                                           : MemberFate::leaveOut;
    if (o.edgeRadius) recipe.edges.radius = length(*o.edgeRadius, "--edge-radius", 0);
    if (o.edgeError) recipe.edgeError = length(*o.edgeError, "--edge-error", 0);
    if (o.aroundCircle) recipe.check.aroundCircle = *o.aroundCircle;
    if (o.chordError) recipe.check.chordError = length(*o.chordError, "--chord-error", 1e-4);
    if (o.elementsThrough) recipe.check.elementsThrough = *o.elementsThrough;
    for (const std::string& kind : o.analyses) {
        requireSound(AnalysisChoice{kind});
        if (!std::count_if(recipe.analyses.begin(), recipe.analyses.end(),
                           [&](const auto& c) { return c.kind == kind; }))
            recipe.analyses.push_back({kind});
    }
}

/// A few lines on what came out.
void printOutcome(const Project& project, const RunOptions& o) {
    const Recipe& recipe = project.variants[0].recipe;
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
    for (const AnalysisChoice& choice : askedAnalyses(project.partOf(recipe), recipe))
        if (const auto found = project.analysis(recipe, choice.kind))
            for (const RequirementKind& figure : findAnalysis(choice.kind)->figures)
                if (const AnalysisFigure* f = found->find(figure.key))
                    std::printf("%s: %s%s%s (counts as %s)\n", f->label.c_str(), formatNumber(f->value).c_str(),
                                f->unit.empty() ? "" : (" " + f->unit).c_str(),
                                f->loadCase.empty() ? "" : (" in " + f->loadCase).c_str(),
                                formatNumber(f->counts).c_str());
    const auto blockers = releaseBlockers(project, project.variants[0]);
    std::printf("release: %s\n", blockers.empty() ? "open" : "blocked");
    for (const auto& b : blockers) std::printf("  %s\n", b.text.c_str());
    std::printf("written: %s\n", o.out.c_str());
}

}  // namespace

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
    applyOptions(o, recipe);
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
    if (!o.quiet) printOutcome(project, o);
    return 0;
}

}  // namespace escultura::cli

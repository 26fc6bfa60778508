#include "stages/forecast.hpp"

#include <algorithm>
#include <cmath>

#include "base/quantity.hpp"
#include "duty/analysis_kind.hpp"
#include "lattice/stuffing.hpp"
#include "stages/check_stage.hpp"

namespace escultura::stages {
namespace {

// Measured on two cores, taken on the high side: surfaces of fields of 0.05 to 4 million cells, checks of 30,000 to 1.5
// million unknowns (docs/verification.md).
constexpr double secondsPerCell = 6e-6, secondsPerVertex = 3e-6;
constexpr double bytesPerCell = 60, bytesPerVertex = 90;
constexpr double programMemory = 0.2e9;                            // bytes, whatever the model
constexpr double secondsPerUnknown = 3e-5, secondsPerCase = 1e-5;  // meshing and stresses; a load case by multigrid
constexpr double secondsDirect = 14, directAt = 3e5;               // factorisation, grows with the square
// a search for modes: second matrix and vectors of the search; as often as there are cases where each has its own
constexpr double bytesPerModeUnknown = 2000, bytesPerMode = 40, secondsPerModeUnknown = 1e-4;
constexpr double longRun = 900;  // s

std::string gigabytes(double bytes) {
    return formatNumber(bytes / 1e9, 2) + " GB";
}

std::string duration(double seconds) {
    return seconds < 90 ? formatNumber(seconds, 2) + " s" : formatNumber(seconds / 60, 2) + " minutes";
}

}  // namespace

RunForecast forecastRun(const Part& part, const Recipe& recipe, const FieldResult& field,
                        const SurfaceResult* surface) {
    RunForecast f;
    const double cells = static_cast<double>(field.field.count());
    f.latticeVertices = lattice::latticeVertices(field.regions.designSpace, recipe.surfaceSpacing);
    f.surfaceSeconds = secondsPerCell * cells + secondsPerVertex * f.latticeVertices;
    f.surfaceMemory = programMemory + bytesPerCell * cells + bytesPerVertex * f.latticeVertices;
    SurfaceResult rough;
    if (!surface) {  // slender bodies have about a third of their elements at the skin
        rough.measures.volume = field.keptVolume->volume(recipe.threshold);
        rough.measures.area = 0.7 * rough.measures.volume / recipe.elementSize;
        surface = &rough;
    }
    const MeshForecast m = forecastMesh(part, *surface, recipe);
    f.elements = m.elements;
    f.unknowns = m.unknowns;
    f.solver = m.solver;
    f.checkMemory = programMemory + m.memory;
    f.thinWalls = m.thinWalls;
    double cases = 0;
    for (const LoadCase& c : part.loadCases) cases += c.use != LoadCase::Use::off;
    f.checkSeconds = f.unknowns * (secondsPerUnknown + (f.solver == "direct" ? 0 : secondsPerCase * cases));
    if (f.solver == "direct") f.checkSeconds += secondsDirect * std::pow(f.unknowns / directAt, 2);
    double most = 0;  // one after the other
    for (const AnalysisChoice& choice : askedAnalyses(part, recipe)) {
        const AnalysisKind& kind = *findAnalysis(choice.kind);
        double modes = 0;  // the more is asked for the more is kept
        for (const AnalysisNumber& n : kind.numbers) modes += choice.number(n.key);
        const bool eachCase = std::any_of(kind.figures.begin(), kind.figures.end(),
                                          [](const RequirementKind& figure) { return figure.ofCase; });
        most = std::max(most, f.unknowns * (bytesPerModeUnknown + bytesPerMode * modes));
        f.checkSeconds += f.unknowns * secondsPerModeUnknown * (eachCase ? std::max(cases, 1.0) : 1);
    }
    f.checkMemory += most;
    return f;
}

std::string checkWords(const RunForecast& f) {
    return "about " + formatNumber(f.elements / 1000, 2) + " k elements, " + formatNumber(f.unknowns / 1000, 3) +
           " k unknowns, " + gigabytes(f.checkMemory) + ", " + duration(f.checkSeconds) + " on two cores (" + f.solver +
           ")";
}

std::string words(const RunForecast& f) {
    return "surface about " + duration(f.surfaceSeconds) + ", " + gigabytes(f.surfaceMemory) + "; check " +
           checkWords(f);
}

std::vector<ReadyNote> forecastNotes(const RunForecast& f, const Recipe& recipe, double memory) {
    std::vector<ReadyNote> notes;
    auto add = [&](ReadyNote::Severity severity, const std::string& text, const std::string& fix) {
        notes.push_back({severity, text, fix, ReadyNote::Place::mesh});
    };
    auto of = [&](const char* what, double needs, double size, double power, const char* option) {
        if (!(memory > 0) || needs < 0.75 * memory) return;
        // the size at which half of the machine would do
        const std::string enough =
            formatNumber(std::ceil(100 * size * std::pow(needs / (0.5 * memory), 1 / power)) / 100, 4);
        add(needs > memory ? ReadyNote::Severity::blocker : ReadyNote::Severity::warning,
            std::string("The ") + what + " would take about " + gigabytes(needs) + " of memory, the machine has " +
                gigabytes(memory) + ".",
            std::string("Use ") + (option[2] == 'e' ? "elements" : "edges of the surface") + " of at least " + enough +
                " mm (" + option + ").");
    };
    of("surface", f.surfaceMemory, recipe.surfaceSpacing, 3, "--surface-spacing");
    of("check", f.checkMemory, recipe.elementSize, f.solver == "direct" ? 4 : 3, "--element-size");
    if (f.surfaceSeconds > longRun)
        add(ReadyNote::Severity::warning, "The surface takes about " + duration(f.surfaceSeconds) + " on two cores.",
            "Longer edges (--surface-spacing) are quicker; it can be cancelled at any time.");
    if (f.checkSeconds > longRun)
        add(ReadyNote::Severity::warning,
            "The check takes about " + duration(f.checkSeconds) + " on two cores, without its tests.",
            "Larger elements (--element-size) are quicker; it can be cancelled at any time.");
    return notes;
}

}  // namespace escultura::stages

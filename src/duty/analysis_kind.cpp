#include "duty/analysis_kind.hpp"

#include <algorithm>

#include "base/error.hpp"
#include "duty/part.hpp"
#include "duty/recipe.hpp"

namespace escultura::duty {

const std::vector<AnalysisKind>& analysisKinds() {
    using Kind = Requirement::Kind;
    static const std::vector<AnalysisKind> all = {
        {.key = "natural_frequencies",
         .words = "natural frequencies",
         .hint = "The lowest frequencies at which the supported part swings by itself, without load.",
         .version = 2,
         .numbers = {{"modes", "modes", "", 6, 1, 40}},
         .figures = {{.kind = Kind::figure,
                      .key = "lowest_frequency",
                      .words = "lowest natural frequency",
                      .unit = "Hz",
                      .isMinimum = true,
                      .dimension = dimension::frequency,
                      .fileUnit = inHertz}}},
        {.key = "buckling",
         .words = "buckling",
         .hint = "The factor on each load case at which thin members give way, by linear theory.",
         .version = 2,
         .numbers = {{"modes", "modes a case", "", 1, 1, 20}},
         .figures = {{.kind = Kind::figure,
                      .key = "buckling_factor",
                      .words = "buckling factor",
                      .unit = "",
                      .isMinimum = true,
                      .ofCase = true}}},
    };
    return all;
}

const AnalysisKind* findAnalysis(const std::string& key) {
    for (const AnalysisKind& a : analysisKinds())
        if (a.key == key) return &a;
    return nullptr;
}

const AnalysisKind* analysisOf(const Requirement& r) {
    if (r.kind == Requirement::Kind::figure)
        for (const AnalysisKind& a : analysisKinds())
            for (const RequirementKind& f : a.figures)
                if (f.key == r.figure) return &a;
    return nullptr;
}

double AnalysisChoice::number(const std::string& key) const {
    const auto own = numbers.find(key);
    if (own != numbers.end()) return own->second;
    if (const AnalysisKind* a = findAnalysis(kind))
        for (const AnalysisNumber& n : a->numbers)
            if (n.key == key) return n.standard;
    throw InputError("The analysis '" + kind + "' has no number '" + key + "'.");
}

AnalysisChoice choiceOf(const Recipe& recipe, const std::string& kind) {
    for (const AnalysisChoice& c : recipe.analyses)
        if (c.kind == kind) return c;
    return {kind};
}

std::vector<AnalysisChoice> askedAnalyses(const Part& part, const Recipe& recipe) {
    std::vector<AnalysisChoice> asked;
    for (const AnalysisKind& a : analysisKinds()) {
        const bool chosen = std::any_of(recipe.analyses.begin(), recipe.analyses.end(),
                                        [&](const AnalysisChoice& c) { return c.kind == a.key; });
        const bool needed = std::any_of(part.requirements.begin(), part.requirements.end(),
                                        [&](const Requirement& r) { return analysisOf(r) == &a; });
        if (chosen || needed) asked.push_back(choiceOf(recipe, a.key));
    }
    return asked;
}

}  // namespace escultura::duty

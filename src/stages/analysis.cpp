#include "stages/analysis.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>

#include "base/error.hpp"
#include "base/text.hpp"

namespace escultura::stages {

// one in each file of analyses/
AnalysisResult naturalFrequencies(const AnalysisInput& input, Progress& progress);
AnalysisResult buckling(const AnalysisInput& input, Progress& progress);

namespace {

struct Analysis {
    const char* key;
    AnalysisResult (*run)(const AnalysisInput&, Progress&);
};

constexpr Analysis analyses[] = {
    {"natural_frequencies", naturalFrequencies},
    {"buckling", buckling},
};

}  // namespace

const AnalysisFigure* AnalysisResult::find(const std::string& key, const std::string& loadCase) const {
    const AnalysisFigure* least = nullptr;
    for (const AnalysisFigure& f : figures)
        if (f.key == key && (loadCase.empty() || f.loadCase == loadCase) && (!least || f.counts < least->counts))
            least = &f;
    return least;
}

void requireSound(const AnalysisChoice& choice) {
    const AnalysisKind* kind = findAnalysis(choice.kind);
    if (!kind) {
        std::string known;
        for (const AnalysisKind& a : analysisKinds()) known += (known.empty() ? "" : ", ") + std::string(a.key);
        throw InputError(
            ErrorDetail{"There is no such analysis.", {}, "analysis", "one of " + known, "'" + choice.kind + "'"});
    }
    for (const auto& [key, value] : choice.numbers) {
        const auto at = std::find_if(kind->numbers.begin(), kind->numbers.end(),
                                     [&](const AnalysisNumber& n) { return n.key == key; });
        if (at == kind->numbers.end())
            throw InputError(
                ErrorDetail{"An analysis has no such number.", {}, kind->words, "one of its numbers", key});
        if (!(value >= at->least && value <= at->most) || (at->whole && value != std::round(value)))
            throw InputError(ErrorDetail{"An analysis cannot use a number.",
                                         {},
                                         std::string(kind->words) + ", " + at->label,
                                         (at->whole ? "a whole number from " : "a number from ") +
                                             plainNumber(at->least) + " to " + plainNumber(at->most),
                                         plainNumber(value)});
    }
}

AnalysisResult runAnalysis(const AnalysisInput& input, Progress& progress) {
    requireSound(input.choice);
    const auto start = std::chrono::steady_clock::now();
    for (const Analysis& a : analyses)
        if (a.key == input.choice.kind) {
            AnalysisResult r = a.run(input, progress);
            r.kind = a.key;
            r.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
            return r;
        }
    throw InputError("The analysis '" + input.choice.kind + "' is described but not made.");
}

}  // namespace escultura::stages

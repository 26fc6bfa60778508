/// The lowest frequencies of the supported part, with its consistent mass.

#include <cmath>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "base/text.hpp"
#include "stages/analyses/mode_parts.hpp"

namespace escultura::stages {
namespace {

/// "moves 73 % of the mass along z, 12 % along x".
std::string shareWords(const Vec3& share) {
    std::string words;
    for (int k = 0; k < 3; ++k)
        if (share[k] >= 0.05)
            words += (words.empty() ? "moves " : ", ") + plainNumber(std::round(100 * share[k])) +
                     (words.empty() ? " % of the mass along " : " % along ") + "xyz"[k];
    return words.empty() ? "the part as a whole hardly moves" : words;
}

}  // namespace

AnalysisResult naturalFrequencies(const AnalysisInput& input, Progress& progress) {
    const Part& part = input.part;
    const CheckModel model = checkModel(part, input.check.faces, input.check.mesh);
    // with several sets of supports that one counts with which the part swings most slowly
    std::vector<elastic::Mode> modes;
    std::string set, others;
    for (std::size_t k = 0; k < model.sets.size(); ++k) {
        auto own =
            elastic::naturalModes(input.check.mesh, part.material, model.supports[k], modeOptions(input), progress);
        if (own.empty()) continue;
        if (model.sets.size() > 1)
            others += (others.empty() ? "" : ", ") + formatNumber(own.front().value, 4) + " Hz " +
                      (model.sets[k].empty() ? "without a set" : "with set '" + model.sets[k] + "'");
        if (!modes.empty() && own.front().value >= modes.front().value) continue;
        modes = std::move(own);
        set = model.sets[k];
    }
    if (modes.empty())
        throw SolveError(ErrorDetail{"The part has no mode to swing in.", part.path, "supports",
                                     "a part that can move between its supports", "every node is held"});
    AnalysisResult r;
    Vec3 sum = Vec3::Zero();
    for (std::size_t i = 0; i < modes.size(); ++i) {
        const elastic::Mode& m = modes[i];
        const std::string number = std::to_string(i + 1);
        AnalysisFigure f;
        f.key = i == 0 ? "lowest_frequency" : "frequency_" + number;
        f.label = i == 0 ? "lowest natural frequency" : "natural frequency " + number;
        f.unit = "Hz";
        f.value = m.value;
        f.counts = m.value * std::max(0.0, 1 - m.meshError - m.error);
        f.note = shareWords(m.share) + "; the mesh may have raised it by " + formatNumber(100 * m.meshError, 2) + " %";
        r.figures.push_back(f);
        r.shapes.push_back({"mode " + number + ", " + formatNumber(m.value) + " Hz", shareWords(m.share), m.shape});
        sum += m.share;
    }
    std::string together;
    for (int k = 0; k < 3; ++k)
        together += (k ? ", " : "") + plainNumber(std::round(100 * sum[k])) +
                    (k ? " % along " : " % of the mass along ") + "xyz"[k];
    r.notes.push_back("The modes together move " + together + ".");
    if (!others.empty())
        r.notes.push_back("Modes with " +
                          (set.empty() ? "the supports of no set" : "the set of supports '" + set + "'") +
                          ", the lowest of: " + others + ".");
    r.notes.push_back(
        "Supports hold as they do in the check; what the part is fastened to and what it carries have no mass here.");
    return r;
}

}  // namespace escultura::stages

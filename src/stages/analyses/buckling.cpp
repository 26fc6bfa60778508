/// The factors on the load cases at which members give way, by linear theory about the unloaded shape.

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/quantity.hpp"
#include "stages/analyses/mode_parts.hpp"

namespace escultura::stages {

AnalysisResult buckling(const AnalysisInput& input, Progress& progress) {
    const Part& part = input.part;
    const CheckModel model = checkModel(part, input.check.faces, input.check.mesh);
    std::vector<std::vector<elastic::Mode>> found(input.check.cases.size());
    for (std::size_t k = 0; k < model.sets.size(); ++k) {
        std::vector<std::size_t> ofSet;
        std::vector<const std::vector<Vec3>*> cases;
        for (std::size_t c = 0; c < found.size(); ++c)
            if (part.supportSetOf(input.check.cases[c].name) == model.sets[k]) {
                ofSet.push_back(c);
                cases.push_back(&input.check.cases[c].displacement);
            }
        if (cases.empty()) continue;
        auto modes = elastic::bucklingModes(input.check.mesh, part.material, model.supports[k], cases,
                                            modeOptions(input), progress);
        for (std::size_t c = 0; c < ofSet.size(); ++c) found[ofSet[c]] = std::move(modes[c]);
    }
    AnalysisResult r;
    for (std::size_t c = 0; c < found.size(); ++c) {
        const CaseResult& checked = input.check.cases[c];
        AnalysisFigure f;
        f.key = "buckling_factor";
        f.label = "buckling factor";
        f.loadCase = checked.name;
        f.value = f.counts = std::numeric_limits<double>::infinity();
        f.note = "nothing buckles under this load";
        for (std::size_t i = 0; i < found[c].size(); ++i) {
            const elastic::Mode& m = found[c][i];
            if (i == 0) {
                f.value = m.value;
                // the stresses that press are off as well, by what the check estimates
                const double mesh = m.meshError + 2 * checked.energyError * checked.energyError;
                f.counts = m.value * std::max(0.0, 1 - mesh - m.error);
                f.note = "the mesh may have raised it by " + formatNumber(100 * mesh, 2) + " %";
            }
            r.shapes.push_back({checked.name + ", factor " + formatNumber(m.value),
                                "mode " + std::to_string(i + 1) + " of this load case", m.shape});
        }
        r.figures.push_back(f);
    }
    r.notes.push_back(
        "Linear theory about the perfect, unloaded shape: a part with imperfections, or one that yields before, gives "
        "way earlier. The requirement's limit must leave room for that.");
    const double yields = input.check.minSafetyFactor;
    const AnalysisFigure* least = r.find("buckling_factor");
    if (least && std::isfinite(least->value) && least->value > yields)
        r.notes.push_back("The part reaches its strength (factor " + formatNumber(yields, 3) +
                          ") before it buckles (factor " + formatNumber(least->value, 3) + ").");
    return r;
}

}  // namespace escultura::stages

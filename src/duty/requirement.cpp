#include "duty/requirement.hpp"

#include "duty/analysis_kind.hpp"

namespace escultura::duty {
const std::vector<RequirementKind>& requirementKinds() {
    static const std::vector<RequirementKind> all = [] {
        std::vector<RequirementKind> kinds = ownRequirementKinds();
        for (const AnalysisKind& a : analysisKinds())
            for (const RequirementKind& figure : a.figures) kinds.push_back(figure);
        return kinds;
    }();
    return all;
}

const RequirementKind& requirementKind(Requirement::Kind kind) {
    return requirementKinds().at(static_cast<std::size_t>(kind));
}

std::size_t indexOf(const Requirement& r) {
    if (r.kind != Requirement::Kind::figure) return static_cast<std::size_t>(r.kind);
    const auto& all = requirementKinds();
    for (std::size_t i = 0; i < all.size(); ++i)
        if (all[i].kind == Requirement::Kind::figure && all[i].key == r.figure) return i;
    return all.size();
}

const RequirementKind& requirementKind(const Requirement& r) {
    return requirementKinds().at(indexOf(r));
}

std::string name(const Requirement& r) {
    return requirementKind(r).words;
}

}  // namespace escultura::duty

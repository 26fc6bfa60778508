#include "judge/releases.hpp"

#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "duty/part_numbers.hpp"
#include "judge/requirements.hpp"
#include "judge/summary.hpp"

namespace escultura::judge {

const Release& addRelease(Project& project, const Variant& variant, const SignOff& s) {
    auto refuse = [](const std::string& place, const std::string& expected, const std::string& found) {
        throw InputError(ErrorDetail{"The part cannot be released.", {}, place, expected, found});
    };
    if (s.name.empty()) refuse("name", "who signs", "nothing");
    if (s.date.empty()) refuse("date", "the day of the release", "nothing");
    const auto blockers = releaseBlockers(project, variant);
    if (!blockers.empty())
        refuse("variant " + variant.name, "nothing in the way",
               blockers.front().text +
                   (blockers.size() > 1 ? " (and " + std::to_string(blockers.size() - 1) + " more)" : std::string()));
    Release r;
    for (const Release& other : project.releases) r.number = std::max(r.number, other.number);
    ++r.number;
    r.variant = variant.id;
    r.variantName = variant.name;
    r.name = s.name;
    r.role = s.role;
    r.date = s.date;
    r.remark = s.remark;
    r.recipe = recipeJson(variant.recipe).dump();
    r.part = project.part.text;
    r.summary = summaryJson(project, variant, {});
    r.check = project.keys(variant.recipe).check;
    project.releases.push_back(std::move(r));
    return project.releases.back();
}

std::vector<Difference> changesSince(const Project& project, const Release& release, const Variant& variant) {
    std::vector<Difference> list;
    if (release.part != project.part.text) list = partDifferences(release.part, project.part.text);
    Recipe then = recipeFrom(nlohmann::json::parse(release.recipe));
    if (!then.numbers.empty()) nameNumbers(parsePart(release.part, project.part.path), then.numbers);
    const auto more = differences(project.part, then, variant.recipe);
    list.insert(list.end(), more.begin(), more.end());
    // the field's contents are no text, but the check's key knows them
    if (list.empty() && release.check != project.keys(variant.recipe).check)
        list.push_back({"density field or method", "as released", "another"});
    return list;
}

const Release* lastRelease(const Project& project, const Variant& variant) {
    const Release* last = nullptr;
    for (const Release& r : project.releases)
        if (r.variant == variant.id && (!last || r.number > last->number)) last = &r;
    return last;
}

}  // namespace escultura::judge

#include <algorithm>
#include <filesystem>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "commands.hpp"
#include "duty/part_edit.hpp"
#include "exchange/writers.hpp"
#include "project/run.hpp"
#include "store/storage.hpp"

namespace escultura::cli {
namespace {

/// The limit that is nearest to its bound or farthest over it: "stress of 'pull' 1.02 of its limit"; empty: none.
std::string worstLimit(const duty::Part& part, const std::vector<double>& limits) {
    if (limits.empty()) return {};
    std::vector<std::string> cases, kinds;  // as the optimisation counts them: each case's limits, then the next case's
    for (const duty::LoadCase& c : part.loadCases)
        if (c.use == duty::LoadCase::Use::check) cases.push_back(c.name);
    for (const duty::Combination& c : part.combinations)
        if (c.on) cases.push_back(c.name);
    if (part.optimisation.safetyFactor > 0) kinds.push_back("stress");
    if (part.optimisation.compliance > 0) kinds.push_back("compliance");
    const auto worst = std::max_element(limits.begin(), limits.end());
    const auto i = static_cast<std::size_t>(worst - limits.begin());
    const std::string share = formatNumber(*worst, 3) + " of its limit";
    if (kinds.empty() || i / kinds.size() >= cases.size()) return "a limit at " + share;
    return kinds[i % kinds.size()] + " of '" + cases[i / kinds.size()] + "' at " + share;
}

}  // namespace

int optimiseField(const OptimiseOptions& o) {
    if (std::filesystem::path(o.out).extension() != ".vti")
        throw InputError(
            ErrorDetail{"The field cannot be written.", o.out, "--out", "a name that ends with .vti", o.out});
    duty::Part part = duty::readPart(o.part);
    duty::Optimisation wanted = part.optimisation;
    auto length = [](const std::string& text) { return parseQuantity(text, dimension::length, "mm"); };
    if (o.stiffest) {
        wanted.aim = duty::Optimisation::Aim::stiffest;
        wanted.share = *o.stiffest;
        wanted.mass = wanted.safetyFactor = wanted.compliance = 0;
    }
    if (o.lightest) {
        wanted.aim = duty::Optimisation::Aim::lightest;
        wanted.safetyFactor = *o.lightest;
        wanted.weights.clear();
    }
    if (o.cellSize) wanted.cellSize = length(*o.cellSize);
    if (o.filterRadius) wanted.filterRadius = length(*o.filterRadius);
    if (o.steps) wanted.steps = *o.steps;
    if (!(wanted == part.optimisation)) part = duty::parsePart(duty::withOptimisation(part, wanted), o.part);
    const stages::GridPlan plan = stages::planGrid(part);
    if (!o.quiet)
        std::printf("%s: %s\n%d x %d x %d cells of %s mm, %zu unknowns, %d cases, about %s MB\n", part.name.c_str(),
                    describe(part.optimisation).c_str(), plan.grid.cells[0], plan.grid.cells[1], plan.grid.cells[2],
                    formatNumber(plan.grid.spacing[0], 4).c_str(), plan.unknowns, plan.cases,
                    formatNumber(plan.memory / 1e6, 3).c_str());
    const auto begin = std::chrono::steady_clock::now();
    Progress progress;
    const stages::MadeField made = stages::makeField(
        part,
        [&](const optimise::Step& s, const field::DensityField&) {
            if (o.quiet) return true;
            const std::string limits = worstLimit(part, s.limits);
            std::printf("%4d  objective %-10s share %-8s sharpness %-4s change %-6s %3d iterations %6.1f s%s%s\n",
                        s.number, formatNumber(s.objective, 5).c_str(), formatNumber(s.share, 4).c_str(),
                        formatNumber(s.sharpness, 3).c_str(), formatNumber(s.change, 2).c_str(), s.iterations,
                        std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count(),
                        limits.empty() ? "" : "  ", limits.c_str());
            std::fflush(stdout);
            return true;
        },
        progress);
    exchange::writeField(o.out, made.field);
    if (!o.save.empty()) {
        project::Project p = project::openPartText(part.text, o.part, progress);
        duty::Recipe& recipe = p.variants[0].recipe;
        stages::MadeField kept = made;
        recipe.field.how = duty::FieldChoice::How::made;
        recipe.field.made = project::storeMadeField(p, recipe, std::move(kept));
        project::run(p, recipe, project::Stage::field, progress);
        store::saveProject(p, o.save);
    }
    if (!o.quiet) {
        for (std::size_t i = 0; i < made.cases.size(); ++i)
            std::printf("%s: compliance %s N mm\n", made.cases[i].c_str(), formatNumber(made.compliance[i], 6).c_str());
        for (const std::string& n : made.notes) std::printf("note: %s\n", n.c_str());
        std::printf("share %s of the design space, %zu steps, %s s\nwritten: %s\n", formatNumber(made.share, 4).c_str(),
                    made.steps.size(), formatNumber(made.seconds, 3).c_str(), o.out.c_str());
    }
    return made.within ? 0 : exitSolve;
}

}  // namespace escultura::cli

/// @file judge/study.hpp
/// Sweeps: what the numbers of a recipe do to its figures, and the lightest recipe that meets every requirement.

#pragma once
#include <functional>
#include <string>
#include <vector>

#include "project/project.hpp"

namespace escultura::judge {
using namespace project;

/// A number of a recipe or of its part file that may be swept.
struct Parameter {
    std::string place;  ///< "threshold", "thickenings/0/amount", or a JSON Pointer into the part file
    std::string label, unit;
    double value = 0;
};
std::vector<Parameter> parametersOf(const Project& project, const Recipe& recipe);
/// @throws InputError when there is no such number
Recipe withParameter(const Project& project, Recipe recipe, const std::string& place, double value);

/// A study of a variant, ready to run, with ranges that suit the parameters: 0.7 to 1.4 of each value (threshold and
/// Poisson's ratio stay in theirs).
/// @throws InputError for an unknown place, no axis, or more axes than the kind takes (range: 1, search: 5)
Study newStudy(const Project& project, const Variant& variant, Study::Kind kind,
               const std::vector<std::string>& places);

/// Figures of a recipe whose check is known: "mass" in kg, "safety factor", "displacement" in mm, and the value of each
/// requirement by its name.
Evaluation figuresOf(const Project& project, const Variant& variant);

/// Goes on with a study until it is complete or cancelled; evaluations that are there already are not repeated. Only
/// reads the project and keeps nothing but figures. A local study checks both sides of every value; a search is COBYLA
/// (Powell 1994) on values scaled to their ranges, with requirements as constraints.
/// @param evaluated  called after each evaluation, with the study so far; may be empty
/// @throws Cancelled; the study keeps what is done
void runStudy(const Project& project, Study& study, Progress& progress,
              const std::function<void(const Study&)>& evaluated);
/// Whether nothing is left to do.
bool isComplete(const Study& study);

/// Effect of a parameter on a figure: its change over one step up, by central difference.
struct Effect {
    std::size_t axis = 0;
    double step = 0;    ///< of the parameter, in its unit
    double change = 0;  ///< of the figure
};
/// Of a local study, largest first; parameters without both evaluations are left out.
std::vector<Effect> rankedEffects(const Study& study, const std::string& figure);

/// The recipe of an evaluation.
Recipe recipeOf(const Project& project, const Study& study, const Evaluation& evaluation);

}  // namespace escultura::judge

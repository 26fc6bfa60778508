/// @file project/run.hpp
/// Running the stages of a recipe: what is known already is not run again.

#pragma once
#include <string>
#include <vector>

#include "base/progress.hpp"
#include "project/project.hpp"

namespace escultura::project {

struct Timing {
    std::string stage;
    double seconds = 0;
};

/// Makes the field that the part's duty asks for with a recipe's numbers and stores it.
/// @return what FieldChoice::made says to use it: Project::madeKey()
std::string runMadeField(const Project& project, const Recipe& recipe, const FieldListener& listener,
                         Progress& progress);
/// Stores a field that was made for a recipe. @return its key
std::string storeMadeField(const Project& project, const Recipe& recipe, MadeField made);
/// Makes the fields of variants that are to be made here and are not yet.
void makeMissingFields(Project& project, Progress& progress);

/// Reads a part and its field, unless it is to be made here; one variant with the default recipe.
Project openPart(const std::string& path, Progress& progress);
/// The same from the text of a part that no file holds yet. @param path  that paths in the text start from
Project openPartText(const std::string& text, const std::string& path, Progress& progress);

/// Stores a field as one of the part's, whatever its path says.
void adoptField(Project& project, std::size_t index, field::DensityField field);

/// Runs what is not there yet, up to and with the given stage (field, surface, rebuild, check or findings). The solid
/// is rebuilt on the way to a check only when the recipe checks it. Only reads the project; results go to
/// project.results. @return seconds of each stage that ran
std::vector<Timing> run(const Project& project, const Recipe& recipe, Stage upTo, Progress& progress);

/// Wraps and fits the control cage of a recipe whose surface is built; nothing when it is known already.
/// @param withTarget  also what it is fitted to, which a stored cage is without
void runCage(const Project& project, const Recipe& recipe, Progress& progress, bool withTarget = false);

/// Reads the original's body, or makes the design space with its interfaces in its place; needs no field that is yet to
/// be made here.
void runOriginal(const Project& project, const Recipe& recipe, Progress& progress);

/// Measures draft and overhangs of the recipe's surface; nothing when it is not built or they are known already.
void runProcess(const Project& project, const Recipe& recipe, Progress& progress);

}  // namespace escultura::project

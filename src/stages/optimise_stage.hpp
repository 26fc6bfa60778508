/// @file stages/optimise_stage.hpp
/// A density field made from the part's own duty: its design space, supports and loads on a grid, optimised.

#pragma once
#include "optimise/optimise.hpp"
#include "stages/field_stage.hpp"

namespace escultura::stages {

/// Size of an optimisation before it is begun.
struct GridPlan {
    optimise::Grid grid;
    std::size_t cells = 0, unknowns = 0;  ///< of the grid
    double memory = 0;                    ///< bytes, about
    double seconds = 0;                   ///< about, on two cores of 2020
    int cases = 0;
};
/// @throws InputError when the part tells no design space, or bodies cannot be read
GridPlan planGrid(const Part& part);
/// The same when the design space's box is known already.
GridPlan planGrid(const Part& part, const Box3& designSpace);

/// A field made here, with how it came about.
struct MadeField {
    field::DensityField field;
    std::string digest;  ///< of the field's contents
    std::vector<optimise::Step> steps;
    std::vector<std::string> cases;
    std::vector<double> compliance;  ///< [cases] N mm
    std::vector<std::string> notes;  ///< what of the duty is simplified
    std::string task;                ///< describe(): what was asked for
    double share = 0;                ///< of the design space
    bool within = true;              ///< limits are met
    double seconds = 0;
};

/// The part's duty on a grid. @param cellSize  mm. @param notes  receives what is simplified
/// @throws InputError when it is not held, not loaded, or an interface keeps no cell
optimise::Problem gridProblem(const Part& part, double cellSize, std::vector<std::string>* notes = nullptr);

/// Called after each step with the field so far. @return whether to go on; else that field is kept
using FieldListener = std::function<bool(const optimise::Step&, const field::DensityField&)>;

/// Makes the field that Part::optimisation asks for.
MadeField makeField(const Part& part, const FieldListener& listener, Progress& progress);

}  // namespace escultura::stages

/// @file stages/field_stage.hpp
/// Stage Field: the density field with what does not depend on the threshold, and what a threshold keeps of it.

#pragma once
#include <memory>
#include <string>
#include <vector>

#include "duty/recipe.hpp"
#include "field/combine.hpp"
#include "field/piece_tree.hpp"
#include "stages/own_frame.hpp"
#include "stages/part_shape.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::stages {

/// Sizes that suit the field's cells: smoothing 2 cells, surface 0.8, elements 1.45.
Recipe defaultRecipe(const Part& part, const field::DensityField& field);

/// Stage Field: the density field and what does not depend on the threshold.
struct FieldResult {
    field::DensityField field;
    Regions regions;
    std::vector<field::KeptCells> kept;  ///< cells of each interface
    std::vector<char> isVoid;            ///< [cells]
    std::shared_ptr<const field::KeptVolume> keptVolume;
    std::shared_ptr<const field::PieceTree> pieces;
    double designVolume = 0;                ///< cells of the design space that are not void by definition, mm3
    double largestConnectingThreshold = 0;  ///< negative: never connected
    /// Of large fields: what is drawn of it, in fewer and fewer cells.
    std::vector<std::shared_ptr<const FieldResult>> drawn;
    OwnFrame frame;
    std::shared_ptr<const FieldResult> own;  ///< the same in the part's own frame, where its geometry is made
};

/// Iso-surface of the densities as they are, closed by a layer of void around the grid.
/// @param smoothed  each cell first takes a quarter of its two neighbours' along each axis (binomial filter), which
///                  takes the steps of cells that are full or empty from the eye of a fit
surface::TriMesh rawSurface(const field::DensityField& field, double threshold, bool smoothed = false);

/// What one threshold keeps. Cheap: computed while a slider is dragged.
struct ThresholdFigures {
    double threshold = 0;
    double volume = 0;  ///< of the cells kept, mm3
    double share = 0;   ///< of the design space
    double mass = 0;    ///< kg
    double grey = 0;    ///< share of the kept cells whose density is below 0.9
    int pieces = 0;
    double largestPieceVolume = 0;  ///< mm3, without cells kept by interfaces only
    int keptPieces = 0;             ///< that the recipe keeps: the largest only, or all that are not too small
    double keptPiecesVolume = 0;    ///< mm3
    std::vector<std::string> connected, cutOff;  ///< interfaces on the largest piece, and the others
};

/// Reads one of the part's fields.
field::DensityField loadField(const Part& part, const NamedField& source, Progress& progress);
/// The field that a choice makes of the part's fields. @param fields  all of them, in order
field::DensityField chosenField(const FieldChoice& choice, const std::vector<const field::DensityField*>& fields);
/// Everything about a field that does not depend on the threshold.
FieldResult prepareField(const Part& part, field::DensityField field, Progress& progress);
FieldResult prepareField(const Part& part, field::DensityField field);
ThresholdFigures thresholdFigures(const Part& part, const FieldResult& field, const Recipe& recipe);
/// The largest threshold at which the kept volume is at least this one. 0.005 to 0.995
double thresholdForVolume(const FieldResult& field, double volume);
/// Labels of the cells that the threshold keeps, for showing them.
field::Pieces piecesAt(const FieldResult& field, double threshold);
/// @throws InputError naming the interfaces that the largest piece does not reach
void requireConnected(const Part& part, const FieldResult& field, const Recipe& recipe);

}  // namespace escultura::stages

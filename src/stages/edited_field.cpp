#include "stages/edited_field.hpp"

#include <algorithm>
#include <limits>

#include "base/parallel.hpp"
#include "stages/surface_figures.hpp"
#include "surface/extract.hpp"

namespace escultura::stages {
namespace {

constexpr double thinForALattice = 1.6;      // cells: thicker members come through a lattice of the usual spacing
constexpr double spacingOfThickness = 0.45;  // of the lattice, about two edges through a member
constexpr double finestSpacing = 0.25;       // cells

/// @param bars  material of the interfaces
std::vector<char> shapedCells(const FieldResult& field, const std::vector<shape::RoundBar>& bars) {
    const auto& f = field.field;
    std::vector<char> shaped(field.isVoid);
    for (int axis = 0; axis < 3; ++axis) {  // a box of two cells around each, one axis at a time
        const std::vector<char> old = shaped;
        const std::size_t stride = axis == 0   ? 1
                                   : axis == 1 ? f.cells[0]
                                               : static_cast<std::size_t>(f.cells[0]) * f.cells[1];
        for (std::size_t c = 0; c < old.size(); ++c) {
            const int at = static_cast<int>(c / stride % f.cells[axis]);
            for (int d = -2; d <= 2; ++d)
                if (at + d >= 0 && at + d < f.cells[axis] && old[c + static_cast<std::ptrdiff_t>(stride) * d])
                    shaped[c] = 1;
        }
    }
    parallelFor(shaped.size(), [&](std::size_t c) {
        for (const shape::RoundBar& bar : bars)
            if (bar.distance(f.centre(c)) < 2 * f.spacing.maxCoeff()) shaped[c] = 1;
    });
    return shaped;
}

/// The field without the pieces that the recipe drops.
field::DensityField keptField(const FieldResult& field, const Recipe& recipe) {
    field::DensityField out = field.field;
    const field::Pieces pieces = piecesAt(field, recipe.threshold);
    if (pieces.pieces() <= 1) return out;
    std::vector<double> volume(pieces.pieces(), 0);
    for (std::size_t c = 0; c < out.count(); ++c)
        if (pieces.label[c] >= 0 && out.density[c] >= recipe.threshold) volume[pieces.label[c]] += out.cellVolume();
    const auto largest = std::max_element(volume.begin(), volume.end()) - volume.begin();
    for (std::size_t c = 0; c < out.count(); ++c) {
        const int p = pieces.label[c];
        if (p < 0 || p == largest) continue;
        if (recipe.largestPieceOnly || volume[p] < recipe.smallestIsland) out.density[c] = 0;
    }
    return out;
}

/// Cells where the field alone says what the body is.
/// @param shaped  [cells] non-zero where the part file shapes it. @return [cells] 0 or 1
std::vector<float> speakingCells(const FieldResult& field, const std::vector<char>& shaped) {
    std::vector<float> speaks(shaped.size());
    const auto& f = field.field;
    const double cell = f.spacing.maxCoeff();
    parallelFor(speaks.size(), [&](std::size_t c) {
        const Vec3 p = f.centre(c);
        const bool inside = field.regions.designSpace.contains(p) &&
                            (!field.regions.designBody || field.regions.designBody->value(p) < -cell);
        speaks[c] = !shaped[c] && inside ? 1.0f : 0.0f;
    });
    return speaks;
}

std::shared_ptr<const IsoSurface> isoSurface(const field::DensityField& cells, double threshold, Progress& progress) {
    return std::make_shared<const IsoSurface>(
        surface::extractSurface(shape::RawBody(cells, threshold), cells.spacing.minCoeff(), false, progress));
}

/// As the field is, but for the pieces that are dropped.
EditedField keptPieces(const Part& part, const FieldResult& field, const Recipe& recipe) {
    EditedField e{keptField(field, recipe)};
    // the interfaces' material does not depend on the free body
    e.shaped = shapedCells(field, buildShape(part, field.regions, nullptr).bars);
    return e;
}

void findVolume(const FieldResult& field, const Recipe& recipe, EditedField& e) {
    if (!recipe.keepMembers) return;
    e.volume = {recipe.threshold, shape::keptShares(e.cells, recipe.threshold), speakingCells(field, e.shaped)};
}

bool changesCells(MemberFate f) {
    return f == MemberFate::thicken || f == MemberFate::leaveOut;
}

}  // namespace

EditedField editedField(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress) {
    EditedField e = keptPieces(part, field, recipe);
    e.iso = isoSurface(e.cells, recipe.threshold, progress);
    e.members = findThinMembers(part, field, recipe, *e.iso, e.shaped, progress);
    if (std::any_of(e.members.begin(), e.members.end(), [](const RawMember& m) { return changesCells(m.told.fate); })) {
        applyFates(e.members, field, recipe, *e.iso, e.cells);
        e.iso = isoSurface(e.cells, recipe.threshold, progress);
    }
    findVolume(field, recipe, e);
    if (recipe.keepMembers) {
        e.thin = thicknessNear(e.cells, *e.iso, thinForALattice * e.cells.spacing.minCoeff(), progress);
        e.hasThin = std::any_of(e.thin.begin(), e.thin.end(), [](float t) { return t > 0; });
    }
    return e;
}

EditedField followedField(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress) {
    const auto& decisions = recipe.thin.decisions;
    if (changesCells(recipe.thin.others) ||
        std::any_of(decisions.begin(), decisions.end(), [](const MemberDecision& d) { return changesCells(d.fate); }))
        return editedField(part, field, recipe, progress);
    EditedField e = keptPieces(part, field, recipe);
    findVolume(field, recipe, e);
    return e;
}

double EditedField::spacingAt(const Vec3& p) const {
    const double thickness = thin[cellAt(cells, p)];
    if (!(thickness > 0)) return std::numeric_limits<double>::infinity();
    return std::max(spacingOfThickness * thickness, finestSpacing * cells.spacing.minCoeff());
}

}  // namespace escultura::stages

#include "stages/edited_field.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/parallel.hpp"
#include "stages/surface_figures.hpp"
#include "surface/extract.hpp"

namespace escultura::stages {
namespace {

constexpr double thinForALattice = 1.6;      // cells: thicker members come through a lattice of the usual spacing
constexpr double spacingOfThickness = 0.45;  // of the lattice, about two edges through a member
constexpr double finestSpacing = 0.25;       // cells

}  // namespace

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

namespace {

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

surface::TriMesh isoSurface(const field::DensityField& cells, double threshold, Progress& progress) {
    return surface::extractSurface(shape::RawBody(cells, threshold), cells.spacing.minCoeff(), false, progress);
}

}  // namespace

EditedField editedField(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress) {
    EditedField e{keptField(field, recipe), {}, {}};
    e.iso = isoSurface(e.cells, recipe.threshold, progress);
    const std::vector<char> shaped = shapedCells(field, buildShape(part, field.regions, nullptr).bars);
    e.members = findThinMembers(part, field, recipe, e.iso, shaped, progress);
    const bool changes = std::any_of(e.members.begin(), e.members.end(), [](const RawMember& m) {
        return m.told.fate == MemberFate::thicken || m.told.fate == MemberFate::leaveOut;
    });
    if (changes) {
        applyFates(e.members, field, recipe, e.iso, e.cells);
        e.iso = isoSurface(e.cells, recipe.threshold, progress);
    }
    e.thin = thicknessNear(e.cells, e.iso, thinForALattice * e.cells.spacing.minCoeff(), progress);
    e.hasThin = std::any_of(e.thin.begin(), e.thin.end(), [](float t) { return t > 0; });
    return e;
}

double EditedField::spacingAt(const Vec3& p) const {
    const Vec3 x = (p - cells.origin).cwiseQuotient(cells.spacing);
    std::array<int, 3> c;
    for (int a = 0; a < 3; ++a) c[a] = std::clamp(static_cast<int>(std::floor(x[a])), 0, cells.cells[a] - 1);
    const double thickness = thin[cells.index(c[0], c[1], c[2])];
    if (!(thickness > 0)) return std::numeric_limits<double>::infinity();
    return std::max(spacingOfThickness * thickness, finestSpacing * cells.spacing.minCoeff());
}

/// The same cells, without what only the list of members needs.
field::DensityField editedCells(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress) {
    auto changes = [](MemberFate f) { return f == MemberFate::thicken || f == MemberFate::leaveOut; };
    const bool any =
        changes(recipe.thin.others) || std::any_of(recipe.thin.decisions.begin(), recipe.thin.decisions.end(),
                                                   [&](const MemberDecision& d) { return changes(d.fate); });
    return any ? editedField(part, field, recipe, progress).cells : keptField(field, recipe);
}

}  // namespace escultura::stages

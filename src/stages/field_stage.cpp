#include "stages/field_stage.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <set>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "elastic/stress.hpp"
#include "stages/coarser_field.hpp"
#include "stages/findings_stage.hpp"
#include "surface/surface_nets.hpp"

namespace escultura::stages {
Recipe defaultRecipe(const Part& part, const field::DensityField& field) {
    const double cell = field.spacing.minCoeff();
    Recipe r;
    r.threshold = part.threshold;
    r.smoothing = 4.5 * cell;
    r.keepMembers = true;
    r.edges.radius = 1.6 * cell;
    r.edgeError = 0.02 * cell;
    r.check.elementsThrough = 2;
    r.surfaceSpacing = 0.8 * cell;
    r.elementSize = 1.45 * cell;
    return r;
}

surface::TriMesh rawSurface(const field::DensityField& f, double threshold, bool smoothed) {
    surface::SampledGrid grid;
    for (int a = 0; a < 3; ++a) {
        grid.n[a] = f.cells[a] + 2;
        grid.spacing[a] = f.spacing[a];
        grid.origin[a] = f.origin[a] - 0.5 * f.spacing[a];
    }
    std::vector<float> padded(static_cast<std::size_t>(grid.n[0]) * grid.n[1] * grid.n[2], 0.0f);
    for (int k = 0; k < f.cells[2]; ++k)
        for (int j = 0; j < f.cells[1]; ++j)
            std::copy_n(&f.density[f.index(0, j, k)], f.cells[0],
                        &padded[1 + static_cast<std::size_t>(grid.n[0]) *
                                        (j + 1 + static_cast<std::size_t>(grid.n[1]) * (k + 1))]);
    const std::size_t strides[] = {1, static_cast<std::size_t>(grid.n[0]),
                                   static_cast<std::size_t>(grid.n[0]) * static_cast<std::size_t>(grid.n[1])};
    for (int axis = 0; smoothed && axis < 3; ++axis) {
        const std::vector<float> before = padded;
        const std::size_t step = strides[axis];
        // the layer of void stays void: it has no neighbours on one side
        for (int k = 1; k + 1 < grid.n[2]; ++k)
            for (int j = 1; j + 1 < grid.n[1]; ++j)
                for (int i = 1; i + 1 < grid.n[0]; ++i) {
                    const std::size_t at = i * strides[0] + j * strides[1] + k * strides[2];
                    padded[at] = 0.5f * before[at] + 0.25f * (before[at - step] + before[at + step]);
                }
    }
    grid.value = padded;
    return surface::surfaceNets(grid, static_cast<float>(threshold));
}

field::DensityField loadField(const Part& part, const NamedField& source, Progress& progress) {
    progress.step("Reading the field " + source.name);
    std::optional<Box3> cover;
    if ((part.designSpace.low.array() < part.designSpace.high.array()).all()) cover = part.designSpace;
    return exchange::readField(source.source, cover, progress);
}

field::DensityField chosenField(const FieldChoice& choice, const std::vector<const field::DensityField*>& fields) {
    if (choice.how == FieldChoice::How::one) {
        if (choice.which < 0 || choice.which >= static_cast<int>(fields.size()))
            throw InputError(ErrorDetail{"The variant asks for a field that the part does not have.",
                                         {},
                                         "field",
                                         "one of " + std::to_string(fields.size()),
                                         "number " + std::to_string(choice.which + 1)});
        return *fields[choice.which];
    }
    const auto how = choice.how == FieldChoice::How::maximum ? field::Combination::maximum
                     : choice.how == FieldChoice::How::mean  ? field::Combination::mean
                                                             : field::Combination::weightedSum;
    return field::combine(fields, how, choice.weights);
}

namespace {

/// A field's result in a frame. What does not depend on places is shared.
std::shared_ptr<const FieldResult> turned(const FieldResult& r, const OwnFrame& frame) {
    auto own = std::make_shared<FieldResult>();
    own->field = into(frame, r.field);
    own->frame = frame;
    own->regions.designSpace = into(frame, r.regions.designSpace);
    auto body = [&](const surface::MeshBody& b) {
        return std::make_shared<const surface::MeshBody>(into(frame, b.mesh()), b.offset());
    };
    if (r.regions.designBody) own->regions.designBody = body(*r.regions.designBody);
    for (const auto& b : r.regions.keepOutBodies) own->regions.keepOutBodies.push_back(body(*b));
    own->kept = r.kept;
    for (field::KeptCells& k : own->kept) {
        for (std::size_t& c : k.cells) c = into(frame, r.field, c);
        std::sort(k.cells.begin(), k.cells.end());
    }
    own->isVoid = into(frame, r.field, r.isVoid);
    own->keptVolume = r.keptVolume;
    own->pieces = r.pieces;
    own->designVolume = r.designVolume;
    own->largestConnectingThreshold = r.largestConnectingThreshold;
    return own;
}

}  // namespace

FieldResult prepareField(const Part& part, field::DensityField field, Progress& progress) {
    FieldResult r;
    r.field = std::move(field);
    progress.step("Reading the regions", 0.2);
    r.regions = loadRegions(part, r.field.bounds());
    progress.step("Finding the interfaces' cells", 0.3);
    r.kept = keptCells(part, r.field);
    r.isVoid = voidCells(part, r.regions, r.field);
    progress.step("Connecting the interfaces", 0.6);
    r.pieces = std::make_shared<field::PieceTree>(r.field, r.kept);
    r.keptVolume = std::make_shared<field::KeptVolume>(r.field, r.pieces->order());
    r.designVolume =
        r.field.cellVolume() * static_cast<double>(orderedSum(r.field.count(), std::size_t(0), [&](std::size_t c) {
            const Vec3 p = r.field.centre(c);
            return static_cast<std::size_t>(!r.isVoid[c] && r.regions.designSpace.contains(p) &&
                                            (!r.regions.designBody || r.regions.designBody->value(p) < 0));
        }));
    r.largestConnectingThreshold = r.pieces->largestConnectingThreshold();
    for (const std::size_t most : {10 * mostDrawnCells, mostDrawnCells})
        if (r.field.count() > most) r.drawn.push_back(coarserField(r.field, r.kept, most));
    r.frame = ownFrame(part, r.field);
    r.own = turned(r, r.frame);
    return r;
}

FieldResult prepareField(const Part& part, field::DensityField field) {
    Progress progress;
    return prepareField(part, std::move(field), progress);
}

field::Pieces piecesAt(const FieldResult& field, double threshold) {
    return field::findPieces(field.field, threshold, field.kept);
}

ThresholdFigures thresholdFigures(const Part& part, const FieldResult& field, const Recipe& recipe) {
    ThresholdFigures t;
    const double cell = field.field.cellVolume();
    const field::PieceCounts pieces = field.pieces->at(recipe.threshold);
    if (pieces.cells == 0)
        throw InputError(ErrorDetail{"The threshold keeps nothing.", field.field.source,
                                     "threshold " + formatNumber(recipe.threshold),
                                     "a threshold at or below the highest density", "no cell at or above it"});
    t.threshold = recipe.threshold;
    t.volume = static_cast<double>(pieces.cells) * cell;
    t.share = field.designVolume > 0 ? t.volume / field.designVolume : 0;
    t.mass = t.volume * part.material.density;
    t.grey = field.keptVolume->greyShare(recipe.threshold);
    t.pieces = static_cast<int>(pieces.pieceCells.size());
    t.largestPieceVolume = static_cast<double>(pieces.pieceCells.front()) * cell;
    for (std::size_t p = 0; p < pieces.pieceCells.size(); ++p) {
        const double volume = static_cast<double>(pieces.pieceCells[p]) * cell;
        if (p > 0 && (recipe.largestPieceOnly || volume < recipe.smallestIsland || volume == 0)) break;
        ++t.keptPieces;
        t.keptPiecesVolume += volume;
    }
    for (std::size_t i = 0; i < part.interfaces.size(); ++i)
        (pieces.pieceOfInterface[i] == 0 ? t.connected : t.cutOff).push_back(part.interfaces[i].name);
    return t;
}

double thresholdForVolume(const FieldResult& field, double volume) {
    return std::clamp(field.keptVolume->thresholdFor(volume), 0.005, 0.995);
}

void requireConnected(const Part& part, const FieldResult& field, const Recipe& recipe) {
    const ThresholdFigures t = thresholdFigures(part, field, recipe);
    if (t.cutOff.empty()) return;
    std::string names;
    for (const auto& n : t.cutOff) names += (names.empty() ? "" : ", ") + n;
    throw InputError(ErrorDetail{
        "The threshold cuts interfaces off: the check is refused.", field.field.source,
        "threshold " + formatNumber(recipe.threshold),
        field.largestConnectingThreshold > 0
            ? "at most " + formatNumber(field.largestConnectingThreshold) + ", the largest that connects all interfaces"
            : "a field that connects all interfaces",
        "cut off: " + names});
}

}  // namespace escultura::stages

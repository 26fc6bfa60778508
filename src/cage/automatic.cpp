#include "cage/automatic.hpp"

#include <algorithm>
#include <cmath>

#include "base/both.hpp"
#include "cage/clearances.hpp"
#include "cage/patches.hpp"
#include "cage/split.hpp"

namespace escultura::cage {
namespace {

/// Vertices of faces that lie too far from the target in either direction.
std::vector<char> poorVertices(const Cage& cage, const CageDeviation& d, const std::vector<std::int32_t>& folded,
                               double limit) {
    std::vector<char> poor(cage.position.size(), 0);
    auto mark = [&](std::int32_t face) {
        for (auto v : cage.face[face]) poor[v] = 1;
    };
    for (std::size_t f = 0; f < cage.face.size(); ++f)
        if (d.ofFace[f] > limit) mark(static_cast<std::int32_t>(f));
    for (auto f : folded) mark(f);
    for (std::size_t v = 0; v < d.back.size(); ++v)
        if (d.backFace[v] >= 0 && d.back[v] > limit) mark(d.backFace[v]);
    return poor;
}

constexpr int mostTries = 12, mostFits = 3;
constexpr std::size_t cheapPatches = 3000;  // faces whose patches are made in a fraction of the fit's time

/// @param last  with the body itself instead of its triangles
void fitAndMeasure(AutomaticCage& a, const Target& target, const AutomaticOptions& options, double fairness,
                   int iterations, bool last, Progress& progress) {
    FitOptions fit;
    fit.symmetry = options.symmetry;
    fit.fairness = fairness;
    fit.iterations = iterations;
    fit.exact = last ? 2 : 0;
    fitCage(a.cage, target, fit, progress);
    parallelBoth([&] { a.deviation = deviationOf(a.cage, target, last ? 4 : 3, progress, last); },
                 [&] {
                     a.folded = foldedFaces(a.cage, 5, last ? 6 : 3);
                     a.report = inspect(a.cage);
                 });
    a.agrees = isRight(a.report, target);
}

/// Orders results: right pieces and handles, no folds, within the bars (1 and below), then the deviation.
double badness(const AutomaticCage& a, const Target& target, const AutomaticOptions& o) {
    const CageDeviation& d = a.deviation;
    const double rms = std::max(d.rms, d.backRms) / (o.rms > 0 ? o.rms : 0.01 * d.edge),
                 largest = std::max(d.largest, d.backLargest) / (o.largest > 0 ? o.largest : 0.12 * d.edge);
    return 1e4 * (std::abs(a.report.genus - target.measures().genus) +
                  10 * std::abs(a.report.pieces - target.measures().parts())) +
           (a.report.closed && a.report.manifold ? 0 : 1e6) + 100.0 * static_cast<double>(a.folded.size()) +
           std::max(rms, largest);
}

}  // namespace

namespace {

/// Splits faces where the fit still deviates or folds, and fits again, as long as it gets better.
void adapt(AutomaticCage& best, const Target& target, const AutomaticOptions& options, Progress& progress) {
    for (int round = 0; round < 3; ++round) {
        const double limit = options.largest > 0 ? 0.85 * options.largest : options.tolerance * best.deviation.edge;
        std::vector<char> poor = poorVertices(best.cage, best.deviation, best.folded, limit);
        if (std::count(poor.begin(), poor.end(), 1) == 0) break;
        AutomaticCage a;
        a.cage = best.cage;
        a.faceSize = best.faceSize;
        a.tries = best.tries;
        splitAround(a.cage, std::move(poor), target, options.symmetry);
        fitAndMeasure(a, target, options, 1, 7, false, progress);
        if (badness(a, target, options) >= badness(best, target, options)) break;
        best = std::move(a);
    }
}

}  // namespace

bool isRight(const CageReport& r, const Target& target) {
    return r.closed && r.manifold && r.pieces == target.measures().parts() && r.genus == target.measures().genus;
}

AutomaticCage automaticCage(const std::function<double(const Vec3&)>& value, const Box3& bounds, const Target& target,
                            const AutomaticOptions& options, Progress& progress) {
    AutomaticCage best;
    double size = options.faceSize;
    if (!(size > 0)) size = std::sqrt(target.measures().area / std::max(20, options.faceCount));
    const Clearances clearances(target, (0.5 * options.thickest + 0.6) * size);
    const Vec3 shifts[] = {{0, 0, 0}, {0.5, 0.5, 0.5}, {0.25, 0.5, 0.75}, {0.5, 0, 0.25}};
    double least = -1;
    int fits = 0;
    for (int attempt = 0; attempt < mostTries && fits < mostFits; ++attempt) {
        WrapOptions w;
        w.faceSize = size * std::pow(0.9, attempt / 2);
        w.shift = shifts[attempt % 4];
        w.symmetry = options.symmetry;
        w.pieces = target.measures().parts();
        // a wrap with other handles or pieces is not worth tidying, but for the last
        w.wanted = [&](const Cage&, const CageReport& r) { return attempt + 1 == mostTries || isRight(r, target); };
        AutomaticCage a;
        const WrapReady filled(value, clearances, options.thickest * w.faceSize, 1.2 * w.faceSize, 0);
        a.cage = wrapBody(filled, bounds, target.mesh(), target.tree(), w, progress);
        a.faceSize = w.faceSize;
        a.report = inspect(a.cage);
        if (!isRight(a.report, target) && attempt + 1 < mostTries) continue;
        ++fits;
        a.tries = attempt + 1;
        fitAndMeasure(a, target, options, 0.1, 7, false, progress);
        // where whole stubs are missing no splitting helps
        const bool stubs = std::max(a.deviation.largest, a.deviation.backLargest) > a.deviation.edge;
        if (options.adapt && (!stubs || fits == mostFits)) adapt(a, target, options, progress);
        fitAndMeasure(a, target, options, 0.1, a.cage.face.size() < 3000 ? 8 : 4, true, progress);
        double b = badness(a, target, options);
        // where vertices with three edges meet patches can keep a kink: another wrap is tried when that takes no time
        if (b < 2 && a.cage.face.size() < cheapPatches && makePatches(a.cage).irregularJump >= 1) b += 1;
        if (least < 0 || b < least) {
            least = b;
            best = std::move(a);
        }
        if (least <= 1) break;
    }
    return best;
}

}  // namespace escultura::cage

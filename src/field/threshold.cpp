#include "field/threshold.hpp"

#include <algorithm>
#include <numeric>

#include "base/disjoint_sets.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::field {
namespace {

/// Calls visit(neighbour) for the face neighbours of a cell.
template <class Visit>
void forFaceNeighbours(const DensityField& f, std::size_t c, const Visit& visit) {
    const std::size_t nx = f.cells[0], ny = f.cells[1], nz = f.cells[2];
    const std::size_t i = c % nx, j = c / nx % ny, k = c / (nx * ny);
    if (i > 0) visit(c - 1);
    if (i + 1 < nx) visit(c + 1);
    if (j > 0) visit(c - nx);
    if (j + 1 < ny) visit(c + nx);
    if (k > 0) visit(c - nx * ny);
    if (k + 1 < nz) visit(c + nx * ny);
}

}  // namespace

KeptVolume::KeptVolume(const DensityField& field) : sorted_(field.density), cellVolume_(field.cellVolume()) {
    std::sort(sorted_.begin(), sorted_.end(), std::greater<>());
}

KeptVolume::KeptVolume(const DensityField& field, const std::vector<std::uint32_t>& order)
    : cellVolume_(field.cellVolume()) {
    sorted_.reserve(order.size());
    for (auto c : order) sorted_.push_back(field.density[c]);
}

double KeptVolume::greyShare(double threshold, double solid) const {
    const double kept = volume(threshold);
    return kept > 0 ? std::max(0.0, kept - volume(std::max(solid, threshold))) / kept : 0;
}

double KeptVolume::volume(double threshold) const {
    const auto end = std::partition_point(sorted_.begin(), sorted_.end(), [&](float v) { return v >= threshold; });
    return static_cast<double>(end - sorted_.begin()) * cellVolume_;
}

double KeptVolume::thresholdFor(double volume) const {
    const auto wanted = static_cast<std::size_t>(std::max(1.0, std::ceil(volume / cellVolume_ - 1e-9)));
    return wanted > sorted_.size() ? 0.0 : sorted_[wanted - 1];
}

std::vector<double> KeptVolume::histogram(int bins) const {
    std::vector<double> share(bins, 0.0);
    double above = 0;
    for (int b = bins - 1; b >= 0; --b) {
        const double all =
            b ? volume(static_cast<double>(b) / bins) : static_cast<double>(sorted_.size()) * cellVolume_;
        share[b] = (all - above) / (static_cast<double>(sorted_.size()) * cellVolume_);
        above = all;
    }
    return share;
}

Pieces findPieces(const DensityField& field, double threshold, std::span<const KeptCells> interfaces) {
    const std::size_t n = field.count();
    std::vector<char> kept(n, 0);
    std::size_t keptByDensity = 0;
    for (std::size_t c = 0; c < n; ++c) keptByDensity += kept[c] = field.density[c] >= threshold;
    if (keptByDensity == 0) {
        throw InputError(ErrorDetail{"The threshold keeps nothing.", field.source,
                                     "threshold " + formatNumber(threshold),
                                     "a threshold at or below the highest density, " +
                                         formatNumber(*std::max_element(field.density.begin(), field.density.end())),
                                     "no cell at or above it"});
    }
    for (const KeptCells& interface : interfaces)
        for (std::size_t c : interface.cells) kept[c] = 1;

    DisjointSets<std::uint32_t> sets(n);
    for (std::size_t c = 0; c < n; ++c) {
        if (!kept[c]) continue;
        forFaceNeighbours(field, c, [&](std::size_t d) {
            if (d < c && kept[d]) sets.join(static_cast<std::uint32_t>(c), static_cast<std::uint32_t>(d));
        });
    }
    std::vector<std::size_t> size(n, 0);
    for (std::size_t c = 0; c < n; ++c)
        if (kept[c]) ++size[sets.find(static_cast<std::uint32_t>(c))];
    std::vector<std::uint32_t> roots;
    for (std::size_t c = 0; c < n; ++c)
        if (size[c]) roots.push_back(static_cast<std::uint32_t>(c));
    std::stable_sort(roots.begin(), roots.end(), [&](auto a, auto b) { return size[a] > size[b]; });

    Pieces pieces;
    std::vector<std::int32_t> pieceOfRoot(n, -1);
    for (std::uint32_t root : roots) {
        pieceOfRoot[root] = static_cast<std::int32_t>(pieces.cellCount.size());
        pieces.cellCount.push_back(size[root]);
    }
    pieces.label.assign(n, -1);
    for (std::size_t c = 0; c < n; ++c)
        if (kept[c]) pieces.label[c] = pieceOfRoot[sets.find(static_cast<std::uint32_t>(c))];
    for (const KeptCells& interface : interfaces)
        pieces.pieceOfInterface.push_back(interface.cells.empty() ? -1 : pieces.label[interface.cells.front()]);
    return pieces;
}

double largestConnectingThreshold(const DensityField& field, std::span<const KeptCells> interfaces) {
    if (interfaces.size() < 2) return 1.0;
    const std::size_t n = field.count();
    DisjointSets<std::uint32_t> sets(n);
    std::vector<char> active(n, 0);
    auto activate = [&](std::size_t c) {
        if (active[c]) return;
        active[c] = 1;
        forFaceNeighbours(field, c, [&](std::size_t d) {
            if (active[d]) sets.join(static_cast<std::uint32_t>(c), static_cast<std::uint32_t>(d));
        });
    };
    for (const KeptCells& interface : interfaces) {
        if (interface.cells.empty()) return -1;
        for (std::size_t c : interface.cells) activate(c);
    }
    auto connected = [&] {
        const auto root = sets.find(static_cast<std::uint32_t>(interfaces[0].cells[0]));
        return std::all_of(interfaces.begin(), interfaces.end(), [&](const KeptCells& interface) {
            return sets.find(static_cast<std::uint32_t>(interface.cells[0])) == root;
        });
    };
    std::vector<std::uint32_t> order(n);
    std::iota(order.begin(), order.end(), 0);
    std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return field.density[a] > field.density[b]; });
    if (connected()) return 1.0;
    for (std::size_t at = 0; at < n;) {
        const float value = field.density[order[at]];
        for (; at < n && field.density[order[at]] == value; ++at) activate(order[at]);
        if (connected()) return value;
    }
    return -1;
}

}  // namespace escultura::field

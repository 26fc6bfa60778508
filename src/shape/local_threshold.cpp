#include "shape/local_threshold.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>

#include "base/parallel.hpp"
#include "shape/cell_grid.hpp"
#include "shape/raw_body.hpp"

namespace escultura::shape {
namespace {

constexpr double lowest = 0.03, highest = 0.92;   // beyond them a density is as good as empty or full
constexpr double volumeBlur = 5;                  // sigma in cells over which volume is kept
constexpr double slimBlur = 2.5, thinBlur = 1.2;  // the same in slim and thin members: what is beside must not count
constexpr int slimReach = 9, thinReach = 2;       // squared radius in cells of the balls that they do not hold
constexpr double updateBlur = 1.0;                // of the changes: keeps the threshold smooth
constexpr double leastTarget = 0.02;              // blurred volume below which nothing is there to keep
constexpr double gain = 0.3;
constexpr int steps = 24;
constexpr int bareSteps = 16;        // that keep volume alone; the rest also keeps thin members and gaps joined
constexpr double leastDepth = 0.03;  // density by which their cells and the faces between them are on their side
constexpr double depthBlur = 0.6;    // sigma in cells of what keeps them there
constexpr double depthGain = 3;

void blur(CellGrid& g, double sigma, std::vector<float>& scratch) {
    const std::vector<double> kernel = gaussian(sigma);
    for (int axis = 0; axis < 3; ++axis) convolve(g, axis, kernel, scratch);
}
void blur(CellGrid& g, double sigma) {
    std::vector<float> scratch;
    blur(g, sigma, scratch);
}

/// Values of a quadratic B-spline at the cells' middles.
CellGrid atMiddles(const CellGrid& coefficients) {
    CellGrid g = coefficients;
    for (int axis = 0; axis < 3; ++axis) convolve(g, axis, {0.75, 0.125});
    return g;
}

/// Share of a cell on the side of {value >= 0}, by eight samples and the slope there. @param v  at the middles
double enclosed(const CellGrid& v, int i, int j, int k) {
    auto at = [&](int a, int b, int c) { return static_cast<double>(v.v[v.at(i + a, j + b, k + c)]); };
    const double middle = at(0, 0, 0);
    const double x[2] = {at(-1, 0, 0), at(1, 0, 0)}, y[2] = {at(0, -1, 0), at(0, 1, 0)},
                 z[2] = {at(0, 0, -1), at(0, 0, 1)};
    // quadratic along each axis through the three middles
    const double gx = 0.5 * (x[1] - x[0]), gy = 0.5 * (y[1] - y[0]), gz = 0.5 * (z[1] - z[0]);
    const double hx = x[0] + x[1] - 2 * middle, hy = y[0] + y[1] - 2 * middle, hz = z[0] + z[1] - 2 * middle;
    const double most =
        0.5 * (std::abs(gx) + std::abs(gy) + std::abs(gz)) + 0.125 * (std::abs(hx) + std::abs(hy) + std::abs(hz));
    if (std::abs(middle) > 2 * most + 1e-3) return middle > 0;
    double sum = 0;
    for (int s = 0; s < 8; ++s) {
        const double u = s & 1 ? 0.25 : -0.25, w = s & 2 ? 0.25 : -0.25, q = s & 4 ? 0.25 : -0.25;
        const double value = middle + u * gx + w * gy + q * gz + 0.5 * (u * u * hx + w * w * hy + q * q * hz);
        const double slope = std::sqrt(std::pow(gx + u * hx, 2) + std::pow(gy + w * hy, 2) + std::pow(gz + q * hz, 2));
        sum += std::clamp(0.5 + value / std::max(0.5 * slope, 1e-3), 0.0, 1.0);
    }
    return sum / 8;
}

/// Grows marked cells by a ball, or shrinks them. @param reach  squared radius in cells
std::vector<char> spread(const std::vector<char>& marked, const std::array<int, 3>& n, int reach, bool grow) {
    std::vector<std::array<int, 3>> ball;
    const int radius = static_cast<int>(std::sqrt(reach));
    for (int c = -radius; c <= radius; ++c)
        for (int b = -radius; b <= radius; ++b)
            for (int a = -radius; a <= radius; ++a)
                if (a * a + b * b + c * c <= reach) ball.push_back({a, b, c});
    std::vector<char> out(marked.size());
    auto at = [&](int i, int j, int k) {
        return i + static_cast<std::size_t>(n[0]) * (j + static_cast<std::size_t>(n[1]) * k);
    };
    parallelFor(static_cast<std::size_t>(n[2]), [&](std::size_t slab) {
        const int k = static_cast<int>(slab);
        for (int j = 0; j < n[1]; ++j)
            for (int i = 0; i < n[0]; ++i) {
                bool found = false;  // a marked cell when growing, one that is not when shrinking
                for (const auto& [a, b, c] : ball) {
                    // the body goes on beyond the grid
                    const int x = std::clamp(i + a, 0, n[0] - 1), y = std::clamp(j + b, 0, n[1] - 1),
                              z = std::clamp(k + c, 0, n[2] - 1);
                    found = (marked[at(x, y, z)] != 0) == grow;
                    if (found) break;
                }
                out[at(i, j, k)] = found == grow;
            }
    });
    return out;
}

/// Marked cells that no ball of that size within the marked ones reaches. A single layer on what is thick is a step of
/// a curved face, not a member, unless it is the root of one.
std::vector<char> tooThin(const std::vector<char>& marked, const std::array<int, 3>& cells, int reach) {
    const std::vector<char> thick = spread(spread(marked, cells, reach, false), cells, reach, true);
    const std::vector<char> beside = spread(thick, cells, 1, true);
    std::vector<char> thin(marked.size());
    for (std::size_t c = 0; c < thin.size(); ++c) thin[c] = marked[c] && !beside[c];
    const std::vector<char> roots = spread(thin, cells, 3, true);
    for (std::size_t c = 0; c < thin.size(); ++c) thin[c] = marked[c] && !thick[c] && roots[c];
    return thin;
}

/// 1 at marked cells, falling smoothly to 0 around them.
CellGrid softened(const std::vector<char>& marked, const std::array<int, 3>& cells) {
    CellGrid w{cells, {marked.begin(), marked.end()}};
    blur(w, 1.0);
    for (float& v : w.v) v = std::min(1.0f, 4 * v);
    return w;
}

}  // namespace

ThinPlaces thinPlaces(const LocalVolume& volume, const std::array<int, 3>& cells) {
    const std::size_t count = volume.target.size();
    std::vector<char> kept(count), empty(count);
    for (std::size_t c = 0; c < count; ++c) {
        kept[c] = volume.target[c] > 0.5f;
        empty[c] = !kept[c];
    }
    ThinPlaces thin{tooThin(kept, cells, thinReach), tooThin(empty, cells, thinReach), {}, {}};
    thin.nearThin = softened(thin.member, cells);
    thin.nearSlim = softened(tooThin(kept, cells, slimReach), cells);
    return thin;
}

namespace {

/// What is missing for thin cells, and for the faces between two of them, to lie on their side of the threshold:
/// positive where the threshold must rise. @param above  density above the threshold, with a margin around the cells
CellGrid missingDepth(const CellGrid& above, const ThinPlaces& thin, const std::array<int, 3>& cells, int margin) {
    CellGrid missing{cells, std::vector<float>(thin.member.size(), 0.0f)};
    const int step[4][3] = {{0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {0, 0, 1}};
    for (int k = 0; k < cells[2]; ++k)
        for (int j = 0; j < cells[1]; ++j) {
            const std::size_t row = missing.at(0, j, k);
            const auto isMarked = [&](const std::vector<char>& marks) {
                return std::memchr(marks.data() + row, 1, static_cast<std::size_t>(cells[0])) != nullptr;
            };
            if (!isMarked(thin.member) && !isMarked(thin.gap)) continue;
            for (int i = 0; i < cells[0]; ++i) {
                const std::size_t c = missing.at(i, j, k);
                if (!thin.member[c] && !thin.gap[c]) continue;
                const float side = thin.member[c] ? 1.0f : -1.0f;
                for (const auto& s : step) {
                    const int x = i + s[0], y = j + s[1], z = k + s[2];
                    if (x >= cells[0] || y >= cells[1] || z >= cells[2]) continue;
                    const std::size_t other = missing.at(x, y, z);
                    if (!(thin.member[c] ? thin.member : thin.gap)[other]) continue;
                    const float here = above.v[above.at(i + margin, j + margin, k + margin)];
                    const float there = above.v[above.at(x + margin, y + margin, z + margin)];
                    const float needed = static_cast<float>(leastDepth) - side * 0.5f * (here + there);
                    if (needed <= 0) continue;
                    for (const std::size_t at : {c, other})
                        if (std::abs(missing.v[at]) < needed) missing.v[at] = -side * needed;
                }
            }
        }
    return missing;
}

/// (have - target) / target, blurred, into `e`.
void relativeError(const CellGrid& difference, const CellGrid& target, double sigma, CellGrid& e,
                   std::vector<float>& scratch) {
    e = difference;
    blur(e, sigma, scratch);
    parallelFor(
        e.v.size(), [&](std::size_t c) { e.v[c] /= std::max(target.v[c], static_cast<float>(leastTarget)); }, 8192);
}

}  // namespace

std::vector<float> keptShares(const field::DensityField& f, double threshold) {
    constexpr int fine = 4;  // samples along each side of a cell
    double weight[fine][5];  // of the cells from two before to two after
    for (int s = 0; s < fine; ++s) {
        const double at = (s + 0.5) / fine - 0.5;
        std::fill(weight[s], weight[s] + 5, 0.0);
        const int first = at < 0 ? 0 : 1;
        const std::array<double, 4> w = cubicWeights(at < 0 ? at + 1 : at);
        for (int k = 0; k < 4; ++k) weight[s][first + k] = w[static_cast<std::size_t>(k)];
    }
    const int nx = f.cells[0], ny = f.cells[1], nz = f.cells[2];
    std::vector<float> share(f.count());
    parallelFor(
        static_cast<std::size_t>(ny) * nz,
        [&](std::size_t row) {
            const int j = static_cast<int>(row % ny), k = static_cast<int>(row / ny);
            for (int i = 0; i < nx; ++i) {
                float v[5][5][5], least = 1e30f, most = -1e30f;
                for (int c = 0; c < 5; ++c)
                    for (int b = 0; b < 5; ++b)
                        for (int a = 0; a < 5; ++a) {
                            const int x = i + a - 2, y = j + b - 2, z = k + c - 2;
                            const bool inside = x >= 0 && y >= 0 && z >= 0 && x < nx && y < ny && z < nz;
                            // the body ends in the middle of the grid's last cells only where their density says so
                            v[c][b][a] = inside ? f.density[f.index(x, y, z)]
                                                : f.density[f.index(std::clamp(x, 0, nx - 1), std::clamp(y, 0, ny - 1),
                                                                    std::clamp(z, 0, nz - 1))];
                            if (a > 0 && a < 4 && b > 0 && b < 4 && c > 0 && c < 4) {
                                least = std::min(least, v[c][b][a]);
                                most = std::max(most, v[c][b][a]);
                            }
                        }
                float& out = share[f.index(i, j, k)];
                if (least >= threshold || most < threshold) {
                    out = least >= threshold ? 1.0f : 0.0f;
                    continue;
                }
                double x[5][5][fine], y[5][fine][fine];
                for (int c = 0; c < 5; ++c)
                    for (int b = 0; b < 5; ++b)
                        for (int s = 0; s < fine; ++s) {
                            x[c][b][s] = 0;
                            for (int a = 0; a < 5; ++a) x[c][b][s] += weight[s][a] * v[c][b][a];
                        }
                for (int c = 0; c < 5; ++c)
                    for (int r = 0; r < fine; ++r)
                        for (int s = 0; s < fine; ++s) {
                            y[c][r][s] = 0;
                            for (int b = 0; b < 5; ++b) y[c][r][s] += weight[r][b] * x[c][b][s];
                        }
                int kept = 0;
                for (int q = 0; q < fine; ++q)
                    for (int r = 0; r < fine; ++r)
                        for (int s = 0; s < fine; ++s) {
                            double value = 0;
                            for (int c = 0; c < 5; ++c) value += weight[q][c] * y[c][r][s];
                            kept += value >= threshold;
                        }
                out = static_cast<float>(kept) / (fine * fine * fine);
            }
        },
        1);
    return share;
}

CellGrid localThreshold(const CellGrid& smoothed, const std::array<int, 3>& cells, int margin,
                        const LocalVolume& volume, const ThinPlaces& thin, Progress& progress) {
    const CellGrid middles = atMiddles(smoothed);
    CellGrid threshold{smoothed.n, std::vector<float>(smoothed.v.size(), static_cast<float>(volume.threshold))};
    CellGrid wanted{cells, volume.target};
    for (std::size_t c = 0; c < wanted.v.size(); ++c) wanted.v[c] *= volume.speaks[c];
    CellGrid target = wanted, slimTarget = wanted, thinTarget = wanted;
    // large grids are made once: the steps would spend their time on fresh memory
    std::vector<float> scratch, paddedScratch;
    CellGrid wide, slim, close, change, depth;
    blur(target, volumeBlur, scratch);
    blur(slimTarget, slimBlur, scratch);
    blur(thinTarget, thinBlur, scratch);
    CellGrid have{cells, std::vector<float>(volume.target.size())};
    CellGrid above = middles;
    for (int step = 0; step < steps; ++step) {
        progress.step("Keeping the members' volume", static_cast<double>(step) / steps);
        parallelFor(
            above.v.size(), [&](std::size_t c) { above.v[c] = middles.v[c] - threshold.v[c]; }, 8192);
        parallelFor(
            static_cast<std::size_t>(cells[1]) * cells[2],
            [&](std::size_t row) {
                const int j = static_cast<int>(row % cells[1]), k = static_cast<int>(row / cells[1]);
                for (int i = 0; i < cells[0]; ++i) {
                    const std::size_t c = have.at(i, j, k);
                    have.v[c] =
                        volume.speaks[c] > 0
                            ? volume.speaks[c] * static_cast<float>(enclosed(above, i + margin, j + margin, k + margin))
                            : 0;
                }
            },
            16);
        parallelFor(
            have.v.size(), [&](std::size_t c) { have.v[c] -= wanted.v[c]; }, 8192);
        relativeError(have, target, volumeBlur, wide, scratch);
        relativeError(have, slimTarget, slimBlur, slim, scratch);
        relativeError(have, thinTarget, thinBlur, close, scratch);
        parallelFor(
            have.v.size(),
            [&](std::size_t c) {
                const float e = wide.v[c] + thin.nearSlim.v[c] * (slim.v[c] - wide.v[c]);
                have.v[c] = e + thin.nearThin.v[c] * (close.v[c] - e);
            },
            8192);
        putMargin(have, margin, change);
        blur(change, updateBlur, paddedScratch);
        if (step >= bareSteps) {
            putMargin(missingDepth(above, thin, cells, margin), margin, depth);
            blur(depth, depthBlur, paddedScratch);
            parallelFor(
                change.v.size(),
                [&](std::size_t c) { change.v[c] += static_cast<float>(depthGain / gain) * depth.v[c]; }, 8192);
        }
        parallelFor(
            threshold.v.size(),
            [&](std::size_t c) {
                threshold.v[c] =
                    static_cast<float>(std::clamp<double>(threshold.v[c] + gain * change.v[c], lowest, highest));
            },
            8192);
    }
    return threshold;
}

}  // namespace escultura::shape

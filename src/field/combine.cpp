#include "field/combine.hpp"

#include <algorithm>
#include <cmath>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"

namespace escultura::field {
namespace {

bool sameGrid(const DensityField& a, const DensityField& b) {
    return a.cells == b.cells && (a.origin - b.origin).norm() < 1e-6 * a.spacing.minCoeff() &&
           (a.spacing - b.spacing).norm() < 1e-9 * a.spacing.minCoeff();
}

/// The first field's grid, extended in whole cells over all fields.
DensityField commonGrid(std::span<const DensityField* const> fields) {
    DensityField g;
    g.spacing = fields[0]->spacing;
    g.source = fields[0]->source;
    for (int a = 0; a < 3; ++a) {
        double before = 0, after = fields[0]->cells[a];
        for (const DensityField* f : fields) {
            before = std::max(before, std::ceil((fields[0]->origin[a] - f->origin[a]) / g.spacing[a] - 1e-6));
            after = std::max(after, std::ceil((f->bounds().high[a] - fields[0]->origin[a]) / g.spacing[a] - 1e-6));
        }
        g.cells[a] = static_cast<int>(before + after);
        g.origin[a] = fields[0]->origin[a] - before * g.spacing[a];
    }
    if (static_cast<double>(g.cells[0]) * g.cells[1] * g.cells[2] > 2e8)
        throw InputError(ErrorDetail{"The fields lie too far apart to be combined.", fields[0]->source, "grid",
                                     "fields of one part", "more than 200 million cells"});
    g.density.assign(static_cast<std::size_t>(g.cells[0]) * g.cells[1] * g.cells[2], 0.0f);
    return g;
}

}  // namespace

DensityField resample(const DensityField& field, const DensityField& grid) {
    DensityField out = grid;
    if (sameGrid(field, grid)) {
        out.density = field.density;
        return out;
    }
    // overlap lengths along each axis; the volume shares are their products
    struct Overlap {
        int cell;
        double share;
    };
    std::array<std::vector<std::vector<Overlap>>, 3> along;
    for (int a = 0; a < 3; ++a) {
        along[a].resize(grid.cells[a]);
        for (int i = 0; i < grid.cells[a]; ++i) {
            const double low = (grid.origin[a] + i * grid.spacing[a] - field.origin[a]) / field.spacing[a];
            const double high = low + grid.spacing[a] / field.spacing[a];
            const int first = std::max(0, static_cast<int>(std::floor(low)));
            for (int c = first; c < field.cells[a] && c < high; ++c) {
                const double length = std::min<double>(high, c + 1) - std::max<double>(low, c);
                if (length > 1e-9) along[a][i].push_back({c, length / (high - low)});
            }
        }
    }
    parallelFor(
        static_cast<std::size_t>(grid.cells[1]) * grid.cells[2],
        [&](std::size_t row) {
            const int j = static_cast<int>(row % grid.cells[1]), k = static_cast<int>(row / grid.cells[1]);
            for (int i = 0; i < grid.cells[0]; ++i) {
                double sum = 0;
                for (const Overlap& z : along[2][k])
                    for (const Overlap& y : along[1][j])
                        for (const Overlap& x : along[0][i])
                            sum += z.share * y.share * x.share * field.density[field.index(x.cell, y.cell, z.cell)];
                out.density[out.index(i, j, k)] = static_cast<float>(sum);
            }
        },
        16);
    return out;
}

DensityField combine(std::span<const DensityField* const> fields, Combination how, std::span<const double> weights) {
    if (fields.empty()) throw InputError("There is no field to combine.");
    if (how == Combination::weightedSum) {
        if (weights.size() != fields.size())
            throw InputError(ErrorDetail{"The weights do not fit the fields.",
                                         {},
                                         "weights",
                                         std::to_string(fields.size()) + " weights",
                                         std::to_string(weights.size())});
        for (double w : weights)
            if (!(w >= 0) || !std::isfinite(w))
                throw InputError(
                    ErrorDetail{"The weights do not fit the fields.", {}, "weights", "zero or more", formatNumber(w)});
    }
    DensityField out = commonGrid(fields);
    std::string names;
    for (std::size_t n = 0; n < fields.size(); ++n) {
        const DensityField f = resample(*fields[n], out);
        names += (n ? ", " : "") + fields[n]->source;
        parallelFor(out.count(), [&](std::size_t c) {
            float& v = out.density[c];
            switch (how) {
                case Combination::maximum:
                    v = std::max(v, f.density[c]);
                    break;
                case Combination::mean:
                    v += f.density[c] / static_cast<float>(fields.size());
                    break;
                case Combination::weightedSum:
                    v += static_cast<float>(weights[n]) * f.density[c];
                    break;
            }
        });
    }
    for (float& v : out.density) v = std::min(v, 1.0f);
    static const char* words[] = {"maximum of ", "mean of ", "weighted sum of "};
    out.source = words[static_cast<int>(how)] + names;
    return out;
}

Comparison compare(const DensityField& first, double firstThreshold, const DensityField& second,
                   double secondThreshold) {
    const DensityField* both[2] = {&first, &second};
    Comparison c;
    c.grid = commonGrid(both);
    const DensityField a = resample(first, c.grid), b = resample(second, c.grid);
    c.where.resize(c.grid.count());
    std::array<std::size_t, 4> count{};
    for (std::size_t i = 0; i < c.where.size(); ++i) {
        c.where[i] =
            static_cast<std::uint8_t>((a.density[i] >= firstThreshold) | (b.density[i] >= secondThreshold) << 1);
        ++count[c.where[i]];
    }
    c.grid.density = a.density;
    const double cell = c.grid.cellVolume();
    c.onlyFirst = static_cast<double>(count[1]) * cell;
    c.onlySecond = static_cast<double>(count[2]) * cell;
    c.both = static_cast<double>(count[3]) * cell;
    return c;
}

}  // namespace escultura::field

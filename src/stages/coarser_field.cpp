#include "stages/coarser_field.hpp"

#include <algorithm>

#include "base/parallel.hpp"

namespace escultura::stages {

std::shared_ptr<const FieldResult> coarserField(const field::DensityField& f, const std::vector<field::KeptCells>& kept,
                                                std::size_t most) {
    auto out = std::make_shared<FieldResult>();
    field::DensityField& g = out->field;
    int block = 1;
    auto countWith = [&](int n) {
        std::size_t count = 1;
        for (int a = 0; a < 3; ++a) count *= static_cast<std::size_t>((f.cells[a] + n - 1) / n);
        return count;
    };
    while (countWith(block) > most) ++block;
    for (int a = 0; a < 3; ++a) g.cells[a] = (f.cells[a] + block - 1) / block;
    g.origin = f.origin;
    g.spacing = block * f.spacing;
    g.source = f.source;
    g.density.resize(countWith(block));
    const auto nx = static_cast<std::size_t>(g.cells[0]), ny = static_cast<std::size_t>(g.cells[1]);
    parallelFor(ny * static_cast<std::size_t>(g.cells[2]), [&](std::size_t row) {
        const int j = block * static_cast<int>(row % ny), k = block * static_cast<int>(row / ny);
        for (std::size_t i = 0; i < nx; ++i) {
            double sum = 0;
            int count = 0;
            const int x = block * static_cast<int>(i);
            for (int c = k; c < std::min(k + block, f.cells[2]); ++c)
                for (int b = j; b < std::min(j + block, f.cells[1]); ++b)
                    for (int a = x; a < std::min(x + block, f.cells[0]); ++a, ++count)
                        sum += f.density[f.index(a, b, c)];
            g.density[i + nx * row] = static_cast<float>(sum / count);
        }
    });
    const auto fx = static_cast<std::size_t>(f.cells[0]), fy = static_cast<std::size_t>(f.cells[1]),
               n = static_cast<std::size_t>(block);
    for (const field::KeptCells& k : kept) {
        field::KeptCells fewer{k.name, {}};
        for (const std::size_t c : k.cells)
            fewer.cells.push_back(g.index(static_cast<int>(c % fx / n), static_cast<int>(c / fx % fy / n),
                                          static_cast<int>(c / (fx * fy) / n)));
        std::sort(fewer.cells.begin(), fewer.cells.end());
        fewer.cells.erase(std::unique(fewer.cells.begin(), fewer.cells.end()), fewer.cells.end());
        out->kept.push_back(std::move(fewer));
    }
    return out;
}

}  // namespace escultura::stages

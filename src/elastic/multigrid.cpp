/// Transfers between levels, their Galerkin products, the smoother and the cycle. Long because they are one method: no
/// piece can be read apart from the others.

#include "elastic/multigrid.hpp"

#include <Eigen/Dense>
#include <Eigen/SparseCholesky>
#include <algorithm>
#include <cmath>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"

namespace escultura::elastic {
namespace {

typedef float Float4 __attribute__((vector_size(16), aligned(16)));  // four right-hand sides

/// How the unknowns of a level follow from those of the next coarser one, and the transpose.
struct Transfer {
    std::vector<std::int32_t> offset, node;  // [rows + 1], coarse nodes
    std::vector<float> weight;
    std::vector<std::int32_t> blockAt;  // [rows] first 3x3 block of a row that needs them; -1: weight * identity
    std::vector<float> block;           // [.][9]
    std::vector<std::int32_t> backOffset, backEntry, backRow;  // [coarse + 1], entries and rows of each coarse node

    std::size_t rows() const { return offset.size() - 1; }
    std::size_t bytes() const {
        return 4 * (offset.size() + node.size() + weight.size() + blockAt.size() + block.size() + backOffset.size() +
                    backEntry.size() + backRow.size());
    }
    const float* blockOf(std::size_t row, std::int32_t entry) const {
        return blockAt[row] < 0 ? nullptr : &block[9 * static_cast<std::size_t>(blockAt[row] + entry - offset[row])];
    }
    void transpose(std::size_t coarse) {
        backOffset.assign(coarse + 1, 0);
        for (auto n : node) ++backOffset[n + 1];
        for (std::size_t n = 0; n < coarse; ++n) backOffset[n + 1] += backOffset[n];
        backEntry.resize(node.size());
        backRow.resize(node.size());
        std::vector<std::int32_t> next(backOffset.begin(), backOffset.end() - 1);
        for (std::size_t r = 0; r < rows(); ++r)
            for (auto e = offset[r]; e < offset[r + 1]; ++e) {
                backRow[next[node[e]]] = static_cast<std::int32_t>(r);
                backEntry[next[node[e]]++] = e;
            }
    }
    /// fine += P coarse
    void prolong(int vectors, const std::vector<float>& coarse, std::vector<float>& fine) const {
        parallelFor(rows(), [&](std::size_t r) {
            float* out = &fine[3 * vectors * r];
            for (auto e = offset[r]; e < offset[r + 1]; ++e) {
                const float* in = &coarse[3 * vectors * static_cast<std::size_t>(node[e])];
                if (const float* b = blockOf(r, e)) {
                    for (int a = 0; a < 3; ++a)
                        for (int k = 0; k < 3; ++k)
                            for (int v = 0; v < vectors; ++v)
                                out[a * vectors + v] += b[3 * a + k] * in[k * vectors + v];
                } else {
                    for (int v = 0; v < 3 * vectors; ++v) out[v] += weight[e] * in[v];
                }
            }
        });
    }
    /// coarse = P^T fine
    void restrict(int vectors, const std::vector<float>& fine, std::vector<float>& coarse) const {
        parallelFor(
            backOffset.size() - 1,
            [&](std::size_t c) {
                float* out = &coarse[3 * vectors * c];
                std::fill(out, out + 3 * vectors, 0.0f);
                for (auto at = backOffset[c]; at < backOffset[c + 1]; ++at) {
                    const auto r = static_cast<std::size_t>(backRow[at]);
                    const auto e = backEntry[at];
                    const float* in = &fine[3 * vectors * r];
                    if (const float* b = blockOf(r, e)) {
                        for (int a = 0; a < 3; ++a)
                            for (int k = 0; k < 3; ++k)
                                for (int v = 0; v < vectors; ++v)
                                    out[a * vectors + v] += b[3 * k + a] * in[k * vectors + v];
                    } else {
                        for (int v = 0; v < 3 * vectors; ++v) out[v] += weight[e] * in[v];
                    }
                }
            },
            64);
    }
};

/// Coarse nodes of each group's rows and columns, sorted.
struct GroupNodes {
    explicit GroupNodes(std::size_t groups) : rows(groups), columns(groups) {}
    std::vector<std::vector<std::int32_t>> rows, columns;
};

/// Which coarse nodes share an entry of P^T A P.
void coarsePattern(const BlockPattern& a, const Transfer& p, std::size_t coarse, const std::vector<std::int32_t>& order,
                   const std::vector<std::int32_t>& group, GroupNodes& nodes, BlockPattern& pattern) {
    // coarse nodes of each group's rows and columns
    auto& [rowNodes, columnNodes] = nodes;
    const std::size_t groups = rowNodes.size();
    auto unique = [](std::vector<std::int32_t>& v) {
        std::sort(v.begin(), v.end());
        v.erase(std::unique(v.begin(), v.end()), v.end());
    };
    parallelFor(
        groups,
        [&](std::size_t g) {
            auto& rows = rowNodes[g];
            auto& columns = columnNodes[g];
            std::vector<std::int32_t> fine;
            for (auto at = group[g]; at < group[g + 1]; ++at) {
                const auto i = order[at];
                rows.insert(rows.end(), p.node.begin() + p.offset[i], p.node.begin() + p.offset[i + 1]);
                fine.insert(fine.end(), a.column.begin() + a.offset[i], a.column.begin() + a.offset[i + 1]);
            }
            unique(rows);
            unique(fine);
            for (auto j : fine)
                columns.insert(columns.end(), p.node.begin() + p.offset[j], p.node.begin() + p.offset[j + 1]);
            unique(columns);
        },
        32);
    std::vector<std::vector<std::int32_t>> groupsOf(coarse), rows(coarse);
    for (std::size_t g = 0; g < groups; ++g)
        for (auto c : rowNodes[g]) groupsOf[c].push_back(static_cast<std::int32_t>(g));
    pattern.offset.assign(coarse + 1, 0);
    parallelFor(
        coarse,
        [&](std::size_t c) {
            for (auto g : groupsOf[c]) rows[c].insert(rows[c].end(), columnNodes[g].begin(), columnNodes[g].end());
            rows[c].push_back(static_cast<std::int32_t>(c));
            unique(rows[c]);
            pattern.offset[c + 1] = static_cast<std::int64_t>(rows[c].size());
        },
        64);
    for (std::size_t c = 0; c < coarse; ++c) pattern.offset[c + 1] += pattern.offset[c];
    pattern.column.resize(pattern.offset.back());
    for (std::size_t c = 0; c < coarse; ++c)
        std::copy(rows[c].begin(), rows[c].end(), pattern.column.begin() + pattern.offset[c]);
}

/// Coarse matrix P^T A P in double precision. Rows of A that lie in one leaf share their coarse nodes, so their part is
/// summed in a small dense array first; each thread owns a run of coarse rows.
/// @param group     [groups + 1] runs of A's rows, in `order`
/// @param fineBlock  value of an entry of A
template <class FineBlock>
void galerkin(const BlockPattern& a, const FineBlock& fineBlock, const Transfer& p, std::size_t coarse,
              const std::vector<std::int32_t>& order, const std::vector<std::int32_t>& group, BlockPattern& pattern,
              std::vector<Mat3>& value, Progress& progress) {
    const std::size_t groups = group.size() - 1;
    GroupNodes nodes(groups);
    coarsePattern(a, p, coarse, order, group, nodes, pattern);
    value.assign(pattern.column.size(), Mat3::Zero());
    progress.check();
    const auto& [rowNodes, columnNodes] = nodes;
    const std::size_t parts = std::clamp<std::size_t>(coarse / 2000, 1, 16);
    auto partOf = [&](std::size_t c) { return c * parts / coarse; };
    std::vector<std::vector<std::int32_t>> groupsOfPart(parts);
    for (std::size_t g = 0; g < groups; ++g) {
        std::size_t last = parts;
        for (auto c : rowNodes[g])
            if (partOf(c) != last) groupsOfPart[last = partOf(c)].push_back(static_cast<std::int32_t>(g));
    }
    parallelFor(
        parts,
        [&](std::size_t part) {
            std::vector<std::int32_t> columnSlot(coarse, -1), rowSlot(coarse, -1);
            std::vector<Mat3> w, local;
            for (auto g : groupsOfPart[part]) {
                const auto& rn = rowNodes[g];
                const auto& cn = columnNodes[g];
                const std::size_t nc = cn.size();
                for (std::size_t k = 0; k < nc; ++k) columnSlot[cn[k]] = static_cast<std::int32_t>(k);
                for (std::size_t k = 0; k < rn.size(); ++k) rowSlot[rn[k]] = static_cast<std::int32_t>(k);
                local.assign(rn.size() * nc, Mat3::Zero());
                for (auto at = group[g]; at < group[g + 1]; ++at) {
                    const auto i = static_cast<std::size_t>(order[at]);
                    w.assign(nc, Mat3::Zero());
                    for (auto entry = a.offset[i]; entry < a.offset[i + 1]; ++entry) {
                        const auto j = static_cast<std::size_t>(a.column[entry]);
                        const Mat3 k = fineBlock(entry);
                        for (auto e = p.offset[j]; e < p.offset[j + 1]; ++e) {
                            Mat3& to = w[columnSlot[p.node[e]]];
                            if (const float* b = p.blockOf(j, e)) {
                                Mat3 m;
                                for (int q = 0; q < 9; ++q) m(q / 3, q % 3) = b[q];
                                to.noalias() += k * m;
                            } else {
                                to += static_cast<double>(p.weight[e]) * k;
                            }
                        }
                    }
                    for (auto e = p.offset[i]; e < p.offset[i + 1]; ++e) {
                        if (partOf(p.node[e]) != part) continue;
                        Mat3* to = &local[static_cast<std::size_t>(rowSlot[p.node[e]]) * nc];
                        if (const float* b = p.blockOf(i, e)) {
                            Mat3 m;
                            for (int q = 0; q < 9; ++q) m(q / 3, q % 3) = b[q];
                            for (std::size_t c = 0; c < nc; ++c) to[c].noalias() += m.transpose() * w[c];
                        } else {
                            for (std::size_t c = 0; c < nc; ++c) to[c] += static_cast<double>(p.weight[e]) * w[c];
                        }
                    }
                }
                for (std::size_t r = 0; r < rn.size(); ++r) {
                    if (partOf(rn[r]) != part) continue;
                    auto to = pattern.offset[rn[r]];
                    for (std::size_t c = 0; c < nc; ++c) {
                        while (pattern.column[to] != cn[c]) ++to;
                        value[to] += local[r * nc + c];
                    }
                }
            }
        },
        1);
}

}  // namespace

struct Multigrid::Level {
    const BlockPattern* pattern = nullptr;
    const std::vector<float>* value = nullptr;
    BlockPattern ownPattern;
    std::vector<float> ownValue;
    std::vector<float> inverse;  // [rows * 9] of the diagonal blocks
    double lambda = 1;           // largest eigenvalue of inverse * A, with a margin
    Transfer down;               // to the next coarser level
    std::vector<float> r, z, step, product;

    std::size_t rows() const { return pattern->rows(); }
    void reserve(int vectors, bool finest) {
        const std::size_t n = 3 * rows() * vectors;
        if (!finest) r.resize(n), z.resize(n);
        step.resize(n);
        product.resize(n);
    }
    void invertDiagonal() {
        inverse.resize(9 * rows());
        parallelFor(rows(), [&](std::size_t i) {
            const auto at = pattern->find(static_cast<std::int32_t>(i), static_cast<std::int32_t>(i));
            Mat3 d;
            for (int k = 0; k < 9; ++k) d(k / 3, k % 3) = (*value)[9 * at + k];
            const double trace = d.trace();
            // a grid node of tiny or no support
            if (trace > 0)
                d.diagonal().array() += 1e-6 * trace;
            else
                d.setIdentity();
            const Mat3 inv = d.inverse();
            for (int k = 0; k < 9; ++k) inverse[9 * i + k] = trace > 0 ? static_cast<float>(inv(k / 3, k % 3)) : 0.0f;
        });
    }
    /// step = scale * step + factor * inverse * (r - product); z += step
    void correct(int vectors, const std::vector<float>& right, const std::vector<float>* subtract, float scale,
                 float factor, std::vector<float>& to, bool fresh) {
        if (vectors == 4) {
            parallelFor(
                rows(),
                [&](std::size_t i) {
                    const float* d = &inverse[9 * i];
                    const std::size_t base = 12 * i;
                    Float4 s[3];
                    const auto* b = reinterpret_cast<const Float4*>(&right[base]);
                    for (int a = 0; a < 3; ++a) s[a] = b[a];
                    if (subtract) {
                        const auto* m = reinterpret_cast<const Float4*>(&(*subtract)[base]);
                        for (int a = 0; a < 3; ++a) s[a] -= m[a];
                    }
                    auto* p = reinterpret_cast<Float4*>(&step[base]);
                    auto* z4 = reinterpret_cast<Float4*>(&to[base]);
                    for (int a = 0; a < 3; ++a) {
                        const Float4 c = factor * (d[3 * a] * s[0] + d[3 * a + 1] * s[1] + d[3 * a + 2] * s[2]);
                        p[a] = scale != 0 ? scale * p[a] + c : c;
                        z4[a] = fresh ? p[a] : z4[a] + p[a];
                    }
                },
                2048);
            return;
        }
        parallelFor(rows(), [&](std::size_t i) {
            const float* d = &inverse[9 * i];
            const std::size_t base = 3 * vectors * i;
            float s[12];
            for (int v = 0; v < 3 * vectors; ++v) s[v] = right[base + v] - (subtract ? (*subtract)[base + v] : 0.0f);
            for (int a = 0; a < 3; ++a)
                for (int v = 0; v < vectors; ++v) {
                    const float c = d[3 * a] * s[v] + d[3 * a + 1] * s[vectors + v] + d[3 * a + 2] * s[2 * vectors + v];
                    const std::size_t at = base + a * vectors + v;
                    step[at] = (scale != 0 ? scale * step[at] : 0.0f) + factor * c;
                    to[at] = fresh ? step[at] : to[at] + step[at];
                }
        });
    }
    void estimateLambda(int steps) {
        std::vector<float> x(3 * rows()), y(3 * rows());
        std::uint32_t seed = 12345;
        for (float& v : x) {
            seed = seed * 1664525u + 1013904223u;
            v = static_cast<float>(seed >> 8) / 8388608.0f - 1.0f;
        }
        double estimate = 1;
        for (int s = 0; s < steps; ++s) {
            multiply(*pattern, *value, 1, x.data(), y.data());
            parallelFor(rows(), [&](std::size_t i) {
                for (int a = 0; a < 3; ++a)
                    x[3 * i + a] = inverse[9 * i + 3 * a] * y[3 * i] + inverse[9 * i + 3 * a + 1] * y[3 * i + 1] +
                                   inverse[9 * i + 3 * a + 2] * y[3 * i + 2];
            });
            const double norm =
                std::sqrt(orderedSum(x.size(), 0.0, [&](std::size_t i) { return static_cast<double>(x[i]) * x[i]; }));
            estimate = norm;
            if (!(norm > 0)) break;
            for (float& v : x) v = static_cast<float>(v / norm);
        }
        lambda = 1.1 * std::max(estimate, 1e-6);
    }
};

struct Multigrid::Direct {
    Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>> factor;
    Eigen::MatrixXd right;
};

/// Interpolation of a level from the grid. @param leaf  [rows] of the grid
void Multigrid::makeTransfer(const BackgroundGrid& own, const std::vector<Vec3>& position, Level& level,
                             std::vector<std::int32_t>& leaf, Progress& progress) const {
    struct RowShares {
        std::vector<GridWeight> scalar;
        std::vector<std::pair<std::int32_t, Mat3>> blocks;
        bool usesBlocks = false;
    };
    const std::size_t rows = level.rows();
    const bool finest = levels_.empty();
    Transfer& p = level.down;
    leaf.resize(rows);
    p.offset.assign(1, 0);
    p.blockAt.assign(rows, -1);
    constexpr std::size_t chunk = 16384;
    std::vector<RowShares> shares(std::min(chunk, rows));
    for (std::size_t begin = 0; begin < rows; begin += chunk) {
        progress.check();
        const std::size_t count = std::min(chunk, rows - begin);
        parallelFor(count, [&](std::size_t k) {
            const std::size_t r = begin + k;
            shares[k].usesBlocks = false;
            if (finest) {
                leaf[r] = system_.leafOfRow()[r];
                system_.prolongation(r, shares[k].scalar, shares[k].blocks, shares[k].usesBlocks);
            } else {
                leaf[r] = own.leafAt(position[r]);
                own.interpolate(leaf[r], position[r], shares[k].scalar);
            }
        });
        for (std::size_t k = 0; k < count; ++k) {
            const RowShares& s = shares[k];
            if (s.usesBlocks) {
                p.blockAt[begin + k] = static_cast<std::int32_t>(p.block.size() / 9);
                for (const auto& [node, m] : s.blocks) {
                    p.node.push_back(node);
                    p.weight.push_back(0);
                    for (int q = 0; q < 9; ++q) p.block.push_back(static_cast<float>(m(q / 3, q % 3)));
                }
            } else {
                for (const GridWeight& g : s.scalar) p.node.push_back(g.node), p.weight.push_back(g.weight);
            }
            p.offset.push_back(static_cast<std::int32_t>(p.node.size()));
        }
    }
}

void Multigrid::factoriseCoarsest(const BlockPattern& pattern, const std::vector<Mat3>& exact, Progress& progress) {
    progress.step("Factorising the coarsest grid");
    std::vector<Eigen::Triplet<double>> entries;
    for (std::size_t r = 0; r < pattern.rows(); ++r) {
        const double trace = exact[pattern.find(static_cast<std::int32_t>(r), static_cast<std::int32_t>(r))].trace();
        for (auto at = pattern.offset[r]; at < pattern.offset[r + 1]; ++at)
            for (int a = 0; a < 3; ++a)
                for (int b = 0; b < 3; ++b) {
                    const auto i = static_cast<int>(3 * r) + a, j = static_cast<int>(3 * pattern.column[at]) + b;
                    if (j > i) continue;
                    double v = exact[at](a, b);
                    if (i == j) v = trace > 0 ? v * (1 + 1e-7) + 1e-9 * trace : 1;
                    entries.emplace_back(i, j, v);
                }
    }
    direct_ = std::make_unique<Direct>();
    const auto n = static_cast<Eigen::Index>(3 * pattern.rows());
    Eigen::SparseMatrix<double> matrix(n, n);
    matrix.setFromTriplets(entries.begin(), entries.end());
    direct_->factor.compute(matrix);
    if (direct_->factor.info() != Eigen::Success || !(direct_->factor.vectorD().minCoeff() > 0))
        throw SolveError(ErrorDetail{"The multigrid solver cannot invert its coarsest equations.",
                                     {},
                                     std::to_string(n) + " unknowns",
                                     "a positive definite matrix: use the direct solver, or other elements",
                                     "a pivot that is not positive"});
}

Multigrid::Multigrid(const System& system, const MultigridOptions& options, Progress& progress)
    : system_(system), options_(options) {
    progress.step("Building the coarse grids");
    const BackgroundGrid* grid = &*system.grid();
    BackgroundGrid own = *grid;
    auto level = std::make_unique<Level>();
    level->pattern = &system.matrix().pattern;
    level->value = &system.matrix().high;
    level->invertDiagonal();
    level->estimateLambda(15);
    std::vector<Mat3> exact;  // of the level at hand, in double
    std::vector<Vec3> position;
    for (;;) {
        const std::size_t rows = level->rows();
        const bool finest = levels_.empty();
        std::vector<std::int32_t> leaf, order(rows), group{0};
        makeTransfer(own, position, *level, leaf, progress);
        Transfer& p = level->down;
        p.transpose(own.nodeCount());
        for (std::size_t r = 0; r < rows; ++r) order[r] = static_cast<std::int32_t>(r);
        std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return leaf[a] < leaf[b]; });
        for (std::size_t r = 1; r <= rows; ++r)
            if (r == rows || leaf[order[r]] != leaf[order[r - 1]]) group.push_back(static_cast<std::int32_t>(r));
        auto next = std::make_unique<Level>();
        std::vector<Mat3> value;
        if (finest)
            galerkin(
                *level->pattern, [&](std::int64_t at) { return system.matrix().block(at); }, p, own.nodeCount(), order,
                group, next->ownPattern, value, progress);
        else
            galerkin(
                *level->pattern, [&](std::int64_t at) -> const Mat3& { return exact[at]; }, p, own.nodeCount(), order,
                group, next->ownPattern, value, progress);
        exact = std::move(value);
        levels_.push_back(std::move(level));
        next->pattern = &next->ownPattern;
        if (3 * next->pattern->rows() <= options.coarsest || own.leafCount() <= 8) {
            level = std::move(next);
            break;
        }
        next->ownValue.resize(9 * exact.size());
        parallelFor(exact.size(), [&](std::size_t at) {
            for (int q = 0; q < 9; ++q) next->ownValue[9 * at + q] = static_cast<float>(exact[at](q / 3, q % 3));
        });
        next->value = &next->ownValue;
        next->invertDiagonal();
        next->estimateLambda(15);
        position = own.position();
        level = std::move(next);
        own = own.coarser();
    }
    factoriseCoarsest(*level->pattern, exact, progress);
    levels_.push_back(std::move(level));
}

Multigrid::~Multigrid() = default;

std::vector<std::size_t> Multigrid::levelUnknowns() const {
    std::vector<std::size_t> count;
    for (const auto& l : levels_) count.push_back(3 * l->rows());
    return count;
}

std::size_t Multigrid::bytes() const {
    std::size_t sum = 0;
    for (const auto& l : levels_)
        sum += 4 * (l->ownValue.size() + l->ownPattern.column.size() + l->inverse.size() + l->r.size() + l->z.size() +
                    l->step.size() + l->product.size()) +
               8 * l->ownPattern.offset.size() + (l->down.offset.empty() ? 0 : l->down.bytes());
    return sum + 16 * static_cast<std::size_t>(direct_->factor.matrixL().nestedExpression().nonZeros());
}

void Multigrid::smooth(Level& l, int vectors, const std::vector<float>& r, std::vector<float>& z, bool fromZero) {
    const auto lambda = static_cast<float>(l.lambda);
    bool fresh = fromZero;
    for (int k = 0; k < options_.degree; ++k) {
        if (!(fresh)) multiply(*l.pattern, *l.value, vectors, z.data(), l.product.data());
        const float scale = k == 0 ? 0.0f : (2.0f * k - 1) / (2.0f * k + 3);
        const float factor = (8.0f * k + 4) / (2.0f * k + 3) / lambda;
        l.correct(vectors, r, fresh ? nullptr : &l.product, scale, factor, z, fresh);
        fresh = false;
    }
}

void Multigrid::cycle(std::size_t at, int vectors, const std::vector<float>& r, std::vector<float>& z) {
    Level& l = *levels_[at];
    if (at + 1 == levels_.size()) {
        const auto n = static_cast<Eigen::Index>(3 * l.rows());
        Eigen::MatrixXd b(n, vectors);
        for (Eigen::Index i = 0; i < n; ++i)
            for (int v = 0; v < vectors; ++v) b(i, v) = r[static_cast<std::size_t>(i) * vectors + v];
        const Eigen::MatrixXd x = direct_->factor.solve(b);
        for (Eigen::Index i = 0; i < n; ++i)
            for (int v = 0; v < vectors; ++v)
                z[static_cast<std::size_t>(i) * vectors + v] = static_cast<float>(x(i, v));
        return;
    }
    Level& next = *levels_[at + 1];
    smooth(l, vectors, r, z, true);
    multiply(*l.pattern, *l.value, vectors, z.data(), l.product.data());
    parallelFor(
        l.product.size(), [&](std::size_t i) { l.product[i] = r[i] - l.product[i]; }, 8192);
    l.down.restrict(vectors, l.product, next.r);
    cycle(at + 1, vectors, next.r, next.z);
    l.down.prolong(vectors, next.z, z);
    smooth(l, vectors, r, z, false);
}

void Multigrid::apply(int vectors, const std::vector<float>& r, std::vector<float>& z) {
    for (std::size_t k = 0; k < levels_.size(); ++k) levels_[k]->reserve(vectors, k == 0);
    cycle(0, vectors, r, z);
}

}  // namespace escultura::elastic

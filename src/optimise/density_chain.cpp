#include "optimise/density_chain.hpp"

#include <cmath>

#include "base/parallel.hpp"

namespace escultura::optimise {
namespace {

constexpr double leastReach = 0.6;                              // of a filtered density in a full neighbourhood
constexpr double soft = 1e-4;                                   // of the smooth minimum, Langelaar's epsilon
constexpr double power = 40;                                    // of the smooth maximum
const double powerOut = power + std::log(5.0) / std::log(0.5);  // five equal halves give one half

double smoothMin(double a, double b) {
    return 0.5 * (a + b - std::sqrt((a - b) * (a - b) + soft) + std::sqrt(soft));
}

/// Supporting cells of a cell in the layer below it.
template <class Use>
void forSupports(const Grid& g, const LayerRule& rule, std::size_t cell, const Use& use) {
    auto p = g.cellAt(cell);
    p[static_cast<std::size_t>(rule.axis)] += rule.up ? -1 : 1;
    use(g.cell(p[0], p[1], p[2]));
    if (rule.kind == LayerRule::Kind::draw) return;
    for (int a = 0; a < 3; ++a) {
        if (a == rule.axis) continue;
        const auto axis = static_cast<std::size_t>(a);
        for (int s : {-1, 1}) {
            p[axis] += s;
            if (p[axis] >= 0 && p[axis] < g.cells[axis]) use(g.cell(p[0], p[1], p[2]));
            p[axis] -= s;
        }
    }
}

/// Whether a cell needs nothing below it: what is drawn may begin wherever the design space begins.
bool isBase(const Grid& g, const LayerRule& rule, const std::vector<CellUse>& use, std::size_t cell, bool firstLayer) {
    if (firstLayer || use[cell] != CellUse::free) return true;
    if (rule.kind != LayerRule::Kind::draw) return false;
    bool base = false;
    forSupports(g, rule, cell, [&](std::size_t s) { base = use[s] == CellUse::empty; });
    return base;
}

/// Calls use(cell) layer by layer from the base, or back to it.
template <class Use>
void forLayers(const Grid& g, const LayerRule& rule, bool back, const Use& use) {
    const auto axis = static_cast<std::size_t>(rule.axis);
    const std::size_t b = (axis + 1) % 3, c = (axis + 2) % 3;
    for (int l = 0; l < g.cells[axis]; ++l) {
        const int fromBase = back ? g.cells[axis] - 1 - l : l;
        const int at = rule.up ? fromBase : g.cells[axis] - 1 - fromBase;
        auto body = [&](std::size_t n) {
            std::array<int, 3> p{};
            p[axis] = at;
            p[b] = static_cast<int>(n % static_cast<std::size_t>(g.cells[b]));
            p[c] = static_cast<int>(n / static_cast<std::size_t>(g.cells[b]));
            use(g.cell(p[0], p[1], p[2]), fromBase == 0);
        };
        const std::size_t count = static_cast<std::size_t>(g.cells[b]) * g.cells[c];
        if (back)
            for (std::size_t n = 0; n < count; ++n) body(n);  // adds to neighbours
        else
            parallelFor(count, body);
    }
}

double supportOf(const Grid& g, const LayerRule& rule, std::size_t cell, const std::vector<double>& out) {
    if (rule.kind == LayerRule::Kind::draw) {
        double below = 0;
        forSupports(g, rule, cell, [&](std::size_t s) { below = out[s]; });
        return below;
    }
    double sum = 0;
    forSupports(g, rule, cell, [&](std::size_t s) { sum += std::pow(out[s], power); });
    return std::pow(sum, 1 / powerOut);
}

}  // namespace

ConeFilter::ConeFilter(const Grid& grid, const std::vector<CellUse>& use, double radius) : grid_(grid) {
    const Vec3 h = grid.spacing;
    int reach[3];
    for (int a = 0; a < 3; ++a) reach[a] = std::max(0, static_cast<int>(std::ceil(radius / h[a] - 1e-9)));
    double sum = 0;
    for (int k = -reach[2]; k <= reach[2]; ++k)
        for (int j = -reach[1]; j <= reach[1]; ++j)
            for (int i = -reach[0]; i <= reach[0]; ++i) {
                const double w = radius - Vec3(i * h[0], j * h[1], k * h[2]).norm();
                if (w <= 1e-9 * radius && (i || j || k)) continue;
                offsets_.push_back({i, j, k, std::max(w, 1e-9)});
                sum += offsets_.back().weight;
            }
    for (Offset& o : offsets_) o.weight /= sum;
    std::vector<double> there(grid.cellCount(), 1.0);
    for (std::size_t c = 0; c < use.size(); ++c) there[c] = use[c] == CellUse::empty ? 0.0 : 1.0;
    this->sum(there, scale_);
    for (double& s : scale_) s = std::max(1.0, leastReach / std::max(s, 1e-9));
}

void ConeFilter::apply(const std::vector<double>& x, std::vector<double>& y) const {
    sum(x, y);
    parallelFor(
        y.size(), [&](std::size_t c) { y[c] *= scale_[c]; }, 8192);
}

void ConeFilter::applyBack(const std::vector<double>& y, std::vector<double>& x) const {
    std::vector<double> scaled(y.size());
    parallelFor(
        y.size(), [&](std::size_t c) { scaled[c] = scale_[c] * y[c]; }, 8192);
    sum(scaled, x);
}

void ConeFilter::sum(const std::vector<double>& x, std::vector<double>& y) const {
    y.assign(x.size(), 0.0);
    const int nx = grid_.cells[0], ny = grid_.cells[1], nz = grid_.cells[2];
    parallelFor(
        static_cast<std::size_t>(nz),
        [&](std::size_t layer) {
            const int k = static_cast<int>(layer);
            for (int j = 0; j < ny; ++j) {
                double* to = y.data() + grid_.cell(0, j, k);
                for (const Offset& o : offsets_) {
                    if (j + o.j < 0 || j + o.j >= ny || k + o.k < 0 || k + o.k >= nz) continue;
                    const double* from = x.data() + grid_.cell(0, j + o.j, k + o.k);
                    const int first = std::max(0, -o.i), last = std::min(nx, nx - o.i);
                    for (int i = first; i < last; ++i) to[i] += o.weight * from[i + o.i];
                }
            }
        },
        1);
}

double projected(double x, double sharpness) {
    if (sharpness <= 0) return x;
    const double t = std::tanh(0.5 * sharpness);
    return (t + std::tanh(sharpness * (x - 0.5))) / (2 * t);
}

double projectedSlope(double x, double sharpness) {
    if (sharpness <= 0) return 1;
    const double t = std::tanh(sharpness * (x - 0.5));
    return sharpness * (1 - t * t) / (2 * std::tanh(0.5 * sharpness));
}

DensityChain::DensityChain(const Grid& grid, std::vector<CellUse> use, double filterRadius,
                           std::vector<LayerRule> rules)
    : grid_(grid), use_(std::move(use)), filter_(grid, use_, filterRadius), rules_(std::move(rules)) {}

void DensityChain::applyRule(const LayerRule& rule, const std::vector<double>& in, std::vector<double>& out) const {
    out.resize(in.size());
    forLayers(grid_, rule, false, [&](std::size_t c, bool base) {
        // what is kept anyway stands by itself
        out[c] = isBase(grid_, rule, use_, c, base) ? in[c] : smoothMin(in[c], supportOf(grid_, rule, c, out));
    });
}

void DensityChain::ruleGradient(const LayerRule& rule, const std::vector<double>& in, const std::vector<double>& out,
                                std::vector<double>& gradient) const {
    std::vector<double> byIn(in.size(), 0.0);
    forLayers(grid_, rule, true, [&](std::size_t c, bool base) {
        if (isBase(grid_, rule, use_, c, base)) {
            byIn[c] = gradient[c];
            return;
        }
        const double support = supportOf(grid_, rule, c, out), difference = in[c] - support;
        const double bySupport = 0.5 * (1 + difference / std::sqrt(difference * difference + soft));
        byIn[c] = gradient[c] * (1 - bySupport);
        const double g = gradient[c] * bySupport;
        if (rule.kind == LayerRule::Kind::draw) {
            forSupports(grid_, rule, c, [&](std::size_t s) { gradient[s] += g; });
        } else if (support > 0) {
            const double factor = g * power / powerOut * std::pow(support, 1 - powerOut);
            forSupports(grid_, rule, c, [&](std::size_t s) { gradient[s] += factor * std::pow(out[s], power - 1); });
        }
    });
    gradient = std::move(byIn);
}

std::vector<double> DensityChain::densities(const std::vector<double>& x) {
    std::vector<double> in(x.size());
    parallelFor(x.size(), [&](std::size_t c) {
        in[c] = use_[c] == CellUse::free ? x[c] : use_[c] == CellUse::solid ? 1.0 : 0.0;
    });
    filter_.apply(in, filtered_);
    stage_.resize(rules_.size() + 1);
    auto& first = stage_[0];
    first.resize(x.size());
    parallelFor(x.size(), [&](std::size_t c) {
        first[c] = use_[c] == CellUse::free    ? projected(filtered_[c], sharpness_)
                   : use_[c] == CellUse::solid ? 1.0
                                               : 0.0;
    });
    for (std::size_t r = 0; r < rules_.size(); ++r) applyRule(rules_[r], stage_[r], stage_[r + 1]);
    return stage_.back();
}

std::vector<double> DensityChain::gradient(const std::vector<double>& byDensity) const {
    std::vector<double> g = byDensity;
    for (std::size_t r = rules_.size(); r-- > 0;) ruleGradient(rules_[r], stage_[r], stage_[r + 1], g);
    parallelFor(g.size(), [&](std::size_t c) {
        g[c] = use_[c] == CellUse::free ? g[c] * projectedSlope(filtered_[c], sharpness_) : 0.0;
    });
    std::vector<double> byX;
    filter_.applyBack(g, byX);
    parallelFor(g.size(), [&](std::size_t c) {
        if (use_[c] != CellUse::free) byX[c] = 0;
    });
    return byX;
}

}  // namespace escultura::optimise

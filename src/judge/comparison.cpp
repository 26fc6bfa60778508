#include "judge/comparison.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"
#include "judge/factor.hpp"

namespace escultura::judge {
namespace {

constexpr double unknown = std::numeric_limits<double>::quiet_NaN();

double massOf(const Part& part, const Variant& v, const CheckResult* check, const SurfaceResult* surface,
              const RebuildResult* rebuilt) {
    if (v.recipe.check.rebuilt && !v.recipe.check.original && rebuilt)
        return rebuilt->solid.solid.volume * part.material.density;
    const bool other = v.recipe.check.original || v.recipe.check.rebuilt;
    if (other || !surface) return check ? check->quality.volume * part.material.density : unknown;
    return surface->measures.volume * part.material.density;
}

double largestDisplacement(const CheckResult& check) {
    double most = 0;
    for (const CaseResult& c : check.cases) most = std::max(most, c.maxDisplacement);
    return most;
}

}  // namespace

VariantFigures figuresOf(const Project& project, const Variant& v, const CheckResult* lastCheck,
                         const SurfaceResult* lastSurface) {
    const auto check = project.check(v.recipe);
    const auto surface = project.surface(v.recipe);
    const auto rebuilt = project.rebuild(v.recipe);
    const CheckResult* c = check ? check.get() : lastCheck;
    VariantFigures f;
    f.id = v.id;
    f.name = v.name;
    f.fresh = check != nullptr;
    f.mass = massOf(project.partOf(v.recipe), v, c, surface ? surface.get() : lastSurface, rebuilt.get());
    if (!c) return f;
    const Factor factor = factorOf(project, v, *c);
    f.safetyFactor = factor.value;
    f.doubt = doubtWords(factor);
    f.displacement = largestDisplacement(*c);
    for (const CaseResult& x : c->cases) f.peaks.emplace_back(x.name, x.maxStress);
    return f;
}

std::vector<VariantFigures> checkedVariants(const Project& project) {
    std::vector<VariantFigures> known;
    for (const Variant& v : project.variants) {
        if (v.archived) continue;
        VariantFigures f = figuresOf(project, v, nullptr, nullptr);
        if (f.fresh && std::isfinite(f.safetyFactor)) known.push_back(std::move(f));
    }
    return known;
}

void markFront(std::vector<VariantFigures>& variants) {
    for (VariantFigures& a : variants) {
        a.onFront = std::isfinite(a.mass) && std::isfinite(a.safetyFactor);
        for (const VariantFigures& b : variants) {
            if (&a == &b || !std::isfinite(b.mass) || !std::isfinite(b.safetyFactor)) continue;
            const bool asGood = b.mass <= a.mass && b.safetyFactor >= a.safetyFactor;
            const bool better = b.mass < a.mass || b.safetyFactor > a.safetyFactor;
            if (asGood && better) a.onFront = false;
        }
    }
}

std::vector<ComparedFigure> compareVariants(const Project& project, const Variant& baseline, const Variant& other) {
    const auto a = project.check(baseline.recipe), b = project.check(other.recipe);
    if (!a || !b) return {};
    std::vector<ComparedFigure> rows;
    const VariantFigures fa = figuresOf(project, baseline, nullptr, nullptr),
                         fb = figuresOf(project, other, nullptr, nullptr);
    rows.push_back({"", "mass", "kg", fa.mass, fb.mass});
    rows.push_back({"", "smallest safety factor", "", fa.safetyFactor, fb.safetyFactor});
    rows.push_back({"", "largest displacement", "mm", fa.displacement, fb.displacement});
    for (const CaseResult& x : a->cases)
        for (const CaseResult& y : b->cases) {
            if (x.name != y.name) continue;
            rows.push_back({x.name, "safety factor", "", x.minSafetyFactor, y.minSafetyFactor});
            rows.push_back({x.name, "peak stress", "MPa", x.maxStress, y.maxStress});
            rows.push_back({x.name, "displacement", "mm", x.maxDisplacement, y.maxDisplacement});
        }
    for (const AnalysisKind& kind : analysisKinds()) {
        const auto found = project.analysis(baseline.recipe, kind.key), than = project.analysis(other.recipe, kind.key);
        if (!found || !than) continue;
        for (const AnalysisFigure& f : found->figures)
            for (const AnalysisFigure& g : than->figures)
                if (f.key == g.key && f.loadCase == g.loadCase)
                    rows.push_back({f.loadCase, f.label, f.unit, f.counts, g.counts});
    }
    return rows;
}

std::vector<double> sampledOn(const mesh::TetMesh& on, const mesh::TetMesh& other, const std::vector<double>& value,
                              double reach, Progress& progress) {
    // four flat triangles for each curved face
    surface::TriMesh skin;
    skin.position = other.position;
    static constexpr int parts[4][3] = {{0, 3, 5}, {3, 1, 4}, {5, 4, 2}, {3, 4, 5}};
    for (const auto& f : other.boundary)
        for (const auto& p : parts) {
            skin.triangle.push_back({f[p[0]], f[p[1]], f[p[2]]});
            skin.owner.push_back(0);
        }
    const surface::TriangleTree tree(skin);
    std::vector<char> wanted(on.position.size(), 0);
    for (const auto& f : on.boundary)
        for (auto n : f) wanted[n] = 1;
    std::vector<double> out(on.position.size(), unknown);
    progress.step("Comparing the surfaces");
    parallelFor(out.size(), [&](std::size_t n) {
        if (!wanted[n]) return;
        const auto near = tree.closest(on.position[n], reach);
        if (near.triangle < 0) return;
        const Triangle& t = skin.triangle[near.triangle];
        const Vec3 &a = skin.position[t[0]], &b = skin.position[t[1]], &c = skin.position[t[2]];
        const Vec3 across = (b - a).cross(c - a);
        const double area = across.squaredNorm();
        if (!(area > 0)) return;
        const double u = (c - b).cross(near.point - b).dot(across) / area,
                     v = (a - c).cross(near.point - c).dot(across) / area;
        out[n] = u * value[t[0]] + v * value[t[1]] + (1 - u - v) * value[t[2]];
    });
    return out;
}

}  // namespace escultura::judge

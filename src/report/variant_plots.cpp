#include "report/variant_plots.hpp"

#include <cmath>

#include "base/quantity.hpp"

namespace escultura::report {
namespace {

using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::judge;

QString num(double v) {
    return QString::fromStdString(formatNumber(v, 3));
}

/// Of a requirement on the whole part; NaN: none.
double requiredLimit(const Part& part, Requirement::Kind kind) {
    for (const Requirement& r : part.requirements)
        if (r.kind == kind && r.interface.empty() && !r.direction) return r.limit;
    return std::numeric_limits<double>::quiet_NaN();
}

}  // namespace

Plot variantCurves(const Part& part, const std::vector<VariantFigures>& variants, VariantFigure figure) {
    std::vector<PlotSeries> series;
    QStringList ticks;
    for (const VariantFigures& v : variants) ticks << QString::fromStdString(v.name);
    auto add = [&](const QString& name, auto value) {
        PlotSeries s{name, {}};
        for (std::size_t i = 0; i < variants.size(); ++i)
            if (const double y = value(variants[i]); std::isfinite(y)) s.points.emplace_back(static_cast<double>(i), y);
        if (!s.points.empty()) series.push_back(std::move(s));
    };
    double limit = std::numeric_limits<double>::quiet_NaN();
    QString title, words;
    switch (figure) {
        case VariantFigure::safetyFactor:
            title = "Smallest safety factor";
            add("safety factor", [](const VariantFigures& f) { return f.safetyFactor; });
            limit = requiredLimit(part, Requirement::Kind::safetyFactor);
            words = "required " + num(limit);
            break;
        case VariantFigure::mass:
            title = "Mass, kg";
            add("mass", [](const VariantFigures& f) { return f.mass; });
            limit = requiredLimit(part, Requirement::Kind::mass);
            words = "allowed " + num(limit) + " kg";
            break;
        case VariantFigure::displacement:
            title = "Largest displacement, mm";
            add("displacement", [](const VariantFigures& f) { return f.displacement; });
            limit = requiredLimit(part, Requirement::Kind::displacement);
            words = "allowed " + num(limit) + " mm";
            break;
        case VariantFigure::peakStress: {
            title = "Peak stress, MPa";
            std::vector<std::string> cases;
            for (const VariantFigures& f : variants)
                for (const auto& [name, stress] : f.peaks)
                    if (std::find(cases.begin(), cases.end(), name) == cases.end()) cases.push_back(name);
            for (const std::string& c : cases)
                add(QString::fromStdString(c), [&](const VariantFigures& f) {
                    for (const auto& [name, stress] : f.peaks)
                        if (name == c) return stress;
                    return std::numeric_limits<double>::quiet_NaN();
                });
            limit = allowableStress(part);
            words = "allowable " + num(limit) + " MPa";
        }
    }
    return curves(title, "variants in order", std::move(series), ticks, limit, words);
}

Plot variantScatter(const Part& part, std::vector<VariantFigures> variants, std::int64_t open) {
    markFront(variants);
    std::vector<PlotDot> dots;
    for (const VariantFigures& f : variants)
        if (std::isfinite(f.mass) && std::isfinite(f.safetyFactor))
            dots.push_back({QString::fromStdString(f.name), {f.mass, f.safetyFactor}, f.onFront, f.id == open});
    const double required = requiredLimit(part, Requirement::Kind::safetyFactor);
    return scatter("Safety factor over mass", "mass, kg", "filled: none beats it", std::move(dots), required,
                   "required " + num(required));
}

}  // namespace escultura::report

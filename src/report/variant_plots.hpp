/// @file report/variant_plots.hpp
/// Charts of the variants, for the drawer and the report.

#pragma once
#include "judge/comparison.hpp"
#include "report/plot.hpp"

namespace escultura::report {

enum class VariantFigure { safetyFactor, mass, displacement, peakStress };

/// A figure over the variants in order, with the requirement as a line; peak stress per load case.
Plot variantCurves(const duty::Part& part, const std::vector<judge::VariantFigures>& variants, VariantFigure figure);
/// Safety factor over mass with the front of best compromises. @param open  id of the variant that is drawn bold
Plot variantScatter(const duty::Part& part, std::vector<judge::VariantFigures> variants, std::int64_t open);

}  // namespace escultura::report

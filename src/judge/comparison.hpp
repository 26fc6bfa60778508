/// @file judge/comparison.hpp
/// Variants side by side: figures per case, the best compromises, differences on a surface.

#pragma once
#include <limits>
#include <string>
#include <vector>

#include "project/project.hpp"
#include "stages/quantities.hpp"

namespace escultura::judge {
using namespace project;

/// Key figures of a variant. NaN: not known.
struct VariantFigures {
    std::int64_t id = 0;
    std::string name;
    bool fresh = false;                                      ///< of the recipe as it is; else from an earlier one
    double mass = std::numeric_limits<double>::quiet_NaN();  ///< kg
    double safetyFactor = mass, displacement = mass;         ///< least that counts; largest, mm
    std::string doubt{};                                     ///< of the safety factor; empty: none
    std::vector<std::pair<std::string, double>> peaks;       ///< load case, compared stress, MPa
    bool onFront = false;                                    ///< no other variant is both lighter and safer
};
/// @param check, surface  results to tell of when the variant's own are missing; may be null
VariantFigures figuresOf(const Project& project, const Variant& variant, const CheckResult* check,
                         const SurfaceResult* surface);
/// Figures of the variants on the shelf whose check is fresh, in order.
std::vector<VariantFigures> checkedVariants(const Project& project);
/// Marks those that no other one beats in mass and safety factor at once; unknown ones are left out.
void markFront(std::vector<VariantFigures>& variants);

/// A figure of two variants.
struct ComparedFigure {
    std::string loadCase;  ///< empty: of the whole variant
    std::string figure, unit;
    double baseline = 0, value = 0;
    double difference() const { return value - baseline; }
    /// Of the baseline; NaN when that is 0.
    double share() const {
        return baseline != 0 ? difference() / std::abs(baseline) : std::numeric_limits<double>::quiet_NaN();
    }
};
/// Mass and displacement, then per case safety factor, compared stress and displacement, of cases that both have; then
/// what counts of the figures of further analyses that both have.
/// Empty when one is not checked.
std::vector<ComparedFigure> compareVariants(const Project& project, const Variant& baseline, const Variant& other);

/// Values of a quantity of one check at the boundary nodes of another: at the closest point of its boundary, by the
/// shape functions of its faces. [nodes of `on`]; NaN inside and where the other surface is farther away than `reach`
std::vector<double> sampledOn(const mesh::TetMesh& on, const mesh::TetMesh& other, const std::vector<double>& value,
                              double reach, Progress& progress);

}  // namespace escultura::judge

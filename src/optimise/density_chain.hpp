/// @file optimise/density_chain.hpp
/// From the design variables to the densities that carry load, and gradients back.

#pragma once
#include <vector>

#include "optimise/grid.hpp"

namespace escultura::optimise {

/// What a cell of the design space may become.
enum class CellUse : char {
    empty,  ///< never material
    free,   ///< the optimisation decides
    solid,  ///< always material
};

/// Weighted mean over a ball with weights that fall linearly to its rim. Outside the grid and in empty cells there is
/// nothing, and the weights count all the same: material does not creep along walls. Only where the design space is so
/// thin that a cell could not reach six tenths they count less, so that a sheet of one cell can be filled.
class ConeFilter {
  public:
    /// @param use     [cells] none: all may hold material
    /// @param radius  mm; not beyond the neighbouring cell: no filter
    ConeFilter(const Grid& grid, const std::vector<CellUse>& use, double radius);
    /// [cells] to [cells]
    void apply(const std::vector<double>& x, std::vector<double>& y) const;
    /// The adjoint.
    void applyBack(const std::vector<double>& y, std::vector<double>& x) const;

  private:
    void sum(const std::vector<double>& x, std::vector<double>& y) const;
    struct Offset {
        int i, j, k;
        double weight;
    };
    Grid grid_;
    std::vector<Offset> offsets_;
    std::vector<double> scale_;  ///< [cells]
};

/// Smooth step from 0 to 1 at one half (Wang, Lazarov and Sigmund 2011). @param sharpness  0: no step
double projected(double x, double sharpness);
double projectedSlope(double x, double sharpness);

/// Layer by layer from a base: what must not stand free (Langelaar 2017), or must shrink away from the base so that it
/// can be drawn. Smooth minimum and maximum, differentiable.
struct LayerRule {
    enum class Kind {
        overhang,  ///< a cell is at most as dense as the densest of the five below it: 45 degrees
        draw,      ///< a cell is at most as dense as the one below it
    } kind = Kind::overhang;
    int axis = 2;    ///< of the grid
    bool up = true;  ///< from the low end of the axis to the high one
    bool operator==(const LayerRule&) const = default;
};

/// Filter, projection and rules, in this order.
class DensityChain {
  public:
    DensityChain(const Grid& grid, std::vector<CellUse> use, double filterRadius, std::vector<LayerRule> rules);
    void setSharpness(double sharpness) { sharpness_ = sharpness; }
    double sharpness() const { return sharpness_; }
    /// @param x  [cells] design variables of free cells, 0 to 1. @return densities; 1 in solid, 0 in empty cells
    std::vector<double> densities(const std::vector<double>& x);
    /// Of the last densities(): gradient by densities to gradient by design variables; 0 where not free.
    std::vector<double> gradient(const std::vector<double>& byDensity) const;

  private:
    void applyRule(const LayerRule& rule, const std::vector<double>& in, std::vector<double>& out) const;
    void ruleGradient(const LayerRule& rule, const std::vector<double>& in, const std::vector<double>& out,
                      std::vector<double>& gradient) const;
    Grid grid_;
    std::vector<CellUse> use_;
    ConeFilter filter_;
    std::vector<LayerRule> rules_;
    double sharpness_ = 0;
    std::vector<double> filtered_;
    std::vector<std::vector<double>> stage_;  ///< after the projection and after each rule
};

}  // namespace escultura::optimise

/// @file shape/field_body.hpp
/// A smooth free body from a density field: Gaussian smoothing by a length in mm, quadratic B-spline interpolation,
/// and the first-order distance (t - rho)/|grad rho| (Taubin 1994).

#pragma once
#include <memory>
#include <optional>
#include <vector>

#include "base/progress.hpp"
#include "field/density_field.hpp"
#include "shape/local_threshold.hpp"
#include "shape/machined_solid.hpp"

namespace escultura::shape {

/// Options of smoothField.
struct FieldSmoothing {
    double length = 5.0;  ///< full width of the Gaussian at half its height, mm; 0: none
    std::vector<std::array<Vec3, 2>>
        symmetryPlanes;  ///< point and unit normal; the density is averaged with its mirror image
    /// Keeps the volume of the cells locally: the density is shifted so that one threshold does. None: it is not.
    std::optional<LocalVolume> local;
};

/// The smoothed density as a C1 function of space. Beyond the grid the border cells are continued.
class SmoothDensity {
  public:
    /// @param field    densities
    /// @param unknown  [cells] non-zero where the density says nothing about the shape (bores and keep-outs, void by
    ///                 definition): filled from the neighbours before smoothing; may be empty
    SmoothDensity(const field::DensityField& field, const std::vector<char>& unknown, const FieldSmoothing& options,
                  Progress& progress);
    /// Density and gradient (1/mm) at a point.
    double density(const Vec3& p, Vec3* gradient) const;
    const Vec3& spacing() const { return spacing_; }

  private:
    static constexpr int margin = 5;  // continued cells on each side
    std::array<int, 3> size_{};
    Vec3 origin_, spacing_;
    std::vector<float> coefficient_;
};

/// The body {density >= threshold}.
class FieldBody final : public FreeBody {
  public:
    FieldBody(std::shared_ptr<const SmoothDensity> density, double threshold)
        : density_(std::move(density)), threshold_(threshold) {}
    double value(const Vec3& p) const override;
    /// Exact on the surface, where the change of the slope plays no part; close to it near by.
    Vec3 gradient(const Vec3& p) const override;
    /// The distance estimate for a known density and slope (1/mm), mm.
    static double distance(double density, double slope, double threshold, double cell);

  private:
    std::shared_ptr<const SmoothDensity> density_;
    double threshold_;
};

}  // namespace escultura::shape

/// @file shape/lines.hpp
/// Edges and points of a body, and the material around them.

#pragma once
#include <memory>
#include <utility>
#include <vector>

#include "shape/machined_solid.hpp"

namespace escultura::shape {

/// Open or closed polylines; one of a single corner is a point. mm
using Lines = std::vector<std::vector<Vec3>>;

/// Distance of a place to the nearest of them, mm; infinite without any.
/// @param at  receives which polyline is nearest and how far along it its nearest place is, mm; may be null
double distanceTo(const Lines& lines, const Vec3& p, std::pair<std::size_t, double>* at = nullptr);
/// mm; 0 of a point.
double lengthOf(const std::vector<Vec3>& line);
/// The place at a length along a polyline, mm.
Vec3 placeAlong(const std::vector<Vec3>& line, double length);
/// Their middle, by length; of points alone the mean of them.
Vec3 middleOf(const Lines& lines);

/// What of a body lies within a distance of lines.
class AroundLines final : public BoundedBody {
  public:
    /// @param within  null: nothing bounds it
    AroundLines(Lines lines, double radius, std::shared_ptr<const FreeBody> within)
        : lines_(std::move(lines)), radius_(radius), within_(std::move(within)) {}
    double value(const Vec3& p) const override {
        const double d = distanceTo(lines_, p) - radius_;
        return within_ && d < 4 * radius_ ? std::max(d, within_->value(p)) : d;
    }
    double atLeast(const Vec3& p) const override { return distanceTo(lines_, p) - radius_; }

  private:
    Lines lines_;
    double radius_;
    std::shared_ptr<const FreeBody> within_;
};

}  // namespace escultura::shape

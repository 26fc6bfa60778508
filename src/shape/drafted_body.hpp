/// @file shape/drafted_body.hpp
/// A body with draft added: whatever would lock a mould is filled, and walls lean by an angle.

#pragma once
#include <memory>

#include "base/progress.hpp"
#include "shape/machined_solid.hpp"

namespace escultura::shape {

/// Casting along a pull direction from a parting plane.
struct DraftOptions {
    Vec3 pull = Vec3::UnitZ();  ///< unit vector
    double parting = 0;         ///< place of the parting plane along it, mm
    double angle = 2;           ///< degrees
};

/// The union of the body with the cones that hang from each of its points towards the parting plane and widen by the
/// angle: seen along the pull, sections shrink steadily. In terms of the distance d:
///     drafted(p) = min over s >= 0 of d(p + s n) cos(angle) - s sin(angle),   n pointing away from the parting plane
/// taken along the columns of a grid that is aligned with the pull, and interpolated by quadratic B-splines.
class DraftedBody final : public FreeBody {
  public:
    /// @param box   where the body lies
    /// @param step  of the grid, mm
    /// @throws Cancelled; InputError when the grid would hold more than 200 million samples
    DraftedBody(const FreeBody& body, const Box3& box, const DraftOptions& options, double step, Progress& progress);
    double value(const Vec3& p) const override;
    Vec3 gradient(const Vec3& p) const override;

  private:
    double interpolate(const Vec3& local, Vec3* gradient) const;
    Mat3 frame_;  // rows: two directions across, the pull
    Vec3 low_ = Vec3::Zero();
    double step_;
    std::array<int, 3> n_{};
    std::vector<float> value_;
};

}  // namespace escultura::shape

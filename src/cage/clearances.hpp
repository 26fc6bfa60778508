/// @file cage/clearances.hpp
/// A body made ready for a wrap with faces larger than its walls and gaps.

#pragma once
#include <functional>
#include <unordered_map>

#include "cage/fit.hpp"
#include "surface/bins.hpp"

namespace escultura::cage {

/// Balls inside walls and in gaps of a target that touch places of its surface, up to a largest radius. Thread-safe
/// once built.
class Clearances {
  public:
    /// @param most     largest radius looked for, mm
    /// @param spacing  of the places about, mm; 0: every vertex
    Clearances(const Target& target, double most, double spacing = 0);

    struct Balls {
        Vec3 point = Vec3::Zero(), normal = Vec3::UnitZ();  ///< on the surface; out of the body
        double inner = 0,
               outer = 0;  ///< radii of the wall's ball and the gap's, mm; `most`: none that touches two sides
    };
    const std::vector<Balls>& balls() const { return balls_; }
    double most() const { return most_; }

  private:
    std::vector<Balls> balls_;
    double most_;
};

/// The body with thin walls filled out and, when asked, narrow gaps opened, for the wrap only: the cage then has a
/// layer of faces on each side of a wall or gap that is thinner than a face, and the fit draws both onto the real
/// surface.
class WrapReady {
  public:
    /// @param value  of the body: negative inside; thread-safe, outlives this
    /// @param wall   walls are made so thick, mm; at most twice the clearances' largest radius
    /// @param gap    that filling leaves open, mm
    /// @param opened radius that gaps are opened to where their walls have room, mm; 0: they stay
    WrapReady(const std::function<double(const Vec3&)>& value, const Clearances& clearances, double wall, double gap,
              double opened);
    double operator()(const Vec3& p) const;

  private:
    using Nearby = std::unordered_map<std::int64_t, std::vector<surface::Ball>>;
    const std::function<double(const Vec3&)>& value_;
    double reach_;
    surface::Bins bins_;
    Nearby walls_, gaps_;
};

}  // namespace escultura::cage

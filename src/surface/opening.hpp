/// @file surface/opening.hpp
/// What a ball reaches from inside a body (morphological opening), near places where that is less than the body:
/// feather edges and the tips of tongues.

#pragma once
#include <functional>
#include <span>
#include <unordered_map>

#include "base/progress.hpp"
#include "surface/bins.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::surface {

/// The union of the inscribed balls that are at least as large as a given one, around places too thin for it.
class BallOpening {
  public:
    /// A group of places that the ball does not reach.
    struct Place {
        Vec3 at = Vec3::Zero();  ///< the point farthest from what the ball reaches
        double depth = 0;        ///< its distance from there, mm
    };
    BallOpening() = default;
    /// @param thickness  [vertices] of walls, mm, see wallThickness(): what is much thicker than the ball is not
    ///                   looked at
    /// @param radius     of the ball, mm
    /// @param leftOut    vertices that do not count as thin places; may be empty
    /// @throws Cancelled
    BallOpening(const TriMesh& mesh, const TriangleTree& tree, std::span<const float> thickness, double radius,
                const std::function<bool(const Vec3&)>& leftOut, Progress& progress);
    bool empty() const { return places_.empty(); }
    /// The deepest first.
    const std::vector<Place>& places() const { return places_; }
    /// Distance outside of what the ball reaches, mm, at most two radii; minus infinity away from the thin places,
    /// where it reaches everything.
    double value(const Vec3& p) const;

  private:
    /// Places that the ball does not reach, in groups, each with the depth of its deepest.
    void gatherPlaces(const std::vector<Vec3>& thin, const std::vector<Ball>& balls);
    double radius_ = 0, step_ = 0;
    Bins bins_;                                                  ///< of two radii
    Box3 box_;                                                   ///< around the thin places
    std::unordered_map<std::int64_t, std::vector<Ball>> balls_;  ///< that come within two radii; only near thin places
    std::unordered_map<std::int64_t, std::vector<Vec3>> thin_;   ///< places too thin for the ball
    std::vector<Place> places_;
};

}  // namespace escultura::surface

/// @file shape/machined_solid.hpp
/// A blended body cut by exact planes and cylinders: the solid of an optimised part.
///
///   solid = (blend of free body and added bodies, trimmed) and inside planes, minus cuts
///
/// Every plane and cylinder is one surface with exact distance; coincident ones share an id.

#pragma once
#include <algorithm>
#include <functional>
#include <memory>
#include <vector>

#include "shape/outline.hpp"
#include "shape/shape.hpp"

namespace escultura::shape {

/// How far the segments of a border may lie off the true one, mm.
constexpr double borderError = 5e-4;

/// A scalar function in space with its gradient, negative inside. Thread-safe.
class FreeBody {
  public:
    virtual ~FreeBody() = default;
    virtual double value(const Vec3& p) const = 0;
    /// Default: central differences with a step of 1e-4 mm.
    virtual Vec3 gradient(const Vec3& p) const;
};

/// A free body from a function, for tests and simple shapes.
class FunctionBody final : public FreeBody {
  public:
    explicit FunctionBody(std::function<double(const Vec3&)> function) : function_(std::move(function)) {}
    double value(const Vec3& p) const override { return function_(p); }

  private:
    std::function<double(const Vec3&)> function_;
};

class KeptFaces;

/// A free body that also tells cheaply how far it is.
class BoundedBody : public FreeBody {
  public:
    /// A value that the body's at the place is not below, mm.
    virtual double atLeast(const Vec3& p) const = 0;
};

/// A bar with rounded rims: union material of bosses and pads. Round with exact distance, or of any outline.
struct RoundBar {
    Vec3 start = Vec3::Zero();  ///< centre of the first end, mm
    Vec3 axis = Vec3::UnitX();  ///< unit vector
    double length = 0, radius = 0, rounding = 0;
    std::shared_ptr<const Outline> outline{};  ///< in place of the circle, which then holds it; across the axis
    double grown = 0;                          ///< the outline, mm
    /// In place of everything: the layer behind faces of a body, or what is around its edges; start, length and radius
    /// are those of a bar about it.
    std::shared_ptr<const BoundedBody> layer{};
    double distance(const Vec3& p) const;
    Vec3 gradient(const Vec3& p) const;
    /// Whether a place on its surface lies on a rounded rim. @param near  slack, mm
    bool isOnRim(const Vec3& p, double near) const;

  private:
    /// How far outside the middles of the rims' rounding a place is, across the axis.
    double across(const Vec3& p) const;
};

/// A half-space, an infinite cylinder, or an infinite prism over an outline.
struct Primitive {
    enum class Kind { plane, cylinder, prism } kind = Kind::plane;
    Vec3 point = Vec3::Zero();
    Vec3 axis = Vec3::UnitX();  ///< unit normal (distance grows along it) or unit axis
    double radius = 0;          ///< prism: how much the outline is grown
    bool inverted = false;      ///< cylinder: the negative side is outside
    std::shared_ptr<const Outline> outline{};
    double distance(const Vec3& p) const;
    Vec3 gradient(const Vec3& p) const;
};

/// Where two surfaces bound a solid together: their edge rounded by a ball that rolls inside along both.
struct Rounded {
    double value = 0;              ///< negative inside, mm
    double first = 0, second = 0;  ///< shares of the two gradients in its own
    bool turns = false;            ///< whether the ball's own surface is nearest; else one of the two is
};

/// Exact for planes of up to 120 degrees between their normals. Where the two face each other more (as the sides of a
/// wall do) the ball gets smaller, so that what is thinner than it stays.
/// @param a, b    distances, negative inside, mm
/// @param cosine  of the angle between their outward normals
/// @param radius  of the ball, mm, > 0
Rounded roundedMaximum(double a, double b, double cosine, double radius);

/// Polynomial smooth minimum (C1): equals min(a, b) where |a - b| >= radius, at most radius/4 below it elsewhere.
double smoothMinimum(double a, double b, double radius);

/// See the file's comment. Build it with the add functions, then use it as a Shape.
class MachinedSolid final : public Shape {
  public:
    /// @param body    free body; null: everything (then at least the inside planes must bound the solid)
    /// @param bounds  a box that holds the solid
    MachinedSolid(std::shared_ptr<const FreeBody> body, const Box3& bounds);

    /// Adds kept material; where it meets the body a fillet of the given radius is left (mm, >= 0).
    void addBar(const RoundBar& bar, double blendRadius);
    /// Trims the body (kept material included) to the negative side of a primitive, the edges rounded with the given
    /// radius. The trimmed faces belong to the free surface.
    void addTrim(const Primitive& primitive, double radius);
    /// The same with a body's inside (or, inverted, its outside).
    void addTrim(std::shared_ptr<const FreeBody> body, bool inverted, double radius);
    /// Adds material that no rounding takes from: it is joined after the trims. @param within  bounds it; null: nothing
    void addKept(const RoundBar& bar, std::shared_ptr<const FreeBody> within);
    /// The solid lies on the negative side of this primitive. @return surface id
    int addInside(const Primitive& primitive);
    /// Removes the intersection of the given primitives' negative sides (a capped cylinder: cylinder and two planes).
    /// @return surface ids, one a primitive
    std::vector<int> addCut(const std::vector<Primitive>& primitives);
    /// Removes the space before faces of a body, which are exact then; once a solid.
    /// @return surface ids, one a group of faces
    std::vector<int> addFaces(std::shared_ptr<const KeptFaces> faces);

    Sample evaluate(const Vec3& p) const override;
    int surfaceCount() const override { return static_cast<int>(surfaces_.size()); }
    double surfaceValue(int surface, const Vec3& p) const override;
    Vec3 surfaceGradient(int surface, const Vec3& p) const override;
    Box3 bounds() const override { return bounds_; }
    double roughness() const override { return faces_ ? 4 * borderError : 0; }
    bool ownsExactly(int surface) const override { return surfaces_[surface].group >= 0; }
    /// Of a surface that is no face of a body.
    const Primitive& primitive(int surface) const { return surfaces_[surface].primitive; }
    /// Whether faces of a body are among its surfaces.
    bool keepsFaces() const { return faces_ != nullptr; }
    double bodyValue(const Vec3& p) const;
    /// Longest straight edge that leaves the rounded edges, fillets and rims at a place by no more than an error;
    /// infinite where there are none, or where they turn so little that the error cannot be reached. mm
    /// @param near  how far from a place they count, mm
    double chordAt(const Vec3& p, double near, double error) const;

  private:
    /// What the planes and cuts leave of a body with a value at a place.
    Sample machined(const Vec3& p, double body) const;
    class Joining;
    struct Surface {
        Primitive primitive;
        double outward = 1;  // sign that makes the function grow out of the solid
        int group = none;    // in place of the primitive: faces of a body, or the walls of the space before them
        static constexpr int none = -2, walls = -1;
    };
    struct Reference {
        int surface;
        double sign;  // +1: the primitive's own distance is negative inside the removed or kept region
    };
    /// Radii of a rounding beyond which a surface plays no part in it.
    static constexpr double roundingReach = 1.5;
    struct Bar {
        RoundBar bar;
        double blend;
        Vec3 centre;
        double reach;  // radius of the bar's bounding sphere
        /// Whether the bar is so far away that it cannot change the value v of what is there already.
        bool isBeyond(const Vec3& p, double v) const {
            if (bar.layer && layerBeyond(p, v)) return true;
            const double limit = std::max(v, roundingReach * blend + std::max(-v, 0.0)) + reach;
            return (p - centre).squaredNorm() > limit * limit;
        }
        bool layerBeyond(const Vec3& p, double v) const;
    };
    Reference intern(const Primitive& primitive, double outward);

    std::shared_ptr<const FreeBody> body_;
    Box3 bounds_;
    struct Trim {
        Primitive primitive;
        double radius;
        std::shared_ptr<const FreeBody> body{};  // in place of the primitive
        double sign = 1;
        double distance(const Vec3& p) const { return body ? sign * body->value(p) : primitive.distance(p); }
        Vec3 gradient(const Vec3& p) const { return body ? Vec3(sign * body->gradient(p)) : primitive.gradient(p); }
    };
    struct Kept {
        RoundBar bar;
        std::shared_ptr<const FreeBody> within;
        double distance(const Vec3& p) const {
            const double d = bar.distance(p);
            return within ? std::max(d, within->value(p)) : d;
        }
        Vec3 gradient(const Vec3& p) const {
            return !within || bar.distance(p) >= within->value(p) ? bar.gradient(p) : within->gradient(p);
        }
    };
    std::vector<Kept> kept_;
    std::vector<Bar> bars_;
    std::vector<Trim> trims_;
    std::vector<Surface> surfaces_;  // index 0: the free body
    std::vector<Reference> inside_;
    std::vector<std::vector<Reference>> cuts_;
    std::shared_ptr<const KeptFaces> faces_;
    std::vector<int> faceIds_;  // [groups]
};

}  // namespace escultura::shape

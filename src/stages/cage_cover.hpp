/// @file stages/cage_cover.hpp
/// The body that a cage is wrapped around: the surface's without its cuts, with members added.

#pragma once
#include "cage/fit.hpp"
#include "duty/recipe.hpp"
#include "shape/kept_faces.hpp"
#include "shape/shape.hpp"
#include "stages/part_shape.hpp"
#include "surface/opening.hpp"

namespace escultura::stages {

struct SurfaceResult;
struct FieldResult;

/// How the body ends at layers that are kept behind faces: its members run straight into them from just before, and end
/// inside, away from their faces and edges, so that the exact layers take over.
struct LayerEnds {
    std::shared_ptr<const shape::KeptFaces> faces{};  ///< null: there are none
    std::vector<double> depth{};                      ///< of the layers, by interface, mm
    double cell = 0;                                  ///< of the field, mm
    /// Value of a body at a place. @param plain  receives whether no layer plays a part there
    double value(const shape::Shape& body, const Vec3& p, bool& plain) const;
};

/// The body that a cage is wrapped around, as steps build it up. What will be cut away is cut here too, but for a
/// margin and with round edges, so that the features find material to cut and no more.
class Covered final : public shape::Shape {
  public:
    std::shared_ptr<const shape::Shape> base;
    LayerEnds layers;
    std::vector<Member> members;
    std::vector<std::vector<shape::Primitive>> cuts;
    double margin = 0;
    std::vector<solid::Feature> blends;        ///< features that the cage goes over into
    double inset = 0;                          ///< of what the cage holds of them, mm
    surface::BallOpening opening;              ///< feather edges that no cage could follow end where its ball does
    std::vector<std::array<Vec3, 2>> mirrors;  ///< planes (point, unit normal): they end there on both sides
    Box3 box;
    shape::Sample evaluate(const Vec3& p) const override { return {surfaceValue(0, p), 0}; }
    int surfaceCount() const override { return 1; }
    double surfaceValue(int, const Vec3& p) const override;
    Vec3 surfaceGradient(int, const Vec3& p) const override;
    Box3 bounds() const override { return box; }

  private:
    double reachedAt(const Vec3& p) const;
    /// @param plain  true afterwards when the base alone counts here
    double valueAt(const Vec3& p, bool& plain) const;
};

/// Adds a member to a cover. @pre its numbers are sound
void addMember(Covered& cover, const Member& member);

/// The cover and what of it is exact later.
struct CoverBody {
    std::shared_ptr<Covered> shape;
    std::function<double(const Vec3&)> latticeSpacing{};  ///< see PartShape
    std::function<bool(const Vec3&)> zone;                ///< places at interfaces, which features make exact
};

/// Bores filled, and a margin of 0.6 face sizes left wherever something is machined off. @throws Cancelled
CoverBody coverBody(const Part& part, const FieldResult& field, const SurfaceResult& surface, const Recipe& recipe,
                    double faceSize, Progress& progress);
/// The cover's surface, to fit a cage to. @throws Cancelled
std::shared_ptr<const cage::Target> targetOf(const CoverBody& cover, const Recipe& recipe, Progress& progress);
/// Planes of the part about which the target is symmetric too; the others are told in the notes.
std::vector<std::array<Vec3, 2>> keptSymmetry(const Part& part, const cage::Target& target, const shape::Shape& body,
                                              double faceSize, std::vector<std::string>& notes);
/// How many feather edges end early and by how much; empty: none.
std::string featherText(const CoverBody& cover, const SurfaceResult& surface, double faceSize);
/// A closed surface, such as a cage's limit surface, as a Shape. @param offset  outward, mm
std::shared_ptr<const shape::Shape> meshShape(surface::TriMesh mesh, double offset = 0);

}  // namespace escultura::stages

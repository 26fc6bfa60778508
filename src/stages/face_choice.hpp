/// @file stages/face_choice.hpp
/// Faces of a body that an engineer picks for an interface.

#pragma once
#include <string>
#include <vector>

#include "stages/kept_faces.hpp"

namespace escultura::stages {

/// Faces that are picked one after the other.
class FaceChoice {
  public:
    explicit FaceChoice(BodySource source) : source_(std::move(source)) {}
    /// Takes the face near a picked place, or leaves it out when it is taken already. @param slack  see faceAt()
    void toggle(const Vec3& place, double slack);
    /// Faces of a STEP file that go on smoothly from those that are taken.
    void addNeighbours();
    /// Cylinders of a STEP file with a radius that one of those has which are taken.
    void addSameRadius();
    /// Whether every face is a plane or a cylinder that goes all around.
    bool isPlain() const;
    bool empty() const { return faces_.empty(); }
    std::size_t count() const { return faces_.size(); }
    /// A place on each of them, exactly on its surface.
    std::vector<Vec3> places() const;
    /// "2 faces, 157 mm²: cylinder, Ø 10 mm; plane"
    std::string describe() const;
    /// An interface of them with its origin and its axis: that of cylinders about one axis, else into the body.
    Interface interface(double depth) const;

  private:
    struct Taken {
        exchange::BodyFace face;
        int number;
        Vec3 place;
    };
    void take(int number);
    BodySource source_;
    std::vector<Taken> faces_;
};

}  // namespace escultura::stages

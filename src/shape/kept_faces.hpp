/// @file shape/kept_faces.hpp
/// Faces of a designed body that a part keeps exactly: the space before them and the material behind them.

#pragma once
#include <memory>
#include <vector>

#include "shape/exact_surface.hpp"
#include "shape/machined_solid.hpp"

namespace escultura::shape {

/// A face of a body: a part of an exact surface within a border.
struct FacePatch {
    /// How the body goes on beyond a piece of the border.
    enum class Beyond {
        edge,     ///< it turns away from the face: an outer edge
        smooth,   ///< tangentially, by less than 5 degrees
        concave,  ///< it rises before the face: an inner edge
    };
    /// A piece of the border: short enough to be straight.
    struct Segment {
        Vec3 a = Vec3::Zero(), b = Vec3::Zero();  ///< mm
        Vec3 inward = Vec3::Zero();               ///< unit vector along the face, from the segment into it
        Beyond beyond = Beyond::edge;
        bool outer = true;             ///< of the border around the face; else of a hole in it
        int previous = -1, next = -1;  ///< segments that go on at a and at b
    };
    std::string name;  ///< as the file calls it; may be empty
    std::shared_ptr<const ExactSurface> surface;
    std::vector<Segment> border;
    std::vector<Vec3> places;                    ///< spread over it, not on its border, mm
    std::vector<std::array<Vec3, 3>> triangles;  ///< that stand for it, outward, mm
    double area = 0;                             ///< mm2
    Box3 box;
    int interface = 0;     ///< that keeps it
    double clearance = 0;  ///< how deep the space before it is kept free, mm
    double margin = 0;     ///< how far that space reaches beyond outer edges, mm
};

/// Joins the ends of the segments of a border. @param near  mm
void linkBorder(FacePatch& patch, double near);

/// What several faces keep and what they clear, each place by the face that is nearest. Thread-safe.
class KeptFaces {
  public:
    explicit KeptFaces(std::vector<FacePatch> patches);

    struct Nearest {
        int patch = -1;     ///< -1: none within reach
        double height = 0;  ///< before its surface, mm
        double across = 0;  ///< beyond its border, negative within, mm
        double distance = std::numeric_limits<double>::infinity();
        double front = 0;   ///< beyond what the free space before it reaches to, negative within, mm
        double filled = 0;  ///< beyond its border without holes, mm
        Vec3 foot = Vec3::Zero(), normal = Vec3::Zero();
        Vec3 beyond = Vec3::Zero();  ///< gradient of across, a unit vector; zero where there is no border
    };
    /// @param reach      farther faces do not count, mm
    /// @param interface  only its faces; -1: all
    Nearest nearest(const Vec3& p, double reach, int interface = -1) const;

    /// The space that is kept free before the faces: positive inside.
    struct Before {
        double value = 0;  ///< distance to its border, mm; a bound of it outside
        int patch = -1;    ///< on whose face the place's value is measured; -1: on its other walls
    };
    Before before(const Vec3& p) const;
    /// Value of the walls and the ceiling of that space, positive inside.
    double walls(const Vec3& p) const;
    /// Signed distance to the faces of one smooth group, positive before them, and its gradient.
    double height(int group, const Vec3& p, Vec3* gradient = nullptr) const;

    /// The layer of an interface's faces, negative inside. @param before, behind  its surfaces, mm
    /// @param grown   beyond the borders, mm
    /// @param filled  across holes in the faces as well, and as far as the free space reaches
    double layer(const Vec3& p, int interface, double before, double behind, double grown, bool filled = false) const;

    const std::vector<FacePatch>& patches() const { return patches_; }
    /// Faces of one interface that go on smoothly into each other have one number. [patches]
    const std::vector<int>& groups() const { return groups_; }
    int groupCount() const { return groupCount_; }
    /// Distance to the box about the faces of an interface, 0 inside, mm.
    double boxDistance(const Vec3& p, int interface) const;
    /// How far a layer goes beyond the box about its faces at most, mm.
    double around(double before, double behind, double grown, bool filled) const {
        return std::max(before, behind) + std::max(grown, filled ? margin_ : 0.0);
    }
    /// Whether a place on a surface belongs to the faces of a group. @param slack  mm
    bool holds(int group, const Vec3& p, double slack) const;

  private:
    struct Border {
        double across = 0;  ///< beyond the whole border
        double front = 0;   ///< beyond what the free space reaches to
        double filled = 0;  ///< beyond the border without holes
        Vec3 beyond = Vec3::Zero();
    };
    Border borderAt(std::size_t patch, const Vec3& foot) const;
    Nearest nearestOf(const Vec3& p, double reach, int interface) const;
    /// Consecutive segments of one border and a ball about them.
    struct Chunk {
        Vec3 centre;
        double radius;
        std::uint32_t first, last;
        bool outer, edge, shared;
    };
    std::vector<Chunk> chunksOf(std::size_t patch) const;
    void findShared();
    double heightAbove(std::size_t patch, const Vec3& p, Vec3& normal) const {
        return patches_[patch].surface->distance(p, normal);
    }

    std::vector<FacePatch> patches_;
    std::vector<std::vector<Chunk>> chunks_;              ///< [patches]
    std::vector<std::vector<Chunk>> groupsOfChunks_;      ///< [patches] first and last are chunks
    std::uint64_t id_;                                    ///< of this object alone
    std::vector<std::vector<char>> shared_;               ///< [patches][segments] whether another face goes on there
    std::vector<std::vector<std::array<Vec3, 2>>> ends_;  ///< inward directions at both ends of each segment
    std::vector<int> groups_;
    int groupCount_ = 0;
    double reach_ = 0, margin_ = 0;  ///< of the free space at most, mm
};

/// The layer as a body.
class FaceLayer final : public BoundedBody {
  public:
    FaceLayer(std::shared_ptr<const KeptFaces> faces, int interface, double before, double behind, double grown,
              bool filled = false)
        : faces_(std::move(faces)),
          interface_(interface),
          before_(before),
          behind_(behind),
          grown_(grown),
          filled_(filled) {}
    double value(const Vec3& p) const override {
        return faces_->layer(p, interface_, before_, behind_, grown_, filled_);
    }
    Vec3 gradient(const Vec3& p) const override;
    double atLeast(const Vec3& p) const override {
        return std::max(faces_->boxDistance(p, interface_) - faces_->around(before_, behind_, grown_, filled_),
                        -std::max(before_, behind_));
    }

  private:
    std::shared_ptr<const KeptFaces> faces_;
    int interface_;
    double before_, behind_, grown_;
    bool filled_;
};

}  // namespace escultura::shape

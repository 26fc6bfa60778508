/// @file solid/kernel.hpp
/// Inside this folder only: what is hidden behind build.hpp.

#pragma once
#include <Message_ProgressIndicator.hxx>
#include <NCollection_DataMap.hxx>
#include <TopTools_ShapeMapHasher.hxx>
#include <TopoDS_Face.hxx>
#include <TopoDS_Shape.hxx>
#include <TopoDS_Solid.hxx>
#include <chrono>
#include <gp_Ax2.hxx>
#include <optional>

#include "solid/build.hpp"

namespace escultura::solid {

/// Surface (index into SolidResult::surfaces) of each face of a shape.
using FaceOwners = NCollection_DataMap<TopoDS_Shape, int, TopTools_ShapeMapHasher>;

class Brep {
  public:
    TopoDS_Shape shape;
    FaceOwners owner;
};

inline gp_Pnt toPoint(const Vec3& p) {
    return {p.x(), p.y(), p.z()};
}
inline gp_Dir toDirection(const Vec3& d) {
    return {d.x(), d.y(), d.z()};
}
inline Vec3 fromPoint(const gp_XYZ& p) {
    return {p.X(), p.Y(), p.Z()};
}

/// Passes the kernel's progress on, and breaks off when the user cancels or time is up.
class KernelProgress : public Message_ProgressIndicator {
  public:
    KernelProgress(Progress& progress, std::string step, double seconds)
        : progress_(progress),
          step_(std::move(step)),
          end_(std::chrono::steady_clock::now() + std::chrono::duration_cast<std::chrono::steady_clock::duration>(
                                                      std::chrono::duration<double>(seconds))) {}
    Standard_Boolean UserBreak() override { return progress_.isCancelled() || late(); }
    void Show(const Message_ProgressScope&, const Standard_Boolean) override {
        if (!progress_.isCancelled()) progress_.step(step_, GetPosition());
    }
    bool late() const { return std::chrono::steady_clock::now() > end_; }

  private:
    Progress& progress_;
    std::string step_;
    std::chrono::steady_clock::time_point end_;
};

/// A tool of a feature and what its faces are called.
struct Tool {
    TopoDS_Shape shape;
    std::vector<std::pair<TopoDS_Face, SolidSurface>> faces;
};

/// The bodies that a feature adds or cuts; empty for fillets and chamfers.
/// @param reach    longer than any part, mm
/// @param options  who reads bodies of triangles
/// @throws InputError when its numbers do not make a body, or its file cannot be read
std::vector<Tool> toolsOf(const Feature& feature, double reach, const SolidOptions& options);
/// The original's material behind the faces that the feature's interface keeps, as one body.
/// @throws InputError when the file cannot be read, or a face's border is of a kind that cannot be made
Tool layerTool(const Feature& feature, const SolidOptions& options);
/// @throws InputError when a STEP file cannot be read or has no solid
TopoDS_Shape readSolid(const std::string& path);
/// Whether a file is a STEP file, by its first bytes.
bool isStepFile(const std::string& path);
/// A solid with flat faces: triangles in one plane become one face.
/// @throws InputError when they do not close or are too many
TopoDS_Shape facetedSolid(const surface::TriMesh& mesh);

/// What faces add to volume, area and centre of gravity by the divergence theorem; known faces are not measured again.
class FaceMeasures {
  public:
    struct Share {
        double volume = 0, area = 0;
        Vec3 moment = Vec3::Zero();  ///< about the point of all shares
    };
    /// The point that every share is taken about, or their sum means nothing; far from the faces their digits would
    /// cancel. @param first  taken when there is none yet: a point of the body
    const Vec3& about(const Vec3& first) {
        if (!about_) about_ = first;
        return *about_;
    }
    /// Tells the share of a face as it lies on its surface (orientation forward).
    void know(const TopoDS_Shape& face, const Share& share) { known_.Bind(face.Oriented(TopAbs_FORWARD), share); }
    Share of(const TopoDS_Shape& shape);

    /// Centroid of a share's volume.
    Vec3 centroid(const Share& s) const { return about_.value_or(Vec3::Zero()) + s.moment / s.volume; }

  private:
    std::optional<Vec3> about_;
    NCollection_DataMap<TopoDS_Shape, Share, TopTools_ShapeMapHasher> known_;
};

/// @param check  also runs the kernel's check of validity
SolidFigures figuresOf(const TopoDS_Shape& shape, bool check, FaceMeasures& measures);

/// Whether every edge joins two faces. @param open  receives a place of an edge that does not; may be null
bool isClosed(const TopoDS_Shape& shape, Vec3* open = nullptr);

/// The patches as one solid with shared edges; tells the measures of its faces.
TopoDS_Shape freeSolid(const cage::Cage& cage, const cage::PatchSet& patches, FaceMeasures& measures);
/// The way out when the direct one does not close: faces are sewn within a tolerance.
TopoDS_Shape sewnSolid(const cage::PatchSet& patches);

/// Plane or cylinder of a face, as far as it is one; the kind is free otherwise.
SolidSurface describeFace(const TopoDS_Face& face);

}  // namespace escultura::solid

/// @file solid/build.hpp
/// From patches and features to a boundary representation that any CAD system can open.

#pragma once
#include <functional>
#include <memory>

#include "base/progress.hpp"
#include "cage/patches.hpp"
#include "shape/kept_faces.hpp"
#include "solid/feature.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::solid {

/// A boundary representation; the kernel is hidden behind it.
class Brep;

struct SolidFigures {
    double volume = 0;             ///< mm3
    double area = 0;               ///< mm2
    Vec3 centroid = Vec3::Zero();  ///< mm
    int solids = 0, faces = 0, edges = 0;
    bool valid = false;   ///< the kernel's check
    bool closed = false;  ///< every edge joins two faces
};

/// What became of one feature.
struct FeatureOutcome {
    std::string name;
    bool built = false;
    std::string problem;     ///< why not, or what is incomplete about it; empty: nothing
    Vec3 at = Vec3::Zero();  ///< where, mm
    double volume = 0;       ///< added (+) or removed (-), mm3
    double identity = 0;     ///< |V(A-B) + V(A and B) - V(A)| / V(A), the boolean's own check
};

/// A named surface of the solid; index 0 is the free surface. Its index is the owner of triangles.
struct SolidSurface {
    enum class Kind { free, plane, cylinder, cone, other } kind = Kind::free;
    std::string feature, interface, face;
    Vec3 point = Vec3::Zero(), axis = Vec3::UnitZ();  ///< plane: outward normal; cylinder: axis
    double radius = 0;                                ///< cylinder, mm
    bool hollow = false;                              ///< cylinder with the material outside
    int faces = 0;                                    ///< of the solid
};

struct SolidResult {
    std::shared_ptr<const Brep> brep;
    SolidFigures free;  ///< before the features
    SolidFigures solid;
    std::vector<FeatureOutcome> features;
    std::vector<SolidSurface> surfaces;
    surface::TriMesh mesh;  ///< triangles; owner: index of the surface
    double deflection = 0;  ///< of the triangles from the solid, mm
    bool sewn = false;      ///< the direct way did not close, the patches were sewn
};

struct SolidOptions {
    double deflection = 0;    ///< of the triangles, mm; 0: 1/6000 of the box's diagonal
    double secondsEach = 60;  ///< a boolean that takes longer is given up
    /// Triangles of an imported body that is no STEP file, or that has an offset. Empty: such bodies are refused.
    std::function<surface::TriMesh(const Feature&)> trianglesOf{};
    /// Faces that layers are behind, and the names of the interfaces that they belong to, by number.
    std::shared_ptr<const shape::KeptFaces> keptFaces{};
    std::vector<std::string> interfaces{};
};

/// Builds the free body from the patches, then the features in order. A feature that fails is left out and says why and
/// where. @throws InputError when the free body does not close, Cancelled
SolidResult buildSolid(const cage::Cage& cage, const cage::PatchSet& patches, const std::vector<Feature>& features,
                       const SolidOptions& options, Progress& progress);

/// The boundary representation as bytes, in the kernel's open binary format, with the surface of each face.
std::vector<char> packed(const Brep& brep);
/// @throws InputError when the bytes are damaged
std::shared_ptr<const Brep> unpacked(const std::vector<char>& bytes);

/// Whether the solid cuts itself: slow, for the release gate. @return problems, at most 20
std::vector<std::string> selfInterference(const Brep& brep, Progress& progress);

/// Writes STEP AP214 in mm: part name, faces named by feature and coloured by interface. Written beside and renamed.
/// @throws InputError when it cannot be written
void writeStep(const std::string& path, const SolidResult& solid, const std::string& partName);

/// Writes IGES 5.3 in mm, the solid as one body; names and colours are left to STEP. Written beside and renamed.
/// @throws InputError when it cannot be written
void writeIges(const std::string& path, const SolidResult& solid, const std::string& partName);
/// @throws InputError naming file, expected and found
SolidFigures readIgesFigures(const std::string& path);

/// Figures of a STEP file's solids, for comparing with what was written.
struct StepFigures {
    SolidFigures figures;
    std::string partName;
    struct Round {
        Vec3 point, axis;
        double radius = 0;
    };
    std::vector<Round> cylinders;
    std::vector<std::array<Vec3, 2>> planes;  ///< point, normal
    std::vector<std::string> faceNames;       ///< without doubles
};
/// @throws InputError naming file, expected and found
StepFigures readStepFigures(const std::string& path);

}  // namespace escultura::solid

#include "exchange/step_reader.hpp"

#include <BRepMesh_IncrementalMesh.hxx>
#include <BRep_Tool.hxx>
#include <Message.hxx>
#include <Message_Messenger.hxx>
#include <Message_Printer.hxx>
#include <Poly_Triangulation.hxx>
#include <STEPControl_Reader.hxx>
#include <Standard_Failure.hxx>
#include <StepRepr_RepresentationItem.hxx>
#include <TCollection_HAsciiString.hxx>
#include <TopExp_Explorer.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Face.hxx>
#include <TopoDS_Shape.hxx>
#include <TransferBRep.hxx>
#include <Transfer_Binder.hxx>
#include <Transfer_TransientProcess.hxx>
#include <XSControl_TransferReader.hxx>
#include <XSControl_WorkSession.hxx>

#include "base/error.hpp"

namespace escultura::exchange {

namespace {

/// Name of the file's item that a shape was made of; empty: it has none.
std::string nameOf(const STEPControl_Reader& reader, const TopoDS_Shape& shape) {
    const auto item = Handle(StepRepr_RepresentationItem)::DownCast(
        reader.WS()->TransferReader()->EntityFromShapeResult(shape.Located(TopLoc_Location()), 1));
    const auto other = item.IsNull() ? Handle(StepRepr_RepresentationItem)::DownCast(
                                           reader.WS()->TransferReader()->EntityFromShapeResult(shape, 1))
                                     : item;
    if (other.IsNull() || other->Name().IsNull()) return {};
    std::string name = other->Name()->ToCString();
    if (name == "NONE") name.clear();
    return name;
}

/// Adds a face's triangles. @return whether it has any
bool addFace(const TopoDS_Face& face, surface::TriMesh& mesh) {
    TopLoc_Location place;
    const Handle(Poly_Triangulation) t = BRep_Tool::Triangulation(face, place);
    if (t.IsNull()) return false;
    const auto first = static_cast<std::int32_t>(mesh.position.size());
    for (int n = 1; n <= t->NbNodes(); ++n) {
        const gp_Pnt p = t->Node(n).Transformed(place.Transformation());
        mesh.position.emplace_back(p.X(), p.Y(), p.Z());
    }
    const bool turned = face.Orientation() == TopAbs_REVERSED;
    for (int n = 1; n <= t->NbTriangles(); ++n) {
        int a = 0, b = 0, c = 0;
        t->Triangle(n).Get(a, b, c);
        if (turned) std::swap(b, c);
        mesh.triangle.push_back({first + a - 1, first + b - 1, first + c - 1});
        mesh.owner.push_back(0);
    }
    return true;
}

}  // namespace

std::vector<NamedBody> readStep(const std::string& path, double deviation) {
    auto refuse = [&](const std::string& place, const std::string& expected, const std::string& found) {
        throw InputError(ErrorDetail{"The STEP file cannot be read.", path, place, expected, found});
    };
    const char* const anything = "at least one solid or shell";
    Message::DefaultMessenger()->RemovePrinters(STANDARD_TYPE(Message_Printer));
    std::vector<NamedBody> bodies;
    try {
        STEPControl_Reader reader;
        if (reader.ReadFile(path.c_str()) != IFSelect_RetDone) refuse("contents", anything, "a damaged file");
        reader.TransferRoots();
        const TopoDS_Shape shape = reader.OneShape();
        if (shape.IsNull()) refuse("contents", anything, "no shape");
        BRepMesh_IncrementalMesh(shape, deviation, Standard_False, 0.25, Standard_True);
        auto add = [&](const TopoDS_Shape& body) {
            NamedBody b{nameOf(reader, body), {}};
            int number = 0;
            for (TopExp_Explorer faces(body, TopAbs_FACE); faces.More(); faces.Next()) {
                ++number;
                if (!addFace(TopoDS::Face(faces.Current()), b.mesh))
                    refuse((b.name.empty() ? "body " + std::to_string(bodies.size() + 1) : "body '" + b.name + "'") +
                               ", face " + std::to_string(number),
                           "a face that can be made triangles of", "one with a gap in its border, or no surface");
            }
            if (!b.mesh.triangle.empty()) bodies.push_back(std::move(b));
        };
        for (TopExp_Explorer solids(shape, TopAbs_SOLID); solids.More(); solids.Next()) add(solids.Current());
        for (TopExp_Explorer shells(shape, TopAbs_SHELL, TopAbs_SOLID); shells.More(); shells.Next())
            add(shells.Current());
        NamedBody loose;
        for (TopExp_Explorer faces(shape, TopAbs_FACE, TopAbs_SHELL); faces.More(); faces.Next())
            if (!addFace(TopoDS::Face(faces.Current()), loose.mesh))
                refuse("faces of no shell", "faces that can be made triangles of", "one with a gap in its border");
        if (!loose.mesh.triangle.empty()) bodies.push_back(std::move(loose));
    } catch (const Standard_Failure& e) {
        refuse("contents", anything, e.GetMessageString());
    }
    if (bodies.empty()) refuse("contents", anything, "no face");
    return bodies;
}

}  // namespace escultura::exchange

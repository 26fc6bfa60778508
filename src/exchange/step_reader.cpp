#include "exchange/step_reader.hpp"

#include <BRepMesh_IncrementalMesh.hxx>
#include <BRep_Tool.hxx>
#include <Message.hxx>
#include <Message_Messenger.hxx>
#include <Message_Printer.hxx>
#include <Poly_Triangulation.hxx>
#include <Standard_Failure.hxx>
#include <StepRepr_RepresentationItem.hxx>
#include <TCollection_HAsciiString.hxx>
#include <TopExp_Explorer.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Face.hxx>
#include <TransferBRep.hxx>
#include <Transfer_Binder.hxx>
#include <Transfer_TransientProcess.hxx>
#include <XSControl_TransferReader.hxx>
#include <XSControl_WorkSession.hxx>
#include <mutex>
#include <set>

#include "base/error.hpp"
#include "exchange/step_shape.hpp"

namespace escultura::exchange {

namespace {

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

StepShape::StepShape(const std::string& path, double deviation) : path_(path) {
    const char* const anything = "at least one solid or shell";
    // the kernel keeps its translation's settings for all readers
    static std::mutex reading;
    const std::lock_guard lock(reading);
    Message::DefaultMessenger()->RemovePrinters(STANDARD_TYPE(Message_Printer));
    try {
        if (reader_.ReadFile(path.c_str()) != IFSelect_RetDone) refuse("contents", anything, "a damaged file");
        reader_.TransferRoots();
        shape_ = reader_.OneShape();
        if (shape_.IsNull()) refuse("contents", anything, "no shape");
        BRepMesh_IncrementalMesh(shape_, deviation, Standard_False, 0.25, Standard_True);
        auto add = [&](const TopoDS_Shape& body) { bodies_.emplace_back(body, nameOf(body)); };
        for (TopExp_Explorer solids(shape_, TopAbs_SOLID); solids.More(); solids.Next()) add(solids.Current());
        for (TopExp_Explorer shells(shape_, TopAbs_SHELL, TopAbs_SOLID); shells.More(); shells.Next())
            add(shells.Current());
    } catch (const Standard_Failure& e) {
        refuse("contents", anything, e.GetMessageString());
    }
}

std::string StepShape::nameOf(const TopoDS_Shape& shape) const {
    auto find = [&](const TopoDS_Shape& s) {
        return Handle(StepRepr_RepresentationItem)::DownCast(
            reader_.WS()->TransferReader()->EntityFromShapeResult(s, 1));
    };
    auto item = find(shape.Located(TopLoc_Location()));
    if (item.IsNull()) item = find(shape);
    if (item.IsNull() || item->Name().IsNull()) return {};
    const std::string name = item->Name()->ToCString();
    return name == "NONE" ? std::string() : name;
}

void StepShape::refuse(const std::string& place, const std::string& expected, const std::string& found) const {
    throw InputError(ErrorDetail{"The STEP file cannot be read.", path_, place, expected, found});
}

bool isStep(const std::string& start) {
    return start.find("ISO-10303-21") != std::string::npos;
}

std::vector<std::string> ownNames(std::vector<std::string> names) {
    std::set<std::string> used;
    for (std::size_t k = 0; k < names.size(); ++k) {
        std::string& name = names[k];
        if (name.empty()) name = "body " + std::to_string(k + 1);
        const std::string own = name;
        for (int n = 2; !used.insert(name).second; ++n) name = own + " (" + std::to_string(n) + ")";
    }
    return names;
}

std::vector<NamedBody> readStep(const std::string& path, double deviation) {
    const StepShape step(path, deviation);
    std::vector<NamedBody> bodies;
    try {
        for (const auto& [shape, name] : step.bodies()) {
            NamedBody b{name, {}};
            int number = 0;
            for (TopExp_Explorer faces(shape, TopAbs_FACE); faces.More(); faces.Next()) {
                ++number;
                if (!addFace(TopoDS::Face(faces.Current()), b.mesh))
                    step.refuse((name.empty() ? "body " + std::to_string(bodies.size() + 1) : "body '" + name + "'") +
                                    ", face " + std::to_string(number),
                                "a face that can be made triangles of", "one with a gap in its border, or no surface");
            }
            if (!b.mesh.triangle.empty()) bodies.push_back(std::move(b));
        }
        NamedBody loose;
        for (TopExp_Explorer faces(step.shape(), TopAbs_FACE, TopAbs_SHELL); faces.More(); faces.Next())
            if (!addFace(TopoDS::Face(faces.Current()), loose.mesh))
                step.refuse("faces of no shell", "faces that can be made triangles of", "one with a gap in its border");
        if (!loose.mesh.triangle.empty()) bodies.push_back(std::move(loose));
    } catch (const Standard_Failure& e) {
        step.refuse("contents", "at least one solid or shell", e.GetMessageString());
    }
    if (bodies.empty()) step.refuse("contents", "at least one solid or shell", "no face");
    return bodies;
}

}  // namespace escultura::exchange

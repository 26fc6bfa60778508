#include "exchange/step_reader.hpp"

#include <BRepMesh_IncrementalMesh.hxx>
#include <BRep_Tool.hxx>
#include <Message.hxx>
#include <Message_Messenger.hxx>
#include <Message_Printer.hxx>
#include <Poly_Triangulation.hxx>
#include <STEPControl_Reader.hxx>
#include <Standard_Failure.hxx>
#include <TopExp_Explorer.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Face.hxx>
#include <TopoDS_Shape.hxx>

#include "base/error.hpp"

namespace escultura::exchange {

surface::TriMesh readStep(const std::string& path, double deviation) {
    auto refuse = [&](const std::string& found) {
        throw InputError(
            ErrorDetail{"The STEP file cannot be read.", path, "contents", "at least one solid or shell", found});
    };
    Message::DefaultMessenger()->RemovePrinters(STANDARD_TYPE(Message_Printer));
    surface::TriMesh mesh;
    try {
        STEPControl_Reader reader;
        if (reader.ReadFile(path.c_str()) != IFSelect_RetDone) refuse("a damaged file");
        reader.TransferRoots();
        const TopoDS_Shape shape = reader.OneShape();
        if (shape.IsNull()) refuse("no shape");
        BRepMesh_IncrementalMesh(shape, deviation, Standard_False, 0.25, Standard_True);
        for (TopExp_Explorer faces(shape, TopAbs_FACE); faces.More(); faces.Next()) {
            const TopoDS_Face& face = TopoDS::Face(faces.Current());
            TopLoc_Location place;
            const Handle(Poly_Triangulation) t = BRep_Tool::Triangulation(face, place);
            if (t.IsNull()) continue;
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
        }
    } catch (const Standard_Failure& e) {
        refuse(e.GetMessageString());
    }
    if (mesh.triangle.empty()) refuse("no face");
    return mesh;
}

}  // namespace escultura::exchange

#include <BRepAdaptor_Surface.hxx>
#include <BRepGProp.hxx>
#include <IGESControl_Controller.hxx>
#include <IGESControl_Reader.hxx>
#include <IGESControl_Writer.hxx>
#include <Interface_Static.hxx>
#include <Message.hxx>
#include <Message_Messenger.hxx>
#include <Message_Printer.hxx>
#include <Quantity_Color.hxx>
#include <STEPCAFControl_Writer.hxx>
#include <STEPConstruct.hxx>
#include <STEPControl_Reader.hxx>
#include <STEPControl_Writer.hxx>
#include <Standard_Failure.hxx>
#include <StepBasic_Product.hxx>
#include <StepRepr_RepresentationItem.hxx>
#include <StepShape_AdvancedFace.hxx>
#include <TCollection_HAsciiString.hxx>
#include <TDataStd_Name.hxx>
#include <TDocStd_Document.hxx>
#include <TopExp_Explorer.hxx>
#include <TopoDS.hxx>
#include <Transfer_FinderProcess.hxx>
#include <XCAFApp_Application.hxx>
#include <XCAFDoc_ColorTool.hxx>
#include <XCAFDoc_DocumentTool.hxx>
#include <XCAFDoc_ShapeTool.hxx>
#include <XSControl_TransferReader.hxx>
#include <XSControl_TransferWriter.hxx>
#include <XSControl_WorkSession.hxx>
#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <functional>
#include <mutex>
#include <set>

#include "base/error.hpp"
#include "solid/kernel.hpp"

namespace escultura::solid {
namespace {

/// The kernel keeps settings of STEP in one place: one file at a time.
std::mutex& stepMutex() {
    static std::mutex m;
    return m;
}

void quiet() {
    Message::DefaultMessenger()->RemovePrinters(STANDARD_TYPE(Message_Printer));
}

/// Runs a writer on a name beside the file, then renames: a file that is there is whole.
void writeWhole(const std::string& path, const std::string& what,
                const std::function<bool(const std::string&)>& write) {
    const std::string beside = path + ".part";
    std::error_code code;
    std::string why;
    try {
        if (!write(beside) || !std::filesystem::exists(beside)) why = "nothing was written";
        if (why.empty()) {
            std::filesystem::rename(beside, path, code);
            if (code) why = code.message();
        }
    } catch (const Standard_Failure& e) {
        why = e.GetMessageString();
    }
    if (why.empty()) return;
    std::filesystem::remove(beside, code);
    throw InputError(
        ErrorDetail{"The " + what + " file cannot be written.", path, {}, "a folder that can be written to", why});
}

/// Muted colours, one an interface, the same for a name whatever the order.
Quantity_Color colourOf(std::size_t index) {
    static const double table[8][3] = {{0.12, 0.44, 0.42}, {0.71, 0.33, 0.16}, {0.77, 0.55, 0.11}, {0.36, 0.42, 0.60},
                                       {0.47, 0.58, 0.30}, {0.58, 0.36, 0.50}, {0.30, 0.55, 0.65}, {0.62, 0.50, 0.38}};
    const auto& c = table[index % 8];
    return {c[0], c[1], c[2], Quantity_TOC_sRGB};
}

std::string faceName(const SolidSurface& s) {
    if (s.feature == "free surface" || s.feature.empty()) return "free surface";
    return s.face.empty() ? s.feature : s.feature + ": " + s.face;
}

}  // namespace

void writeStep(const std::string& path, const SolidResult& solid, const std::string& partName) {
    const std::lock_guard lock(stepMutex());
    quiet();
    writeWhole(path, "STEP", [&](const std::string& beside) {
        STEPControl_Writer settings;  // makes the kernel know its STEP settings
        Interface_Static::SetCVal("write.step.schema", "AP214IS");
        Interface_Static::SetCVal("write.step.unit", "MM");
        Interface_Static::SetCVal("write.step.product.name", partName.c_str());
        Interface_Static::SetIVal("write.surfacecurve.mode", 1);
        Handle(TDocStd_Document) document;
        XCAFApp_Application::GetApplication()->NewDocument("MDTV-XCAF", document);
        const Handle(XCAFDoc_ShapeTool) shapes = XCAFDoc_DocumentTool::ShapeTool(document->Main());
        const Handle(XCAFDoc_ColorTool) colours = XCAFDoc_DocumentTool::ColorTool(document->Main());
        const TDF_Label part = shapes->AddShape(solid.brep->shape, Standard_False);
        TDataStd_Name::Set(part, TCollection_ExtendedString(partName.c_str(), Standard_True));
        colours->SetColor(part, Quantity_Color(0.85, 0.82, 0.76, Quantity_TOC_sRGB), XCAFDoc_ColorSurf);
        std::vector<std::string> interfaces;
        for (const SolidSurface& s : solid.surfaces)
            if (!s.interface.empty() &&
                std::find(interfaces.begin(), interfaces.end(), s.interface) == interfaces.end())
                interfaces.push_back(s.interface);
        for (TopExp_Explorer faces(solid.brep->shape, TopAbs_FACE); faces.More(); faces.Next()) {
            const int owner = solid.brep->owner.IsBound(faces.Current()) ? solid.brep->owner.Find(faces.Current()) : 0;
            const SolidSurface& s = solid.surfaces[owner];
            if (s.interface.empty()) continue;
            const auto i = std::find(interfaces.begin(), interfaces.end(), s.interface) - interfaces.begin();
            const TDF_Label label = shapes->AddSubShape(part, faces.Current());
            if (!label.IsNull()) colours->SetColor(label, colourOf(static_cast<std::size_t>(i)), XCAFDoc_ColorSurf);
        }
        STEPCAFControl_Writer writer;
        writer.SetColorMode(Standard_True);
        writer.SetNameMode(Standard_True);
        if (!writer.Transfer(document, STEPControl_AsIs)) return false;
        const Handle(Transfer_FinderProcess) finder = writer.ChangeWriter().WS()->TransferWriter()->FinderProcess();
        for (TopExp_Explorer faces(solid.brep->shape, TopAbs_FACE); faces.More(); faces.Next()) {
            const Handle(StepRepr_RepresentationItem) item = STEPConstruct::FindEntity(finder, faces.Current());
            if (item.IsNull()) continue;
            const int owner = solid.brep->owner.IsBound(faces.Current()) ? solid.brep->owner.Find(faces.Current()) : 0;
            item->SetName(new TCollection_HAsciiString(faceName(solid.surfaces[owner]).c_str()));
        }
        const bool written = writer.Write(beside.c_str()) == IFSelect_RetDone;
        XCAFApp_Application::GetApplication()->Close(document);
        return written;
    });
}

void writeIges(const std::string& path, const SolidResult& solid, const std::string& partName) {
    const std::lock_guard lock(stepMutex());
    quiet();
    writeWhole(path, "IGES", [&](const std::string& beside) {
        IGESControl_Controller::Init();
        Interface_Static::SetCVal("write.iges.header.product", partName.c_str());
        IGESControl_Writer writer("MM", 1);  // 1: whole solids instead of loose faces
        if (!writer.AddShape(solid.brep->shape)) return false;
        writer.ComputeModel();
        return static_cast<bool>(writer.Write(beside.c_str()));
    });
}

SolidFigures readIgesFigures(const std::string& path) {
    const std::lock_guard lock(stepMutex());
    quiet();
    IGESControl_Controller::Init();
    IGESControl_Reader reader;
    TopoDS_Shape shape;
    if (reader.ReadFile(path.c_str()) == IFSelect_RetDone) {
        reader.TransferRoots();
        shape = reader.OneShape();
    }
    if (shape.IsNull() || !TopExp_Explorer(shape, TopAbs_SOLID).More())
        throw InputError(
            ErrorDetail{"The IGES file cannot be read.", path, "contents", "at least one solid", "no solid"});
    FaceMeasures measures;
    return figuresOf(shape, true, measures);
}

StepFigures readStepFigures(const std::string& path) {
    const std::lock_guard lock(stepMutex());
    quiet();
    auto refuse = [&](const std::string& found) {
        throw InputError(ErrorDetail{"The STEP file cannot be read.", path, "contents", "at least one solid", found});
    };
    StepFigures r;
    try {
        STEPControl_Reader reader;
        if (reader.ReadFile(path.c_str()) != IFSelect_RetDone) refuse("a damaged file, or none");
        reader.TransferRoots();
        const TopoDS_Shape shape = reader.OneShape();
        if (shape.IsNull() || !TopExp_Explorer(shape, TopAbs_SOLID).More()) refuse("no solid");
        FaceMeasures measures;
        r.figures = figuresOf(shape, true, measures);
        for (TopExp_Explorer faces(shape, TopAbs_FACE); faces.More(); faces.Next()) {
            const SolidSurface s = describeFace(TopoDS::Face(faces.Current()));
            if (s.kind == SolidSurface::Kind::cylinder) r.cylinders.push_back({s.point, s.axis, s.radius});
            if (s.kind == SolidSurface::Kind::plane) r.planes.push_back({s.point, s.axis});
        }
        std::set<std::string> names;
        const Handle(Interface_InterfaceModel) model = reader.WS()->Model();
        for (int i = 1; i <= model->NbEntities(); ++i) {
            const Handle(StepShape_AdvancedFace) face = Handle(StepShape_AdvancedFace)::DownCast(model->Value(i));
            if (!face.IsNull() && !face->Name().IsNull()) names.insert(face->Name()->ToCString());
            const Handle(StepBasic_Product) product = Handle(StepBasic_Product)::DownCast(model->Value(i));
            if (!product.IsNull() && r.partName.empty() && !product->Name().IsNull())
                r.partName = product->Name()->ToCString();
        }
        r.faceNames.assign(names.begin(), names.end());
    } catch (const Standard_Failure& e) {
        refuse(e.GetMessageString());
    }
    return r;
}

}  // namespace escultura::solid

#include <BOPAlgo_ArgumentAnalyzer.hxx>
#include <BOPAlgo_CheckResult.hxx>
#include <BOPAlgo_ListOfCheckResult.hxx>
#include <BRepAdaptor_Surface.hxx>
#include <BRepCheck_Analyzer.hxx>
#include <BRepGProp.hxx>
#include <BRepGProp_Domain.hxx>
#include <BRepGProp_Face.hxx>
#include <BRepGProp_Vinert.hxx>
#include <BRep_Tool.hxx>
#include <GProp_GProps.hxx>
#include <Standard_Failure.hxx>
#include <TopExp.hxx>
#include <TopExp_Explorer.hxx>
#include <TopTools_IndexedDataMapOfShapeListOfShape.hxx>
#include <TopTools_ListOfShape.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Edge.hxx>
#include <TopoDS_Vertex.hxx>
#include <cmath>

#include "solid/kernel.hpp"

namespace escultura::solid {

bool isClosed(const TopoDS_Shape& shape, Vec3* open) {
    TopTools_IndexedDataMapOfShapeListOfShape faces;
    TopExp::MapShapesAndAncestors(shape, TopAbs_EDGE, TopAbs_FACE, faces);
    for (int i = 1; i <= faces.Extent(); ++i) {
        const TopoDS_Edge& e = TopoDS::Edge(faces.FindKey(i));
        if (BRep_Tool::Degenerated(e)) continue;
        int uses = 0;
        for (const TopoDS_Shape& f : faces(i))
            for (TopExp_Explorer edges(f, TopAbs_EDGE); edges.More(); edges.Next()) uses += edges.Current().IsSame(e);
        // a seam's face is listed twice already when the edge occurs twice in it
        if (uses < 2) {
            if (open) *open = fromPoint(BRep_Tool::Pnt(TopExp::FirstVertex(e)).XYZ());
            return false;
        }
    }
    return faces.Extent() > 0;
}

SolidSurface describeFace(const TopoDS_Face& face) {
    SolidSurface s;
    s.kind = SolidSurface::Kind::other;
    const BRepAdaptor_Surface a(face, Standard_False);
    const bool turned = face.Orientation() == TopAbs_REVERSED;
    if (a.GetType() == GeomAbs_Plane) {
        s.kind = SolidSurface::Kind::plane;
        s.point = fromPoint(a.Plane().Location().XYZ());
        s.axis = fromPoint(a.Plane().Axis().Direction().XYZ());
        if (!a.Plane().Direct()) s.axis = -s.axis;
        if (turned) s.axis = -s.axis;
    } else if (a.GetType() == GeomAbs_Cylinder) {
        s.kind = SolidSurface::Kind::cylinder;
        s.point = fromPoint(a.Cylinder().Location().XYZ());
        s.axis = fromPoint(a.Cylinder().Axis().Direction().XYZ());
        s.radius = a.Cylinder().Radius();
        s.hollow = turned == a.Cylinder().Direct();
    } else if (a.GetType() == GeomAbs_Cone) {
        s.kind = SolidSurface::Kind::cone;
        s.point = fromPoint(a.Cone().Location().XYZ());
        s.axis = fromPoint(a.Cone().Axis().Direction().XYZ());
    } else if (a.GetType() == GeomAbs_BSplineSurface) {
        s.kind = SolidSurface::Kind::free;
    }
    return s;
}

FaceMeasures::Share FaceMeasures::of(const TopoDS_Shape& shape) {
    Share sum;
    for (TopExp_Explorer faces(shape, TopAbs_FACE); faces.More(); faces.Next()) {
        const TopoDS_Shape forward = faces.Current().Oriented(TopAbs_FORWARD);
        if (!known_.IsBound(forward)) {
            TopExp_Explorer corner(forward, TopAbs_VERTEX);
            const Vec3 point = about(corner.More() ? fromPoint(BRep_Tool::Pnt(TopoDS::Vertex(corner.Current())).XYZ())
                                                   : Vec3(Vec3::Zero()));
            BRepGProp_Face face(TopoDS::Face(forward));
            BRepGProp_Domain domain(TopoDS::Face(forward));
            const BRepGProp_Vinert volume(face, domain, toPoint(point));
            GProp_GProps area;
            BRepGProp::SurfaceProperties(forward, area);
            Share s;
            s.volume = volume.Mass();
            s.moment = volume.Mass() * (fromPoint(volume.CentreOfMass().XYZ()) - point);
            s.area = area.Mass();
            known_.Bind(forward, s);
        }
        const Share& s = known_.Find(forward);
        const double sign = faces.Current().Orientation() == TopAbs_REVERSED ? -1 : 1;
        sum.volume += sign * s.volume;
        sum.moment += sign * s.moment;
        sum.area += s.area;
    }
    return sum;
}

SolidFigures figuresOf(const TopoDS_Shape& shape, bool check, FaceMeasures& measures) {
    SolidFigures f;
    const FaceMeasures::Share s = measures.of(shape);
    f.volume = s.volume;
    if (s.volume != 0) f.centroid = measures.centroid(s);
    f.area = s.area;
    for (TopExp_Explorer e(shape, TopAbs_SOLID); e.More(); e.Next()) ++f.solids;
    for (TopExp_Explorer e(shape, TopAbs_FACE); e.More(); e.Next()) ++f.faces;
    TopTools_IndexedMapOfShape edges;
    TopExp::MapShapes(shape, TopAbs_EDGE, edges);
    f.edges = edges.Extent();
    f.closed = isClosed(shape);
    f.valid = check && BRepCheck_Analyzer(shape).IsValid();
    return f;
}

std::vector<std::string> selfInterference(const Brep& brep, Progress& progress) {
    std::vector<std::string> problems;
    try {
        BOPAlgo_ArgumentAnalyzer analyzer;
        analyzer.SetShape1(brep.shape);
        analyzer.SelfInterMode() = Standard_True;
        analyzer.ArgumentTypeMode() = Standard_True;
        analyzer.SmallEdgeMode() = Standard_True;
        analyzer.StopOnFirstFaulty() = Standard_False;
        analyzer.SetRunParallel(Standard_True);
        Handle(KernelProgress) indicator = new KernelProgress(progress, "Looking for self-intersections", 1e6);
        analyzer.Perform(indicator->Start());
        progress.check();
        for (const BOPAlgo_CheckResult& c : analyzer.GetCheckResult()) {
            if (problems.size() >= 20) break;
            Vec3 at = Vec3::Zero();
            bool placed = false;
            for (const TopoDS_Shape& s : c.GetFaultyShapes1())
                for (TopExp_Explorer v(s, TopAbs_VERTEX); v.More() && !placed; v.Next()) {
                    at = fromPoint(BRep_Tool::Pnt(TopoDS::Vertex(v.Current())).XYZ());
                    placed = true;
                }
            std::string what = c.GetCheckStatus() == BOPAlgo_SelfIntersect  ? "The solid cuts itself"
                               : c.GetCheckStatus() == BOPAlgo_TooSmallEdge ? "An edge is too short"
                                                                            : "A face or edge is not valid";
            problems.push_back(what + (placed ? " at " + cage::placeText(at) : "") + ".");
        }
    } catch (const Standard_Failure& e) {
        problems.push_back(std::string("The check stopped: ") + e.GetMessageString());
    }
    return problems;
}

}  // namespace escultura::solid

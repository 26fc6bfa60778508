#include <BRepBuilderAPI_MakeFace.hxx>
#include <BRep_Builder.hxx>
#include <Geom_Line.hxx>
#include <Geom_Plane.hxx>
#include <ShapeUpgrade_UnifySameDomain.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Edge.hxx>
#include <TopoDS_Shell.hxx>
#include <TopoDS_Vertex.hxx>
#include <TopoDS_Wire.hxx>
#include <gp_Pln.hxx>
#include <map>

#include "base/error.hpp"
#include "solid/kernel.hpp"

namespace escultura::solid {

TopoDS_Shape facetedSolid(const surface::TriMesh& mesh) {
    // more would keep the kernel busy for minutes
    constexpr std::size_t most = 30000;
    auto refuse = [](const std::string& expected, const std::string& found) {
        throw InputError(ErrorDetail{"The triangles do not make a body for a feature.", {}, {}, expected, found});
    };
    if (mesh.triangle.size() > most)
        refuse("at most " + std::to_string(most) + " triangles", std::to_string(mesh.triangle.size()));
    if (!surface::measure(mesh).watertight) refuse("a closed surface", "open edges, or edges with more than two faces");
    constexpr double tolerance = 1e-6;
    BRep_Builder builder;
    std::vector<TopoDS_Vertex> vertex(mesh.position.size());
    for (std::size_t v = 0; v < vertex.size(); ++v) builder.MakeVertex(vertex[v], toPoint(mesh.position[v]), tolerance);
    std::map<std::pair<std::int32_t, std::int32_t>, TopoDS_Edge> edges;
    TopoDS_Shell shell;
    builder.MakeShell(shell);
    for (const auto& t : mesh.triangle) {
        const Vec3 &a = mesh.position[t[0]], &b = mesh.position[t[1]], &c = mesh.position[t[2]];
        const Vec3 normal = (b - a).cross(c - a);
        if (normal.norm() < 1e-9) refuse("triangles with an area", "a triangle of three corners in a line");
        TopoDS_Wire wire;
        builder.MakeWire(wire);
        for (int k = 0; k < 3; ++k) {
            const std::int32_t from = t[k], to = t[(k + 1) % 3];
            const bool forward = from < to;
            TopoDS_Edge& edge = edges[std::minmax(from, to)];
            if (edge.IsNull()) {
                const Vec3 &p = mesh.position[std::min(from, to)], &q = mesh.position[std::max(from, to)];
                builder.MakeEdge(edge, new Geom_Line(toPoint(p), toDirection((q - p).normalized())), tolerance);
                builder.Add(edge, vertex[std::min(from, to)].Oriented(TopAbs_FORWARD));
                builder.Add(edge, vertex[std::max(from, to)].Oriented(TopAbs_REVERSED));
                builder.Range(edge, 0, (q - p).norm());
            }
            builder.Add(wire, edge.Oriented(forward ? TopAbs_FORWARD : TopAbs_REVERSED));
        }
        wire.Closed(Standard_True);
        const gp_Pln plane(toPoint(a), toDirection(normal.normalized()));
        builder.Add(shell, BRepBuilderAPI_MakeFace(plane, wire, Standard_True).Face());
    }
    shell.Closed(Standard_True);
    TopoDS_Solid solid;
    builder.MakeSolid(solid);
    builder.Add(solid, shell);
    ShapeUpgrade_UnifySameDomain whole(solid, Standard_True, Standard_True, Standard_False);
    whole.SetLinearTolerance(1e-5);
    whole.SetAngularTolerance(1e-6);
    whole.Build();
    return isClosed(whole.Shape()) ? whole.Shape() : TopoDS_Shape(solid);
}

}  // namespace escultura::solid

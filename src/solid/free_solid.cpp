#include <BRepBuilderAPI_Sewing.hxx>
#include <BRep_Builder.hxx>
#include <Geom2d_Line.hxx>
#include <Geom_BSplineCurve.hxx>
#include <Geom_BSplineSurface.hxx>
#include <ShapeFix_Shape.hxx>
#include <TColStd_Array1OfInteger.hxx>
#include <TColStd_Array1OfReal.hxx>
#include <TColgp_Array1OfPnt.hxx>
#include <TColgp_Array2OfPnt.hxx>
#include <TopExp_Explorer.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Compound.hxx>
#include <TopoDS_Edge.hxx>
#include <TopoDS_Shell.hxx>
#include <TopoDS_Vertex.hxx>
#include <TopoDS_Wire.hxx>
#include <algorithm>
#include <map>

#include "base/disjoint_sets.hpp"
#include "solid/kernel.hpp"

namespace escultura::solid {
namespace {

/// The share of an untrimmed patch: the integrands are of degree 8 in each direction, five Gauss points a span are
/// exact.
FaceMeasures::Share shareOf(const cage::Patch& patch, const Vec3& about) {
    FaceMeasures::Share s;
    for (int j = 0; j < 10; ++j)
        for (int i = 0; i < 10; ++i) {
            const auto [u, wu] = cage::gaussPlace(i);
            const auto [v, wv] = cage::gaussPlace(j);
            const double w = wu * wv;
            const Vec3 x = patch.point(u, v) - about, n = patch.cross(u, v);
            s.volume += w * x.dot(n) / 3;
            s.moment += w * x.dot(n) / 4 * x;
            s.area += w * n.norm();
        }
    return s;
}

Handle(Geom_BSplineSurface) surfaceOf(const cage::Patch& patch) {
    TColgp_Array2OfPnt poles(1, 6, 1, 6);
    for (int j = 0; j < 6; ++j)
        for (int i = 0; i < 6; ++i) poles.SetValue(i + 1, j + 1, toPoint(patch.pole[6 * j + i]));
    TColStd_Array1OfReal knots(1, 3);
    TColStd_Array1OfInteger counts(1, 3);
    for (int k = 1; k <= 3; ++k) {
        knots.SetValue(k, 0.5 * (k - 1));
        counts.SetValue(k, k == 2 ? 2 : 4);
    }
    return new Geom_BSplineSurface(poles, knots, knots, counts, counts, 3, 3);
}

Handle(Geom_BSplineCurve) curveOf(const std::array<Vec3, 6>& pole) {
    TColgp_Array1OfPnt poles(1, 6);
    for (int i = 0; i < 6; ++i) poles.SetValue(i + 1, toPoint(pole[i]));
    TColStd_Array1OfReal knots(1, 3);
    TColStd_Array1OfInteger counts(1, 3);
    for (int k = 1; k <= 3; ++k) {
        knots.SetValue(k, 0.5 * (k - 1));
        counts.SetValue(k, k == 2 ? 2 : 4);
    }
    return new Geom_BSplineCurve(poles, knots, counts, 3);
}

/// Which piece of the cage each face belongs to, from 0 on. [faces]
std::vector<int> piecesOf(const cage::Cage& cage) {
    DisjointSets<> sets(cage.position.size());
    for (const auto& f : cage.face)
        for (int k = 1; k < 4; ++k) sets.join(f[0], f[k]);
    std::map<std::int32_t, int> number;
    std::vector<int> piece;
    for (const auto& f : cage.face)
        piece.push_back(number.try_emplace(sets.find(f[0]), static_cast<int>(number.size())).first->second);
    return piece;
}

/// A solid of each closed shell; all in one where some are hollows of others.
TopoDS_Shape solidOf(std::vector<TopoDS_Shell>& shells, const std::vector<double>& volume) {
    BRep_Builder builder;
    const bool hollows = std::any_of(volume.begin(), volume.end(), [](double v) { return v < 0; });
    TopoDS_Compound all;
    builder.MakeCompound(all);
    TopoDS_Solid solid;
    builder.MakeSolid(solid);
    for (TopoDS_Shell& shell : shells) {
        shell.Closed(Standard_True);
        builder.Add(solid, shell);
        if (hollows || shells.size() == 1) continue;
        builder.Add(all, solid);
        builder.MakeSolid(solid);
    }
    return hollows || shells.size() == 1 ? TopoDS_Shape(solid) : TopoDS_Shape(all);
}

}  // namespace

TopoDS_Shape freeSolid(const cage::Cage& cage, const cage::PatchSet& patches, FaceMeasures& measures) {
    const cage::Connectivity c(cage);
    BRep_Builder builder;
    constexpr double tolerance = 1e-6;
    auto pole = [&](std::int32_t face, int i, int j) { return patches.patch[face].pole[6 * j + i]; };
    std::vector<TopoDS_Vertex> vertex(cage.position.size());
    for (std::size_t f = 0; f < cage.face.size(); ++f) {
        const int ci[4] = {0, 5, 5, 0}, cj[4] = {0, 0, 5, 5};
        for (int k = 0; k < 4; ++k) {
            TopoDS_Vertex& v = vertex[cage.face[f][k]];
            if (v.IsNull()) builder.MakeVertex(v, toPoint(pole(static_cast<std::int32_t>(f), ci[k], cj[k])), tolerance);
        }
    }
    // edges run as side k of their first face does
    std::vector<TopoDS_Edge> edge(c.edge.size());
    for (std::size_t e = 0; e < c.edge.size(); ++e) {
        const auto& x = c.edge[e];
        const std::int32_t f = x.face[0];
        const int k = x.side[0];
        std::array<Vec3, 6> poles;
        for (int t = 0; t < 6; ++t)
            poles[t] = k == 0 ? pole(f, t, 0) : k == 1 ? pole(f, 5, t) : k == 2 ? pole(f, 5 - t, 5) : pole(f, 0, 5 - t);
        builder.MakeEdge(edge[e], curveOf(poles), tolerance);
        TopoDS_Vertex a = vertex[cage.face[f][k]], b = vertex[cage.face[f][(k + 1) % 4]];
        builder.Add(edge[e], a.Oriented(TopAbs_FORWARD));
        builder.Add(edge[e], b.Oriented(TopAbs_REVERSED));
        builder.Range(edge[e], 0, 1);
    }
    const std::vector<int> piece = piecesOf(cage);
    std::vector<TopoDS_Shell> shells(static_cast<std::size_t>(*std::max_element(piece.begin(), piece.end())) + 1);
    std::vector<double> volume(shells.size(), 0);
    for (TopoDS_Shell& shell : shells) builder.MakeShell(shell);
    for (std::size_t f = 0; f < cage.face.size(); ++f) {
        TopoDS_Face face;
        builder.MakeFace(face, surfaceOf(patches.patch[f]), tolerance);
        TopoDS_Wire wire;
        builder.MakeWire(wire);
        for (int k = 0; k < 4; ++k) {
            const auto e = c.edgeOfFace[f][k];
            const bool first = c.edge[e].face[0] == static_cast<std::int32_t>(f) && c.edge[e].side[0] == k;
            // the side's own line in (u, v), turned round for the second face
            static const double start[4][2] = {{0, 0}, {1, 0}, {1, 1}, {0, 1}},
                                way[4][2] = {{1, 0}, {0, 1}, {-1, 0}, {0, -1}};
            gp_Pnt2d from(start[k][0], start[k][1]);
            gp_Dir2d direction(way[k][0], way[k][1]);
            if (!first) {
                from = gp_Pnt2d(start[k][0] + way[k][0], start[k][1] + way[k][1]);
                direction.Reverse();
            }
            Handle(Geom2d_Line) line = new Geom2d_Line(from, direction);
            builder.UpdateEdge(edge[e], line, face, tolerance);
            builder.Range(edge[e], face, 0, 1);
            builder.SameParameter(edge[e], Standard_True);
            builder.SameRange(edge[e], Standard_True);
            builder.Add(wire, edge[e].Oriented(first ? TopAbs_FORWARD : TopAbs_REVERSED));
        }
        wire.Closed(Standard_True);
        builder.Add(face, wire);
        builder.NaturalRestriction(face, Standard_True);
        const auto of = static_cast<std::size_t>(piece[f]);
        builder.Add(shells[of], face);
        const FaceMeasures::Share share = shareOf(patches.patch[f], measures.about(patches.patch[f].pole[0]));
        volume[of] += share.volume;
        measures.know(face, share);
    }
    return solidOf(shells, volume);
}

TopoDS_Shape sewnSolid(const cage::PatchSet& patches) {
    BRepBuilderAPI_Sewing sewing(1e-4);
    for (const auto& p : patches.patch) {
        BRep_Builder builder;
        TopoDS_Face face;
        builder.MakeFace(face, surfaceOf(p), 1e-6);
        builder.NaturalRestriction(face, Standard_True);
        sewing.Add(face);
    }
    sewing.Perform();
    BRep_Builder builder;
    TopoDS_Solid solid;
    builder.MakeSolid(solid);
    for (TopExp_Explorer shells(sewing.SewedShape(), TopAbs_SHELL); shells.More(); shells.Next())
        builder.Add(solid, shells.Current());
    ShapeFix_Shape fix(solid);
    fix.Perform();
    return fix.Shape();
}

}  // namespace escultura::solid

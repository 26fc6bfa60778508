#include "solid/build.hpp"

#include <BOPAlgo_ArgumentAnalyzer.hxx>
#include <BOPAlgo_CheckResult.hxx>
#include <BOPAlgo_ListOfCheckResult.hxx>
#include <BOPAlgo_PaveFiller.hxx>
#include <BRepAdaptor_Surface.hxx>
#include <BRepAlgoAPI_Common.hxx>
#include <BRepAlgoAPI_Cut.hxx>
#include <BRepAlgoAPI_Fuse.hxx>
#include <BRepBndLib.hxx>
#include <BRepBuilderAPI_Sewing.hxx>
#include <BRepCheck_Analyzer.hxx>
#include <BRepFilletAPI_MakeChamfer.hxx>
#include <BRepFilletAPI_MakeFillet.hxx>
#include <BRepGProp.hxx>
#include <BRepGProp_Domain.hxx>
#include <BRepGProp_Face.hxx>
#include <BRepGProp_Vinert.hxx>
#include <BRepMesh_IncrementalMesh.hxx>
#include <BRepTools.hxx>
#include <BRep_Builder.hxx>
#include <BRep_Tool.hxx>
#include <Bnd_Box.hxx>
#include <GProp_GProps.hxx>
#include <Geom2d_Line.hxx>
#include <Geom_BSplineCurve.hxx>
#include <Geom_BSplineSurface.hxx>
#include <Poly_Triangulation.hxx>
#include <ShapeFix_Shape.hxx>
#include <Standard_Failure.hxx>
#include <TColStd_Array1OfInteger.hxx>
#include <TColStd_Array1OfReal.hxx>
#include <TColgp_Array1OfPnt.hxx>
#include <TColgp_Array2OfPnt.hxx>
#include <TopExp.hxx>
#include <TopExp_Explorer.hxx>
#include <TopTools_IndexedDataMapOfShapeListOfShape.hxx>
#include <TopTools_ListOfShape.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Shell.hxx>
#include <algorithm>
#include <cmath>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "solid/kernel.hpp"
#include "surface/mesh_body.hpp"

namespace escultura::solid {
namespace {

std::string placeText(const Vec3& p) {
    return "(" + formatNumber(p.x()) + ", " + formatNumber(p.y()) + ", " + formatNumber(p.z()) + ") mm";
}

/// The share of an untrimmed patch: the integrands are of degree 8 in each direction, five Gauss points a span are
/// exact.
FaceMeasures::Share shareOf(const cage::Patch& patch) {
    static const double at[5] = {0.046910077030668, 0.230765344947158, 0.5, 0.769234655052842, 0.953089922969332};
    static const double weight[5] = {0.118463442528095, 0.239314335249683, 0.284444444444444, 0.239314335249683,
                                     0.118463442528095};
    FaceMeasures::Share s;
    for (int j = 0; j < 10; ++j)
        for (int i = 0; i < 10; ++i) {
            const double u = 0.5 * (i / 5 + at[i % 5]), v = 0.5 * (j / 5 + at[j % 5]);
            const double w = 0.25 * weight[i % 5] * weight[j % 5];
            const Vec3 x = patch.point(u, v), n = patch.cross(u, v);
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

/// The patches as one solid with shared edges.
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
    TopoDS_Shell shell;
    builder.MakeShell(shell);
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
        builder.Add(shell, face);
        measures.know(face, shareOf(patches.patch[f]));
    }
    shell.Closed(Standard_True);
    TopoDS_Solid solid;
    builder.MakeSolid(solid);
    builder.Add(solid, shell);
    return solid;
}

/// The way out when the direct one does not close: faces are sewn within a tolerance.
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

bool isClosed(const TopoDS_Shape& shape, Vec3* open = nullptr) {
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

/// Follows owners through an operation.
template <class Operation>
void follow(Operation& operation, const FaceOwners& before, FaceOwners& after) {
    for (FaceOwners::Iterator it(before); it.More(); it.Next()) {
        if (operation.IsDeleted(it.Key())) continue;
        const TopTools_ListOfShape& changed = operation.Modified(it.Key());
        if (changed.IsEmpty()) {
            after.Bind(it.Key(), it.Value());
            continue;
        }
        for (const TopoDS_Shape& s : changed) after.Bind(s, it.Value());
    }
}

class Builder {
  public:
    Builder(SolidResult& result, const SolidOptions& options, FaceMeasures& measures, Progress& progress)
        : r_(result), options_(options), measures_(measures), progress_(progress) {}

    void start(const TopoDS_Shape& body) {
        shape_ = body;
        for (TopExp_Explorer faces(body, TopAbs_FACE); faces.More(); faces.Next()) owner_.Bind(faces.Current(), 0);
        Bnd_Box box;
        BRepBndLib::Add(body, box);
        reach_ = 2 * std::sqrt(box.SquareExtent()) + 100;
        volume_ = volumeOf(body);
        r_.surfaces.push_back({});
        r_.surfaces[0].feature = "free surface";
    }

    /// Several cuts at once, or one by one when that fails.
    void run(const std::vector<Feature>& features) {
        std::size_t i = 0;
        while (i < features.size()) {
            const Feature& f = features[i];
            if (!f.on) {
                ++i;
                continue;
            }
            const std::string problem = problemOf(f, features);
            if (!problem.empty()) {
                fail(f, problem, f.origin);
                ++i;
                continue;
            }
            if (f.kind == Feature::Kind::fillet || f.kind == Feature::Kind::chamfer) {
                round(f);
                ++i;
                continue;
            }
            // a run of cuts goes in one operation: the order among them makes no difference
            std::vector<const Feature*> group{&f};
            std::size_t next = i + 1;
            if (!addsHere(f))
                for (; next < features.size(); ++next) {
                    const Feature& g = features[next];
                    if (!g.on) continue;
                    if (addsHere(g) || g.kind == Feature::Kind::fillet || g.kind == Feature::Kind::chamfer ||
                        !problemOf(g, features).empty())
                        break;
                    group.push_back(&g);
                }
            if (group.size() == 1 || !operate(group, true))
                for (const Feature* g : group) operate({g}, false);
            i = next;
        }
    }

    void finish() {
        auto brep = std::make_shared<Brep>();
        brep->shape = shape_;
        // surfaces that are left, in order
        std::vector<int> number(r_.surfaces.size(), -1);
        for (FaceOwners::Iterator it(owner_); it.More(); it.Next()) number[it.Value()] = 0;
        number[0] = 0;
        std::vector<SolidSurface> kept;
        for (std::size_t s = 0; s < number.size(); ++s)
            if (number[s] == 0) {
                number[s] = static_cast<int>(kept.size());
                kept.push_back(r_.surfaces[s]);
            }
        for (FaceOwners::Iterator it(owner_); it.More(); it.Next()) {
            SolidSurface& s = kept[number[it.Value()]];
            brep->owner.Bind(it.Key(), number[it.Value()]);
            ++s.faces;
            // tools are turned inside out where they cut
            const SolidSurface now = describeFace(TopoDS::Face(it.Key()));
            if (s.kind == SolidSurface::Kind::cylinder && now.kind == s.kind) s.hollow = now.hollow;
            if (s.kind == SolidSurface::Kind::plane && now.kind == s.kind) s.axis = now.axis;
        }
        r_.surfaces = std::move(kept);
        r_.brep = brep;
    }
    const TopoDS_Shape& shape() const { return shape_; }

  private:
    static bool addsHere(const Feature& f) {
        // a boss of an interface has its material from the cage: only its outside is turned
        return addsMaterial(f) && !(f.kind == Feature::Kind::boss && f.outer > f.diameter && !f.interface.empty());
    }
    void fail(const Feature& f, const std::string& why, const Vec3& at) {
        FeatureOutcome o;
        o.name = f.name;
        o.problem = why;
        o.at = at;
        r_.features.push_back(o);
    }

    bool operate(const std::vector<const Feature*>& group, bool quiet) {
        const Feature& f = *group.front();
        const std::string what =
            group.size() == 1 ? "Feature " + f.name : "Cutting " + std::to_string(group.size()) + " features";
        progress_.step(what);
        auto refuse = [&](const std::string& why) {
            if (!quiet) fail(f, why, f.origin);
            return false;
        };
        try {
            std::vector<Tool> tools;
            for (const Feature* g : group)
                for (Tool& t : toolsOf(*g, reach_)) tools.push_back(std::move(t));
            TopTools_ListOfShape arguments, toolList, all;
            arguments.Append(shape_);
            all.Append(shape_);
            FaceOwners before = owner_;
            const std::size_t known = r_.surfaces.size();
            for (const Tool& t : tools) {
                toolList.Append(t.shape);
                all.Append(t.shape);
                for (const auto& [face, surface] : t.faces) {
                    before.Bind(face, static_cast<int>(r_.surfaces.size()));
                    r_.surfaces.push_back(surface);
                }
            }
            auto forget = [&] { r_.surfaces.resize(known); };
            Handle(KernelProgress) indicator = new KernelProgress(progress_, what, options_.secondsEach);
            BOPAlgo_PaveFiller filler;
            filler.SetArguments(all);
            filler.SetRunParallel(Standard_True);
            filler.Perform(indicator->Start());
            progress_.check();
            if (indicator->late()) {
                forget();
                return refuse("It was given up after " + formatNumber(options_.secondsEach) +
                              " s: its faces lie almost on the body's. Move it by half a millimetre or more.");
            }
            if (filler.HasErrors()) {
                forget();
                return refuse("The kernel could not intersect it with the body.");
            }
            const bool adds = addsHere(f);
            BRepAlgoAPI_Cut cut(filler);
            BRepAlgoAPI_Fuse fuse(filler);
            BRepAlgoAPI_BooleanOperation& operation = adds ? static_cast<BRepAlgoAPI_BooleanOperation&>(fuse) : cut;
            operation.SetArguments(arguments);
            operation.SetTools(toolList);
            operation.SetRunParallel(Standard_True);
            operation.Build();
            BRepAlgoAPI_Common common(filler);
            common.SetArguments(arguments);
            common.SetTools(toolList);
            common.SetRunParallel(Standard_True);
            common.Build();
            if (operation.HasErrors() || operation.Shape().IsNull() || common.HasErrors()) {
                forget();
                return refuse("The kernel could not join or cut it.");
            }
            const TopoDS_Shape result = operation.Shape();
            const double after = volumeOf(result), shared = volumeOf(common.Shape());
            double identity = 0;
            if (!adds) {
                identity = std::abs(after + shared - volume_) / volume_;
            } else {
                double tool = 0;
                for (const Tool& t : tools) tool += volumeOf(t.shape);
                identity = std::abs(after + shared - volume_ - tool) / volume_;
            }
            Vec3 open = f.origin;
            if (!(after > 0) || identity > 1e-4 || !isClosed(result, &open)) {
                forget();
                if (!quiet)
                    fail(f,
                         !(after > 0) ? "Nothing of the body would be left."
                         : identity > 1e-4
                             ? "Its result fails the volume check by " + formatNumber(100 * identity) + " %."
                             : "Its result would be open.",
                         open);
                return false;
            }
            if (group.size() == 1 && std::abs(after - volume_) < 1e-9 * volume_) {
                forget();
                return refuse("It does not touch the body.");
            }
            FaceOwners owners;
            follow(operation, before, owners);
            // faces that the result holds, and no others
            owner_.Clear();
            for (TopExp_Explorer faces(result, TopAbs_FACE); faces.More(); faces.Next())
                owner_.Bind(faces.Current(), owners.IsBound(faces.Current()) ? owners.Find(faces.Current()) : 0);
            shape_ = result;
            for (const Feature* g : group) {
                FeatureOutcome o;
                o.name = g->name;
                o.built = true;
                o.at = g->origin;
                o.identity = identity;
                if (group.size() == 1) {
                    o.volume = after - volume_;
                } else {
                    bool any = false;
                    for (FaceOwners::Iterator it(owner_); it.More(); it.Next())
                        any = any || r_.surfaces[it.Value()].feature == g->name;
                    // a milled plane that another feature makes as well belongs to whichever came last
                    for (FaceOwners::Iterator it(owner_); it.More() && g->kind == Feature::Kind::flat; it.Next()) {
                        const SolidSurface& same = r_.surfaces[it.Value()];
                        any = any || (same.kind == SolidSurface::Kind::plane &&
                                      std::abs(std::abs(same.axis.dot(g->axis)) - 1) < 1e-9 &&
                                      std::abs((same.point - g->origin).dot(g->axis)) < 1e-6);
                    }
                    if (!any) {
                        o.built = false;
                        o.problem =
                            "It leaves no face: it does not touch the body, or another feature removes all that it "
                            "makes.";
                    }
                }
                r_.features.push_back(o);
            }
            volume_ = after;
            if (adds && f.radius > 0 && f.kind != Feature::Kind::body) blend(f, operation);
            return true;
        } catch (const Standard_Failure& e) {
            return refuse(std::string("The kernel stopped: ") + e.GetMessageString());
        } catch (const InputError& e) {
            return refuse(e.detail().problem + (e.detail().found.empty() ? "" : " " + e.detail().found));
        }
    }

    /// Fillet between added material and the free body; without it when the kernel does not manage.
    void blend(const Feature& f, BRepAlgoAPI_BooleanOperation& operation) {
        std::vector<TopoDS_Edge> edges;
        for (const TopoDS_Shape& e : operation.SectionEdges()) edges.push_back(TopoDS::Edge(e));
        std::string why;
        if (edges.empty() || !filletEdges(f, edges, f.radius, false, why))
            r_.features.back().problem = "Built without its fillet of " + formatNumber(f.radius) +
                                         " mm: " + (edges.empty() ? "it has no edge with the body." : why);
    }

    void round(const Feature& f) {
        progress_.step("Feature " + f.name);
        // a feature's name means all its faces, 'name: face' one of them
        auto belongs = [&](const TopoDS_Shape& face, const std::string& feature) {
            if (!owner_.IsBound(face)) return false;
            const SolidSurface& s = r_.surfaces[owner_.Find(face)];
            return s.feature == feature || s.feature + ": " + s.face == feature;
        };
        TopTools_IndexedDataMapOfShapeListOfShape faces;
        TopExp::MapShapesAndAncestors(shape_, TopAbs_EDGE, TopAbs_FACE, faces);
        std::vector<TopoDS_Edge> edges;
        for (int i = 1; i <= faces.Extent(); ++i) {
            const TopoDS_Edge& e = TopoDS::Edge(faces.FindKey(i));
            if (BRep_Tool::Degenerated(e) || faces(i).Extent() != 2) continue;
            const TopoDS_Shape &a = faces(i).First(), &b = faces(i).Last();
            if (a.IsSame(b)) continue;
            const bool meant =
                f.on2.empty()
                    ? belongs(a, f.on1) != belongs(b, f.on1) || (belongs(a, f.on1) && owner_.Find(a) != owner_.Find(b))
                    : (belongs(a, f.on1) && belongs(b, f.on2)) || (belongs(a, f.on2) && belongs(b, f.on1));
            if (meant) edges.push_back(e);
        }
        if (edges.empty()) {
            fail(f, "There is no edge at " + f.on1 + (f.on2.empty() ? "" : " with " + f.on2) + ".", f.origin);
            return;
        }
        std::string why;
        FeatureOutcome o;
        o.name = f.name;
        o.at = fromPoint(BRep_Tool::Pnt(TopExp::FirstVertex(edges.front())).XYZ());
        const double before = volume_;
        if (filletEdges(f, edges, f.radius, f.kind == Feature::Kind::chamfer, why)) {
            o.built = true;
            o.volume = volume_ - before;
        } else {
            o.problem = why;
        }
        r_.features.push_back(o);
    }

    bool filletEdges(const Feature& f, const std::vector<TopoDS_Edge>& edges, double radius, bool bevel,
                     std::string& why) {
        try {
            SolidSurface named;
            named.kind = SolidSurface::Kind::other;
            named.feature = f.name;
            named.face = bevel ? "bevel" : "fillet";
            auto take = [&](auto& make) {
                make.Build();
                if (!make.IsDone()) {
                    why = "the radius does not fit at all of its " + std::to_string(edges.size()) + " edges.";
                    return false;
                }
                const TopoDS_Shape result = make.Shape();
                const double volume = volumeOf(result);
                if (!isClosed(result) || !BRepCheck_Analyzer(result).IsValid() || !(volume > 0.5 * volume_) ||
                    volume > 1.5 * volume_) {
                    why = "the result would not be valid.";
                    return false;
                }
                const int id = static_cast<int>(r_.surfaces.size());
                r_.surfaces.push_back(named);
                FaceOwners owners;
                follow(make, owner_, owners);
                owner_.Clear();
                for (TopExp_Explorer faces(result, TopAbs_FACE); faces.More(); faces.Next())
                    owner_.Bind(faces.Current(), owners.IsBound(faces.Current()) ? owners.Find(faces.Current()) : id);
                shape_ = result;
                volume_ = volume;
                return true;
            };
            if (bevel) {
                BRepFilletAPI_MakeChamfer make(shape_);
                for (const auto& e : edges) make.Add(radius, e);
                return take(make);
            }
            BRepFilletAPI_MakeFillet make(shape_);
            for (const auto& e : edges) make.Add(radius, e);
            return take(make);
        } catch (const Standard_Failure& e) {
            why = std::string("the kernel stopped (") + e.GetMessageString() + ").";
            return false;
        }
    }

    double volumeOf(const TopoDS_Shape& shape) { return measures_.of(shape).volume; }

    SolidResult& r_;
    const SolidOptions& options_;
    FaceMeasures& measures_;
    Progress& progress_;
    TopoDS_Shape shape_;
    FaceOwners owner_;
    double reach_ = 1e4, volume_ = 0;
};

}  // namespace

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
            // about the origin for every face, or the sum means nothing
            BRepGProp_Face face(TopoDS::Face(forward));
            BRepGProp_Domain domain(TopoDS::Face(forward));
            const BRepGProp_Vinert volume(face, domain, gp_Pnt(0, 0, 0));
            GProp_GProps area;
            BRepGProp::SurfaceProperties(forward, area);
            Share s;
            s.volume = volume.Mass();
            s.moment = volume.Mass() * fromPoint(volume.CentreOfMass().XYZ());
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
    if (s.volume != 0) f.centroid = s.moment / s.volume;
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

SolidResult buildSolid(const cage::Cage& cage, const cage::PatchSet& patches, const std::vector<Feature>& features,
                       const SolidOptions& options, Progress& progress) {
    SolidResult r;
    try {
        progress.step("Joining the patches");
        FaceMeasures measures;
        TopoDS_Shape body = freeSolid(cage, patches, measures);
        r.free = figuresOf(body, false, measures);
        if (!r.free.closed) {
            body = sewnSolid(patches);
            r.sewn = true;
            r.free = figuresOf(body, false, measures);
        }
        Vec3 open = Vec3::Zero();
        if (!isClosed(body, &open) || r.free.solids < 1 || !(r.free.volume > 0))
            throw InputError(ErrorDetail{
                "The patches do not close a solid.", {}, placeText(open), "every edge with two faces", "an open edge"});
        progress.check();
        Builder builder(r, options, measures, progress);
        builder.start(body);
        builder.run(features);
        builder.finish();
        progress.step("Checking the solid");
        r.solid = figuresOf(builder.shape(), true, measures);
        // the kernel's check of the whole takes the patches in; the free body is checked alone when there is nothing
        // else
        r.free.valid = r.solid.valid;
        progress.step("Laying triangles on the solid");
        Bnd_Box box;
        BRepBndLib::Add(builder.shape(), box);
        r.deflection = options.deflection > 0 ? options.deflection : std::sqrt(box.SquareExtent()) / 6000;
        BRepTools::Clean(builder.shape());
        BRepMesh_IncrementalMesh(builder.shape(), r.deflection, Standard_False, 0.35, Standard_True);
        for (TopExp_Explorer faces(builder.shape(), TopAbs_FACE); faces.More(); faces.Next()) {
            const TopoDS_Face& face = TopoDS::Face(faces.Current());
            TopLoc_Location place;
            const Handle(Poly_Triangulation) t = BRep_Tool::Triangulation(face, place);
            if (t.IsNull()) {
                r.solid.valid = false;
                continue;
            }
            const int owner = r.brep->owner.IsBound(face) ? r.brep->owner.Find(face) : 0;
            const auto first = static_cast<std::int32_t>(r.mesh.position.size());
            for (int n = 1; n <= t->NbNodes(); ++n)
                r.mesh.position.push_back(fromPoint(t->Node(n).Transformed(place.Transformation()).XYZ()));
            const bool turned = face.Orientation() == TopAbs_REVERSED;
            for (int n = 1; n <= t->NbTriangles(); ++n) {
                int a = 0, b = 0, c = 0;
                t->Triangle(n).Get(a, b, c);
                if (turned) std::swap(b, c);
                r.mesh.triangle.push_back({first + a - 1, first + b - 1, first + c - 1});
                r.mesh.owner.push_back(static_cast<std::int16_t>(owner));
            }
        }
        progress.check();
        r.mesh = surface::weld(r.mesh);
    } catch (const Standard_Failure& e) {
        progress.check();
        throw InputError(ErrorDetail{"The solid could not be built.", {}, {}, "a closed body", e.GetMessageString()});
    }
    return r;
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
            problems.push_back(what + (placed ? " at " + placeText(at) : "") + ".");
        }
    } catch (const Standard_Failure& e) {
        problems.push_back(std::string("The check stopped: ") + e.GetMessageString());
    }
    return problems;
}

}  // namespace escultura::solid

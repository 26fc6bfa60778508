#include "solid/build.hpp"

#include <BOPAlgo_PaveFiller.hxx>
#include <BRepAlgoAPI_Common.hxx>
#include <BRepAlgoAPI_Cut.hxx>
#include <BRepAlgoAPI_Fuse.hxx>
#include <BRepBndLib.hxx>
#include <BRepCheck_Analyzer.hxx>
#include <BRepFilletAPI_MakeChamfer.hxx>
#include <BRepFilletAPI_MakeFillet.hxx>
#include <BRepMesh_IncrementalMesh.hxx>
#include <BRepTools.hxx>
#include <BRep_Tool.hxx>
#include <Bnd_Box.hxx>
#include <Poly_Triangulation.hxx>
#include <Standard_Failure.hxx>
#include <TopExp.hxx>
#include <TopExp_Explorer.hxx>
#include <TopTools_IndexedDataMapOfShapeListOfShape.hxx>
#include <TopTools_ListOfShape.hxx>
#include <TopoDS.hxx>
#include <algorithm>
#include <cmath>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "lattice/tet_complex.hpp"
#include "solid/kernel.hpp"
#include "surface/mesh_body.hpp"

namespace escultura::solid {
namespace {

/// Follows owners through an operation. Where two faces become one that of an interface gives the name.
template <class Operation>
void follow(Operation& operation, const std::vector<SolidSurface>& surfaces, const FaceOwners& before,
            FaceOwners& after) {
    auto bind = [&](const TopoDS_Shape& face, int owner) {
        if (after.IsBound(face) && surfaces[static_cast<std::size_t>(owner)].interface.empty()) return;
        after.Bind(face, owner);
    };
    for (FaceOwners::Iterator it(before); it.More(); it.Next()) {
        if (operation.IsDeleted(it.Key())) continue;
        const TopTools_ListOfShape& changed = operation.Modified(it.Key());
        if (changed.IsEmpty()) bind(it.Key(), it.Value());
        for (const TopoDS_Shape& s : changed) bind(s, it.Value());
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
            if (!addsMaterial(f))
                for (; next < features.size(); ++next) {
                    const Feature& g = features[next];
                    if (!g.on) continue;
                    if (addsMaterial(g) || g.kind == Feature::Kind::fillet || g.kind == Feature::Kind::chamfer ||
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
    void fail(const Feature& f, const std::string& why, const Vec3& at) {
        FeatureOutcome o;
        o.name = f.name;
        o.problem = why;
        o.at = at;
        r_.features.push_back(o);
    }

    /// Adds a tool's faces to those that are known.
    void take(const Tool& tool, FaceOwners& owners) {
        for (const auto& [face, surface] : tool.faces) {
            owners.Bind(face, static_cast<int>(r_.surfaces.size()));
            r_.surfaces.push_back(surface);
        }
    }
    /// Takes the result of an operation: faces that it holds, and no others.
    template <class Operation>
    void become(const TopoDS_Shape& result, Operation& operation, const FaceOwners& before) {
        FaceOwners owners;
        follow(operation, r_.surfaces, before, owners);
        owner_.Clear();
        for (TopExp_Explorer faces(result, TopAbs_FACE); faces.More(); faces.Next())
            owner_.Bind(faces.Current(), owners.IsBound(faces.Current()) ? owners.Find(faces.Current()) : 0);
        shape_ = result;
    }
    /// Why a result cannot be used; empty: it can. @param open  where it is open
    static std::string flawOf(const TopoDS_Shape& result, double volume, double identity, Vec3* open) {
        if (!(volume > 0)) return "Nothing of the body would be left.";
        if (identity > 1e-4) return "Its result fails the volume check by " + formatNumber(100 * identity) + " %.";
        return isClosed(result, open) ? "" : "Its result would be open.";
    }
    /// How far the volumes of body, tools, result and what they share are from adding up, share of the larger body.
    double identityOf(const std::vector<Tool>& tools, bool adds, double after, double shared) {
        double tool = 0;
        if (adds)
            for (const Tool& t : tools) tool += volumeOf(t.shape);
        return std::abs(after + shared - volume_ - tool) / std::max(volume_, after);
    }
    /// What must stay empty may well be empty already.
    static bool mayMiss(const Feature& g) { return g.kind == Feature::Kind::keepOut || g.face == "keep-out"; }
    /// Notes the outcome of features that an operation made. @param after  volume of the result, mm3
    void note(const std::vector<const Feature*>& group, double identity, double after) {
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
                if (!any && !mayMiss(*g)) {
                    o.built = false;
                    o.problem =
                        "It leaves no face: it does not touch the body, or another feature removes all that it "
                        "makes.";
                }
            }
            r_.features.push_back(o);
        }
    }

    /// @return why it did not work; empty: it did
    std::string intersect(BOPAlgo_PaveFiller& filler, const TopTools_ListOfShape& all, const std::string& what) {
        Handle(KernelProgress) indicator = new KernelProgress(progress_, what, options_.secondsEach);
        filler.SetArguments(all);
        filler.SetRunParallel(Standard_True);
        filler.Perform(indicator->Start());
        progress_.check();
        if (indicator->late())
            return "It was given up after " + formatNumber(options_.secondsEach) +
                   " s: its faces lie almost on the body's. Move it by half a millimetre or more.";
        return filler.HasErrors() ? "The kernel could not intersect it with the body." : "";
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
                for (Tool& t : toolsOf(*g, reach_, options_)) tools.push_back(std::move(t));
            TopTools_ListOfShape arguments, toolList, all;
            arguments.Append(shape_);
            all.Append(shape_);
            FaceOwners before = owner_;
            const std::size_t known = r_.surfaces.size();
            for (const Tool& t : tools) {
                toolList.Append(t.shape);
                all.Append(t.shape);
                take(t, before);
            }
            auto forget = [&] { r_.surfaces.resize(known); };
            BOPAlgo_PaveFiller filler;
            if (const std::string why = intersect(filler, all, what); !why.empty()) {
                forget();
                return refuse(why);
            }
            const bool adds = addsMaterial(f);
            BRepAlgoAPI_Cut cut(filler);
            BRepAlgoAPI_Fuse fuse(filler);
            BRepAlgoAPI_BooleanOperation& operation = adds ? static_cast<BRepAlgoAPI_BooleanOperation&>(fuse) : cut;
            operation.SetArguments(arguments);
            operation.SetTools(toolList);
            operation.SetRunParallel(Standard_True);
            operation.Build();
            // a face that two layers have parts of is one face
            if (f.kind == Feature::Kind::layer) operation.SimplifyResult(Standard_False, Standard_True);
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
            const double identity = identityOf(tools, adds, after, shared);
            Vec3 open = f.origin;
            if (const std::string why = flawOf(result, after, identity, &open); !why.empty()) {
                forget();
                if (!quiet) fail(f, why, open);
                return false;
            }
            if (group.size() == 1 && std::abs(after - volume_) < 1e-9 * volume_ && !mayMiss(f)) {
                forget();
                return refuse("It does not touch the body.");
            }
            become(result, operation, before);
            note(group, identity, after);
            volume_ = after;
            if (adds && f.radius > 0 && f.kind != Feature::Kind::body && f.kind != Feature::Kind::layer &&
                !f.blendInCage)
                blend(f, operation);
            return true;
        } catch (const Standard_Failure& e) {
            return refuse(std::string("The kernel stopped: ") + e.GetMessageString());
        } catch (const InputError& e) {
            const ErrorDetail& d = e.detail();
            if (d.place.empty() || d.expected.empty())
                return refuse(d.problem + (d.found.empty() ? "" : " " + d.found));
            return refuse(d.problem + " At " + d.place + ": expected " + d.expected + ", found " + d.found + ".");
        }
    }

    /// Fillet between added material and the free body; without it when the kernel does not manage.
    void blend(const Feature& f, BRepAlgoAPI_BooleanOperation& operation) {
        std::vector<TopoDS_Edge> edges;
        for (const TopoDS_Shape& e : operation.SectionEdges()) edges.push_back(TopoDS::Edge(e));
        std::string why;
        if (edges.empty() || !filletEdges(f, edges, f.radius, false, why))
            r_.features.back().problem = "Built without its fillet of " + formatNumber(f.radius) +
                                         " mm: " + (edges.empty() ? "it has no edge with the body." : why) +
                                         " The cage can blend it instead.";
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
                follow(make, r_.surfaces, owner_, owners);
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
            throw InputError(ErrorDetail{"The patches do not close a solid.",
                                         {},
                                         cage::placeText(open),
                                         "every edge with two faces",
                                         "an open edge"});
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
                r.mesh.owner.push_back(lattice::surfaceId(owner));
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

}  // namespace escultura::solid

/// Layers of the original behind its kept faces: the original itself within a zone about each face.

#include <BOPTools_AlgoTools3D.hxx>
#include <BRepAlgoAPI_Common.hxx>
#include <BRepAlgoAPI_Cut.hxx>
#include <BRepAlgoAPI_Fuse.hxx>
#include <BRepBndLib.hxx>
#include <BRepBuilderAPI_MakeFace.hxx>
#include <BRepBuilderAPI_MakePolygon.hxx>
#include <BRepBuilderAPI_MakeVertex.hxx>
#include <BRepClass3d_SolidClassifier.hxx>
#include <BRepExtrema_DistShapeShape.hxx>
#include <BRepPrimAPI_MakePrism.hxx>
#include <BRepPrimAPI_MakeRevol.hxx>
#include <BRepTools.hxx>
#include <BRep_Builder.hxx>
#include <BRep_Tool.hxx>
#include <Bnd_Box.hxx>
#include <GeomLib.hxx>
#include <Geom_BSplineSurface.hxx>
#include <Geom_BoundedSurface.hxx>
#include <Geom_RectangularTrimmedSurface.hxx>
#include <IntTools_Context.hxx>
#include <Standard_Failure.hxx>
#include <TopExp_Explorer.hxx>
#include <TopTools_ListOfShape.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Compound.hxx>
#include <algorithm>
#include <cmath>
#include <gp_Pln.hxx>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "solid/kernel.hpp"

namespace escultura::solid {
namespace {

using shape::FacePatch;
using shape::SurfaceForm;
using Beyond = FacePatch::Beyond;

[[noreturn]] void refuse(const FacePatch& patch, const std::string& expected, const std::string& found) {
    throw InputError(ErrorDetail{"The solid cannot have a face of the original.",
                                 {},
                                 patch.name.empty() ? describe(patch.surface->form()) : "face '" + patch.name + "'",
                                 expected,
                                 found});
}

gp_Vec toVector(const Vec3& v) {
    return {v.x(), v.y(), v.z()};
}

/// A face's zone ends on its border where the body goes on, and a little beyond it at outer edges, where the body
/// itself ends.
class Zone {
  public:
    Zone(const FacePatch& patch, double depth)
        : patch_(patch), form_(patch.surface->form()), depth_(depth), grow_(std::min(0.25 * depth, 1.0)) {}

    /// @param original  to find the kernel's own surface of a free form in
    TopoDS_Shape make(const TopoDS_Shape& original) const {
        using K = SurfaceForm::Kind;
        if (form_.kind == K::plane) return flat(original);
        if (form_.kind == K::cylinder || form_.kind == K::cone) return turned();
        return overFreeForm(original);
    }

  private:
    /// How far the zone goes beyond a piece of the border, mm.
    double beyond(const FacePatch::Segment& s) const { return s.beyond == Beyond::edge ? grow_ : 0; }
    bool endsInside() const {
        return std::any_of(patch_.border.begin(), patch_.border.end(),
                           [](const auto& s) { return s.beyond == Beyond::concave; });
    }

    /// A closed piece of the border.
    struct Loop {
        std::vector<std::size_t> segments;
        bool outer = true;
        bool edges = true;    ///< outer edges all around: the body ends there by itself
        bool inner = true;    ///< none of them
        bool curved = false;  ///< somewhere where it is no outer edge
    };
    std::vector<Loop> loops() const {
        std::vector<char> seen(patch_.border.size(), 0);
        std::vector<Loop> all;
        for (std::size_t first = 0; first < seen.size(); ++first) {
            if (seen[first]) continue;
            Loop loop;
            for (int s = static_cast<int>(first); s >= 0 && !seen[static_cast<std::size_t>(s)];
                 s = patch_.border[static_cast<std::size_t>(s)].next) {
                seen[static_cast<std::size_t>(s)] = 1;
                loop.segments.push_back(static_cast<std::size_t>(s));
            }
            if (patch_.border[loop.segments.back()].next != static_cast<int>(first))
                refuse(patch_, "a closed border", "one with a gap");
            loop.outer = patch_.border[first].outer;
            for (const std::size_t k : loop.segments) {
                const auto& s = patch_.border[k];
                const auto& next = patch_.border[static_cast<std::size_t>(s.next)];
                const bool edge = s.beyond == Beyond::edge;
                loop.edges = loop.edges && edge;
                loop.inner = loop.inner && !edge;
                // a bend, but no corner
                const double cosine = (s.b - s.a).normalized().dot((next.b - next.a).normalized());
                loop.curved = loop.curved || (!edge && cosine < 1 - 1e-9 && cosine > std::cos(0.3));
            }
            all.push_back(std::move(loop));
        }
        return all;
    }
    /// The border around the face as a closed polygon, moved outward and seen along n.
    std::vector<Vec3> around(const Vec3& n, const Vec3& origin) const {
        std::vector<Vec3> corners;
        for (const Loop& loop : loops()) {
            if (!loop.outer) continue;
            if (!corners.empty()) refuse(patch_, "one border around it", "several");
            corners = moved(loop.segments, n, origin);
        }
        if (corners.size() < 3) refuse(patch_, "a border around it", "none");
        return corners;
    }
    std::vector<Vec3> moved(const std::vector<std::size_t>& loop, const Vec3& n, const Vec3& origin) const {
        auto flatten = [&](const Vec3& p) { return Vec3(p - (p - origin).dot(n) * n); };
        auto outward = [&](std::size_t s) {
            const auto& piece = patch_.border[s];
            const Vec3 along = flatten(piece.b) - flatten(piece.a);
            Vec3 out = along.cross(n);
            if (out.dot(piece.inward) > 0) out = -out;
            return Vec3(out.normalized());
        };
        std::vector<Vec3> corners;
        for (std::size_t k = 0; k < loop.size(); ++k) {
            const auto s = loop[k], t = loop[(k + 1) % loop.size()];
            const Vec3 p = flatten(patch_.border[s].b), a = outward(s), b = outward(t);
            const double by = beyond(patch_.border[s]), next = beyond(patch_.border[t]);
            const double cosine = a.dot(b), sine2 = 1 - cosine * cosine;
            if (sine2 < 0.04 && by == next) {
                corners.push_back(p + by * (a + b).normalized());
            } else if (sine2 < 0.04 || cosine < -0.8) {
                corners.push_back(p + by * a);
                corners.push_back(p + next * b);
            } else {  // where both moved lines meet
                const double x = (by - next * cosine) / sine2, y = (next - by * cosine) / sine2;
                corners.push_back(p + x * a + y * b);
            }
        }
        return corners;
    }
    static TopoDS_Wire wireOf(const std::vector<Vec3>& corners) {
        BRepBuilderAPI_MakePolygon polygon;
        const Vec3* last = nullptr;
        for (const Vec3& p : corners) {
            if (last && (p - *last).norm() < 1e-6) continue;
            if ((p - corners.front()).norm() < 1e-6 && last) continue;
            polygon.Add(toPoint(p));
            last = &p;
        }
        polygon.Close();
        return polygon.Wire();
    }
    /// The prism over the border around the face between two heights over a plane.
    TopoDS_Shape prism(const Vec3& n, const Vec3& origin, double low, double high) const {
        std::vector<Vec3> corners = around(n, origin);
        for (Vec3& p : corners) p += low * n;
        const gp_Pln plane(toPoint(origin + low * n), toDirection(n));
        return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(plane, wireOf(corners)).Face(), toVector((high - low) * n))
            .Shape();
    }
    TopoDS_Shape flat(const TopoDS_Shape& original) const {
        const Vec3& n = form_.axis;
        const std::vector<Loop> all = loops();
        // where a bend rises before the face the zone ends on the file's own edges
        if (std::any_of(all.begin(), all.end(), [](const Loop& l) { return l.curved && (l.outer || !l.inner); }))
            return BRepPrimAPI_MakePrism(faceOf(original), toVector(-depth_ * n)).Shape();
        // where something rises before the face nothing of it may be taken along
        TopoDS_Shape zone = prism(n, form_.point, -depth_, endsInside() ? 0 : 0.05 * depth_);
        for (const Loop& loop : all)
            if (!loop.outer && !loop.edges) zone = BRepAlgoAPI_Cut(zone, hole(loop, original)).Shape();
        return zone;
    }
    /// What stands in a hole of a plane.
    TopoDS_Shape hole(const Loop& loop, const TopoDS_Shape& original) const {
        const Vec3& n = form_.axis;
        const TopoDS_Face own = faceOf(original);
        for (TopExp_Explorer wires(own, TopAbs_WIRE); wires.More(); wires.Next()) {
            const TopoDS_Wire& wire = TopoDS::Wire(wires.Current());
            const TopoDS_Shape place =
                BRepBuilderAPI_MakeVertex(toPoint(patch_.border[loop.segments.front()].a)).Vertex();
            const BRepExtrema_DistShapeShape d(place, wire);
            if (!d.IsDone() || d.Value() > 1e-3) continue;
            const gp_Pln plane(toPoint(form_.point), toDirection(n));
            TopoDS_Shape column = BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(plane, wire, Standard_True).Face(),
                                                        toVector(-2 * depth_ * n))
                                      .Shape();
            return column;
        }
        refuse(patch_, "the border of its hole in the original's file", "none");
    }

    /// Where a face of revolution ends along its axis or around it.
    struct End {
        double at = 0;  ///< mm or radians
        bool grows = true, straight = true;
    };
    /// @param value  of a place; @param side  which pieces end it on the low side (-1) and on the high side (1)
    template <class Value, class Side>
    std::array<End, 2> endsOf(const Value& value, const Side& side) const {
        std::array<End, 2> ends{End{1e300}, End{-1e300}};
        std::array<std::array<double, 2>, 2> inner{{{1e300, -1e300}, {1e300, -1e300}}};
        for (const auto& s : patch_.border) {
            ends[0].at = std::min({ends[0].at, value(s.a), value(s.b)});
            ends[1].at = std::max({ends[1].at, value(s.a), value(s.b)});
            const int k = side(s);
            if (k == 0 || s.beyond == Beyond::edge) continue;
            auto& range = inner[k < 0 ? 0 : 1];
            ends[k < 0 ? 0 : 1].grows = false;
            range[0] = std::min({range[0], value(s.a), value(s.b)});
            range[1] = std::max({range[1], value(s.a), value(s.b)});
        }
        for (std::size_t k = 0; k < 2; ++k)
            ends[k].straight = ends[k].grows || std::max(inner[k][1] - inner[k][0],
                                                         std::abs(ends[k].at - inner[k][k])) < 1e-3 * (1 + depth_);
        return ends;
    }
    TopoDS_Shape turned() const {
        const Vec3& axis = form_.axis;
        const auto [x, y] = perpendicular(axis);
        auto along = [&](const Vec3& p) { return (p - form_.point).dot(axis); };
        Vec3 middle = Vec3::Zero();
        for (const Vec3& p : patch_.places) middle += (p - form_.point - along(p) * axis).normalized();
        const double start = std::atan2(middle.dot(y), middle.dot(x));
        auto angle = [&, x = x, y = y](const Vec3& p) {
            const Vec3 d = p - form_.point;
            return std::remainder(std::atan2(d.dot(y), d.dot(x)) - start, 2 * M_PI);
        };
        double turn = 0;  // of one loop; those around the axis turn once
        bool full = false;
        for (const auto& s : patch_.border) {
            turn += std::remainder(angle(s.b) - angle(s.a), 2 * M_PI);
            full = full || std::abs(turn) > 1.9 * M_PI;
            if (s.next >= 0 && &patch_.border[static_cast<std::size_t>(s.next)] != &s + 1) turn = 0;
        }
        auto isAlong = [&](const FacePatch::Segment& s) { return std::abs(s.inward.dot(axis)) > 0.3; };
        const auto ends = endsOf(along, [&](const auto& s) {
            return !isAlong(s) ? 0 : s.inward.dot(axis) > 0 ? -1 : 1;
        });
        std::array<End, 2> sides{End{-M_PI}, End{M_PI}};
        if (!full)
            sides = endsOf(angle, [&](const auto& s) {
                if (isAlong(s)) return 0;
                const Vec3 around = axis.cross(s.a - form_.point);
                return s.inward.dot(around) > 0 ? -1 : 1;
            });
        for (const End& e : {ends[0], ends[1], sides[0], sides[1]})
            if (!e.straight) refuse(patch_, "inner edges along circles and straight lines of it", "others");
        return revolved(ends, sides, full, start);
    }
    TopoDS_Shape revolved(const std::array<End, 2>& ends, const std::array<End, 2>& sides, bool full,
                          double start) const {
        const bool cone = form_.kind == SurfaceForm::Kind::cone;
        const double slope = cone ? std::tan(form_.angle) : 0, wide = cone ? 1 / std::cos(form_.angle) : 1;
        const double thin = endsInside() ? 0 : 0.05 * depth_;
        const double inside = form_.sense > 0 ? -depth_ : -thin, outside = form_.sense > 0 ? thin : depth_;
        // what lies behind a cone lies towards its tip, or away from it
        const double along = cone ? depth_ * std::sin(form_.angle) : 0;
        double low = ends[0].at - (ends[0].grows ? grow_ + (form_.sense < 0 ? along : 0) : 0),
               high = ends[1].at + (ends[1].grows ? grow_ + (form_.sense > 0 ? along : 0) : 0);
        if (cone) low = std::max(low, 0.0);
        auto radius = [&](double z, double beside) { return (cone ? z * slope : form_.radius) + beside * wide; };
        // radius and height of the profile's corners, none beyond the axis
        std::vector<std::array<double, 2>> profile{{radius(low, outside), low}, {radius(high, outside), high}};
        const double r0 = radius(low, inside), r1 = radius(high, inside);
        profile.push_back({std::max(r1, 0.0), high});
        if (r0 * r1 < 0) profile.push_back({0, low + (high - low) * r0 / (r0 - r1)});
        profile.push_back({std::max(r0, 0.0), low});
        const double radiusOf = std::max(radius(low, 0), radius(high, 0));
        const double from = start + sides[0].at - (sides[0].grows && !full ? grow_ / radiusOf : 0),
                     to = start + sides[1].at + (sides[1].grows && !full ? grow_ / radiusOf : 0);
        const auto [x, y] = perpendicular(form_.axis);
        const Vec3 ray = std::cos(from) * x + std::sin(from) * y;
        std::vector<Vec3> corners;
        for (const auto& [r, z] : profile) corners.push_back(form_.point + r * ray + z * form_.axis);
        const TopoDS_Face face = BRepBuilderAPI_MakeFace(wireOf(corners), Standard_True);
        const gp_Ax1 about(toPoint(form_.point), toDirection(form_.axis));
        if (full || to - from >= 2 * M_PI) return BRepPrimAPI_MakeRevol(face, about).Shape();
        return BRepPrimAPI_MakeRevol(face, about, to - from).Shape();
    }

    TopoDS_Face faceOf(const TopoDS_Shape& original) const {
        const TopoDS_Shape place = BRepBuilderAPI_MakeVertex(toPoint(patch_.places.front())).Vertex();
        for (TopExp_Explorer e(original, TopAbs_FACE); e.More(); e.Next()) {
            Bnd_Box box;
            BRepBndLib::Add(e.Current(), box);
            box.Enlarge(0.01);
            if (box.IsOut(toPoint(patch_.places.front()))) continue;
            const BRepExtrema_DistShapeShape d(place, e.Current());
            if (d.IsDone() && d.Value() < 1e-5) return TopoDS::Face(e.Current());
        }
        refuse(patch_, "the face in the original's file", "none at its place");
    }
    TopoDS_Shape overFreeForm(const TopoDS_Shape& original) const {
        Vec3 n = Vec3::Zero();
        for (const Vec3& p : patch_.places) n += patch_.surface->gradient(p);
        n.normalize();
        double least = 1, low = 1e300, high = -1e300;
        const Vec3 origin = patch_.places.front();
        for (const Vec3& p : patch_.places) least = std::min(least, patch_.surface->gradient(p).dot(n));
        for (const auto& s : patch_.border) {
            low = std::min({low, (s.a - origin).dot(n), (s.b - origin).dot(n)});
            high = std::max({high, (s.a - origin).dot(n), (s.b - origin).dot(n)});
        }
        for (const Vec3& p : patch_.places) {
            low = std::min(low, (p - origin).dot(n));
            high = std::max(high, (p - origin).dot(n));
        }
        if (least < std::cos(65 * M_PI / 180)) refuse(patch_, "a face that turns by less than 130 degrees", "more");
        const double deep = depth_ / least;
        // what lies deeper than that: everything below the surface, sunk
        const TopoDS_Face own = faceOf(original);
        const double more = 2 * grow_ + depth_;
        Handle(Geom_Surface) surface = BRep_Tool::Surface(own);
        double u0 = 0, u1 = 0, v0 = 0, v1 = 0;
        BRepTools::UVBounds(own, u0, u1, v0, v1);
        if (const auto spline = Handle(Geom_BSplineSurface)::DownCast(surface); !spline.IsNull()) {
            Handle(Geom_BoundedSurface) longer = Handle(Geom_BoundedSurface)::DownCast(spline->Copy());
            for (const bool inU : {true, false})
                for (const bool after : {true, false})
                    if (!(inU ? spline->IsUPeriodic() : spline->IsVPeriodic()))
                        GeomLib::ExtendSurfByLength(longer, more, 1, inU, after);
            surface = longer;
            surface->Bounds(u0, u1, v0, v1);
        } else {
            const double du = 0.5 * (u1 - u0), dv = 0.5 * (v1 - v0);
            double a0 = 0, a1 = 0, b0 = 0, b1 = 0;
            surface->Bounds(a0, a1, b0, b1);
            u0 = std::max(u0 - du, a0), u1 = std::min(u1 + du, a1);
            v0 = std::max(v0 - dv, b0), v1 = std::min(v1 + dv, b1);
        }
        const double reach = 2 * (high - low) + 4 * (more + deep);
        const TopoDS_Face sheet = BRepBuilderAPI_MakeFace(
            Handle(Geom_Surface)::DownCast(surface->Translated(toVector(-deep * n))), u0, u1, v0, v1, 1e-6);
        const TopoDS_Shape below = BRepPrimAPI_MakePrism(sheet, toVector(-reach * n)).Shape();
        return BRepAlgoAPI_Cut(prism(n, origin, low - deep - 1, high + 0.05 * depth_), below).Shape();
    }

    const FacePatch& patch_;
    const SurfaceForm form_;
    double depth_, grow_;
};

/// The solids of a file that have one of the faces.
TopoDS_Shape solidsWith(const TopoDS_Shape& file, const std::vector<const FacePatch*>& patches) {
    std::vector<TopoDS_Shape> solids;
    for (TopExp_Explorer e(file, TopAbs_SOLID); e.More(); e.Next()) solids.push_back(e.Current());
    if (solids.size() < 2) return solids.empty() ? file : solids.front();
    TopoDS_Compound chosen;
    BRep_Builder builder;
    builder.MakeCompound(chosen);
    for (const TopoDS_Shape& s : solids) {
        BRepClass3d_SolidClassifier where(s);
        for (const FacePatch* p : patches) {
            where.Perform(toPoint(p->places.front()), 1e-5);
            if (where.State() != TopAbs_ON) continue;
            builder.Add(chosen, s);
            break;
        }
    }
    return chosen;
}

}  // namespace

Tool layerTool(const Feature& f, const SolidOptions& options) {
    if (!options.keptFaces)
        throw InputError(ErrorDetail{"The faces of a layer are not known.", f.path, "feature '" + f.name + "'",
                                     "faces of an interface", "none"});
    const shape::KeptFaces& kept = *options.keptFaces;
    auto nameOf = [&](int interface) {
        const auto k = static_cast<std::size_t>(interface);
        return k < options.interfaces.size() ? options.interfaces[k] : std::string();
    };
    std::vector<const FacePatch*> patches;
    for (const FacePatch& p : kept.patches())
        if (nameOf(p.interface) == f.interface) patches.push_back(&p);
    const bool step = isStepFile(f.path);
    for (const FacePatch* p : patches)
        if (!step && p->surface->form().kind != SurfaceForm::Kind::plane)
            refuse(*p, "a plane, or a STEP file", "a " + describe(p->surface->form()) + " of triangles");
    if (!step && !options.trianglesOf)
        throw InputError(
            ErrorDetail{"A body of triangles cannot be read here.", f.path, {}, "a STEP file", "triangles"});
    const TopoDS_Shape original = solidsWith(step ? readSolid(f.path) : facetedSolid(options.trianglesOf(f)), patches);
    TopTools_ListOfShape zones, bodies;
    for (const FacePatch* p : patches) zones.Append(Zone(*p, f.length).make(original));
    bodies.Append(original);
    BRepAlgoAPI_Common common;
    common.SetArguments(bodies);
    if (zones.Extent() > 1) {
        TopTools_ListOfShape first, others = zones;
        first.Append(zones.First());
        others.RemoveFirst();
        BRepAlgoAPI_Fuse fuse;
        fuse.SetArguments(first);
        fuse.SetTools(others);
        fuse.Build();
        zones.Clear();
        zones.Append(fuse.Shape());
    }
    common.SetTools(zones);
    common.Build();
    if (common.HasErrors() || common.Shape().IsNull() || !TopExp_Explorer(common.Shape(), TopAbs_SOLID).More())
        throw InputError(ErrorDetail{"The kernel could not take the layer out of the original.", f.path,
                                     "feature '" + f.name + "'", "the original's material behind its faces", "none"});
    Tool t;
    TopoDS_Compound layers;
    BRep_Builder builder;
    builder.MakeCompound(layers);
    Handle(IntTools_Context) context = new IntTools_Context;
    // of whichever interface keeps it
    auto described = [&](const TopoDS_Face& face) {
        SolidSurface s = describeFace(face);
        s.feature = f.name;
        s.face = "wall";
        gp_Pnt inside;
        gp_Pnt2d unused;
        if (BOPTools_AlgoTools3D::PointInFace(face, inside, unused, context) != 0) return s;
        const auto n = kept.nearest(fromPoint(inside.XYZ()), 1e-4);
        if (n.patch >= 0 && n.across < 1e-4) {
            s.interface = nameOf(kept.patches()[static_cast<std::size_t>(n.patch)].interface);
            s.face = "face";
        }
        return s;
    };
    for (TopExp_Explorer solids(common.Shape(), TopAbs_SOLID); solids.More(); solids.Next()) {
        std::vector<std::pair<TopoDS_Face, SolidSurface>> faces;
        bool own = false;  // what a zone caught of other places is left out
        for (TopExp_Explorer e(solids.Current(), TopAbs_FACE); e.More(); e.Next()) {
            faces.emplace_back(TopoDS::Face(e.Current()), described(TopoDS::Face(e.Current())));
            own = own || faces.back().second.interface == f.interface;
        }
        if (!own) continue;
        builder.Add(layers, solids.Current());
        t.faces.insert(t.faces.end(), faces.begin(), faces.end());
    }
    t.shape = layers;
    return t;
}

}  // namespace escultura::solid

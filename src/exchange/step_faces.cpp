#include "exchange/step_faces.hpp"

#include <BRepAdaptor_Curve.hxx>
#include <BRepAdaptor_Surface.hxx>
#include <BRepTools.hxx>
#include <BRepTools_WireExplorer.hxx>
#include <BRep_Tool.hxx>
#include <GCPnts_TangentialDeflection.hxx>
#include <Geom_BSplineSurface.hxx>
#include <Geom_Surface.hxx>
#include <Poly_Triangulation.hxx>
#include <Standard_Failure.hxx>
#include <TopExp.hxx>
#include <TopExp_Explorer.hxx>
#include <TopTools_IndexedDataMapOfShapeListOfShape.hxx>
#include <TopTools_IndexedMapOfShape.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Face.hxx>
#include <TopoDS_Wire.hxx>
#include <algorithm>
#include <cmath>
#include <fstream>
#include <gp_Cone.hxx>
#include <gp_Cylinder.hxx>
#include <gp_Pln.hxx>
#include <gp_Sphere.hxx>
#include <gp_Torus.hxx>

#include "base/error.hpp"
#include "exchange/step_reader.hpp"
#include "exchange/step_shape.hpp"

namespace escultura::exchange {
namespace {

using shape::ExactSurface;
using shape::FacePatch;
using shape::SurfaceForm;

Vec3 from(const gp_Pnt& p) {
    return {p.X(), p.Y(), p.Z()};
}
Vec3 from(const gp_Vec& v) {
    return {v.X(), v.Y(), v.Z()};
}
Vec3 from(const gp_Dir& d) {
    return {d.X(), d.Y(), d.Z()};
}

/// A free-form surface of the file, continued along its tangents beyond its ends.
class StepSurface final : public ExactSurface {
  public:
    /// @param seeds  places on it and their parameters; @param sense  1: its own normal looks out of the material
    StepSurface(Handle(Geom_Surface) surface, std::vector<std::pair<Vec3, std::array<double, 2>>> seeds, double sense)
        : surface_(std::move(surface)), seeds_(std::move(seeds)), sense_(sense) {
        surface_->Bounds(low_[0], high_[0], low_[1], high_[1]);
        if (surface_->IsUPeriodic()) low_[0] = -1e100, high_[0] = 1e100;
        if (surface_->IsVPeriodic()) low_[1] = -1e100, high_[1] = 1e100;
        takePieces();
    }
    /// Newton's method for the foot of the perpendicular from the nearest seed.
    double distance(const Vec3& p, Vec3& gradient) const override {
        const auto seed = std::min_element(seeds_.begin(), seeds_.end(), [&](const auto& a, const auto& b) {
            return (a.first - p).squaredNorm() < (b.first - p).squaredNorm();
        });
        std::array<double, 2> uv = seed->second;
        At s = at(uv);
        for (int step = 0; step < 20; ++step) {
            const Vec3 r = s.place - p;
            const double fu = r.dot(s.u), fv = r.dot(s.v);
            const double euu = s.u.dot(s.u), euv = s.u.dot(s.v), evv = s.v.dot(s.v);
            if (std::abs(fu) <= 1e-12 * (1 + r.norm()) * std::sqrt(euu) &&
                std::abs(fv) <= 1e-12 * (1 + r.norm()) * std::sqrt(evv))
                break;
            double a = euu + r.dot(s.uu), b = euv + r.dot(s.uv), c = evv + r.dot(s.vv);
            if (!(a * c - b * b > 1e-6 * euu * evv && a > 0)) a = euu, b = euv, c = evv;
            const double det = a * c - b * b;
            if (!(det > 0)) break;
            const double du = (-fu * c + fv * b) / det, dv = (fu * b - fv * a) / det;
            // halved until the place comes no farther
            double share = 1;
            bool better = false;
            for (int half = 0; half < 12 && !better; ++half, share *= 0.5) {
                const std::array<double, 2> next{uv[0] + share * du, uv[1] + share * dv};
                const At there = at(next);
                if ((there.place - p).squaredNorm() <= r.squaredNorm() * (1 + 1e-15)) {
                    uv = next;
                    s = there;
                    better = true;
                }
            }
            if (!better || std::hypot(share * du * std::sqrt(euu), share * dv * std::sqrt(evv)) < 1e-13) break;
        }
        gradient = sense_ * s.u.cross(s.v).normalized();
        return (p - s.place).dot(gradient);
    }

  private:
    struct At {
        Vec3 place, u, v, uu, uv, vv;
    };
    /// One piece of a polynomial spline, in powers from its lower corner.
    struct Piece {
        double u, v;
        std::vector<Vec3> factor;  // [degree in v + 1][degree in u + 1]
    };
    /// Pieces of a polynomial spline: the kernel's own evaluation takes ten times as long.
    void takePieces() {
        const auto spline = Handle(Geom_BSplineSurface)::DownCast(surface_);
        if (spline.IsNull() || spline->IsURational() || spline->IsVRational() || spline->IsUPeriodic() ||
            spline->IsVPeriodic())
            return;
        for (int k = 1; k <= spline->NbUKnots(); ++k) knotU_.push_back(spline->UKnot(k));
        for (int k = 1; k <= spline->NbVKnots(); ++k) knotV_.push_back(spline->VKnot(k));
        const int highestU = spline->UDegree();
        const int highestV = spline->VDegree();
        powersU_ = static_cast<std::size_t>(highestU);
        powersV_ = static_cast<std::size_t>(highestV);
        for (int j = 1; j < spline->NbVKnots(); ++j)
            for (int i = 1; i < spline->NbUKnots(); ++i) {
                Piece p{spline->UKnot(i), spline->VKnot(j), {}};
                for (std::size_t n = 0; n <= powersV_; ++n)
                    for (std::size_t m = 0; m <= powersU_; ++m) {
                        // from within the piece: at a knot derivatives may jump
                        const Vec3 d = m + n == 0 ? placeIn(*spline, p, i, j)
                                                  : from(spline->LocalDN(p.u, p.v, i, i + 1, j, j + 1,
                                                                         static_cast<int>(m), static_cast<int>(n)));
                        p.factor.push_back(d / (std::tgamma(m + 1.0) * std::tgamma(n + 1.0)));
                    }
                pieces_.push_back(std::move(p));
            }
    }
    static Vec3 placeIn(const Geom_BSplineSurface& spline, const Piece& p, int i, int j) {
        gp_Pnt place;
        spline.LocalD0(p.u, p.v, i, i + 1, j, j + 1, place);
        return from(place);
    }
    At ofPieces(double u, double v) const {
        auto span = [](const std::vector<double>& knots, double x) {
            const auto after = std::upper_bound(knots.begin() + 1, knots.end() - 1, x);
            return static_cast<std::size_t>(after - knots.begin()) - 1;
        };
        const Piece& p = pieces_[span(knotV_, v) * (knotU_.size() - 1) + span(knotU_, u)];
        const double s = u - p.u, t = v - p.v;
        At a{Vec3::Zero(), Vec3::Zero(), Vec3::Zero(), Vec3::Zero(), Vec3::Zero(), Vec3::Zero()};
        for (std::size_t n = powersV_ + 1; n-- > 0;) {
            Vec3 c = Vec3::Zero(), cu = Vec3::Zero(), cuu = Vec3::Zero();
            for (std::size_t m = powersU_ + 1; m-- > 0;) {
                cuu = cuu * s + 2 * cu;
                cu = cu * s + c;
                c = c * s + p.factor[n * (powersU_ + 1) + m];
            }
            a.vv = a.vv * t + 2 * a.v;
            a.v = a.v * t + a.place;
            a.place = a.place * t + c;
            a.uv = a.uv * t + a.u;
            a.u = a.u * t + cu;
            a.uu = a.uu * t + cuu;
        }
        return a;
    }
    At within(double u, double v) const {
        if (!pieces_.empty()) return ofPieces(u, v);
        gp_Pnt place;
        gp_Vec du, dv, duu, dvv, duv;
        surface_->D2(u, v, place, du, dv, duu, dvv, duv);
        return {from(place), from(du), from(dv), from(duu), from(duv), from(dvv)};
    }
    At at(const std::array<double, 2>& uv) const {
        const double u = std::clamp(uv[0], low_[0], high_[0]), v = std::clamp(uv[1], low_[1], high_[1]);
        At a = within(u, v);
        const double overU = uv[0] - u, overV = uv[1] - v;
        if (overU != 0 || overV != 0) {
            a.place += overU * a.u + overV * a.v;
            if (overU != 0) a.v += overU * a.uv, a.uu = Vec3::Zero();
            if (overV != 0) a.u += overV * a.uv, a.vv = Vec3::Zero();
        }
        return a;
    }
    Handle(Geom_Surface) surface_;
    std::vector<std::pair<Vec3, std::array<double, 2>>> seeds_;
    double sense_;
    std::array<double, 2> low_{}, high_{};
    std::vector<Piece> pieces_;
    std::vector<double> knotU_, knotV_;
    std::size_t powersU_ = 0, powersV_ = 0;
};

/// Triangles of a face, outward, with the parameters of their vertices.
struct Meshed {
    surface::TriMesh mesh;
    std::vector<std::array<double, 2>> uv;
};
Meshed trianglesOf(const TopoDS_Face& face) {
    Meshed m;
    TopLoc_Location place;
    const Handle(Poly_Triangulation) t = BRep_Tool::Triangulation(face, place);
    if (t.IsNull()) return m;
    for (int n = 1; n <= t->NbNodes(); ++n) {
        m.mesh.position.push_back(from(t->Node(n).Transformed(place.Transformation())));
        if (t->HasUVNodes()) m.uv.push_back({t->UVNode(n).X(), t->UVNode(n).Y()});
    }
    const bool turned = face.Orientation() == TopAbs_REVERSED;
    for (int n = 1; n <= t->NbTriangles(); ++n) {
        int a = 0, b = 0, c = 0;
        t->Triangle(n).Get(a, b, c);
        if (turned) std::swap(b, c);
        m.mesh.triangle.push_back({a - 1, b - 1, c - 1});
        m.mesh.owner.push_back(0);
    }
    return m;
}

Vec3 normalOf(const surface::TriMesh& m, const Triangle& t) {
    return (m.position[t[1]] - m.position[t[0]]).cross(m.position[t[2]] - m.position[t[0]]);
}

/// The triangle with the largest area: its middle and normal.
std::pair<Vec3, Vec3> largest(const surface::TriMesh& m) {
    std::pair<Vec3, Vec3> best{Vec3::Zero(), Vec3::Zero()};
    for (const Triangle& t : m.triangle)
        if (const Vec3 n = normalOf(m, t); n.norm() > best.second.norm())
            best = {(m.position[t[0]] + m.position[t[1]] + m.position[t[2]]) / 3, n};
    return best;
}

std::shared_ptr<const ExactSurface> surfaceOf(const TopoDS_Face& face, const Meshed& m) {
    const BRepAdaptor_Surface s(face, Standard_False);
    const auto [middle, normal] = largest(m.mesh);
    SurfaceForm f;
    auto placed = [&, middle = middle](const gp_Ax1& axis) {
        f.axis = from(axis.Direction()).normalized();
        f.point = from(axis.Location());
        return Vec3(middle - f.point);
    };
    switch (s.GetType()) {
        case GeomAbs_Plane:
            f.kind = SurfaceForm::Kind::plane;
            placed(s.Plane().Axis());
            if (f.axis.dot(normal) < 0) f.axis = -f.axis;
            return shape::exactSurface(f);
        case GeomAbs_Cylinder:
            f.kind = SurfaceForm::Kind::cylinder;
            placed(s.Cylinder().Axis());
            f.radius = s.Cylinder().Radius();
            break;
        case GeomAbs_Cone: {
            f.kind = SurfaceForm::Kind::cone;
            const Vec3 d = placed(gp_Ax1(s.Cone().Apex(), s.Cone().Axis().Direction()));
            if (d.dot(f.axis) < 0) f.axis = -f.axis;
            f.angle = std::abs(s.Cone().SemiAngle());
            break;
        }
        case GeomAbs_Sphere:
            f.kind = SurfaceForm::Kind::sphere;
            f.point = from(s.Sphere().Location());
            f.radius = s.Sphere().Radius();
            break;
        case GeomAbs_Torus:
            f.kind = SurfaceForm::Kind::torus;
            placed(s.Torus().Axis());
            f.radius = s.Torus().MajorRadius();
            f.tube = s.Torus().MinorRadius();
            break;
        default: {
            std::vector<std::pair<Vec3, std::array<double, 2>>> seeds;
            const std::size_t every = m.mesh.position.size() / 120 + 1;
            for (std::size_t n = 0; n < m.uv.size(); n += every) seeds.emplace_back(m.mesh.position[n], m.uv[n]);
            if (seeds.empty()) return nullptr;
            const Handle(Geom_Surface) surface = BRep_Tool::Surface(face);
            auto made = std::make_shared<const StepSurface>(surface, seeds, 1.0);
            if (made->gradient(middle).dot(normal) >= 0) return made;
            return std::make_shared<const StepSurface>(surface, std::move(seeds), -1.0);
        }
    }
    if (shape::exactSurface(f)->gradient(middle).dot(normal) < 0) f.sense = -1;
    return shape::exactSurface(f);
}

/// Reads the faces of some bodies with their borders.
class FaceReader {
  public:
    FaceReader(const StepShape& step, const std::vector<TopoDS_Shape>& bodies) : step_(step) {
        for (const TopoDS_Shape& body : bodies) {
            TopExp::MapShapesAndAncestors(body, TopAbs_EDGE, TopAbs_FACE, facesOf_);
            for (TopExp_Explorer e(body, TopAbs_FACE); e.More(); e.Next()) {
                if (order_.Contains(e.Current())) continue;
                order_.Add(e.Current());
                add(TopoDS::Face(e.Current()));
            }
        }
        for (int k = 1; k <= order_.Extent(); ++k) addBorder(k);
    }
    std::vector<BodyFace> faces;

  private:
    void add(const TopoDS_Face& face) {
        Meshed m = trianglesOf(face);
        BodyFace f;
        f.patch.name = step_.nameOf(face);
        f.patch.surface = m.mesh.triangle.empty() ? nullptr : surfaceOf(face, m);
        if (!f.patch.surface)
            step_.refuse("face " + std::to_string(order_.Extent()), "a face that can be made triangles of",
                         "one with a gap in its border, or no surface");
        for (const Triangle& t : m.mesh.triangle) {
            f.patch.area += 0.5 * normalOf(m.mesh, t).norm();
            f.patch.triangles.push_back({m.mesh.position[t[0]], m.mesh.position[t[1]], m.mesh.position[t[2]]});
            f.patch.places.push_back((m.mesh.position[t[0]] + m.mesh.position[t[1]] + m.mesh.position[t[2]]) / 3);
        }
        for (Vec3& p : f.patch.places) {  // onto the surface
            Vec3 n;
            const double d = f.patch.surface->distance(p, n);
            p -= d * n;
        }
        for (const Vec3& p : m.mesh.position) f.patch.box.include(p);
        f.mesh = std::move(m.mesh);
        faces.push_back(std::move(f));
    }

    /// Unit vector along a face at a place of an edge of its border, into the face.
    /// @param along  the edge as the face's border runs
    Vec3 inwardAt(int face, const Vec3& p, const Vec3& along, bool ownSense) const {
        const Vec3 n = faces[static_cast<std::size_t>(face - 1)].patch.surface->gradient(p);
        const Vec3 in = n.cross(along).normalized();
        return ownSense ? in : Vec3(-in);
    }
    /// How the body goes on at an edge. @param inward  into the face
    FacePatch::Beyond beyondAt(int face, const TopoDS_Edge& edge, const Vec3& p, const Vec3& inward) const {
        const int at = facesOf_.FindIndex(edge);
        if (at == 0) return FacePatch::Beyond::edge;
        for (const TopoDS_Shape& other : facesOf_(at)) {
            const int k = order_.FindIndex(other);
            if (k == 0 || k == face) continue;
            const Vec3 a = faces[static_cast<std::size_t>(face - 1)].patch.surface->gradient(p),
                       b = faces[static_cast<std::size_t>(k - 1)].patch.surface->gradient(p);
            if (a.dot(b) > std::cos(5 * M_PI / 180)) return FacePatch::Beyond::smooth;
            // the other face falls away where its normal looks beyond the border
            return b.dot(inward) < 0 ? FacePatch::Beyond::edge : FacePatch::Beyond::concave;
        }
        return FacePatch::Beyond::edge;
    }
    void addEdge(int number, const TopoDS_Face& face, const TopoDS_Edge& edge, bool outer) {
        if (BRep_Tool::Degenerated(edge) || BRep_Tool::IsClosed(edge, face)) return;
        const BRepAdaptor_Curve curve(edge);
        const GCPnts_TangentialDeflection points(curve, 0.05, shape::borderError, 2, 1e-9);
        const bool turned = edge.Orientation() == TopAbs_REVERSED;
        auto& patch = faces[static_cast<std::size_t>(number - 1)].patch;
        // the border of a face as it lies on its surface keeps it on the left of that surface's own normal
        const bool ownSense = order_(number).Orientation() != TopAbs_REVERSED;
        const int n = points.NbPoints();
        for (int k = 1; k < n; ++k) {
            FacePatch::Segment s;
            const int a = turned ? n - k + 1 : k, b = turned ? n - k : k + 1;
            s.a = from(points.Value(a));
            s.b = from(points.Value(b));
            if ((s.b - s.a).norm() < 1e-9) continue;
            const Vec3 middle = from(curve.Value(0.5 * (points.Parameter(a) + points.Parameter(b))));
            s.inward = inwardAt(number, middle, s.b - s.a, ownSense);
            s.beyond = beyondAt(number, edge, middle, s.inward);
            s.outer = outer;
            patch.box.include(s.a);
            patch.border.push_back(s);
        }
    }
    void addBorder(int number) {
        const TopoDS_Face face = TopoDS::Face(order_(number).Oriented(TopAbs_FORWARD));
        const TopoDS_Wire around = BRepTools::OuterWire(face);
        auto& patch = faces[static_cast<std::size_t>(number - 1)].patch;
        for (TopExp_Explorer wires(face, TopAbs_WIRE); wires.More(); wires.Next()) {
            const TopoDS_Wire& wire = TopoDS::Wire(wires.Current());
            const bool outer = wire.IsSame(around) || goesAround(patch, wire, face);
            for (BRepTools_WireExplorer e(wire, face); e.More(); e.Next()) addEdge(number, face, e.Current(), outer);
        }
        shape::linkBorder(patch, 1e-6 * std::max(1.0, patch.box.diagonal()));
    }
    /// Whether a border runs once around the axis of a surface of revolution: no hole, though it is not the outer one.
    static bool goesAround(const FacePatch& patch, const TopoDS_Wire& wire, const TopoDS_Face& face) {
        const SurfaceForm form = patch.surface->form();
        if (form.kind == SurfaceForm::Kind::plane || form.kind == SurfaceForm::Kind::free) return false;
        const auto [u, v] = perpendicular(form.axis);
        double turn = 0, before = 0;
        bool first = true;
        for (BRepTools_WireExplorer e(wire, face); e.More(); e.Next()) {
            const BRepAdaptor_Curve c(e.Current());
            for (int k = 0; k <= 16; ++k) {
                const double t = e.Current().Orientation() == TopAbs_REVERSED ? 1 - k / 16.0 : k / 16.0;
                const Vec3 d =
                    from(c.Value(c.FirstParameter() + t * (c.LastParameter() - c.FirstParameter()))) - form.point;
                const double angle = std::atan2(d.dot(v), d.dot(u));
                if (!first) turn += std::remainder(angle - before, 2 * M_PI);
                before = angle;
                first = false;
            }
        }
        return std::abs(turn) > M_PI;
    }

    const StepShape& step_;
    TopTools_IndexedMapOfShape order_;
    TopTools_IndexedDataMapOfShapeListOfShape facesOf_;
};

}  // namespace

std::vector<BodyFace> readStepFaces(const std::string& path, const std::vector<std::string>& wanted) {
    const StepShape step(path, 0.05);
    try {
        // names as readBodies() makes them
        std::vector<std::string> names;
        for (const auto& [shape, name] : step.bodies()) names.push_back(name);
        names = ownNames(std::move(names));
        std::vector<TopoDS_Shape> bodies;
        for (std::size_t k = 0; k < names.size(); ++k)
            if (wanted.empty() || std::count(wanted.begin(), wanted.end(), names[k]))
                bodies.push_back(step.bodies()[k].first);
        FaceReader reader(step, bodies);
        return std::move(reader.faces);
    } catch (const Standard_Failure& e) {
        step.refuse("faces", "faces with a surface and a border", e.GetMessageString());
    }
}

bool isStepFile(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    std::string start(4096, ' ');
    in.read(start.data(), static_cast<std::streamsize>(start.size()));
    return isStep(start);
}

}  // namespace escultura::exchange

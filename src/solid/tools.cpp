#include <BRepAlgoAPI_Cut.hxx>
#include <BRepBuilderAPI_MakeEdge.hxx>
#include <BRepBuilderAPI_MakeFace.hxx>
#include <BRepBuilderAPI_MakePolygon.hxx>
#include <BRepBuilderAPI_MakeWire.hxx>
#include <BRepOffsetAPI_MakeOffset.hxx>
#include <BRepOffsetAPI_ThruSections.hxx>
#include <BRepPrimAPI_MakeBox.hxx>
#include <BRepPrimAPI_MakeCone.hxx>
#include <BRepPrimAPI_MakeCylinder.hxx>
#include <BRepPrimAPI_MakePrism.hxx>
#include <GC_MakeArcOfCircle.hxx>
#include <STEPControl_Reader.hxx>
#include <Standard_Failure.hxx>
#include <TopExp_Explorer.hxx>
#include <TopoDS.hxx>
#include <cmath>
#include <fstream>

#include "base/error.hpp"
#include "solid/kernel.hpp"

namespace escultura::solid {
namespace {

gp_Pnt at(const Vec3& o, const Vec3& x, double a, const Vec3& y, double b) {
    return toPoint(o + a * x + b * y);
}

/// A rectangle's face with rounded corners, in the plane of x and y around o.
TopoDS_Face roundedRectangle(const Vec3& o, const Vec3& x, const Vec3& y, double a, double b, double r) {
    const double p = 0.5 * a, q = 0.5 * b;
    if (r < 1e-6) {
        BRepBuilderAPI_MakePolygon polygon(at(o, x, -p, y, -q), at(o, x, p, y, -q), at(o, x, p, y, q),
                                           at(o, x, -p, y, q), Standard_True);
        return BRepBuilderAPI_MakeFace(polygon.Wire());
    }
    BRepBuilderAPI_MakeWire wire;
    const double s = r * (1 - std::sqrt(0.5));
    auto line = [&](const gp_Pnt& a1, const gp_Pnt& b1) {
        if (a1.Distance(b1) > 1e-6) wire.Add(BRepBuilderAPI_MakeEdge(a1, b1));
    };
    auto arc = [&](const gp_Pnt& a1, const gp_Pnt& m, const gp_Pnt& b1) {
        wire.Add(BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(a1, m, b1).Value()));
    };
    line(at(o, x, -p + r, y, -q), at(o, x, p - r, y, -q));
    arc(at(o, x, p - r, y, -q), at(o, x, p - s, y, -q + s), at(o, x, p, y, -q + r));
    line(at(o, x, p, y, -q + r), at(o, x, p, y, q - r));
    arc(at(o, x, p, y, q - r), at(o, x, p - s, y, q - s), at(o, x, p - r, y, q));
    line(at(o, x, p - r, y, q), at(o, x, -p + r, y, q));
    arc(at(o, x, -p + r, y, q), at(o, x, -p + s, y, q - s), at(o, x, -p, y, q - r));
    line(at(o, x, -p, y, q - r), at(o, x, -p, y, -q + r));
    arc(at(o, x, -p, y, -q + r), at(o, x, -p + s, y, -q + s), at(o, x, -p + r, y, -q));
    return BRepBuilderAPI_MakeFace(wire.Wire());
}

/// The polygons' areas, grown by a margin with round corners.
std::vector<TopoDS_Face> polygonFaces(const std::vector<std::vector<Vec3>>& loops, double margin) {
    std::vector<TopoDS_Face> faces;
    for (const auto& loop : loops) {
        BRepBuilderAPI_MakePolygon polygon;
        for (const Vec3& p : loop) polygon.Add(toPoint(p));
        polygon.Close();
        const TopoDS_Face face = BRepBuilderAPI_MakeFace(polygon.Wire(), Standard_True);
        if (margin < 1e-6) {
            faces.push_back(face);
            continue;
        }
        BRepOffsetAPI_MakeOffset offset(face, GeomAbs_Arc);
        offset.Perform(margin);
        for (TopExp_Explorer wires(offset.Shape(), TopAbs_WIRE); wires.More(); wires.Next())
            faces.push_back(BRepBuilderAPI_MakeFace(TopoDS::Wire(wires.Current()), Standard_True));
    }
    return faces;
}

TopoDS_Shape extrude(const TopoDS_Face& face, const Vec3& by) {
    return BRepPrimAPI_MakePrism(face, gp_Vec(by.x(), by.y(), by.z())).Shape();
}

TopoDS_Shape cylinder(const Vec3& from, const Vec3& axis, double diameter, double length) {
    return BRepPrimAPI_MakeCylinder(gp_Ax2(toPoint(from), toDirection(axis)), 0.5 * diameter, length).Shape();
}

/// Makes the bodies that a feature adds or cuts away, with names of their faces by what they are.
class ToolMaker {
  public:
    ToolMaker(const Feature& f, double reach, const SolidOptions& options)
        : f_(f),
          reach_(reach),
          length_(f.through ? reach : f.length),
          options_(options),
          x_(f.along),
          y_(f.axis.cross(f.along)),
          main_(f.face.empty() ? "wall" : f.face) {}
    std::vector<Tool> make();

  private:
    template <class NameOf>
    void add(const TopoDS_Shape& shape, const NameOf& nameOf) {
        Tool t;
        t.shape = shape;
        for (TopExp_Explorer faces(shape, TopAbs_FACE); faces.More(); faces.Next()) {
            const TopoDS_Face& face = TopoDS::Face(faces.Current());
            SolidSurface s = describeFace(face);
            s.feature = f_.name;
            s.interface = f_.interface;
            s.face = nameOf(s);
            if (s.face.empty()) s.interface.clear();
            t.faces.push_back({face, s});
        }
        tools_.push_back(std::move(t));
    }
    std::string floorOrWall(const SolidSurface& s) const {
        return s.kind == SolidSurface::Kind::plane && std::abs(s.axis.dot(f_.axis)) > 0.999 ? "floor" : "wall";
    }
    /// A rounded rectangle pushed along the axis. @param above  what it begins before the origin, mm
    void addPrism(double above, double length, double corner) {
        add(extrude(roundedRectangle(f_.origin - above * f_.axis, x_, y_, f_.longSide, f_.shortSide, corner),
                    (above + length) * f_.axis),
            [this](const SolidSurface& s) { return floorOrWall(s); });
    }
    void bore();
    void boss();
    void flat();
    void rib();
    void keepOut();

    const Feature& f_;
    double reach_, length_;
    const SolidOptions& options_;
    Vec3 x_, y_;
    std::string main_;
    std::vector<Tool> tools_;
};

void ToolMaker::bore() {
    add(cylinder(f_.origin - f_.before * f_.axis, f_.axis, f_.diameter, f_.before + length_),
        [&](const SolidSurface& s) { return s.kind == SolidSurface::Kind::cylinder ? main_ : "floor"; });
    if (f_.head == Feature::Head::counterbore)
        add(cylinder(f_.origin - f_.before * f_.axis, f_.axis, f_.headDiameter, f_.before + f_.headDepth),
            [&](const SolidSurface& s) { return s.kind == SolidSurface::Kind::plane ? "seat" : "head"; });
    if (f_.head == Feature::Head::countersink) {
        const double depth = 0.5 * (f_.headDiameter - f_.diameter) / std::tan(0.5 * f_.headAngle * M_PI / 180);
        add(BRepPrimAPI_MakeCone(gp_Ax2(toPoint(f_.origin), toDirection(f_.axis)), 0.5 * f_.headDiameter,
                                 0.5 * f_.diameter, depth)
                .Shape(),
            [&](const SolidSurface&) { return "seat"; });
        if (f_.before > 0)
            add(cylinder(f_.origin - f_.before * f_.axis, f_.axis, f_.headDiameter, f_.before),
                [&](const SolidSurface&) { return "head"; });
    }
}

void ToolMaker::boss() {
    if (f_.outer > f_.diameter) {
        // the ring around it goes, which leaves the exact outside
        const TopoDS_Shape whole = cylinder(f_.origin - f_.before * f_.axis, f_.axis, f_.outer, f_.before + f_.length);
        const TopoDS_Shape core =
            cylinder(f_.origin - (f_.before + 1) * f_.axis, f_.axis, f_.diameter, f_.before + f_.length + 2);
        add(BRepAlgoAPI_Cut(whole, core).Shape(), [&](const SolidSurface& s) {
            return s.kind == SolidSurface::Kind::cylinder && std::abs(2 * s.radius - f_.diameter) < 1e-6 ? main_
                                                                                                         : "clearance";
        });
    } else {
        add(cylinder(f_.origin - f_.before * f_.axis, f_.axis, f_.diameter, f_.before + f_.length),
            [&](const SolidSurface& s) { return s.kind == SolidSurface::Kind::cylinder ? main_ : "top"; });
    }
}

void ToolMaker::flat() {
    auto nameOf = [&](const SolidSurface& s) -> std::string {
        return s.kind == SolidSurface::Kind::plane && std::abs((s.point - f_.origin).dot(f_.axis)) < 1e-6 &&
                       std::abs(s.axis.dot(f_.axis)) > 0.999
                   ? main_
                   : "clearance";
    };
    if (!f_.outline.empty())
        for (const TopoDS_Face& face : polygonFaces(f_.outline, f_.margin))
            add(extrude(face, f_.length * f_.axis), nameOf);
    else if (f_.diameter > 0)
        add(cylinder(f_.origin, f_.axis, f_.diameter, f_.length), nameOf);
    else
        add(extrude(roundedRectangle(f_.origin, x_, y_, 2 * reach_, 2 * reach_, 0), reach_ * f_.axis), nameOf);
}

void ToolMaker::rib() {
    const double lean = std::tan(f_.draft * M_PI / 180);
    auto section = [&](double h) {
        const double p = 0.5 * f_.longSide - h * lean, q = 0.5 * f_.shortSide - h * lean;
        const Vec3 o = f_.origin + h * f_.axis;
        return BRepBuilderAPI_MakePolygon(at(o, x_, -p, y_, -q), at(o, x_, p, y_, -q), at(o, x_, p, y_, q),
                                          at(o, x_, -p, y_, q), Standard_True)
            .Wire();
    };
    BRepOffsetAPI_ThruSections loft(Standard_True, Standard_True);
    loft.AddWire(section(-f_.before));
    loft.AddWire(section(f_.length));
    loft.Build();
    add(loft.Shape(), [this](const SolidSurface& s) { return floorOrWall(s); });
}

void ToolMaker::keepOut() {
    if (f_.round)
        add(cylinder(f_.origin, f_.axis, f_.diameter, f_.length),
            [this](const SolidSurface& s) { return floorOrWall(s); });
    else
        addPrism(0, f_.length, 0);
}

std::vector<Tool> ToolMaker::make() {
    using K = Feature::Kind;
    switch (f_.kind) {
        case K::bore:
            bore();
            break;
        case K::boss:
            boss();
            break;
        case K::pad:
            addPrism(f_.before, f_.length, f_.corner);
            break;
        case K::flat:
            flat();
            break;
        case K::slot:
            addPrism(f_.before, length_, 0.5 * f_.shortSide);
            break;
        case K::pocket:
            addPrism(f_.before, length_, f_.corner);
            break;
        case K::rib:
            rib();
            break;
        case K::body:
            add(f_.offset == 0 && (!options_.trianglesOf || isStepFile(f_.path))
                    ? readSolid(f_.path)
                    : facetedSolid(options_.trianglesOf(f_)),
                [this](const SolidSurface&) { return f_.face.empty() ? std::string("face") : f_.face; });
            break;
        case K::keepOut:
            keepOut();
            break;
        case K::layer:
            tools_.push_back(layerTool(f_, options_));
            break;
        case K::fillet:
        case K::chamfer:
            break;
    }
    return std::move(tools_);
}

}  // namespace

bool isStepFile(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    std::string start(4096, ' ');
    in.read(start.data(), static_cast<std::streamsize>(start.size()));
    return start.find("ISO-10303-21") != std::string::npos;
}

TopoDS_Shape readSolid(const std::string& path) {
    STEPControl_Reader reader;
    auto refuse = [&](const std::string& found) {
        throw InputError(
            ErrorDetail{"The body of a feature cannot be read.", path, "contents", "a STEP file with a solid", found});
    };
    if (reader.ReadFile(path.c_str()) != IFSelect_RetDone) refuse("no readable STEP file");
    reader.TransferRoots();
    const TopoDS_Shape shape = reader.OneShape();
    if (shape.IsNull() || !TopExp_Explorer(shape, TopAbs_SOLID).More()) refuse("no solid");
    return shape;
}

std::vector<Tool> toolsOf(const Feature& f, double reach, const SolidOptions& options) {
    try {
        return ToolMaker(f, reach, options).make();
    } catch (const Standard_Failure& e) {
        throw InputError(ErrorDetail{"The feature's numbers do not make a body.",
                                     {},
                                     "feature '" + f.name + "'",
                                     describe(f),
                                     e.GetMessageString()});
    }
}

}  // namespace escultura::solid

#include <BRepAlgoAPI_Cut.hxx>
#include <BRepBuilderAPI_MakeEdge.hxx>
#include <BRepBuilderAPI_MakeFace.hxx>
#include <BRepBuilderAPI_MakePolygon.hxx>
#include <BRepBuilderAPI_MakeWire.hxx>
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

TopoDS_Shape extrude(const TopoDS_Face& face, const Vec3& by) {
    return BRepPrimAPI_MakePrism(face, gp_Vec(by.x(), by.y(), by.z())).Shape();
}

TopoDS_Shape cylinder(const Vec3& from, const Vec3& axis, double diameter, double length) {
    return BRepPrimAPI_MakeCylinder(gp_Ax2(toPoint(from), toDirection(axis)), 0.5 * diameter, length).Shape();
}

bool isStep(const std::string& path) {
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

}  // namespace

std::vector<Tool> toolsOf(const Feature& f, double reach, const SolidOptions& options) {
    using K = Feature::Kind;
    std::vector<Tool> tools;
    // names of the faces by what they are
    auto add = [&](const TopoDS_Shape& shape, auto&& nameOf) {
        Tool t;
        t.shape = shape;
        for (TopExp_Explorer faces(shape, TopAbs_FACE); faces.More(); faces.Next()) {
            const TopoDS_Face& face = TopoDS::Face(faces.Current());
            SolidSurface s = describeFace(face);
            s.feature = f.name;
            s.interface = f.interface;
            s.face = nameOf(s);
            if (s.face.empty()) s.interface.clear();
            t.faces.push_back({face, s});
        }
        tools.push_back(std::move(t));
    };
    const Vec3 x = f.along, y = f.axis.cross(f.along);
    const double length = f.through ? reach : f.length;
    auto is = [](double a, double b) { return std::abs(a - b) < 1e-6; };
    const std::string main = f.face.empty() ? "wall" : f.face;
    auto floorOrWall = [&](const SolidSurface& s) -> std::string {
        return s.kind == SolidSurface::Kind::plane && std::abs(s.axis.dot(f.axis)) > 0.999 ? "floor" : "wall";
    };
    try {
        switch (f.kind) {
            case K::bore: {
                add(cylinder(f.origin - f.before * f.axis, f.axis, f.diameter, f.before + length),
                    [&](const SolidSurface& s) { return s.kind == SolidSurface::Kind::cylinder ? main : "floor"; });
                if (f.head == Feature::Head::counterbore)
                    add(cylinder(f.origin - f.before * f.axis, f.axis, f.headDiameter, f.before + f.headDepth),
                        [&](const SolidSurface& s) { return s.kind == SolidSurface::Kind::plane ? "seat" : "head"; });
                if (f.head == Feature::Head::countersink) {
                    const double depth = 0.5 * (f.headDiameter - f.diameter) / std::tan(0.5 * f.headAngle * M_PI / 180);
                    add(BRepPrimAPI_MakeCone(gp_Ax2(toPoint(f.origin), toDirection(f.axis)), 0.5 * f.headDiameter,
                                             0.5 * f.diameter, depth)
                            .Shape(),
                        [&](const SolidSurface&) { return "seat"; });
                    if (f.before > 0)
                        add(cylinder(f.origin - f.before * f.axis, f.axis, f.headDiameter, f.before),
                            [&](const SolidSurface&) { return "head"; });
                }
                break;
            }
            case K::boss:
                if (f.outer > f.diameter) {
                    // the ring around it goes, which leaves the exact outside
                    const TopoDS_Shape whole =
                        cylinder(f.origin - f.before * f.axis, f.axis, f.outer, f.before + f.length);
                    const TopoDS_Shape core =
                        cylinder(f.origin - (f.before + 1) * f.axis, f.axis, f.diameter, f.before + f.length + 2);
                    add(BRepAlgoAPI_Cut(whole, core).Shape(), [&](const SolidSurface& s) {
                        return s.kind == SolidSurface::Kind::cylinder && is(2 * s.radius, f.diameter) ? main
                                                                                                      : "clearance";
                    });
                } else {
                    add(cylinder(f.origin - f.before * f.axis, f.axis, f.diameter, f.before + f.length),
                        [&](const SolidSurface& s) { return s.kind == SolidSurface::Kind::cylinder ? main : "top"; });
                }
                break;
            case K::pad:
                add(extrude(roundedRectangle(f.origin - f.before * f.axis, x, y, f.longSide, f.shortSide, f.corner),
                            (f.before + f.length) * f.axis),
                    floorOrWall);
                break;
            case K::flat: {
                auto nameOf = [&](const SolidSurface& s) -> std::string {
                    return s.kind == SolidSurface::Kind::plane && std::abs((s.point - f.origin).dot(f.axis)) < 1e-6 &&
                                   std::abs(s.axis.dot(f.axis)) > 0.999
                               ? main
                               : "clearance";
                };
                if (f.diameter > 0)
                    add(cylinder(f.origin, f.axis, f.diameter, f.length), nameOf);
                else
                    add(extrude(roundedRectangle(f.origin, x, y, 2 * reach, 2 * reach, 0), reach * f.axis), nameOf);
                break;
            }
            case K::slot:
                add(extrude(roundedRectangle(f.origin - f.before * f.axis, x, y, f.longSide, f.shortSide,
                                             0.5 * f.shortSide),
                            (f.before + length) * f.axis),
                    floorOrWall);
                break;
            case K::pocket:
                add(extrude(roundedRectangle(f.origin - f.before * f.axis, x, y, f.longSide, f.shortSide, f.corner),
                            (f.before + length) * f.axis),
                    floorOrWall);
                break;
            case K::rib: {
                const double lean = std::tan(f.draft * M_PI / 180);
                auto section = [&](double h) {
                    const double p = 0.5 * f.longSide - h * lean, q = 0.5 * f.shortSide - h * lean;
                    const Vec3 o = f.origin + h * f.axis;
                    return BRepBuilderAPI_MakePolygon(at(o, x, -p, y, -q), at(o, x, p, y, -q), at(o, x, p, y, q),
                                                      at(o, x, -p, y, q), Standard_True)
                        .Wire();
                };
                BRepOffsetAPI_ThruSections loft(Standard_True, Standard_True);
                loft.AddWire(section(-f.before));
                loft.AddWire(section(f.length));
                loft.Build();
                add(loft.Shape(), floorOrWall);
                break;
            }
            case K::body:
                add(f.offset == 0 && (!options.trianglesOf || isStep(f.path)) ? readSolid(f.path)
                                                                              : facetedSolid(options.trianglesOf(f)),
                    [&](const SolidSurface&) { return f.face.empty() ? std::string("face") : f.face; });
                break;
            case K::keepOut:
                if (f.round)
                    add(cylinder(f.origin, f.axis, f.diameter, f.length), floorOrWall);
                else
                    add(extrude(roundedRectangle(f.origin, x, y, f.longSide, f.shortSide, 0), f.length * f.axis),
                        floorOrWall);
                break;
            case K::fillet:
            case K::chamfer:
                break;
        }
    } catch (const Standard_Failure& e) {
        throw InputError(ErrorDetail{"The feature's numbers do not make a body.",
                                     {},
                                     "feature '" + f.name + "'",
                                     describe(f),
                                     e.GetMessageString()});
    }
    return tools;
}

}  // namespace escultura::solid

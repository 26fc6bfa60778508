#include "step_bracket.hpp"

#include <BRepAlgoAPI_Cut.hxx>
#include <BRepAlgoAPI_Fuse.hxx>
#include <BRepBuilderAPI_MakeFace.hxx>
#include <BRepBuilderAPI_MakePolygon.hxx>
#include <BRepBuilderAPI_Transform.hxx>
#include <BRepPrimAPI_MakeBox.hxx>
#include <BRepPrimAPI_MakeCone.hxx>
#include <BRepPrimAPI_MakeCylinder.hxx>
#include <BRepPrimAPI_MakePrism.hxx>
#include <GeomAPI_PointsToBSplineSurface.hxx>
#include <Geom_BSplineSurface.hxx>
#include <Interface_Static.hxx>
#include <STEPControl_Writer.hxx>
#include <ShapeUpgrade_UnifySameDomain.hxx>
#include <TColgp_Array2OfPnt.hxx>
#include <cmath>
#include <gp_Ax2.hxx>
#include <stdexcept>

namespace escultura::made_up {
namespace {

TopoDS_Shape fuse(const TopoDS_Shape& a, const TopoDS_Shape& b) {
    return BRepAlgoAPI_Fuse(a, b).Shape();
}
TopoDS_Shape cut(const TopoDS_Shape& a, const TopoDS_Shape& b) {
    return BRepAlgoAPI_Cut(a, b).Shape();
}
TopoDS_Shape moved(const TopoDS_Shape& shape, const Mat3& turn, const Vec3& by) {
    gp_Trsf t;
    t.SetValues(turn(0, 0), turn(0, 1), turn(0, 2), by[0], turn(1, 0), turn(1, 1), turn(1, 2), by[1], turn(2, 0),
                turn(2, 1), turn(2, 2), by[2]);
    return BRepBuilderAPI_Transform(shape, t, Standard_True).Shape();
}

/// A block whose top is a surface through a grid of points.
TopoDS_Shape seatBlock() {
    constexpr int n = 9;
    TColgp_Array2OfPnt points(1, n, 1, n);
    for (int i = 1; i <= n; ++i)
        for (int j = 1; j <= n; ++j) {
            const double x = 2 + 22.0 * (i - 1) / (n - 1), y = 16 + 18.0 * (j - 1) / (n - 1);
            points(i, j) = gp_Pnt(x, y, StepBracket::seatHeight(x, y));
        }
    const Handle(Geom_BSplineSurface) top = GeomAPI_PointsToBSplineSurface(points, 3, 5, GeomAbs_C2, 1e-7).Surface();
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(top, 1e-7).Face(), gp_Vec(0, 0, -16)).Shape();
}

TopoDS_Shape lug() {
    const double t = StepBracket::lugThickness, r = 0.5 * StepBracket::slotDiameter, h = 0.5 * StepBracket::slotLength;
    TopoDS_Shape plate = BRepPrimAPI_MakeBox(gp_Pnt(-14, -0.5 * t, 0), gp_Pnt(14, 0.5 * t, 52)).Shape();
    for (const double z : {34 - h, 34 + h})
        plate = cut(plate, BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(0, -20, z), gp_Dir(0, 1, 0)), r, 40).Shape());
    plate = cut(plate, BRepPrimAPI_MakeBox(gp_Pnt(-r, -20, 34 - h), gp_Pnt(r, 20, 34 + h)).Shape());
    const Mat3 lean = Eigen::AngleAxisd(StepBracket::lean, Vec3::UnitX()).matrix();
    return moved(plate, lean, Vec3(43, 38, 6));
}

TopoDS_Shape rib() {
    BRepBuilderAPI_MakePolygon outline(gp_Pnt(40, 6, 7), gp_Pnt(40, 36, 7), gp_Pnt(40, 32, 26), Standard_True);
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(outline.Wire()).Face(), gp_Vec(6, 0, 0)).Shape();
}

}  // namespace

double StepBracket::seatHeight(double x, double y) {
    return 18 + 1.2 * std::sin(0.14 * (x - 2)) * std::cos(0.11 * (y - 14)) + 0.02 * x;
}

void StepBracket::write(const std::string& path, const char* unit) const {
    TopoDS_Shape body = BRepPrimAPI_MakeBox(gp_Pnt(0, 0, 0), gp_Pnt(flangeX, flangeY, flangeZ)).Shape();
    body = fuse(body, seatBlock());
    body = fuse(body, lug());
    body = fuse(body, rib());
    body = cut(body, BRepPrimAPI_MakeBox(gp_Pnt(-10, -10, -30), gp_Pnt(90, 90, 0)).Shape());
    for (int k = 0; k < 4; ++k)
        body = cut(body, BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(k % 2 ? 62 : 8, k / 2 ? 42 : 8, -5), gp_Dir(0, 0, 1)),
                                                  0.5 * bolt, 20)
                             .Shape());
    ShapeUpgrade_UnifySameDomain tidy(body);
    tidy.Build();
    Interface_Static::SetCVal("write.step.unit", unit);
    STEPControl_Writer writer;
    writer.Transfer(moved(tidy.Shape(), turn, shift), STEPControl_AsIs);
    if (writer.Write(path.c_str()) != IFSelect_RetDone) throw std::runtime_error("the STEP file was not written");
    Interface_Static::SetCVal("write.step.unit", "MM");
}

void writeClamp(const std::string& path, const Mat3& turn, const Vec3& shift) {
    auto round = [](double x, double y, double z, double radius, double length) {
        return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1)), radius, length).Shape();
    };
    TopoDS_Shape body = BRepPrimAPI_MakeBox(gp_Pnt(0, 0, 0), gp_Pnt(40, 30, 12)).Shape();
    body = fuse(body, round(10, 10, 6, 7, 14));
    body = cut(body, round(26, 12, -5, 3, 30));
    body = cut(body, BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(26, 12, 9), gp_Dir(0, 0, 1)), 3, 8, 5).Shape());
    body = cut(body, round(40, 15, -5, 6, 30));
    STEPControl_Writer writer;
    writer.Transfer(moved(body, turn, shift), STEPControl_AsIs);
    if (writer.Write(path.c_str()) != IFSelect_RetDone) throw std::runtime_error("the STEP file was not written");
}

void writeStar(const std::string& path, int points) {
    BRepBuilderAPI_MakePolygon outline;
    for (int k = 0; k < 2 * points; ++k) {
        const double a = M_PI * k / points, r = k % 2 ? 95 : 100;
        outline.Add(gp_Pnt(r * std::cos(a), r * std::sin(a), 0));
    }
    outline.Close();
    STEPControl_Writer writer;
    writer.Transfer(BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(outline.Wire()).Face(), gp_Vec(0, 0, 5)).Shape(),
                    STEPControl_AsIs);
    if (writer.Write(path.c_str()) != IFSelect_RetDone) throw std::runtime_error("the STEP file was not written");
}

}  // namespace escultura::made_up

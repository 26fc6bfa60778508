// Flat faces of any outline as interfaces: exact in surface and check, with material behind them, in a turned body.
#include <QTemporaryDir>
#include <QtTest>
#include <cmath>

#include "box_mesh.hpp"
#include "duty/part_edit.hpp"
#include "duty/rebuild_text.hpp"
#include "exchange/writers.hpp"
#include "made_up_part.hpp"
#include "project/run.hpp"
#include "shape/outline.hpp"
#include "stages/part_shape.hpp"
#include "surface/recognise.hpp"

using namespace escultura;
using nlohmann::json;
using shape::Outline;

class TestOutlineFaces : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    /// Of the body's own axes, x along its length.
    const Mat3 turn_ = (Eigen::AngleAxisd(0.35, Vec3::UnitZ()) * Eigen::AngleAxisd(-0.25, Vec3::UnitY())).matrix();
    const Vec3 low_{0, -20, -15}, high_{60, 20, 15};
    Vec3 out(const Vec3& own) const { return Vec3(40, 50, 60) + turn_ * own; }
    static json list(const Vec3& v) { return json::array({v[0], v[1], v[2]}); }
    json loop(double x, const std::vector<std::array<double, 2>>& corners) const {
        json l = json::array();
        for (const auto& c : corners) l.push_back(list(out({x, c[0], c[1]})));
        return l;
    }
    /// The left end whole, an angle of the right one; a strut of density between them.
    std::string bracket() const {
        surface::TriMesh body = made_up::boxMesh(low_, high_);
        for (Vec3& p : body.position) p = out(p);
        const std::string folder = dir_.path().toStdString();
        exchange::writeStl(folder + "/body.stl", body, "body");
        Box3 box;
        for (const Vec3& p : body.position) box.include(p);
        field::DensityField f;
        f.spacing = Vec3::Constant(2.5);
        f.origin = box.low - Vec3::Constant(1.3);
        for (int a = 0; a < 3; ++a) f.cells[a] = static_cast<int>(std::ceil((box.size()[a] + 2.6) / 2.5));
        f.source = "strut";
        f.density.resize(static_cast<std::size_t>(f.cells[0]) * f.cells[1] * f.cells[2]);
        for (std::size_t c = 0; c < f.count(); ++c) {
            const Vec3 own = turn_.transpose() * (f.centre(c) - Vec3(40, 50, 60));
            const bool in = own.x() > 0 && own.x() < 60 && std::hypot(own.y() - 2, own.z() - 1) < 9;
            f.density[c] = in ? 1.F : 0.02F;
        }
        json part = made_up::leverPart();
        part["design_space"] = {{"body", "body.stl"}};
        part["field"]["origin"] = list(f.origin);
        const Vec3 x = turn_.col(0);
        part["interfaces"] = json::array(
            {{{"name", "flange"},
              {"kind", "pad"},
              {"origin", list(out({0, 3, -2}))},
              {"axis", list(x)},
              {"length", 5},
              {"outline", json::array({loop(0, {{-20, -15}, {20, -15}, {20, 15}, {-20, 15}})})},
              {"start", {{"kind", "flat"}, {"clearance", 8}, {"clear_margin", 0}}}},
             {{"name", "seat"},
              {"kind", "pad"},
              {"origin", list(out({60, 0, 0}))},
              {"axis", list(-x)},
              {"length", 6},
              {"outline", json::array({loop(60, {{-12, -10}, {14, -10}, {14, 2}, {4, 2}, {4, 12}, {-12, 12}})})}}});
        part["supports"] = json::array({{{"kind", "fixed"}, {"interfaces", {"flange"}}, {"face", "start"}}});
        part["load_cases"] = json::array(
            {{{"name", "press"},
              {"loads",
               json::array(
                   {{{"kind", "force"}, {"interfaces", {"seat"}}, {"face", "start"}, {"force", {300, -200, 100}}}})}}});
        return made_up::writeLever(folder, part, f);
    }

  private slots:
    /// Distances to a rectangle with a hole in it, by hand.
    void distancesAreExact() {
        const Outline o(Vec3::UnitZ(), {{{0, 0, 5}, {40, 0, 5}, {40, 30, 5}, {0, 30, 5}},
                                        {{10, 10, 5}, {20, 10, 5}, {20, 20, 5}, {10, 20, 5}}});
        QVERIFY(std::abs(o.area() - 1100) < 1e-9 && std::abs(o.filled().area() - 1200) < 1e-9);
        const std::tuple<Vec3, double, Vec3> places[] = {
            {{5, 15, 0}, -5, {1, 0, 0}}, {{30, 1, 9}, -1, {0, -1, 0}},
            {{15, 12, 0}, 2, {0, 1, 0}}, {{-3, -4, 0}, 5, {-0.6, -0.8, 0}},
            {{44, 10, 0}, 4, {1, 0, 0}}, {{22, 21, 0}, -std::sqrt(5), Vec3::Zero()}};
        for (const auto& [p, distance, gradient] : places) {
            QVERIFY2(std::abs(o.distance(p) - distance) < 1e-12, qPrintable(QString::number(o.distance(p))));
            if (gradient.norm() > 0 && p != Vec3(5, 15, 0)) QVERIFY((o.gradient(p) - gradient).norm() < 1e-9);
        }
        // on an edge it still points out
        QVERIFY((o.gradient(Vec3(40, 15, 0)) - Vec3::UnitX()).norm() < 1e-9);
        QVERIFY((o.gradient(Vec3(20, 15, 0)) + Vec3::UnitX()).norm() < 1e-9);
    }
    void partsAreReadAndWrittenBack() {
        const duty::Part part = duty::readPart(bracket());
        QCOMPARE(part.interfaces[1].outline.front().size(), std::size_t(6));
        const Outline o(part.interfaces[1].axis, part.interfaces[1].outline);
        QVERIFY(std::abs(o.area() - (26 * 12 + 16 * 10)) < 1e-9);
        duty::Interface moved = part.interfaces[1];
        moved.origin += Vec3(1, 2, 3);
        const duty::Part again = duty::parsePart(duty::withInterface(part, "seat", moved), part.path);
        QVERIFY((again.interfaces[1].outline[0][2] - part.interfaces[1].outline[0][2]).norm() < 1e-9);
        QVERIFY((again.interfaces[1].origin - moved.origin).norm() < 1e-9);
        // across a plane: each corner is its image
        duty::Repetition how;
        how.kind = duty::Repetition::Kind::mirrored;
        how.point = Vec3(0, 0, 200);
        how.axis = Vec3::UnitZ();
        const duty::Part both = duty::parsePart(duty::withCopies(part, "seat", how), part.path);
        const auto &a = both.interfaces[1], &b = both.interfaces[2];
        for (std::size_t k = 0; k < 6; ++k) {
            Vec3 there = a.origin + a.outline[0][k];
            there.z() = 400 - there.z();
            QVERIFY((b.origin + b.outline[0][k] - there).norm() < 1e-9);
        }
        // what is wrong is named
        json j = json::parse(part.text);
        auto refused = [&](const std::function<void(json&)>& change) {
            json other = j;
            change(other["interfaces"][1]);
            return made_up::messageOf([&] { duty::parsePart(other.dump(), part.path); });
        };
        QVERIFY(refused([](json& i) { i["outline"][0][1][0] = 1000; }).find("outline[0][1]") != std::string::npos);
        QVERIFY(refused([](json& i) { i["ring_diameter"] = 20; }).find("either a diameter or an outline") !=
                std::string::npos);
        QVERIFY(refused([](json& i) {
                    i["outline"][0] = json::array({i["outline"][0][0], i["outline"][0][1]});
                }).find("three corners") != std::string::npos);
        QVERIFY(refused([](json& i) { i["kind"] = "boss", i["bore_diameter"] = 3; }).find("outline") !=
                std::string::npos);
        QVERIFY(refused([](json& i) {
                    i["start"] = {{"kind", "flat"}, {"clear_diameter", 3}};
                }).find("clear_diameter") != std::string::npos);
    }
    /// Exact planes, the whole outline, material to the depth behind every place of it, and forces in balance.
    void facesAreExactAndKept() {
        Progress progress;
        project::Project p = project::openPart(bracket(), progress);
        p.variants[0].recipe.elementSize = 4;
        const auto& recipe = p.current().recipe;
        project::run(p, recipe, project::Stage::findings, progress);
        const auto surface = p.surface(recipe);
        const auto check = p.check(recipe);
        QVERIFY(surface->measures.watertight && surface->measures.pieces == 1);
        const double areas[] = {40. * 30, 26. * 12 + 16 * 10};
        for (int n = 0; n < 2; ++n) {
            const duty::Interface& i = p.part.interfaces[static_cast<std::size_t>(n)];
            const auto face = std::find_if(surface->faces.begin(), surface->faces.end(),
                                           [&](const auto& f) { return f.interface == i.name && f.face == "start"; });
            QVERIFY(face != surface->faces.end());
            double area = 0, off = 0;
            for (std::size_t t = 0; t < surface->mesh.triangle.size(); ++t) {
                if (surface->mesh.owner[t] != face->surface) continue;
                const Triangle& v = surface->mesh.triangle[t];
                const Vec3 &a = surface->mesh.position[v[0]], &b = surface->mesh.position[v[1]],
                           &c = surface->mesh.position[v[2]];
                if (!face->holds((a + b + c) / 3)) continue;
                area += 0.5 * (b - a).cross(c - a).norm();
                for (const Vec3& q : {a, b, c}) off = std::max(off, std::abs((q - i.origin).dot(i.axis)));
            }
            QVERIFY2(off < 1e-6, qPrintable(QString::number(off)));
            // the flange ends with the body; the seat's outline lies within a larger plane whose triangles cross it
            QVERIFY2(std::abs(area / areas[n] - 1) < (n ? 0.03 : 0.002), qPrintable(QString::number(area / areas[n])));
            // material behind it, measured on the built surface
            const surface::TriangleTree tree(surface->mesh);
            const Outline outline(i.axis, stages::outlineOf(i));
            const auto [u, w] = perpendicular(i.axis);
            int seen = 0;
            for (int s = -30; s <= 30; ++s)
                for (int t = -30; t <= 30; ++t) {
                    const Vec3 at = i.origin + s * u + t * w;
                    // the far edge at the body's side comes out blunt, as wide as a part of a cell
                    if (outline.distance(at) > -1.5) continue;
                    ++seen;
                    const auto hit = tree.firstHit(at + 1e-4 * i.axis, i.axis);
                    QVERIFY(hit);
                    QVERIFY2(hit->distance > 0.99 * i.length,
                             qPrintable(QString("%1 mm behind %2").arg(hit->distance).arg(n)));
                }
            QVERIFY(seen > 300);
        }
        const auto& x = check->cases.front();
        QVERIFY((x.applied - Vec3(300, -200, 100)).norm() < 1e-6 && x.appliedAsMeant);
        QVERIFY((x.reaction + x.applied).norm() < 1e-6 * x.applied.norm());
    }
    /// The same part in a frame of its own has the same faces; a picked face gives its outline back.
    void bordersAreFound() {
        surface::TriMesh body = made_up::boxMesh(low_, high_);
        for (Vec3& p : body.position) p = out(p);
        const auto face = surface::recogniseFace(body, 2);
        QVERIFY(face && face->kind == surface::FittedFace::Kind::plane);
        const auto loops = surface::bordersOf(body, face->triangles, face->point, face->axis);
        QCOMPARE(loops.size(), std::size_t(1));
        QCOMPARE(loops[0].size(), std::size_t(4));
        QVERIFY(std::abs(Outline(face->axis, loops).area() - 40 * 30) < 1e-6);
    }
    void featuresKeepTheirOutline() {
        const duty::Part part = duty::readPart(bracket());
        stages::Regions regions;
        regions.designSpace = Box3{Vec3::Constant(-200), Vec3::Constant(300)};
        for (const auto& f : stages::interfaceFeatures(part, regions)) {
            if (f.face != "start") continue;
            QVERIFY(!f.outline.empty() && solid::problemOf(f, {f}).empty());
            QVERIFY(duty::featureFrom(duty::featureJson(f)) == f);
        }
    }
};

QTEST_APPLESS_MAIN(TestOutlineFaces)
#include "test_outline_faces.moc"

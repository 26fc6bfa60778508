#include <zip.h>

#include <BRepAlgoAPI_Cut.hxx>
#include <BRepPrimAPI_MakeBox.hxx>
#include <BRepPrimAPI_MakeCylinder.hxx>
#include <Interface_Static.hxx>
#include <QXmlStreamReader>
#include <QtTest>
#include <STEPControl_Writer.hxx>
#include <fstream>
#include <random>

#include "base/error.hpp"
#include "box_mesh.hpp"
#include "exchange/body_files.hpp"
#include "exchange/writers.hpp"
#include "made_up_part.hpp"
#include "shape/machined_solid.hpp"
#include "surface/extract.hpp"

using namespace escultura;
using namespace escultura::exchange;
using surface::TriMesh;

/// Surfaces written and read back, and bodies of other origin read.
class TestBodies : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    TriMesh torus_;
    std::string path(const char* name) const { return (dir_.path() + "/" + name).toStdString(); }
    static void write(const std::string& path, const std::string& text) {
        std::ofstream(path, std::ios::binary).write(text.data(), static_cast<std::streamsize>(text.size()));
    }
    /// Packages with a model of cubes.
    static std::string box(const char* id, const char* more, double size) {
        const TriMesh m = made_up::boxMesh(Vec3::Zero(), Vec3::Constant(size));
        std::string xml = "<object id=\"" + std::string(id) + "\" " + more + "><mesh><vertices>";
        for (const Vec3& p : m.position)
            xml += "<vertex x=\"" + std::to_string(p[0]) + "\" y=\"" + std::to_string(p[1]) + "\" z=\"" +
                   std::to_string(p[2]) + "\"/>";
        xml += "</vertices><triangles>";
        for (const Triangle& t : m.triangle)
            xml += "<triangle v1=\"" + std::to_string(t[0]) + "\" v2=\"" + std::to_string(t[1]) + "\" v3=\"" +
                   std::to_string(t[2]) + "\"/>";
        return xml + "</triangles></mesh></object>";
    }
    std::string package(const std::string& model) const {
        const std::string file = path("made.3mf");
        int code = 0;
        zip_t* archive = zip_open(file.c_str(), ZIP_CREATE | ZIP_TRUNCATE, &code);
        zip_file_add(archive, "elsewhere/part.model", zip_source_buffer(archive, model.data(), model.size(), 0), 0);
        const std::string link =
            "<Relationships><Relationship Type=\"http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel\" "
            "Target=\"/elsewhere/part.model\" Id=\"r\"/></Relationships>";
        zip_file_add(archive, "_rels/.rels", zip_source_buffer(archive, link.data(), link.size(), 0), 0);
        zip_close(archive);
        return file;
    }
    static std::string objects() {
        return box("1", "name=\"cube\"", 1) + box("2", "type=\"support\"", 3) +
               "<object id=\"7\" name=\"pair\"><components><component objectid=\"1\"/><component objectid=\"1\" "
               "transform=\"0 2 0 -2 0 0 0 0 -2 10 0 0\"/></components></object>";
    }
    static std::string model(const std::string& head, const std::string& items) {
        return "<?xml version=\"1.0\"?>\n<model xmlns=\"x\" " + head + "><resources>\n" + objects() +
               "\n</resources><build>\n" + items + "</build></model>";
    }

  private slots:
    void initTestCase() {
        Progress progress;
        const shape::MachinedSolid s(std::make_shared<shape::FunctionBody>([](const Vec3& p) {
                                         return std::hypot(std::hypot(p[0], p[1]) - 22, p[2]) - 9;
                                     }),
                                     {Vec3::Constant(-32), Vec3::Constant(32)});
        torus_ = surface::extractSurface(s, 2, true, progress);
    }
    void readBack_data() {
        QTest::addColumn<QString>("ending");
        QTest::addColumn<double>("tolerance");
        QTest::newRow("STL, single precision") << "stl" << 1e-6;
        QTest::newRow("OBJ") << "obj" << 1e-13;
        QTest::newRow("PLY") << "ply" << 1e-13;
        QTest::newRow("3MF") << "3mf" << 1e-13;
    }
    void readBack() {
        QFETCH(QString, ending);
        QFETCH(double, tolerance);
        const std::string file = path(qPrintable("torus." + ending));
        writeBody(file, torus_, {"Torus", {"free"}});
        const TriMesh m = readBody(file);
        const surface::Measures a = surface::measure(torus_), b = surface::measure(m);
        QVERIFY(b.watertight);
        QCOMPARE(m.triangle.size(), torus_.triangle.size());
        QCOMPARE(m.position.size(), torus_.position.size());
        QCOMPARE(b.genus, 1);
        QVERIFY(std::abs(b.volume / a.volume - 1) < tolerance && std::abs(b.area / a.area - 1) < tolerance);
        // in inches
        if (!statesUnit(file))
            QVERIFY(std::abs(surface::measure(readBody(file, "in")).volume / (a.volume * std::pow(25.4, 3)) - 1) <
                    1e-5);
    }
    /// The package holds what the 3MF core specification asks for, and its mesh is the surface.
    void threeMf() {
        const std::string file = path("torus.3mf");
        write3mf(file, torus_, {"Ring & <part>", {}});
        int code = 0;
        zip_t* archive = zip_open(file.c_str(), ZIP_RDONLY, &code);
        QVERIFY(archive);
        auto read = [&](const char* name) {
            zip_stat_t stat;
            if (zip_stat(archive, name, 0, &stat) != 0) return QByteArray();
            QByteArray bytes(static_cast<int>(stat.size), '\0');
            zip_file_t* f = zip_fopen(archive, name, 0);
            zip_fread(f, bytes.data(), stat.size);
            zip_fclose(f);
            return bytes;
        };
        QVERIFY(read("[Content_Types].xml").contains("application/vnd.ms-package.3dmanufacturing-3dmodel+xml"));
        QVERIFY(read("_rels/.rels").contains("/3D/3dmodel.model"));
        QXmlStreamReader xml(read("3D/3dmodel.model"));
        TriMesh m;
        QString title, unit;
        QStringList order;
        const QString core = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02";
        while (!xml.atEnd()) {
            if (xml.readNext() != QXmlStreamReader::StartElement) continue;
            QCOMPARE(xml.namespaceUri().toString(), core);
            const auto a = xml.attributes();
            if (xml.name() == u"model") unit = a.value("unit").toString();
            if (xml.name() == u"metadata" && a.value("name") == u"Title") title = xml.readElementText();
            if (xml.name() == u"resources" || xml.name() == u"build") order << xml.name().toString();
            if (xml.name() == u"vertex")
                m.position.emplace_back(a.value("x").toDouble(), a.value("y").toDouble(), a.value("z").toDouble());
            if (xml.name() == u"triangle") {
                m.triangle.push_back({a.value("v1").toInt(), a.value("v2").toInt(), a.value("v3").toInt()});
                const auto& t = m.triangle.back();
                QVERIFY(t[0] != t[1] && t[1] != t[2] && t[0] != t[2]);
            }
        }
        zip_discard(archive);
        QVERIFY2(!xml.hasError(), qPrintable(xml.errorString()));
        QCOMPARE(title, "Ring & <part>");
        QCOMPARE(unit, "millimeter");
        QCOMPARE(order, (QStringList{"resources", "build"}));
        QCOMPARE(m.triangle.size(), torus_.triangle.size());
        QVERIFY(std::abs(surface::measure(m).volume / surface::measure(torus_).volume - 1) < 1e-13);
        // the same bytes every time
        write3mf(path("again.3mf"), torus_, {"Ring & <part>", {}});
        auto all = [](const std::string& p) {
            std::ifstream in(p, std::ios::binary);
            return std::string(std::istreambuf_iterator<char>(in), {});
        };
        QVERIFY(all(file) == all(path("again.3mf")));
    }
    void groupsOfAnObjAreOwners() {
        TriMesh m = torus_;
        for (std::size_t t = 0; t < m.triangle.size(); t += 3) m.owner[t] = 2;
        writeObj(path("groups.obj"), m, {"Torus", {"free", "", "lug bore"}});
        std::ifstream in(path("groups.obj"));
        std::string text(std::istreambuf_iterator<char>(in), {});
        QVERIFY(text.find("g free\n") != std::string::npos && text.find("g lug_bore\n") != std::string::npos);
    }
    void asciiStlAndPolygons() {
        write(
            path("tetra.stl"),
            "solid made up\nfacet normal 0 0 -1\nouter loop\nvertex 0 0 0\nvertex 0 2 0\nvertex 2 0 "
            "0\nendloop\nendfacet\n"
            "facet normal 0 -1 0\nouter loop\nvertex 0 0 0\nvertex 2 0 0\nvertex 0 0 2\nendloop\nendfacet\n"
            "facet normal -1 0 0\nouter loop\nvertex 0 0 0\nvertex 0 0 2\nvertex 0 2 0\nendloop\nendfacet\n"
            "facet normal 1 1 1\nouter loop\nvertex 2 0 0\nvertex 0 2 0\nvertex 0 0 2\nendloop\nendfacet\nendsolid\n");
        const surface::Measures m = surface::measure(readBody(path("tetra.stl")));
        QVERIFY(m.watertight && std::abs(m.volume - 8.0 / 6) < 1e-12);
        write(path("cube.obj"),
              "# squares, with texture indices and negative ones\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 0 0 1\nv 1 0 "
              "1\nv 1 1 1\nv "
              "0 1 1\nf 4/1 3/1 2/1 1/1\nf 5 6 7 8\nf 1 2 6 5\nf 2 3 7 6\nf 3 4 8 7\nf -5 -8 -4 -1\n");
        const surface::Measures c = surface::measure(readBody(path("cube.obj")));
        QVERIFY(c.watertight && std::abs(c.volume - 1) < 1e-12);
        write(path("tetra.ply"),
              "ply\nformat ascii 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\nelement "
              "face "
              "4\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n0 0 1\n3 0 2 1\n3 0 1 3\n3 "
              "0 3 "
              "2\n3 1 2 3\n");
        QVERIFY(std::abs(surface::measure(readBody(path("tetra.ply"))).volume - 1.0 / 6) < 1e-12);
    }
    /// A block with a bore, made by the geometry kernel: its volume within what 0.05 mm of tessellation allows.
    void step() {
        const TopoDS_Shape block = BRepPrimAPI_MakeBox(60, 40, 12).Shape();
        const TopoDS_Shape tool = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(20, 20, -1), gp_Dir(0, 0, 1)), 6, 14).Shape();
        STEPControl_Writer writer;
        writer.Transfer(BRepAlgoAPI_Cut(block, tool).Shape(), STEPControl_AsIs);
        QVERIFY(writer.Write(path("block.step").c_str()) == IFSelect_RetDone);
        const surface::Measures m = surface::measure(readBody(path("block.step")));
        QVERIFY(m.watertight);
        QCOMPARE(m.genus, 1);
        QVERIFY2(std::abs(m.volume / (28800 - M_PI * 36 * 12) - 1) < 0.001, qPrintable(QString::number(m.volume)));
    }
    /// Two solids by name, in a file that is in inches: each alone, both together, no third.
    void solidsOfAStepFile() {
        Interface_Static::SetCVal("write.step.unit", "INCH");
        STEPControl_Writer writer;
        writer.Transfer(BRepPrimAPI_MakeBox(gp_Pnt(0, 0, 0), 50.8, 25.4, 12.7).Shape(), STEPControl_AsIs);
        writer.Transfer(BRepPrimAPI_MakeBox(gp_Pnt(80, 0, 0), 10, 20, 30).Shape(), STEPControl_AsIs);
        const std::string file = path("two.step");
        QVERIFY(writer.Write(file.c_str()) == IFSelect_RetDone);
        Interface_Static::SetCVal("write.step.unit", "MM");
        std::ifstream in(file);
        QVERIFY(std::string(std::istreambuf_iterator<char>(in), {}).find("INCH") != std::string::npos);
        QVERIFY(statesUnit(file) && statesUnit("a.3MF") && !statesUnit("a.stl"));
        const auto bodies = readBodies(file);
        QCOMPARE(bodies.size(), std::size_t(2));
        QVERIFY(bodies[0].name != bodies[1].name && !bodies[0].name.empty());
        const double volumes[] = {50.8 * 25.4 * 12.7, 6000};
        for (std::size_t k = 0; k < 2; ++k) {
            QVERIFY2(std::abs(surface::measure(bodies[k].mesh).volume / volumes[k] - 1) < 1e-9,
                     qPrintable(QString::number(surface::measure(bodies[k].mesh).volume)));
            const surface::Measures alone = surface::measure(readBody(file, "mm", {bodies[k].name}));
            QVERIFY(alone.watertight && alone.pieces == 1 && std::abs(alone.volume / volumes[k] - 1) < 1e-9);
        }
        QVERIFY(std::abs(surface::measure(readBody(file)).volume / (volumes[0] + volumes[1]) - 1) < 1e-9);
        const std::string said = made_up::messageOf([&] { readBody(file, "mm", {"third"}); });
        QVERIFY2(said.find(bodies[1].name) != std::string::npos && said.find("'third'") != std::string::npos,
                 said.c_str());
    }
    /// Pieces of a file without names; a cavity stays with what is around it.
    void piecesOfATriangleFile() {
        TriMesh all = made_up::boxMesh({100, 0, 0}, {110, 10, 10});
        auto add = [&](TriMesh m, bool turned) {
            const auto first = static_cast<std::int32_t>(all.position.size());
            all.position.insert(all.position.end(), m.position.begin(), m.position.end());
            for (Triangle t : m.triangle) {
                if (turned) std::swap(t[1], t[2]);
                all.triangle.push_back({first + t[0], first + t[1], first + t[2]});
                all.owner.push_back(0);
            }
        };
        add(made_up::boxMesh({10, 10, 10}, {20, 20, 20}), true);
        add(made_up::boxMesh({-200, -50, -50}, {80, 50, 50}), false);
        add(made_up::boxMesh({0, 0, 0}, {40, 40, 40}), false);  // within the large one's box, around the cavity
        writeBody(path("pieces.stl"), all, {"pieces", {}});
        const auto bodies = readBodies(path("pieces.stl"), "cm");
        QCOMPARE(bodies.size(), std::size_t(3));
        const double volumes[] = {1000, 280 * 100 * 100, 64000 - 1000};
        for (std::size_t k = 0; k < 3; ++k) {
            QCOMPARE(bodies[k].name, "body " + std::to_string(k + 1));
            QVERIFY(std::abs(surface::measure(bodies[k].mesh).volume / (1000 * volumes[k]) - 1) < 1e-6);
        }
    }
    /// A package in inches: an object made of others, turned, moved and mirrored, one left out, one only a support.
    void componentsOfA3mf() {
        const auto bodies = readBodies(package(model("unit=\"inch\"",
                                                     "<item objectid=\"7\"/><item objectid=\"2\"/><item objectid=\"1\" "
                                                     "transform=\"1 0 0 0 1 0 0 0 1 0 0 5\"/><item objectid=\"1\" "
                                                     "printable=\"0\"/>")));
        QCOMPARE(bodies.size(), std::size_t(2));
        QVERIFY(bodies[0].name == "pair" && bodies[1].name == "cube");
        const double inch = 25.4 * 25.4 * 25.4;
        const surface::Measures pair = surface::measure(bodies[0].mesh);
        // twice the size in a left-handed frame: still the right way round
        QVERIFY2(std::abs(pair.volume / (9 * inch) - 1) < 1e-9, qPrintable(QString::number(pair.volume / inch)));
        Box3 around, moved;
        for (const Vec3& p : bodies[0].mesh.position) around.include(p);
        for (const Vec3& p : bodies[1].mesh.position) moved.include(p);
        // (x, y, z) goes to (10 - 2 y, 2 x, -2 z)
        QVERIFY((around.low - 25.4 * Vec3(0, 0, -2)).norm() < 1e-6 &&
                (around.high - 25.4 * Vec3(10, 2, 1)).norm() < 1e-6);
        QVERIFY((moved.low - 25.4 * Vec3(0, 0, 5)).norm() < 1e-6);
    }
    void bad3mf() {
        auto refused = [&](const std::string& text) {
            const std::string file = package(text);
            return made_up::messageOf([&] { readBody(file); });
        };
        auto says = [&](const std::string& text, const char* words) {
            const std::string said = refused(text);
            if (said.find(words) == std::string::npos) qWarning("%s", said.c_str());
            return said.find(words) != std::string::npos;
        };
        const std::string one = "<item objectid=\"1\"/>";
        QVERIFY(says(model("unit=\"yard\"", one), "'yard'"));
        QVERIFY(says(model("requiredextensions=\"b\"", one), "core specification"));
        QVERIFY(says(model("", "<item objectid=\"9\"/>"), "id '9'"));
        QVERIFY(says(model("", "<item objectid=\"1\" transform=\"1 0 0\"/>"), "twelve numbers"));
        QVERIFY(says(model("", one).substr(0, 700), "line 3"));
        std::string bad = model("", one);
        bad.replace(bad.find("v1=\"0\""), 6, "v1=\"8\"");
        QVERIFY(says(bad, "vertices 0 to 7"));
        bad = model("", "<item objectid=\"7\"/>");
        bad.replace(bad.find("component objectid=\"1\""), 22, "component objectid=\"7\"");
        QVERIFY(says(bad, "within itself"));
        // few lines that unfold into more than anybody meant
        std::string chain = objects();
        for (int k = 20; k < 50; ++k) {
            const std::string below = std::to_string(k == 20 ? 1 : k - 1);
            chain += "<object id=\"" + std::to_string(k) + "\"><components><component objectid=\"" + below +
                     "\"/><component objectid=\"" + below + "\"/></components></object>";
        }
        QVERIFY(says("<model><resources>" + chain + "</resources><build><item objectid=\"49\"/></build></model>",
                     "objects in place"));
        QVERIFY(says("<model>" + std::string(40 << 20, ' ') + "</model>", "times as long as its package"));
    }
    void badBodies() {
        auto message = [&](const std::string& text) {
            write(path("bad"), text);
            return QString::fromStdString(made_up::messageOf([&] { readBody(path("bad")); }));
        };
        QVERIFY(message("").contains("an empty file"));
        QVERIFY(message("hello").contains("not a body"));
        QVERIFY(message("v 0 0 0\nv 1 0 0\nf 1 2 7\n").contains("line 3"));
        QVERIFY(message("v 0 0 nan\nf 1 1 1\n").contains("line 1"));
        QVERIFY(message("ply\nformat ascii 1.0\nelement vertex 99999999999\nend_header\n").contains("element vertex"));
        QVERIFY(message("solid x\nfacet\nvertex 1 2\n").contains("line 3"));
        QVERIFY(message("ISO-10303-21;\nrubbish").contains("STEP"));
        QVERIFY(QString::fromStdString(made_up::messageOf([&] { readBody("/nowhere"); })).contains("cannot be opened"));
        QVERIFY_EXCEPTION_THROWN(writeBody(path("x.xyz"), torus_, {}), InputError);
        QVERIFY_EXCEPTION_THROWN(write3mf("/nowhere/x.3mf", torus_, {}), InputError);
        // cut short and changed at random: an error or a body, never a crash
        std::mt19937 random(2);
        for (const char* name : {"f.stl", "f.obj", "f.ply", "f.3mf"}) {
            writeBody(path(name), torus_, {"Torus", {}});
            std::ifstream in(path(name), std::ios::binary);
            const std::string good(std::istreambuf_iterator<char>(in), {});
            for (int round = 0; round < 40; ++round) {
                std::string bytes = good.substr(0, std::min<std::size_t>(good.size(), 60000));
                if (round % 2) bytes = good;
                for (int n = 0; n < 5; ++n) bytes[random() % bytes.size()] = static_cast<char>(random());
                write(path("fuzz"), bytes);
                try {
                    readBody(path("fuzz"));
                } catch (const InputError& e) {
                    QVERIFY(!e.detail().problem.empty());
                }
            }
        }
    }
};

QTEST_GUILESS_MAIN(TestBodies)
#include "test_bodies.moc"

#include <zip.h>

#include <BRepAlgoAPI_Cut.hxx>
#include <BRepPrimAPI_MakeBox.hxx>
#include <BRepPrimAPI_MakeCylinder.hxx>
#include <QXmlStreamReader>
#include <QtTest>
#include <STEPControl_Writer.hxx>
#include <fstream>
#include <random>

#include "base/error.hpp"
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
        QVERIFY(std::abs(surface::measure(readBody(file, "in")).volume / (a.volume * std::pow(25.4, 3)) - 1) < 1e-5);
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
        for (const char* name : {"f.stl", "f.obj", "f.ply"}) {
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

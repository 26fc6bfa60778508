#include <vtkCellData.h>
#include <vtkFloatArray.h>
#include <vtkImageData.h>
#include <vtkNew.h>
#include <vtkPointData.h>
#include <vtkPoints.h>
#include <vtkStructuredPoints.h>
#include <vtkStructuredPointsWriter.h>
#include <vtkUnstructuredGrid.h>
#include <vtkUnstructuredGridWriter.h>
#include <vtkXMLUnstructuredGridWriter.h>

#include <QtTest>
#include <fstream>
#include <random>

#include "base/error.hpp"
#include "exchange/field_reader.hpp"
#include "field/cell_mesh.hpp"
#include "made_up_part.hpp"

using namespace escultura;
using namespace escultura::exchange;
using field::CellMesh;
using field::CellShape;
using field::DensityField;

namespace {

/// A block of hexahedra, split into other shapes, with mid-side nodes where asked.
CellMesh block(CellShape shape, bool quadratic, int n, double size, bool bent = false) {
    CellMesh m;
    std::map<std::array<long, 3>, std::int32_t> known;
    auto bend = [&](Vec3 p) {
        if (bent) p[2] += 0.15 * std::sin(p[0] / size * 2.0) + 0.1 * p[1] * p[0] / size;
        return p;
    };
    auto node = [&](const Vec3& p) {
        const std::array<long, 3> key{std::lround(p[0] * 1e4), std::lround(p[1] * 1e4), std::lround(p[2] * 1e4)};
        const auto [at, isNew] = known.try_emplace(key, static_cast<std::int32_t>(m.position.size()));
        if (isNew) m.position.push_back(bend(p));
        return at->second;
    };
    static const std::vector<std::array<int, 2>> edges[4] = {
        {{0, 1}, {1, 2}, {2, 0}, {0, 3}, {1, 3}, {2, 3}},
        {{0, 1}, {1, 2}, {2, 3}, {3, 0}, {4, 5}, {5, 6}, {6, 7}, {7, 4}, {0, 4}, {1, 5}, {2, 6}, {3, 7}},
        {{0, 1}, {1, 2}, {2, 0}, {3, 4}, {4, 5}, {5, 3}, {0, 3}, {1, 4}, {2, 5}},
        {{0, 1}, {1, 2}, {2, 3}, {3, 0}, {0, 4}, {1, 4}, {2, 4}, {3, 4}}};
    m.first.push_back(0);
    auto add = [&](const std::vector<Vec3>& corners) {
        for (const Vec3& p : corners) m.node.push_back(node(p));
        if (quadratic)
            for (const auto& e : edges[static_cast<int>(shape)])
                m.node.push_back(node(0.5 * (corners[e[0]] + corners[e[1]])));
        m.shape.push_back(shape);
        m.first.push_back(static_cast<std::int64_t>(m.node.size()));
    };
    for (int k = 0; k < n; ++k)
        for (int j = 0; j < n; ++j)
            for (int i = 0; i < n; ++i) {
                std::vector<Vec3> c;
                for (const auto& o : {Vec3(0, 0, 0), Vec3(1, 0, 0), Vec3(1, 1, 0), Vec3(0, 1, 0), Vec3(0, 0, 1),
                                      Vec3(1, 0, 1), Vec3(1, 1, 1), Vec3(0, 1, 1)})
                    c.push_back(size / n * (Vec3(i, j, k) + o));
                const Vec3 middle = 0.5 * (c[0] + c[6]);
                auto pick = [&](std::initializer_list<int> ids) {
                    std::vector<Vec3> p;
                    for (int id : ids) p.push_back(id < 0 ? middle : c[id]);
                    return p;
                };
                if (shape == CellShape::hexahedron) add(c);
                if (shape == CellShape::tetrahedron)
                    for (const auto& t : {std::array{0, 1, 2, 6}, std::array{0, 2, 3, 6}, std::array{0, 3, 7, 6},
                                          std::array{0, 7, 4, 6}, std::array{0, 4, 5, 6}, std::array{0, 5, 1, 6}})
                        add(pick({t[0], t[1], t[2], t[3]}));
                if (shape == CellShape::wedge) {
                    add(pick({0, 1, 2, 4, 5, 6}));
                    add(pick({0, 2, 3, 4, 6, 7}));
                }
                if (shape == CellShape::pyramid)
                    for (const auto& t : {std::array{0, 1, 2, 3}, std::array{4, 7, 6, 5}, std::array{0, 4, 5, 1},
                                          std::array{1, 5, 6, 2}, std::array{2, 6, 7, 3}, std::array{3, 7, 4, 0}})
                        add(pick({t[0], t[1], t[2], t[3], -1}));
            }
    return m;
}

vtkSmartPointer<vtkUnstructuredGrid> toVtk(const CellMesh& m, const std::vector<float>& density, bool onPoints) {
    auto grid = vtkSmartPointer<vtkUnstructuredGrid>::New();
    vtkNew<vtkPoints> points;
    for (const Vec3& p : m.position) points->InsertNextPoint(p.data());
    grid->SetPoints(points);
    static const int types[4][2] = {{VTK_TETRA, VTK_QUADRATIC_TETRA},
                                    {VTK_HEXAHEDRON, VTK_QUADRATIC_HEXAHEDRON},
                                    {VTK_WEDGE, VTK_QUADRATIC_WEDGE},
                                    {VTK_PYRAMID, VTK_QUADRATIC_PYRAMID}};
    for (std::size_t e = 0; e < m.count(); ++e) {
        std::vector<vtkIdType> ids(m.node.begin() + m.first[e], m.node.begin() + m.first[e + 1]);
        const bool quadratic = static_cast<int>(ids.size()) > field::cornerCount(m.shape[e]);
        grid->InsertNextCell(types[static_cast<int>(m.shape[e])][quadratic], static_cast<vtkIdType>(ids.size()),
                             ids.data());
    }
    vtkNew<vtkFloatArray> a;
    a->SetName("density");
    for (float v : density) a->InsertNextValue(v);
    (onPoints ? static_cast<vtkDataSetAttributes*>(grid->GetPointData()) : grid->GetCellData())->AddArray(a);
    return grid;
}

double mass(const DensityField& f) {
    double sum = 0;
    for (float v : f.density) sum += v;
    return sum * f.cellVolume();
}

std::string readAll(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}

void writeAll(const std::string& path, const std::string& bytes) {
    std::ofstream(path, std::ios::binary).write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
}

}  // namespace

/// Meshes, legacy files and tables: read right, refused well, never a crash.
class TestReaders : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    std::string path(const char* name) const { return (dir_.path() + "/" + name).toStdString(); }

    void writeVtu(const char* name, const CellMesh& m, const std::vector<float>& density, int mode = 3,
                  bool onPoints = false) const {
        vtkNew<vtkXMLUnstructuredGridWriter> w;
        w->SetFileName(path(name).c_str());
        w->SetInputData(toVtk(m, density, onPoints));
        if (mode == 0) w->SetDataModeToAscii();
        if (mode == 1) w->SetDataModeToBinary();
        if (mode >= 2) w->SetDataModeToAppended();
        w->SetEncodeAppendedData(mode == 2);
        if (mode == 3)
            w->SetCompressorTypeToLZ4();
        else if (mode == 1)
            w->SetCompressorTypeToZLib();
        else
            w->SetCompressorTypeToNone();
        w->Write();
    }

  private slots:
    /// A head that is not understood shifts every value: it is refused, not taken for the usual one.
    void headsOfVtkFilesAreNotGuessed() {
        std::ifstream in(ESCULTURA_DEMO "/tether-yoke.vti", std::ios::binary);
        const std::string bytes{std::istreambuf_iterator<char>(in), {}};
        auto said = [&](const std::string& from, const std::string& to) {
            std::string changed = bytes;
            changed.replace(changed.find(from), from.size(), to);
            std::ofstream(path("head.vti"), std::ios::binary) << changed;
            return QString::fromStdString(made_up::messageOf([&] { readField({path("head.vti")}); }));
        };
        for (const char* type : {"UInt16", "Int64", "uint64", "UInt64 "}) {
            const QString text = said("header_type=\"UInt64\"", std::string("header_type=\"") + type + "\"");
            QVERIFY2(text.contains("header_type") && text.contains("UInt32 or UInt64") && text.contains(type),
                     qPrintable(text));
        }
        QVERIFY(said("byte_order=\"LittleEndian\"", "byte_order=\"Little\"").contains("LittleEndian or BigEndian"));
        QVERIFY(said("Origin=", "Origin=\"0 0 0\" Origin=").contains("'Origin' once"));
        QCOMPARE(said("version=\"1.0\"", "version=\"1.0\""), QString("no error"));
    }
    /// Total mass of a mesh of every shape, straight or bent, on a grid that does not fit it: kept to rounding, far
    /// inside the bar of 0.1 %.
    void massIsKept_data() {
        QTest::addColumn<int>("shape");
        QTest::addColumn<bool>("quadratic");
        QTest::addColumn<bool>("bent");
        const char* names[] = {"tetrahedra", "hexahedra", "wedges", "pyramids"};
        for (int s = 0; s < 4; ++s)
            for (bool quadratic : {false, true})
                for (bool bent : {false, true})
                    QTest::addRow("%s, %s, %s", names[s], quadratic ? "quadratic" : "linear",
                                  bent ? "bent" : "straight")
                        << s << quadratic << bent;
    }
    void massIsKept() {
        QFETCH(int, shape);
        QFETCH(bool, quadratic);
        QFETCH(bool, bent);
        const CellMesh m = block(static_cast<CellShape>(shape), quadratic, 3, 10, bent);
        std::vector<float> density;
        double asked = 0, volume = 0;
        std::mt19937 random(7);
        for (std::size_t e = 0; e < m.count(); ++e) {
            density.push_back(std::uniform_real_distribution<float>(0, 1)(random));
            asked += density.back() * field::volumeOf(m, e);
            volume += field::volumeOf(m, e);
        }
        if (!bent) QVERIFY(std::abs(volume - 1000) < 1e-9);
        Progress progress;
        const DensityField f = field::rasterise(m, density, Vec3(0.7, 1.1, 0.9), {}, progress);
        QVERIFY(std::abs(mass(f) - asked) < 1e-6 * asked);
        for (float v : f.density) QVERIFY(v >= 0 && v <= 1 + 1e-6f);
        // a solid block is solid wherever a cell lies inside it
        std::fill(density.begin(), density.end(), 1.0f);
        const DensityField solid = field::rasterise(m, density, Vec3::Constant(1), {}, progress);
        if (!bent) QVERIFY(std::abs(solid.density[solid.index(5, 5, 5)] - 1) < 1e-6);
    }

    void readsMeshesOfEveryEncoding() {
        const CellMesh m = block(CellShape::hexahedron, false, 5, 10);
        std::vector<float> density;
        for (std::size_t e = 0; e < m.count(); ++e) density.push_back(0.2f + 0.6f * static_cast<float>(e) / 124);
        for (int mode = 0; mode < 5; ++mode) {
            writeVtu("mesh.vtu", m, density, mode);
            const DensityField f = readField({path("mesh.vtu"), "density"});
            QVERIFY((f.cells == std::array<int, 3>{5, 5, 5}));  // the hexahedra's own cells are found
            for (std::size_t c = 0; c < f.count(); ++c) QVERIFY(std::abs(f.density[c] - density[c]) < 1e-5);
        }
        const FieldFile file = inspectField(path("mesh.vtu"));
        QVERIFY(file.kind == FieldFile::Kind::mesh);
        QCOMPARE(file.count, std::size_t(125));
        QCOMPARE(file.arrays.size(), std::size_t(1));
        QVERIFY(std::abs(file.arrays[0].low - 0.2) < 1e-6 && std::abs(file.arrays[0].high - 0.8) < 1e-6);
        QVERIFY(std::abs(file.suggestedCell - 2) < 1e-9);
    }

    void pointDataOfAMesh() {
        const CellMesh m = block(CellShape::tetrahedron, false, 4, 8);
        std::vector<float> density;
        double expected = 0;
        for (const Vec3& p : m.position) density.push_back(static_cast<float>(0.1 + 0.1 * p[0]));
        for (std::size_t e = 0; e < m.count(); ++e) {
            Vec3 centre = Vec3::Zero();
            for (int k = 0; k < 4; ++k) centre += 0.25 * m.position[m.node[m.first[e] + k]];
            expected += (0.1 + 0.1 * centre[0]) * field::volumeOf(m, e);
        }
        writeVtu("points.vtu", m, density, 0, true);
        FieldSource source{path("points.vtu"), "density"};
        source.cell = 0.8;
        QVERIFY(std::abs(mass(readField(source)) - expected) < 1e-5 * expected);
        // inches in the file
        source.lengthUnit = "in";
        source.cell = 0.8 * 25.4;
        const DensityField inches = readField(source);
        QVERIFY(std::abs(mass(inches) / expected - std::pow(25.4, 3)) < 1);
        QVERIFY(std::abs(inches.bounds().high[0] - 8 * 25.4) < 1e-6);
    }

    void aGridOverAMeshReachesOverTheDesignSpace() {
        const CellMesh m = block(CellShape::hexahedron, false, 4, 8);
        writeVtu("cover.vtu", m, std::vector<float>(64, 1.0f));
        Progress progress;
        const DensityField f = readField({path("cover.vtu")}, Box3{Vec3(-5, 0, 0), Vec3(8, 9, 8)}, progress);
        QVERIFY((f.cells == std::array<int, 3>{7, 5, 4}));
        QVERIFY((f.origin - Vec3(-6, 0, 0)).norm() < 1e-9);
        QCOMPARE(f.density[f.index(0, 0, 0)], 0.0f);
        QCOMPARE(f.density[f.index(3, 0, 0)], 1.0f);
    }

    void legacyFiles() {
        const CellMesh m = block(CellShape::wedge, false, 3, 6);
        for (bool binary : {false, true}) {
            vtkNew<vtkUnstructuredGridWriter> w;
            w->SetFileName(path("mesh.vtk").c_str());
            w->SetInputData(toVtk(m, std::vector<float>(m.count(), 0.75f), false));
            if (binary) w->SetFileTypeToBinary();
            w->Write();
            FieldSource source{path("mesh.vtk")};
            source.cell = 1.0;
            QVERIFY(std::abs(mass(readField(source)) - 0.75 * 216) < 1e-3);

            vtkNew<vtkStructuredPoints> image;
            image->SetDimensions(4, 5, 3);
            image->SetSpacing(1, 2, 3);
            image->SetOrigin(-1, 0, 7);
            vtkNew<vtkFloatArray> a;
            a->SetName("rho");
            for (int c = 0; c < 24; ++c) a->InsertNextValue(static_cast<float>(c) / 24);
            image->GetCellData()->SetScalars(a);
            vtkNew<vtkStructuredPointsWriter> iw;
            iw->SetFileName(path("image.vtk").c_str());
            iw->SetInputData(image);
            if (binary) iw->SetFileTypeToBinary();
            iw->Write();
            const DensityField f = readField({path("image.vtk")});  // the only scalar needs no name
            QVERIFY((f.cells == std::array<int, 3>{3, 4, 2}));
            QVERIFY((f.spacing - Vec3(1, 2, 3)).norm() < 1e-6 && (f.origin - Vec3(-1, 0, 7)).norm() < 1e-6);
            QVERIFY(std::abs(f.density[13] - 13.0 / 24) < 1e-6);
        }
    }

    void tablesOfPoints_data() {
        QTest::addColumn<QString>("head");
        QTest::addColumn<QString>("delimiter");
        QTest::addColumn<bool>("comma");
        QTest::newRow("commas") << "x,y,z,density"
                                << "," << false;
        QTest::newRow("tabs, heading with units") << "X [mm]\tY [mm]\tZ [mm]\tdensity"
                                                  << "\t" << false;
        QTest::newRow("semicolons, decimal comma") << "x;y;z;density"
                                                   << ";" << true;
        QTest::newRow("spaces, no heading") << ""
                                            << " " << false;
        QTest::newRow("tabs, decimal comma") << ""
                                             << "\t" << true;
        QTest::newRow("comment and other columns") << "# made up\nid,x,y,z,density"
                                                   << "," << false;
    }
    void tablesOfPoints() {
        QFETCH(QString, head);
        QFETCH(QString, delimiter);
        QFETCH(bool, comma);
        const DensityField lever = made_up::leverField();
        QString text = head.isEmpty() ? "" : head + "\n";
        const bool id = head.contains("id,");
        for (std::size_t c = 0; c < lever.count(); ++c) {
            const Vec3 p = lever.centre(c);
            QStringList row{QString::number(p[0], 'f', 3), QString::number(p[1], 'f', 3), QString::number(p[2], 'f', 3),
                            QString::number(lever.density[c], 'g', 7)};
            if (id) row.prepend(QString::number(c));
            QString line = row.join(delimiter);
            if (comma) line.replace('.', ',');
            text += line + "\n";
        }
        writeAll(path("points.csv"), text.toStdString());
        const DensityField f = readField({path("points.csv"), "density"});
        QVERIFY(f.cells == lever.cells);
        QVERIFY((f.origin - lever.origin).norm() < 1e-3 && (f.spacing - lever.spacing).norm() < 1e-3);
        for (std::size_t c = 0; c < f.count(); ++c) QVERIFY(std::abs(f.density[c] - lever.density[c]) < 1e-5);
    }

    void scatteredPointsAreAveraged() {
        std::mt19937 random(3);
        std::uniform_real_distribution<double> unit(0, 20);
        std::string text;
        for (int n = 0; n < 30000; ++n) {
            const Vec3 p(unit(random), unit(random), unit(random));
            text += std::to_string(p[0]) + "," + std::to_string(p[1]) + "," + std::to_string(p[2]) + "," +
                    std::to_string(p[0] < 10 ? 1.0 : 0.0) + "\n";
        }
        writeAll(path("cloud.csv"), text);
        FieldSource source{path("cloud.csv")};
        source.cell = 1.0;
        const DensityField f = readField(source);
        QVERIFY(std::abs(mass(f) / (20 * 20 * 10) - 1) < 0.25);  // cells at the border count whole
        QCOMPARE(f.density[f.index(4, 10, 10)], 1.0f);
        QCOMPARE(f.density[f.index(16, 10, 10)], 0.0f);
    }

    void badTables() {
        auto message = [&](const std::string& text) {
            writeAll(path("bad.csv"), text);
            return QString::fromStdString(made_up::messageOf([&] { readField({path("bad.csv")}); }));
        };
        const std::string good = "x,y,z,density\n0,0,0,1\n1,0,0,1\n0,1,0,1\n1,1,0,1\n0,0,1,1\n1,0,1,1\n0,1,1,1\n";
        QVERIFY(message(good + "1,1,1\n").contains("line 9"));
        QVERIFY(message(good + "1,1,one,1\n").contains("column 3"));
        QVERIFY(message(good + "1,1,1,7\n").contains("0 to 1"));
        QVERIFY(message(good + "1,1,1,nan\n").contains("NaN"));
        QVERIFY(message(good + "0,0,0,1\n").contains("two points"));
        QVERIFY(message("x,y,z,density\n0,0,0,1\n1,1,1,1\n").contains("8 points"));
        QVERIFY(message("a story about x and y\nwith words only\n").contains("cannot be read") ||
                message("a story about x and y\nwith words only\n").contains("that can be read"));
    }

    void percentAndBytesAreTakenWhenTheUserSaysSo() {
        DensityField lever = made_up::leverField();
        std::string text = "x,y,z,density\n";
        for (std::size_t c = 0; c < lever.count(); ++c) {
            const Vec3 p = lever.centre(c);
            text += std::to_string(p[0]) + "," + std::to_string(p[1]) + "," + std::to_string(p[2]) + "," +
                    std::to_string(100 * lever.density[c]) + "\n";
        }
        writeAll(path("percent.csv"), text);
        QVERIFY(
            QString::fromStdString(made_up::messageOf([&] { readField({path("percent.csv")}); })).contains("per cent"));
        FieldSource source{path("percent.csv")};
        source.scale = DensityScale::percent;
        const DensityField f = readField(source);
        for (std::size_t c = 0; c < f.count(); ++c) QVERIFY(std::abs(f.density[c] - lever.density[c]) < 1e-4);
    }

    /// Cut short anywhere, bytes changed anywhere, counts made huge: an error or a valid field, never a crash.
    void fuzz_data() {
        QTest::addColumn<QString>("name");
        for (const char* n : {"fuzz.npy", "fuzz.csv", "fuzz-ascii.vtu", "fuzz-raw.vtu", "fuzz-zlib.vtu", "fuzz-lz4.vtu",
                              "fuzz-ascii.vtk", "fuzz-binary.vtk", "fuzz.vti"})
            QTest::newRow(n) << QString(n);
    }
    void fuzz() {
        QFETCH(QString, name);
        const std::string file = path(qPrintable(name));
        const CellMesh m = block(CellShape::hexahedron, false, 3, 6);
        const std::vector<float> density(m.count(), 0.5f);
        if (name == "fuzz-ascii.vtu") writeVtu(qPrintable(name), m, density, 0);
        if (name == "fuzz-zlib.vtu") writeVtu(qPrintable(name), m, density, 1);
        if (name == "fuzz-lz4.vtu") writeVtu(qPrintable(name), m, density, 3);
        if (name == "fuzz-raw.vtu") writeVtu(qPrintable(name), m, density, 4);
        if (name.endsWith(".vtk")) {
            vtkNew<vtkUnstructuredGridWriter> w;
            w->SetFileName(file.c_str());
            w->SetInputData(toVtk(m, density, false));
            if (name.contains("binary")) w->SetFileTypeToBinary();
            w->Write();
        }
        if (name == "fuzz.npy") {
            std::string head = "\x93NUMPY";
            head += std::string("\x01\x00\x76\x00", 4);
            std::string text = "{'descr': '<f4', 'fortran_order': False, 'shape': (4, 4, 4), }";
            text.resize(0x75, ' ');
            writeAll(file, head + text + "\n" + std::string(256, '\0'));
        }
        if (name == "fuzz.csv") {
            std::string text = "x,y,z,density\n";
            for (int n = 0; n < 64; ++n)
                text +=
                    std::to_string(n % 4) + "," + std::to_string(n / 4 % 4) + "," + std::to_string(n / 16) + ",0.5\n";
            writeAll(file, text);
        }
        if (name == "fuzz.vti")
            writeAll(file,
                     "<VTKFile type=\"ImageData\" version=\"0.1\" byte_order=\"LittleEndian\"><ImageData "
                     "WholeExtent=\"0 2 0 2 0 2\" Origin=\"0 0 0\" Spacing=\"1 1 1\"><Piece Extent=\"0 2 0 2 0 "
                     "2\"><CellData><DataArray type=\"Float32\" Name=\"density\" format=\"ascii\">1 1 1 0.5 0 1 1 "
                     "1</DataArray></CellData></Piece></ImageData></VTKFile>");
        const std::string good = readAll(file);
        FieldSource source{file};
        source.spacing = Vec3::Ones();
        readField(source);  // the untouched file is fine
        std::mt19937 random(11);
        int refused = 0, taken = 0;
        for (int round = 0; round < 400; ++round) {
            std::string bytes = good;
            auto at = [&] { return std::uniform_int_distribution<std::size_t>(0, bytes.size() - 1)(random); };
            if (round % 4 == 0) {
                bytes.resize(at());
            } else if (round % 4 == 1) {
                for (int n = 0; n < 3; ++n) bytes[at()] = static_cast<char>(random());
            } else if (round % 4 == 2) {  // a digit becomes many
                std::size_t p = at();
                for (int n = 0; n < 2000 && !std::isdigit(static_cast<unsigned char>(bytes[p])); ++n) p = at();
                bytes.replace(p, 1, random() % 2 ? "999999999" : "-7");
            } else {
                const std::size_t p = at();
                bytes.erase(p, std::min<std::size_t>(bytes.size() - p, 1 + random() % 60));
            }
            writeAll(file, bytes);
            try {
                readField(source);
                ++taken;
            } catch (const InputError& e) {
                ++refused;
                QVERIFY(!e.detail().problem.empty());
            }
        }
        QCOMPARE(refused + taken, 400);
        QVERIFY(refused > 100);
    }
};

QTEST_GUILESS_MAIN(TestReaders)
#include "test_readers.moc"

#include <vtkCellData.h>
#include <vtkDoubleArray.h>
#include <vtkFloatArray.h>
#include <vtkImageData.h>
#include <vtkNew.h>
#include <vtkPointData.h>
#include <vtkUnstructuredGrid.h>
#include <vtkXMLImageDataWriter.h>
#include <vtkXMLUnstructuredGridReader.h>

#include <QtTest>
#include <random>

#include "base/error.hpp"
#include "exchange/field_reader.hpp"
#include "exchange/writers.hpp"
#include "made_up_part.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::exchange;

/// Files of every variant that the readers promise, written by an independent library.
class TestExchange : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    std::string path(const char* name) const { return (dir_.path() + "/" + name).toStdString(); }

    static void writeImage(const std::string& path, const field::DensityField& f,
                           const std::function<void(vtkXMLImageDataWriter*)>& mode, bool asDouble = false) {
        vtkNew<vtkImageData> image;
        image->SetDimensions(f.cells[0] + 1, f.cells[1] + 1, f.cells[2] + 1);
        image->SetSpacing(f.spacing[0], f.spacing[1], f.spacing[2]);
        image->SetOrigin(f.origin[0], f.origin[1], f.origin[2]);
        vtkSmartPointer<vtkDataArray> a;
        if (asDouble)
            a = vtkSmartPointer<vtkDoubleArray>::New();
        else
            a = vtkSmartPointer<vtkFloatArray>::New();
        a->SetName("density");
        a->SetNumberOfTuples(static_cast<vtkIdType>(f.count()));
        for (std::size_t c = 0; c < f.count(); ++c) a->SetComponent(static_cast<vtkIdType>(c), 0, f.density[c]);
        image->GetCellData()->AddArray(a);
        vtkNew<vtkXMLImageDataWriter> writer;
        writer->SetFileName(path.c_str());
        writer->SetInputData(image);
        mode(writer);
        writer->Write();
    }

  private slots:
    void readsEveryEncoding_data() {
        QTest::addColumn<int>("mode");
        QTest::newRow("ascii") << 0;
        QTest::newRow("base64") << 1;
        QTest::newRow("base64, zlib") << 2;
        QTest::newRow("appended raw") << 3;
        QTest::newRow("appended raw, zlib") << 4;
        QTest::newRow("appended base64, lz4") << 5;
        QTest::newRow("64-bit headers, doubles, big-endian") << 6;
    }
    void readsEveryEncoding() {
        QFETCH(int, mode);
        auto f = made_up::leverField();
        f.origin = Vec3(-3, 4.5, 100);
        writeImage(
            path("field.vti"), f,
            [mode](vtkXMLImageDataWriter* w) {
                if (mode == 0) w->SetDataModeToAscii();
                if (mode == 1 || mode == 2) w->SetDataModeToBinary();
                if (mode >= 3) w->SetDataModeToAppended();
                w->SetEncodeAppendedData(mode == 5);
                if (mode == 2 || mode == 4)
                    w->SetCompressorTypeToZLib();
                else if (mode == 5)
                    w->SetCompressorTypeToLZ4();
                else
                    w->SetCompressorTypeToNone();
                if (mode == 6) {
                    w->SetHeaderTypeToUInt64();
                    w->SetByteOrderToBigEndian();
                }
            },
            mode == 6);
        const field::DensityField g = readField({path("field.vti"), "density", {}, {}});
        QVERIFY(g.cells == f.cells);
        QVERIFY((g.origin - f.origin).norm() < 1e-9 && (g.spacing - f.spacing).norm() < 1e-9);
        for (std::size_t c = 0; c < f.count(); ++c) QVERIFY(std::abs(g.density[c] - f.density[c]) < 1e-6);
    }
    void pointDataAreAveragedToCells() {
        vtkNew<vtkImageData> image;
        image->SetDimensions(4, 3, 3);
        vtkNew<vtkDoubleArray> a;
        a->SetName("rho");
        for (int k = 0; k < 3; ++k)
            for (int j = 0; j < 3; ++j)
                for (int i = 0; i < 4; ++i) a->InsertNextValue(0.1 * i + 0.2 * j + 0.05 * k);
        image->GetPointData()->AddArray(a);
        vtkNew<vtkXMLImageDataWriter> writer;
        writer->SetFileName(path("points.vti").c_str());
        writer->SetInputData(image);
        writer->Write();
        const field::DensityField f = readField({path("points.vti"), "rho", {}, {}});
        QVERIFY((f.cells == std::array<int, 3>{3, 2, 2}));
        // a linear field: the mean of the corners is the value at the middle
        for (std::size_t c = 0; c < f.count(); ++c) {
            const Vec3 m = f.centre(c);
            QVERIFY(std::abs(f.density[c] - (0.1 * m[0] + 0.2 * m[1] + 0.05 * m[2])) < 1e-6);
        }
    }
    void damagedImagesNeverCrash() {
        const auto f = made_up::leverField();
        for (const bool ascii : {true, false}) {
            writeImage(path("whole.vti"), f, [ascii](vtkXMLImageDataWriter* w) {
                if (ascii)
                    w->SetDataModeToAscii();
                else
                    w->SetDataModeToBinary();
            });
            std::ifstream in(path("whole.vti"), std::ios::binary);
            const std::string all((std::istreambuf_iterator<char>(in)), {});
            std::mt19937 random(2);
            int refused = 0;
            for (int trial = 0; trial < 60; ++trial) {
                std::string bytes = all;
                for (int k = 0; k < 3; ++k)
                    bytes[random() % std::min<std::size_t>(bytes.size(), 900)] = static_cast<char>(32 + random() % 90);
                std::ofstream(path("bad.vti"), std::ios::binary) << bytes;
                try {
                    readField({path("bad.vti"), "density", {}, {}});
                } catch (const InputError&) {
                    ++refused;
                }
            }
            QVERIFY(refused > 10);
        }
    }
    void numpyInDoublesAndFortranOrder() {
        const auto f = made_up::leverField();
        for (const bool fortran : {false, true}) {
            std::string header = std::string("{'descr': '<f8', 'fortran_order': ") + (fortran ? "True" : "False") +
                                 ", 'shape': (6, 12, 32), }";
            while ((header.size() + 11) % 64) header += ' ';
            header += '\n';
            std::ofstream out(path("order.npy"), std::ios::binary);
            out.write("\x93NUMPY\x01\x00", 8);
            const auto length = static_cast<std::uint16_t>(header.size());
            out.write(reinterpret_cast<const char*>(&length), 2);
            out << header;
            std::vector<double> values(f.count());
            for (int k = 0; k < 6; ++k)
                for (int j = 0; j < 12; ++j)
                    for (int i = 0; i < 32; ++i)
                        values[fortran ? k + 6 * (j + 12 * i) : i + 32 * (j + 12 * k)] = f.density[f.index(i, j, k)];
            out.write(reinterpret_cast<const char*>(values.data()), static_cast<std::streamsize>(8 * values.size()));
            out.close();
            const field::DensityField g = readField({path("order.npy"), "density", Vec3(1, 2, 3), Vec3::Constant(2.5)});
            QVERIFY(g.density == f.density);
            QVERIFY((g.origin - Vec3(1, 2, 3)).norm() == 0);
        }
    }
    void otherNumpyTypesAreRefused() {
        for (const char* type : {"<i4", "|u1", "<c8"}) {
            std::string header =
                std::string("{'descr': '") + type + "', 'fortran_order': False, 'shape': (2, 2, 2), }\n";
            std::ofstream out(path("type.npy"), std::ios::binary);
            out.write("\x93NUMPY\x01\x00", 8);
            const auto length = static_cast<std::uint16_t>(header.size());
            out.write(reinterpret_cast<const char*>(&length), 2);
            out << header << std::string(64, '\0');
            out.close();
            QVERIFY_EXCEPTION_THROWN(readField({path("type.npy"), "density", {}, Vec3::Ones()}), InputError);
        }
    }
    void resultsReadBack() {
        const mesh::TetMesh m = verification::mappedBlock(
            2, 2, 2, [](const Vec3& p) { return Vec3(10 * p[0], 5 * p[1] + p[0] * p[0], 4 * p[2]); });
        writeVtu(path("r.vtu"), m,
                 {{"displacement [mm] pull", 3, [&](std::size_t n, int k) { return m.position[n][k] * 0.1; }},
                  {"one", 1, [](std::size_t, int) { return 1.0; }}});
        vtkNew<vtkXMLUnstructuredGridReader> reader;
        reader->SetFileName(path("r.vtu").c_str());
        reader->Update();
        auto* grid = reader->GetOutput();
        QCOMPARE(static_cast<std::size_t>(grid->GetNumberOfCells()), m.tet.size());
        QCOMPARE(static_cast<std::size_t>(grid->GetNumberOfPoints()), m.position.size());
        QCOMPARE(grid->GetCellType(0), VTK_QUADRATIC_TETRA);
        auto* u = grid->GetPointData()->GetArray("displacement [mm] pull");
        QVERIFY(u && u->GetNumberOfComponents() == 3);
        for (std::size_t n = 0; n < m.position.size(); ++n) {
            double p[3];
            grid->GetPoint(static_cast<vtkIdType>(n), p);
            QVERIFY((Vec3(p[0], p[1], p[2]) - m.position[n]).norm() < 1e-12);
            QVERIFY(std::abs(u->GetComponent(static_cast<vtkIdType>(n), 1) - 0.1 * m.position[n][1]) < 1e-15);
        }
        // node order: every mid-side node lies near the middle of its edge
        for (vtkIdType e = 0; e < grid->GetNumberOfCells(); ++e) {
            auto* ids = grid->GetCell(e)->GetPointIds();
            static constexpr int mids[6][3] = {{4, 0, 1}, {5, 1, 2}, {6, 0, 2}, {7, 0, 3}, {8, 1, 3}, {9, 2, 3}};
            for (const auto& k : mids) {
                const Vec3 middle = 0.5 * (m.position[ids->GetId(k[1])] + m.position[ids->GetId(k[2])]);
                QVERIFY((m.position[ids->GetId(k[0])] - middle).norm() < 0.3);
            }
        }
        QVERIFY_EXCEPTION_THROWN(writeVtu("/nowhere/r.vtu", m, {}), InputError);
    }
};

QTEST_GUILESS_MAIN(TestExchange)
#include "test_exchange.moc"

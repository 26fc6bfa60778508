#include <QtTest>
#include <random>

#include "base/error.hpp"
#include "exchange/field_reader.hpp"
#include "field/threshold.hpp"
#include "made_up_part.hpp"

using namespace escultura;
using namespace escultura::field;

class TestField : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    std::string path(const char* name) const { return (dir_.path() + "/" + name).toStdString(); }

  private slots:
    void keepsVolumeByThreshold() {
        DensityField f;
        f.cells = {2, 2, 2};
        f.spacing = Vec3(1, 2, 3);
        f.density = {0.1f, 0.2f, 0.3f, 0.4f, 0.5f, 0.6f, 0.7f, 0.8f};
        const KeptVolume k(f);
        QCOMPARE(k.volume(0.5f), 4 * 6.0);
        QCOMPARE(k.volume(0.81), 0.0);
        QCOMPARE(k.thresholdFor(3 * 6.0), static_cast<double>(0.6f));
        QVERIFY(std::abs(k.histogram(10)[6] + k.histogram(10)[7] - 2.0 / 8) < 1e-12);  // 0.7 in float is below 0.7
        QVERIFY(std::abs(k.greyShare(0.35) - 1.0) < 1e-12 && std::abs(k.greyShare(0.35, 0.65) - 3.0 / 5) < 1e-12);
    }
    void findsPiecesAndInterfaces() {
        // two bars of 3 cells along x, one cell apart; interfaces at one end of each
        DensityField f;
        f.cells = {3, 3, 2};
        f.density.assign(18, 0.f);
        for (int i = 0; i < 3; ++i) f.density[f.index(i, 0, 0)] = 0.9f;
        for (int i = 0; i < 2; ++i) f.density[f.index(i, 2, 0)] = 0.9f;
        const std::vector<KeptCells> interfaces{{"a", {f.index(0, 0, 0)}}, {"b", {f.index(0, 2, 0)}}};
        const Pieces p = findPieces(f, 0.5, interfaces);
        QCOMPARE(p.pieces(), std::size_t(2));
        QCOMPARE(p.cellCount[0], std::size_t(3));
        QCOMPARE(p.pieceOfInterface[0], 0);
        QCOMPARE(p.pieceOfInterface[1], 1);
        QVERIFY_EXCEPTION_THROWN(findPieces(f, 0.95, {}), InputError);
    }
    void connectingThresholdEqualsTrial() {
        // against trying every threshold on random fields
        std::mt19937 random(3);
        std::uniform_int_distribution<int> level(1, 20);
        for (int trial = 0; trial < 40; ++trial) {
            DensityField f;
            f.cells = {7, 6, 5};
            for (int c = 0; c < 210; ++c) f.density.push_back(static_cast<float>(level(random)) / 20);
            const std::vector<KeptCells> interfaces{{"a", {0}}, {"b", {209}}, {"c", {f.index(6, 0, 4)}}};
            const double found = largestConnectingThreshold(f, interfaces);
            double best = -1;
            for (int l = 1; l <= 20; ++l) {
                const double t = static_cast<float>(l) / 20;
                try {
                    const Pieces p = findPieces(f, t, interfaces);
                    if (p.pieceOfInterface[0] == p.pieceOfInterface[1] &&
                        p.pieceOfInterface[0] == p.pieceOfInterface[2])
                        best = t;
                } catch (const InputError&) {
                }
            }
            QCOMPARE(found, best);
        }
    }
    void demoFieldsAreTheSameInBothFormats() {
        // share of cells at 0.5 as stated with the data: 21,036 cells, 328,687.5 mm3
        exchange::FieldSource vti{ESCULTURA_DEMO "/tether-yoke.vti", "density", {}, {}};
        exchange::FieldSource npy{ESCULTURA_DEMO "/tether-yoke.npy", "density", Vec3(0, -60, -50), Vec3::Constant(2.5)};
        const DensityField a = exchange::readField(vti), b = exchange::readField(npy);
        QVERIFY(a.cells == b.cells && a.density == b.density);
        QVERIFY((a.origin - b.origin).norm() < 1e-12);
        QCOMPARE(KeptVolume(a).volume(0.5), 328687.5);
        exchange::FieldSource foot{ESCULTURA_DEMO "/sensor-mast-foot.vti", "density", {}, {}};
        QCOMPARE(KeptVolume(exchange::readField(foot)).volume(0.5), 256875.0);
    }
    void refusesDamagedFiles() {
        const std::string missing = made_up::messageOf([&] {
            exchange::readField({path("none.vti"), "density", {}, {}});
        });
        QVERIFY(missing.find("none.vti") != std::string::npos);
        std::ifstream in(ESCULTURA_DEMO "/tether-yoke.vti", std::ios::binary);
        std::string all((std::istreambuf_iterator<char>(in)), {});
        for (double share : {0.0005, 0.3, 0.7, 0.999}) {
            std::ofstream(path("cut.vti"), std::ios::binary)
                << all.substr(0, static_cast<std::size_t>(share * static_cast<double>(all.size())));
            const std::string m = made_up::messageOf([&] {
                exchange::readField({path("cut.vti"), "density", {}, {}});
            });
            QVERIFY2(m.find("cut.vti") != std::string::npos && m.find("expected") != std::string::npos, m.c_str());
        }
        const std::string wrong = made_up::messageOf([&] {
            exchange::readField({ESCULTURA_DEMO "/tether-yoke.vti", "rho", {}, {}});
        });
        QVERIFY2(wrong.find("density (cells)") != std::string::npos, wrong.c_str());
        std::ofstream(path("text.vti")) << "hello";
        QVERIFY(made_up::messageOf([&] {
                    exchange::readField({path("text.vti"), "density", {}, {}});
                }).find("NumPy") != std::string::npos);
    }
    void refusesHugeClaims() {
        std::string file =
            R"(<?xml version="1.0"?><VTKFile type="ImageData" version="1.0" byte_order="LittleEndian"><ImageData WholeExtent="0 90000 0 90000 0 90000" Origin="0 0 0" Spacing="1 1 1"><Piece Extent="0 90000 0 90000 0 90000"><CellData><DataArray type="Float32" Name="density" format="ascii">1 2 3</DataArray></CellData></Piece></ImageData></VTKFile>)";
        std::ofstream(path("huge.vti")) << file;
        QVERIFY(made_up::messageOf([&] {
                    exchange::readField({path("huge.vti"), "density", {}, {}});
                }).find("too small for the grid") != std::string::npos);
    }
    void npyReaderSurvivesAnyTruncation() {
        const auto f = made_up::leverField();
        made_up::writeNpy(path("lever.npy"), f);
        std::ifstream in(path("lever.npy"), std::ios::binary);
        const std::string all((std::istreambuf_iterator<char>(in)), {});
        const exchange::FieldSource source{path("short.npy"), "density", {}, Vec3::Constant(2.5)};
        for (std::size_t length = 0; length < all.size(); length += 1 + length / 7) {
            std::ofstream(path("short.npy"), std::ios::binary) << all.substr(0, length);
            QVERIFY_EXCEPTION_THROWN(exchange::readField(source), InputError);
        }
        std::mt19937 random(11);
        for (int trial = 0; trial < 300; ++trial) {  // flipped header bytes: an error or a field, never a crash
            std::string bytes = all;
            bytes[random() % 128] = static_cast<char>(random());
            std::ofstream(path("short.npy"), std::ios::binary) << bytes;
            try {
                exchange::readField(source);
            } catch (const InputError&) {
            }
        }
        QVERIFY(made_up::messageOf([&] {
                    exchange::readField({path("lever.npy"), "density", {}, {}});
                }).find("cell size") != std::string::npos);
    }
    void namesTheCellThatIsNotANumber() {
        auto f = made_up::leverField();
        f.density[f.index(5, 3, 2)] = std::numeric_limits<float>::quiet_NaN();
        QVERIFY(made_up::messageOf([&] { validate(f); }).find("(5, 3, 2)") != std::string::npos);
        f.density[f.index(5, 3, 2)] = 40;
        QVERIFY(made_up::messageOf([&] { validate(f); }).find("per cent") != std::string::npos);
        f.cells = {32, 72, 1};
        QVERIFY(made_up::messageOf([&] { validate(f); }).find("32 x 72 x 1") != std::string::npos);
    }
};

QTEST_GUILESS_MAIN(TestField)
#include "test_field.moc"

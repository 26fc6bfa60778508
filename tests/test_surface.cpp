#include <QtTest>

#include "base/error.hpp"
#include "box_mesh.hpp"
#include "exchange/writers.hpp"
#include "field/density_field.hpp"
#include "shape/field_body.hpp"
#include "shape/machined_solid.hpp"
#include "surface/extract.hpp"

using namespace escultura;
using namespace escultura::shape;
using namespace escultura::surface;

class TestSurface : public QObject {
    Q_OBJECT
    /// A grid whose density is a ramp of two cells over the boundary of a body.
    static field::DensityField rampField(int n, double half, const std::function<double(const Vec3&)>& distance) {
        field::DensityField f;
        f.cells = {n, n, n};
        f.spacing = Vec3::Constant(2 * half / n);
        f.origin = Vec3::Constant(-half);
        f.density.resize(static_cast<std::size_t>(n) * n * n);
        for (std::size_t c = 0; c < f.count(); ++c)
            f.density[c] = static_cast<float>(std::clamp(0.5 - distance(f.centre(c)) / (2 * f.spacing[0]), 0.0, 1.0));
        return f;
    }
    static TriMesh surfaceOf(const field::DensityField& f, double spacing) {
        Progress progress;
        FieldSmoothing none;
        none.length = 0;
        const auto density = std::make_shared<SmoothDensity>(f, std::vector<char>{}, none, progress);
        const MachinedSolid s(std::make_shared<FieldBody>(density, 0.5), f.bounds());
        return extractSurface(s, spacing, true, progress);
    }

  private slots:
    /// A closed hole inside is a cavity, not a piece.
    void cavitiesAreNoPieces() {
        shape::MachinedSolid hollow(std::make_shared<shape::FunctionBody>([](const Vec3& p) {
                                        return std::max(p.norm() - 12, 5 - (p - Vec3(2, 1, 0)).norm());
                                    }),
                                    Box3{Vec3::Constant(-13), Vec3::Constant(13)});
        Progress progress;
        const surface::Measures m = surface::measure(surface::extractSurface(hollow, 1.5, true, progress));
        QCOMPARE(m.pieces, 1);
        QCOMPARE(m.cavities, 1);
        QCOMPARE(m.parts(), 2);
        QCOMPARE(m.genus, 0);
        QVERIFY(std::abs(m.volume / (4.0 / 3 * M_PI * (12 * 12 * 12 - 125)) - 1) < 0.02);
    }
    void sphere() {
        Progress progress;
        const MachinedSolid s(std::make_shared<FunctionBody>([](const Vec3& p) { return p.norm() - 25; }),
                              Box3{Vec3::Constant(-26), Vec3::Constant(26)});
        double last = 1;
        for (const double spacing : {2.5, 1.25}) {  // the error falls with the square of the spacing
            const Measures m = measure(extractSurface(s, spacing, true, progress));
            QVERIFY(m.watertight);
            QCOMPARE(m.genus, 0);
            QCOMPARE(m.pieces, 1);
            const double error = std::abs(m.volume / (4.0 / 3 * M_PI * std::pow(25, 3)) - 1);
            QVERIFY2(error < 0.3 * last, qPrintable(QString::number(error)));
            last = error;
            QVERIFY(std::abs(m.area / (4 * M_PI * 625) - 1) < 0.005);
            QVERIFY(m.centroid.norm() < 0.01);
        }
        QVERIFY2(last < 0.002, qPrintable(QString::number(last)));
    }
    void torusFromAField() {
        const Measures m = measure(surfaceOf(
            rampField(64, 40, [](const Vec3& p) { return std::hypot(std::hypot(p[0], p[1]) - 22, p[2]) - 9; }), 1.25));
        QVERIFY(m.watertight);
        QCOMPARE(m.genus, 1);
        QCOMPARE(m.pieces, 1);
        // without the volume being kept the spline takes a little off convex places
        QVERIFY(std::abs(m.volume / (2 * M_PI * M_PI * 22 * 81) - 1) < 0.01);
    }
    void measuresACube() {
        TriMesh cube = made_up::boxMesh({1, 0, 0}, {3, 2, 5});
        const Measures m = measure(cube);
        QVERIFY(m.watertight);
        QCOMPARE(m.volume, 20.0);
        QCOMPARE(m.area, 2 * (4 + 10 + 10.0));
        QVERIFY((m.centroid - Vec3(2, 1, 2.5)).norm() < 1e-12);
        QCOMPARE(m.genus, 0);
        cube.triangle.pop_back();
        QVERIFY(!measure(cube).watertight);
    }
    void boresAreRoundAndToSize() {
        // a bore of 11 mm in a field of 2.5 mm cells: to 0.01 mm
        const field::DensityField f = rampField(24, 30, [](const Vec3& p) { return p.norm() - 24; });
        Progress progress;
        const auto density = std::make_shared<SmoothDensity>(f, std::vector<char>{}, FieldSmoothing{}, progress);
        MachinedSolid s(std::make_shared<FieldBody>(density, 0.5), f.bounds());
        const int bore = s.addCut({{Primitive::Kind::cylinder, Vec3(3, -2, 0), Vec3::UnitZ(), 5.5}})[0];
        std::vector<lattice::SurfaceSet> sets;
        const TriMesh m = extractSurface(s, 2, true, progress, &sets);
        int onBore = 0;
        for (std::size_t v = 0; v < sets.size(); ++v) {
            if (!sets[v].has(bore)) continue;
            ++onBore;
            const double diameter = 2 * std::hypot(m.position[v][0] - 3, m.position[v][1] + 2);
            QVERIFY(std::abs(diameter - 11) < 1e-6);
        }
        QVERIFY(onBore > 500);
        QCOMPARE(measure(m).genus, 1);
    }
    void sampledVolumeOfABall() {
        Progress progress;
        const MachinedSolid s(std::make_shared<FunctionBody>([](const Vec3& p) { return p.norm() - 10; }),
                              Box3{Vec3::Constant(-11), Vec3::Constant(11)});
        QVERIFY(std::abs(sampledVolume(s, 0.5, progress) / (4.0 / 3 * M_PI * 1000) - 1) < 0.003);
    }
    void closestPointsOnATriangle() {
        const Vec3 a(0, 0, 0), b(4, 0, 0), c(0, 3, 0);
        QVERIFY((closestOnTriangle(Vec3(1, 1, 5), a, b, c) - Vec3(1, 1, 0)).norm() < 1e-12);
        QVERIFY((closestOnTriangle(Vec3(-1, -2, 1), a, b, c) - a).norm() < 1e-12);
        QVERIFY((closestOnTriangle(Vec3(2, -3, 0), a, b, c) - Vec3(2, 0, 0)).norm() < 1e-12);
        QVERIFY((closestOnTriangle(Vec3(4, 3, 0), a, b, c) - Vec3(2.56, 1.08, 0)).norm() <
                1e-12);  // foot on the line 3x + 4y = 12
    }
    void treeFindsWhatASearchFinds() {
        Progress progress;
        const MachinedSolid s(std::make_shared<FunctionBody>(
                                  [](const Vec3& p) { return std::hypot(std::hypot(p[0], p[1]) - 9, p[2]) - 3; }),
                              Box3{Vec3::Constant(-13), Vec3::Constant(13)});
        const TriMesh m = extractSurface(s, 1.5, true, progress);
        const TriangleTree tree(m);
        for (int i = 0; i < 60; ++i) {
            const Vec3 p(std::sin(1.7 * i) * 14, std::cos(2.3 * i) * 14, std::sin(0.9 * i) * 6);
            double best = 1e300;
            for (const Triangle& t : m.triangle)
                best = std::min(
                    best, (closestOnTriangle(p, m.position[t[0]], m.position[t[1]], m.position[t[2]]) - p).norm());
            QVERIFY(std::abs(tree.distance(p) - best) < 1e-12);
        }
    }
    void stlReadsBack() {
        QTemporaryDir dir;
        const std::string path = (dir.path() + "/ball.stl").toStdString();
        Progress progress;
        const MachinedSolid s(std::make_shared<FunctionBody>([](const Vec3& p) { return p.norm() - 10; }),
                              Box3{Vec3::Constant(-11), Vec3::Constant(11)});
        const TriMesh m = extractSurface(s, 1.5, true, progress);
        exchange::writeStl(path, m, "ball");
        const TriMesh back = exchange::readStl(path);
        QCOMPARE(back.triangle.size(), m.triangle.size());
        QVERIFY(std::abs(measure(back).volume / measure(m).volume - 1) < 1e-6);
        QFile(path.c_str()).resize(3000);
        QVERIFY_EXCEPTION_THROWN(exchange::readStl(path), InputError);
    }
    void aFailedWriteLeavesTheOldFile() {
        QTemporaryDir dir;
        const std::string path = (dir.path() + "/note.txt").toStdString();
        exchange::writeText(path, "old");
        QVERIFY_EXCEPTION_THROWN(exchange::replaceFile(path,
                                                       [](const std::string& t) {
                                                           exchange::writeText(t, "half");
                                                           throw InputError("disc full");
                                                       }),
                                 InputError);
        QFile f(path.c_str());
        QVERIFY(f.open(QIODevice::ReadOnly));
        QCOMPARE(f.readAll(), "old");
        QCOMPARE(QDir(dir.path()).entryList(QDir::Files | QDir::Hidden).size(), 1);
        QVERIFY_EXCEPTION_THROWN(exchange::writeText((dir.path() + "/none/note.txt").toStdString(), "x"), InputError);
    }
};

QTEST_GUILESS_MAIN(TestSurface)
#include "test_surface.moc"

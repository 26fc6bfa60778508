#include <QtTest>
#include <random>

#include "made_up_part.hpp"
#include "shape/field_body.hpp"
#include "shape/machined_solid.hpp"

using namespace escultura;
using namespace escultura::shape;

class TestShape : public QObject {
    Q_OBJECT
    static Vec3 numericGradient(const Shape& s, int surface, const Vec3& p) {
        Vec3 g;
        for (int a = 0; a < 3; ++a) {
            const Vec3 d = 1e-5 * Vec3::Unit(a);
            g[a] = (s.surfaceValue(surface, p + d) - s.surfaceValue(surface, p - d)) / 2e-5;
        }
        return g;
    }

  private slots:
    void distancesAreExact() {
        const Primitive cylinder{Primitive::Kind::cylinder, Vec3(1, 2, 3), Vec3::UnitZ(), 4};
        QCOMPARE(cylinder.distance(Vec3(1 + 7, 2, -50)), 3.0);
        const RoundBar bar{Vec3::Zero(), Vec3::UnitX(), 20, 5, 2};
        QCOMPARE(bar.distance(Vec3(10, 8, 0)), 3.0);                // beside
        QCOMPARE(bar.distance(Vec3(24, 0, 0)), 4.0);                // before the end
        QCOMPARE(bar.distance(Vec3(18 + 3, 3 + 4, 0)), 5.0 - 2.0);  // off the rounded rim: hypot(3, 4) - 2
        QVERIFY(std::abs(bar.distance(Vec3(10, 0, 0)) + 5) < 1e-12);
    }
    void smoothMinimumIsBounded() {
        for (double a = -3; a <= 3; a += 0.37)
            for (double b = -3; b <= 3; b += 0.41) {
                const double s = smoothMinimum(a, b, 2);
                QVERIFY(s <= std::min(a, b) + 1e-12 && s >= std::min(a, b) - 0.5 - 1e-12);
                if (std::abs(a - b) >= 2) QCOMPARE(s, std::min(a, b));
                QCOMPARE(s, smoothMinimum(b, a, 2));
            }
    }
    void coincidentSurfacesShareAnId() {
        MachinedSolid s(nullptr, Box3{Vec3::Constant(-10), Vec3::Constant(10)});
        const int a = s.addInside({Primitive::Kind::plane, Vec3(0, 0, 10), Vec3::UnitZ(), 0});
        const auto cut = s.addCut({{Primitive::Kind::plane, Vec3(3, 4, 10), -Vec3::UnitZ(), 0},
                                   {Primitive::Kind::cylinder, Vec3(0, 0, 5), Vec3::UnitZ(), 2}});
        const auto again = s.addCut({{Primitive::Kind::cylinder, Vec3(0, 0, -5), -Vec3::UnitZ(), 2}});
        QCOMPARE(cut[0], a);
        QCOMPARE(again[0], cut[1]);
        QCOMPARE(s.surfaceCount(), 3);
    }
    void cutsOwnTheirBoundary() {
        MachinedSolid s(nullptr, Box3{Vec3::Constant(-10), Vec3::Constant(10)});
        for (int a = 0; a < 3; ++a) {
            s.addInside({Primitive::Kind::plane, Vec3::Constant(-10), -Vec3::Unit(a), 0});
            s.addInside({Primitive::Kind::plane, Vec3::Constant(10), Vec3::Unit(a), 0});
        }
        const int bore = s.addCut({{Primitive::Kind::cylinder, Vec3::Zero(), Vec3::UnitZ(), 3}})[0];
        const Sample in = s.evaluate(Vec3(2, 0, 0)), out = s.evaluate(Vec3(4, 0, 0));
        QCOMPARE(in.value, 1.0);
        QCOMPARE(out.value, -1.0);
        QCOMPARE(in.surface, bore);
        QCOMPARE(out.surface, bore);
    }
    void gradientsMatchDifferences() {
        auto body = std::make_shared<FunctionBody>([](const Vec3& p) { return p.norm() - 9; });
        MachinedSolid s(body, Box3{Vec3::Constant(-20), Vec3::Constant(20)});
        s.addBar({Vec3(0, 0, 0), Vec3::UnitX(), 15, 4, 1}, 3);
        s.addTrim({Primitive::Kind::plane, Vec3(0, 0, 6), Vec3::UnitZ(), 0}, 2);
        s.addCut({{Primitive::Kind::cylinder, Vec3(0, 1, 0), Vec3::UnitX(), 2}});
        std::mt19937 random(5);
        std::uniform_real_distribution<double> u(-14, 14);
        int compared = 0;
        for (int i = 0; i < 400; ++i) {
            const Vec3 p(u(random), u(random), u(random));
            for (int id = 0; id < 2; ++id) {
                const Vec3 n = numericGradient(s, id, p);
                if ((n - s.surfaceGradient(id, p)).norm() < 1e-5) ++compared;
            }
        }
        QVERIFY2(compared >= 790, qPrintable(QString::number(compared)));  // a few points lie on kinks
    }
    void projectsOntoEdgesAndCorners() {
        MachinedSolid s(nullptr, Box3{Vec3::Constant(-10), Vec3::Constant(10)});
        const int top = s.addInside({Primitive::Kind::plane, Vec3(0, 0, 10), Vec3::UnitZ(), 0});
        const int side = s.addInside({Primitive::Kind::plane, Vec3(8, 0, 0), Vec3::UnitX(), 0});
        const int bore = s.addCut({{Primitive::Kind::cylinder, Vec3(8, 0, 0), Vec3::UnitZ(), 3}})[0];
        Vec3 p(7, 2.5, 9);
        const int ids[3] = {top, side, bore};
        QVERIFY(projectOnto(s, ids, 3, p, 5));
        QVERIFY((p - Vec3(8, 3, 10)).norm() < 1e-8);
    }
    void smoothingKeepsAPlaneWhereItIs() {
        // a half-full grid: by symmetry the iso-surface of 0.5 stays on the border between the halves
        field::DensityField f;
        f.cells = {12, 6, 6};
        for (int c = 0; c < 12 * 36; ++c) f.density.push_back(c % 12 < 6 ? 1.f : 0.f);
        Progress progress;
        FieldSmoothing smoothing;
        smoothing.length = 2;
        const auto density = std::make_shared<SmoothDensity>(f, std::vector<char>{}, smoothing, progress);
        const FieldBody body(density, 0.5);
        for (double y : {0.3, 3.0, 5.9}) {
            QVERIFY(std::abs(body.value(Vec3(6, y, 3))) < 1e-6);
            QVERIFY(body.value(Vec3(5, y, 3)) < 0 && body.value(Vec3(7, y, 3)) > 0);
        }
    }
    void symmetryPlanesMakeTheDensityEven() {
        auto f = made_up::leverField();
        f.density[f.index(16, 2, 3)] = 1;  // a wart on one side
        Progress progress;
        FieldSmoothing smoothing;
        smoothing.symmetryPlanes.push_back({Vec3(0, 15, 0), Vec3::UnitY()});
        const SmoothDensity d(f, {}, smoothing, progress);
        for (double x = 5; x < 80; x += 7)
            for (double y = 0.5; y < 15; y += 2)
                QVERIFY(std::abs(d.density(Vec3(x, y, 8), nullptr) - d.density(Vec3(x, 30 - y, 8), nullptr)) < 1e-6);
    }
};

QTEST_GUILESS_MAIN(TestShape)
#include "test_shape.moc"

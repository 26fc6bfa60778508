#include <QtTest>
#include <random>

#include "made_up_part.hpp"
#include "shape/field_body.hpp"
#include "shape/machined_solid.hpp"
#include "shape/member_smoothing.hpp"
#include "shape/raw_body.hpp"

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
    /// The edge of two planes at many angles: the ball's surface where it is nearest, touching both.
    void edgesAreRoundedByABall() {
        for (const double turn : {20.0, 60.0, 90.0, 115.0}) {  // degrees between the outward normals
            const double half = 0.5 * turn * M_PI / 180, radius = 3;
            const Vec3 na(std::sin(half), std::cos(half), 0), nb(-std::sin(half), std::cos(half), 0);
            const Vec3 middle(0, -radius / std::cos(half), 0);  // of the ball: the radius below both planes
            for (int i = 0; i <= 20; ++i) {
                const double at = half * (0.1 * i - 1);
                const Vec3 p = middle + radius * Vec3(std::sin(at), std::cos(at), 0);
                const Rounded r = roundedMaximum(p.dot(na), p.dot(nb), na.dot(nb), radius);
                QVERIFY(std::abs(r.value) < 1e-9);
                const Vec3 out = middle + 1.3 * (p - middle);  // and the distance from it
                const Rounded off = roundedMaximum(out.dot(na), out.dot(nb), na.dot(nb), radius);
                QVERIFY(std::abs(off.value - 0.3 * radius) < 1e-9);
                if (i > 0 && i < 20) {
                    QVERIFY(r.turns);
                    QVERIFY((r.first * na + r.second * nb - (p - middle) / radius).norm() < 1e-9);
                }
            }
            const Vec3 beside = middle + radius * na + 2 * Vec3(na[1], -na[0], 0);  // on the first plane alone
            QVERIFY(!roundedMaximum(beside.dot(na), beside.dot(nb), na.dot(nb), radius).turns);
        }
        // the two sides of a wall thinner than the ball are left alone
        const Rounded wall = roundedMaximum(-0.4, -0.6, -1, 3);
        QCOMPARE(wall.value, -0.4);
    }
    /// A cube's trimmed edge, by the solid: the arc, its chord, and sharp faces beside it.
    void trimmedEdgesAreArcs() {
        const auto slab = std::make_shared<FunctionBody>([](const Vec3& p) { return p.x() - 10; });
        MachinedSolid s(slab, Box3{Vec3::Constant(-20), Vec3::Constant(20)});
        s.addTrim({Primitive::Kind::plane, Vec3(0, 6, 0), Vec3::UnitY(), 0}, 4);
        const double middle = 4 * std::sqrt(0.5);
        QVERIFY(std::abs(s.bodyValue(Vec3(6 + middle, 2 + middle, 1))) < 1e-9);
        QVERIFY(std::abs(s.bodyValue(Vec3(10, 1.9, 1))) < 1e-9);
        QVERIFY(std::abs(s.bodyValue(Vec3(5.9, 6, 1))) < 1e-9);
        // a chord of a circle of 4 mm that is off by 0.05: 2 sqrt(0.05 (8 - 0.05))
        QVERIFY(std::abs(s.chordAt(Vec3(6 + middle, 2 + middle, 1), 0.3, 0.05) - 2 * std::sqrt(0.05 * 7.95)) < 1e-9);
        QVERIFY(std::isinf(s.chordAt(Vec3(10, -3, 1), 0.3, 0.05)));
        QVERIFY(std::isinf(s.chordAt(Vec3(6 + middle, 2 + middle, 1), 0.3, 2)));  // one chord is near enough
    }
    /// A ball larger than a smooth density tells distances leaves faces alone that have no edge near.
    /// The raw body asks blocks of cells first. Wherever a place lies, also beyond the grid and between blocks: the
    /// side is that of the plain convolution of 64 cells, and the value too where the surface may be near.
    void blocksOfTheRawBodyKeepItsSides() {
        field::DensityField f;
        f.cells = {41, 18, 37};
        f.origin = Vec3(-3, 5, 100);
        f.spacing = Vec3(0.7, 0.5, 1.1);
        f.density.resize(static_cast<std::size_t>(41) * 18 * 37);
        std::mt19937 random(7);
        std::uniform_real_distribution<double> unit(0, 1);
        for (std::size_t c = 0; c < f.count(); ++c) {
            const Vec3 p = f.centre(c) - f.origin;
            f.density[c] =
                static_cast<float>(p.x() >= 14 ? unit(random) : (p.z() > 20 ? 0.95 : 0.0) + 0.05 * unit(random));
        }
        const double threshold = 0.45;
        const RawBody raw(f, threshold);
        auto plainValue = [&](const Vec3& place) {
            const Vec3 x = (place - f.origin).cwiseQuotient(f.spacing) - Vec3::Constant(0.5);
            const double value = cubicBetween(x, [&](const std::array<double, 4>& w, int first, int j, int k) {
                double line = 0;
                for (int i = 0; i < 4; ++i)
                    if (first + i >= 0 && first + i < 41 && j >= 0 && j < 18 && k >= 0 && k < 37)
                        line += w[static_cast<std::size_t>(i)] * f.density[f.index(first + i, j, k)];
                return line;
            });
            return (threshold - value) * 0.5;
        };
        int exact = 0, bounds = 0;
        for (int n = 0; n < 20000; ++n) {
            Vec3 p;
            for (int a = 0; a < 3; ++a)
                p[a] = f.origin[a] + f.spacing[a] * (f.cells[static_cast<std::size_t>(a)] * (1.2 * unit(random) - 0.1));
            const double is = raw.evaluate(p).value, wanted = plainValue(p);
            QVERIFY((is > 0) == (wanted > 0));
            if (std::abs(is - wanted) < 1e-12)
                ++exact;
            else
                ++bounds;
            // what is told from afar is never farther than it is
            QVERIFY(std::abs(is) < std::abs(wanted) + 1e-6);
        }
        QVERIFY(exact > 5000 && bounds > 500);
    }
    /// Rows of nothing are skipped: the sums are those of all rows.
    void blursSkipNothingThatCounts() {
        CellGrid g{{9, 7, 11}, std::vector<float>(9 * 7 * 11, 0.0f)};
        for (const auto& [i, j, k] : std::initializer_list<std::array<int, 3>>{{0, 0, 0}, {8, 6, 10}, {4, 3, 5}})
            g.v[g.at(i, j, k)] = static_cast<float>(1 + i);
        const std::vector<double> kernel = gaussian(1.7);
        for (int axis = 0; axis < 3; ++axis) {
            CellGrid fast = g;
            convolve(fast, axis, kernel);
            for (int k = 0; k < 11; ++k)
                for (int j = 0; j < 7; ++j)
                    for (int i = 0; i < 9; ++i) {
                        const std::array<int, 3> at{i, j, k};
                        double sum = 0;
                        for (int r = -static_cast<int>(kernel.size()) + 1; r < static_cast<int>(kernel.size()); ++r) {
                            auto from = at;
                            const auto a = static_cast<std::size_t>(axis);
                            from[a] = std::clamp(from[a] + r, 0, g.n[a] - 1);
                            sum += kernel[static_cast<std::size_t>(std::abs(r))] * g.v[g.at(from[0], from[1], from[2])];
                        }
                        QVERIFY(std::abs(fast.v[g.at(i, j, k)] - sum) < 1e-6);
                    }
        }
    }
    void largeBallsLeaveFacesAlone() {
        field::DensityField f;
        f.cells = {30, 30, 30};
        for (int k = 0; k < 30; ++k)
            for (int j = 0; j < 30; ++j)
                for (int i = 0; i < 30; ++i) f.density.push_back(i < 24 ? 1.0f : 0.0f);
        Progress progress;
        FieldSmoothing smoothing;
        smoothing.length = 2;
        MachinedSolid s(std::make_shared<FieldBody>(
                            std::make_shared<SmoothDensity>(f, std::vector<char>(), smoothing, progress), 0.5),
                        f.bounds());
        s.addTrim({Primitive::Kind::plane, Vec3(0, 30, 0), Vec3::UnitY(), 0}, 6);
        QVERIFY(s.bodyValue(Vec3(6, 29.999, 15)) < 0);  // far from the edge at x = 24
        QVERIFY(s.bodyValue(Vec3(6, 30.001, 15)) > 0);
        QVERIFY(s.bodyValue(Vec3(23.8, 29.8, 15)) > 0);  // the edge itself is rounded
    }
    /// A tilted web and a tilted strut of 0/1 cells: their directions, and what smoothing along them does.
    void thinMembersAreSmoothedAlongThemselves() {
        const Vec3 tilt = Vec3(0.3, 0.2, 1).normalized(), middle = Vec3::Constant(20.3);
        auto cells = [&](const std::function<bool(const Vec3&)>& inside) {
            CellGrid g{{40, 40, 40}, {}};
            for (int k = 0; k < 40; ++k)
                for (int j = 0; j < 40; ++j)
                    for (int i = 0; i < 40; ++i) g.v.push_back(inside(Vec3(i, j, k) - middle) ? 1.0f : 0.0f);
            return g;
        };
        auto blurred = [](CellGrid g, double sigma) {
            for (int axis = 0; axis < 3; ++axis) convolve(g, axis, gaussian(sigma));
            return g;
        };
        const CellGrid web = cells([&](const Vec3& p) { return std::abs(p.dot(tilt)) < 1; });
        const CellGrid strut = cells([&](const Vec3& p) { return (p - p.dot(tilt) * tilt).norm() < 1.5; });
        const std::size_t at = web.at(20, 20, 20);
        const auto ofWeb = StructureTensor(blurred(web, 1), Vec3::Ones()).at(at);
        for (int k = 0; k < 2; ++k) {
            QVERIFY(std::abs(ofWeb.along[k].dot(tilt)) < std::sin(6 * M_PI / 180));  // six degrees
            QVERIFY(ofWeb.share[k] > 0.9);
        }
        const auto ofStrut = StructureTensor(blurred(strut, 1), Vec3::Ones()).at(at);
        QVERIFY(std::abs(ofStrut.along[1].dot(tilt)) > std::cos(5 * M_PI / 180));
        QVERIFY2(ofStrut.share[1] > 0.5 && ofStrut.share[0] < 0.01, QByteArray::number(ofStrut.share[1]));
        // what is left of the steps: how the density in the web's own plane varies; its mean stays
        const CellGrid before = blurred(web, 0.64);
        CellGrid after = before;
        smoothAlong(after, CellGrid{web.n, std::vector<float>(web.v.size(), 1.0f)},
                    StructureTensor(blurred(web, 1), Vec3::Ones()), Vec3::Ones(), 4.5, 1.5);
        auto spread = [&](const CellGrid& g, double& mean) {
            double square = 0, count = 0;
            mean = 0;
            for (int k = 8; k < 32; ++k)
                for (int j = 8; j < 32; ++j)
                    for (int i = 8; i < 32; ++i) {
                        if (std::abs(std::abs((Vec3(i, j, k) - middle).dot(tilt)) - 1) > 0.1) continue;  // at a face
                        const double v = g.v[g.at(i, j, k)];
                        mean += v;
                        square += v * v;
                        ++count;
                    }
            mean /= count;
            return std::sqrt(square / count - mean * mean);
        };
        double had = 0, has = 0;
        const double was = spread(before, had), is = spread(after, has);
        QVERIFY2(is < 0.5 * was, QByteArray::number(is / was));
        QVERIFY2(std::abs(has - had) < 0.03, QByteArray::number(has - had));
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

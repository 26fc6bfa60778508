#include <QtTest>

#include "render/levels.hpp"
#include "report/owner_vertices.hpp"
#include "report/surface_scene.hpp"
#include "shape/machined_solid.hpp"
#include "surface/curvature.hpp"
#include "surface/extract.hpp"

using namespace escultura;
using namespace escultura::render;

namespace {

surface::TriMesh meshOf(const std::function<double(const Vec3&)>& f, double half, double spacing) {
    const shape::MachinedSolid s(std::make_shared<shape::FunctionBody>(f),
                                 {Vec3::Constant(-half), Vec3::Constant(half)});
    Progress progress;
    return surface::extractSurface(s, spacing, false, progress);
}

double areaOf(const ColouredMesh& m) {
    double area = 0;
    for (const Triangle& t : m.triangle)
        area += 0.5 * (m.position[t[1]] - m.position[t[0]]).cross(m.position[t[2]] - m.position[t[0]]).norm();
    return area;
}

/// A square of 10 mm of uneven triangles in the plane z = 0, with x as its value.
ColouredMesh square() {
    ColouredMesh m;
    constexpr int n = 7;
    for (int j = 0; j <= n; ++j)
        for (int i = 0; i <= n; ++i) {
            const double bend = (i % n && j % n) ? 0.3 * ((i * 7 + j * 3) % 5 - 2) : 0;
            m.position.push_back(Vec3(10.0 * i / n + bend, 10.0 * j / n - 0.5 * bend, 0));
            m.normal.push_back(Vec3::UnitZ());
            m.value.push_back(m.position.back().x());
            m.source.push_back(static_cast<std::int32_t>(m.source.size()));
        }
    m.colour = {Colour{1, 2, 3}};
    for (int j = 0; j < n; ++j)
        for (int i = 0; i < n; ++i) {
            const int a = i + (n + 1) * j;
            m.triangle.push_back({a, a + 1, a + n + 2});
            m.triangle.push_back({a, a + n + 2, a + n + 1});
        }
    return m;
}

}  // namespace

/// What is drawn of maps: borders through triangles, curvature, overhangs and draft by the angle itself.
class TestMaps : public QObject {
    Q_OBJECT

  private slots:
    /// Vertices where owners meet are numbered once for each, all others once.
    void verticesAreNumberedByOwner() {
        report::OwnerVertices numbers(3);
        QCOMPARE(numbers.number(2, 0), std::pair(0, true));
        QCOMPARE(numbers.number(0, 0), std::pair(1, true));
        QCOMPARE(numbers.number(2, 5), std::pair(2, true));
        QCOMPARE(numbers.number(2, 0), std::pair(0, false));
        QCOMPARE(numbers.number(2, 5), std::pair(2, false));
        QCOMPARE(numbers.number(2, 7), std::pair(3, true));
        QCOMPARE(numbers.number(1, 7), std::pair(4, true));
    }
    /// A cut at x = 3.7 leaves exactly 37 of the 100 mm2 below it, and a straight line of 10 mm.
    void cutsFollowTheValue() {
        ColouredMesh m = square();
        const std::vector<Vec3> line = cutAtLevel(m, 3.7);
        double length = 0;
        for (std::size_t i = 0; i < line.size(); i += 2) {
            length += (line[i + 1] - line[i]).norm();
            QVERIFY(std::abs(line[i].x() - 3.7) < 1e-9 && std::abs(line[i + 1].x() - 3.7) < 1e-9);
        }
        QVERIFY(std::abs(length - 10) < 1e-9);
        QVERIFY(std::abs(areaOf(m) - 100) < 1e-9);
        std::vector<bool> below = isAbove(m, 3.7);
        below.flip();
        ColouredMesh left = partOf(m, below);
        QVERIFY(std::abs(areaOf(left) - 37) < 1e-9);
        for (const Triangle& t : left.triangle)  // none was turned over
            QVERIFY((left.position[t[1]] - left.position[t[0]]).cross(left.position[t[2]] - left.position[t[0]]).z() >
                    0);
        for (std::size_t v = 0; v < left.position.size(); ++v) {
            QVERIFY(left.value[v] <= 3.7 + 1e-12 && std::abs(left.value[v] - left.position[v].x()) < 1e-9);
            QVERIFY(left.source[v] >= 0 && left.source[v] < 64);
        }
        const ColouredMesh right = partOf(m, isAbove(m, 3.7));
        append(right, left);
        QVERIFY(std::abs(areaOf(left) - 100) < 1e-9);
        QCOMPARE(left.position.size(), left.source.size());
    }
    /// A level that runs through vertices and along edges cuts nothing, and its line is there once.
    void levelsThroughVertices() {
        ColouredMesh m;
        m.position = {Vec3(0, 0, 0), Vec3(1, 0, 0), Vec3(1, 1, 0), Vec3(0, 1, 0), Vec3(2, 0, 0)};
        m.triangle = {{0, 1, 2}, {0, 2, 3}, {1, 4, 2}};
        m.colour = {Colour{}};
        for (const Vec3& p : m.position) m.value.push_back(p.x());
        QCOMPARE(cutAtLevel(m, 1).size(), std::size_t(2));
        QCOMPARE(m.triangle.size(), std::size_t(3));
        m.value = {-1, 0, 1, 0, 0};  // through one corner of a triangle and its opposite edge
        const auto line = cutAtLevel(m, 0);
        QCOMPARE(m.triangle.size(), std::size_t(5));
        QVERIFY(!line.empty());
        for (const Triangle& t : m.triangle) {
            bool low = false, high = false;
            for (const auto v : t) low |= m.value[v]<0, high |= m.value[v]> 0;
            QVERIFY(!(low && high));
        }
    }
    /// Ball of 8 mm: 1/8. Cylinder of 5 mm: half of 1/5. Hollow ball: negative. Plane: zero.
    void curvatureOfExactShapes() {
        auto check = [](const surface::TriMesh& m, double wanted, double tolerance, double beside) {
            const std::vector<float> c = surface::meanCurvature(m);
            double sum = 0, square = 0, count = 0;
            for (std::size_t v = 0; v < c.size(); ++v) {
                if (m.position[v].norm() > beside) continue;
                sum += c[v];
                square += (c[v] - wanted) * (c[v] - wanted);
                ++count;
            }
            QVERIFY(count > 100);
            const QByteArray words =
                QString("mean %1, RMS off %2").arg(sum / count).arg(std::sqrt(square / count)).toUtf8();
            QVERIFY2(std::abs(sum / count - wanted) < 0.1 * tolerance, words);
            QVERIFY2(std::sqrt(square / count) < tolerance, words);
        };
        check(meshOf([](const Vec3& p) { return p.norm() - 8; }, 10, 1), 1.0 / 8, 0.02, 10);
        check(meshOf([](const Vec3& p) { return std::hypot(p.x(), p.y()) - 5; }, 12, 0.8), 0.1, 0.03, 9);
        check(meshOf([](const Vec3& p) { return std::max(8 - p.norm(), p.norm() - 14); }, 15, 1), -1.0 / 8, 0.02, 10);
        const Vec3 n = Vec3(1, 2, 3).normalized();
        check(meshOf([&](const Vec3& p) { return p.dot(n); }, 12, 1), 0, 0.01, 8);
    }
    /// Overhangs of a ball at 45 degrees: the cap below, bordered by a circle, less the part that lies on the plate.
    void overhangsAreBorderedByTheAngle() {
        stages::SurfaceResult s;
        s.mesh = meshOf([](const Vec3& p) { return p.norm() - 20; }, 22, 3);
        s.mesh.owner.assign(s.mesh.triangle.size(), 0);
        duty::Recipe recipe;
        recipe.printing.up = Vec3::UnitZ();
        recipe.printing.overhang = 45;
        render::Scene scene;
        report::addOverhangs(recipe, s, scene);
        double clay = 0, all = 0;
        const ColouredMesh& m = scene.meshes.front();
        for (const Triangle& t : m.triangle) {
            const double area =
                0.5 * (m.position[t[1]] - m.position[t[0]]).cross(m.position[t[2]] - m.position[t[0]]).norm();
            all += area;
            if (m.colour[t[0]].r == 0xB4) clay += area;
        }
        const double r = 20, cap = 2 * M_PI * r * (r * (1 - std::sqrt(0.5)) - 0.1);
        QVERIFY2(std::abs(clay / cap - 1) < 0.015, QByteArray::number(clay / cap));
        QVERIFY(std::abs(all / (4 * M_PI * r * r) - 1) < 0.01);
        // the border is the circle at 45 degrees, within a tenth of the triangles' size
        double farthest = 0;
        int ends = 0;
        for (const Lines& l : scene.lines)
            for (const Vec3& p : l.position) {
                if (l.width < 1.39 || l.width > 1.41) continue;
                farthest = std::max(farthest, std::abs(p.z() + r * std::sqrt(0.5)));
                ++ends;
            }
        QVERIFY(ends > 40);
        QVERIFY2(farthest < 0.3, QByteArray::number(farthest));
    }
};

QTEST_GUILESS_MAIN(TestMaps)
#include "test_maps.moc"

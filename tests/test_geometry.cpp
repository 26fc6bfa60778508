// Shapes, surfaces and meshes of machined blocks and of shapes by lot. Long because they are the same shapes.
#include <QtTest>
#include <random>

#include "base/error.hpp"
#include "shape/drafted_body.hpp"
#include "surface/extract.hpp"
#include "surface/intersections.hpp"
#include "surface/mesh_body.hpp"
#include "surface/opening.hpp"
#include "surface/process.hpp"
#include "surface/recognise.hpp"
#include "surface/remesh.hpp"
#include "surface/surface_nets.hpp"
#include "surface/thickness.hpp"
#include "surface_accuracy.hpp"

using namespace escultura;
using namespace escultura::shape;
using namespace escultura::surface;

namespace {

using Kind = Primitive::Kind;

/// A block 60 x 40 x 12 with a bore of 11.2 mm through it along z at (20, 20) and a pin of 8 mm on top at (45, 20).
MachinedSolid block(bool bore = true) {
    MachinedSolid s(nullptr, {Vec3(-1, -1, -1), Vec3(61, 41, 13)});
    s.addInside({Kind::plane, Vec3(0, 0, 0), -Vec3::UnitX()});
    s.addInside({Kind::plane, Vec3(60, 40, 12), Vec3::UnitX()});
    s.addInside({Kind::plane, Vec3(0, 0, 0), -Vec3::UnitY()});
    s.addInside({Kind::plane, Vec3(60, 40, 12), Vec3::UnitY()});
    s.addInside({Kind::plane, Vec3(0, 0, 0), -Vec3::UnitZ()});
    s.addInside({Kind::plane, Vec3(60, 40, 12), Vec3::UnitZ()});
    if (bore) s.addCut({{Kind::cylinder, Vec3(20, 20, 0), Vec3::UnitZ(), 5.6}});
    return s;
}

MachinedSolid bodyOf(const std::function<double(const Vec3&)>& f, double half) {
    return MachinedSolid(std::make_shared<FunctionBody>(f), {Vec3::Constant(-half), Vec3::Constant(half)});
}

TriMesh meshOf(const Shape& s, double spacing, std::vector<lattice::SurfaceSet>* sets = nullptr) {
    Progress progress;
    return extractSurface(s, spacing, true, progress, sets);
}

std::int32_t triangleNear(const TriMesh& m, const Vec3& p) {
    return TriangleTree(m).closest(p).triangle;
}

/// Spheres, cylinders and boxes joined and cut at random, as one free body.
double randomShape(const Vec3& p, unsigned seed) {
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> place(-12, 12), size(3, 9);
    double v = 1e9;
    for (int n = 0; n < 6; ++n) {
        const Vec3 c(place(random), place(random), place(random));
        const double r = size(random), h = size(random);
        const unsigned kind = random() % 3;
        const Vec3 d = p - c;
        const double part = kind == 0   ? d.norm() - r
                            : kind == 1 ? std::max(std::hypot(d[0], d[1]) - 0.6 * r, std::abs(d[2]) - h)
                                        : (d.cwiseAbs() - Vec3(r, 0.7 * r, h)).maxCoeff();
        if (n == 0 || random() % 4)
            v = std::min(v, part);
        else
            v = std::max(v, -part);
    }
    return v;
}

}  // namespace

/// Thickness, casting, printing, remeshing, recognition: against shapes with known answers.
class TestGeometry : public QObject {
    Q_OBJECT
  private slots:
    /// Volume, area and distance fall with the square of the spacing; the finest are far inside 0.2 %.
    void accuracyAndOrder() {
        const auto rows = verification::surfaceAccuracy();
        QCOMPARE(rows.size(), std::size_t(9));
        for (std::size_t i = 0; i < rows.size(); ++i) {
            const auto& r = rows[i];
            const QByteArray words = QString("%1 at %2: volume %3, area %4, distance %5, order %6")
                                         .arg(r.shape.c_str())
                                         .arg(r.spacing)
                                         .arg(r.volumeError)
                                         .arg(r.areaError)
                                         .arg(r.distance)
                                         .arg(r.orderOfDistance)
                                         .toUtf8();
            if (i % 3) QVERIFY2(r.orderOfDistance > 1.5, words);
            if (i % 3 == 2) {
                QVERIFY2(std::abs(r.volumeError) < 0.002 && std::abs(r.areaError) < 0.002, words);
                QVERIFY2(r.distance < 0.06, words);
            }
        }
    }

    /// Smooth bodies at the default smoothing: faces within the bars of docs/surface.md, thin members where they were.
    void smoothBodiesFollowTheirFields() {
        for (const auto& r : verification::fieldAccuracy({4.5})) {
            const QByteArray words = QString("%1, %2: mean %3, RMS %4, normals %5, lost %6")
                                         .arg(r.shape.c_str())
                                         .arg(r.grey ? "grey" : "0/1")
                                         .arg(r.mean)
                                         .arg(r.rms)
                                         .arg(r.normals)
                                         .arg(r.lost)
                                         .toUtf8();
            QVERIFY2(r.lost == 0, words);
            // a thin rod of 0/1 cells is smoothed by one and a half cells only: its steps show
            QVERIFY2(std::abs(r.mean) < (r.shape == "rod r 1.5" && !r.grey ? 0.03 : 0.02), words);
            const bool isFace = r.shape == "half space" || r.shape == "sphere r 20" || r.shape == "cylinder r 10";
            if (isFace && r.grey)
                QVERIFY2(r.rms < 0.015 && r.normals < 1, words);
            else if (isFace)
                QVERIFY2(r.rms < 0.06 && r.normals < 1.5, words);
            else if (r.shape == "plate of 4" ||
                     r.shape == "plate of 2")  // smoothed along themselves: few steps are left
                QVERIFY2(r.rms < 0.06 && r.normals < 4, words);
            else
                QVERIFY2(r.rms < 0.1 && r.normals < 7, words);
        }
    }
    /// One threshold for all loses thin rods between thick bars; the local one keeps those of one cell and more.
    void thinRodsBetweenThickBarsStay() {
        for (const bool grey : {false, true}) {
            const auto one = verification::rodsInside(grey, false, 4.5),
                       local = verification::rodsInside(grey, true, 4.5);
            const QByteArray words = QString("%1: one threshold %2 %3 %4, local %5 %6 %7")
                                         .arg(grey ? "grey" : "0/1")
                                         .arg(one[0])
                                         .arg(one[1])
                                         .arg(one[2])
                                         .arg(local[0])
                                         .arg(local[1])
                                         .arg(local[2])
                                         .toUtf8();
            qInfo("%s", words.constData());
            QVERIFY2(one[0] == 0 && one[1] == 0, words);
            QVERIFY2(local[1] > 0.999 && local[2] > 0.999, words);
            QVERIFY2(local[0] > 0.7, words);
        }
    }

    /// Exact signs where rounding alone would guess: points a hair off a plane far from the origin.
    void orientationIsExact() {
        const Vec3 a(1e5, 0, 0), b(1e5 + 1, 0, 1), c(1e5, 1, 1);
        const double plane = 0.25 + 0.5;  // z of the plane at x = 1e5 + 0.25, y = 0.5
        for (int ulp = -3; ulp <= 3; ++ulp) {
            double z = plane;
            for (int k = 0; k < std::abs(ulp); ++k) z = std::nextafter(z, ulp > 0 ? 10.0 : -10.0);
            const Vec3 d(1e5 + 0.25, 0.5, z);
            QCOMPARE(orientation(a, b, c, d), ulp > 0 ? -1 : ulp < 0 ? 1 : 0);
            QCOMPARE(orientation(b, a, c, d), ulp > 0 ? 1 : ulp < 0 ? -1 : 0);
        }
    }
    void intersectionsAreFound() {
        TriMesh m;
        m.position = {Vec3(0, 0, 0), Vec3(4, 0, 0), Vec3(0, 4, 0), Vec3(1, 1, -1), Vec3(1, 1, 1), Vec3(2, 5, 0)};
        m.triangle = {{0, 1, 2}, {3, 4, 5}};
        QCOMPARE(selfIntersections(m).size(), std::size_t(1));
        m.position[3][2] = 0.5;  // lifted above the plane
        QCOMPARE(selfIntersections(m).size(), std::size_t(0));
        m.triangle = {{0, 1, 2}, {1, 0, 4}};  // neighbours at an edge
        QCOMPARE(selfIntersections(m).size(), std::size_t(0));
        m.position[4] = Vec3(1, 1, 0);  // folded flat onto each other
        QCOMPARE(selfIntersections(m).size(), std::size_t(1));
    }
    /// 200 random shapes: closed, and no two triangles cut each other, decided exactly.
    void randomShapesNeverCutThemselves() {
        Progress progress;
        int built = 0;
        for (unsigned seed = 0; seed < 200; ++seed) {
            const MachinedSolid s = bodyOf([seed](const Vec3& p) { return randomShape(p, seed); }, 24);
            TriMesh m;
            try {
                m = extractSurface(s, 2.4, true, progress);
            } catch (const InputError&) {
                continue;  // cut away whole
            }
            ++built;
            QVERIFY2(measure(m).watertight, qPrintable(QString::number(seed)));
            QVERIFY2(selfIntersections(m).empty(), qPrintable(QString::number(seed)));
        }
        QVERIFY(built > 190);
    }

    void thicknessOfWalls() {
        Progress progress;
        // a plate with a step: 12 mm and 5 mm thick
        MachinedSolid s = block(false);
        s.addCut({{Kind::plane, Vec3(30, 0, 5), -Vec3::UnitZ()}, {Kind::plane, Vec3(30, 0, 5), -Vec3::UnitX()}});
        const TriMesh m = meshOf(s, 1.5);
        const TriangleTree tree(m);
        const Thickness t = wallThickness(m, tree, progress);
        QVERIFY2(std::abs(t.least - 5) < 0.05, qPrintable(QString::number(t.least)));
        QVERIFY(t.leastAt[0] > 30);
        for (std::size_t v = 0; v < m.position.size(); ++v) {
            const Vec3& p = m.position[v];
            if (p[0] < 20 && p[0] > 8 && p[1] > 10 && p[1] < 30) QVERIFY(std::abs(t.value[v] - 12) < 0.1);
            if (p[0] > 42 && p[0] < 52 && p[1] > 10 && p[1] < 30) QVERIFY(std::abs(t.value[v] - 5) < 0.1);
        }
        // an inscribed ball in a sphere is the sphere
        const TriMesh ball = meshOf(bodyOf([](const Vec3& p) { return p.norm() - 9; }, 10), 1);
        const TriangleTree ballTree(ball);
        const Triangle& k = ball.triangle[0];
        const Vec3 &p0 = ball.position[k[0]], &p1 = ball.position[k[1]], &p2 = ball.position[k[2]];
        const auto b = inscribedBall(ballTree, (p0 + p1 + p2) / 3, (p0 + p1 + p2).normalized(), 40);
        QVERIFY(b && std::abs(b->radius - 9) < 0.1 && b->centre.norm() < 0.1);
    }

    /// A wedge with a half angle of ten degrees: a ball of radius r ends r (1 / sin 10 - 1) before its edge.
    void ballsDoNotReachFeatherEdges() {
        const double half = 10 * M_PI / 180, high = 5, tip = high / std::tan(half), r = 1;
        TriMesh grid;
        auto patch = [&](const Vec3& a, const Vec3& u, const Vec3& v, int n, int m) {
            const auto first = static_cast<std::int32_t>(grid.position.size());
            for (int j = 0; j <= m; ++j)
                for (int i = 0; i <= n; ++i) grid.position.push_back(a + u * i / n + v * j / m);
            for (int j = 0; j < m; ++j)
                for (int i = 0; i < n; ++i) {
                    const auto k = first + j * (n + 1) + i;
                    grid.triangle.push_back({k, k + 1, k + n + 2});
                    grid.triangle.push_back({k, k + n + 2, k + n + 1});
                }
        };
        const Vec3 y(0, 20, 0);
        patch(Vec3(0, 0, high), Vec3(tip, 0, -high), y, 28, 20);
        patch(Vec3(tip, 0, 0), Vec3(-tip, 0, -high), y, 28, 20);
        patch(Vec3(0, 0, -high), Vec3(0, 0, 2 * high), y, 10, 20);
        for (int side = 0; side < 2; ++side) {  // the two ends, as fans
            const auto first = static_cast<std::int32_t>(grid.position.size());
            grid.position.push_back(Vec3(0.4 * tip, 20 * side, 0));
            std::vector<Vec3> rim;
            auto run = [&](const Vec3& a, const Vec3& u, int n) {
                for (int i = 0; i < n; ++i) rim.push_back(a + u * i / n + y * side);
            };
            run(Vec3(0, 0, high), Vec3(tip, 0, -high), 28);
            run(Vec3(tip, 0, 0), Vec3(-tip, 0, -high), 28);
            run(Vec3(0, 0, -high), Vec3(0, 0, 2 * high), 10);
            for (const Vec3& p : rim) grid.position.push_back(p);
            const auto n = static_cast<std::int32_t>(rim.size());
            for (std::int32_t i = 0; i < n; ++i) {
                const auto p = first + 1 + i, q = first + 1 + (i + 1) % n;
                grid.triangle.push_back(side ? Triangle{first, p, q} : Triangle{first, q, p});
            }
        }
        grid.owner.assign(grid.triangle.size(), 0);
        const TriMesh wedge = weld(grid);
        QVERIFY(measure(wedge).watertight && measure(wedge).volume > 0);
        const TriangleTree tree(wedge);
        Progress progress;
        const auto thickness = wallThickness(wedge, tree, progress);
        const BallOpening opening(wedge, tree, thickness.value, r, {}, progress);
        QVERIFY(!opening.empty());
        const double depth = r * (1 / std::sin(half) - 1);
        const auto& deepest = opening.places().front();
        QVERIFY2(std::abs(deepest.depth / depth - 1) < 0.05, qPrintable(QString::number(deepest.depth)));
        QVERIFY(std::abs(deepest.at.x() - tip) < 0.1);
        const double end = tip - depth;
        for (double beyond : {0.2, 0.6, 1.2}) {  // balls stand 0.4 radii apart: the last one is up to half of it short
            const double value = opening.value(Vec3(end + beyond, 10, 0));
            QVERIFY2(std::abs(value - beyond) < 0.25, qPrintable(QString("%1 %2").arg(beyond).arg(value)));
        }
        QVERIFY(opening.value(Vec3(end - 0.5, 10, 0)) < 0);
        QVERIFY(opening.value(Vec3(0.3 * tip, 10, 0)) < -1e9);  // far from the edge it says nothing
        // where the ball fits, the faces stay
        for (double x = 0; x < end - 1.5; x += 0.37) QVERIFY(opening.value(Vec3(x, 7.3, high * (1 - x / tip))) < 1e-3);
        // edges of a block are no feather edges, and nothing is where it is left out
        const TriMesh b = meshOf(block(), 2);
        const TriangleTree ofBlock(b);
        QVERIFY(BallOpening(b, ofBlock, wallThickness(b, ofBlock, progress).value, 2, {}, progress).empty());
        QVERIFY(BallOpening(
                    wedge, tree, thickness.value, r, [](const Vec3&) { return true; }, progress)
                    .empty());
    }
    void draftOfABlockAndACone() {
        Progress progress;
        // a cone frustum that narrows upward by 5 degrees
        const double slope = std::tan(5 * M_PI / 180);
        const auto cone = [slope](const Vec3& p) {
            return std::max({(std::hypot(p[0], p[1]) - 15 + slope * (p[2] + 10)) * std::cos(5 * M_PI / 180), p[2] - 10,
                             -10 - p[2]});
        };
        const TriMesh m = meshOf(bodyOf(cone, 20), 0.8);
        const TriangleTree tree(m);
        const DraftFigures loose = draftFigures(m, tree, Vec3::UnitZ(), -10.5, 3, progress);
        const DraftFigures strict = draftFigures(m, tree, Vec3::UnitZ(), -10.5, 7, progress);
        const double wall = 2 * M_PI * (15 - 10 * slope) * 20 / std::cos(5 * M_PI / 180);
        QVERIFY2(std::abs((strict.tooSteepArea - loose.tooSteepArea) / wall - 1) < 0.06,
                 qPrintable(QString::number((strict.tooSteepArea - loose.tooSteepArea) / wall)));
        // pulled the other way the wall is an undercut
        const DraftFigures wrong = draftFigures(m, tree, -Vec3::UnitZ(), -10.5, 3, progress);
        QVERIFY(wrong.undercutArea > 0.95 * wall);
    }

    /// Draft added to a ball on its equator: the upper half becomes what a 10 degree mould allows; to a mushroom: the
    /// shadow under its head is filled.
    void addedDraftLeavesNoUndercut() {
        Progress progress;
        const FunctionBody mushroom([](const Vec3& p) {
            const double stem = std::max(std::hypot(p[0], p[1]) - 4, std::abs(p[2]) - 12);
            const double head = std::max(std::hypot(p[0], p[1]) - 11, std::abs(p[2] - 8) - 3);
            return std::min(stem, head);
        });
        const Box3 box{Vec3::Constant(-20), Vec3::Constant(20)};
        const auto drafted =
            std::make_shared<DraftedBody>(mushroom, box, DraftOptions{Vec3::UnitZ(), -11, 4}, 0.5, progress);
        QVERIFY(mushroom.value(Vec3(8, 0, 0)) > 0 && drafted->value(Vec3(8, 0, 0)) < 0);  // filled below the head
        QVERIFY(std::abs(drafted->value(Vec3(0, 0, 14)) - mushroom.value(Vec3(0, 0, 14))) < 0.5);
        const MachinedSolid s(drafted, box);
        const TriMesh m = meshOf(s, 1);
        const TriangleTree tree(m);
        const DraftFigures d = draftFigures(m, tree, Vec3::UnitZ(), -11, 3.5, progress);
        double undercut = 0;  // beyond the layer of grid steps that blurs the parting plane itself
        for (std::size_t t = 0; t < m.triangle.size(); ++t) {
            const Triangle& v = m.triangle[t];
            const Vec3 &p = m.position[v[0]], &q = m.position[v[1]], &r = m.position[v[2]];
            if (d.undercut[t] && std::abs((p + q + r)[2] / 3 + 11) > 0.75)
                undercut += 0.5 * (q - p).cross(r - p).norm();
        }
        QVERIFY2(undercut < 0.01 * d.freeArea, qPrintable(QString("%1 of %2").arg(undercut).arg(d.freeArea)));
        const TriMesh raw = meshOf(MachinedSolid(std::make_shared<FunctionBody>(mushroom), box), 1);
        const DraftFigures before = draftFigures(raw, TriangleTree(raw), Vec3::UnitZ(), -11, 3.5, progress);
        QVERIFY(before.undercutArea > 0.3 * before.freeArea);
        QVERIFY(d.tooSteepArea < 0.5 * before.tooSteepArea);
    }

    void overhangOfATable() {
        // a plate of 40 x 40 x 4 on a leg of 8 x 8, 20 high: its underside needs support, 20 mm tall
        const auto table = [](const Vec3& p) {
            const double plate = (p - Vec3(0, 0, 12)).cwiseAbs().cwiseQuotient(Vec3(20, 20, 2)).maxCoeff() - 1;
            const double leg = p.cwiseAbs().cwiseQuotient(Vec3(4, 4, 10)).maxCoeff() - 1;
            return std::min(2 * plate, 4 * leg);
        };
        const TriMesh m = meshOf(bodyOf(table, 22), 1);
        const TriangleTree tree(m);
        const OverhangFigures o = overhangFigures(m, tree, Vec3::UnitZ(), 45);
        const double area = 1600 - 64;
        QVERIFY2(std::abs(o.area / area - 1) < 0.06, qPrintable(QString::number(o.area)));
        QVERIFY2(std::abs(o.supportVolume / (area * 20) - 1) < 0.06, qPrintable(QString::number(o.supportVolume)));
        QVERIFY(overhangFigures(m, tree, -Vec3::UnitZ(), 45).area < 0.05 * area);  // on its head: none
        Progress progress;
        const auto sweep = sweepBuildDirections(m, tree, 45, progress);
        QCOMPARE(sweep.size(), std::size_t(42));
        QVERIFY(sweep.front().supportVolume < 0.02 * sweep.back().supportVolume);
        for (const auto& b : sweep) {  // on its head it needs next to nothing, on its leg most
            if ((b.up + Vec3::UnitZ()).norm() < 1e-9) QVERIFY(b.supportVolume < 0.02 * sweep.back().supportVolume);
            if ((b.up - Vec3::UnitZ()).norm() < 1e-9) QVERIFY(b.supportVolume > 0.5 * sweep.back().supportVolume);
        }
    }

    /// Remeshing keeps volume, topology, owners and exact faces; triangles get better and follow the wanted size.
    void remeshing() {
        Progress progress;
        const MachinedSolid s = block();
        std::vector<lattice::SurfaceSet> sets;
        TriMesh m = meshOf(s, 1.5, &sets);
        const Measures before = measure(m);
        RemeshOptions o;
        o.edgeLength = 3;
        o.chordError = 0.06;
        remesh(s, o, m, sets, progress);
        const Measures after = measure(m);
        QVERIFY(after.watertight);
        QCOMPARE(after.genus, before.genus);
        QVERIFY(std::abs(after.volume / before.volume - 1) < 0.002);
        QVERIFY(selfIntersections(m).empty());
        for (std::size_t v = 0; v < m.position.size(); ++v)
            for (int k = 0; k < sets[v].count(); ++k)
                QVERIFY(std::abs(s.surfaceValue(sets[v].id[k], m.position[v])) < 1e-8);
        const auto quality = triangleQuality(m);
        QVERIFY(std::accumulate(quality.begin(), quality.end(), 0.0) / static_cast<double>(quality.size()) > 0.85);
        double longest = 0, boreEdge = 0, flatEdge = 0;
        int bores = 0, flats = 0;
        for (std::size_t t = 0; t < m.triangle.size(); ++t)
            for (int k = 0; k < 3; ++k) {
                const double l = (m.position[m.triangle[t][k]] - m.position[m.triangle[t][(k + 1) % 3]]).norm();
                longest = std::max(longest, l);
                (m.owner[t] == 7 ? boreEdge : flatEdge) += l;
                ++(m.owner[t] == 7 ? bores : flats);
            }
        QVERIFY2(longest < 6, qPrintable(QString::number(longest)));
        QVERIFY(bores > 0 && boreEdge / bores < 0.85 * flatEdge / flats);  // finer where it is curved
    }
    void remeshingToABudget() {
        Progress progress;
        const MachinedSolid s =
            bodyOf([](const Vec3& p) { return std::hypot(std::hypot(p[0], p[1]) - 22, p[2]) - 9; }, 32);
        std::vector<lattice::SurfaceSet> sets;
        TriMesh m = meshOf(s, 1.5, &sets);
        remeshToBudget(s, 5000, m, sets, progress);
        QVERIFY2(std::abs(static_cast<double>(m.triangle.size()) / 5000 - 1) < 0.1,
                 qPrintable(QString::number(m.triangle.size())));
        QVERIFY(measure(m).watertight && measure(m).genus == 1);
        QVERIFY(std::abs(measure(m).volume / (2 * M_PI * M_PI * 22 * 81) - 1) < 0.01);
    }

    /// Bores, pins and planes on the raw iso-surface of a density field, grey and all or nothing, in any direction:
    /// cells of 2 mm.
    void recognisesFacesOfAField_data() {
        QTest::addColumn<bool>("grey");
        QTest::addColumn<double>("far");  // of the radius and the place, cells
        QTest::newRow("grey") << true << 0.1;
        QTest::newRow("all or nothing") << false << 0.35;
    }
    void recognisesFacesOfAField() {
        QFETCH(bool, grey);
        QFETCH(double, far);
        const double cell = 2, radius = 9;
        const int n = 34;
        for (const Vec3& direction : {Vec3(0, 0, 1), Vec3(0.3, 0.2, 1), Vec3(1, 0.5, 0.1)})
            for (const bool isBore : {true, false}) {
                const Vec3 axis = direction.normalized(), middle(34, 33, 35);
                std::vector<float> value;
                for (int k = 0; k < n; ++k)
                    for (int j = 0; j < n; ++j)
                        for (int i = 0; i < n; ++i) {
                            const Vec3 d = cell * Vec3(i + 0.5, j + 0.5, k + 0.5) - middle;
                            const double along = d.dot(axis), round = (d - along * axis).norm();
                            const double v = isBore
                                                 ? std::max(std::abs(along) - 14, std::max(radius - round, round - 20))
                                                 : std::max(round - radius, std::abs(along) - 18);
                            value.push_back(static_cast<float>(grey    ? std::clamp(0.5 - v / (2 * cell), 0.0, 1.0)
                                                               : v < 0 ? 1.0
                                                                       : 0.0));
                        }
                SampledGrid grid;
                grid.n = {n, n, n};
                grid.spacing = Vec3::Constant(cell);
                grid.origin = Vec3::Constant(cell / 2);
                grid.value = value;
                const TriMesh m = surfaceNets(grid, 0.5f);
                const Vec3 beside = axis.unitOrthogonal();
                const auto round = recogniseFace(m, triangleNear(m, middle + radius * beside), 0.4 * cell);
                QVERIFY(round && round->kind == (isBore ? FittedFace::Kind::bore : FittedFace::Kind::pin));
                const Vec3 d = round->point - middle;
                const QString found = QString("radius %1, axis %2, off %3, rms %4")
                                          .arg(round->radius)
                                          .arg(std::abs(round->axis.dot(axis)), 0, 'f', 6)
                                          .arg((d - d.dot(axis) * axis).norm())
                                          .arg(round->rms);
                qInfo("%s", qPrintable(found));
                QVERIFY2(std::abs(round->radius - radius) < far * cell, qPrintable(found));
                QVERIFY2((d - d.dot(axis) * axis).norm() < far * cell, qPrintable(found));
                QVERIFY2(std::abs(round->axis.dot(axis)) > std::cos(3 * M_PI / 180), qPrintable(found));
                QVERIFY2(round->rms < 0.25 * cell, qPrintable(found));
                const double end = isBore ? 14 : 18;
                const auto flat =
                    recogniseFace(m, triangleNear(m, middle + end * axis + (isBore ? 14.5 : 0.0) * beside), 0.4 * cell);
                QVERIFY(flat && flat->kind == FittedFace::Kind::plane);
                QVERIFY(flat->axis.dot(axis) > std::cos(4 * M_PI / 180));
                QVERIFY(std::abs((flat->point - middle).dot(axis) - end) <
                        (grey ? 0.1 : 0.65) * cell);  // cells are whole
            }
    }
    void recognisesPlanesBoresAndPins() {
        TriMesh m = meshOf(block(), 2);
        const auto bore = recogniseFace(m, triangleNear(m, Vec3(25.6, 20, 6)));
        QVERIFY(bore && bore->kind == FittedFace::Kind::bore);
        QVERIFY2(std::abs(bore->radius - 5.6) < 1e-4, qPrintable(QString::number(bore->radius)));
        QVERIFY(std::abs(std::abs(bore->axis[2]) - 1) < 1e-8 && bore->rms < 1e-5);
        QVERIFY(std::abs(bore->high - bore->low - 12) < 1e-6);
        QVERIFY(std::hypot(bore->point[0] - 20, bore->point[1] - 20) < 1e-4);
        const auto top = recogniseFace(m, triangleNear(m, Vec3(50, 30, 12)));
        QVERIFY(top && top->kind == FittedFace::Kind::plane && (top->axis - Vec3::UnitZ()).norm() < 1e-9);
        // a coarse, noisy pin
        std::mt19937 random(5);
        std::normal_distribution<double> noise(0, 0.004);
        MachinedSolid pin =
            bodyOf([](const Vec3& p) { return std::max(std::hypot(p[1], p[2]) - 4, std::abs(p[0]) - 15); }, 16);
        m = meshOf(pin, 1.5);
        for (Vec3& p : m.position) p += Vec3(noise(random), noise(random), noise(random));
        const auto found = recogniseFace(m, triangleNear(m, Vec3(0, 4, 0)));
        QVERIFY(found && found->kind == FittedFace::Kind::pin);
        QVERIFY2(std::abs(found->radius - 4) < 0.01 && found->rms < 0.01, qPrintable(QString::number(found->radius)));
        const auto circle = circleThrough(Vec3(3, 0, 1), Vec3(0, 3, 1), Vec3(-3, 0, 1));
        QVERIFY(circle && std::abs(circle->radius - 3) < 1e-12 && (circle->centre - Vec3(0, 0, 1)).norm() < 1e-12);
        QVERIFY(!circleThrough(Vec3(0, 0, 0), Vec3(1, 1, 1), Vec3(2, 2, 2)));
    }

    void meshesAreBodies() {
        const TriMesh m = meshOf(block(), 1.5);
        const MeshBody body(m, 0), grown(m, 2);
        std::mt19937 random(9);
        std::uniform_real_distribution<double> x(-20, 80);
        const MachinedSolid exact = block();
        for (int n = 0; n < 500; ++n) {
            const Vec3 p(x(random), x(random), x(random));
            const double d = body.value(p);
            QCOMPARE(d < 0, exact.evaluate(p).value < 0);
            QVERIFY(std::abs(grown.value(p) - (d - 2)) < 0.15);
        }
        QVERIFY(std::abs(body.value(Vec3(40, 20, 15)) - 3) < 1e-6);
        QVERIFY(std::abs(body.value(Vec3(50, 30, 10)) + 2) < 1e-6);
        QVERIFY((body.gradient(Vec3(40, 20, 15)) - Vec3::UnitZ()).norm() < 1e-6);
        // triangles without shared vertices are joined, and an open surface is refused
        TriMesh loose;
        for (const Triangle& t : m.triangle) {
            const auto first = static_cast<std::int32_t>(loose.position.size());
            for (auto v : t) loose.position.push_back(m.position[v]);
            loose.triangle.push_back({first, first + 1, first + 2});
        }
        QVERIFY_EXCEPTION_THROWN(MeshBody(loose, 0), InputError);
        QVERIFY(measure(weld(loose)).watertight);
        TriMesh open = m;
        open.triangle.pop_back();
        open.owner.pop_back();
        QVERIFY_EXCEPTION_THROWN(MeshBody(open, 0), InputError);
    }

    void surfaceNetsCloseAndConverge() {
        for (const int n : {24, 48}) {
            std::vector<float> value;
            const double h = 60.0 / (n - 1);
            for (int k = 0; k < n; ++k)
                for (int j = 0; j < n; ++j)
                    for (int i = 0; i < n; ++i)
                        value.push_back(static_cast<float>(22 - (Vec3(i, j, k) * h - Vec3::Constant(30)).norm()));
            const TriMesh m = surfaceNets({{n, n, n}, Vec3::Constant(-30), Vec3::Constant(h), value}, 0);
            const Measures f = measure(m);
            QVERIFY(f.watertight && f.genus == 0 && f.pieces == 1);
            QVERIFY2(std::abs(f.volume / (4.0 / 3 * M_PI * std::pow(22, 3)) - 1) < (n == 24 ? 0.02 : 0.005),
                     qPrintable(QString::number(f.volume / (4.0 / 3 * M_PI * std::pow(22, 3)) - 1)));
        }
    }

    /// The second moments of a block: m (b2 + c2) / 12.
    void inertiaOfABlock() {
        const Measures m = measure(meshOf(block(false), 2));
        QVERIFY(std::abs(m.volume - 28800) < 1e-6 && (m.centroid - Vec3(30, 20, 6)).norm() < 1e-9);
        const Vec3 expected = 28800.0 / 12 * Vec3(1600 + 144, 3600 + 144, 3600 + 1600);
        QVERIFY((m.inertia.diagonal() - expected).norm() < 1e-6 * expected.norm());
        QVERIFY((m.inertia - Mat3(m.inertia.diagonal().asDiagonal())).norm() < 1e-6 * expected.norm());
    }
};

QTEST_GUILESS_MAIN(TestGeometry)
#include "test_geometry.moc"

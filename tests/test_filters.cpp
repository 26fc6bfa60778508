/// Filters on grids of cells, and the lattice's values that are kept around the surface only.
#include <QtTest>
#include <cmath>
#include <numeric>
#include <random>

#undef emit  // a word of the lattice too

#include "base/error.hpp"
#include "lattice/sparse_values.hpp"
#include "lattice/stencil.hpp"
#include "lattice/stuffing.hpp"
#include "shape/cell_grid.hpp"
#include "shape/local_threshold.hpp"
#include "shape/machined_solid.hpp"

using namespace escultura;
using namespace escultura::shape;
using namespace escultura::lattice;

namespace {

CellGrid gridOf(int nx, int ny, int nz, const std::function<double(int, int, int)>& value) {
    CellGrid g{{nx, ny, nz}, {}};
    g.v.resize(static_cast<std::size_t>(nx) * ny * nz);
    for (int k = 0; k < nz; ++k)
        for (int j = 0; j < ny; ++j)
            for (int i = 0; i < nx; ++i) g.v[g.at(i, j, k)] = static_cast<float>(value(i, j, k));
    return g;
}

double sumOf(const CellGrid& g) {
    return std::accumulate(g.v.begin(), g.v.end(), 0.0);
}

MachinedSolid rod(const Vec3& a, const Vec3& b, double radius) {
    Box3 box;
    for (const Vec3& p : {a, b}) {
        box.include(p - Vec3::Constant(radius));
        box.include(p + Vec3::Constant(radius));
    }
    return {std::make_shared<FunctionBody>([=](const Vec3& p) {
                const Vec3 d = b - a;
                const double t = std::clamp((p - a).dot(d) / d.squaredNorm(), 0.0, 1.0);
                return (p - a - t * d).norm() - radius;
            }),
            box};
}

double volumeOf(const TetComplex& c) {
    double v = 0;
    for (const Tet& t : c.tets) v += tetVolume(c.position[t[0]], c.position[t[1]], c.position[t[2]], c.position[t[3]]);
    return v;
}

}  // namespace

class TestFilters : public QObject {
    Q_OBJECT

  private Q_SLOTS:
    // ---- grids of cells
    void gaussiansSumToOne() {
        for (double sigma : {0.3, 1.0, 2.7}) {
            const auto w = gaussian(sigma);
            double sum = -w[0], variance = 0;
            for (std::size_t r = 0; r < w.size(); ++r) {
                sum += 2 * w[r];
                variance += 2 * static_cast<double>(r * r) * w[r];
                if (r) QVERIFY(w[r] < w[r - 1]);
            }
            QVERIFY(std::abs(sum - 1) < 1e-12);
            if (sigma >= 1) QVERIFY(std::abs(variance / (sigma * sigma) - 1) < 0.02);
        }
    }
    /// Inside a grid a kernel keeps sums, moves nothing, and keeps straight lines straight.
    void convolutionKeepsSumsAndLines() {
        const auto kernel = gaussian(1.2);
        for (int axis = 0; axis < 3; ++axis) {
            CellGrid spot = gridOf(15, 15, 15, [](int i, int j, int k) { return i == 7 && j == 7 && k == 7 ? 1 : 0; });
            convolve(spot, axis, kernel);
            QVERIFY(std::abs(sumOf(spot) - 1) < 1e-6);
            double middle = 0;
            for (int n = 0; n < 15; ++n) {
                const float v = axis == 0   ? spot.v[spot.at(n, 7, 7)]
                                : axis == 1 ? spot.v[spot.at(7, n, 7)]
                                            : spot.v[spot.at(7, 7, n)];
                middle += n * v;
                const float mirrored = axis == 0   ? spot.v[spot.at(14 - n, 7, 7)]
                                       : axis == 1 ? spot.v[spot.at(7, 14 - n, 7)]
                                                   : spot.v[spot.at(7, 7, 14 - n)];
                QCOMPARE(v, mirrored);
            }
            QVERIFY(std::abs(middle - 7) < 1e-5);
            CellGrid line = gridOf(20, 20, 20, [&](int i, int j, int k) {
                return 3 + 2 * (axis == 0 ? i : axis == 1 ? j : k);
            });
            convolve(line, axis, kernel);
            for (int n = 6; n < 14; ++n) QVERIFY(std::abs(line.v[line.at(n, n, n)] - (3 + 2 * n)) < 1e-4);
        }
    }
    void marginsContinueTheBorder() {
        const CellGrid g = gridOf(3, 4, 5, [](int i, int j, int k) { return i + 10 * j + 100 * k; });
        const CellGrid m = withMargin(g, 2);
        QCOMPARE(m.n, (std::array<int, 3>{7, 8, 9}));
        for (int k = 0; k < 9; ++k)
            for (int j = 0; j < 8; ++j)
                for (int i = 0; i < 7; ++i)
                    QCOMPARE(m.v[m.at(i, j, k)],
                             g.v[g.at(std::clamp(i - 2, 0, 2), std::clamp(j - 2, 0, 3), std::clamp(k - 2, 0, 4))]);
    }
    /// Unknown cells take what is around them; what is known stays; a value between two is between them.
    void unknownCellsAreFilled() {
        CellGrid g = gridOf(9, 9, 9, [](int i, int, int) { return i; });
        std::vector<char> unknown(g.v.size(), 0);
        for (int k = 3; k < 6; ++k)
            for (int j = 3; j < 6; ++j)
                for (int i = 3; i < 6; ++i) {
                    unknown[g.at(i, j, k)] = 1;
                    g.v[g.at(i, j, k)] = 1e6F;
                }
        const auto before = g.v;
        fillUnknown(g, unknown);
        for (std::size_t c = 0; c < g.v.size(); ++c) {
            if (!unknown[c])
                QCOMPARE(g.v[c], before[c]);
            else
                QVERIFY(g.v[c] >= 2 && g.v[c] <= 6);
        }
        QVERIFY(std::abs(g.v[g.at(4, 4, 4)] - 4) < 1e-4);  // symmetric surroundings
        std::vector<char> all(g.v.size(), 1);
        const auto filled = g.v;
        fillUnknown(g, all);  // nothing is known: nothing changes
        QVERIFY(g.v == filled);
    }
    void mirrorImagesAreAveraged() {
        const Vec3 first(0.5, 0.5, 0.5), spacing = Vec3::Ones();
        CellGrid g = gridOf(8, 6, 6, [](int i, int j, int k) { return i * i + 0.1 * j + 0.01 * k; });
        const auto old = g;
        symmetrise(g, first, spacing, Vec3(4, 0, 0), Vec3::UnitX());
        for (int k = 0; k < 6; ++k)
            for (int j = 0; j < 6; ++j)
                for (int i = 0; i < 8; ++i) {
                    const double wanted = 0.5 * (old.v[old.at(i, j, k)] + old.v[old.at(7 - i, j, k)]);
                    QVERIFY(std::abs(g.v[g.at(i, j, k)] - wanted) < 1e-4);
                }
        // a plane near the end: cells whose image lies outside keep their value
        CellGrid h = old;
        symmetrise(h, first, spacing, Vec3(1, 0, 0), Vec3::UnitX());
        QCOMPARE(h.v[h.at(7, 3, 3)], old.v[old.at(7, 3, 3)]);
        QVERIFY(std::abs(h.v[h.at(0, 3, 3)] - 0.5 * (old.v[old.at(0, 3, 3)] + old.v[old.at(1, 3, 3)])) < 1e-4);
    }
    /// Solid cells belong whole, empty ones not at all, grey ones by their density; a higher threshold keeps less.
    void sharesFollowTheDensity() {
        field::DensityField f;
        f.cells = {12, 6, 6};
        f.spacing = Vec3::Constant(2);
        f.density.resize(12 * 6 * 6);
        for (std::size_t c = 0; c < f.density.size(); ++c) {
            const auto i = static_cast<int>(c % 12);
            f.density[c] = i < 5 ? 1.0f : i == 5 ? 0.6f : i == 6 ? 0.3f : 0.0f;
        }
        const auto low = keptShares(f, 0.3), high = keptShares(f, 0.7);
        for (std::size_t c = 0; c < f.density.size(); ++c) {
            QVERIFY(low[c] >= 0 && low[c] <= 1);
            QVERIFY(low[c] >= high[c]);
            if (c % 12 < 4) QCOMPARE(low[c], 1.0f);
            if (c % 12 > 8) QCOMPARE(low[c], 0.0f);
        }
        const double kept = std::accumulate(low.begin(), low.end(), 0.0) / 36;
        QVERIFY2(kept > 5 && kept < 7.2, qPrintable(QString::number(kept)));
    }
    /// A rod of one cell in radius is thin, a block of eight is not; the same for gaps.
    void thinMembersAreTold() {
        const std::array<int, 3> n{30, 20, 20};
        LocalVolume v;
        v.target.assign(30 * 20 * 20, 0);
        v.speaks.assign(v.target.size(), 1);
        const CellGrid g = gridOf(30, 20, 20, [](int i, int j, int k) {
            const bool block = i < 14 && j > 3 && j < 16 && k > 3 && k < 16;
            const bool bar = i >= 14 && j > 8 && j < 11 && k > 8 && k < 11;
            return block || bar;
        });
        v.target = g.v;
        const ThinPlaces thin = thinPlaces(v, n);
        QVERIFY(thin.member[g.at(24, 9, 9)]);
        QVERIFY(!thin.member[g.at(7, 9, 9)]);
        QVERIFY(!thin.gap[g.at(24, 1, 1)]);
        QVERIFY(thin.nearThin.v[thin.nearThin.at(24, 9, 9)] > 0.9f);
        QVERIFY(thin.nearThin.v[thin.nearThin.at(3, 9, 9)] < 0.1f);
    }

    // ---- values kept around the surface only
    void sparseValuesAreOnlyWhereTheyWereSet() {
        SparseValues<int> v(100000, -7);
        QCOMPARE(v[0], -7);
        QCOMPARE(v[99999], -7);
        const std::size_t empty = v.bytes();
        v.at(500) = 3;
        v.at(501) = 4;
        v.at(99999) = 5;
        QCOMPARE(v[500], 3);
        QCOMPARE(v[502], -7);  // in a chunk that exists
        QCOMPARE(v[99999], 5);
        QVERIFY(v.bytes() > empty && v.bytes() < 100000);
        std::vector<std::size_t> set;
        v.forEach([&](std::size_t i, int x) {
            if (x != -7) set.push_back(i);
        });
        QCOMPARE(set, (std::vector<std::size_t>{500, 501, 99999}));
        v.assign(10, 0);
        QCOMPARE(v[9], 0);
        QVERIFY(v.bytes() < empty);
    }
    /// A long, slanted rod: a lattice of millions of vertices over its box, of which few lie near it. Its volume is
    /// that of the rod, and the same with an even and a shifted lattice.
    void slenderBodiesInLargeBoxes() {
        Progress progress;
        const MachinedSolid body = rod(Vec3(0, 0, 0), Vec3(180, 150, 120), 3);
        StuffingOptions o;
        o.spacing = 1.2;
        QVERIFY(latticeVertices(body.bounds(), o.spacing) > 3e6);
        const double length = Vec3(180, 150, 120).norm(), exact = M_PI * 9 * length + 4.0 / 3 * M_PI * 27;
        const TetComplex c = stuff(body, o, progress);
        QVERIFY2(std::abs(volumeOf(c) / exact - 1) < 0.02, qPrintable(QString::number(volumeOf(c) / exact)));
        o.offset = Vec3(0.3, 0.1, 0.7);
        QVERIFY(std::abs(volumeOf(stuff(body, o, progress)) / exact - 1) < 0.02);
        QCOMPARE(c.droppedPieces, 0);
        for (std::size_t v = 0; v < c.position.size(); ++v)
            if (c.surfaces[v].count() > 0) QVERIFY(std::abs(body.evaluate(c.position[v]).value) < 1e-6);
    }
    void tooFineALatticeIsRefused() {
        Progress progress;
        const MachinedSolid body = rod(Vec3(0, 0, 0), Vec3(1000, 900, 800), 2);
        StuffingOptions o;
        o.spacing = 1;
        QVERIFY(latticeVertices(body.bounds(), o.spacing) > mostLatticeVertices);
        try {
            stuff(body, o, progress);
            QFAIL("refused");
        } catch (const InputError& e) {
            QVERIFY(QString(e.what()).contains("400 million"));
        }
    }
    void samplingIsCancelled() {
        const MachinedSolid body = rod(Vec3(0, 0, 0), Vec3(80, 60, 40), 3);
        Progress progress;
        progress.cancel();
        StuffingOptions o;
        o.spacing = 1;
        QVERIFY_EXCEPTION_THROWN(stuff(body, o, progress), Cancelled);
    }
    /// The cut of an edge lies on the surface, wherever on the edge that is.
    void cutsLieOnTheSurface() {
        std::mt19937 random(3);
        auto uniform = [&] { return static_cast<double>(random()) / 4294967296.0; };
        const MachinedSolid body = rod(Vec3(-20, 0, 0), Vec3(20, 5, 3), 4);
        for (int k = 0; k < 200; ++k) {
            const Vec3 p(30 * uniform() - 15, uniform() - 0.5, uniform() - 0.5);
            const Vec3 q = p + 12 * Vec3(uniform() - 0.5, uniform() - 0.5, uniform() - 0.5).normalized();
            if (!(body.evaluate(p).value < 0) || !(body.evaluate(q).value > 0)) continue;
            const Cut c = cutBetween(body, p, q, Side::inside, Side::outside, 2);
            QVERIFY(c.fraction > 0 && c.fraction < 1);
            QVERIFY((c.position - (p + c.fraction * (q - p))).norm() < 1e-6);
            QVERIFY(std::abs(body.evaluate(c.position).value) < 1e-7);
        }
    }
    /// A prism is filled by three tetrahedra whichever way its diagonals run, as long as they run in no ring.
    void prismsAreFilledWhole() {
        for (int bits = 1; bits < 7; ++bits) {  // 0 and 7 are the rings
            Filling f;
            std::array<std::int32_t, 3> a, b;
            for (int k = 0; k < 3; ++k) {
                const double angle = 2 * M_PI * k / 3;
                a[k] = f.add(Vec3(std::cos(angle), std::sin(angle), 0));
                b[k] = f.add(Vec3(std::cos(angle), std::sin(angle), 2));
            }
            f.emitPrism(a, b, {(bits & 1) != 0, (bits & 2) != 0, (bits & 4) != 0});
            QCOMPARE(f.out.tets.size(), 3u);
            QVERIFY(std::abs(volumeOf(f.out) - 2 * 0.75 * std::sqrt(3.0)) < 1e-12);
            for (const Tet& t : f.out.tets)
                QVERIFY(tetVolume(f.out.position[t[0]], f.out.position[t[1]], f.out.position[t[2]],
                                  f.out.position[t[3]]) > 0);
        }
    }
};

QTEST_GUILESS_MAIN(TestFilters)
#include "test_filters.moc"

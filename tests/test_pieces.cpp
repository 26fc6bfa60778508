#include <QtTest>
#include <random>

#include "base/error.hpp"
#include "field/combine.hpp"
#include "field/piece_tree.hpp"
#include "field/topology.hpp"

using namespace escultura;
using namespace escultura::field;

namespace {

DensityField randomField(unsigned seed, std::array<int, 3> cells, int levels) {
    DensityField f;
    f.cells = cells;
    f.spacing = Vec3(1, 2, 0.5);
    std::mt19937 random(seed);
    for (int c = 0; c < cells[0] * cells[1] * cells[2]; ++c)
        f.density.push_back(static_cast<float>(random() % levels) / static_cast<float>(levels - 1));
    return f;
}

double mass(const DensityField& f) {
    double sum = 0;
    for (float v : f.density) sum += v;
    return sum * f.cellVolume();
}

}  // namespace

/// The merge tree against plain labelling, and combinations of fields.
class TestPieces : public QObject {
    Q_OBJECT
  private slots:
    /// A ring of cells, a hollow block, a block with two tunnels that meet, cells that touch in an edge.
    void topologyOfCells() {
        const std::array<int, 3> n{7, 6, 5};
        auto at = [&](int i, int j, int k) { return static_cast<std::size_t>(i + n[0] * (j + n[1] * k)); };
        std::vector<char> block(7 * 6 * 5, 1);
        auto expect = [&](const std::vector<char>& solid, int pieces, int cavities, int least, int most) {
            const Topology t = topologyOf(solid, n);
            QCOMPARE(t.pieces, pieces);
            QCOMPARE(t.cavities, cavities);
            QCOMPARE(t.leastHandles, least);
            QCOMPARE(t.mostHandles, most);
        };
        expect(block, 1, 0, 0, 0);
        std::vector<char> hollow = block;
        hollow[at(3, 3, 2)] = 0;
        expect(hollow, 1, 1, 0, 0);
        std::vector<char> ring = block;
        for (int k = 0; k < n[2]; ++k) ring[at(3, 3, k)] = 0;
        expect(ring, 1, 0, 1, 1);
        for (int i = 0; i < n[0]; ++i) ring[at(i, 3, 2)] = 0;
        expect(ring, 1, 0, 3, 3);  // two tunnels that cross: four mouths, three handles
        std::vector<char> touching(block.size(), 0);
        touching[at(1, 1, 1)] = touching[at(2, 2, 1)] = 1;
        expect(touching, 2, 0, 0, 0);
        // a ring of eight cells that is closed by an edge only
        std::vector<char> open(block.size(), 0);
        for (const auto& [i, j] : {std::pair{1, 1}, {2, 1}, {3, 1}, {3, 2}, {3, 3}, {2, 3}, {1, 3}, {0, 2}, {0, 3}})
            open[at(i, j, 1)] = 1;
        expect(open, 1, 0, 0, 1);
    }
    void orderIsDescendingAndStable() {
        const std::vector<float> v{0.5f, 1.0f, 0.0f, 0.5f, -0.0f, 0.25f, -1.0f};
        QVERIFY((descendingOrder(v) == std::vector<std::uint32_t>{1, 0, 3, 5, 2, 4, 6}));
    }

    /// Pieces, their sizes and the interfaces on them, at every level of random fields: the same as by labelling.
    void treeAgreesWithLabels_data() {
        QTest::addColumn<int>("seed");
        QTest::addColumn<int>("levels");
        for (int s = 0; s < 12; ++s) QTest::addRow("field %d", s) << s << (s % 3 == 0 ? 3 : s % 3 == 1 ? 12 : 2000);
    }
    void treeAgreesWithLabels() {
        QFETCH(int, seed);
        QFETCH(int, levels);
        const DensityField f = randomField(seed, {9, 7, 6}, levels);
        std::mt19937 random(seed + 100);
        std::vector<KeptCells> interfaces(3);
        for (auto& i : interfaces) {
            const std::size_t c = random() % (f.count() - 1);
            i.cells = {c, c + 1};
        }
        const PieceTree tree(f, interfaces);
        for (double t : {0.02, 0.1, 0.3, 0.37, 0.5, 0.62, 0.75, 0.9,
                         static_cast<double>(*std::max_element(f.density.begin(), f.density.end()))}) {
            const Pieces labels = findPieces(f, t, interfaces);
            const PieceCounts counts = tree.at(t);
            QCOMPARE(counts.pieceCells.size(), labels.pieces());
            std::vector<std::size_t> byDensity(labels.pieces(), 0);
            for (std::size_t c = 0; c < f.count(); ++c)
                if (labels.label[c] >= 0 && f.density[c] >= t) ++byDensity[labels.label[c]];
            for (std::size_t i = 0; i < interfaces.size(); ++i) {
                QCOMPARE(counts.pieceCells[counts.pieceOfInterface[i]], byDensity[labels.pieceOfInterface[i]]);
                for (std::size_t j = 0; j < i; ++j)
                    QCOMPARE(counts.pieceOfInterface[i] == counts.pieceOfInterface[j],
                             labels.pieceOfInterface[i] == labels.pieceOfInterface[j]);
            }
            std::sort(byDensity.rbegin(), byDensity.rend());
            QVERIFY(counts.pieceCells == byDensity);
            QCOMPARE(counts.cells, std::accumulate(byDensity.begin(), byDensity.end(), std::size_t(0)));
        }
        QCOMPARE(tree.largestConnectingThreshold(), largestConnectingThreshold(f, interfaces));
    }

    void combinations() {
        const DensityField a = randomField(1, {6, 5, 4}, 100), b = randomField(2, {6, 5, 4}, 100);
        const DensityField* both[] = {&a, &b};
        const DensityField most = combine(both, Combination::maximum, {}), mean = combine(both, Combination::mean, {});
        const double weights[] = {0.75, 0.5};
        const DensityField sum = combine(both, Combination::weightedSum, weights);
        for (std::size_t c = 0; c < a.count(); ++c) {
            QCOMPARE(most.density[c], std::max(a.density[c], b.density[c]));
            QVERIFY(std::abs(mean.density[c] - 0.5f * (a.density[c] + b.density[c])) < 1e-6f);
            QVERIFY(std::abs(sum.density[c] - std::min(1.0f, 0.75f * a.density[c] + 0.5f * b.density[c])) < 1e-6f);
        }
        QVERIFY_EXCEPTION_THROWN(combine(both, Combination::weightedSum, std::span(weights, 1)), InputError);
        const double negative[] = {-1, 1};
        QVERIFY_EXCEPTION_THROWN(combine(both, Combination::weightedSum, negative), InputError);
        QVERIFY_EXCEPTION_THROWN(combine({}, Combination::mean, {}), InputError);
    }

    /// A grid that is finer, shifted and larger holds the same mass; combining extends the grid over both fields.
    void otherGridsKeepTheirMass() {
        const DensityField a = randomField(3, {6, 5, 4}, 100);
        DensityField fine;
        fine.cells = {25, 40, 14};
        fine.spacing = Vec3(0.31, 0.29, 0.17);
        fine.origin = Vec3(-0.4, -0.7, -0.2);
        fine.density.assign(25 * 40 * 14, 0.0f);
        QVERIFY(std::abs(mass(resample(a, fine)) / mass(a) - 1) < 1e-5);
        DensityField shifted = a;
        shifted.origin = Vec3(2.5, 0, -1.25);
        const DensityField* both[] = {&a, &shifted};
        const double halves[] = {0.5, 0.5};
        const DensityField sum = combine(both, Combination::weightedSum, halves);
        QVERIFY(sum.bounds().contains(Vec3(8.4, 9.9, 1.9)) && sum.bounds().contains(Vec3(0.1, 0.1, -1.2)));
        QVERIFY(std::abs(mass(sum) / mass(a) - 1) < 1e-5);
    }

    void comparison() {
        DensityField a;
        a.cells = {10, 4, 4};
        a.density.assign(160, 0.0f);
        DensityField b = a;
        for (int i = 0; i < 10; ++i)
            for (int c = 0; c < 16; ++c) {
                a.density[i + 10 * c] = i < 6;
                b.density[i + 10 * c] = i >= 4 && i < 9;
            }
        const Comparison c = compare(a, 0.5, b, 0.5);
        QCOMPARE(c.both, 32.0);
        QCOMPARE(c.onlyFirst, 64.0);
        QCOMPARE(c.onlySecond, 48.0);
        QVERIFY(std::abs(c.overlap() - 32.0 / 144) < 1e-12);
        QCOMPARE(c.where[0], std::uint8_t(1));
        QCOMPARE(c.where[5], std::uint8_t(3));
        QCOMPARE(c.where[8], std::uint8_t(2));
        QCOMPARE(c.where[9], std::uint8_t(0));
    }
};

QTEST_GUILESS_MAIN(TestPieces)
#include "test_pieces.moc"

#include <QtTest>

#include "elastic/stress.hpp"
#include "elastic/submodel.hpp"
#include "mesh/point_location.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::elastic;
using namespace escultura::verification;

namespace {

const Material steel{"steel", 210000, 0.3, 7.85e-6, 250, "typical"};

/// A curved cantilever of 100 x 10 x 10 mm.
mesh::TetMesh bentBar(int fine = 1) {
    return mappedBlock(20 * fine, 3 * fine, 3 * fine, [](const Vec3& u) {
        const double x = 100 * u[0];
        return Vec3(x, 10 * u[1] + 0.002 * x * x, 10 * u[2] + std::sin(x / 20));
    });
}

bool atRoot(const Vec3& p) {
    return p[0] < 1e-9;
}
bool atTip(const Vec3& p) {
    return p[0] > 100 - 1e-9;
}

/// Elements that have a node in a slab across the bar.
std::vector<char> slab(const mesh::TetMesh& m, double low, double high) {
    std::vector<char> keep(m.tet.size(), 0);
    for (std::size_t e = 0; e < keep.size(); ++e)
        for (auto n : m.tet[e])
            if (m.position[n][0] >= low && m.position[n][0] <= high) keep[e] = 1;
    return keep;
}

struct Whole {
    mesh::TetMesh mesh = bentBar();
    Supports supports;
    std::vector<LoadVector> loads;
    Solution solution;
    void solve() {
        Progress progress;
        solution = elastic::solve(mesh, steel, supports, loads, {}, progress);
    }
    void tipLoads() {
        for (const Vec3& force : {Vec3(0, -100, 0), Vec3(500, 20, 70)}) {
            LoadVector load;
            load.forces.assign(mesh.position.size(), Vec3::Zero());
            addSpreadForce(mesh, facesWhere(mesh, atTip), force, Vec3(1000, 0, 0), Vec3(100, 25, 5), load.forces);
            loads.push_back(load);
        }
    }
    void fixRoot() {
        for (auto n : nodesWhere(mesh, atRoot))
            for (int k = 0; k < 3; ++k) supports.constraints.emplace_back(n, k);
    }
    Submodel piece(double low, double high) const {
        return cutOut(mesh, slab(mesh, low, high), supports, loads,
                      [&](std::size_t c, std::int32_t node) { return solution.cases[c].displacement[node]; });
    }
};

/// Largest difference of displacements between a piece, solved on its own, and the whole, over the largest of the
/// whole.
double difference(const Whole& whole, const Submodel& piece) {
    Progress progress;
    const Solution s = solve(piece.mesh, steel, piece.supports, piece.loads, {}, progress);
    double off = 0, largest = 0;
    for (std::size_t c = 0; c < s.cases.size(); ++c)
        for (std::size_t n = 0; n < piece.node.size(); ++n) {
            const Vec3& u = whole.solution.cases[c].displacement[piece.node[n]];
            off = std::max(off, (s.cases[c].displacement[n] - u).norm());
            largest = std::max(largest, u.norm());
        }
    return off / largest;
}

}  // namespace

/// On the same mesh a piece that is moved as the whole moves at its cuts has the whole's solution: the discrete problem
/// has one solution only.
class TestSubmodel : public QObject {
    Q_OBJECT
  private slots:
    void aPieceWithoutSupportsOrLoads() {
        Whole w;
        w.fixRoot();
        w.tipLoads();
        w.solve();
        const Submodel p = w.piece(40, 60);
        QVERIFY(p.mesh.tet.size() < w.mesh.tet.size() / 3);
        QVERIFY(difference(w, p) < 1e-9);
        // corners stay first, and no face of the cut counts as boundary
        for (const auto& t : p.mesh.tet)
            for (int k = 0; k < 10; ++k) QCOMPARE(static_cast<std::size_t>(t[k]) < p.mesh.cornerCount, k < 4);
        for (const auto& f : p.mesh.boundary)
            for (auto n : f) {
                const Vec3 q = p.mesh.position[n] - Vec3(0, 0.002 * std::pow(p.mesh.position[n][0], 2),
                                                         std::sin(p.mesh.position[n][0] / 20));
                QVERIFY(std::min({q[1], 10 - q[1], q[2], 10 - q[2]}) < 0.05);
            }
    }
    void aPieceWithTheSupport() {
        Whole w;
        w.fixRoot();
        w.tipLoads();
        for (auto& load : w.loads) {  // the support itself moves
            load.given.assign(w.supports.constraints.size(), 0);
            for (std::size_t c = 1; c < load.given.size(); c += 3) load.given[c] = 0.02;
        }
        w.solve();
        QVERIFY(difference(w, w.piece(-1, 20)) < 1e-9);
    }
    void aPieceWithTheLoad() {
        Whole w;
        w.fixRoot();
        w.tipLoads();
        w.solve();
        QVERIFY(difference(w, w.piece(85, 101)) < 1e-9);
    }
    void elasticBedsComeAlong() {
        Whole w;
        w.supports.beds.push_back({facesWhere(w.mesh, atRoot), 500, 200});
        w.tipLoads();
        w.solve();
        const Submodel p = w.piece(-1, 15);
        QCOMPARE(p.supports.beds.size(), std::size_t(1));
        QVERIFY(difference(w, p) < 1e-8);
    }
    void meanHoldsComeWhole() {
        Whole w;
        MeanHold hold;
        hold.faces = facesWhere(w.mesh, atRoot);
        hold.centre = Vec3(0, 5, 5);
        w.supports.meanHolds.push_back(hold);
        w.tipLoads();
        w.solve();
        // only a corner of the held face is asked for
        std::vector<char> keep(w.mesh.tet.size(), 0);
        for (std::size_t e = 0; e < keep.size(); ++e)
            for (auto n : w.mesh.tet[e])
                if ((w.mesh.position[n] - Vec3(0, 0, 0)).norm() < 4) keep[e] = 1;
        const Submodel p = cutOut(w.mesh, keep, w.supports, w.loads,
                                  [&](std::size_t c, std::int32_t n) { return w.solution.cases[c].displacement[n]; });
        QCOMPARE(p.supports.meanHolds.size(), std::size_t(1));
        QCOMPARE(p.supports.meanHolds[0].faces.size(), hold.faces.size());
        QVERIFY(difference(w, p) < 1e-7);
        QVERIFY(w.piece(50, 60).supports.meanHolds.empty());
    }
    void aFinerPieceIsMovedByInterpolation() {
        // the cut of a finer mesh follows the coarse solution: stress in its middle is the finer whole's
        Whole coarse, fine;
        fine.mesh = bentBar(2);
        for (Whole* w : {&coarse, &fine}) {
            w->fixRoot();
            w->tipLoads();
            w->solve();
        }
        const mesh::PointLocation location(coarse.mesh);
        const Submodel p =
            cutOut(fine.mesh, slab(fine.mesh, 30, 70), fine.supports, fine.loads, [&](std::size_t c, std::int32_t n) {
                return location.interpolate(coarse.solution.cases[c].displacement, location.at(fine.mesh.position[n]));
            });
        Progress progress;
        const Solution s = solve(p.mesh, steel, p.supports, p.loads, {}, progress);
        for (std::size_t c = 0; c < 2; ++c) {
            const auto whole =
                recoverStress(fine.mesh, gaussStress(fine.mesh, steel, fine.solution.cases[c].displacement), progress);
            const auto own = recoverStress(p.mesh, gaussStress(p.mesh, steel, s.cases[c].displacement), progress);
            double off = 0, largest = 0;
            for (std::size_t n = 0; n < p.node.size(); ++n) {
                if (std::abs(p.mesh.position[n][0] - 50) > 5) continue;
                off = std::max(off, std::abs(vonMises(own[n]) - vonMises(whole[p.node[n]])));
                largest = std::max(largest, vonMises(whole[p.node[n]]));
            }
            QVERIFY2(largest > 0 && off / largest < 5e-3, qPrintable(QString::number(off / largest)));
        }
    }
    void placesAreFoundInCurvedElements() {
        const mesh::TetMesh m = bentBar();
        const mesh::PointLocation location(m);
        for (std::size_t e = 0; e < m.tet.size(); e += 7)
            for (const Vec3& xi : {Vec3(0.25, 0.25, 0.25), Vec3(0.1, 0.6, 0.2), Vec3(0.5, 0.5, 0)}) {
                double n[10];
                mesh::shapeFunctions(xi, n);
                Vec3 p = Vec3::Zero();
                for (int k = 0; k < 10; ++k) p += n[k] * m.position[m.tet[e][k]];
                // the field of positions itself
                QVERIFY((location.interpolate(m.position, location.at(p)) - p).norm() < 1e-9);
            }
        // beside the body: the nearest element, continued
        const Vec3 beside(50, 5 + 0.002 * 2500, 10.3 + std::sin(2.5));
        QVERIFY((location.interpolate(m.position, location.at(beside)) - beside).norm() < 1e-6);
        QCOMPARE(mesh::PointLocation(mesh::TetMesh{}).at(beside).element, -1);
    }
};

QTEST_GUILESS_MAIN(TestSubmodel)
#include "test_submodel.moc"

/// The pieces that the equations are made of, each against what it must give: numbering, patterns, products, the grid
/// laid over the nodes, held mean motions.
#include <QtTest>
#include <cmath>
#include <random>

#include "base/error.hpp"
#include "elastic/assembly.hpp"
#include "elastic/mean_projection.hpp"
#include "elastic/system.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::elastic;
using namespace escultura::verification;

namespace {

Material steel() {
    return {"steel", 210000, 0.3, 7.85e-6, 250, "typical"};
}

/// A bent bar, so that no element is straight.
mesh::TetMesh bent() {
    return mappedBlock(6, 2, 2, [](const Vec3& p) {
        return Vec3(60 * p[0], 10 * p[1] + 12 * p[0] * p[0], 10 * p[2] - 5 * p[0] * p[1]);
    });
}

/// The same numbers every time.
struct Random {
    std::mt19937 source{7};
    double operator()() { return static_cast<double>(source()) / 4294967296.0 - 0.5; }
    Vec3 vector() {
        const double x = (*this)(), y = (*this)(), z = (*this)();
        return {x, y, z};
    }
};

std::vector<Vec3> anyVectors(std::size_t n) {
    Random r;
    std::vector<Vec3> v(n);
    for (Vec3& x : v) x = r.vector();
    return v;
}

double dot(const std::vector<Vec3>& a, const std::vector<Vec3>& b) {
    double sum = 0;
    for (std::size_t i = 0; i < a.size(); ++i) sum += a[i].dot(b[i]);
    return sum;
}

std::vector<std::int32_t> nodesAt(const mesh::TetMesh& m, double unit, int axis = 0) {
    // of the unit block: the corners know which of its sides they come from
    const auto plain = mappedBlock(6, 2, 2, [](const Vec3& p) { return p; });
    std::vector<std::int32_t> nodes;
    for (std::size_t n = 0; n < m.position.size(); ++n)
        if (std::abs(plain.position[n][axis] - unit) < 1e-12) nodes.push_back(static_cast<std::int32_t>(n));
    return nodes;
}

/// Every kind of support at once: slanted, along axes, a rigid group.
Supports mixed(const mesh::TetMesh& m) {
    Supports s;
    const auto start = nodesAt(m, 0);
    for (std::size_t i = 0; i < start.size(); ++i) {
        if (i % 3 == 0) s.constraints.emplace_back(start[i], Vec3(1, 1, 0).normalized(), 0.1);
        if (i % 3 == 1) s.constraints.emplace_back(start[i], 2, -0.2);
        if (i % 3 == 2)
            for (int k = 0; k < 3; ++k) s.constraints.emplace_back(start[i], k);
    }
    s.rigidGroups.push_back({nodesAt(m, 1), {true, false, false, false, false, true}});
    return s;
}

}  // namespace

class TestEquations : public QObject {
    Q_OBJECT

  private slots:
    // ---- numbering
    void rowsAreOneANodeAndTwoAGroup() {
        const auto m = bent();
        const Supports s = mixed(m);
        const Numbering n(m, s, 0);
        const std::size_t inGroup = s.rigidGroups[0].nodes.size();
        QCOMPARE(n.rows(), m.position.size() - inGroup + 2);
        std::size_t held = 0;
        for (std::size_t i = 0; i < s.constraints.size(); ++i) ++held;
        QCOMPARE(n.unknowns(), 3 * n.rows() - held - 2);  // and two motions of the group
        std::int32_t two[2];
        QCOMPARE(n.rowsOf(s.rigidGroups[0].nodes[0], two), 2);
        QCOMPARE(two[1], two[0] + 1);
        QVERIFY(!n.row(two[0]).rotation && n.row(two[1]).rotation);
        QVERIFY(!n.row(two[0]).isFree(0) && n.row(two[0]).isFree(1));
        QVERIFY(n.row(two[1]).isFree(0) && !n.row(two[1]).isFree(2));
        QCOMPARE(n.rowsOf(s.constraints[0].node, two), 1);
        QVERIFY(n.row(two[0]).framed && !n.row(two[0]).isFree(0) && n.row(two[0]).isFree(1));
    }
    /// Forces go in by the transposed way that displacements come out: f . u(q) = F(f) . q for free unknowns.
    void theWayInIsTheWayOutTransposed() {
        const auto m = bent();
        for (double factor : {0.0, 1.25}) {
            const Numbering n(m, mixed(m), factor);
            auto q = anyVectors(n.rows());
            for (std::size_t r = 0; r < q.size(); ++r)
                for (int k = 0; k < 3; ++k)
                    if (!n.row(r).isFree(k)) q[r][k] = 0;
            const auto f = anyVectors(m.position.size());
            QVERIFY(std::abs(dot(f, n.displacement(q)) - dot(n.restricted(f), q)) < 1e-10);
        }
    }
    /// A group's nodes move as one rigid body, whatever its unknowns are.
    void groupsStayRigid() {
        const auto m = bent();
        const Supports s = mixed(m);
        const Numbering n(m, s, 0);
        const auto u = n.displacement(anyVectors(n.rows()));
        const auto& nodes = s.rigidGroups[0].nodes;
        for (std::size_t i = 1; i < nodes.size(); ++i) {
            // small rotations: the distance changes in second order only, so d . (du) = 0
            const Vec3 d = m.position[nodes[i]] - m.position[nodes[0]], du = u[nodes[i]] - u[nodes[0]];
            QVERIFY(std::abs(d.dot(du)) < 1e-9 * d.squaredNorm());
        }
    }
    void givenDisplacementsAreMet() {
        const auto m = bent();
        const Supports s = mixed(m);
        const Numbering n(m, s, 0);
        LoadVector more;
        more.forces.assign(m.position.size(), Vec3::Zero());
        more.given.assign(s.constraints.size(), 0.05);
        const auto u = n.displacement(n.givenPart(more));
        for (const Constraint& c : s.constraints)
            QVERIFY(std::abs(u[c.node].dot(c.direction) - c.value - 0.05) < 1e-12);
    }
    /// Two constraints that are not at right angles on one node: both are met.
    void slantedPairsAreMet() {
        const auto m = bent();
        Supports s;
        s.constraints.emplace_back(5, Vec3(1, 0, 0), 0.3);
        s.constraints.emplace_back(5, Vec3(1, 1, 0).normalized(), -0.1);
        s.constraints.emplace_back(9, Vec3(0, 0, 1), 0.2);
        s.constraints.emplace_back(9, Vec3(0, 0, -1), -0.2);  // the same, said twice
        const Numbering n(m, s, 0);
        LoadVector none{NodalForces(m.position.size(), Vec3::Zero()), {}};
        const auto u = n.displacement(n.givenPart(none));
        for (const Constraint& c : s.constraints) QVERIFY(std::abs(u[c.node].dot(c.direction) - c.value) < 1e-12);
        s.constraints.back().value = 0.2;  // against each other
        const Numbering contradicts(m, s, 0);
        QVERIFY_EXCEPTION_THROWN(contradicts.givenPart(none), InputError);
    }
    void everySupportMarksItsNodes() {
        const auto m = bent();
        Supports s;
        s.constraints.emplace_back(3, 0);
        s.beds.push_back({{0}, 10, 10});
        s.meanHolds.push_back({{1}, Vec3::Zero()});
        s.rigidGroups.push_back({{40, 41}, {}});  // connected, not held
        s.rigidGroups.push_back({{50, 51}, {true}});
        const std::vector<char> marked = Numbering(m, s, 0).supportedNodes();
        QVERIFY(marked[3] && marked[m.boundary[0][2]] && marked[m.boundary[1][5]] && marked[50] && marked[51]);
        QVERIFY(!marked[40] && !marked[41]);
    }
    /// Coarse displacements that are one rigid motion come out as that motion on every kind of row.
    void coarseRigidMotionsStayWhole() {
        const auto m = bent();
        Supports s = mixed(m);
        s.rigidGroups[0].held = {};
        s.constraints.erase(s.constraints.begin() + 4, s.constraints.end());  // leaves rows of all kinds
        const Numbering n(m, s, 1.25);
        const Vec3 shift(0.3, -0.2, 0.7), turn(0.01, -0.02, 0.015);
        auto motion = [&](const Vec3& p) -> Vec3 { return shift + turn.cross(p); };
        std::vector<GridWeight> scalar;
        std::vector<std::pair<std::int32_t, Mat3>> blocks;
        std::vector<Vec3> q(n.rows());
        for (std::size_t r = 0; r < n.rows(); ++r) {
            bool usesBlocks = false;
            n.prolongation(r, scalar, blocks, usesBlocks);
            q[r].setZero();
            if (usesBlocks)
                for (const auto& [node, block] : blocks) q[r] += block * motion(n.grid()->position()[node]);
            else
                for (const GridWeight& w : scalar) q[r] += w.weight * motion(n.grid()->position()[w.node]);
        }
        const auto u = n.displacement(q);
        const auto& marked = n.supportedNodes();
        for (std::size_t k = 0; k < u.size(); ++k)
            if (!marked[k]) QVERIFY2((u[k] - motion(m.position[k])).norm() < 1e-5, qPrintable(QString::number(k)));
        for (auto node : s.rigidGroups[0].nodes) QVERIFY((u[node] - motion(m.position[node])).norm() < 1e-5);
    }

    // ---- matrices
    void patternsAreSymmetricAndComplete() {
        const auto m = bent();
        const Numbering n(m, mixed(m), 1.25);
        const BlockPattern p = patternOf(n);
        QCOMPARE(p.rows(), n.rows());
        for (std::size_t r = 0; r < p.rows(); ++r)
            for (auto at = p.offset[r]; at < p.offset[r + 1]; ++at) {
                if (at > p.offset[r]) QVERIFY(p.column[at - 1] < p.column[at]);
                const auto back = p.find(p.column[at], static_cast<std::int32_t>(r));
                QCOMPARE(p.column[back], static_cast<std::int32_t>(r));
            }
        for (const auto& t : m.tet)
            for (auto a : t)
                for (auto b : t) {
                    std::int32_t ra[2], rb[2];
                    for (int i = 0; i < n.rowsOf(a, ra); ++i)
                        for (int k = 0; k < n.rowsOf(b, rb); ++k) QCOMPARE(p.column[p.find(ra[i], rb[k])], rb[k]);
                }
    }
    /// q K q by the matrix is what the stresses give, on framed, grouped and plain rows.
    void theMatrixHasTheEnergyOfTheStresses() {
        Progress progress;
        const auto m = bent();
        const Material material = steel();
        for (double factor : {0.0, 1.25}) {
            const System system(m, material, mixed(m), factor, progress);
            auto q = anyVectors(system.rows());
            for (std::size_t r = 0; r < q.size(); ++r)
                for (int k = 0; k < 3; ++k)
                    if (!system.row(r).isFree(k)) q[r][k] = 0;
            std::vector<double> in(3 * q.size()), out(in.size());
            for (std::size_t i = 0; i < in.size(); ++i) in[i] = q[i / 3][i % 3];
            multiply(system.matrix(), 1, in.data(), out.data());
            double energy = 0;
            for (std::size_t i = 0; i < in.size(); ++i) energy += in[i] * out[i];
            const auto u = system.displacement(q);
            const double exact = dot(u, internalForces(m, elasticity(material), u));
            QVERIFY2(std::abs(energy / exact - 1) < 1e-10, qPrintable(QString::number(energy / exact - 1)));
        }
    }
    void massOfAllUnknownsIsTheParts() {
        Progress progress;
        const auto m = bent();
        const System system(m, steel(), Supports{}, 0, progress);
        const SplitBlocks mass = system.assembled(massKernel(m, 7.85e-6), "", progress);
        std::vector<double> in(3 * system.rows(), 0), out(in.size());
        for (std::size_t r = 0; r < system.rows(); ++r) in[3 * r + 1] = 1;
        multiply(mass, 1, in.data(), out.data());
        double sum = 0;
        for (std::size_t r = 0; r < system.rows(); ++r) sum += out[3 * r + 1];
        QVERIFY(std::abs(sum / (7.85e-6 * mesh::measureQuality(m).volume) - 1) < 1e-3);  // rules of degree 4 and 3
    }
    void heldUnknownsAreUncoupled() {
        Progress progress;
        const auto m = bent();
        const System system(m, steel(), mixed(m), 0, progress);
        const SplitBlocks mass = system.assembled(massKernel(m, 1), "", progress);
        for (std::size_t r = 0; r < system.rows(); ++r)
            for (auto at = mass.pattern.offset[r]; at < mass.pattern.offset[r + 1]; ++at) {
                const auto c = static_cast<std::size_t>(mass.pattern.column[at]);
                const Mat3 k = system.matrix().block(at), x = mass.block(at);
                for (int a = 0; a < 3; ++a)
                    for (int b = 0; b < 3; ++b) {
                        if (system.row(r).isFree(a) && system.row(c).isFree(b)) continue;
                        QCOMPARE(x(a, b), 0.0);
                        if (r == c && a == b)
                            QVERIFY(k(a, b) > 0);
                        else
                            QCOMPARE(k(a, b), 0.0);
                    }
            }
    }
    /// The two single-precision parts carry 48 bits.
    void splitBlocksKeepTheirDigits() {
        SplitBlocks b;
        b.high.assign(9, 0);
        b.low.assign(9, 0);
        Random random;
        for (int k = 0; k < 200; ++k) {
            Mat3 value;
            for (int i = 0; i < 9; ++i) value(i / 3, i % 3) = random() * std::pow(10, 12 * random());
            b.setBlock(0, value);
            const Mat3 back = b.block(0);
            for (int i = 0; i < 9; ++i)
                QVERIFY(std::abs(back(i / 3, i % 3) / value(i / 3, i % 3) - 1) < std::ldexp(1.0, -46));
        }
    }
    void productsOfOneAndOfFourAgree() {
        Progress progress;
        const auto m = bent();
        const System system(m, steel(), mixed(m), 0, progress);
        const std::size_t n = 3 * system.rows();
        std::vector<double> four(4 * n), outFour(4 * n), one(n), outOne(n);
        Random random;
        for (double& x : four) x = random();
        multiply(system.matrix(), 4, four.data(), outFour.data());
        for (std::size_t v = 0; v < 4; ++v) {
            for (std::size_t i = 0; i < n; ++i) one[i] = four[4 * i + v];
            multiply(system.matrix(), 1, one.data(), outOne.data());
            for (std::size_t i = 0; i < n; ++i)
                QVERIFY(std::abs(outOne[i] - outFour[4 * i + v]) <= 1e-9 * std::abs(outOne[i]) + 1e-6);
        }
    }

    // ---- the grid over the nodes
    void gridsInterpolateLinearFieldsExactly() {
        Random random;
        std::vector<Vec3> points;
        std::vector<int> level;
        for (int k = 0; k < 400; ++k) {
            points.push_back(Vec3(40 * random(), 25 * random(), 60 * random()));
            level.push_back(points.back()[0] > 0 ? 0 : 2);  // leaves of two sizes side by side
        }
        BackgroundGrid grid(points, level, 2.5);
        std::size_t nodes = grid.nodeCount();
        for (int coarser = 0; coarser < 3; ++coarser) {
            for (const Vec3& p : points) {
                std::vector<GridWeight> w;
                const int leaf = grid.leafAt(p);
                QVERIFY(leaf >= 0);
                grid.interpolate(leaf, p, w);
                double sum = 0;
                Vec3 place = Vec3::Zero();
                for (const GridWeight& x : w) {
                    sum += x.weight;
                    place += x.weight * grid.position()[x.node];
                }
                QVERIFY(std::abs(sum - 1) < 1e-6);
                QVERIFY((place - p).norm() < 1e-4);
            }
            grid = grid.coarser();
            QVERIFY(grid.nodeCount() < nodes);
            nodes = grid.nodeCount();
        }
    }

    // ---- held mean motions
    void projectionsHoldMeanMotions() {
        Progress progress;
        const auto m = bent();
        Supports s;
        std::vector<std::int32_t> faces;
        const auto start = nodesAt(m, 0);
        for (std::size_t f = 0; f < m.boundary.size(); ++f)
            if (std::all_of(m.boundary[f].begin(), m.boundary[f].end(),
                            [&](auto n) { return std::count(start.begin(), start.end(), n) > 0; }))
                faces.push_back(static_cast<std::int32_t>(f));
        QCOMPARE(faces.size(), 8u);
        s.meanHolds.push_back({faces, Vec3(0, 5, 5)});
        const System system(m, steel(), s, 0, progress);
        QCOMPARE(system.meanRows().size(), 6u);
        const Preconditioner nothing = [](int, const std::vector<float>& r, std::vector<float>& z) { z = r; };
        const MeanProjection means(system, nothing);
        auto x = anyVectors(system.rows());
        std::vector<double> flat(3 * x.size());
        for (std::size_t i = 0; i < flat.size(); ++i) flat[i] = x[i / 3][i % 3];
        QVERIFY(means.meanOf(x).norm() > 1e-3);
        means.projectStep(1, flat);
        for (std::size_t i = 0; i < flat.size(); ++i) x[i / 3][i % 3] = flat[i];
        QVERIFY(means.meanOf(x).norm() < 1e-9);
        // twice is once
        auto again = flat;
        means.projectStep(1, again);
        for (std::size_t i = 0; i < flat.size(); ++i) QVERIFY(std::abs(again[i] - flat[i]) < 1e-9);
        const Eigen::VectorXd wanted = Eigen::VectorXd::LinSpaced(6, 0.1, 0.6);
        QVERIFY((means.meanOf(means.particular(wanted)) - wanted).norm() < 1e-9);
        // a rigid motion has itself as mean: translation, then rotation about the centre
        std::vector<Vec3> rigid(m.position.size());
        const Vec3 shift(1, -2, 0.5), turn(0.01, 0.02, -0.03);
        for (std::size_t n = 0; n < rigid.size(); ++n) rigid[n] = shift + turn.cross(m.position[n] - Vec3(0, 5, 5));
        std::vector<Vec3> q(system.rows());
        for (std::size_t n = 0; n < rigid.size(); ++n) q[system.rowOf(static_cast<std::int32_t>(n))] = rigid[n];
        const Eigen::VectorXd mean = means.meanOf(q);
        for (int k = 0; k < 3; ++k) {
            QVERIFY(std::abs(mean[3 + k] - turn[k]) < 1e-9);
        }
    }
    void whatIsHeldTwiceIsRefused() {
        Progress progress;
        const auto m = bent();
        Supports twoGroups;
        twoGroups.rigidGroups = {{{1, 2, 3}, {}}, {{3, 4, 5}, {}}};
        QVERIFY_EXCEPTION_THROWN(Numbering(m, twoGroups, 0), InputError);
        Supports heldAndRigid;
        heldAndRigid.rigidGroups = {{{1, 2, 3}, {}}};
        heldAndRigid.constraints.emplace_back(2, 0);
        QVERIFY_EXCEPTION_THROWN(Numbering(m, heldAndRigid, 0), InputError);
        Supports meanAndRigid;
        meanAndRigid.meanHolds.push_back({{0}, Vec3::Zero()});
        meanAndRigid.rigidGroups = {{{m.boundary[0][0], m.boundary[0][1]}, {}}};
        QVERIFY_EXCEPTION_THROWN(System(m, steel(), meanAndRigid, 0, progress), InputError);
        Supports point;
        point.rigidGroups = {{{1}, {}}};
        QVERIFY_EXCEPTION_THROWN(Numbering(m, point, 0), InputError);
    }
};

QTEST_GUILESS_MAIN(TestEquations)
#include "test_equations.moc"

#include <QtTest>

#include "base/error.hpp"
#include "elastic/stress.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::elastic;
using namespace escultura::verification;

class TestElastic : public QObject {
    Q_OBJECT
    static void passes(const std::vector<Row>& rows) {
        for (const Row& r : rows) {
            QVERIFY2(r.bar > 0 && r.bar <= 0.1, "every bar must be able to fail");
            QVERIFY2(r.passes(), qPrintable(QString("%1, %2: expected %3, found %4")
                                                .arg(r.name.c_str(), r.quantity.c_str())
                                                .arg(r.expected)
                                                .arg(r.found)));
        }
    }

  private slots:
    void patchTest() { passes(verification::patchTest()); }
    void cantilever() { passes(verification::cantilever()); }
    void thickCylinder() { passes(verification::thickCylinder()); }
    void plateWithHole() { passes(verification::plateWithHole()); }
    void thickEllipticPlate() { passes(verification::thickEllipticPlate()); }
    void torsionShaft() { passes(verification::torsionShaft()); }
    void spinningRing() { passes(verification::spinningRing()); }
    void hangingBar() { passes(verification::hangingBar()); }
    void manufactured() { passes(verification::manufactured()); }
    void bearing() { passes(verification::bearing()); }

    void shapeFunctionsAddUpToOne() {
        for (const Vec3& xi : {Vec3(0.1, 0.2, 0.3), Vec3(0, 0, 0), Vec3(0.7, 0.1, 0.1)}) {
            double n[10];
            Vec3 d[10];
            mesh::shapeFunctions(xi, n);
            mesh::shapeDerivatives(xi, d);
            double sum = 0;
            Vec3 slope = Vec3::Zero();
            for (int k = 0; k < 10; ++k) sum += n[k], slope += d[k];
            QVERIFY(std::abs(sum - 1) < 1e-14 && slope.norm() < 1e-13);
        }
    }
    void stressMeasures() {
        Voigt6 uniaxial, shear;
        uniaxial << 100, 0, 0, 0, 0, 0;
        shear << 0, 0, 0, 10, 0, 0;
        QCOMPARE(vonMises(uniaxial), 100.0);
        QCOMPARE(vonMises(shear), 10 * std::sqrt(3.0));
        QVERIFY((principal(shear) - Eigen::Vector3d(10, 0, -10)).norm() < 1e-12);
    }
    void materialsAreChecked() {
        Material m{"x", 1000, 0.3, 1e-6, 10, "made up"};
        validate(m);
        for (double nu : {-1.0, 0.5, 0.7, -2.0}) {
            m.poissonsRatio = nu;
            QVERIFY_EXCEPTION_THROWN(validate(m), InputError);
        }
        m.poissonsRatio = -0.3;  // auxetic, but possible
        validate(m);
    }
    void namesFreeMotions() {
        const mesh::TetMesh m = mappedBlock(2, 2, 2, [](const Vec3& p) { return Vec3(10 * p); });
        QCOMPARE(freeMotions(m, {}).size(), std::size_t(6));
        std::vector<Constraint> c;
        for (auto n : nodesWhere(m, [](const Vec3& p) { return p[2] < 1e-9; })) c.push_back({n, 2, 0});
        const auto sliding = freeMotions(m, {c, {}, {}, {}});
        QCOMPARE(sliding.size(), std::size_t(3));
        // a hinge along z through the edge x = y = 0
        c.clear();
        for (auto n : nodesWhere(m, [](const Vec3& p) { return p[0] < 1e-9 && p[1] < 1e-9; }))
            for (int k = 0; k < 3; ++k) c.push_back({n, k, 0});
        const auto hinge = freeMotions(m, {c, {}, {}, {}});
        QCOMPARE(hinge.size(), std::size_t(1));
        QVERIFY2(hinge[0].find("rotation about (0") == 0, hinge[0].c_str());
        Progress progress;
        const Material steel{"steel", 210000, 0.3, 7.85e-6, 250, "typical"};
        try {
            solve(m, steel, c, {NodalForces(m.position.size(), Vec3(1, 0, 0))}, progress);
            QFAIL("a hinge must be refused");
        } catch (const InputError& e) {
            QVERIFY(std::string(e.what()).find("rotation about") != std::string::npos);
        }
    }
    void refusesMoreMemoryThanAllowed() {
        const mesh::TetMesh m = mappedBlock(4, 4, 4, [](const Vec3& p) { return p; });
        std::vector<Constraint> c;
        for (auto n : nodesWhere(m, [](const Vec3& p) { return p[2] < 1e-9; }))
            for (int k = 0; k < 3; ++k) c.push_back({n, k, 0});
        Progress progress;
        const Material steel{"steel", 210000, 0.3, 7.85e-6, 250, "typical"};
        QVERIFY_EXCEPTION_THROWN(solve(m, steel, c, {NodalForces(m.position.size(), Vec3(1, 0, 0))}, progress, 1e5),
                                 SolveError);
    }
    void cancelsWhileFactorising() {
        const mesh::TetMesh m = mappedBlock(14, 14, 14, [](const Vec3& p) { return p; });
        std::vector<Constraint> c;
        for (auto n : nodesWhere(m, [](const Vec3& p) { return p[2] < 1e-9; }))
            for (int k = 0; k < 3; ++k) c.push_back({n, k, 0});
        Progress* self = nullptr;
        std::string last;
        Progress progress([&](const std::string& step, double) {
            last = step;
            if (step == "Factorising") self->cancel();
        });
        self = &progress;
        const Material steel{"steel", 210000, 0.3, 7.85e-6, 250, "typical"};
        QVERIFY_EXCEPTION_THROWN(solve(m, steel, c, {NodalForces(m.position.size(), Vec3(1, 0, 0))}, progress),
                                 Cancelled);
        QCOMPARE(last, std::string("Factorising"));  // not a step further
        waitForAbandonedSolutions();
    }
    void casesAddUp() {
        // linear: the solution of two loads together is the sum of the two
        const mesh::TetMesh m =
            mappedBlock(3, 2, 2, [](const Vec3& p) { return Vec3(30 * p[0], 10 * p[1], 10 * p[2]); });
        std::vector<Constraint> c;
        for (auto n : nodesWhere(m, [](const Vec3& p) { return p[0] < 1e-9; }))
            for (int k = 0; k < 3; ++k) c.push_back({n, k, 0});
        const auto end = facesWhere(m, [](const Vec3& p) { return p[0] > 30 - 1e-9; });
        NodalForces a(m.position.size(), Vec3::Zero()), b = a, both = a;
        addSpreadForce(m, end, Vec3(100, 0, 0), Vec3::Zero(), Vec3(30, 5, 5), a);
        addSpreadForce(m, end, Vec3(0, 50, 0), Vec3(0, 0, 200), Vec3(30, 5, 5), b);
        for (std::size_t n = 0; n < both.size(); ++n) both[n] = a[n] + b[n];
        Progress progress;
        const Material steel{"steel", 210000, 0.3, 7.85e-6, 250, "typical"};
        const Solution s = solve(m, steel, c, {a, b, both}, progress);
        double difference = 0, size = 0;
        for (std::size_t n = 0; n < both.size(); ++n) {
            difference =
                std::max(difference,
                         (s.cases[0].displacement[n] + s.cases[1].displacement[n] - s.cases[2].displacement[n]).norm());
            size = std::max(size, s.cases[2].displacement[n].norm());
        }
        QVERIFY(difference < 1e-10 * size);
        for (const CaseSolution& x : s.cases) {
            QVERIFY(x.equilibriumError < 1e-10 && x.residual < 1e-8);
            QVERIFY(x.strainEnergy > 0);
        }
        QVERIFY((resultant(m, b, Vec3(30, 5, 5)).moment - Vec3(0, 0, 200)).norm() < 1e-9);
        // Clapeyron: strain energy is half the work of the load
        double work = 0;
        for (std::size_t n = 0; n < both.size(); ++n) work += 0.5 * both[n].dot(s.cases[2].displacement[n]);
        QVERIFY(std::abs(work / s.cases[2].strainEnergy - 1) < 1e-9);
    }
};

QTEST_GUILESS_MAIN(TestElastic)
#include "test_elastic.moc"

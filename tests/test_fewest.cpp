// The cage with the fewest faces: distances kept, handles right, symmetric, the same again; walls and gaps made ready.
#include <QTest>
#include <cmath>

#include "base/error.hpp"
#include "cage/clearances.hpp"
#include "cage/fewest.hpp"
#include "cage/patches.hpp"
#include "shape/machined_solid.hpp"
#include "surface/extract.hpp"

using namespace escultura;
using Body = std::function<double(const Vec3&)>;

namespace {

cage::WrapBody wrapBodyOf(const Body& f, const Box3& box, double spacing,
                          std::vector<std::array<Vec3, 2>> symmetry = {}) {
    auto solid = std::make_shared<shape::MachinedSolid>(std::make_shared<shape::FunctionBody>(f), box);
    Progress progress;
    return {
        f, box,
        std::make_shared<const cage::Target>(surface::extractSurface(*solid, spacing, false, progress), solid, nullptr),
        std::move(symmetry)};
}

cage::FewestCage fewest(const cage::WrapBody& body, double tolerance) {
    cage::FewestOptions o;
    o.largest = tolerance;
    o.rms = 0.2 * tolerance;
    o.firstSize = std::sqrt(body.target->measures().area / 40);
    o.leastSize = o.firstSize / 8;
    Progress progress;
    return cage::fewestFaces([&](double) { return body; }, o, progress);
}

/// A bar between two balls, bent, with a hole in one of them: in a tilted frame, lengths in mm.
double linkValue(const Vec3& at) {
    const Mat3 turn = Eigen::AngleAxisd(0.5, Vec3(1, 2, 3).normalized()).toRotationMatrix();
    const Vec3 p = turn * at;
    const double a = (p - Vec3(-40, 0, 0)).norm() - 18, b = (p - Vec3(40, 0, 0)).norm() - 22;
    const double arc = Vec3(std::hypot(p.x(), p.y() + 60) - 70, p.z(), 0).norm() - 9;
    double v = shape::smoothMinimum(shape::smoothMinimum(a, b, 12), std::max(arc, -p.y()), 12);
    const double bore = std::hypot(p.x() - 40, p.y()) - 10;
    return -shape::smoothMinimum(-v, bore, 4);
}

}  // namespace

class TestFewest : public QObject {
    Q_OBJECT
  private slots:
    /// The fewest faces on a torus are far fewer than those of small faces, and a smaller tolerance asks for more.
    void theToleranceIsKeptAndFacesGoWithIt() {
        const auto torus = [](const Vec3& p) { return Vec3(std::hypot(p.x(), p.y()) - 40, p.z(), 0).norm() - 14; };
        const auto body = wrapBodyOf(torus, Box3{Vec3(-58, -58, -18), Vec3(58, 58, 18)}, 2);
        std::size_t before = 0;
        for (double tolerance : {2.0, 0.3}) {
            const auto few = fewest(body, tolerance);
            QVERIFY(few.within);
            QCOMPARE(few.cage.report.genus, 1);
            QVERIFY(few.cage.folded.empty());
            // measured again, by signed distance to the exact torus
            double squares = 0, largest = 0;
            const auto mesh = cage::LimitMesh(few.cage.cage, 8).at(few.cage.cage.position);
            for (const Vec3& p : mesh.position) {
                squares += torus(p) * torus(p);
                largest = std::max(largest, std::abs(torus(p)));
            }
            QVERIFY2(largest <= 1.05 * tolerance, qPrintable(QString::number(largest)));
            QVERIFY(std::sqrt(squares / static_cast<double>(mesh.position.size())) <= 0.25 * tolerance);
            QCOMPARE(few.irregular, cage::irregularVertices(few.cage.cage));
            const auto faces = few.cage.cage.face.size();
            if (before == 0) QVERIFY2(faces <= 60, qPrintable(QString::number(faces)));
            if (before > 0) QVERIFY2(faces > before, qPrintable(QString("%1 %2").arg(faces).arg(before)));
            before = faces;
        }
    }
    /// No axis of the part is one of the grid's, none of its planes a plane of symmetry.
    void aTiltedLinkIsWrappedAndTheSameAgain() {
        const auto body = wrapBodyOf(Body([](const Vec3& p) { return linkValue(p); }),
                                     Box3{Vec3::Constant(-70), Vec3::Constant(70)}, 2.5);
        QCOMPARE(body.target->measures().genus, 1);
        const auto few = fewest(body, 1.25);
        QVERIFY(few.within);
        QCOMPARE(few.cage.report.genus, 1);
        QVERIFY2(few.cage.cage.face.size() <= 160, qPrintable(QString::number(few.cage.cage.face.size())));
        QVERIFY(cage::makePatches(few.cage.cage).irregularJump < 2.5);
        QVERIFY(fewest(body, 1.25).cage.cage == few.cage.cage);
    }
    void symmetricBodiesGetSymmetricCages() {
        const auto body = [](const Vec3& p) {
            const double ring = Vec3(std::hypot(p.x(), p.z()) - 30, p.y(), 0).norm() - 9;
            const double foot = (p - Vec3(0, 0, -44)).cwiseQuotient(Vec3(2, 1, 1)).norm() * 14 - 14 * 1.1;
            return shape::smoothMinimum(ring, foot, 8);
        };
        const std::vector<std::array<Vec3, 2>> planes = {{Vec3::Zero(), Vec3::UnitX()}, {Vec3::Zero(), Vec3::UnitY()}};
        const auto few = fewest(wrapBodyOf(body, Box3{Vec3(-45, -20, -64), Vec3(45, 20, 45)}, 2, planes), 1.5);
        QVERIFY(few.within);
        for (const auto& plane : planes)
            for (auto v : cage::mirrorVertices(few.cage.cage, plane, 1e-9)) QVERIFY(v >= 0);
    }
    /// What cannot be kept is said, and never counted as kept.
    void anImpossibleToleranceIsNotKept() {
        const auto ball = [](const Vec3& p) { return p.norm() - 30; };
        const auto body = wrapBodyOf(ball, Box3{Vec3::Constant(-34), Vec3::Constant(34)}, 2);
        cage::FewestOptions o;
        o.largest = 1e-5;
        o.rms = 2e-6;
        o.firstSize = 20;
        o.leastSize = 8;
        Progress progress;
        QVERIFY(!cage::fewestFaces([&](double) { return body; }, o, progress).within);
        progress.cancel();
        QVERIFY_EXCEPTION_THROWN(cage::fewestFaces([&](double) { return body; }, o, progress), Cancelled);
    }
    /// A plate of 2 mm is filled to 8, but into a gap only so far that 3 mm of it stay; a slot of 1 mm is opened to 5.
    void wallsAreFilledAndGapsOpened() {
        const auto plate = [](const Vec3& p) {
            return std::max({std::abs(p.z()) - 1, std::abs(p.x()) - 30, std::abs(p.y()) - 30});
        };
        const auto body = wrapBodyOf(plate, Box3{Vec3(-34, -34, -4), Vec3(34, 34, 4)}, 1);
        const cage::Clearances clear(*body.target, 10);
        const Body value = plate;
        const cage::WrapReady filled(value, clear, 8, 3, 0);
        QVERIFY(filled(Vec3(3, 2, 3.7)) < 0 && filled(Vec3(3, 2, 4.3)) > 0);
        const cage::Clearances spaced(*body.target, 10, 3);
        QVERIFY(spaced.balls().size() * 4 < clear.balls().size());
        QVERIFY(cage::WrapReady(value, spaced, 8, 3, 0)(Vec3(3, 2, 3.6)) < 0);
        // two blocks of 10 mm with 1 mm between them, joined at one end
        const auto slot = [](const Vec3& p) {
            const double block = std::max({std::abs(p.z()) - 10.5, std::abs(p.x()) - 30, std::abs(p.y()) - 30});
            return std::max(block, -std::max(std::abs(p.z()) - 0.5, -20 - p.x()));
        };
        const auto slotted = wrapBodyOf(slot, Box3{Vec3(-34, -34, -14), Vec3(34, 34, 14)}, 1);
        const cage::Clearances around(*slotted.target, 10);
        const Body slotValue = slot;
        const cage::WrapReady closed(slotValue, around, 0, 0, 0), opened(slotValue, around, 0, 0, 2.5);
        QVERIFY(closed(Vec3(5, 0, 1.8)) < 0);
        QVERIFY(opened(Vec3(5, 0, 1.8)) > 0 && opened(Vec3(5, 0, 3.2)) < 0);
    }
};

QTEST_GUILESS_MAIN(TestFewest)
#include "test_fewest.moc"

// The view and the charts on their own: orbit, pan, zoom, readings, handles, drawing regions, painting.
#include <QApplication>
#include <QSignalSpy>
#include <QtTest>
#include <cmath>

#include "box_mesh.hpp"
#include "chart.hpp"
#include "plot_view.hpp"
#include "theme/theme.hpp"
#include "view/view.hpp"

using namespace escultura;
using namespace escultura::app;

class TestView : public QObject {
    Q_OBJECT
    std::unique_ptr<View> v_;
    static std::shared_ptr<render::Scene> scene() {
        auto s = std::make_shared<render::Scene>();
        const auto box = made_up::boxMesh({-30, -20, -10}, {30, 20, 10});
        render::ColouredMesh m;
        m.position = box.position;
        m.triangle = box.triangle;
        m.colour.assign(8, {0x80, 0xA0, 0x90});
        for (const Vec3& p : box.position) m.value.push_back(p.x());
        s->meshes.push_back(m);
        for (const Vec3& p : box.position) s->bounds.include(p);
        s->legend.shown = true;
        s->legend.title = "along x";
        s->legend.unit = "mm";
        s->legend.scale.low = -30;
        s->legend.scale.high = 30;
        return s;
    }
    void drag(const QPoint& from, const QPoint& to, Qt::MouseButton button = Qt::LeftButton,
              Qt::KeyboardModifiers m = {}) {
        QTest::mousePress(v_.get(), button, m, from);
        for (int k = 1; k <= 4; ++k) {
            const QPointF at = QPointF(from) + 0.25 * k * QPointF(to - from);
            QMouseEvent move(QEvent::MouseMove, at, v_->mapToGlobal(at), Qt::NoButton, button, m);
            QApplication::sendEvent(v_.get(), &move);
        }
        QTest::mouseRelease(v_.get(), button, m, to);
    }
    QPoint middle() const { return v_->rect().center(); }
    /// Where a place of the box is, in pixels.
    QPoint at(const Vec3& p) const { return v_->placeOf(p).toPoint(); }

  private slots:
    void initTestCase() { theme::apply(*qApp); }
    void init() {
        v_ = std::make_unique<View>();
        v_->resize(700, 500);
        v_->show();
        QVERIFY(QTest::qWaitForWindowExposed(v_.get()));
        v_->setScene(scene(), true);
        v_->look(Vec3(0, 0, -1), Vec3::UnitY());
    }
    void cleanup() { v_.reset(); }

    void nothingToShowIsSaid() {
        View empty;
        empty.resize(500, 300);
        QVERIFY(empty.thumbnail(50, 40).isNull());
        QVERIFY(empty.picture(50, 40).isNull());
        QVERIFY(!empty.hitAt({10, 10}));
        empty.fit();
        empty.flyTo(Vec3(1, 2, 3));
        QVERIFY(!empty.grab().toImage().isNull());
    }
    void placesAndHitsAgree() {
        for (const Vec3& p : {Vec3(0, 0, 10), Vec3(25, -15, 10), Vec3(-28, 18, 10)}) {
            const auto hit = v_->hitAt(v_->placeOf(p));
            QVERIFY(hit);
            QVERIFY2((hit->position - p).norm() < 0.1, qPrintable(QString::number((hit->position - p).norm())));
        }
        QVERIFY(!v_->hitAt({3, 3}));
    }
    void dragsTurnAndShift() {
        QSignalSpy moved(v_.get(), &View::cameraChanged);
        const auto before = v_->camera();
        drag(middle(), middle() + QPoint(60, 20));
        QVERIFY(moved.count() >= 1);
        QVERIFY(std::acos(before.direction.dot(v_->camera().direction)) > 0.2);
        QVERIFY((v_->camera().focus - before.focus).norm() < 1e-9);
        v_->setCamera(before);
        // a shift moves what is under the pointer with it: right button, or Shift
        for (const auto& [button, keys] :
             {std::pair{Qt::RightButton, Qt::KeyboardModifiers{}}, std::pair{Qt::MiddleButton, Qt::KeyboardModifiers{}},
              std::pair{Qt::LeftButton, Qt::KeyboardModifiers{Qt::ShiftModifier}}}) {
            v_->setCamera(before);
            const QPoint from = at(Vec3(5, 5, 10));
            drag(from, from + QPoint(80, -40), button, keys);
            QVERIFY((v_->camera().direction - before.direction).norm() < 1e-9);
            const QPoint now = at(Vec3(5, 5, 10));
            QVERIFY2((now - (from + QPoint(80, -40))).manhattanLength() <= 3,
                     qPrintable(QString("%1 %2").arg(now.x() - from.x()).arg(now.y() - from.y())));
        }
    }
    void theWheelAndKeysZoom() {
        const double height = v_->camera().height;
        QWheelEvent in(middle(), v_->mapToGlobal(middle()), {}, {0, 120}, Qt::NoButton, {}, Qt::NoScrollPhase, false);
        QApplication::sendEvent(v_.get(), &in);
        QVERIFY(v_->camera().height < height);
        QTest::keyClick(v_.get(), Qt::Key_Minus);
        QTest::keyClick(v_.get(), Qt::Key_Minus);
        QVERIFY(v_->camera().height > height);
        v_->zoomTo(42);
        QCOMPARE(v_->camera().height, 42.0);
        v_->fit();
        QVERIFY(std::abs(v_->camera().height - height) < 0.2 * height);
        for (Qt::Key k : {Qt::Key_Left, Qt::Key_Right, Qt::Key_Up, Qt::Key_Down}) {
            const Vec3 before = v_->camera().direction;
            QTest::keyClick(v_.get(), k);
            QVERIFY((v_->camera().direction - before).norm() > 0.05);
        }
    }
    void readingsAreShownAndPinned() {
        QTest::mouseMove(v_.get(), at(Vec3(15, 0, 10)));
        QTRY_VERIFY(v_->readingText().contains("along x 15"));
        QVERIFY(v_->readingText().contains("x 15") && v_->readingText().contains("z 10"));
        QTest::mouseMove(v_.get(), QPoint(2, 250));
        QTRY_VERIFY(v_->readingText().isEmpty());
        QSignalSpy pins(v_.get(), &View::pinsChanged);
        QTest::mouseClick(v_.get(), Qt::LeftButton, {}, at(Vec3(-10, 5, 10)));
        QTest::mouseClick(v_.get(), Qt::LeftButton, {}, at(Vec3(20, 5, 10)));
        QTest::mouseClick(v_.get(), Qt::LeftButton, {}, QPoint(3, 250));  // beside the body
        QCOMPARE(v_->pinnedCount(), 2);
        QCOMPARE(pins.count(), 2);
        QVERIFY((v_->pinnedPlaces()[0] - Vec3(-10, 5, 10)).norm() < 0.3);
        QTest::keyClick(v_.get(), Qt::Key_Escape);
        QCOMPARE(v_->pinnedCount(), 0);
    }
    /// A place tells the wall, two a distance, three angle and radius; Escape ends it.
    void measures() {
        QSignalSpy ended(v_.get(), &View::measuringEnded);
        v_->setMeasuring(true);
        auto pick = [&](const Vec3& p) { QTest::mouseClick(v_.get(), Qt::LeftButton, {}, at(p)); };
        pick(Vec3(-10, 0, 10));
        QVERIFY(v_->measuredNow().wall && std::abs(*v_->measuredNow().wall - 20) < 1e-6);
        pick(Vec3(10, 0, 10));
        const Measured two = v_->measuredNow();
        QVERIFY(two.distance && std::abs(*two.distance - 20) < 0.3 && std::abs(two.components.x() - 20) < 0.3);
        QVERIFY(two.words().contains("distance") && !two.wall && !two.angle);
        pick(Vec3(10, 10, 10));
        const Measured three = v_->measuredNow();
        QVERIFY(three.angle && std::abs(*three.angle - 90) < 2);
        QVERIFY(three.radius && std::abs(*three.radius - 0.5 * std::hypot(20, 10)) < 0.3);
        pick(Vec3(0, 0, 10));  // a fourth begins anew
        QVERIFY(v_->measuredNow().wall && !v_->measuredNow().distance);
        QCOMPARE(v_->pinnedCount(), 0);
        QTest::keyClick(v_.get(), Qt::Key_Escape);
        QVERIFY(!v_->isMeasuring() && ended.count() == 1);
        // exactly, without a mouse; on a line there is no circle
        const Measured line = measured({Vec3(0, 0, 0), Vec3(3, 4, 0), Vec3(6, 8, 0)}, {});
        QVERIFY(line.angle && std::abs(*line.angle - 180) < 1e-4 && !line.radius);
    }
    /// A label leads on; a pinned reading goes when it is clicked.
    void labelsAreClicked() {
        QSignalSpy clicked(v_.get(), &View::labelClicked);
        auto scene = std::make_shared<render::Scene>(*v_->scene());
        scene->labels = {{render::Label::Role::load, Vec3(0, 0, 10), "eye", "2 kN"}};
        v_->setScene(scene, false);
        const auto placed = render::placeLabels(scene->labels, v_->size(), v_->camera(), v_->font(),
                                                render::takenBy(*scene, v_->size(), v_->font()));
        QVERIFY(placed[0] && placed[0]->box);
        QTest::mouseClick(v_.get(), Qt::LeftButton, {}, placed[0]->box->center().toPoint());
        QCOMPARE(clicked.count(), 1);
        QCOMPARE(clicked[0][0].value<render::Label>().strong, std::string("2 kN"));
        QCOMPARE(v_->pinnedCount(), 0);
    }
    /// While the whole part is in sight it stays so; where the user has zoomed nothing moves.
    void theWholePartStaysInSight() {
        v_->fit();
        const QSize size = v_->size();
        v_->resize(size.width() / 3, size.height());
        QTest::qWait(20);
        const auto& box = v_->scene()->bounds;
        for (const Vec3& corner : {box.low, box.high}) QVERIFY(v_->rect().contains(v_->placeOf(corner).toPoint()));
        v_->zoomTo(33);
        v_->resize(size);
        QTest::qWait(20);
        QCOMPARE(v_->camera().height, 33.0);
        v_->fit();
    }
    void picksInsteadOfPinning() {
        QSignalSpy picked(v_.get(), &View::picked);
        v_->setPicking(true);
        QVERIFY(v_->cursor().shape() == Qt::CrossCursor);
        QTest::mouseClick(v_.get(), Qt::LeftButton, {}, at(Vec3(7, 3, 10)));
        QCOMPARE(picked.count(), 1);
        QVERIFY((picked[0][0].value<Vec3>() - Vec3(7, 3, 10)).norm() < 0.3);
        QVERIFY(picked[0][1].toInt() >= 0);
        QCOMPARE(v_->pinnedCount(), 0);
        v_->setPicking(false);
    }
    /// Along an axis as far as the pointer goes along its picture; across the line of sight without one.
    void handlesAreDragged() {
        QSignalSpy moved(v_.get(), &View::handleMoved);
        v_->setHandles({{10, Vec3(0, 0, 10), Vec3::Zero()}, {11, Vec3(20, 0, 10), Vec3::UnitX()}});
        const QPoint from = at(Vec3(20, 0, 10));
        const double scale = v_->camera().height / v_->height();
        drag(from, from + QPoint(40, 30));
        QVERIFY(moved.count() >= 2);
        QVERIFY(moved.back()[2].toBool() && !moved.front()[2].toBool());
        const Vec3 to = moved.back()[1].value<Vec3>();
        QVERIFY2(std::abs(to.x() - (20 + 40 * scale)) < 0.5 && std::abs(to.y()) < 1e-9,
                 qPrintable(QString::number(to.x())));
        moved.clear();
        drag(at(Vec3(0, 0, 10)), at(Vec3(0, 0, 10)) + QPoint(0, 50));
        const Vec3 free = moved.back()[1].value<Vec3>();
        QCOMPARE(moved.back()[0].toInt(), 10);
        QVERIFY(std::abs(free.x()) < 0.5 && std::abs(free.y() + 50 * scale) < 0.5);
    }
    void regionsAndClicksWhileEditing() {
        v_->setEditing(true);
        QVERIFY(v_->isEditing());
        QSignalSpy clicked(v_.get(), &View::clickedAt), drawn(v_.get(), &View::regionDrawn);
        QTest::mouseClick(v_.get(), Qt::LeftButton, Qt::ShiftModifier, middle());
        QCOMPARE(clicked.count(), 1);
        QVERIFY(clicked[0][1].value<Qt::KeyboardModifiers>() & Qt::ShiftModifier);
        drag(QPoint(100, 100), QPoint(300, 260), Qt::LeftButton, Qt::ControlModifier);
        QCOMPARE(drawn.count(), 1);
        QCOMPARE(drawn[0][0].value<QPolygonF>().boundingRect().toRect(), QRect(100, 100, 200, 160));
        drag(QPoint(100, 100), QPoint(300, 260), Qt::LeftButton, Qt::AltModifier);
        QVERIFY(drawn.count() == 2 && drawn[1][0].value<QPolygonF>().size() >= 4);
        QCOMPARE(v_->pinnedCount(), 0);
        v_->setDots({{Vec3(0, 0, 10), Vec3::UnitZ(), true}, {Vec3(0, 0, -10), -Vec3::UnitZ(), false}});
        QVERIFY(!v_->grab().toImage().isNull());
        v_->setEditing(false);
    }
    void paintingBeginsOnTheBody() {
        QSignalSpy painted(v_.get(), &View::painted);
        v_->setPainting(true);  // without editing: the drag turns the view
        const Vec3 before = v_->camera().direction;
        drag(at(Vec3(-20, 0, 10)), at(Vec3(20, 0, 10)));
        QVERIFY(painted.isEmpty() && (v_->camera().direction - before).norm() > 0.05);
        v_->look(Vec3(0, 0, -1), Vec3::UnitY());
        v_->setEditing(true);
        v_->setPainting(true);
        drag(at(Vec3(-20, 0, 10)), at(Vec3(20, 0, 10)));
        QVERIFY(painted.count() >= 4);
        QVERIFY((v_->camera().direction - Vec3(0, 0, -1)).norm() < 1e-9);
        const int count = static_cast<int>(painted.count());
        drag(QPoint(4, 250), QPoint(60, 300));  // beside it
        QCOMPARE(static_cast<int>(painted.count()), count);
        v_->setEditing(false);
    }
    /// See-through where nothing is drawn, whole where the body is.
    void picturesWithoutGround() {
        const QImage image = v_->transparentPicture(350, 250);
        QCOMPARE(qAlpha(image.pixel(175, 125)), 255);
        QVERIFY(qAlpha(image.pixel(340, 10)) < 30);
        const QImage plain = v_->picture(350, 250);
        QCOMPARE(plain.size(), QSize(350, 250));
        QVERIFY(!v_->thumbnail(66, 56).isNull());
    }
    void noticesLieOverThePicture() {
        const QImage before = v_->grab().toImage();
        v_->setNotice("◐ out of date");
        const QImage after = v_->grab().toImage();
        QVERIFY(before != after);
        v_->setNotice("");
        QCOMPARE(v_->grab().toImage(), before);
    }
    void dotsOfPlotsAreClicked() {
        PlotView p;
        p.resize(400, 220);
        QSignalSpy chosen(&p, &PlotView::chosen);
        p.setPlot(
            report::scatter("SF over mass", "mass, kg", "", {{"A", {1, 4}, true, false}, {"B", {2, 3}, true, true}}));
        QCOMPARE(p.itemCount(), 2);
        QCOMPARE(p.accessibleName(), QString("SF over mass"));
        QTest::mouseClick(&p, Qt::LeftButton, {},
                          report::placeIn(p.plot(), p.size(), p.font(), {2, 3}).toPoint() + QPoint(3, 2));
        QCOMPARE(chosen.count(), 1);
        QCOMPARE(chosen[0][0].toInt(), 1);
        QTest::mouseClick(&p, Qt::LeftButton, {}, QPoint(200, 110));  // far from either
        p.setPlot(report::curves("Mass", "variants", {{"mass", {{0, 1}, {1, 2}, {2, 1.5}}}}, {"A", "B", "C"}));
        chosen.clear();
        QTest::mouseClick(&p, Qt::LeftButton, {}, report::placeIn(p.plot(), p.size(), p.font(), {1, 1}).toPoint());
        QCOMPARE(chosen.back()[0].toInt(), 1);
        p.setPlot(report::rankedBars("Effect", {{"a", "1", 1}, {"b", "2", 2}, {"c", "3", 3}}));
        QVERIFY(p.minimumHeight() > 60);
        p.clear();
        QCOMPARE(p.itemCount(), 0);
    }
    void smallChartsDrawCurvesAndBars() {
        Chart c("residual");
        c.resize(300, 104);
        QVERIFY(c.isEmpty());
        const QImage empty = c.grab().toImage();
        c.setCurve({{1, 1e-2}, {2, 1e-5}, {3, 1e-9}}, true, 1e-8, "iterations");
        c.addPoint({4, 1e-10});
        QCOMPARE(c.pointCount(), 4);
        const QImage curve = c.grab().toImage();
        QVERIFY(curve != empty);
        auto count = [](const QImage& image, const QColor& colour) {
            int n = 0;
            for (int y = 0; y < image.height(); ++y)
                for (int x = 0; x < image.width(); ++x) n += image.pixelColor(x, y) == colour;
            return n;
        };
        QVERIFY(count(curve, theme::teal) > 30);
        c.setBars({1, 5, 2, 0}, 0, 10, 10, 30, "°");
        const QImage bars = c.grab().toImage();
        QCOMPARE(c.pointCount(), 0);
        QVERIFY(bars != empty && bars != curve);
        c.clear();
        QVERIFY(c.isEmpty());
    }
};

QTEST_MAIN(TestView)
#include "test_view.moc"

#include <QCheckBox>
#include <QComboBox>
#include <QPushButton>
#include <QStackedWidget>

#include "made_up_part.hpp"
#include "solid/build.hpp"
#include "theme/theme.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using duty::CageStep;
using project::Stage;

/// The Rebuild stage driven with mouse and keyboard in the real window: fit, pull, bridge, members, features, check.
class TestRebuildWindow : public QObject, public WindowDriver {
    Q_OBJECT

    CageEditor& editor() { return w_->cageEditor(); }
    const duty::Rebuild& rebuild() { return w_->session().recipe().rebuild; }
    void key(Qt::Key k, Qt::KeyboardModifiers m) { QTest::keyClick(w_.get(), k, m); }
    void buildSurface() {
        w_->session().run(Stage::surface);
        QVERIFY(settle());
        w_->session().edit("face size", [](project::Project& p) { p.variants[p.open].recipe.rebuild.faceSize = 6; });
        w_->dossier().openCard(Stage::rebuild);
    }
    void startEditing() {
        buildSurface();
        click("openCageTools");
        QTest::qWait(50);
        click("editCage");
        QVERIFY(settle());
        QTRY_VERIFY(editor().isOn());
        QTRY_VERIFY(editor().isSettled());
        QTest::qWait(50);
    }
    /// A face that looks to the viewer and is not hidden.
    std::int32_t faceInSight(const Vec3& towards) {
        const auto& c = editor().cage();
        std::int32_t best = -1;
        double most = -1e9;
        for (std::size_t f = 0; f < c.face.size(); ++f) {
            const auto& q = c.face[f];
            Vec3 m = Vec3::Zero();
            for (auto v : q) m += 0.25 * c.position[v];
            const Vec3 n =
                (c.position[q[2]] - c.position[q[0]]).cross(c.position[q[3]] - c.position[q[1]]).normalized();
            if (n.dot(w_->view().camera().direction) > -0.7) continue;
            if (m.dot(towards) > most) most = m.dot(towards), best = static_cast<std::int32_t>(f);
        }
        return best;
    }
    Vec3 middleOf(std::int32_t f) {
        Vec3 m = Vec3::Zero();
        for (auto v : editor().cage().face[f]) m += 0.25 * editor().cage().position[v];
        return m;
    }
    void clickPlace(const Vec3& p, Qt::KeyboardModifiers m = Qt::NoModifier) {
        QTest::mouseClick(&w_->view(), Qt::LeftButton, m, w_->view().placeOf(p).toPoint());
    }

  private slots:
    void initTestCase() { theme::apply(*qApp); }
    void init() { openLever(); }
    void cleanup() { closeWindow(); }

    void cardFitsAndRebuilds() {
        buildSurface();
        click("fitCage");
        QVERIFY(settle());
        const auto cage = w_->session().project().cage(w_->session().recipe());
        QVERIFY(cage && cage->agrees);
        QVERIFY(find<QLabel>("cageFigures")->text().contains(QString::number(cage->cage.face.size())));
        click("showCageDeviation");
        click("rebuildSolid");
        QVERIFY(settle());
        const auto solid = w_->session().project().rebuild(w_->session().recipe());
        QVERIFY(solid && solid->problems.empty());
        QVERIFY(find<QLabel>("solidFigures")->text().contains("built"));
        // a changed size makes both out of date, undo brings them back
        type(find<QLineEdit>("faceSize"), "7 mm");
        QCOMPARE(rebuild().faceSize, 7.0);
        QVERIFY(!w_->session().project().rebuild(w_->session().recipe()));
        QVERIFY(find<QLabel>("solidFigures")->text().contains("out of date"));
        w_->session().undoStack().undo();
        QVERIFY(w_->session().project().rebuild(w_->session().recipe()));
        type(find<QLineEdit>("faceSize"), "-3");
        QCOMPARE(rebuild().faceSize, 6.0);
        // a tolerance takes the place of a size; emptied it is automatic, and the fields say so with their values
        type(find<QLineEdit>("faceSize"), "6");
        QVERIFY(find<QLineEdit>("cageTolerance")->text().startsWith("not used"));
        type(find<QLineEdit>("cageTolerance"), "0.3 cm");
        QCOMPARE(rebuild().tolerance, 3.0);
        QCOMPARE(rebuild().faceSize, 0.0);
        QCOMPARE(find<QLineEdit>("faceSize")->text(), QString("automatic"));
        type(find<QLineEdit>("cageTolerance"), "");
        QCOMPARE(rebuild().tolerance, 0.0);
        QVERIFY(find<QLineEdit>("cageTolerance")->text().startsWith("automatic: "));
        type(find<QLineEdit>("cageTolerance"), "automatic: 9 mm");  // no number and no word of the field's own
        QCOMPARE(rebuild().tolerance, 0.0);
        QVERIFY(find<QLineEdit>("cageTolerance")->property("wrong").toBool());
        type(find<QLineEdit>("cageTolerance"), "automatic");
        QVERIFY(!find<QLineEdit>("cageTolerance")->property("wrong").toBool());
        type(find<QLineEdit>("faceSize"), "6");
        QCOMPARE(rebuild().faceSize, 6.0);
        // STEP is written, read back and said so in the log
        const QString path = dir_.path() + "/lever.step";
        w_->exportSolidTo(path);
        QVERIFY(settle());
        QVERIFY(w_->session().log().back().contains("read back and compared"));
        QVERIFY(solid::readStepFigures(path.toStdString()).figures.valid);
    }
    void aVertexIsPulledWithTheMouse() {
        startEditing();
        w_->view().look(Vec3(0, 1, -0.35).normalized());
        choose("cageElement", 0);
        const auto f = faceInSight(Vec3::UnitZ());
        const auto v = editor().cage().face[f][0];
        const Vec3 before = editor().cage().position[v];
        clickPlace(before);
        QCOMPARE(editor().selection().size(), std::size_t(1));
        const auto chosen = *editor().selection().begin();
        const Vec3 from = editor().cage().position[chosen];
        QVERIFY(find<QLabel>("cageState")->text().contains("1 vertex selected"));
        const QPoint at = w_->view().placeOf(from).toPoint();
        QTest::mousePress(&w_->view(), Qt::LeftButton, {}, at);
        for (int k = 1; k <= 5; ++k) QTest::mouseMove(&w_->view(), at - QPoint(0, 8 * k));
        // the cage follows while the button is down, the recipe only afterwards
        QVERIFY((editor().cage().position[chosen] - from).norm() > 1);
        QVERIFY(rebuild().steps.empty());
        QTest::mouseRelease(&w_->view(), Qt::LeftButton, {}, at - QPoint(0, 40));
        const Vec3 after = editor().cage().position[chosen];
        QVERIFY(after.z() > from.z() + 1);
        QCOMPARE(rebuild().steps.size(), std::size_t(1));
        QVERIFY(rebuild().steps[0].kind == CageStep::Kind::byHand);
        key(Qt::Key_Z, Qt::ControlModifier);
        QVERIFY((editor().cage().position[chosen] - from).norm() < 1e-9);
        QVERIFY(rebuild().steps.empty());
        key(Qt::Key_Y, Qt::ControlModifier);
        QVERIFY((editor().cage().position[chosen] - after).norm() < 1e-9);
        // typed numbers, with units
        find<QLineEdit>("cageX")->setText("1/4 in");
        click("cageApply");
        QVERIFY(std::abs(editor().cage().position[chosen].x() - after.x() - 6.35) < 1e-9);
        find<QLineEdit>("cageX")->setText("much");
        click("cageApply");
        QVERIFY(find<QLabel>("error")->isVisible());
        click("editCage");
        QVERIFY(!editor().isOn());
    }
    void selectionByBoxLassoLoopAndDeviation() {
        startEditing();
        w_->view().look(Vec3(0, 0, -1), Vec3::UnitY());
        auto& view = w_->view();
        const QPoint a(4, 4), b(view.width() - 4, view.height() - 4);
        QTest::mousePress(&view, Qt::LeftButton, Qt::ControlModifier, a);
        QTest::mouseMove(&view, (a + b) / 2);
        QTest::mouseMove(&view, b);
        QTest::mouseRelease(&view, Qt::LeftButton, Qt::ControlModifier, b);
        QCOMPARE(editor().selection().size(), editor().cage().position.size());
        click("cageNone");
        QVERIFY(editor().selection().empty());
        // lasso around the left half
        const int middle = static_cast<int>(view.placeOf(Vec3(40, 15, 7)).x());
        QTest::mousePress(&view, Qt::LeftButton, Qt::AltModifier, a);
        for (const QPoint& p : {QPoint(middle, 4), QPoint(middle, b.y()), QPoint(4, b.y())}) QTest::mouseMove(&view, p);
        QTest::mouseRelease(&view, Qt::LeftButton, Qt::AltModifier, QPoint(4, b.y()));
        QVERIFY(editor().selection().size() > 20);
        for (auto v : editor().selection()) QVERIFY(editor().cage().position[v].x() < 41);
        click("cageNone");
        choose("cageElement", 1);
        const auto f = faceInSight(Vec3::UnitX());
        for (int k = 0; k < 4 && editor().selection().empty(); ++k)  // one that no other face hides
            clickPlace(0.5 * (editor().cage().position[editor().cage().face[f][k]] +
                              editor().cage().position[editor().cage().face[f][(k + 1) % 4]]));
        QCOMPARE(editor().selection().size(), std::size_t(1));
        const auto one = editor().selection();
        click("cageRing");
        QVERIFY(editor().selection().size() > 1);
        editor().select(one);
        click("cageLoop");
        QVERIFY(!editor().selection().empty());
        choose("cageElement", 2);
        editor().select({f});
        click("cageGrow");
        QVERIFY(editor().selection().size() > 4);
        type(find<QLineEdit>("cageFar"), "0.05 mm");
        click("cageDeviating");
        const auto some = editor().selection().size();
        type(find<QLineEdit>("cageFar"), "50 mm");
        click("cageDeviating");
        QVERIFY(some > 0 && editor().selection().empty());
        find<QCheckBox>("cageShowDeviation")->click();
        QVERIFY(editor().scene()->legend.shown);
    }
    /// Two faces of the bar are bridged to a handle; every operation is one step of the history.
    void facesAreChangedAndUndone() {
        startEditing();
        choose("cageElement", 2);
        const auto count = editor().cage().face.size();
        const int genus = cage::inspect(editor().cage()).genus;
        w_->view().look(Vec3(0, 0, -1), Vec3::UnitY());
        const auto left = faceInSight(-Vec3::UnitX()), right = faceInSight(Vec3::UnitX());
        clickPlace(middleOf(left));
        clickPlace(middleOf(right), Qt::ShiftModifier);
        QCOMPARE(editor().selection().size(), std::size_t(2));
        type(find<QLineEdit>("cageSegments"), "4");
        click("cageBridge");
        QCOMPARE(editor().cage().face.size(), count - 2 + 16);
        QCOMPARE(cage::inspect(editor().cage()).genus, genus + 1);
        key(Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(editor().cage().face.size(), count);
        QCOMPARE(cage::inspect(editor().cage()).genus, genus);
        struct Step {
            const char* button;
            int faces;  // change of their count; 99: only more, -99: fewer
        };
        for (const Step& s : {Step{"cageExtrude", 4}, Step{"cageSplit", 99}, Step{"cageDelete", -1}}) {
            editor().setElement(CageEditor::Element::faces);
            editor().select({left});
            click(s.button);
            const int change = static_cast<int>(editor().cage().face.size()) - static_cast<int>(count);
            QVERIFY2(s.faces == 99 ? change > 8 : change == s.faces, s.button);
            if (QString(s.button) == "cageDelete") {
                QVERIFY(find<QLabel>("cageState")->text().contains("to repair"));
                click("cageFill");
                QCOMPARE(editor().cage().face.size(), count);
                key(Qt::Key_Z, Qt::ControlModifier);
            }
            key(Qt::Key_Z, Qt::ControlModifier);
            QCOMPARE(editor().cage().face.size(), count);
        }
        for (const char* button : {"cageRelax", "cageSnap", "cageCrease"}) {
            editor().setElement(CageEditor::Element::faces);
            editor().select({left});
            const auto before = rebuild();
            click(button);
            QVERIFY2(!(rebuild() == before), button);
            key(Qt::Key_Z, Qt::ControlModifier);
            QVERIFY2(rebuild() == before, button);
        }
        const std::size_t edges = 2 * count;  // some ways round cross themselves
        for (std::size_t n = 0; n < edges && editor().cage().face.size() == count; ++n) {
            editor().setElement(CageEditor::Element::edges);
            editor().select({cage::Connectivity(editor().cage()).edgeOfFace[n / 2][n % 2]});
            click("cageInsertLoop");
        }
        QVERIFY(editor().cage().face.size() > count);
        key(Qt::Key_Z, Qt::ControlModifier);
        // the fit goes on for the selection, the rest stays
        editor().setElement(CageEditor::Element::faces);
        editor().select({left});
        const auto elsewhere = editor().cage().face[right][0];
        const Vec3 there = editor().cage().position[elsewhere];
        editor().moveBy(Vec3(0, 0, 3));
        const Vec3 pulled = *editor().middle();
        click("cageFit");
        QVERIFY(settle());
        QVERIFY((*editor().middle() - pulled).norm() > 0.5);
        QVERIFY((editor().cage().position[elsewhere] - there).norm() < 1e-9);
        // refusals say why and change nothing
        editor().selectNone();
        const auto before = rebuild();
        for (const char* button :
             {"cageBridge", "cageInsertLoop", "cageCollapse", "cageDissolve", "cageFill", "cageLoop"}) {
            click(button);
            QVERIFY2(find<QLabel>("error")->isVisible(), button);
            QVERIFY2(rebuild() == before, button);
        }
    }
    void turningAndScaling() {
        startEditing();
        editor().setElement(CageEditor::Element::faces);
        w_->view().look(Vec3(0, 0, -1), Vec3::UnitY());
        const auto f = faceInSight(Vec3::UnitX());
        editor().select({f});
        const Vec3 at = *editor().middle();
        const auto v = editor().cage().face[f][0];
        const Vec3 from = editor().cage().position[v] - at;
        choose("cageTool", 1);
        find<QLineEdit>("cageZ")->setText("90");
        click("cageApply");
        const Vec3 turned = editor().cage().position[v] - at;
        QVERIFY((turned - Vec3(-from.y(), from.x(), from.z())).norm() < 1e-9);
        choose("cageTool", 2);
        find<QLineEdit>("cageX")->setText("2");
        click("cageApply");
        QVERIFY(std::abs((editor().cage().position[v] - at).x() - 2 * turned.x()) < 1e-9);
    }
    /// Faces are painted with the mouse, taken out again with Shift, and thickened; a box has its corners as numbers.
    void regionsArePaintedAndBoxed() {
        startEditing();
        auto& view = w_->view();
        view.look(Vec3(0, 0, -1), Vec3::UnitY());
        choose("thickenRegion", 2);
        click("addThickening");
        QVERIFY(find<QLabel>("error")->text().contains("No face is selected"));
        type(find<QLineEdit>("cageBrush"), "6 mm");
        find<QCheckBox>("cagePaint")->click();
        QVERIFY(editor().element() == CageEditor::Element::faces);
        auto drag = [&](double from, double to, Qt::KeyboardModifiers m) {
            auto at = [&](double x) { return view.placeOf(Vec3(x, 15, 15)).toPoint(); };
            QTest::mousePress(&view, Qt::LeftButton, m, at(from));
            for (int k = 1; k <= 8; ++k) QTest::mouseMove(&view, at(from + k * (to - from) / 8));
            QTest::mouseRelease(&view, Qt::LeftButton, m, at(to));
        };
        const Vec3 direction = view.camera().direction;
        drag(26, 54, {});
        QVERIFY((view.camera().direction - direction).norm() < 1e-12);  // the drag painted instead of orbiting
        const auto painted = editor().selection();
        QVERIFY2(painted.size() >= 4, qPrintable(QString::number(painted.size())));
        for (auto f : painted) {
            const Vec3 m = middleOf(f);
            QVERIFY(m.x() > 15 && m.x() < 65 && m.z() > 7);  // the side in sight
        }
        drag(26, 28, Qt::ShiftModifier);
        QVERIFY(!editor().selection().empty() && editor().selection().size() < painted.size());
        const auto count = editor().selection().size();
        click("addThickening");
        QCOMPARE(rebuild().steps.size(), std::size_t(1));
        QCOMPARE(rebuild().steps[0].thickening.painted.size(), count);
        QVERIFY(rebuild().steps[0].thickening.radius > 1);
        choose("thickenRegion", 1);
        click("addThickening");
        const auto box = rebuild().steps[1].thickening;
        QVERIFY(box.box && box.low.x() > 15 && box.high.x() < 65 && box.low.x() < box.high.x());
        // beside the body a drag still turns the view
        QTest::mousePress(&view, Qt::LeftButton, {}, QPoint(6, view.height() - 6));
        QTest::mouseMove(&view, QPoint(40, view.height() - 30));
        QTest::mouseMove(&view, QPoint(60, view.height() - 60));
        QTest::mouseRelease(&view, Qt::LeftButton, {}, QPoint(60, view.height() - 60));
        QVERIFY((view.camera().direction - direction).norm() > 0.01);
        find<QCheckBox>("cagePaint")->click();
        click("editCage");
        auto* steps = find<QTableWidget>("cageSteps");
        QCOMPARE(steps->item(0, 2)->text(), QString("%1 painted places").arg(count));
        steps->item(1, 3)->setText("64, 26, 25");
        QCOMPARE(rebuild().steps[1].thickening.high, Vec3(64, 26, 25));
        steps->item(1, 3)->setText("0, 0, 0");  // below the low corner
        QVERIFY(find<QLabel>("error")->isVisible());
        QCOMPARE(rebuild().steps[1].thickening.high, Vec3(64, 26, 25));
    }
    /// A member and a thickened region are rows with numbers.
    void membersAreRowsOfNumbers() {
        buildSurface();
        click("openCageTools");
        QTest::qWait(50);
        click("addMember");
        click("showChanges");
        auto* steps = find<QTableWidget>("cageSteps");
        QCOMPARE(steps->rowCount(), 1);
        steps->item(0, 2)->setText("22, 22, 7.5");
        steps->item(0, 3)->setText("58, 22, 7.5");
        steps->item(0, 4)->setText("4, 3.5");
        steps->item(0, 5)->setText("2 mm");
        const auto& m = rebuild().steps[0].member;
        QCOMPARE(m.to, Vec3(58, 22, 7.5));
        QCOMPARE(m.radiusFrom, 4.0);
        QCOMPARE(m.radiusTo, 3.5);
        QCOMPARE(m.blend, 2.0);
        steps->item(0, 4)->setText("wide");
        QVERIFY(find<QLabel>("error")->isVisible());
        QCOMPARE(rebuild().steps[0].member.radiusFrom, 4.0);
        click("addThickening");
        QCOMPARE(rebuild().steps.size(), std::size_t(2));
        steps->item(1, 4)->setText("0.5");
        QCOMPARE(rebuild().steps[1].thickening.amount, 0.5);
        steps->item(1, 1)->setCheckState(Qt::Unchecked);
        QVERIFY(!rebuild().steps[1].on);
        steps->setCurrentCell(1, 0);
        click("removeStep");
        QCOMPARE(rebuild().steps.size(), std::size_t(1));
        type(find<QLineEdit>("faceSize"), "4");
        click("rebuildSolid");
        QVERIFY(settle());
        QVERIFY(w_->session().project().rebuild(w_->session().recipe())->problems.empty());
    }
    /// A bore gets a countersink, a hole is added, reordered, switched off; then the check runs on the solid with one
    /// key and the shelf keeps the variant before.
    void featuresAndQuickCheck() {
        buildSurface();
        click("openFeatures");
        QTest::qWait(50);
        auto* features = find<QTableWidget>("features");
        auto* form = find<QTableWidget>("featureForm");
        int bore = -1;
        for (int r = 0; r < features->rowCount(); ++r)
            if (features->item(r, 1)->text() == "eye bore") bore = r;
        QVERIFY(bore >= 0);
        features->setCurrentCell(bore, 1);
        auto enter = [&](const QString& title, const QString& value) {
            for (int r = 0; r < form->rowCount(); ++r)
                if (form->item(r, 0)->text().startsWith(title)) {
                    form->setCurrentCell(r, 1);
                    form->item(r, 1)->setText(value);
                    return;
                }
            QFAIL(qPrintable("no entry " + title));
        };
        enter("head", "countersink");
        enter("head diameter", "10");
        QVERIFY(rebuild().ownFeatures);
        enter("head diameter", "2");  // narrower than the bore
        QVERIFY(find<QLabel>("error")->isVisible());
        find<QAction>("addFeature bore")->trigger();
        QCOMPARE(features->currentRow(), features->rowCount() - 1);
        enter("start", "40, 15, -5");
        enter("axis", "0, 0, 1");
        enter("diameter", "4");
        click("featureUp");
        QCOMPARE(features->currentRow(), features->rowCount() - 2);
        w_->session().run(Stage::rebuild);
        QVERIFY(settle());
        const auto solid = w_->session().project().rebuild(w_->session().recipe());
        QCOMPARE(solid->genus, 3);
        bool cone = false;
        for (const auto& s : solid->solid.surfaces)
            cone = cone || (s.feature == "eye bore" && s.kind == solid::SolidSurface::Kind::cone);
        QVERIFY(cone);
        QVERIFY(features->item(features->currentRow(), 2)->text().contains("✓ built"));
        const auto variants = w_->session().project().variants.size();
        key(Qt::Key_L, Qt::ControlModifier);
        QVERIFY(settle());
        auto check = w_->session().project().check(w_->session().recipe());
        QVERIFY(check && check->level == duty::Level::look);
        QVERIFY(w_->session().recipe().check.rebuilt);
        QCOMPARE(w_->session().project().variants.size(), variants);
        const double before = check->minSafetyFactor;
        // the hole made narrower: one key, a new variant with another safety factor, the old one kept
        enter("diameter", "3");
        key(Qt::Key_L, Qt::ControlModifier);
        QVERIFY(settle());
        QCOMPARE(w_->session().project().variants.size(), variants + 1);
        check = w_->session().project().check(w_->session().recipe());
        QVERIFY2(check, qPrintable(find<QLabel>("error")->text()));
        QVERIFY2(check->minSafetyFactor != before,
                 qPrintable(QString("%1 %2").arg(check->minSafetyFactor, 0, 'g', 15).arg(before, 0, 'g', 15)));
        QVERIFY(w_->session().project().check(w_->session().project().variants[0].recipe));
        features->item(features->currentRow(), 0)->setCheckState(Qt::Unchecked);
        QVERIFY(!w_->session().project().rebuild(w_->session().recipe()));
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    TestRebuildWindow test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_rebuild_window.moc"

// The demos' stories from the start page on, by mouse and keyboard: the rocker plate to a signed release, the yoke from
// its worst finding to a changed variant beside the first. Prints how many clicks and keys they take.
#include <QApplication>
#include <QTableWidget>
#include <QtTest>

#include "judge/findings.hpp"
#include "judge/releases.hpp"
#include "report/report.hpp"
#include "theme/theme.hpp"
#include "watched_application.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using project::Project;
using project::Stage;

class TestDemoStoriesWindow : public QObject, WindowDriver {
    Q_OBJECT
    int before_ = 0;
    static WatchedApplication& application() { return *static_cast<WatchedApplication*>(qApp); }
    int gestures() const { return application().gestures() - before_; }
    Session& session() { return w_->session(); }
    void key(Qt::Key k, Qt::KeyboardModifiers m = Qt::NoModifier) { QTest::keyClick(w_.get(), k, m); }
    void clickRow(const char* name, int row, Qt::KeyboardModifiers m = {}) {
        auto* t = find<QTableView>(name);
        scrollTo(t);
        const QModelIndex at = t->model()->index(row, 0);
        t->scrollTo(at);
        QTest::mouseClick(t->viewport(), Qt::LeftButton, m, t->visualRect(at).center());
    }
    void typeInto(const char* name, const QString& words) {
        auto* edit = find<QLineEdit>(name);
        scrollTo(edit);
        edit->setFocus();
        edit->selectAll();
        QTest::keyClicks(edit, words);
    }
    /// Opens a demo from the start page; larger elements keep the test short.
    void openDemo(const char* button, double elementSize) {
        emptyWindow();
        before_ = application().gestures();
        click(button);
        QVERIFY(settle());
        QVERIFY(session().hasProject());
        session().edit("Element size", [&](Project& p) { p.variants[0].recipe.elementSize = elementSize; });
    }

  private slots:
    void initTestCase() { theme::apply(*qApp); }
    void cleanup() { closeWindow(); }

    void rockerPlateToItsRelease() {
        openDemo("demo rocker-plate", 3);
        key(Qt::Key_R, Qt::ControlModifier);
        QVERIFY(settle());
        QVERIFY(session().freshness(Stage::findings) == Freshness::fresh);
        key(Qt::Key_6);
        click("testAll");
        QVERIFY(settle());
        const auto findings = judge::findingsOf(session().project(), session().recipe());
        QVERIFY(!findings.empty());
        QCOMPARE(find<QTableWidget>("findings")->currentRow(), 0);  // the first is chosen
        for (std::size_t k = 0; k < findings.size(); ++k) {         // and the list goes on by itself
            typeInto("dispositionReason", "looked at, class agreed");
            if (k == 0) typeInto("dispositionName", "A. Tester");
            QTest::keyClick(find<QLineEdit>("dispositionName"), Qt::Key_Return);
        }
        for (const auto& f : judge::findingsOf(session().project(), session().recipe()))
            QVERIFY2(judge::dispositionState(session().project(), session().variant(), f).holds, f.id.c_str());
        key(Qt::Key_7);
        QVERIFY2(find<QPushButton>("writeRelease")->isEnabled(), qPrintable(find<QLabel>("blockers")->text()));
        const QString folder = dir_.filePath("rocker");
        w_->releaseTo(folder,
                      judge::SignOff{"A. Tester", "engineer", "2026-01-01", ""});  // the folder's dialog: two more
        QVERIFY(settle());
        QCOMPARE(session().project().releases.size(), std::size_t(1));
        const int steps = gestures() + 2;
        qInfo("rocker plate, start page to release, %d finding(s): %d clicks and keys",
              static_cast<int>(findings.size()), steps);
        QVERIFY(steps <= 8 + static_cast<int>(findings.size()));
        Progress progress;
        for (const auto& item : report::verifyRelease(folder.toStdString(), false, progress))
            QVERIFY2(item.holds, (item.what + ": " + item.expected + " / " + item.found).c_str());
    }

    void yokeFromItsWorstFindingToAnotherVariant() {
        openDemo("demo tether-yoke", 6);
        key(Qt::Key_R, Qt::ControlModifier);
        QVERIFY(settle());
        key(Qt::Key_6);
        clickRow("findings", 0);
        QVERIFY(!find<QLabel>("proposals")->text().isEmpty());
        // another variant with larger blends at all four bolts
        key(Qt::Key_N, Qt::ControlModifier);
        QCOMPARE(session().project().open, std::size_t(1));
        key(Qt::Key_I, Qt::ControlModifier);
        QTRY_VERIFY(find<QTableView>("interfaceList")->isVisible());
        clickRow("interfaceList", 0);
        clickRow("interfaceList", 3, Qt::ShiftModifier);
        auto* values = find<QTableWidget>("interfaceValues");
        int row = -1;
        for (int r = 0; r < values->rowCount(); ++r)
            if (values->item(r, 0) && values->item(r, 0)->text().startsWith("Blend")) row = r;
        QVERIFY(row >= 0);
        const double old = session().part().interfaces[0].blendRadius;
        values->item(row, 1)->setText(QString::number(old + 2));  // as typed: a click, the number, Return
        for (int i = 0; i < 4; ++i)
            QVERIFY(std::abs(session().part().interfaces[static_cast<std::size_t>(i)].blendRadius - old - 2) < 1e-9);
        // checked while the first one is looked at, then side by side
        key(Qt::Key_R, Qt::ControlModifier);
        key(Qt::Key_Tab, Qt::ControlModifier);
        QCOMPARE(session().project().open, std::size_t(0));
        QVERIFY(session().isBusy());
        QVERIFY(settle());
        emit find<QLabel>("doneWords")->linkActivated(QString::number(session().project().variants[1].id));
        QCOMPARE(session().project().open, std::size_t(1));
        QVERIFY(session().freshness(Stage::check) == Freshness::fresh);
        const int steps = gestures() + 4;  // with those above that were not driven
        qInfo("yoke, start page to a second variant with other blends, checked: %d clicks and keys", steps);
        QVERIFY(steps <= 14);
    }
};

int main(int argc, char** argv) {
    return WatchedApplication::run<TestDemoStoriesWindow>(argc, argv);
}
#include "test_demo_stories_window.moc"

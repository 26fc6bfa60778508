#include <QApplication>
#include <QLabel>
#include <QTableWidget>
#include <QtTest>
#include <filesystem>

#include "judge/findings.hpp"
#include "judge/requirements.hpp"
#include "report/report.hpp"
#include "theme/theme.hpp"
#include "watched_application.hpp"
#include "widgets.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using judge::RequirementState;
using project::Stage;

/// The whole story in the real window, with mouse and keyboard: baseline, a raw variant that fails, hotspots tested, a
/// proposal applied, everything met, signed and released, and the release verified. On the made-up lever.
class TestStoryWindow : public QObject, WindowDriver {
    Q_OBJECT
    QElapsedTimer clock_, beat_;
    QTimer heart_;
    qint64 pause_ = 0;  ///< longest time in which the window did not answer, ms
    Session& session() { return w_->session(); }
    QTableWidget* list() { return find<QTableWidget>("findings"); }
    void key(Qt::Key k, Qt::KeyboardModifiers m = Qt::NoModifier) { QTest::keyClick(w_.get(), k, m); }
    /// Waits for the work that was just begun and tells how long it took.
    void finish(const char* what) {
        clock_.start();
        QVERIFY(settle());
        if (clock_.elapsed() > 1000) qInfo("%s: %.1f s", what, 1e-3 * static_cast<double>(clock_.elapsed()));
    }
    void clickCard(int index) {
        const auto cards = find<QFrame>("shelf")->findChildren<QFrame*>("card");
        QVERIFY(index < cards.size());
        QTest::mouseClick(cards[index], Qt::LeftButton, {}, QPoint(80, 20));
        finish("opening a variant");
    }
    void checkAndTest() {
        key(Qt::Key_R, Qt::ControlModifier);
        finish("check");
        key(Qt::Key_6);
        QVERIFY(session().freshness(Stage::findings) == Freshness::fresh);
        if (find<QPushButton>("testAll")->isEnabled()) {
            click("testAll");
            finish("testing all hotspots");
        }
    }
    std::vector<RequirementState> unmet() {
        std::vector<RequirementState> open;
        for (const auto& s : judge::requirementStates(session().project(), session().variant(), nullptr, nullptr))
            if (s.state != RequirementState::State::met && s.kind != duty::Requirement::Kind::findingsDisposed)
                open.push_back(s);
        return open;
    }
    /// Row of the hotspot that counts and has the smallest safety factor on its finest mesh.
    int worstRow() {
        const auto findings = judge::findingsOf(session().project(), session().recipe());
        int row = -1;
        double worst = 1e300;
        for (std::size_t i = 0; i < findings.size(); ++i) {
            const auto& f = findings[i];
            const auto verdict = f.evidence.verdict;
            if (f.kind != stages::Finding::Kind::hotspot || verdict == assess::HotspotClass::artefact ||
                verdict == assess::HotspotClass::singular)
                continue;
            const double factor =
                f.evidence.peak.empty() ? f.safetyFactor : f.safetyFactor * f.peak / f.evidence.peak.back();
            if (factor < worst) worst = factor, row = static_cast<int>(i);
        }
        return row;
    }
    /// Signs what is open; the list goes on by itself.
    void signAll() {
        if (list()->rowCount() == 0) return;
        list()->setCurrentCell(0, 0);
        for (int r = 0; r < list()->rowCount(); ++r) {
            find<QLineEdit>("dispositionReason")->setText("looked at, class agreed");
            find<QLineEdit>("dispositionName")->setText("A. Tester");
            QTest::keyClick(find<QLineEdit>("dispositionName"), Qt::Key_Return);
        }
        for (const auto& f : judge::findingsOf(session().project(), session().recipe()))
            QVERIFY2(judge::dispositionState(session().project(), session().variant(), f).holds, f.id.c_str());
    }
    void follow(const char* label, const QString& words) {
        auto* offers = find<QLabel>(label);
        const int at = offers->text().indexOf(words);
        QVERIFY2(at >= 0, qPrintable(offers->text()));
        const QString key =
            offers->text().mid(offers->text().indexOf("href", at)).section('\'', 1, 1).section('"', 0, 0);
        emit offers->linkActivated(key);
    }

  private slots:
    void initTestCase() {
        theme::apply(*qApp);
        heart_.setInterval(10);
        connect(&heart_, &QTimer::timeout, this, [this] {
            if (session().isBusy()) pause_ = std::max(pause_, beat_.restart());
            beat_.restart();
        });
    }
    void cleanup() {
        heart_.stop();
        closeWindow();
    }

    void story_data() {
        QTest::addColumn<QString>("amount");
        QTest::newRow("lever") << "1.8 mm";
    }
    void story() {
        QFETCH(QString, amount);
        auto part = made_up::leverPart();
        part["requirements"][0]["limit"] = 5;
        openLever(part);
        beat_.start();
        heart_.start();
        // the design before the optimisation is the baseline
        click("addOriginal");
        finish("original added");
        key(Qt::Key_R, Qt::ControlModifier);
        finish("baseline");
        QCOMPARE(session().project().baseline, std::size_t(1));
        const double original = session().project().check(session().recipe())->minSafetyFactor;
        clickCard(0);
        QCOMPARE(session().project().open, std::size_t(0));
        checkAndTest();
        auto failing = unmet();
        QVERIFY2(!failing.empty(), "the raw variant is to fail a requirement");
        QVERIFY(failing[0].kind == duty::Requirement::Kind::safetyFactor);
        QVERIFY(original > failing[0].limit);
        bool told = false;
        for (auto* chip : w_->findChildren<QWidget*>("requirement"))
            for (auto* l : chip->findChildren<QLabel*>()) told = told || l->text().contains("not met");
        QVERIFY(told);
        // proposals, one after the other, until everything is met
        int fixes = 0;
        while (!unmet().empty() && fixes < 3) {
            const int row = worstRow();
            QVERIFY(row >= 0);
            list()->setCurrentCell(row, 0);
            type(find<QLineEdit>("thickenAmount"), amount);
            follow("proposals", "Thicken by " + amount);
            finish("applying the proposal");
            ++fixes;
            QCOMPARE(session().project().variants.size(), std::size_t(2 + fixes));
            checkAndTest();
            QVERIFY(find<QLabel>("proposals")->text().contains("measured <b>"));
        }
        failing = unmet();
        QVERIFY2(failing.empty(), failing.empty() ? "" : failing[0].name.c_str());
        qInfo("longest pause of the window while it works: %.2f s", 1e-3 * static_cast<double>(pause_));
        qInfo("%d fix(es), safety factor %.3f, %.4f kg", fixes,
              session().project().check(session().recipe())->minSafetyFactor,
              session().project().surface(session().recipe())->mass);
        signAll();
        key(Qt::Key_7);
        QVERIFY2(find<QPushButton>("writeRelease")->isEnabled(), qPrintable(find<QLabel>("blockers")->text()));
        const QString folder = dir_.filePath("lever");
        w_->releaseTo(folder, judge::SignOff{"A. Tester", "engineer", "2026-01-01", ""});
        finish("release");
        QCOMPARE(session().project().releases.size(), std::size_t(1));
        QVERIFY(QFileInfo(folder + "/pictures/variants.png").size() > 5000);
        QFile html(folder + "/report.html");
        QVERIFY(html.open(QIODevice::ReadOnly));
        const QString report = html.readAll();
        QVERIFY(report.contains("variants.png") && report.contains("(baseline)") && report.contains("(this one)"));
        Progress progress;
        for (const auto& item : report::verifyRelease(folder.toStdString(), true, progress))
            QVERIFY2(item.holds, (item.what + ": " + item.expected + " / " + item.found).c_str());
    }
};

int main(int argc, char** argv) {
    return WatchedApplication::run<TestStoryWindow>(argc, argv);
}
#include "test_story_window.moc"

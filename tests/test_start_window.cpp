// The window before anything is open: the first minute of a new user, recent files, unsaved work.
#include <QLabel>
#include <QtTest>

#include "start/recent.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;

class TestStartWindow : public QObject, public WindowDriver {
    Q_OBJECT
  private:
    bool onStartPage() const { return find<QWidget>("startPage")->isVisible(); }
    /// The demo's field alone, in a folder of its own.
    QString fieldAlone() {
        const QString folder = dir_.filePath("incoming");
        QDir().mkpath(folder);
        const QString path = folder + "/rocker.vti";
        if (!QFile::exists(path)) QFile::copy(QString(ESCULTURA_DEMO) + "/rocker-plate.vti", path);
        return path;
    }
    void acceptField() {
        QVERIFY(settle());
        auto* dialog = w_->findChild<QDialog*>("fieldDialog");
        QVERIFY(dialog);
        QTest::mouseClick(dialog->findChild<QPushButton*>("acceptField"), Qt::LeftButton);
        QVERIFY(settle());
    }
  private slots:
    void cleanup() { closeWindow(); }
    void nothingOpenShowsWaysToBegin() {
        emptyWindow();
        QVERIFY(onStartPage());
        QVERIFY(find<QPushButton>("startField")->isVisible() && find<QPushButton>("startOpen")->isVisible());
        QVERIFY(!find<QPushButton>("startBack")->isVisible());
        QVERIFY(find<QLabel>("noRecent")->isVisible());
        for (const char* demo : {"demo rocker-plate", "demo sensor-mast-foot", "demo tether-yoke"}) {
            auto* b = find<QPushButton>(demo);
            const QRect inWindow(b->mapTo(w_.get(), QPoint(0, 0)), b->size());
            QVERIFY2(w_->rect().contains(inWindow), demo);  // nothing is cut off at 1280 x 800
            QVERIFY(!b->findChild<QLabel*>()->pixmap().isNull());
        }
        // the smallest window still reaches them all, by scrolling down only
        w_->resize(w_->minimumSize());
        auto* yoke = find<QPushButton>("demo tether-yoke");
        QVERIFY(yoke->mapTo(w_.get(), QPoint(yoke->width(), 0)).x() <= w_->width());
    }
    /// From nothing to a first picture: a field, one dialog, one button; nothing beside the field, no check by itself.
    void theFirstMinute() {
        emptyWindow();
        const QString field = fieldAlone();
        w_->open(field);
        acceptField();
        QVERIFY(!onStartPage());
        const auto& session = w_->session();
        QVERIFY(session.hasProject() && session.isModified() && session.projectPath().isEmpty());
        QVERIFY(!session.lastKnown().check && !session.isBusy());
        QVERIFY(!find<QLabel>("error")->isVisible());
        w_->dossier().openCard(project::Stage::surface);
        click("buildSurface");
        QVERIFY(settle());
        const auto surface = session.lastKnown().surface;
        QVERIFY(surface && surface->measures.watertight);
        QVERIFY(w_->view().thumbnail(60, 40).pixelColor(30, 20) != QColor());
        QCOMPARE(QDir(QFileInfo(field).path()).entryList(QDir::AllEntries | QDir::NoDotAndDotDot).size(), 1);
        // a name that a file in the folder has already is no dead end
        QFile other(QFileInfo(field).path() + "/rocker.json");
        QVERIFY(other.open(QIODevice::WriteOnly));
        other.write("{}");
        other.close();
        closeWindow();
        emptyWindow();
        w_->open(field);
        acceptField();
        QVERIFY(w_->session().hasProject() && !find<QLabel>("error")->isVisible());
        other.remove();
        // saved, it is a project like any other
        const QString path = dir_.filePath("first.escultura");
        w_->session().saveProject(path);
        QVERIFY(settle());
        QVERIFY(!w_->session().isModified());
        w_->rememberOpen(true);
        find<QAction>("actionStart")->trigger();
        QVERIFY(onStartPage());
        QVERIFY(find<QPushButton>("startBack")->isVisible());
        click("startBack");
        QVERIFY(!onStartPage());
        closeWindow();
        emptyWindow();
        click("recent 0");
        QVERIFY(settle());
        QCOMPARE(w_->session().projectPath(), path);
        QVERIFY(w_->session().project().field() && !onStartPage());
    }
    void aDemoOpensFromItsPicture() {
        emptyWindow();
        click("demo rocker-plate");
        QVERIFY(settle());
        QCOMPARE(QString::fromStdString(w_->session().project().part.name), QString("Rocker plate"));
        QVERIFY(!w_->session().lastKnown().check);  // nobody asked for one
        QVERIFY(recentFiles().first().path.endsWith("rocker-plate.json"));
        QVERIFY(
            store::unsavedWork(Session::recoveryFolder().toStdString()).empty());  // only opened: nothing to recover
    }
    /// Five steps on the smallest demo, each beside what it is about; nothing runs by itself.
    void theTourShowsWhereThingsAre() {
        emptyWindow();
        click("startTour");
        QVERIFY(settle());
        QTRY_VERIFY(w_->findChild<Tour*>("tour") && w_->findChild<Tour*>("tour")->isVisible());
        auto* tour = w_->findChild<Tour*>("tour");
        QCOMPARE(tour->last(), 4);
        for (int step = 0; step <= tour->last(); ++step) {
            QCOMPARE(tour->current(), step);
            QVERIFY(w_->rect().contains(tour->geometry()));
            QVERIFY(find<QFrame>("tourFrame")->isVisible());
            click("tourNext");
        }
        QVERIFY(!tour->isVisible() && !find<QFrame>("tourFrame")->isVisible());
        QVERIFY(!w_->session().lastKnown().check && !w_->session().isBusy());
        find<QAction>("actionTour")->trigger();  // again, and left in the middle
        QVERIFY(settle());
        QTRY_VERIFY(tour->isVisible());
        click("tourNext");
        QTest::keyClick(tour, Qt::Key_Escape);
        QVERIFY(!tour->isVisible());
    }
    /// A new part that no file ever held comes back after the process ended without closing.
    void aNewPartThatWasNotSavedIsRecovered() {
        emptyWindow();
        w_->open(fieldAlone());
        acceptField();
        w_->session().edit("Rename", [](project::Project& p) { p.variants[0].name = "Kept"; });
        w_.reset();  // gone without closing
        emptyWindow();
        QVERIFY(onStartPage());
        click("recover");
        QVERIFY(settle());
        QVERIFY(w_->session().hasProject() && !onStartPage());
        QCOMPARE(w_->session().variant().name, std::string("Kept"));
        QVERIFY(w_->session().project().field());
        w_->showStart();
        QTRY_VERIFY(!w_->findChild<QPushButton*>("recover"));
    }
    void filesThatAreGoneAndListsThatAreDamagedDoNoHarm() {
        qputenv("ESCULTURA_RECENT_FOLDER", dir_.filePath("damaged").toLocal8Bit());
        for (int i = 0; i < 10; ++i) {
            QFile f(dir_.filePath(QString("part %1.json").arg(i)));
            QVERIFY(f.open(QIODevice::WriteOnly));
            rememberRecent(f.fileName(), QString("Part %1").arg(i), QImage());
        }
        QCOMPARE(recentFiles().size(), 8);
        QCOMPARE(recentFiles().first().name, QString("Part 9"));
        QFile::remove(dir_.filePath("part 9.json"));
        QCOMPARE(recentFiles().first().name, QString("Part 8"));
        rememberRecent(dir_.filePath("part 5.json"), "Part 5", QImage());
        QCOMPARE(recentFiles().first().name, QString("Part 5"));
        QCOMPARE(recentFiles().size(), 7);
        QFile list(dir_.filePath("damaged/recent.json"));
        QVERIFY(list.open(QIODevice::WriteOnly));
        list.write("[{\"path\": 7}, \"x\", {");
        list.close();
        QVERIFY(recentFiles().isEmpty());
    }
};

QTEST_MAIN(TestStartWindow)
#include "test_start_window.moc"

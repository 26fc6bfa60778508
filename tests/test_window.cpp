#include <QApplication>
#include <QPlainTextEdit>
#include <QTableWidget>
#include <QtTest>

#include "dossier/threshold_control.hpp"
#include "made_up_part.hpp"
#include "main_window.hpp"
#include "project/run.hpp"
#include "store/storage.hpp"
#include "theme/theme.hpp"
#include "watched_application.hpp"
#include "widgets.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using project::Stage;

/// Drives the real window with mouse and keyboard on the made-up lever.
class TestWindow : public QObject, WindowDriver {
    Q_OBJECT
    static void hover(QWidget& w, const QPoint& at) {
        QMouseEvent move(QEvent::MouseMove, at, w.mapToGlobal(at), Qt::NoButton, Qt::NoButton, Qt::NoModifier);
        QApplication::sendEvent(&w, &move);
    }
    void openCoarseLever() {
        openLever();
        w_->session().edit("Element size", [](project::Project& p) { p.variants[0].recipe.elementSize = 3; });
    }
    void runAll() {
        QTest::keyClick(w_.get(), Qt::Key_5);
        click("runCheck");
        QVERIFY(settle());
        QVERIFY(w_->session().freshness(Stage::findings) == Freshness::fresh);
        QCOMPARE(w_->viewBar().options().show, report::Show::check);  // what was made is shown
    }

  private slots:
    void initTestCase() { theme::apply(*qApp); }
    void init() { openCoarseLever(); }
    void cleanup() { closeWindow(); }

    void anEmptyWindowSaysWhatToDo() {
        MainWindow empty;
        empty.show();
        QVERIFY(QTest::qWaitForWindowExposed(&empty));
        QVERIFY(!empty.session().hasProject());
        QTest::keyClick(&empty, Qt::Key_2);  // cards without a project: nothing breaks
        QTest::keyClick(&empty, Qt::Key_R, Qt::ControlModifier);
        QVERIFY(!empty.session().isBusy());
    }
    void keysOpenTheCards() {
        for (int k = 0; k < 7; ++k) {
            QTest::keyClick(w_.get(), static_cast<Qt::Key>(Qt::Key_1 + k));
            int open = 0;
            for (auto* c : w_->findChildren<Card*>()) {
                open += c->isOpen();
                if (c->isOpen()) QCOMPARE(static_cast<int>(c->stage()), k);
            }
            QCOMPARE(open, 1);
        }
    }
    /// Natural frequencies by mouse: asked for on the Check card, worked out with the check, shown and swung in the
    /// view; taken back with one undo, without touching the check.
    void modesAreAskedForAndShown() {
        QTest::keyClick(w_.get(), Qt::Key_5);
        auto* asks = find<QCheckBox>("asks natural_frequencies");
        scrollTo(asks);
        QTest::mouseClick(asks, Qt::LeftButton, {}, QPoint(8, asks->height() / 2));
        QVERIFY(asks->isChecked());
        type(find<QLineEdit>("natural_frequencies modes"), "2");
        QCOMPARE(w_->session().recipe().analyses.at(0).number("modes"), 2.0);
        auto* found = find<QLabel>("found natural_frequencies");
        QVERIFY(found->text().contains("run the check"));
        runAll();
        QVERIFY2(found->text().contains("lowest natural frequency") && found->text().contains("Hz"),
                 qPrintable(found->text()));
        QTest::qWait(50);  // laid out
        click("shows natural_frequencies");
        auto o = w_->viewBar().options();
        QCOMPARE(o.show, report::Show::analysis);
        QCOMPARE(o.analysis, std::string("natural_frequencies"));
        auto* modes = find<QComboBox>("loadCase");
        QCOMPARE(modes->count(), 3);  // two, and none chosen
        QVERIFY(modes->currentText().startsWith("mode 1"));
        choose("loadCase", 2);
        QCOMPARE(w_->viewBar().options().shapeIndex, 1);
        find<QPushButton>("animate")->click();
        QTest::qWait(300);
        QVERIFY(find<QPushButton>("animate")->isChecked());
        find<QPushButton>("animate")->click();
        // a number that none is: refused at the field, and nothing changes
        type(find<QLineEdit>("natural_frequencies modes"), "0");
        QCOMPARE(w_->session().recipe().analyses.at(0).number("modes"), 2.0);
        type(find<QLineEdit>("natural_frequencies modes"), "2.5");
        QCOMPARE(w_->session().recipe().analyses.at(0).number("modes"), 2.0);
        QTest::keyClick(w_.get(), Qt::Key_Escape);
        w_->session().undoStack().undo();
        w_->session().undoStack().undo();
        QVERIFY(w_->session().recipe().analyses.empty());
        QVERIFY(w_->session().freshness(Stage::findings) == Freshness::fresh);
        QVERIFY(w_->session().project().check(w_->session().recipe()) != nullptr);
    }
    /// At 1280 x 800 every header stays in sight, an open card's action too, and nothing of it is cut off sideways.
    void headersAndActionsStayInSight() {
        runAll();
        w_->resize(1280, 800);
        for (int s = 0; s < project::stageCount; ++s) {
            w_->dossier().openCard(static_cast<Stage>(s));
            QTest::qWait(30);
            const QRect inSight = w_->dossier().rect();
            int cards = 0;
            for (auto* card : w_->dossier().findChildren<Card*>()) {
                ++cards;
                QVERIFY2(inSight.contains(card->geometry()), qPrintable(card->accessibleName()));
                if (!card->isOpen()) {
                    QVERIFY(card->height() < 40);
                    continue;
                }
                auto* area = card->findChild<QScrollArea*>("cardScroll");
                QVERIFY(area->height() > 150);
                QVERIFY2(area->widget()->width() <= area->viewport()->width(),
                         qPrintable(QString("%1: %2 of %3")
                                        .arg(card->accessibleName())
                                        .arg(area->widget()->width())
                                        .arg(area->viewport()->width())));
                for (auto* b : card->findChildren<QPushButton*>())
                    if (b->property("primary").toBool() && b->isVisible())
                        QVERIFY2(card->rect().contains(QRect(b->mapTo(card, QPoint(0, 0)), b->size())),
                                 qPrintable(b->text()));
            }
            QCOMPARE(cards, static_cast<int>(project::stageCount));
        }
    }
    void draggingTheThresholdUpdatesTheFigures() {
        QTest::keyClick(w_.get(), Qt::Key_2);
        auto* control = find<ThresholdControl>("threshold");
        auto* figures = find<QLabel>("fieldFigures");
        const QString before = figures->text();
        const int y = control->height() / 2;
        auto at = [&](double t) { return QPoint(static_cast<int>(8 + t * (control->width() - 16)), y); };
        QTest::mousePress(control, Qt::LeftButton, {}, at(0.5));
        for (double t : {0.55, 0.65, 0.75, 0.85}) QTest::mouseMove(control, at(t));
        QMouseEvent move(QEvent::MouseMove, at(0.85), control->mapToGlobal(at(0.85)), Qt::NoButton, Qt::LeftButton,
                         Qt::NoModifier);
        QApplication::sendEvent(control, &move);
        QTest::mouseRelease(control, Qt::LeftButton, {}, at(0.85));
        QVERIFY(std::abs(w_->session().recipe().threshold - 0.85) < 0.02);
        QVERIFY(figures->text() != before);
        QVERIFY(find<QLabel>("fieldInterfaces")->text().contains("cut off"));  // the bar is 0.6 in the middle
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);             // the whole drag is one step
        QCOMPARE(w_->session().recipe().threshold, 0.5);
        QCOMPARE(figures->text(), before);
    }
    void runsUndoesAndStaysFresh() {
        runAll();
        const auto check = w_->session().project().check(w_->session().recipe());
        QVERIFY(check);
        QCOMPARE(find<QTableWidget>("checkCases")->rowCount(), 2);
        QTest::keyClick(w_.get(), Qt::Key_2);
        type(find<QLineEdit>("thresholdEdit"), "0.4");
        for (Stage s : {Stage::surface, Stage::check, Stage::findings, Stage::release})
            QCOMPARE(w_->session().freshness(s), Freshness::outOfDate);
        bool said = false;
        for (auto* b : w_->findChildren<QPushButton*>("requirement"))
            said = said || b->accessibleName().contains("out of date");
        QVERIFY(said);
        w_->setFocus();
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        for (Stage s : {Stage::surface, Stage::check, Stage::findings})
            QCOMPARE(w_->session().freshness(s), Freshness::fresh);
        QCOMPARE(w_->session().project().check(w_->session().recipe()).get(),
                 check.get());  // nothing was computed again
        QVERIFY(!w_->session().isBusy());
    }
    void cancelKeepsTheOldResult() {
        runAll();
        const auto old = w_->session().project().check(w_->session().recipe());
        QTest::keyClick(w_.get(), Qt::Key_5);
        type(find<QLineEdit>("elementSize"), "2");
        QTest::mouseClick(find<QPushButton>("runCheck"), Qt::LeftButton);
        QVERIFY(w_->session().isBusy());
        QVERIFY(find<QFrame>("progress")->isVisible());
        QTest::mouseClick(find<QPushButton>("cancel"), Qt::LeftButton);
        QVERIFY(settle());
        QCOMPARE(w_->session().freshness(Stage::check), Freshness::outOfDate);
        QCOMPARE(w_->session().lastKnown().check.get(), old.get());
        QVERIFY(w_->session().log().join("\n").contains("cancelled"));
    }
    void numbersTakeUnitsAndRefuseNonsense() {
        QTest::keyClick(w_.get(), Qt::Key_3);
        auto* smoothing = find<QLineEdit>("smoothing");
        type(smoothing, "1/8 in");
        QCOMPARE(w_->session().recipe().smoothing, 3.175);
        type(smoothing, "fast");
        QCOMPARE(w_->session().recipe().smoothing, 3.175);
        QVERIFY(smoothing->property("wrong").toBool());
        type(smoothing, "-4");
        QVERIFY(smoothing->property("wrong").toBool());
        type(smoothing, "6 mm");
        QVERIFY(!smoothing->property("wrong").toBool());
        QCOMPARE(w_->session().recipe().smoothing, 6.0);
    }
    void signsDispositionsUntilTheReleaseOpens() {
        runAll();
        w_->session().setTestsByItself(true);  // untested hotspots stand in the way
        QVERIFY(QTest::qWaitFor([&] { return !w_->session().isTesting(); }, 300000));
        QTest::keyClick(w_.get(), Qt::Key_6);
        auto* list = find<QTableWidget>("findings");
        QVERIFY(list->rowCount() > 0);
        const int rows = list->rowCount();
        for (int r = 0; r < rows; ++r) {
            list->setCurrentCell(r, 0);
            click("signDisposition");  // without a reason: refused
            QVERIFY(static_cast<int>(w_->session().variant().dispositions.size()) == r);
            find<QLineEdit>("dispositionReason")->setFocus();
            QTest::keyClicks(find<QLineEdit>("dispositionReason"), "Contact pressure of the pin");
            if (r == 0) QTest::keyClicks(find<QLineEdit>("dispositionName"), "A. Tester");
            click("signDisposition");
            QCOMPARE(static_cast<int>(w_->session().variant().dispositions.size()), r + 1);
        }
        QTest::keyClick(w_.get(), Qt::Key_7, Qt::NoModifier);
        w_->dossier().openCard(Stage::release);
        QVERIFY(find<QPushButton>("writeRelease")->isEnabled());
        QVERIFY(find<QLabel>("blockers")->text().contains("Open"));
        w_->releaseTo(dir_.path() + "/release");
        QVERIFY(settle());
        QVERIFY2(!find<QLabel>("error")->isVisible(), qPrintable(find<QLabel>("error")->text()));
        for (const char* f : {"report.pdf", "summary.json", "manifest.json", "pictures/case-1.png"})
            QVERIFY2(QFileInfo(dir_.path() + "/release/" + f).size() > 500, f);
        QFile summary(dir_.path() + "/release/summary.json");
        QVERIFY(summary.open(QIODevice::ReadOnly));
        const auto j = nlohmann::json::parse(summary.readAll().toStdString());
        QVERIFY(j["release"]["open"] == true);
        QCOMPARE(j["findings"][0]["disposition"]["by"].get<std::string>(), std::string("A. Tester"));
        w_->view().fit();  // the window's own drawing goes on
        QVERIFY(!w_->view().grab().toImage().isNull());
        w_->setFocus();
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);  // the last signature goes
        QVERIFY(!find<QPushButton>("writeRelease")->isEnabled());
    }
    void makesAndOpensVariantsInTurn() {
        runAll();
        click("newVariant");
        QCOMPARE(w_->session().project().variants.size(), std::size_t(2));
        QCOMPARE(w_->session().project().open, std::size_t(1));
        QCOMPARE(w_->session().freshness(Stage::check), Freshness::fresh);  // same recipe, same results
        QTest::keyClick(w_.get(), Qt::Key_2);
        type(find<QLineEdit>("thresholdEdit"), "0.3");
        QCOMPARE(w_->session().freshness(Stage::check), Freshness::outOfDate);
        QTest::qWait(100);  // the shelf lays out its new cards
        for (auto* f : w_->findChildren<QFrame*>("card"))
            if (f->property("variant").isValid() && f->property("variant").toInt() == 0 && f->isVisible()) {
                QTest::mouseClick(f, Qt::LeftButton);
                break;
            }
        QCOMPARE(w_->session().project().open, std::size_t(0));
        QCOMPARE(w_->session().freshness(Stage::check), Freshness::fresh);
        QCOMPARE(w_->session().recipe().threshold, 0.5);
    }
    /// Two checks asked for one after the other: one runs, one waits; what ends out of sight is told and can be opened.
    void checksOfSeveralVariantsWait() {
        click("newVariant");
        QTest::keyClick(w_.get(), Qt::Key_2);
        type(find<QLineEdit>("thresholdEdit"), "0.46");
        QTest::keyClick(w_.get(), Qt::Key_B, Qt::ControlModifier);
        QVERIFY(find<QFrame>("progress")->isVisible());
        QTest::keyClick(w_.get(), Qt::Key_Tab, Qt::ControlModifier);
        QCOMPARE(w_->session().project().open, std::size_t(0));
        QVERIFY(!find<QWidget>("doneRow")->isVisible());
        QTest::keyClick(w_.get(), Qt::Key_B, Qt::ControlModifier);
        QCOMPARE(w_->findChildren<QWidget*>("waitingRow").size(), 1);
        QVERIFY(find<QLabel>("progressWords")->text().contains("of B"));
        click("takeBack");
        QVERIFY(w_->session().waiting().empty());
        QTest::keyClick(w_.get(), Qt::Key_B, Qt::ControlModifier);
        QVERIFY(settle());
        QVERIFY(find<QWidget>("doneRow")->isVisible());
        QVERIFY(find<QLabel>("doneWords")->text().contains("of B done"));
        emit find<QLabel>("doneWords")->linkActivated(QString::number(w_->session().project().variants[1].id));
        QCOMPARE(w_->session().project().open, std::size_t(1));
        QVERIFY(!find<QWidget>("doneRow")->isVisible());
        QVERIFY(w_->session().freshness(0, Stage::surface) == Freshness::fresh);
        QVERIFY(w_->session().freshness(1, Stage::surface) == Freshness::fresh);
    }
    void readsTheValueUnderThePointer() {
        runAll();
        w_->viewBar().setShow(report::Show::check);
        emit w_->viewBar().changed();
        w_->view().look(Vec3(0, 0, -1), Vec3::UnitY());
        View& v = w_->view();
        const QPoint middle(v.width() / 2, v.height() / 2);  // the bar's middle
        QVERIFY(v.scene());                                  // nothing is read before it is there
        hover(v, middle);
        QVERIFY2(v.readingText().contains("von Mises"), qPrintable(v.readingText()));
        QVERIFY(v.readingText().contains("MPa"));
        QTest::mouseClick(&v, Qt::LeftButton, {}, middle);
        QCOMPARE(v.pinnedCount(), 1);
        hover(v, QPoint(6, 6));  // beside the part
        QVERIFY2(v.readingText().isEmpty(), qPrintable(v.readingText()));
        v.setFocus();
        QTest::keyClick(&v, Qt::Key_Escape);
        QCOMPARE(v.pinnedCount(), 0);
    }
    void draggingTurnsTheView() {
        View& v = w_->view();
        const QImage before = v.grab().toImage();
        QTest::mousePress(&v, Qt::LeftButton, {}, QPoint(300, 300));
        QMouseEvent move(QEvent::MouseMove, QPointF(380, 330), v.mapToGlobal(QPointF(380, 330)), Qt::NoButton,
                         Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(&v, &move);
        QTest::mouseRelease(&v, Qt::LeftButton, {}, QPoint(380, 330));
        QVERIFY(v.grab().toImage() != before);
    }
    void savesAndOpensTheProject() {
        runAll();
        QTest::keyClick(w_.get(), Qt::Key_5);
        auto* reason = find<QPlainTextEdit>("reason5");
        reason->setFocus();
        QTest::keyClicks(reason, "coarse is enough here");
        find<QTableWidget>("checkCases")->setFocus();
        QCOMPARE(w_->session().variant().reasons.at(4), std::string("coarse is enough here"));
        const QString path = dir_.path() + "/lever.escultura";
        w_->session().saveProject(path);
        QVERIFY(settle());
        QVERIFY(!w_->session().isModified());
        w_->open(path);
        QVERIFY(settle());
        QCOMPARE(w_->session().freshness(Stage::findings), Freshness::fresh);
        QCOMPARE(w_->session().variant().reasons.at(4), std::string("coarse is enough here"));
        QCOMPARE(find<QPlainTextEdit>("reason5")->toPlainText(), "coarse is enough here");
    }
    void errorsAreShownAndNothingIsLost() {
        runAll();
        const auto check = w_->session().project().check(w_->session().recipe());
        std::ofstream((dir_.path() + "/bad.json").toStdString()) << "{ \"format\": 1 }";
        w_->session().openPart(dir_.path() + "/bad.json");
        QVERIFY(settle());
        QVERIFY(find<QLabel>("error")->isVisible());
        QVERIFY(find<QLabel>("error")->text().contains("bad.json"));
        QCOMPARE(w_->session().project().check(w_->session().recipe()).get(), check.get());
    }
    void reloadingThePartKeepsVariantsAndWhatIsStillTrue() {
        runAll();
        click("newVariant");
        const auto check = w_->session().project().check(w_->session().recipe());
        auto reload = [&](const std::function<void(nlohmann::json&)>& change) {
            auto part = made_up::leverPart();
            change(part);
            made_up::writeLever(dir_.path().toStdString(), part);
            find<QAction>("actionReload")->trigger();
            QVERIFY(settle());
        };
        reload([](nlohmann::json& p) { p["requirements"][0]["limit"] = 1e4; });
        QCOMPARE(w_->session().project().variants.size(), std::size_t(2));
        QCOMPARE(w_->session().freshness(Stage::check), Freshness::fresh);  // a limit changes no stress
        bool notMet = false;
        for (auto* b : w_->findChildren<QPushButton*>("requirement"))
            notMet = notMet || b->accessibleName().contains("not met");
        QVERIFY(notMet);
        reload([](nlohmann::json& p) {
            p["load_cases"].erase(1);
            p["material"]["youngs_modulus"] = "70 GPa";
        });
        QCOMPARE(w_->session().freshness(Stage::surface), Freshness::fresh);
        QCOMPARE(w_->session().freshness(Stage::check), Freshness::outOfDate);
        reload([](nlohmann::json& p) { p["interfaces"][0]["bore_diameter"] = 7; });
        QCOMPARE(w_->session().freshness(Stage::surface), Freshness::outOfDate);
        reload([](nlohmann::json&) {});
        QCOMPARE(w_->session().freshness(Stage::check), Freshness::fresh);  // the old part: the old results
        QCOMPARE(w_->session().project().check(w_->session().recipe()).get(), check.get());
    }
    void theDrawerListsResultants() {
        runAll();
        QTest::keyClick(w_.get(), Qt::Key_5);
        QTest::keyClick(w_.get(), Qt::Key_D, Qt::ControlModifier);
        auto* t = find<QTableWidget>("drawerResultants");
        QVERIFY(find<Drawer>("drawer")->isVisible());
        QCOMPARE(t->rowCount(), 2 * 4);  // meant, applied, one reaction, their sum
        QCOMPARE(t->item(0, 4)->text().toDouble(), -500.0);
        QVERIFY(tableAsCsv(t).contains("down,all (about the origin),stated,0,-500.00,0"));
    }
    void findsActionsByName() {
        QTest::keyClick(w_.get(), Qt::Key_K, Qt::ControlModifier);
        auto* finder = find<QLineEdit>("finder");
        QTRY_VERIFY(finder->hasFocus());
        QTest::keyClicks(finder, "Tables of the card");
        QTest::keyClick(finder, Qt::Key_Return);
        QTRY_VERIFY(find<Drawer>("drawer")->isVisible());
    }
    /// A card's tables alone, those it was left with; variants, studies, history and log on request.
    void theDrawerFollowsTheCard() {
        auto& drawer = w_->drawer();
        auto offered = [&] {
            int n = 0;
            for (int t = 0; t < drawer.count(); ++t) n += drawer.isTabVisible(t);
            return n;
        };
        QTest::keyClick(w_.get(), Qt::Key_5);
        QVERIFY(!drawer.isVisible());
        w_->openTable(Table::worstElements);
        QVERIFY(drawer.isVisible() && drawer.offers(Table::reactions) && !drawer.offers(Table::findings));
        QCOMPARE(offered(), 3);
        QTest::keyClick(w_.get(), Qt::Key_1);
        QVERIFY(!drawer.isVisible());  // closed as it was left there
        QTest::keyClick(w_.get(), Qt::Key_D, Qt::ControlModifier);
        QVERIFY(drawer.isVisible() && drawer.offers(Table::loads) && !drawer.offers(Table::reactions));
        QCOMPARE(find<QTableWidget>("interfaceTable")->rowCount(), 2);
        QTest::keyClick(w_.get(), Qt::Key_L, Qt::ControlModifier | Qt::ShiftModifier);
        QCOMPARE(drawer.current(), Table::log);
        QCOMPARE(offered(), 4);
        QTest::keyClick(w_.get(), Qt::Key_5);
        QVERIFY(drawer.isVisible() && drawer.offers(Table::log));
        QCOMPARE(drawer.current(), Table::worstElements);
        emit drawer.tabCloseRequested(static_cast<int>(Table::log));
        QCOMPARE(offered(), 3);
        // out into a window of its own, and back by closing that
        QTest::mouseClick(find<QToolButton>("detachDrawer"), Qt::LeftButton);
        QVERIFY(drawer.isWindow() && drawer.isVisible());
        drawer.close();
        QVERIFY(!drawer.isWindow() && drawer.isVisible());
        QTest::mouseClick(find<QToolButton>("closeDrawer"), Qt::LeftButton);
        QVERIFY(!drawer.isVisible() && !find<QPushButton>("drawerButton")->isChecked());
    }
    /// What is out of date says since when; a label leads to where it comes from.
    void outOfDateSaysSinceWhat() {
        runAll();
        w_->session().edit("Smoothing", [](project::Project& p) { p.variants[p.open].recipe.smoothing *= 1.1; });
        QCOMPARE(w_->session().changedSince(Stage::surface), QString("smoothing changed"));
        w_->session().edit("Threshold", [](project::Project& p) { p.variants[p.open].recipe.threshold += 0.01; });
        QVERIFY(w_->session().changedSince(Stage::check).endsWith("and 1 more changed"));
        w_->session().undoStack().undo();
        w_->session().undoStack().undo();
        // run again with another recipe: it is since that one, not since the first
        w_->session().edit("Smoothing", [](project::Project& p) { p.variants[p.open].recipe.smoothing *= 1.2; });
        w_->session().run(Stage::surface);
        QVERIFY(settle());
        w_->session().editPart("Bore", [](const std::string& text) {
            auto part = nlohmann::json::parse(text);
            part["interfaces"][0]["bore_diameter"] = 7;
            return part.dump();
        });
        QCOMPARE(w_->session().changedSince(Stage::surface), QString("the part changed"));
        w_->session().undoStack().undo();
        w_->session().undoStack().undo();
        QVERIFY(settle());
        w_->dossier().openCard(Stage::check);
        emit w_->view().labelClicked({render::Label::Role::load, Vec3::Zero(), "eye", "1 kN"});
        QCOMPARE(w_->tools().current(), Tool::loads);
        // a variant says what it has otherwise than the one it came from
        QTest::keyClick(w_.get(), Qt::Key_N, Qt::ControlModifier);
        w_->session().edit("Threshold", [](project::Project& p) { p.variants[p.open].recipe.threshold = 0.31; });
        QTest::qWait(30);
        QString said;
        for (auto* l : find<QFrame>("shelf")->findChildren<QLabel*>())
            if (l->text().contains("<b>B</b>")) said = l->text();
        QVERIFY2(said.contains("threshold 0.31"), qPrintable(said));
    }
    /// While geometry is edited the view keeps 60 % of the window's height, with the tables open too.
    void toolsLeaveTheViewItsRoom() {
        for (const QSize size : {QSize(1280, 800), QSize(1100, 700), QSize(1920, 1080)}) {
            w_->resize(size);
            for (const Tool tool : {Tool::interfaces, Tool::loads, Tool::cage, Tool::features}) {
                w_->openTool(tool);
                QCOMPARE(w_->tools().current(), tool);
                QTest::qWait(60);
                find<QPushButton>("drawerButton")->setChecked(true);
                QTest::qWait(60);
                QVERIFY2(w_->view().height() >= 0.6 * w_->height(),
                         qPrintable(QString("%1 of %2").arg(w_->view().height()).arg(w_->height())));
                QVERIFY(w_->view().width() >= 340);
                for (auto* area : w_->tools().findChildren<QScrollArea*>())
                    if (area->isVisible() && area->objectName().endsWith("Sheet"))
                        QVERIFY2(area->widget()->width() <= area->viewport()->width(), qPrintable(area->objectName()));
            }
        }
        QTest::keyClick(&w_->tools(), Qt::Key_Escape);
        QCOMPARE(w_->tools().current(), Tool::none);
        w_->openTool(Tool::loads);
        QTest::keyClick(w_.get(), Qt::Key_5);  // a card without tools
        QVERIFY(!w_->tools().isVisible() && w_->tools().current() == Tool::none);
    }
};

int main(int argc, char** argv) {
    return WatchedApplication::run<TestWindow>(argc, argv);
}
#include "test_window.moc"

/// How long the window does not answer, action by action: the longest single event that each causes on the interface
/// thread. Work itself runs beside it and does not count.

#include <QAction>
#include <QApplication>
#include <QComboBox>
#include <QPushButton>
#include <QSlider>
#include <QTableWidget>
#include <QTemporaryDir>
#include <QtTest>
#include <algorithm>
#include <cstdio>

#include "dossier/threshold_control.hpp"
#include "main_window.hpp"
#include "theme/theme.hpp"
#include "watched_application.hpp"

namespace {

using namespace escultura;
using namespace escultura::app;
using project::Stage;

struct Stall {
    QString action;
    double time;  ///< ms
    std::string what;
};

void settle(MainWindow& w) {
    QElapsedTimer clock;
    clock.start();
    do {
        QTest::qWait(30);
    } while ((w.session().isBusy() || !w.session().hasProject()) && clock.elapsed() < 600000);
    QTest::qWait(300);
}

/// Drives the window and notes each action's longest event.
class Driver {
  public:
    Driver(WatchedApplication& application, MainWindow& w) : application_(application), w_(w) {}

    void results(const QString& path) {
        act("open the part", [&] { w_.open(path); });
        act("build the surface", [&] { w_.session().run(Stage::surface); });
        act("run the check", [&] { w_.session().run(Stage::findings); });
        for (int s = 0; s < project::stageCount; ++s)
            act(QString("open card %1").arg(s + 1), [&] { key(static_cast<Qt::Key>(Qt::Key_1 + s)); });
        for (const auto& [show, words] : std::initializer_list<std::pair<report::Show, const char*>>{
                 {report::Show::duty, "show the duty"},
                 {report::Show::field, "show the cells"},
                 {report::Show::surface, "show the surface"},
                 {report::Show::deviation, "show the deviation"},
                 {report::Show::thickness, "show the wall thickness"},
                 {report::Show::curvature, "show the curvature"},
                 {report::Show::overhang, "show the overhangs"},
                 {report::Show::mesh, "show the mesh"},
                 {report::Show::check, "show the results"}})
            act(words, [&] {
                w_.viewBar().setShow(show);
                emit w_.viewBar().changed();
            });
    }
    void theView() {
        act("choose a load case", [&] {
            w_.viewBar().setLoadCase(1);
            emit w_.viewBar().changed();
        });
        act("choose a quantity", [&] {
            w_.viewBar().setQuantity(report::Quantity::safetyFactor);
            emit w_.viewBar().changed();
        });
        act("turn the view", [&] { QTest::keyClick(&w_.view(), Qt::Key_Left); });
        act("point at the part", [&] { QTest::mouseMove(&w_.view(), w_.view().rect().center()); });
        act("pin a reading", [&] { QTest::mouseClick(&w_.view(), Qt::LeftButton, {}, w_.view().rect().center()); });
    }
    void theRest() {
        for (const auto& [table, words] :
             std::initializer_list<std::pair<Table, const char*>>{{Table::findings, "table of findings"},
                                                                  {Table::variants, "table of variants"},
                                                                  {Table::history, "history"}})
            act(words, [&] { w_.openTable(table); });
        act("choose a finding", [&] {
            key(Qt::Key_6);
            w_.findChild<QTableWidget*>("findings")->setCurrentCell(0, 0);
        });
        for (const auto& [tool, words] : std::initializer_list<std::pair<Tool, const char*>>{
                 {Tool::interfaces, "tool interfaces"}, {Tool::loads, "tool loads"}, {Tool::features, "tool features"}})
            act(words, [&] { w_.openTool(tool); });
        act("new variant", [&] { key(Qt::Key_N, Qt::ControlModifier); });
        act("change the threshold", [&] {
            key(Qt::Key_2);
            w_.session().edit("Threshold", [](project::Project& p) { p.variants[p.open].recipe.threshold = 0.45; });
        });
        act("undo", [&] { w_.session().undoStack().undo(); });
        act("open another variant", [&] { key(Qt::Key_Tab, Qt::ControlModifier); });
        act("dark theme", [&] { w_.setLooks(true, 100); });
        act("larger words", [&] { w_.setLooks(true, 125); });
        act("words as they were", [&] { w_.setLooks(true, 100); });
        act("turn with the mouse", [&] {
            const QPoint from = w_.view().rect().center();
            QTest::mousePress(&w_.view(), Qt::LeftButton, {}, from);
            for (int k = 1; k < 30; ++k) QTest::mouseMove(&w_.view(), from + QPoint(4 * k, 2 * k), 5);
            QTest::mouseRelease(&w_.view(), Qt::LeftButton, {}, from + QPoint(120, 60));
        });
        act("larger window", [&] { w_.resize(1380, 860); });
        act("interfaces again", [&] { w_.openTool(Tool::interfaces); });
        act("choose its row", [&] { w_.findChild<QTableWidget*>("interfaceTable")->setCurrentCell(0, 0); });
        act("type an interface's number", [&] {
            auto* values = w_.findChild<QTableWidget*>("interfaceValues");
            for (int r = 0; r < values->rowCount(); ++r)
                if (auto* item = values->item(r, 1); item && item->text().toDouble() > 1) {
                    item->setText(QString::number(1.01 * item->text().toDouble()));
                    break;
                }
        });
        act("start page", [&] { w_.showStart(); });
        act("save the project", [&] { w_.session().saveProject(own_.filePath("part.escultura")); });
    }
    void print() {
        std::sort(stalls_.begin(), stalls_.end(), [](const Stall& a, const Stall& b) { return a.time > b.time; });
        std::printf("%-28s longest event, ms\n", "action");
        for (const Stall& s : stalls_) std::printf("%-28s %8.0f  %s\n", qPrintable(s.action), s.time, s.what.c_str());
    }

  private:
    /// What is called here stands for an event of its own, whose time counts too.
    void act(const QString& action, const std::function<void()>& what) {
        application_.forget();
        QElapsedTimer clock;
        clock.start();
        what();
        const double direct = 1e-6 * static_cast<double>(clock.nsecsElapsed());
        settle(w_);
        const bool within = direct > application_.longest();
        stalls_.push_back(
            {action, within ? direct : application_.longest(),
             within || application_.worst().empty() ? "the action itself" : application_.worst().front().what});
    }
    void key(Qt::Key k, Qt::KeyboardModifiers m = Qt::NoModifier) { QTest::keyClick(&w_, k, m); }

    WatchedApplication& application_;
    MainWindow& w_;
    const QTemporaryDir own_;
    std::vector<Stall> stalls_;
};

}  // namespace

int main(int argc, char** argv) {
    const QTemporaryDir own;
    qputenv("ESCULTURA_RECENT_FOLDER", own.filePath("recent").toLocal8Bit());
    qputenv("ESCULTURA_RECOVERY_FOLDER", own.filePath("recovery").toLocal8Bit());
    qputenv("ESCULTURA_AUTOMATIC_TESTS", "0");
    WatchedApplication application(argc, argv);
    theme::apply(application);
    MainWindow w;
    w.setProperty("neverAsk", true);
    w.show();
    w.activateWindow();
    if (!QTest::qWaitForWindowActive(&w)) std::fprintf(stderr, "the window does not become active\n");
    Driver driver(application, w);
    driver.results(argc > 1 ? argv[1] : QString(ESCULTURA_DEMO_FOLDER) + "/tether-yoke.json");
    driver.theView();
    driver.theRest();
    w.close();
    driver.print();
    return 0;
}

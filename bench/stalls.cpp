/// How long the window does not answer, action by action: the longest single event that each causes on the interface
/// thread. Work itself runs beside it and does not count.

#include <QAction>
#include <QApplication>
#include <QComboBox>
#include <QElapsedTimer>
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

namespace {

using namespace escultura;
using namespace escultura::app;
using project::Stage;

/// Times each event that is handled from the loop, not those within others.
class TimedApplication : public QApplication {
  public:
    using QApplication::QApplication;
    bool notify(QObject* receiver, QEvent* event) override {
        if (depth_++ > 0) {
            const bool done = QApplication::notify(receiver, event);
            --depth_;
            return done;
        }
        QElapsedTimer clock;
        clock.start();
        const bool done = QApplication::notify(receiver, event);
        --depth_;
        longest = std::max(longest, 1e-6 * static_cast<double>(clock.nsecsElapsed()));
        return done;
    }
    double longest = 0;  ///< ms

  private:
    int depth_ = 0;
};

struct Stall {
    QString action;
    double time;  ///< ms
};

void settle(MainWindow& w) {
    QElapsedTimer clock;
    clock.start();
    do {
        QTest::qWait(30);
    } while ((w.session().isBusy() || !w.session().hasProject()) && clock.elapsed() < 600000);
    QTest::qWait(300);
}

}  // namespace

int main(int argc, char** argv) {
    const QTemporaryDir own;
    qputenv("ESCULTURA_RECENT_FOLDER", own.filePath("recent").toLocal8Bit());
    qputenv("ESCULTURA_RECOVERY_FOLDER", own.filePath("recovery").toLocal8Bit());
    qputenv("ESCULTURA_AUTOMATIC_TESTS", "0");
    TimedApplication application(argc, argv);
    theme::apply(application);
    const QString path = argc > 1 ? argv[1] : QString(ESCULTURA_DEMO_FOLDER) + "/tether-yoke.json";
    MainWindow w;
    w.setProperty("neverAsk", true);
    w.show();
    std::vector<Stall> stalls;
    // what is called here stands for an event of its own, whose time counts too
    auto act = [&](const QString& action, const std::function<void()>& what) {
        application.longest = 0;
        QElapsedTimer clock;
        clock.start();
        what();
        const double direct = 1e-6 * static_cast<double>(clock.nsecsElapsed());
        settle(w);
        stalls.push_back({action, std::max(direct, application.longest)});
    };
    auto key = [&](Qt::Key k, Qt::KeyboardModifiers m = Qt::NoModifier) { QTest::keyClick(&w, k, m); };
    act("open the part", [&] { w.open(path); });
    act("build the surface", [&] { w.session().run(Stage::surface); });
    act("run the check", [&] { w.session().run(Stage::findings); });
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
            w.viewBar().setShow(show);
            emit w.viewBar().changed();
        });
    act("choose a load case", [&] {
        w.viewBar().setLoadCase(1);
        emit w.viewBar().changed();
    });
    act("choose a quantity", [&] {
        w.viewBar().setQuantity(report::Quantity::safetyFactor);
        emit w.viewBar().changed();
    });
    act("turn the view", [&] { QTest::keyClick(&w.view(), Qt::Key_Left); });
    act("point at the part", [&] { QTest::mouseMove(&w.view(), w.view().rect().center()); });
    act("pin a reading", [&] { QTest::mouseClick(&w.view(), Qt::LeftButton, {}, w.view().rect().center()); });
    for (const auto& [table, words] :
         std::initializer_list<std::pair<Table, const char*>>{{Table::findings, "table of findings"},
                                                              {Table::variants, "table of variants"},
                                                              {Table::history, "history"}})
        act(words, [&] { w.openTable(table); });
    act("choose a finding", [&] {
        key(Qt::Key_6);
        w.findChild<QTableWidget*>("findings")->setCurrentCell(0, 0);
    });
    for (const auto& [tool, words] : std::initializer_list<std::pair<Tool, const char*>>{
             {Tool::interfaces, "tool interfaces"}, {Tool::loads, "tool loads"}, {Tool::features, "tool features"}})
        act(words, [&] { w.openTool(tool); });
    act("new variant", [&] { key(Qt::Key_N, Qt::ControlModifier); });
    act("change the threshold", [&] {
        key(Qt::Key_2);
        w.session().edit("Threshold", [](project::Project& p) { p.variants[p.open].recipe.threshold = 0.45; });
    });
    act("undo", [&] { w.session().undoStack().undo(); });
    act("open another variant", [&] { key(Qt::Key_Tab, Qt::ControlModifier); });
    act("dark theme", [&] { w.setLooks(true, 100); });
    act("save the project", [&] { w.session().saveProject(own.filePath("part.escultura")); });
    w.close();
    std::sort(stalls.begin(), stalls.end(), [](const Stall& a, const Stall& b) { return a.time > b.time; });
    std::printf("%-28s longest event, ms\n", "action");
    for (const Stall& s : stalls) std::printf("%-28s %8.0f\n", qPrintable(s.action), s.time);
    return 0;
}

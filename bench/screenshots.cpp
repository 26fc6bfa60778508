/// Makes the pictures of docs/screenshots from the demo: drives the real window and grabs it.

#include <QApplication>
#include <QComboBox>
#include <QDir>
#include <QElapsedTimer>
#include <QTableWidget>
#include <QTest>
#include <cstdio>
#include <functional>

#include "main_window.hpp"
#include "theme/theme.hpp"

using namespace escultura;
using namespace escultura::app;
using project::Stage;

namespace {

void settle(MainWindow& w, int seconds = 120) {
    QElapsedTimer clock;
    clock.start();
    do {
        QTest::qWait(60);
    } while ((w.session().isBusy() || !w.session().hasProject()) && clock.elapsed() < 1000LL * seconds);
    QTest::qWait(300);
}

/// The Rebuild stage on the mast's foot: cage by its deviation, editing, features of the solid.
void rebuildShots(MainWindow& w, const std::function<void(const QString&)>& shot) {
    w.session().undoStack().clear();
    w.session().openPart(QString(ESCULTURA_DEMO_FOLDER) + "/sensor-mast-foot.json");
    settle(w);
    w.session().run(Stage::findings);
    settle(w);
    w.session().run(Stage::rebuild);
    settle(w);
    w.dossier().openCard(Stage::rebuild);
    w.viewBar().setShow(report::Show::cageDeviation);
    emit w.viewBar().changed();
    w.view().look(Vec3(-0.75, 0.75, -0.62));
    shot("cage-deviation");
    w.findChild<QPushButton*>("openFeatures")->click();
    if (!w.viewBar().drawerButton()->isChecked()) w.viewBar().drawerButton()->setChecked(true);
    w.findChild<QTableWidget*>("features")->setCurrentCell(1, 1);
    w.viewBar().setShow(report::Show::solid);
    emit w.viewBar().changed();
    shot("features");
    w.findChild<QPushButton*>("openCageTools")->click();
    w.cageEditor().start();
    settle(w);
    w.cageEditor().setElement(CageEditor::Element::faces);
    // a face of the foot's upper side, grown
    std::int32_t best = 0;
    double highest = -1e9;
    const auto& cage = w.cageEditor().cage();
    for (std::size_t f = 0; f < cage.face.size(); ++f) {
        double s = 0;
        for (auto v : cage.face[f]) s += cage.position[v].dot(Vec3(0.4, -0.5, 0.1));
        if (s > highest) highest = s, best = static_cast<std::int32_t>(f);
    }
    w.cageEditor().select({best});
    w.cageEditor().growSelection();
    w.view().fit();
    shot("cage-editing");
    w.cageEditor().stop();
    w.viewBar().drawerButton()->setChecked(false);
}

}  // namespace

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    theme::apply(application);
    const QString folder = argc > 1 ? argv[1] : "docs/screenshots";
    const QString only = argc > 2 ? argv[2] : "";
    QDir().mkpath(folder);
    MainWindow w;
    w.setProperty("neverAsk", true);
    w.show();
    auto shot = [&](const QString& name) {
        QTest::qWait(400);
        if (!only.isEmpty() && !name.contains(only)) return;
        if (!w.grab().save(folder + "/" + name + ".png")) std::fprintf(stderr, "cannot write %s\n", qPrintable(name));
    };
    if (only == "rebuild") {
        rebuildShots(w, [&](const QString& name) {
            QTest::qWait(400);
            w.grab().save(folder + "/" + name + ".png");
        });
        w.close();
        return 0;
    }
    w.open(QString(ESCULTURA_DEMO_FOLDER) + "/tether-yoke.json");
    settle(w);
    w.dossier().openCard(Stage::duty);
    shot("duty");
    w.dossier().openCard(Stage::field);
    shot("field");
    w.session().run(Stage::findings);
    settle(w);
    w.viewBar().setShow(report::Show::surface);
    w.dossier().openCard(Stage::surface);
    shot("surface");
    w.findChild<QPushButton*>("showDeviation")->click();
    shot("deviation");
    w.findChild<QPushButton*>("showDeviation")->click();
    w.findChild<QPushButton*>("showThickness")->click();
    shot("thickness");
    w.findChild<QPushButton*>("showThickness")->click();
    w.findChild<QPushButton*>("showOverhangs")->click();
    settle(w);
    w.dossier().ensureVisible(0, 5000);
    w.view().look(Vec3(-0.6, 0.75, 0.75));  // from below, where the overhangs are
    shot("overhangs");
    w.view().look(Vec3(-0.75, 0.75, -0.62));
    w.findChild<QPushButton*>("showOverhangs")->click();
    auto choose = [&](const char* name, int index) {
        auto* box = w.findChild<QComboBox*>(name);
        box->setCurrentIndex(index);
        emit box->activated(index);
        settle(w);
    };
    w.dossier().openCard(Stage::surface);
    choose("beside", 4);
    choose("section", 2);
    shot("together");
    choose("beside", 0);
    choose("section", 0);
    w.viewBar().drawerButton()->setChecked(true);
    w.drawer().setCurrentWidget(&w.drawer().interfaces());
    w.findChild<QTableWidget*>("interfaceTable")->setCurrentCell(4, 0);
    shot("interfaces");
    w.viewBar().drawerButton()->setChecked(false);
    w.dossier().openCard(Stage::duty);
    w.findChild<QPushButton*>("editLoads")->click();
    w.findChild<QTableWidget*>("dutyTable")->setCurrentCell(1, 0);
    w.viewBar().setLoadCase(0);
    emit w.viewBar().changed();
    shot("loads");
    w.viewBar().drawerButton()->setChecked(false);
    w.drawer().setCurrentIndex(0);
    w.dossier().openCard(Stage::check);
    w.findChild<QPushButton*>("showMesh")->click();
    w.dossier().ensureVisible(0, 5000);
    shot("mesh");
    w.viewBar().setShow(report::Show::check);
    w.viewBar().setLoadCase(1);
    w.viewBar().setQuantity(report::Quantity::maximumPrincipal);
    w.findChild<QAction*>("vectors2")->trigger();
    w.findChild<QComboBox*>("shape")->setCurrentIndex(2);
    emit w.viewBar().changed();
    shot("principal");
    w.findChild<QAction*>("vectors0")->trigger();
    w.findChild<QComboBox*>("shape")->setCurrentIndex(0);
    w.viewBar().setQuantity(report::Quantity::vonMises);
    w.dossier().openCard(Stage::check);
    w.findChild<QTableWidget*>("checkCases")->setCurrentCell(1, 0);
    shot("check");
    w.viewBar().setQuantity(report::Quantity::safetyFactor);
    w.viewBar().setLoadCase(-1);
    emit w.viewBar().changed();
    w.dossier().openCard(Stage::release);
    shot("release");
    w.viewBar().setQuantity(report::Quantity::vonMises);
    w.dossier().openCard(Stage::findings);
    if (auto* list = w.findChild<QTableWidget*>("findings"); list && list->rowCount()) list->setCurrentCell(0, 0);
    w.viewBar().drawerButton()->setChecked(true);
    shot("findings");
    w.viewBar().drawerButton()->setChecked(false);
    w.findChild<QPushButton*>("newVariant")->click();
    w.session().edit("Threshold", [](project::Project& p) { p.variants[p.open].recipe.threshold = 0.35; });
    w.viewBar().setShow(report::Show::check);
    w.dossier().openCard(Stage::check);
    w.view().fit();
    shot("out-of-date");
    w.dossier().openCard(Stage::field);
    settle(w);
    choose("compareWith", 1);
    w.dossier().ensureVisible(0, 5000);
    shot("comparison");
    rebuildShots(w, shot);
    w.close();
    return 0;
}

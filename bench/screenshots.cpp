/// Makes the pictures of docs/screenshots from the demo: drives the real window and grabs it.

#include <QApplication>
#include <QCheckBox>
#include <QComboBox>
#include <QDir>
#include <QElapsedTimer>
#include <QLineEdit>
#include <QListWidget>
#include <QPainter>
#include <QScrollArea>
#include <QTableWidget>
#include <QTemporaryDir>
#include <QTest>
#include <cstdio>
#include <functional>

#include "chart.hpp"
#include "duty/part_edit.hpp"
#include "duty/part_numbers.hpp"
#include "main_window.hpp"
#include "report/report.hpp"
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
    w.findChild<QTableWidget*>("features")->setCurrentCell(1, 1);
    w.viewBar().setShow(report::Show::solid);
    emit w.viewBar().changed();
    shot("features");
    w.findChild<QPushButton*>("openCageTools")->click();
    w.cageEditor().start();
    settle(w);
    if (!QTest::qWaitFor([&] { return w.cageEditor().isSettled(); }, 60000)) qFatal("the cage does not settle");
    w.view().fit();
    // painted down a leg, to be thickened
    w.findChild<QCheckBox*>("cagePaint")->click();
    w.findChild<QComboBox*>("thickenRegion")->setCurrentIndex(2);
    const auto& cage = w.cageEditor().cage();
    std::int32_t foot = 0;
    for (std::size_t f = 0; f < cage.face.size(); ++f) {
        const Vec3 towards(0.4, -0.5, 0.1);
        if (cage::middleOf(cage, static_cast<std::int32_t>(f)).dot(towards) > cage::middleOf(cage, foot).dot(towards))
            foot = static_cast<std::int32_t>(f);
    }
    const Vec3 from = cage::middleOf(cage, foot) + Vec3(0, 0, 4);
    for (double along = 0; along <= 1; along += 0.1)
        w.cageEditor().paintAt(w.view().placeOf(from + along * Vec3(-12, 10, 34)), Qt::NoModifier);
    shot("cage-editing");
    w.tools().open(Tool::none);
}

/// The mast's foot optimised from its own duty: while it grows, and made.
void makingShots(MainWindow& w, const std::function<void(const QString&)>& shot) {
    w.session().undoStack().clear();
    w.session().openPart(QString(ESCULTURA_DEMO_FOLDER) + "/sensor-mast-foot.json");
    settle(w);
    w.dossier().openCard(Stage::field);
    auto* choice = w.findChild<QComboBox*>("fieldChoice");
    choice->setCurrentIndex(choice->findText("made here", Qt::MatchStartsWith));
    emit choice->activated(choice->currentIndex());
    w.session().editPart("Share to keep", [&](const std::string&) {
        duty::Optimisation o;
        o.share = 0.12;
        return duty::withOptimisation(w.session().project().part, o);
    });
    settle(w);
    w.session().optimise();
    if (!QTest::qWaitFor([&] { return w.session().growing() && w.findChild<Chart*>("makingCurve")->pointCount() > 55; },
                         300000))
        qFatal("nothing grows");
    w.view().look(Vec3(-0.75, 0.75, -0.62));
    w.view().fit();
    shot("optimise");
    settle(w, 300);
    shot("made");
}

/// Original and raw variant of the rocker plate, tested findings, a fix, another threshold.
void findingsShots(MainWindow& w, const std::function<void(const QString&)>& shot) {
    auto& session = w.session();
    session.undoStack().clear();
    session.openPart(QString(ESCULTURA_DEMO_FOLDER) + "/rocker-plate.json");
    settle(w);
    auto check = [&] {
        session.run(Stage::findings);
        settle(w);
    };
    w.findChild<QPushButton*>("addOriginal")->click();
    check();
    session.edit("Open variant", [](project::Project& p) { p.open = 0; });
    check();
    w.dossier().openCard(Stage::findings);
    w.findChild<QPushButton*>("testAll")->click();
    settle(w);
    auto* list = w.findChild<QTableWidget*>("findings");
    list->setCurrentCell(0, 0);
    w.findChild<QCheckBox*>("isolate")->setChecked(true);
    settle(w);
    shot("findings");
    w.findChild<QCheckBox*>("isolate")->setChecked(false);
    // the first proposal that becomes a variant
    emit w.findChild<QLabel*>("proposals")->linkActivated("0");
    settle(w);
    check();
    session.edit("Threshold", [](project::Project& p) {
        project::addVariant(p, 0).recipe.threshold = 0.56;
        p.variants[p.open].reasons[1] = "lighter: less of the grey cells";
    });
    settle(w);
    check();
    session.edit("Open variant", [](project::Project& p) { p.open = 2; });
}

/// Variants in the table, a study, variants side by side, and their difference.
void comparisonShots(MainWindow& w, const std::function<void(const QString&)>& shot) {
    auto& session = w.session();
    w.view().look(Vec3(-0.75, 0.75, -0.62));
    w.openTable(Table::variants);
    shot("variants");
    w.openTable(Table::studies);
    auto* parameters = w.findChild<QListWidget*>("studyParameters");
    for (int i = 0; i < parameters->count(); ++i) {
        const QString t = parameters->item(i)->text();
        for (const char* wanted : {"threshold ", "smoothing", "pin L: bore", "pin R: blend", "yield"})
            if (t.contains(wanted)) parameters->item(i)->setCheckState(Qt::Checked);
    }
    w.findChild<QPushButton*>("runStudy")->click();
    settle(w, 300);
    shot("studies");
    w.viewBar().drawerButton()->setChecked(false);
    w.panes().setCompanions(
        {session.project().variants[1].id, session.project().variants[0].id, session.project().variants[3].id});
    settle(w);
    shot("side-by-side");
    w.panes().setCompanions({});
    settle(w);
}

/// The first page of the report and the one with the comparison.
void reportShot(MainWindow& w, const std::function<void(const QString&, const QImage&)>& saveImage) {
    render::Renderer renderer;
    Progress progress;
    const auto& p = w.session().project();
    const auto pages = report::reportPages(p, p.current(), renderer, progress, &p.releases.back());
    std::size_t second = std::min<std::size_t>(5, pages.size() - 1);
    QImage both(pages[0].width() * 2 + 12, pages[0].height(), QImage::Format_RGB32);
    both.fill(QColor(0xDA, 0xD2, 0xC3));
    QPainter painter(&both);
    painter.drawImage(0, 0, pages[0]);
    painter.drawImage(pages[0].width() + 12, 0, pages[second]);
    painter.end();
    saveImage("report", both);
}

/// Findings to release on the rocker plate.
void decisionShots(MainWindow& w, const std::function<void(const QString&)>& shot,
                   const std::function<void(const QString&, const QImage&)>& saveImage) {
    findingsShots(w, shot);
    comparisonShots(w, shot);
    auto& session = w.session();
    session.testHotspots({});
    settle(w);
    session.edit("Dispositions", [](project::Project& p) {
        for (const auto& f : judge::findingsOf(p, p.current().recipe))
            judge::sign(p.variants[p.open],
                        judge::signedDisposition(p, p.current().recipe, f, "accept", "bending beside the ring, counted",
                                                 "A. Tester", "2026-01-15"));
    });
    w.dossier().openCard(Stage::release);
    w.findChild<QLineEdit*>("releaseName")->setText("A. Tester");
    w.findChild<QLineEdit*>("releaseRole")->setText("stress engineer");
    QTemporaryDir folder;
    w.releaseTo(folder.path(), judge::SignOff{"A. Tester", "stress engineer", "2026-01-15", "first batch"});
    settle(w);
    reportShot(w, saveImage);
    session.edit("Load factor", [](project::Project& p) {
        duty::setNumber(p.variants[p.open].recipe.numbers, "/load_cases/Cross pull/factor", 1.1);
    });
    settle(w);
    w.openTable(Table::requirements);
    shot("release");
    w.viewBar().drawerButton()->setChecked(false);
}

/// Natural frequencies of the rocker plate, with the mode that swings out of its plane.
void modesShots(MainWindow& w, const std::function<void(const QString&)>& shot) {
    w.open(QString(ESCULTURA_DEMO_FOLDER) + "/rocker-plate.json");
    settle(w);
    w.dossier().openCard(Stage::check);
    for (const char* kind : {"asks natural_frequencies", "asks buckling"}) w.findChild<QCheckBox*>(kind)->click();
    w.session().run(Stage::findings);
    settle(w);
    w.findChild<QPushButton*>("shows natural_frequencies")->click();
    w.view().look(Vec3(-0.75, 0.75, -0.62));
    w.view().fit();
    settle(w);
    QWidget* rows = w.findChild<QLabel*>("found buckling");
    for (QWidget* p = rows; p; p = p->parentWidget())
        if (auto* area = qobject_cast<QScrollArea*>(p)) area->ensureWidgetVisible(rows, 0, 40);
    shot("modes");
    settle(w);
}

}  // namespace

/// The start page, and the demos' pictures on it.
static void startShots(const QString& folder, const QString& pictures) {
    for (const char* demo : {"rocker-plate", "sensor-mast-foot", "tether-yoke"}) {
        MainWindow w;
        w.setProperty("neverAsk", true);
        w.show();
        w.activateWindow();
        QApplication::setActiveWindow(&w);
        w.open(QString(ESCULTURA_DEMO_FOLDER) + "/" + demo + ".json");
        settle(w);
        w.session().run(Stage::surface);
        settle(w);
        w.viewBar().setShow(report::Show::surface);
        emit w.viewBar().changed();
        w.view().fit();
        QTest::qWait(400);
        w.view().thumbnail(232, 140, 1.02).save(pictures + "/" + demo + ".png");
        w.close();
    }
    MainWindow w;
    w.show();
    w.activateWindow();
    QApplication::setActiveWindow(&w);
    QTest::qWait(400);
    w.grab().save(folder + "/start.png");
    w.close();
}

/// The cards, tables and pictures of the yoke.
static void yokeShots(MainWindow& w, const std::function<void(const QString&)>& shot) {
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
    w.viewBar().setShow(report::Show::overhang);
    emit w.viewBar().changed();
    settle(w);
    w.view().look(Vec3(-0.6, 0.7, 0.5));
    w.view().fit();
    shot("overhangs");
    w.view().look(Vec3(-0.75, 0.75, -0.62));
    w.openTool(Tool::interfaces);
    w.viewBar().setShow(report::Show::surface);
    emit w.viewBar().changed();
    w.findChild<QTableWidget*>("interfaceTable")->setCurrentCell(4, 0);
    w.findChild<QPushButton*>("repeatInterface")->click();
    shot("interfaces");
    w.findChild<QPushButton*>("repeatInterface")->click();
    w.dossier().openCard(Stage::duty);
    w.findChild<QPushButton*>("editLoads")->click();
    w.findChild<QTableWidget*>("dutyTable")->setCurrentCell(1, 0);
    w.viewBar().setLoadCase(0);
    emit w.viewBar().changed();
    shot("loads");
    w.tools().open(Tool::none);
    w.dossier().openCard(Stage::check);
    w.findChild<QPushButton*>("showMesh")->click();
    w.dossier().showEnd();
    shot("mesh");
    w.viewBar().setShow(report::Show::check);
    w.viewBar().setLoadCase(1);
    w.viewBar().setQuantity(report::Quantity::maximumPrincipal);
    w.viewBar().setQuantity(report::Quantity::vonMises);
    w.dossier().openCard(Stage::check);
    w.findChild<QTableWidget*>("checkCases")->setCurrentCell(1, 0);
    shot("check");
    w.viewBar().setQuantity(report::Quantity::safetyFactor);
    w.viewBar().setLoadCase(-1);
    emit w.viewBar().changed();
    w.viewBar().setQuantity(report::Quantity::vonMises);
    w.dossier().openCard(Stage::findings);
    w.findChild<QPushButton*>("newVariant")->click();
    w.session().edit("Threshold", [](project::Project& p) { p.variants[p.open].recipe.threshold = 0.35; });
    w.viewBar().setShow(report::Show::check);
    w.dossier().openCard(Stage::check);
    w.view().fit();
}

int main(int argc, char** argv) {
    const QTemporaryDir own;  // nothing of this machine's user is shown
    qputenv("ESCULTURA_RECENT_FOLDER", own.filePath("recent").toLocal8Bit());
    qputenv("ESCULTURA_AUTOMATIC_TESTS", "0");  // what runs by itself is caught at another moment each time
    qputenv("ESCULTURA_RECOVERY_FOLDER", own.filePath("recovery").toLocal8Bit());
    QApplication application(argc, argv);
    theme::apply(application);
    const QString folder = argc > 1 ? argv[1] : "docs/screenshots";
    const QString only = argc > 2 ? argv[2] : "";
    QDir().mkpath(folder);
    if (only.isEmpty() || only == "start") startShots(folder, QString(ESCULTURA_DEMO_FOLDER) + "/../app/pictures");
    if (only == "start") return 0;
    MainWindow w;
    w.setProperty("neverAsk", true);
    w.show();
    w.activateWindow();
    QApplication::setActiveWindow(&w);
    auto shot = [&](const QString& name) {
        QTest::qWait(400);
        if (!only.isEmpty() && !name.contains(only)) return;
        if (!w.grab().save(folder + "/" + name + ".png")) std::fprintf(stderr, "cannot write %s\n", qPrintable(name));
    };
    auto saveImage = [&](const QString& name, const QImage& image) { image.save(folder + "/" + name + ".png"); };
    if (only == "rebuild" || only == "decision" || only == "making" || only == "modes") {
        auto always = [&](const QString& name) {
            QTest::qWait(400);
            w.grab().save(folder + "/" + name + ".png");
        };
        if (only == "rebuild")
            rebuildShots(w, always);
        else if (only == "making")
            makingShots(w, always);
        else if (only == "modes")
            modesShots(w, always);
        else
            decisionShots(w, always, saveImage);
        w.close();
        return 0;
    }
    yokeShots(w, shot);
    decisionShots(w, shot, saveImage);
    rebuildShots(w, shot);
    makingShots(w, [&](const QString& name) {
        if (name == "optimise") shot(name);
    });
    w.close();
    return 0;
}

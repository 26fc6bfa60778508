// The window's menus and the finder of actions.

#include <QCompleter>
#include <QDir>
#include <QFileDialog>
#include <QInputDialog>
#include <QMenu>
#include <QMenuBar>
#include <QMessageBox>
#include <cmath>

#include "exchange/body_files.hpp"
#include "exchange/writers.hpp"
#include "main_window.hpp"
#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;
using report::Show;

QString demoFolder() {
    return QDir(ESCULTURA_DEMO_FOLDER).exists() ? ESCULTURA_DEMO_FOLDER : ESCULTURA_INSTALLED_DEMO;
}

QAction* MainWindow::addEntry(QMenu* menu, const QString& text, const QKeySequence& key,
                              const std::function<void()>& slot, const char* name, const QString& icon) {
    auto* a = menu->addAction(text);
    a->setShortcut(key);
    a->setObjectName(name);
    if (!icon.isEmpty()) a->setIcon(theme::icon(icon));
    connect(a, &QAction::triggered, this, slot);
    return a;
}

std::function<void()> MainWindow::withProject(const std::function<void()>& slot) {
    return [this, slot] {
        if (session_.hasProject() && !session_.isBusy()) slot();
    };
}

void MainWindow::makeMenus() {
    makeFileMenu();
    makeEditMenu();
    makeViewMenu();
    makePartMenu();
    makeVariantMenu();
    makeHelpMenu();
}

void MainWindow::makeFileMenu() {
    auto* file = menuBar()->addMenu("File");
    addEntry(
        file, "Start page", QKeySequence("Ctrl+Home"), [this] { showStart(); }, "actionStart");
    addEntry(
        file, "Open…", QKeySequence::Open, [this] { askToOpen(); }, "actionOpen", "open");
    addEntry(
        file, "Open demo: tether yoke", {}, [this] { open(demoFolder() + "/tether-yoke.json"); }, "actionDemoYoke");
    addEntry(
        file, "Open demo: sensor-mast foot", {}, [this] { open(demoFolder() + "/sensor-mast-foot.json"); },
        "actionDemoFoot");
    addEntry(
        file, "Open demo: rocker plate", {}, [this] { open(demoFolder() + "/rocker-plate.json"); }, "actionDemoRocker");
    file->addSeparator();
    addEntry(
        file, "Add a density field…", {}, [this] { askForField(); }, "actionAddField");
    for (const char* as : {"original", "design space", "keep-out"})
        addEntry(file, QString("Use a body as %1…").arg(as), {}, withProject([this, as] { importBody(as); }),
                 "actionBody");
    addEntry(file, "Save part file as…", {}, withProject([this] {
                 const QString path =
                     QFileDialog::getSaveFileName(this, "Save part file", "part.json", "Part files (*.json)");
                 if (path.isEmpty()) return;
                 try {
                     exchange::writeText(path.toStdString(), session_.project().part.text);
                 } catch (const std::exception& e) {
                     showError(e.what());
                 }
             }),
             "actionSavePart");
    file->addSeparator();
    addEntry(file, "Save project", QKeySequence::Save, withProject([this] { save(false); }), "actionSave", "save");
    addEntry(file, "Save project as…", QKeySequence::SaveAs, withProject([this] { save(true); }), "actionSaveAs");
    file->addSeparator();
    addEntry(file, "Export surface…", {}, withProject([this] { exportSurface(); }), "actionExport");
    addEntry(file, "Write solid (STEP)…", QKeySequence("Ctrl+E"), withProject([this] { exportSolid(); }),
             "actionWriteSolid");
    addEntry(file, "Save picture or animation…", QKeySequence("Ctrl+P"), withProject([this] { askForPicture(); }),
             "actionPicture");
    addEntry(
        file, "Check a release folder…", {},
        [this] {
            if (!session_.isBusy()) askForRelease();
        },
        "actionCheckRelease");
    file->addSeparator();
    addEntry(
        file, "Quit", QKeySequence::Quit, [this] { close(); }, "actionQuit");
}

void MainWindow::makeEditMenu() {
    auto* edit = menuBar()->addMenu("Edit");
    auto* undo = session_.undoStack().createUndoAction(this, "Undo");
    undo->setShortcut(QKeySequence::Undo);
    undo->setObjectName("actionUndo");
    undo->setIcon(theme::icon("undo"));
    auto* redo = session_.undoStack().createRedoAction(this, "Redo");
    redo->setShortcuts({QKeySequence("Ctrl+Shift+Z"), QKeySequence("Ctrl+Y")});
    redo->setObjectName("actionRedo");
    redo->setIcon(theme::icon("redo"));
    edit->addAction(undo);
    edit->addAction(redo);
}

void MainWindow::makeViewMenu() {
    auto* view = menuBar()->addMenu("View");
    addEntry(
        view, "Fit", QKeySequence("F"), [this] { view_->fit(); }, "actionFit", "fit");
    addEntry(
        view, "Look along x", {}, [this] { view_->look(Vec3(-1, 0, 0)); }, "actionAlongX");
    addEntry(
        view, "Look along y", {}, [this] { view_->look(Vec3(0, 1, 0)); }, "actionAlongY");
    addEntry(
        view, "Look along z", {}, [this] { view_->look(Vec3(0, 0, -1), Vec3::UnitY()); }, "actionAlongZ");
    addEntry(
        view, "Look from the corner", {}, [this] { view_->look(Vec3(-0.75, 0.75, -0.62)); }, "actionCorner");
    auto* views = view->addMenu("Kept views");
    connect(views, &QMenu::aboutToShow, this, [this, views] { fillViewsMenu(views); });
    view->addSeparator();
    const char* titles[] = {"Show duty",           "Show cells",     "Show surface",
                            "Show deviation",      "Show results",   "Show thickness",
                            "Show draft",          "Show overhangs", "Show field comparison",
                            "Show original",       "Show mesh",      "Show cage",
                            "Show cage deviation", "Show solid",     "Show modes",
                            "Show curvature"};
    for (int s = 0; s < static_cast<int>(std::size(titles)); ++s)
        addEntry(
            view, titles[s], {},
            [this, s] {
                bar_->setShow(static_cast<Show>(s));
                bar_->refresh();
                showScene();
            },
            titles[s]);
    view->addSeparator();
    addEntry(
        view, "Tables and log", QKeySequence("Ctrl+D"), [this] { bar_->drawerButton()->toggle(); }, "actionDrawer",
        "table");
}

void MainWindow::makePartMenu() {
    auto* part = menuBar()->addMenu("Part");
    addEntry(part, "Build surface", QKeySequence("Ctrl+B"), withProject([this] { session_.run(Stage::surface); }),
             "actionBuild");
    addEntry(part, "Run check", QKeySequence("Ctrl+R"), withProject([this] { session_.run(Stage::findings); }),
             "actionRun", "play");
    addEntry(part, "Rebuild solid", QKeySequence("Ctrl+Shift+B"), withProject([this] { session_.run(Stage::rebuild); }),
             "actionRebuild");
    addEntry(part, "Quick check", QKeySequence("Ctrl+L"), withProject([this] { session_.quickCheck(); }),
             "actionQuickCheck");
    addEntry(part, "Edit cage", QKeySequence("Ctrl+G"), withProject([this] {
                 if (editor_->isOn()) {
                     editor_->stop();
                     return;
                 }
                 if (!drawer_->isVisible()) bar_->drawerButton()->setChecked(true);
                 drawer_->openTable(3);
                 editor_->start();
             }),
             "actionEditCage");
    auto* byItself = addEntry(
        part, "Test what could govern by itself", {}, [] {}, "actionTestsByItself");
    connect(byItself, &QAction::triggered, this, [this](bool on) { session_.setTestsByItself(on); });
    byItself->setCheckable(true);
    byItself->setChecked(session_.testsByItself());
    part->addSeparator();
    addEntry(part, "Reload part file", {}, withProject([this] { session_.reloadPart(); }), "actionReload");
    part->addSeparator();
    for (int s = 0; s < stageCount; ++s)
        addEntry(
            part, QString("Card %1: %2").arg(s + 1).arg(name(static_cast<Stage>(s))),
            QKeySequence(QString::number(s + 1)), [this, s] { dossier_->openCard(static_cast<Stage>(s)); },
            "actionCard");
}

void MainWindow::makeVariantMenu() {
    auto* variant = menuBar()->addMenu("Variant");
    addEntry(variant, "New variant from this one", QKeySequence("Ctrl+N"),
             withProject([this] { newVariant(session_.project().open); }), "actionNewVariant", "plus");
    addEntry(variant, "Rename…", {}, withProject([this] {
                 bool ok = false;
                 const QString text = QInputDialog::getText(this, "Rename variant", "Name", QLineEdit::Normal,
                                                            QString::fromStdString(session_.variant().name), &ok);
                 if (ok && !text.trimmed().isEmpty())
                     session_.edit("Rename",
                                   [&](Project& p) { p.variants[p.open].name = text.trimmed().toStdString(); });
             }),
             "actionRename");
    addEntry(variant, "Set as baseline", {},
             withProject([this] { session_.edit("Set baseline", [](Project& p) { p.baseline = p.open; }); }),
             "actionBaseline");
    addEntry(variant, "Next variant", QKeySequence("Ctrl+Tab"), withProject([this] {
                 session_.edit("Open variant", [](Project& p) { p.open = (p.open + 1) % p.variants.size(); });
             }),
             "actionNext");
}

void MainWindow::makeHelpMenu() {
    auto* help = menuBar()->addMenu("Help");
    addEntry(
        help, "Keys and mouse", QKeySequence::HelpContents,
        [this] {
            QMessageBox::information(
                this, "Keys and mouse",
                "1 to 7 open the cards. Ctrl+B builds the surface, Ctrl+R runs the check, Ctrl+Z undoes.\n\n"
                "In the view: drag turns, right drag or Shift and drag moves, the wheel zooms, arrow keys turn, F "
                "fits. A click pins a reading, Escape removes them.\n\n"
                "While the cage is edited (Ctrl+G): a click selects, Shift and click adds, Ctrl and drag draws a box, "
                "Alt and drag a lasso; drag the handles to move. Ctrl+L checks the solid quickly.\n\n"
                "On the colour scale: drag an end to clamp the range, double-click to reset it.");
        },
        "actionKeys");
    addEntry(
        help, "About Escultura", {},
        [this] {
            QMessageBox::about(
                this, "About Escultura",
                "Escultura " ESCULTURA_VERSION
                "\nFrom a density field to a part that can be released.\nFree software, GNU General Public License 3.");
        },
        "actionAbout");
}

void MainWindow::makeFinder() {
    auto* finder = new QLineEdit;
    finder->setObjectName("finder");
    finder->setPlaceholderText("Find an action          Ctrl+K");
    finder->setFixedWidth(230);
    finder->setAccessibleName("Find an action");
    QStringList texts;
    for (auto* a : findChildren<QAction*>())
        if (!a->text().isEmpty() && !a->menu()) texts << a->text();
    texts.removeDuplicates();
    auto* completer = new QCompleter(texts, finder);
    completer->setCaseSensitivity(Qt::CaseInsensitive);
    completer->setFilterMode(Qt::MatchContains);
    finder->setCompleter(completer);
    auto trigger = [this, finder](const QString& text) {
        for (auto* a : findChildren<QAction*>())
            if (a->text().compare(text.trimmed(), Qt::CaseInsensitive) == 0 && a->isEnabled()) {
                QTimer::singleShot(0, finder, &QLineEdit::clear);
                view_->setFocus();
                a->trigger();
                return;
            }
    };
    connect(completer, QOverload<const QString&>::of(&QCompleter::activated), this, trigger);
    connect(finder, &QLineEdit::returnPressed, this, [finder, completer, trigger] {
        completer->setCompletionPrefix(finder->text());
        trigger(completer->currentCompletion());
    });
    auto* box = new QWidget;
    auto* l = new QHBoxLayout(box);
    l->setContentsMargins(0, 3, 10, 3);
    l->addWidget(finder);
    menuBar()->setCornerWidget(box);
    auto* focus = new QAction(this);
    focus->setShortcut(QKeySequence("Ctrl+K"));
    connect(focus, &QAction::triggered, finder, [finder] {
        finder->setFocus();
        finder->selectAll();
    });
    addAction(focus);
}

}  // namespace escultura::app

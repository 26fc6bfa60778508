// The window's menus and the finder of actions.

#include <QActionGroup>
#include <QApplication>
#include <QCompleter>
#include <QDir>
#include <QFileDialog>
#include <QInputDialog>
#include <QMenu>
#include <QMenuBar>
#include <QMessageBox>
#include <cmath>
#include <tuple>

#include "exchange/body_files.hpp"
#include "exchange/writers.hpp"
#include "main_window.hpp"
#include "settings.hpp"
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

std::function<void()> MainWindow::whenOpen(const std::function<void()>& slot) {
    return [this, slot] {
        if (session_.hasProject()) slot();
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
    addEntry(file, "Save project", QKeySequence::Save, whenOpen([this] { save(false); }), "actionSave", "save");
    addEntry(file, "Save project as…", QKeySequence::SaveAs, whenOpen([this] { save(true); }), "actionSaveAs");
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
        view, "View along x", {}, [this] { view_->look(Vec3(-1, 0, 0)); }, "actionAlongX");
    addEntry(
        view, "View along y", {}, [this] { view_->look(Vec3(0, 1, 0)); }, "actionAlongY");
    addEntry(
        view, "View along z", {}, [this] { view_->look(Vec3(0, 0, -1), Vec3::UnitY()); }, "actionAlongZ");
    addEntry(
        view, "View from the corner", {}, [this] { view_->look(Vec3(-0.75, 0.75, -0.62)); }, "actionCorner");
    auto* views = view->addMenu("Kept views");
    connect(views, &QMenu::aboutToShow, this, [this, views] { fillViewsMenu(views); });
    view->addSeparator();
    const std::tuple<const char*, Show, const char*> things[] = {{"Show duty", Show::duty, "D"},
                                                                 {"Show cells", Show::field, "C"},
                                                                 {"Show surface", Show::surface, "S"},
                                                                 {"Show deviation", Show::deviation, "V"},
                                                                 {"Show results", Show::check, "R"},
                                                                 {"Show thickness", Show::thickness, "T"},
                                                                 {"Show draft", Show::draft, ""},
                                                                 {"Show overhangs", Show::overhang, ""},
                                                                 {"Show field comparison", Show::comparison, ""},
                                                                 {"Show original", Show::original, "O"},
                                                                 {"Show mesh", Show::mesh, "M"},
                                                                 {"Show cage", Show::cage, ""},
                                                                 {"Show cage deviation", Show::cageDeviation, ""},
                                                                 {"Show solid", Show::solid, "B"},
                                                                 {"Show modes", Show::analysis, ""},
                                                                 {"Show curvature", Show::curvature, ""}};
    for (const auto& [title, show, key] : things)
        addEntry(
            view, title, QKeySequence(key),
            [this, show = show] {
                bar_->setShow(show);
                bar_->refresh();
                showScene();
            },
            title);
    view->addSeparator();
    addEntry(
        view, "Tables of the card", QKeySequence("Ctrl+D"), [this] { bar_->drawerButton()->toggle(); }, "actionDrawer",
        "table");
    addEntry(
        view, "Tables in a window of their own", QKeySequence("Ctrl+Shift+D"),
        [this] {
            if (!session_.hasProject()) return;
            bar_->drawerButton()->setChecked(true);
            detachDrawer(!detached_);
        },
        "actionDetach", "window");
    auto* measure = addEntry(
        view, "Measure", QKeySequence("Ctrl+M"), [] {}, "actionMeasure");
    measure->setCheckable(true);
    connect(measure, &QAction::toggled, this, [this](bool on) {
        if (on != view_->isMeasuring()) view_->setMeasuring(on);
    });
    connect(view_, &View::measuringEnded, measure, [measure] { measure->setChecked(false); });
    makeLooks(view);
    const std::tuple<const char*, Table, const char*, const char*> tables[] = {
        {"Log", Table::log, "Ctrl+Shift+L", "actionLog"}, {"History", Table::history, "Ctrl+H", "actionHistory"}};
    for (const auto& [words, table, key, name] : tables)
        addEntry(
            view, words, QKeySequence(key), [this, table = table] { openTable(table); }, name);
}

void MainWindow::makeLooks(QMenu* menu) {
    auto* dark = menu->addAction("Dark theme");
    dark->setObjectName("actionDark");
    dark->setCheckable(true);
    dark->setChecked(theme::isDark());
    connect(dark, &QAction::toggled, this, [this](bool on) {
        settings()->setValue("looks/dark", on);
        setLooks(on, theme::px(100));
    });
    auto* sizes = menu->addMenu("Size of words");
    auto* group = new QActionGroup(this);
    for (int percent : {100, 125, 150, 200}) {
        auto* a = sizes->addAction(QString("%1 %").arg(percent));
        a->setObjectName(QString("actionWords%1").arg(percent));
        a->setCheckable(true);
        a->setChecked(theme::px(100) == percent);
        group->addAction(a);
        connect(a, &QAction::triggered, this, [this, percent] {
            settings()->setValue("looks/words", percent);
            setLooks(theme::isDark(), percent);
        });
    }
}

void MainWindow::setLooks(bool dark, int words) {
    theme::apply(*qApp, dark, words);
    theme::refit(this);
    menuBar()->setCornerWidget(menuBar()->cornerWidget());  // placed anew
    refresh();
    arrangeDrawer();
    view_->repaintScene();
}

void MainWindow::makePartMenu() {
    auto* part = menuBar()->addMenu("Part");
    addEntry(part, "Build surface", QKeySequence("Ctrl+B"), whenOpen([this] { session_.run(Stage::surface); }),
             "actionBuild");
    addEntry(part, "Run check", QKeySequence("Ctrl+R"), whenOpen([this] { session_.run(Stage::findings); }),
             "actionRun", "play");
    addEntry(part, "Rebuild solid", QKeySequence("Ctrl+Shift+B"), whenOpen([this] { session_.run(Stage::rebuild); }),
             "actionRebuild");
    addEntry(part, "Quick check", QKeySequence("Ctrl+L"), whenOpen([this] { session_.quickCheck(); }),
             "actionQuickCheck");
    addEntry(part, "Edit cage", QKeySequence("Ctrl+G"), withProject([this] {
                 if (editor_->isOn()) {
                     editor_->stop();
                     return;
                 }
                 openTool(Tool::cage);
                 editor_->start();
             }),
             "actionEditCage");
    const std::tuple<const char*, Tool, const char*, const char*> tools[] = {
        {"Interfaces", Tool::interfaces, "Ctrl+I", "actionInterfaces"},
        {"Loads and supports", Tool::loads, "Ctrl+Shift+I", "actionLoads"},
        {"Features", Tool::features, "Ctrl+Shift+G", "actionFeatures"}};
    for (const auto& [words, tool, key, name] : tools)
        addEntry(
            part, words, QKeySequence(key), [this, tool = tool] { openTool(tool); }, name);
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
             whenOpen([this] { newVariant(session_.project().open); }), "actionNewVariant", "plus");
    addEntry(variant, "Rename…", {}, whenOpen([this] {
                 bool ok = false;
                 const QString text = QInputDialog::getText(this, "Rename variant", "Name", QLineEdit::Normal,
                                                            QString::fromStdString(session_.variant().name), &ok);
                 if (ok && !text.trimmed().isEmpty())
                     session_.edit("Rename",
                                   [&](Project& p) { p.variants[p.open].name = text.trimmed().toStdString(); });
             }),
             "actionRename");
    addEntry(variant, "Set as baseline", {},
             whenOpen([this] { session_.edit("Set baseline", [](Project& p) { p.baseline = p.open; }); }),
             "actionBaseline");
    const std::tuple<const char*, Table, const char*, const char*> tables[] = {
        {"Compare variants", Table::variants, "Ctrl+T", "actionVariants"},
        {"Studies", Table::studies, "Ctrl+U", "actionStudies"}};
    for (const auto& [words, table, key, name] : tables)
        addEntry(
            variant, words, QKeySequence(key), [this, table = table] { openTable(table); }, name);
    addEntry(variant, "Next variant", QKeySequence("Ctrl+Tab"), whenOpen([this] {
                 session_.openVariant((session_.project().open + 1) % session_.project().variants.size());
             }),
             "actionNext");
}

void MainWindow::makeHelpMenu() {
    auto* help = menuBar()->addMenu("Help");
    addEntry(
        help, "Help on this card", QKeySequence::HelpContents, [this] { openHelp(HelpWindow::pageOf(card_)); },
        "actionHelp");
    addEntry(
        help, "Tour of five steps", {}, [this] { startTour(); }, "actionTour");
    addEntry(
        help, "From body to release", {}, [this] { openHelp("guide.md"); }, "actionGuide");
    addEntry(
        help, "Keys and mouse", {}, [this] { openHelp("keys.md"); }, "actionKeys");
    addEntry(
        help, "Glossary", {}, [this] { openHelp("glossary.md"); }, "actionGlossary");
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

void MainWindow::openHelp(const QString& page) {
    if (!help_) help_ = new HelpWindow(this);
    help_->open(page);
}

void MainWindow::makeFinder() {
    auto* finder = new QLineEdit;
    finder->setObjectName("finder");
    finder->setPlaceholderText("Find an action          Ctrl+K");
    theme::fix(finder, theme::Length::width, 230);
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

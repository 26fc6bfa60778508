#include "main_window.hpp"

#include <QApplication>
#include <QCloseEvent>
#include <QCompleter>
#include <QDateTime>
#include <QDir>
#include <QFileDialog>
#include <QFileInfo>
#include <QInputDialog>
#include <QLabel>
#include <QMenuBar>
#include <QMessageBox>
#include <QMimeData>
#include <QProgressBar>
#include <QPushButton>
#include <QSplitter>
#include <QStringListModel>
#include <cmath>

#include "dialogs/field_dialog.hpp"
#include "exchange/body_files.hpp"
#include "exchange/writers.hpp"
#include "project/part_edit.hpp"
#include "report/report.hpp"
#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace project;
using report::Show;

namespace {
const char* const fieldFiles = "Density fields (*.vti *.vtu *.vtk *.npy *.csv *.tsv *.txt);;All files (*)";
const char* const bodyFiles = "Bodies (*.stl *.obj *.ply *.step *.stp);;All files (*)";

/// The source's folder while developing, the installed one otherwise.
QString demoFolder() {
    return QDir(ESCULTURA_DEMO_FOLDER).exists() ? ESCULTURA_DEMO_FOLDER : ESCULTURA_INSTALLED_DEMO;
}
}  // namespace

MainWindow::MainWindow() {
    setObjectName("mainWindow");
    resize(1280, 800);
    setMinimumSize(1100, 700);
    setAcceptDrops(true);
    setWindowIcon(theme::icon("escultura"));
    shelf_ = new Shelf(session_);
    dossier_ = new Dossier(session_);
    view_ = new View;
    bar_ = new ViewBar(session_);
    drawer_ = new Drawer(session_);
    strip_ = new RequirementStrip(session_);
    error_ = label("", "error");
    error_->setObjectName("error");
    error_->setStyleSheet("background:#FBEADF; border-bottom:1px solid #E0B49A; padding:8px 16px;");
    error_->hide();

    auto* right = new QWidget;
    auto* column = new QVBoxLayout(right);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(0);
    auto* split = new QSplitter(Qt::Vertical);
    split->setChildrenCollapsible(false);
    auto* upper = new QWidget;
    auto* upperColumn = new QVBoxLayout(upper);
    upperColumn->setContentsMargins(0, 0, 0, 0);
    upperColumn->setSpacing(0);
    upperColumn->addWidget(error_);
    upperColumn->addWidget(view_, 1);
    upperColumn->addWidget(makeProgress());
    upperColumn->addWidget(bar_);
    split->addWidget(upper);
    split->addWidget(drawer_);
    split->setSizes({560, 200});
    drawer_->hide();
    column->addWidget(split);

    auto* middle = new QWidget;
    auto* row = new QHBoxLayout(middle);
    row->setContentsMargins(0, 0, 0, 0);
    row->setSpacing(0);
    row->addWidget(dossier_);
    row->addWidget(right, 1);

    auto* all = new QWidget;
    auto* rows = new QVBoxLayout(all);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(0);
    rows->addWidget(shelf_);
    rows->addWidget(middle, 1);
    rows->addWidget(strip_);
    setCentralWidget(all);
    makeMenus();
    makeFinder();

    connectResults();
    connect(&session_, &Session::changed, this, &MainWindow::refresh);
    connect(&session_, &Session::projectOpened, this, [this] {
        refit_ = true;
        selectedFinding_.clear();
        low_ = high_ = std::nullopt;
        const LastKnown k = session_.lastKnown();
        bar_->setShow(k.check ? Show::check : k.surface ? Show::surface : Show::field);
        setWindowTitle(QString::fromStdString(session_.project().part.name) + " – Escultura");
        if (runWhenOpened_) {
            runWhenOpened_ = false;
            openCheckAfterRun_ = true;
            QTimer::singleShot(0, this, [this] { session_.run(Stage::findings); });
        }
    });
    connect(&session_, &Session::ran, this, [this](Stage upTo) {
        // show what has just been made
        bar_->setShow(upTo == Stage::surface ? Show::surface : Show::check);
        bar_->refresh();
        if (openCheckAfterRun_) dossier_->openCard(Stage::check);
        openCheckAfterRun_ = false;
        showScene();
    });
    connect(&session_, &Session::failed, this, &MainWindow::showError);
    connect(&session_, &Session::progressed, this, [this](const QString& step, double share) {
        step_ = step;
        progressBar_->setRange(0, share > 0 ? 100 : 0);
        progressBar_->setValue(static_cast<int>(100 * share));
    });
    connect(&session_, &Session::busyChanged, this, [this](bool busy, const QString& title) {
        progress_->setVisible(busy);
        if (busy) {
            started_ = QDateTime::currentMSecsSinceEpoch();
            step_ = title;
            error_->hide();
            clock_.start(100);
        } else {
            clock_.stop();
        }
        dossier_->refresh();
    });
    connect(&clock_, &QTimer::timeout, this, [this] {
        progressText_->setText(
            step_ + QString(" · %1 s").arg((QDateTime::currentMSecsSinceEpoch() - started_) / 1000.0, 0, 'f', 1));
    });
    connect(bar_, &ViewBar::changed, this, [this] {
        low_ = high_ = std::nullopt;
        poorElement_ = -1;
        sectionPoint_.reset();
        mark_.reset();
        bar_->refresh();
        showScene();
    });
    connect(bar_, &ViewBar::fitAsked, view_, &View::fit);
    connect(bar_->drawerButton(), &QPushButton::toggled, this, [this](bool on) {
        drawer_->setVisible(on);
        drawer_->refresh();
    });
    connect(view_, &View::rangeChosen, this, [this](double low, double high) {
        low_ = std::isnan(low) ? std::nullopt : std::optional(low);
        high_ = std::isnan(high) ? std::nullopt : std::optional(high);
        showScene();
    });
    connect(dossier_, &Dossier::cardOpened, this, &MainWindow::cardOpened);
    connect(dossier_, &Dossier::showAsked, this, [this](int show) {
        bar_->setShow(static_cast<Show>(show));
        bar_->refresh();
        mark_.reset();
        low_ = high_ = std::nullopt;
        showScene();
    });
    connect(dossier_, &Dossier::placeAsked, this, [this](const Vec3& place, const QString& words) {
        mark_ = {place, words.toStdString()};
        showScene();
        view_->flyTo(place);
    });
    connect(dossier_, &Dossier::compareAsked, this, [this](int variant) {
        bar_->setCompareWith(variant);
        bar_->setShow(variant >= 0 ? Show::comparison : Show::field);
        bar_->refresh();
        showScene();
    });
    connect(dossier_, &Dossier::addFieldAsked, this, [this] {
        const QString path = QFileDialog::getOpenFileName(this, "Add a density field", {}, fieldFiles);
        if (!path.isEmpty()) addField(path);
    });
    auto& interfaces = drawer_->interfaces();
    connect(&interfaces, &InterfacesPanel::selectionChanged, this, [this](const QString& name) {
        selectedInterface_ = name;
        showScene();
    });
    connect(&interfaces, &InterfacesPanel::failed, this, &MainWindow::showError);
    connect(&interfaces, &InterfacesPanel::pickingAsked, this, &MainWindow::setPicking);
    connect(view_, &View::picked, this, [this](const Vec3& place, int triangle) {
        if (const auto original = session_.project().original(session_.recipe()))
            drawer_->interfaces().pick(*original, place, triangle);
    });
    connect(view_, &View::handleMoved, this, [this](int id, const Vec3& place, bool done) {
        if (id == 0) {  // the section plane
            sectionPoint_ = place;
            showScene();
        } else if (done) {
            drawer_->interfaces().moveTo(selectedInterface_, place);
        }
    });
    connect(dossier_, &Dossier::loadCaseChosen, this, [this](int c) {
        bar_->setLoadCase(c);
        bar_->refresh();
        showScene();
    });
    connect(dossier_, &Dossier::findingChosen, this, &MainWindow::selectFinding);
    connect(drawer_, &Drawer::findingChosen, this, &MainWindow::selectFinding);
    connect(dossier_, &Dossier::exportSurface, this, &MainWindow::exportSurface);
    connect(dossier_, &Dossier::writeRelease, this, &MainWindow::writeRelease);
    connect(strip_, &RequirementStrip::evidenceAsked, dossier_, &Dossier::openCard);
    connect(shelf_, &Shelf::newVariant, this, [this] { newVariant(session_.project().open); });
    connect(shelf_, &Shelf::variantMenu, this, &MainWindow::variantMenu);
    strip_->refresh();
    setWindowTitle("Escultura");
}

QWidget* MainWindow::makeProgress() {
    progress_ = new QFrame;
    progress_->setObjectName("progress");
    progress_->setStyleSheet("QFrame#progress { background:#FFFDF8; border:0; border-top:1px solid #DAD2C3; }");
    auto* l = new QHBoxLayout(progress_);
    l->setContentsMargins(16, 6, 12, 6);
    l->setSpacing(12);
    progressText_ = label("");
    progressText_->setMinimumWidth(230);
    progressBar_ = new QProgressBar;
    progressBar_->setTextVisible(false);
    progressBar_->setFixedHeight(6);
    auto* cancel = new QPushButton(theme::icon("stop"), "Cancel");
    cancel->setObjectName("cancel");
    connect(cancel, &QPushButton::clicked, this, [this] {
        session_.cancel();
        step_ = "Cancelling";
    });
    l->addWidget(progressText_);
    l->addWidget(progressBar_, 1);
    l->addWidget(cancel);
    progress_->hide();
    return progress_;
}

void MainWindow::makeMenus() {
    auto add = [&](QMenu* menu, const QString& text, const QKeySequence& key, auto slot, const char* name,
                   const QString& icon = {}) {
        auto* a = menu->addAction(text);
        a->setShortcut(key);
        a->setObjectName(name);
        if (!icon.isEmpty()) a->setIcon(theme::icon(icon));
        connect(a, &QAction::triggered, this, slot);
        return a;
    };
    auto needsProject = [this](auto slot) {
        return [this, slot] {
            if (session_.hasProject() && !session_.isBusy()) slot();
        };
    };
    auto* file = menuBar()->addMenu("File");
    add(
        file, "Open…", QKeySequence::Open,
        [this] {
            const QString path = QFileDialog::getOpenFileName(this, "Open a part or a project", {},
                                                              "Parts and projects (*.json *.escultura);;All files (*)");
            if (!path.isEmpty()) open(path);
        },
        "actionOpen", "open");
    add(
        file, "Open demo: tether yoke", {}, [this] { open(demoFolder() + "/tether-yoke.json"); }, "actionDemoYoke");
    add(
        file, "Open demo: sensor-mast foot", {}, [this] { open(demoFolder() + "/sensor-mast-foot.json"); },
        "actionDemoFoot");
    add(
        file, "Open demo: rocker plate", {}, [this] { open(demoFolder() + "/rocker-plate.json"); }, "actionDemoRocker");
    file->addSeparator();
    add(
        file, "Add a density field…", {},
        [this] {
            const QString path = QFileDialog::getOpenFileName(this, "Add a density field", {}, fieldFiles);
            if (!path.isEmpty()) addField(path);
        },
        "actionAddField");
    for (const char* as : {"original", "design space", "keep-out"})
        add(file, QString("Use a body as %1…").arg(as), {}, needsProject([this, as] { importBody(as); }), "actionBody");
    add(file, "Save part file as…", {}, needsProject([this] {
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
    add(file, "Save project", QKeySequence::Save, needsProject([this] { save(false); }), "actionSave", "save");
    add(file, "Save project as…", QKeySequence::SaveAs, needsProject([this] { save(true); }), "actionSaveAs");
    file->addSeparator();
    add(file, "Export surface…", {}, needsProject([this] { exportSurface(); }), "actionExport");
    add(file, "Save picture or animation…", QKeySequence("Ctrl+P"), needsProject([this] { askForPicture(); }),
        "actionPicture");
    file->addSeparator();
    add(
        file, "Quit", QKeySequence::Quit, [this] { close(); }, "actionQuit");

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

    auto* view = menuBar()->addMenu("View");
    add(
        view, "Fit", QKeySequence("F"), [this] { view_->fit(); }, "actionFit", "fit");
    add(
        view, "Look along x", {}, [this] { view_->look(Vec3(-1, 0, 0)); }, "actionAlongX");
    add(
        view, "Look along y", {}, [this] { view_->look(Vec3(0, 1, 0)); }, "actionAlongY");
    add(
        view, "Look along z", {}, [this] { view_->look(Vec3(0, 0, -1), Vec3::UnitY()); }, "actionAlongZ");
    add(
        view, "Look from the corner", {}, [this] { view_->look(Vec3(-0.75, 0.75, -0.62)); }, "actionCorner");
    auto* views = view->addMenu("Kept views");
    connect(views, &QMenu::aboutToShow, this, [this, views] { fillViewsMenu(views); });
    view->addSeparator();
    const char* titles[] = {"Show duty",      "Show cells", "Show surface",   "Show deviation",        "Show results",
                            "Show thickness", "Show draft", "Show overhangs", "Show field comparison", "Show original",
                            "Show mesh"};
    for (int s = 0; s < 11; ++s)
        add(
            view, titles[s], {},
            [this, s] {
                bar_->setShow(static_cast<Show>(s));
                bar_->refresh();
                showScene();
            },
            titles[s]);
    view->addSeparator();
    add(
        view, "Tables and log", QKeySequence("Ctrl+D"), [this] { bar_->drawerButton()->toggle(); }, "actionDrawer",
        "table");

    auto* part = menuBar()->addMenu("Part");
    add(part, "Build surface", QKeySequence("Ctrl+B"), needsProject([this] { session_.run(Stage::surface); }),
        "actionBuild");
    add(part, "Run check", QKeySequence("Ctrl+R"), needsProject([this] { session_.run(Stage::findings); }), "actionRun",
        "play");
    part->addSeparator();
    add(part, "Reload part file", {}, needsProject([this] { session_.reloadPart(); }), "actionReload");
    part->addSeparator();
    for (int s = 0; s < stageCount; ++s)
        add(
            part, QString("Card %1: %2").arg(s + 1).arg(name(static_cast<Stage>(s))),
            QKeySequence(QString::number(s + 1)), [this, s] { dossier_->openCard(static_cast<Stage>(s)); },
            "actionCard");

    auto* variant = menuBar()->addMenu("Variant");
    add(variant, "New variant from this one", QKeySequence("Ctrl+N"),
        needsProject([this] { newVariant(session_.project().open); }), "actionNewVariant", "plus");
    add(variant, "Rename…", {}, needsProject([this] {
            bool ok = false;
            const QString text = QInputDialog::getText(this, "Rename variant", "Name", QLineEdit::Normal,
                                                       QString::fromStdString(session_.variant().name), &ok);
            if (ok && !text.trimmed().isEmpty())
                session_.edit("Rename", [&](Project& p) { p.variants[p.open].name = text.trimmed().toStdString(); });
        }),
        "actionRename");
    add(variant, "Set as baseline", {},
        needsProject([this] { session_.edit("Set baseline", [](Project& p) { p.baseline = p.open; }); }),
        "actionBaseline");
    add(variant, "Next variant", QKeySequence("Ctrl+Tab"), needsProject([this] {
            session_.edit("Open variant", [](Project& p) { p.open = (p.open + 1) % p.variants.size(); });
        }),
        "actionNext");

    auto* help = menuBar()->addMenu("Help");
    add(
        help, "Keys and mouse", QKeySequence::HelpContents,
        [this] {
            QMessageBox::information(
                this, "Keys and mouse",
                "1 to 7 open the cards. Ctrl+B builds the surface, Ctrl+R runs the check, Ctrl+Z undoes.\n\n"
                "In the view: drag turns, right drag or Shift and drag moves, the wheel zooms, arrow keys turn, F "
                "fits. A click pins a reading, Escape removes them.\n\n"
                "On the colour scale: drag an end to clamp the range, double-click to reset it.");
        },
        "actionKeys");
    add(
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

void MainWindow::open(const QString& path) {
    if (session_.isBusy()) return;
    if (session_.hasProject() && session_.isModified()) {
        const auto answer = QMessageBox::question(this, "Unsaved work", "Save the project before opening another?",
                                                  QMessageBox::Save | QMessageBox::Discard | QMessageBox::Cancel);
        if (answer == QMessageBox::Cancel) return;
        if (answer == QMessageBox::Save) {
            save(false);
            return;
        }
    }
    static const QStringList fields{"vti", "vtu", "vtk", "npy", "csv", "tsv"};
    if (path.endsWith(".escultura"))
        session_.openProject(path);
    else if (fields.contains(QFileInfo(path).suffix().toLower()))
        addField(path);
    else
        session_.openPart(path);
}

void MainWindow::refresh() {
    if (!session_.hasProject()) return;
    bar_->refresh();
    dossier_->refresh();
    shelf_->refresh();
    strip_->refresh();
    if (drawer_->isVisible()) drawer_->refresh();
    showScene(refit_);
    refit_ = false;
}

report::SceneOptions MainWindow::sceneOptions() {
    report::SceneOptions o = bar_->options();
    o.low = low_;
    o.high = high_;
    o.selectedFinding = selectedFinding_.toStdString();
    o.mark = mark_;
    o.poorElement = poorElement_;
    const auto check = session_.hasProject() ? session_.lastKnown().check : nullptr;
    if (check && o.deformation < 0) o.deformation = report::automaticDeformation(*check, o.loadCase);
    return o;
}

void MainWindow::showScene(bool refit) {
    if (!session_.hasProject()) return;
    report::SceneOptions o = sceneOptions();
    const LastKnown k = session_.lastKnown();
    updateReadings();
    swing_.clear();  // an animation starts anew with the new options
    frame_ = 0;
    if (picking_) o.show = Show::original;
    if (drawer_->isVisible() && drawer_->currentWidget() == &drawer_->interfaces())
        o.handle = selectedInterface_.toStdString();
    // what cannot be shown yet gives way to what can
    if ((o.show == Show::check || o.show == Show::mesh) && !k.check) o.show = k.surface ? Show::surface : Show::field;
    if (o.show == Show::deviation && !k.surface) o.show = Show::field;
    if (o.show == Show::surface && !k.surface) o.show = Show::field;
    if (o.show == Show::thickness && !k.surface) o.show = Show::field;
    const auto process = session_.project().process(session_.recipe());
    if (o.show == Show::draft || o.show == Show::overhang) {
        if (!process) showProcess();
        if (!process || !k.surface) o.show = k.surface ? Show::surface : Show::field;
    }
    const auto original = session_.project().original(session_.recipe());
    using Beside = report::SceneOptions::Beside;
    if ((o.show == Show::original || o.original != Beside::nothing) && !original && session_.project().field() &&
        !session_.isBusy()) {
        auto copy = std::make_shared<Project>(session_.project());
        session_.work(
            "Original", [copy](Progress& p) { runOriginal(*copy, copy->current().recipe, p); },
            [this] { emit session_.changed(); });
    }
    if (o.show == Show::original && !original) o.show = k.surface ? Show::surface : Show::field;
    if (!session_.project().field() && (o.show == Show::field || o.show == Show::comparison)) {
        view_->setNotice("◐ out of date: the field is being read");
        return;
    }
    if (o.section.on && session_.project().field())
        o.section.point = sectionPoint_.value_or(session_.project().field()->regions.designSpace.centre());
    const StageKeys keys = session_.project().keys(session_.recipe());
    const Recipe& recipe = session_.recipe();
    const QString beside =
        QString("|%1|%2|%3|%4|%5|%6|%7|%8")
            .arg(o.fieldAsSurface)
            .arg(static_cast<int>(o.original))
            .arg(o.fieldGhost)
            .arg(reinterpret_cast<quintptr>(original.get()))
            .arg(reinterpret_cast<quintptr>(process.get()))
            .arg(o.section.on ? QString("%1 %2 %3 %4 %5")
                                    .arg(o.section.normal[0])
                                    .arg(o.section.normal[1])
                                    .arg(o.section.point[0])
                                    .arg(o.section.point[1])
                                    .arg(o.section.point[2])
                              : QString())
            .arg(QString::fromStdString(mark_ ? mark_->second + formatNumber(mark_->first.norm(), 9) : ""))
            .arg(QString::fromStdString(o.handle)) +
        QString("|%1|%2|%3|%4")
            .arg(o.compareWith)
            .arg(recipe.largestPieceOnly)
            .arg(recipe.smallestIsland)
            .arg(QString::fromStdString(session_.project().part.geometryText));
    const QString key =
        QString("%1|%2|%3|%4|%5|%6|%7|%8|%9|")
            .arg(static_cast<int>(o.show))
            .arg(o.loadCase)
            .arg(static_cast<int>(o.quantity))
            .arg(o.deformation)
            .arg(o.bands)
            .arg(o.loads)
            .arg(QString::fromStdString(o.selectedFinding))
            .arg(o.low.value_or(-1))
            .arg(o.high.value_or(-1)) +
        QString("%1|%2|%3")
            .arg(reinterpret_cast<quintptr>(k.surface.get()))
            .arg(reinterpret_cast<quintptr>(k.check.get()))
            .arg(o.show == Show::field || o.show == Show::comparison || o.fieldGhost ? recipe.threshold : 0) +
        QString("|%1|%2|%3|%4|%5|%6|%7|%8|")
            .arg(QString::fromStdString(o.unit), QString::fromStdString(o.frame))
            .arg(o.undeformed)
            .arg(o.only.value_or(-1e99))
            .arg(static_cast<int>(o.vectors))
            .arg(o.meshLines)
            .arg(o.bothFlags)
            .arg(o.poorElement) +
        QString::fromStdString(session_.project().part.dutyText) + QString::fromStdString(keys.field) + beside;
    bool stale = false;
    if (o.show == Show::check || o.show == Show::mesh) stale = session_.freshness(Stage::check) != Freshness::fresh;
    if (o.show == Show::surface || o.show == Show::deviation || o.show == Show::thickness ||
        (o.show == Show::duty && k.surface))
        stale = session_.freshness(Stage::surface) != Freshness::fresh;
    view_->setNotice(stale ? "◐ out of date: from an earlier recipe" : "");
    if (key == shownKey_ && !refit) return;
    shownKey_ = key;
    view_->setScene(
        report::makeScene(session_.project(), recipe, o,
                          {k.surface.get(), k.check.get(), k.findings.get(), process.get(), original.get()}),
        refit);
    std::vector<View::Handle> handles;
    if (o.section.on) handles.push_back({0, o.section.point, o.section.normal});
    if (const Interface* i = session_.project().part.findInterface(o.handle))
        handles.push_back({1, i->origin, Vec3::Zero()});
    view_->setHandles(handles);
    if (k.surface && !stale) shelf_->setThumbnail(session_.variant().id, view_->thumbnail(66, 56));
}

void MainWindow::cardOpened(Stage stage) {
    const LastKnown k = session_.lastKnown();
    if (stage == Stage::duty) bar_->setShow(Show::duty);
    if (stage == Stage::field) bar_->setShow(Show::field);
    if ((stage == Stage::surface || stage == Stage::rebuild) && k.surface) bar_->setShow(Show::surface);
    if ((stage == Stage::check || stage == Stage::findings || stage == Stage::release) && k.check)
        bar_->setShow(Show::check);
    bar_->refresh();
    showScene();
}

void MainWindow::selectFinding(const QString& id) {
    selectedFinding_ = id;
    bar_->setShow(Show::check);
    bar_->setLoadCase(-1);
    bar_->refresh();
    const LastKnown k = session_.lastKnown();
    showScene();
    if (k.findings)
        for (const Finding& f : k.findings->findings)
            if (f.id == id.toStdString()) view_->flyTo(f.position);
}

void MainWindow::showError(const QString& message) {
    error_->setText(message.toHtmlEscaped().replace("\n", "<br/>"));
    error_->show();
}

void MainWindow::newVariant(std::size_t from) {
    if (session_.isBusy()) return;
    session_.edit("New variant", [from](Project& p) {
        Variant v = p.variants[from];
        v.id = 0;
        for (const auto& other : p.variants) v.id = std::max(v.id, other.id);
        ++v.id;
        v.name = std::string(1, static_cast<char>('A' + p.variants.size() % 26)) +
                 (p.variants.size() >= 26 ? std::to_string(p.variants.size() / 26) : "");
        v.dispositions.clear();
        p.variants.push_back(v);
        p.open = p.variants.size() - 1;
    });
}

void MainWindow::variantMenu(std::size_t variant, const QPoint& where) {
    QMenu menu(this);
    menu.addAction("Duplicate", this, [this, variant] { newVariant(variant); });
    menu.addAction("Set as baseline", this,
                   [this, variant] { session_.edit("Set baseline", [variant](Project& p) { p.baseline = variant; }); });
    menu.exec(where);
}

bool MainWindow::save(bool ask) {
    QString path = session_.projectPath();
    if (ask || path.isEmpty()) {
        path = QFileDialog::getSaveFileName(this, "Save project",
                                            QString::fromStdString(session_.project().part.name) + ".escultura",
                                            "Escultura projects (*.escultura)");
        if (path.isEmpty()) return false;
        if (!path.endsWith(".escultura")) path += ".escultura";
    }
    session_.saveProject(path);
    return true;
}

void MainWindow::exportSurface() {
    const auto surface = session_.project().surface(session_.recipe());
    if (!surface) {
        showError("The surface is out of date or not built yet: build it before exporting.");
        return;
    }
    const QString path = QFileDialog::getSaveFileName(
        this, "Export surface", "surface.stl",
        "STL (*.stl);;3MF with units and metadata (*.3mf);;OBJ with groups (*.obj);;PLY in double precision (*.ply)");
    if (!path.isEmpty()) exportTo(path);
}

void MainWindow::exportTo(const QString& path) {
    const auto surface = session_.project().surface(session_.recipe());
    if (!surface) return;
    exchange::BodyText text{session_.project().part.name, {"free"}};
    for (const NamedFace& f : surface->faces) {
        text.owners.resize(std::max<std::size_t>(text.owners.size(), static_cast<std::size_t>(f.surface) + 1));
        text.owners[static_cast<std::size_t>(f.surface)] = f.interface + " " + f.face;
    }
    session_.work(
        "Exporting", [surface, path, text](Progress&) { exchange::writeBody(path.toStdString(), surface->mesh, text); },
        [this, path] {
            session_.addLog("Exported " + path);
            emit session_.changed();
        });
}

void MainWindow::addField(const QString& path) {
    if (session_.isBusy()) return;
    auto file = std::make_shared<exchange::FieldFile>();
    session_.work(
        "Looking into the file", [file, path](Progress&) { *file = exchange::inspectField(path.toStdString()); },
        [this, file, path] {
            auto* dialog = new FieldDialog(path, *file, this);
            dialog->setAttribute(Qt::WA_DeleteOnClose);
            connect(dialog, &QDialog::accepted, this, [this, dialog, path] {
                const NamedField field{dialog->name().toStdString(), dialog->source()};
                try {
                    if (session_.hasProject()) {
                        session_.editPart(
                            "Add field", [&](const std::string&) { return withField(session_.project().part, field); });
                        const int index = static_cast<int>(session_.project().part.fields.size()) - 1;
                        session_.edit("Choose field", [index](Project& p) {
                            p.variants[p.open].recipe.field = {FieldChoice::How::one, index, {}};
                        });
                    } else {
                        const QString part = QFileInfo(path).path() + "/" + dialog->name() + ".json";
                        if (QFileInfo::exists(part))
                            throw InputError("There is a part file already: " + part.toStdString());
                        exchange::writeText(part.toStdString(),
                                            newPartText(field.name, field.source, part.toStdString()));
                        session_.openPart(part);
                    }
                } catch (const InputError& e) {
                    showError(e.what());
                }
            });
            dialog->open();
        });
}

void MainWindow::importBody(const QString& as) {
    const QString path = QFileDialog::getOpenFileName(this, "Use a body as " + as, {}, bodyFiles);
    if (!path.isEmpty()) useBody(path, as);
}

void MainWindow::useBody(const QString& path, const QString& as) {
    if (session_.isBusy() || !session_.hasProject()) return;
    // reading it first shows what is wrong with it before the part names it
    session_.work(
        "Reading the body", [path](Progress&) { exchange::readBody(path.toStdString()); },
        [this, path, as] {
            const BodySource body{path.toStdString(), "mm", 0};
            try {
                session_.editPart("Use a body as " + as, [&](const std::string&) {
                    const Part& part = session_.project().part;
                    return as == "original" ? withOriginal(part, &body)
                           : as == "design space"
                               ? withDesignBody(part, &body)
                               : withKeepOutBody(part, QFileInfo(path).completeBaseName().toStdString(), body);
                });
                if (as == "original") {
                    bar_->setShow(Show::original);
                    bar_->refresh();
                    showScene(true);
                }
            } catch (const InputError& e) {
                showError(e.what());
            }
        });
}

void MainWindow::showProcess() {
    if (session_.isBusy() || !session_.project().surface(session_.recipe())) return;
    auto copy = std::make_shared<Project>(session_.project());
    session_.work(
        "Draft and overhangs", [copy](Progress& p) { runProcess(*copy, copy->current().recipe, p); },
        [this] { emit session_.changed(); });
}

void MainWindow::setPicking(bool on) {
    picking_ = on;
    view_->setPicking(on);
    showScene();
}

void MainWindow::writeRelease() {
    const QString folder = QFileDialog::getExistingDirectory(this, "Folder for the release");
    if (!folder.isEmpty()) releaseTo(folder);
}

void MainWindow::releaseTo(const QString& folder) {
    auto copy = std::make_shared<Project>(session_.project());
    const auto timings = session_.timings();
    session_.work(
        "Release",
        [copy, folder, timings](Progress& progress) {
            render::Renderer renderer;  // a drawing context of this thread
            report::writeRelease(*copy, copy->current(), timings, renderer, folder.toStdString(), progress);
        },
        [this, folder] {
            session_.addLog("Release written to " + folder);
            emit session_.changed();
        });
}

void MainWindow::closeEvent(QCloseEvent* e) {
    if (session_.hasProject() && session_.isModified() && isVisible() && !property("neverAsk").toBool()) {
        const auto answer = QMessageBox::question(this, "Unsaved work", "Save the project before closing?",
                                                  QMessageBox::Save | QMessageBox::Discard | QMessageBox::Cancel);
        if (answer == QMessageBox::Cancel || (answer == QMessageBox::Save && !save(false))) {
            e->ignore();
            return;
        }
        if (answer == QMessageBox::Save) {
            connect(&session_, &Session::changed, this, [this] {
                if (!session_.isModified()) close();
            });
            e->ignore();
            return;
        }
    }
    session_.cancel();
    e->accept();
}

void MainWindow::dragEnterEvent(QDragEnterEvent* e) {
    if (e->mimeData()->hasUrls()) e->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* e) {
    if (!e->mimeData()->urls().isEmpty()) open(e->mimeData()->urls().first().toLocalFile());
}

}  // namespace escultura::app

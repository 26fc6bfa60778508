/// The window as a whole: its parts put together, and what each tells the others. Menus, files, results and comparison
/// have files of their own (main_window_*.cpp).

#include "main_window.hpp"

#include <QDateTime>
#include <QFileInfo>
#include <QInputDialog>
#include <QMenu>
#include <QMessageBox>
#include <QProgressBar>
#include <QPushButton>
#include <QSplitter>
#include <QStackedWidget>
#include <cmath>

#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace store;
using namespace judge;
using report::Show;

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

    layOut();
    connectStart();
    makeMenus();
    makeFinder();

    for (QWidget* w : {static_cast<QWidget*>(bar_), static_cast<QWidget*>(drawer_), static_cast<QWidget*>(shelf_)})
        w->setEnabled(false);  // until something is open
    connectResults();
    connectRebuild();
    connectComparison();
    connect(&session_, &Session::changed, this, &MainWindow::refresh);
    connect(&session_, &Session::projectOpened, this, &MainWindow::opened);
    connectSession();
    connectView();
    connectDossier();
    connectPicking();
    connect(strip_, &RequirementStrip::evidenceAsked, dossier_, &Dossier::openCard);
    connect(shelf_, &Shelf::newVariant, this, [this] { newVariant(session_.project().open); });
    connect(shelf_, &Shelf::variantMenu, this, &MainWindow::variantMenu);
    strip_->refresh();
    setWindowTitle("Escultura");
    showStart();
}

void MainWindow::layOut() {
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
    panes_ = new Panes(view_);
    upperColumn->addWidget(panes_, 1);
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
    start_ = new StartPage(demoFolder());
    pages_ = new QStackedWidget;
    pages_->addWidget(start_);
    pages_->addWidget(all);
    // problems and progress of the start page and of the part alike
    auto* whole = new QWidget;
    auto* wholeColumn = new QVBoxLayout(whole);
    wholeColumn->setContentsMargins(0, 0, 0, 0);
    wholeColumn->setSpacing(0);
    wholeColumn->addWidget(error_);
    wholeColumn->addWidget(pages_, 1);
    wholeColumn->addWidget(makeProgress());
    setCentralWidget(whole);
}

void MainWindow::connectStart() {
    connect(start_, &StartPage::fieldAsked, this, &MainWindow::askForField);
    connect(start_, &StartPage::bodyAsked, this, &MainWindow::askForBody);
    connect(start_, &StartPage::openAsked, this, &MainWindow::askToOpen);
    connect(start_, &StartPage::chosen, this, &MainWindow::open);
    connect(start_, &StartPage::backAsked, this, [this] { pages_->setCurrentIndex(1); });
    connect(start_, &StartPage::recoverAsked, this, [this](const store::Unsaved& work) {
        if (mayLeave()) session_.recover(work);
    });
}

void MainWindow::opened() {
    for (QWidget* w : {static_cast<QWidget*>(bar_), static_cast<QWidget*>(drawer_), static_cast<QWidget*>(shelf_)})
        w->setEnabled(true);
    pages_->setCurrentIndex(1);
    rememberOpen(false);
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
}

void MainWindow::connectSession() {
    connect(&session_, &Session::ran, this, [this](Stage upTo) {
        // show what has just been made
        bar_->setShow(upTo == Stage::field     ? Show::field
                      : upTo == Stage::surface ? Show::surface
                      : upTo == Stage::rebuild ? Show::solid
                                               : Show::check);
        bar_->refresh();
        if (openCheckAfterRun_) dossier_->openCard(Stage::check);
        openCheckAfterRun_ = false;
        showScene();
    });
    connect(&session_, &Session::grew, this, [this] { showScene(); });
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
}

void MainWindow::connectView() {
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
}

void MainWindow::connectDossier() {
    connect(dossier_, &Dossier::cardOpened, this, &MainWindow::cardOpened);
    connect(dossier_, &Dossier::showAsked, this, [this](int show) {
        bar_->setShow(static_cast<Show>(show));
        bar_->refresh();
        mark_.reset();
        low_ = high_ = std::nullopt;
        showScene();
    });
    connect(dossier_, &Dossier::shapeAsked, this, [this](const QString& kind) {
        bar_->showShapes(kind);
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
    connect(dossier_, &Dossier::addFieldAsked, this, &MainWindow::askForField);
    connect(dossier_, &Dossier::loadCaseChosen, this, [this](int c) {
        bar_->setLoadCase(c);
        bar_->refresh();
        showScene();
    });
    connect(dossier_, &Dossier::findingChosen, this, &MainWindow::selectFinding);
    connect(drawer_, &Drawer::findingChosen, this, &MainWindow::selectFinding);
    connect(dossier_, &Dossier::exportSurface, this, &MainWindow::exportSurface);
    connect(dossier_, &Dossier::writeRelease, this, &MainWindow::writeRelease);
    connect(dossier_, &Dossier::isolateChanged, this, [this](bool on) {
        isolate_ = on;
        if (on && !selectedFinding_.isEmpty())
            selectFinding(selectedFinding_);
        else
            showScene();
    });
    connect(drawer_, &Drawer::failed, this, &MainWindow::showError);
    connect(drawer_, &Drawer::roomAsked, this, [this](int height) {
        auto* split = qobject_cast<QSplitter*>(drawer_->parentWidget());
        if (!split || drawer_->height() >= height) return;
        const auto sizes = split->sizes();
        split->setSizes({std::max(200, sizes[0] + sizes[1] - height), height});
    });
}

void MainWindow::connectPicking() {
    auto& interfaces = drawer_->interfaces();
    connect(&interfaces, &InterfacesPanel::selectionChanged, this, [this](const QString& name) {
        selectedInterface_ = name;
        showScene();
    });
    connect(&interfaces, &InterfacesPanel::failed, this, &MainWindow::showError);
    connect(&interfaces, &InterfacesPanel::pickingAsked, this, &MainWindow::setPicking);
    connect(view_, &View::picked, this, [this](const Vec3& place, int triangle) {
        if (!pickBody_) return;
        if (pickRoughness_ > 0)  // fitted on a smoother body than the one that is shown
            triangle = surface::TriangleTree(*pickBody_).closest(place).triangle;
        drawer_->interfaces().pick(*pickBody_, pickRoughness_, place, triangle);
    });
    connect(view_, &View::handleMoved, this, [this](int id, const Vec3& place, bool done) {
        if (id >= 10) {
            editor_->handleMoved(id, place, done);
        } else if (id == 0) {  // the section plane
            sectionPoint_ = place;
            showScene();
        } else if (done) {
            drawer_->interfaces().moveTo(selectedInterface_, place);
        }
    });
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

bool MainWindow::mayLeave() {
    if (session_.isBusy()) return false;
    if (!session_.hasProject() || !session_.isModified()) return true;
    const auto answer = QMessageBox::question(this, "Unsaved work", "Save the project before opening another?",
                                              QMessageBox::Save | QMessageBox::Discard | QMessageBox::Cancel);
    if (answer == QMessageBox::Save) save(false);
    return answer == QMessageBox::Discard;
}

void MainWindow::open(const QString& path) {
    if (!mayLeave()) return;
    rememberOpen(true);
    static const QStringList fields{"vti", "vtu", "vtk", "npy", "csv", "tsv"};
    static const QStringList bodies{"step", "stp", "stl", "obj", "ply"};
    if (path.endsWith(".escultura"))
        session_.openProject(path);
    else if (fields.contains(QFileInfo(path).suffix().toLower()))
        addField(path);
    else if (bodies.contains(QFileInfo(path).suffix().toLower()))
        beginWithBody(path);
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
    o.isolate = isolate_;
    o.mark = mark_;
    o.poorElement = poorElement_;
    const auto check = session_.hasProject() ? session_.lastKnown().check : nullptr;
    if (check && o.deformation < 0) o.deformation = report::automaticDeformation(*check, o.loadCase);
    return o;
}

void MainWindow::showScene(bool refit) {
    if (!session_.hasProject()) return;
    if (editor_->isOn()) {  // the view belongs to the cage
        editor_->refresh();
        view_->setNotice("");
        shown_.reset();
        return;
    }
    if (const auto growing = session_.growing()) {
        shown_.reset();
        view_->setNotice("");  // the caption says it
        view_->setScene(report::growingScene(session_.part(), *growing, session_.recipe().threshold), refit);
        return;
    }
    report::SceneOptions o = sceneOptions();
    updateReadings();
    swing_.clear();  // an animation starts anew with the new options
    frame_ = 0;
    if (picking_) o = forPicking(o);
    if (drawer_->isVisible() && drawer_->currentWidget() == &drawer_->interfaces())
        o.handle = selectedInterface_.toStdString();
    o.selectedFeature = selectedFeature_.toStdString();
    ShownResults r = shownResults(o);
    giveWay(r, o);
    makeOriginal(r, o);
    const bool hasField = session_.project().field() != nullptr;
    if (o.show == Show::original && !r.original) o.show = r.known.surface ? Show::surface : Show::field;
    if (r.toBeMade && o.show != Show::original && !(o.show == Show::duty && (r.known.surface || r.original))) {
        view_->setNotice("");
        return;
    }
    if (!hasField && !r.toBeMade && (o.show == Show::field || o.show == Show::comparison)) {
        view_->setNotice("◐ out of date: the field is being read");
        return;
    }
    if (o.section.on && hasField)
        o.section.point = sectionPoint_.value_or(session_.project().field()->regions.designSpace.centre());
    const bool stale = isStale(r, o);
    view_->setNotice(stale        ? "◐ out of date: from an earlier recipe"
                     : r.toBeMade ? "the design space: its field is not made yet"
                                  : "");
    Shown now = shownOf(r, o);
    if (shown_ && *shown_ == now && !refit) return;
    shown_ = std::move(now);
    draw(r, o, stale, refit);
}

MainWindow::ShownResults MainWindow::shownResults(const report::SceneOptions& o) {
    const Project& all = session_.project();
    ShownResults r;
    r.known = session_.lastKnown();
    r.difference = o.show == Show::check && r.known.check ? differenceFor(o) : nullptr;
    if (bar_->showsBaselineGhost() && all.baseline != all.open)
        r.baselineSurface = session_.lastKnown(all.baseline).surface;
    r.process = all.process(session_.recipe());
    r.original = all.original(session_.recipe());
    // of the check that is shown: an earlier one has another mesh
    r.analysis = shapesShown(o);
    r.toBeMade = session_.recipe().field.how == duty::FieldChoice::How::made && !all.field();
    return r;
}

/// What cannot be shown yet gives way to what can.
void MainWindow::giveWay(ShownResults& r, report::SceneOptions& o) {
    const LastKnown& k = r.known;
    if (o.show == Show::analysis && !r.analysis) o.show = Show::check;
    if ((o.show == Show::check || o.show == Show::mesh) && !k.check) o.show = k.surface ? Show::surface : Show::field;
    if (o.show == Show::solid && !k.rebuild) o.show = k.cage ? Show::cage : Show::surface;
    if ((o.show == Show::cage || o.show == Show::cageDeviation) && !k.cage) o.show = Show::surface;
    if ((o.show == Show::deviation || o.show == Show::surface || o.show == Show::thickness) && !k.surface)
        o.show = Show::field;
    if (o.show == Show::draft || o.show == Show::overhang) {
        if (!r.process) showProcess();
        if (!r.process || !k.surface) o.show = k.surface ? Show::surface : Show::field;
    }
    // what is still to be made shows the body that it is made in
    if (r.toBeMade && !k.surface && o.show != Show::duty) o.show = Show::original;
}

/// Reads or makes the original when it is to be shown and not there.
void MainWindow::makeOriginal(const ShownResults& r, const report::SceneOptions& o) {
    using Beside = report::SceneOptions::Beside;
    const bool wanted = o.show == Show::original || o.original != Beside::nothing || r.toBeMade;
    const std::string key = session_.project().keys(session_.recipe()).original;
    if (!wanted || r.original || session_.isBusy() || originalFailed_ == key) return;
    if (!session_.project().field() && !r.toBeMade) return;
    originalFailed_ = key;  // a body that cannot be read is told once
    auto copy = std::make_shared<Project>(session_.project());
    session_.work(
        "Original", [copy](Progress& p) { runOriginal(*copy, copy->current().recipe, p); },
        [this] { emit session_.changed(); });
}

bool MainWindow::isStale(const ShownResults& r, const report::SceneOptions& o) const {
    switch (o.show) {
        case Show::check:
        case Show::mesh:
            return session_.freshness(Stage::check) != Freshness::fresh;
        case Show::cage:
        case Show::cageDeviation:
            return !session_.project().cage(session_.recipe());
        case Show::solid:
            return !session_.project().rebuild(session_.recipe());
        case Show::duty:
            return r.known.surface && session_.freshness(Stage::surface) != Freshness::fresh;
        case Show::surface:
        case Show::deviation:
        case Show::thickness:
            return session_.freshness(Stage::surface) != Freshness::fresh;
        default:
            return false;
    }
}

MainWindow::Shown MainWindow::shownOf(const ShownResults& r, const report::SceneOptions& o) const {
    const Project& p = session_.project();
    const Recipe& recipe = session_.recipe();
    Shown s;
    s.options = o;
    s.results = {r.known.surface, r.known.check, r.known.cage,      r.known.rebuild,
                 r.process,       r.original,    r.baselineSurface, r.analysis};
    s.sampled = r.difference ? sampledKey_ : QString();
    if (o.show == Show::field || o.show == Show::comparison || o.fieldGhost) s.threshold = recipe.threshold;
    s.largestPieceOnly = recipe.largestPieceOnly;
    s.smallestIsland = recipe.smallestIsland;
    s.texts = {session_.part().geometryText, session_.part().dutyText, p.keys(recipe).field};
    if (!o.selectedFinding.empty() && p.findings(recipe)) {  // label and zone of the finding follow its test
        const auto list = findingsOf(p, recipe);
        if (const Finding* f = findFinding(list, o.selectedFinding)) s.texts.push_back(classOf(*f));
    }
    s.companions = shownCompanions();
    return s;
}

void MainWindow::draw(const ShownResults& r, report::SceneOptions o, bool stale, bool refit) {
    const LastKnown& k = r.known;
    const Project& all = session_.project();
    const Recipe& recipe = session_.recipe();
    FindingsResult classed;  // hotspots with what their tests have found
    if (k.findings) {
        classed = *k.findings;
        if (all.findings(recipe)) classed.findings = findingsOf(all, recipe);
    }
    report::SceneInputs inputs{k.surface.get(), k.check.get(),    k.findings ? &classed : nullptr,
                               r.process.get(), r.original.get(), k.cage.get(),
                               k.rebuild.get()};
    std::vector<char> zone;
    if (const Finding* chosen = findFinding(classed.findings, o.selectedFinding); chosen && !stale)
        zone = zoneOf(all, recipe, *chosen);
    if (!zone.empty()) inputs.zone = &zone;
    inputs.baseline = r.difference;
    inputs.baselineName = all.variants.at(all.baseline).name;
    inputs.beside = r.baselineSurface ? &r.baselineSurface->mesh : nullptr;
    inputs.analysis = r.analysis.get();
    auto scene = report::makeScene(all, recipe, o, inputs);
    if (!panes_->companions().empty()) {
        shareLegend(o, *scene);
        scene = report::makeScene(all, recipe, o, inputs);
    }
    view_->setScene(scene, refit);
    showCompanions(o);
    std::vector<View::Handle> handles;
    if (o.section.on) handles.push_back({0, o.section.point, o.section.normal});
    if (const Interface* i = session_.part().findInterface(o.handle)) handles.push_back({1, i->origin, Vec3::Zero()});
    view_->setHandles(handles);
    if (k.surface && !stale && o.show != Show::analysis)
        shelf_->setThumbnail(session_.variant().id, view_->thumbnail(66, 56));
}

void MainWindow::cardOpened(Stage stage) {
    if (!session_.hasProject()) return;
    const LastKnown k = session_.lastKnown();
    if (stage == Stage::duty) bar_->setShow(Show::duty);
    if (stage == Stage::field) bar_->setShow(Show::field);
    if (stage == Stage::surface && k.surface) bar_->setShow(Show::surface);
    if (stage == Stage::rebuild && k.surface)
        bar_->setShow(k.rebuild ? Show::solid : k.cage ? Show::cage : Show::surface);
    if ((stage == Stage::check || stage == Stage::findings || stage == Stage::release) && k.check)
        bar_->setShow(Show::check);
    bar_->refresh();
    showScene();
}

void MainWindow::selectFinding(const QString& id) {
    if (!session_.hasProject()) return;
    if (selectedFinding_ != id) {
        selectedFinding_ = id;
        dossier_->chooseFinding(id);
    }
    bar_->setShow(Show::check);
    bar_->setLoadCase(-1);
    bar_->refresh();
    const LastKnown k = session_.lastKnown();
    showScene();
    if (k.findings)
        for (const Finding& f : k.findings->findings)
            if (f.id == id.toStdString()) {
                const Vec3 outward(f.print[4], f.print[5], f.print[6]);
                if (isolate_ && outward.norm() > 0.05) {  // at its face, a little from above
                    Vec3 along = -outward.normalized() - 0.35 * Vec3::UnitZ();
                    if (std::abs(outward.normalized()[2]) > 0.9) along = -outward + 0.3 * Vec3::UnitY();
                    view_->look(along.normalized());
                }
                view_->flyTo(f.position);
                if (isolate_) view_->zoomTo(4 * f.reach);
            }
}

void MainWindow::showError(const QString& message) {
    error_->setText(message.toHtmlEscaped().replace("\n", "<br/>"));
    error_->show();
}

void MainWindow::newVariant(std::size_t from) {
    if (session_.isBusy()) return;
    session_.edit("New variant", [from](Project& p) { addVariant(p, from); });
}

void MainWindow::variantMenu(std::size_t variant, const QPoint& where) {
    QMenu menu(this);
    menu.addAction("Duplicate", this, [this, variant] { newVariant(variant); });
    menu.addAction("Put beside the open one", this, [this, variant] { putBeside(variant); });
    menu.addAction("Rename…", this, [this, variant] {
        bool ok = false;
        const QString text =
            QInputDialog::getText(this, "Rename variant", "Name", QLineEdit::Normal,
                                  QString::fromStdString(session_.project().variants[variant].name), &ok);
        if (ok && !text.trimmed().isEmpty())
            session_.edit("Rename", [&](Project& p) { p.variants[variant].name = text.trimmed().toStdString(); });
    });
    menu.addAction("Archive", this,
                   [this, variant] {
                       session_.edit("Archive variant", [variant](Project& p) {
                           if (p.open == variant || p.baseline == variant) return;
                           p.variants[variant].archived = true;
                       });
                   })
        ->setEnabled(variant != session_.project().open && variant != session_.project().baseline);
    for (const Variant& v : session_.project().variants)
        if (v.archived)
            menu.addAction("Bring back " + QString::fromStdString(v.name), this, [this, id = v.id] {
                session_.edit("Bring back variant", [id](Project& p) {
                    for (Variant& x : p.variants)
                        if (x.id == id) x.archived = false;
                });
            });
    menu.addAction("Set as baseline", this,
                   [this, variant] { session_.edit("Set baseline", [variant](Project& p) { p.baseline = variant; }); });
    menu.exec(where);
}

void MainWindow::showProcess() {
    if (session_.isBusy() || !session_.project().surface(session_.recipe())) return;
    auto copy = std::make_shared<Project>(session_.project());
    session_.work(
        "Draft and overhangs", [copy](Progress& p) { runProcess(*copy, copy->current().recipe, p); },
        [this] { emit session_.changed(); });
}

report::SceneOptions MainWindow::forPicking(report::SceneOptions o) {
    const Project& p = session_.project();
    const auto field = p.field();
    pickRoughness_ = 0;
    const auto surface = p.surface(session_.recipe());
    const bool designed = p.part.original || p.part.designBody || !field;
    // the body of a designer first; else the surface where it is looked at, else the field as it is
    if (designed || o.show == Show::original) {
        o.show = Show::original;
        pickedFrom_ = {};
        pickBody_ = p.original(session_.recipe());
    } else if (o.show == Show::surface && surface) {
        pickedFrom_ = {};
        pickRoughness_ = 0.2 * field->field.spacing.minCoeff();
        pickBody_ = std::shared_ptr<const surface::TriMesh>(surface, &surface->mesh);
    } else {
        o.show = Show::field;
        o.fieldAsSurface = true;
        pickRoughness_ = 0.4 * field->field.spacing.minCoeff();
        const std::pair<const void*, double> from{field.get(), session_.recipe().threshold};
        if (pickBody_ && pickedFrom_ == from) return o;  // made already
        pickedFrom_ = from;
        pickBody_ =
            std::make_shared<const surface::TriMesh>(rawSurface(field->field, session_.recipe().threshold, true));
    }
    return o;
}

void MainWindow::setPicking(bool on) {
    if (!on) pickBody_.reset();
    picking_ = on;
    view_->setPicking(on);
    showScene();
}

}  // namespace escultura::app

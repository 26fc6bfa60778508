/// The window as a whole: its parts put together, and what each tells the others. Menus, files, scene, results and
/// comparison have files of their own (main_window_*.cpp).

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
#include <utility>

#include "theme/theme.hpp"
#include "tips.hpp"
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
    tools_ = new ToolPane(session_);
    drawer_ = new Drawer(session_, *tools_);
    strip_ = new RequirementStrip(session_);
    painter_ = new FieldPainter(this);
    connect(view_, &View::drawingFailed, this, &MainWindow::showError);
    connect(painter_, &FieldPainter::painted, this, [this](const auto& scene) { view_->setScene(scene, false); });
    error_ = label("", "error");
    error_->setObjectName("error");
    error_->hide();

    layOut();
    connectStart();
    makeMenus();
    makeFinder();
    addTips(this);

    for (QWidget* w : {static_cast<QWidget*>(bar_), static_cast<QWidget*>(drawer_), static_cast<QWidget*>(shelf_)})
        w->setEnabled(false);  // until something is open
    connectTools();
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
    split_ = new QSplitter(Qt::Vertical);
    split_->setChildrenCollapsible(false);
    auto* upper = new QWidget;
    auto* upperColumn = new QVBoxLayout(upper);
    upperColumn->setContentsMargins(0, 0, 0, 0);
    upperColumn->setSpacing(0);
    panes_ = new Panes(view_);
    auto* viewRow = new QHBoxLayout;
    viewRow->setContentsMargins(0, 0, 0, 0);
    viewRow->setSpacing(0);
    viewRow->addWidget(tools_);
    viewRow->addWidget(panes_, 1);
    upperColumn->addLayout(viewRow, 1);
    upperColumn->addWidget(bar_);
    split_->addWidget(upper);
    split_->addWidget(drawer_);
    split_->setSizes({560, 200});
    drawer_->hide();
    column->addWidget(split_);

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
    wholeColumn->addWidget(work_ = new WorkBar(session_));
    connect(work_, &WorkBar::variantAsked, this, &MainWindow::openVariant);
    setCentralWidget(whole);
}

void MainWindow::connectStart() {
    connect(start_, &StartPage::fieldAsked, this, &MainWindow::askForField);
    connect(start_, &StartPage::bodyAsked, this, &MainWindow::askForBody);
    connect(start_, &StartPage::openAsked, this, &MainWindow::askToOpen);
    connect(start_, &StartPage::chosen, this, &MainWindow::open);
    connect(start_, &StartPage::tourAsked, this, &MainWindow::startTour);
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
    resetSection();  // it was another part's
    const LastKnown k = session_.lastKnown();
    bar_->setShow(k.check ? Show::check : k.surface ? Show::surface : Show::field);
    setWindowTitle(QString::fromStdString(session_.project().part.name) + " – Escultura");
    if (std::exchange(tourWhenOpened_, false)) QTimer::singleShot(0, this, &MainWindow::beginTour);
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
    connect(&session_, &Session::busyChanged, this, [this](bool busy, const QString&) {
        if (busy) error_->hide();
        dossier_->refresh();
    });
    connect(&session_, &Session::waitingChanged, this, [this] { dossier_->refresh(); });
}

void MainWindow::connectView() {
    connect(bar_, &ViewBar::changed, this, [this] {
        low_ = high_ = std::nullopt;
        poorElement_ = -1;
        resetSection();
        mark_.reset();
        bar_->refresh();
        showScene();
    });
    connect(bar_, &ViewBar::fitAsked, view_, &View::fit);
    connect(bar_->drawerButton(), &QPushButton::toggled, this, [this](bool on) {
        drawerOpen_[static_cast<std::size_t>(card_)] = on;
        if (!on && detached_) detachDrawer(false);
        arrangeDrawer();
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
        if (detached_ || drawer_->height() >= height || tools_->current() != Tool::none) return;
        const auto sizes = split_->sizes();
        split_->setSizes({std::max(200 + bar_->height(), sizes[0] + sizes[1] - height), height});
    });
    connect(drawer_, &Drawer::placeAsked, dossier_, &Dossier::placeAsked);
    connect(drawer_, &Drawer::closeAsked, this, [this] { bar_->drawerButton()->setChecked(false); });
    connect(drawer_, &Drawer::detachAsked, this, &MainWindow::detachDrawer);
}

void MainWindow::connectPicking() {
    auto& interfaces = tools_->interfaces();
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
        tools_->interfaces().pick(*pickBody_, pickRoughness_, place, triangle);
    });
    connect(view_, &View::handleMoved, this, [this](int id, const Vec3& place, bool done) {
        if (id >= 10) {
            editor_->handleMoved(id, place, done);
        } else if (moveSection(id, place)) {
            return;
        } else if (done) {
            tools_->interfaces().moveTo(selectedInterface_, place);
        }
    });
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
    static const QStringList bodies{"step", "stp", "stl", "obj", "ply", "3mf"};
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
    if (drawer_->isVisible())
        drawer_->refresh();
    else
        tools_->refresh();
    showScene(refit_);
    refit_ = false;
}

void MainWindow::cardOpened(Stage stage) {
    if (!session_.hasProject()) return;
    card_ = stage;
    tools_->showFor(stage);
    drawer_->showFor(stage);
    arrangeDrawer();
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

void MainWindow::openVariant(std::int64_t id) {
    if (const auto i = session_.indexOf(id)) session_.openVariant(*i);
}

void MainWindow::newVariant(std::size_t from) {
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

void MainWindow::setPicking(bool on) {
    if (!on) pickBody_.reset();
    picking_ = on;
    view_->setPicking(on);
    showScene();
}

}  // namespace escultura::app

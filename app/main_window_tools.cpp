// The window's tools and tables: which are open for which card, and the room that they leave to the view.

#include <QResizeEvent>
#include <QSplitter>
#include <algorithm>

#include "main_window.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using project::Stage;

namespace {
constexpr double viewShare = 0.6;   // of the window's height, while a tool is open
constexpr int leastDrawer = 96;     // px
constexpr int progressHeight = 42;  // px, while work runs
constexpr int leastView = 340;      // px, beside cards and a sheet
}  // namespace

void MainWindow::connectTools() {
    connect(tools_, &ToolPane::toolChanged, this, [this](Tool tool) {
        if (tool != Tool::cage && editor_->isOn()) editor_->stop();
        if (tool != Tool::interfaces) selectedInterface_.clear();
        if (tool == Tool::loads) {
            bar_->setShow(report::Show::duty);
            bar_->refresh();
        }
        arrangeDrawer();
        showScene();
    });
    connect(view_, &View::labelClicked, this, &MainWindow::followLabel);
    connect(dossier_, &Dossier::toolAsked, this, &MainWindow::openTool);
    connect(dossier_, &Dossier::tableAsked, this, &MainWindow::openTable);
    connect(&tools_->duty(), &DutyPanel::failed, this, &MainWindow::showError);
    connect(&tools_->duty(), &DutyPanel::loadCaseChosen, this, [this](int c) {
        if (bar_->options().show != report::Show::duty) return;
        bar_->setLoadCase(c);
        showScene();
    });
    connect(&tools_->cage(), &CagePanel::failed, this, &MainWindow::showError);
    connect(&tools_->cage(), &CagePanel::changesAsked, this, [this] { openTable(Table::changes); });
    connect(&tools_->features(), &FeaturesPanel::failed, this, &MainWindow::showError);
    connect(&tools_->features(), &FeaturesPanel::selectionChanged, this, [this](const QString& name) {
        selectedFeature_ = name;
        if (session_.lastKnown().rebuild && !editor_->isOn()) {
            bar_->setShow(report::Show::solid);
            bar_->refresh();
            showScene();
        }
    });
}

void MainWindow::followLabel(const render::Label& label) {
    using Role = render::Label::Role;
    switch (label.role) {
        case Role::load:
        case Role::support:
            openTool(Tool::loads);
            break;
        case Role::handle:
            openTool(Tool::interfaces);
            break;
        case Role::finding:
            if (!label.strong.empty() && bar_->options().show == report::Show::check) {
                dossier_->openCard(Stage::findings);
                selectFinding(QString::fromStdString(label.strong));
                break;
            }
            [[fallthrough]];
        default:
            view_->flyTo(label.position);
    }
}

void MainWindow::startTour() {
    if (session_.isBusy()) return;
    tourWhenOpened_ = true;
    open(demoFolder() + "/rocker-plate.json");
    if (!session_.isBusy()) tourWhenOpened_ = false;  // kept what was open
}

void MainWindow::beginTour() {
    if (!tour_) {
        auto card = [this](Stage stage) { return [this, stage] { dossier_->openCard(stage); }; };
        tour_ = new Tour(
            {{"Cards",
              "The calculation document, top to bottom. Each card says whether it is fresh, out of date or "
              "not run yet. Keys 1 to 7 open them.",
              dossier_, card(Stage::duty)},
             {"Threshold",
              "What of the density field is kept. Drag it: mass, pieces and the picture follow. Ctrl+Z "
              "brings everything back, across all cards.",
              dossier_, card(Stage::field)},
             {"View",
              "Drag turns, the right button moves, the wheel zooms. Point at the part to read a value, click to "
              "pin it. The bar below says what is shown, how it is coloured, how it is cut.",
              panes_, card(Stage::surface)},
             {"Check",
              "'Run check' meshes the part and solves all load cases. Nothing runs that you did not ask for. "
              "Findings are tested on finer meshes.",
              dossier_, card(Stage::check)},
             {"Requirements",
              "Value against limit, all the time, and what the value rests on. A click leads to the "
              "evidence; card 7 writes the release.",
              strip_, card(Stage::release)}},
            this);
    }
    tour_->begin();
}

void MainWindow::openTool(Tool tool) {
    if (!session_.hasProject()) return;
    const Stage card = tool == Tool::interfaces || tool == Tool::loads ? Stage::duty : Stage::rebuild;
    if (card_ != card || !tools_->isVisible()) dossier_->openCard(card);
    tools_->open(tool);
}

void MainWindow::openTable(Table table) {
    if (!session_.hasProject()) return;
    drawer_->openTable(table);
    bar_->drawerButton()->setChecked(true);
    drawer_->refresh();
    if (detached_) drawer_->activateWindow();
}

void MainWindow::detachDrawer(bool on) {
    if (on == detached_) return;
    detached_ = on;
    if (on) {
        drawer_->setMaximumHeight(QWIDGETSIZE_MAX);
        const QSize size(std::max(900, drawer_->width()), 460);
        drawer_->setParent(this, Qt::Window);
        drawer_->resize(size);
    } else {
        split_->addWidget(drawer_);
    }
    drawer_->setDetached(on);
    arrangeDrawer();
}

void MainWindow::arrangeDrawer() {
    const bool open = session_.hasProject() && drawerOpen_[static_cast<std::size_t>(card_)];
    {
        const QSignalBlocker block(bar_->drawerButton());
        bar_->drawerButton()->setChecked(open);
    }
    // a sheet beside the cards must leave the view as wide as it is useful
    const int sheet = tools_->isVisible() ? tools_->sizeHint().width() : 0;
    dossier_->setVisible(tools_->current() == Tool::none || width() - dossier_->minimumWidth() - sheet >= leastView);
    bool fits = true;
    if (!detached_) {
        int most = QWIDGETSIZE_MAX;
        if (tools_->current() != Tool::none) {
            const double view = viewShare * height() + bar_->height() + split_->handleWidth();
            most = static_cast<int>(split_->height() - view - (work_->isVisible() ? 0 : progressHeight));
            fits = most >= leastDrawer;
        }
        drawer_->setMaximumHeight(std::max(most, leastDrawer));
    }
    drawer_->setVisible(open && (detached_ || fits));
    if (drawer_->isVisible()) drawer_->refresh();
}

void MainWindow::showEvent(QShowEvent* e) {
    QMainWindow::showEvent(e);
    theme::styleAhead(this);
}

void MainWindow::resizeEvent(QResizeEvent* e) {
    QMainWindow::resizeEvent(e);
    QMetaObject::invokeMethod(this, &MainWindow::arrangeDrawer, Qt::QueuedConnection);  // once it is laid out
}

}  // namespace escultura::app

#include "drawer/drawer.hpp"

#include <QApplication>
#include <QClipboard>
#include <QCloseEvent>
#include <QHBoxLayout>
#include <QScrollArea>
#include <QTabBar>
#include <algorithm>

#include "theme/theme.hpp"

namespace escultura::app {

using namespace project;

namespace {

/// Tables of each card, in the order of the tabs.
const QList<Table>& tablesOf(Stage card) {
    static const QList<Table> lists[stageCount] = {{Table::interfaces, Table::loads, Table::requirements},
                                                   {Table::fields},
                                                   {Table::losses},
                                                   {Table::changes, Table::features},
                                                   {Table::reactions, Table::worstElements, Table::readings},
                                                   {Table::findings},
                                                   {Table::requirements, Table::releases}};
    return lists[static_cast<int>(card)];
}

constexpr Table freeTables[] = {Table::variants, Table::studies, Table::history, Table::log};

/// Forms that are taller than the drawer scroll: they must not take the view's room.
QWidget* scrolled(QWidget* page) {
    auto* area = new QScrollArea;
    area->setFrameShape(QFrame::NoFrame);
    area->setWidgetResizable(true);
    area->setWidget(page);
    return area;
}

}  // namespace

Drawer::Drawer(Session& session, ToolPane& tools, QWidget* parent)
    : QTabWidget(parent), session_(session), tools_(tools) {
    setObjectName("drawer");
    setDocumentMode(true);
    lookedAt_.fill(-1);
    makeTables();
    // in the order of Table
    const std::pair<QWidget*, const char*> pages[] = {{tools_.interfaces().table(), "Interfaces"},
                                                      {tools_.duty().table(), "Loads and supports"},
                                                      {scrolled(requirements_), "Requirements"},
                                                      {fields_, "Fields"},
                                                      {losses_, "Losses and thin members"},
                                                      {tools_.cage().changes(), "Changes by hand"},
                                                      {tools_.features().table(), "Features"},
                                                      {resultants_, "Reactions"},
                                                      {quality_, "Worst elements"},
                                                      {readings_, "Readings"},
                                                      {findings_, "Findings"},
                                                      {releases_, "Releases"},
                                                      {scrolled(variants_), "Variants"},
                                                      {scrolled(studies_), "Studies"},
                                                      {history_, "History"},
                                                      {log_, "Log"}};
    for (const auto& [page, words] : pages) addTab(page, words);
    makeCorner();
    connect(findings_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r >= 0 && findings_->item(r, 0)) emit findingChosen(findings_->item(r, 0)->text());
    });
    connect(quality_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r >= 0) emit poorElementChosen(r);
    });
    connect(losses_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r < 0 || r >= static_cast<int>(lossPlaces_.size())) return;
        const auto& [place, words] = lossPlaces_[static_cast<std::size_t>(r)];
        emit placeAsked(place, words);
    });
    connect(this, &QTabWidget::currentChanged, this, [this](int table) {
        if (!changing_ && tablesOf(card_).contains(static_cast<Table>(table)))
            lookedAt_[static_cast<std::size_t>(card_)] = table;
        if (qobject_cast<QScrollArea*>(currentWidget())) emit roomAsked(330);
        if (isVisible()) refresh();
    });
    connect(this, &QTabWidget::tabCloseRequested, this, [this](int table) {
        extra_.erase(table);
        offer();
    });
    connect(requirements_, &RequirementsPanel::failed, this, &Drawer::failed);
    connect(studies_, &StudiesPanel::failed, this, &Drawer::failed);
    connect(&session_, &Session::logged, log_, &QPlainTextEdit::appendPlainText);
    showFor(Stage::duty);
}

void Drawer::makeTables() {
    findings_ = table({"Id", "Class", "Peak, MPa", "Safety factor", "Load case", "Above 80 % of the peak, mm²",
                       "Nearest interface", "Distance, mm", "Angle of the edge, °", "Radius of the notch, mm",
                       "Growth exponent", "x, mm", "y, mm", "z, mm", "What", "Disposition"});
    findings_->setObjectName("drawerFindings");
    resultants_ = table({"Load case", "Interface", "What", "x, N", "y, N", "z, N", "Size, N", "Moment x, N m",
                         "Moment y, N m", "Moment z, N m", "State"});
    resultants_->setObjectName("drawerResultants");
    quality_ =
        table({"Element", "Smallest angle, °", "Aspect ratio", "Scaled Jacobian", "x, mm", "y, mm", "z, mm", "State"});
    quality_->setObjectName("drawerQuality");
    readings_ = table({"Place", "x, mm", "y, mm", "z, mm"});
    readings_->setObjectName("drawerReadings");
    fields_ = table({"Field", "File", "State", "Cells", "Smallest cell, mm", "Share of the design space, %", "Mass, kg",
                     "Grey share, %"});
    fields_->setObjectName("drawerFields");
    losses_ = table({"What", "In the field, mm", "In the surface, mm", "x, mm", "y, mm", "z, mm", "Words", "State"});
    losses_->setObjectName("drawerLosses");
    releases_ = table({"Number", "Variant", "Signed by", "Role", "Date", "Remark"});
    releases_->setObjectName("drawerReleases");
    history_ = table({"Time", "Who", "What"});
    history_->setObjectName("drawerHistory");
    log_ = new QPlainTextEdit;
    log_->setObjectName("log");
    log_->setReadOnly(true);
    log_->setFrameShape(QFrame::NoFrame);
    requirements_ = new RequirementsPanel(session_);
    variants_ = new VariantsPanel(session_);
    studies_ = new StudiesPanel(session_);
}

void Drawer::makeCorner() {
    auto* corner = new QWidget;
    auto* row = new QHBoxLayout(corner);
    row->setContentsMargins(4, 2, 8, 2);
    row->setSpacing(4);
    auto tool = [&](const QString& words, const QString& icon, const char* objectName, const QString& tip) {
        auto* b = new QToolButton;
        b->setObjectName(objectName);
        b->setText(words);
        b->setAccessibleName(tip);
        if (!icon.isEmpty()) b->setIcon(theme::icon(icon));
        b->setToolTip(tip);
        b->setAutoRaise(true);
        row->addWidget(b);
        return b;
    };
    auto* copy = tool("Copy as CSV", "", "copyCsv", "Copy the table as CSV");
    connect(copy, &QToolButton::clicked, this, [this] {
        if (const auto* t = qobject_cast<QTableWidget*>(currentWidget()))
            QApplication::clipboard()->setText(tableAsCsv(t));
        else if (const auto* inner = currentWidget()->findChild<QTableWidget*>())
            QApplication::clipboard()->setText(tableAsCsv(inner));
        else
            QApplication::clipboard()->setText(log_->toPlainText());
    });
    window_ = tool("", "window", "detachDrawer", "");
    window_->setCheckable(true);
    connect(window_, &QToolButton::clicked, this, &Drawer::detachAsked);
    auto* close = tool("", "close", "closeDrawer", "Close the tables (Ctrl+D)");
    connect(close, &QToolButton::clicked, this, &Drawer::closeAsked);
    setCornerWidget(corner);
    setDetached(false);
}

void Drawer::setDetached(bool on) {
    window_->setChecked(on);
    window_->setToolTip(on ? "Back into the window" : "In a window of its own");
    window_->setAccessibleName(window_->toolTip());
    setWindowTitle("Tables – Escultura");
}

void Drawer::closeEvent(QCloseEvent* e) {
    // as a window of its own: back into the window instead
    e->ignore();
    emit detachAsked(false);
}

void Drawer::showFor(Stage card) {
    card_ = card;
    changing_ = true;  // tabs that go make others current
    offer();
    changing_ = false;
    const int last = lookedAt_[static_cast<std::size_t>(card)];
    setCurrentIndex(last >= 0 ? last : static_cast<int>(tablesOf(card).front()));
}

void Drawer::offer() {
    for (int table = 0; table < count(); ++table)
        setTabVisible(table, tablesOf(card_).contains(static_cast<Table>(table)) || extra_.count(table));
    setTabsClosable(!extra_.empty());
    for (int table = 0; table < count(); ++table)  // a card's own tables stay
        if (!extra_.count(table)) tabBar()->setTabButton(table, QTabBar::RightSide, nullptr);
    if (!isTabVisible(currentIndex())) setCurrentIndex(static_cast<int>(tablesOf(card_).front()));
}

void Drawer::openTable(Table table) {
    const int index = static_cast<int>(table);
    if (std::find(std::begin(freeTables), std::end(freeTables), table) != std::end(freeTables)) extra_.insert(index);
    offer();
    if (!isTabVisible(index)) return;
    setCurrentIndex(index);
    if (isVisible()) refresh();
}

void Drawer::refresh() {
    if (!session_.hasProject()) return;
    tools_.refresh();
    const LastKnown k = session_.lastKnown();
    switch (current()) {
        case Table::requirements:
            requirements_->refresh();
            break;
        case Table::fields:
            refreshFields();
            break;
        case Table::losses:
            refreshLosses(k);
            break;
        case Table::reactions:
            refreshResultants(k);
            break;
        case Table::worstElements:
            refreshQuality(k);
            break;
        case Table::readings:
            refreshReadings();
            break;
        case Table::findings:
            refreshFindings(k);
            break;
        case Table::releases:
            refreshReleases();
            break;
        case Table::variants:
            variants_->refresh();
            break;
        case Table::studies:
            studies_->refresh();
            break;
        case Table::history:
            refreshHistory();
            break;
        default:  // the tools fill theirs, the log fills itself
            break;
    }
}

}  // namespace escultura::app

#include "tools/tool_pane.hpp"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QVBoxLayout>
#include <algorithm>

#include "theme/theme.hpp"

namespace escultura::app {

using project::Stage;

ToolPane::ToolPane(Session& session, QWidget* parent) : QFrame(parent), session_(session) {
    setObjectName("toolPane");
    interfaces_ = new InterfacesPanel(session);
    duty_ = new DutyPanel(session);
    cage_ = new CagePanel(session);
    features_ = new FeaturesPanel(session);
    palette_ = new QWidget;
    palette_->setObjectName("palette");
    auto* buttons = new QVBoxLayout(palette_);
    buttons->setContentsMargins(6, 8, 6, 8);
    buttons->setSpacing(6);
    sheet_ = new QFrame;
    sheet_->setObjectName("sheet");
    theme::fix(sheet_, theme::Length::width, 312);
    auto* column = new QVBoxLayout(sheet_);
    column->setContentsMargins(12, 8, 0, 8);
    column->setSpacing(6);
    auto* head = new QHBoxLayout;
    title_ = label("", "title");
    auto* close = new QToolButton;
    close->setObjectName("closeTool");
    close->setIcon(theme::icon("close"));
    close->setAutoRaise(true);
    close->setToolTip("Close the tool (Escape)");
    close->setAccessibleName("Close the tool");
    connect(close, &QToolButton::clicked, this, [this] { open(Tool::none); });
    head->addWidget(title_, 1);
    head->addWidget(close);
    head->setContentsMargins(0, 0, 10, 0);
    column->addLayout(head);
    add(Tool::interfaces, Stage::duty, interfaces_, "Interfaces", "interfaces", "toolInterfaces",
        "Where the part meets its neighbours: pick, type, repeat, move");
    add(Tool::loads, Stage::duty, duty_, "Loads", "loads", "toolLoads", "Load cases, loads, supports, combinations");
    add(Tool::cage, Stage::rebuild, cage_, "Cage", "cage", "toolCage", "Change the control cage by hand (Ctrl+G)");
    add(Tool::features, Stage::rebuild, features_, "Features", "features", "toolFeatures",
        "Bores, flats, ribs and fillets with exact numbers");
    buttons->addStretch(1);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(0, 0, 0, 0);
    row->setSpacing(0);
    row->addWidget(palette_);
    row->addWidget(sheet_);
    sheet_->hide();
    hide();
}

void ToolPane::add(Tool tool, Stage card, QWidget* panel, const QString& words, const QString& icon,
                   const char* objectName, const QString& tip) {
    auto* area = new QScrollArea;
    area->setObjectName(QString(objectName) + "Sheet");
    area->setFrameShape(QFrame::NoFrame);
    area->setWidgetResizable(true);
    area->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    panel->setObjectName(QString(objectName) + "Panel");
    auto* inset = new QWidget;
    auto* room = new QVBoxLayout(inset);
    room->setContentsMargins(0, 0, 12, 0);
    room->addWidget(panel);
    area->setWidget(inset);
    area->hide();
    sheet_->layout()->addWidget(area);
    auto* button = new QToolButton;
    button->setObjectName(objectName);
    button->setText(words);
    button->setIcon(theme::icon(icon));
    button->setIconSize(QSize(20, 20));
    button->setToolButtonStyle(Qt::ToolButtonTextUnderIcon);
    button->setCheckable(true);
    button->setToolTip(tip);
    button->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
    palette_->layout()->addWidget(button);
    connect(button, &QToolButton::clicked, this, [this, tool](bool on) { open(on ? tool : Tool::none); });
    entries_.push_back({tool, card, area, button});
}

void ToolPane::showFor(Stage stage) {
    card_ = stage;
    bool any = false, keep = current_ == Tool::none;
    for (const Entry& e : entries_) {
        e.button->setVisible(e.card == stage);
        any = any || e.card == stage;
        keep = keep || (e.tool == current_ && e.card == stage);
    }
    setVisible(any);
    if (!keep) open(Tool::none);
}

void ToolPane::open(Tool tool) {
    const bool isOffered = std::any_of(entries_.begin(), entries_.end(),
                                       [&](const Entry& e) { return e.tool == tool && e.card == card_; });
    if (!isOffered) tool = Tool::none;
    const bool changed = tool != current_;
    if (changed && current_ == Tool::interfaces) interfaces_->closeForms();
    current_ = tool;
    for (const Entry& e : entries_) {
        e.button->setChecked(e.tool == tool);
        e.sheet->setVisible(e.tool == tool);
        if (e.tool == tool) title_->setText(e.button->text());
    }
    sheet_->setVisible(tool != Tool::none);
    refresh();
    if (changed) emit toolChanged(tool);
}

void ToolPane::refresh() {
    if (!session_.hasProject()) return;
    // what is neither in a sheet nor in a table now is filled when it is asked for
    if (current_ == Tool::interfaces || interfaces_->table()->isVisible()) interfaces_->refresh();
    if (current_ == Tool::loads || duty_->table()->isVisible()) duty_->refresh();
    if (current_ == Tool::cage || cage_->changes()->isVisible()) cage_->refresh();
    if (current_ == Tool::features || features_->table()->isVisible()) features_->refresh();
}

void ToolPane::keyPressEvent(QKeyEvent* e) {
    if (e->key() == Qt::Key_Escape && current_ != Tool::none)
        open(Tool::none);
    else
        QFrame::keyPressEvent(e);
}

}  // namespace escultura::app

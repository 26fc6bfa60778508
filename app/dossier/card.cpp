#include "dossier/card.hpp"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QStyle>

#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

namespace {
/// A text box that hands over its text when it loses the focus.
class ReasonBox : public QPlainTextEdit {
  public:
    using QPlainTextEdit::QPlainTextEdit;
    std::function<void()> leave;

  protected:
    void focusOutEvent(QFocusEvent* e) override {
        QPlainTextEdit::focusOutEvent(e);
        if (leave) leave();
    }
};
}  // namespace

Card::Card(Session& session, project::Stage stage, QWidget* parent) : QFrame(parent), session_(session), stage_(stage) {
    setObjectName("card");
    setFocusPolicy(Qt::TabFocus);
    setAccessibleName(project::name(stage));
    auto* outer = new QVBoxLayout(this);
    outer->setContentsMargins(12, 7, 6, 7);
    outer->setSpacing(2);
    auto* header = new QHBoxLayout;
    header->setContentsMargins(0, 0, 6, 0);
    header->setSpacing(10);
    auto* number = label(QString::number(static_cast<int>(stage) + 1), "number");
    auto* title = label(project::name(stage), "title");
    state_ = label("");
    state_->setAlignment(Qt::AlignRight);
    brief_ = label("", "muted");
    brief_->setMinimumWidth(0);
    brief_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    for (auto* l : {number, title, brief_, state_}) {
        l->setTextInteractionFlags(Qt::NoTextInteraction);
        l->setWordWrap(false);
    }
    for (auto* l : {number, title}) l->setSizePolicy(QSizePolicy::Maximum, QSizePolicy::Preferred);
    header->addWidget(number);
    header->addWidget(title);
    header->addWidget(brief_, 1);
    header->addStretch(0);
    header->addWidget(state_);
    outer->addLayout(header);
    summary_ = label("", "muted");
    summary_->setTextInteractionFlags(Qt::NoTextInteraction);
    summary_->setContentsMargins(20, 0, 0, 0);
    outer->addWidget(summary_);
    bodyWidget_ = new QWidget;
    bodyWidget_->setObjectName("cardBody");
    bodyLayout_ = new QVBoxLayout(bodyWidget_);
    bodyLayout_->setContentsMargins(0, 6, 6, 4);
    bodyLayout_->setSpacing(8);
    scroll_ = new QScrollArea;
    scroll_->setObjectName("cardScroll");
    scroll_->setFrameShape(QFrame::NoFrame);
    scroll_->setWidgetResizable(true);
    scroll_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    scroll_->setStyleSheet("#cardScroll, #cardBody { background: transparent; }");
    scroll_->setWidget(bodyWidget_);
    outer->addWidget(scroll_, 1);
    foot_ = new QWidget;
    auto* row = new QHBoxLayout(foot_);
    row->setContentsMargins(0, 6, 6, 0);
    outer->addWidget(foot_);
    setOpen(false);
}

void Card::addReason() {
    auto* box = new ReasonBox;
    box->setObjectName(QString("reason%1").arg(static_cast<int>(stage_) + 1));
    box->setPlaceholderText("Reason: why this setting? Goes into the report.");
    theme::fix(box, theme::Length::height, 46);
    box->setTabChangesFocus(true);
    box->leave = [this, box] {
        if (!session_.hasProject()) return;
        const std::string text = box->toPlainText().toStdString();
        const auto& reasons = session_.variant().reasons;
        const auto at = reasons.find(static_cast<int>(stage_));
        if ((at == reasons.end() ? std::string() : at->second) == text) return;
        session_.edit("Reason",
                      [&](project::Project& p) { p.variants[p.open].reasons[static_cast<int>(stage_)] = text; });
    };
    reason_ = box;
    bodyLayout_->addWidget(box);
}

QPushButton* Card::addAction(const QString& text, const char* objectName) {
    addReason();
    auto* button = new QPushButton(text);
    button->setObjectName(objectName);
    button->setProperty("primary", true);
    auto* row = static_cast<QHBoxLayout*>(foot_->layout());
    row->addWidget(button);
    row->addStretch();
    return button;
}

void Card::setOpen(bool open) {
    open_ = open;
    if (open) refresh();  // before it is in sight: laid out once
    scroll_->setVisible(open);
    foot_->setVisible(open && foot_->layout()->count() > 0);
    summary_->setVisible(!open && !compact_);
    brief_->setVisible(!open && compact_);
    setSizePolicy(QSizePolicy::Preferred, open ? QSizePolicy::Expanding : QSizePolicy::Maximum);
    if (property("open") != QVariant(open)) {
        setProperty("open", open);
        style()->unpolish(this);
        style()->polish(this);
    }
}

void Card::fillAhead() {
    if (open_ || !session_.hasProject()) return;
    refreshBody();
    bodyWidget_->ensurePolished();
    for (QWidget* w : bodyWidget_->findChildren<QWidget*>()) w->ensurePolished();
    bodyLayout_->activate();
}

void Card::setCompact(bool compact) {
    compact_ = compact;
    summary_->setVisible(!open_ && !compact_);
    brief_->setVisible(!open_ && compact_);
    showBrief();
}

void Card::showEnd() {
    scroll_->ensureVisible(0, bodyWidget_->height());
}

void Card::showBrief() {
    const QString whole = summary_->text();
    brief_->setText(fontMetrics().elidedText(whole, Qt::ElideRight, std::max(0, brief_->width() - 4)));
    setToolTip(!open_ && compact_ ? whole : QString());
}

void Card::resizeEvent(QResizeEvent* e) {
    QFrame::resizeEvent(e);
    QMetaObject::invokeMethod(this, &Card::showBrief, Qt::QueuedConnection);  // once the header is laid out
}

QString Card::state(QColor& colour) const {
    switch (session_.freshness(stage_)) {
        case Freshness::fresh:
            colour = theme::teal;
            return "fresh";
        case Freshness::outOfDate:
            colour = theme::ochre;
            return isOpen() && !session_.changedSince(stage_).isEmpty()
                       ? "◐ out of date: " + session_.changedSince(stage_)
                       : QString("◐ out of date");
        case Freshness::missing:
            colour = theme::muted;
            return "not run yet";
    }
    return {};
}

void Card::refresh() {
    if (!session_.hasProject()) return;
    QColor colour = theme::muted;
    const QString text = state(colour);
    state_->setText(theme::coloured(text, colour));
    summary_->setText(summary());
    showBrief();
    if (!open_) return;
    // the focus leaves a button that is disabled, and would take the view of the card along
    const int place = scroll_->verticalScrollBar()->value();
    refreshBody();
    scroll_->verticalScrollBar()->setValue(place);
    if (reason_ && !reason_->hasFocus()) {
        const auto& reasons = session_.variant().reasons;
        const auto at = reasons.find(static_cast<int>(stage_));
        reason_->setPlainText(at == reasons.end() ? QString() : QString::fromStdString(at->second));
    }
}

void Card::mousePressEvent(QMouseEvent* e) {
    if (e->position().y() < 34 || !open_) emit headerClicked();
}

void Card::keyPressEvent(QKeyEvent* e) {
    const bool isToggle = e->key() == Qt::Key_Return || e->key() == Qt::Key_Space;
    if (isToggle && hasFocus())
        emit headerClicked();
    else if (!isToggle)  // Return in a field of the card is the field's own
        QFrame::keyPressEvent(e);
}

QString figures(const QList<QPair<QString, QString>>& pairs) {
    QString html = "<table width='100%' cellspacing='0' cellpadding='2'>";
    for (const auto& [name, value] : pairs)
        html += "<tr><td style='color:" + theme::muted.name() + "'>" + name + "</td><td align='right'>" + value +
                "</td></tr>";
    return html + "</table>";
}

}  // namespace escultura::app

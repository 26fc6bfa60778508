#include "work_bar.hpp"

#include <QApplication>
#include <QDateTime>
#include <QPushButton>
#include <QToolButton>

#include "dossier/card_parts.hpp"
#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

namespace {
constexpr std::size_t shownWaiting = 4;
constexpr int shownDone = 3;
constexpr double worthTelling = 8;  // s: shorter work is noticed anyway when the window is looked at
}  // namespace

WorkBar::WorkBar(Session& session, QWidget* parent) : QFrame(parent), session_(session) {
    setObjectName("progress");
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(16, 4, 12, 4);
    column->setSpacing(2);
    doneRow_ = new QWidget;
    doneRow_->setObjectName("doneRow");
    auto* told = new QHBoxLayout(doneRow_);
    told->setContentsMargins(0, 2, 0, 2);
    done_ = label("");
    done_->setObjectName("doneWords");
    connect(done_, &QLabel::linkActivated, this, [this](const QString& id) {
        doneRow_->hide();
        arrange();
        emit variantAsked(id.toLongLong());
    });
    auto* away = new QToolButton;
    away->setIcon(theme::icon("close"));
    away->setAutoRaise(true);
    away->setObjectName("doneAway");
    away->setToolTip("Seen");
    away->setAccessibleName(away->toolTip());
    connect(away, &QToolButton::clicked, this, [this] {
        doneRow_->hide();
        arrange();
    });
    told->addWidget(done_, 1);
    told->addWidget(away);
    doneRow_->hide();
    column->addWidget(doneRow_);
    column->addWidget(row_ = makeRow());
    waiting_ = new QVBoxLayout;
    waiting_->setSpacing(2);
    column->addLayout(waiting_);
    hide();
    connect(&session_, &Session::progressed, this, [this](const QString& step, double share) {
        step_ = step;
        bar_->setRange(0, share > 0 ? 100 : 0);
        bar_->setValue(static_cast<int>(100 * share));
    });
    connect(&session_, &Session::busyChanged, this, [this](bool busy, const QString& title) {
        if (busy) {
            started_ = QDateTime::currentMSecsSinceEpoch();
            title_ = step_ = title;
            clock_.start(100);
            showRunning();
        } else {
            clock_.stop();
        }
        row_->setVisible(busy);
        arrange();
    });
    connect(&session_, &Session::waitingChanged, this, &WorkBar::showWaiting);
    connect(&session_, &Session::finished, this, &WorkBar::notify);
    connect(&session_, &Session::projectOpened, this, [this] {
        doneRow_->hide();
        showWaiting();
    });
    connect(&clock_, &QTimer::timeout, this, &WorkBar::showRunning);
}

QWidget* WorkBar::makeRow() {
    auto* row = new QWidget;
    auto* l = new QHBoxLayout(row);
    l->setContentsMargins(0, 2, 0, 2);
    l->setSpacing(12);
    text_ = label("");
    text_->setObjectName("progressWords");
    theme::fix(text_, theme::Length::leastWidth, 480);
    bar_ = new QProgressBar;
    bar_->setTextVisible(false);
    bar_->setFixedHeight(6);
    auto* cancel = new QPushButton(theme::icon("stop"), "Cancel");
    cancel->setObjectName("cancel");
    connect(cancel, &QPushButton::clicked, this, [this] {
        session_.cancel();
        step_ = "Cancelling";
    });
    l->addWidget(text_);
    l->addWidget(bar_, 1);
    l->addWidget(cancel);
    row->hide();
    return row;
}

void WorkBar::showRunning() {
    const double seconds = (QDateTime::currentMSecsSinceEpoch() - started_) / 1000.0;
    QString words = title_ == step_ ? step_ : title_ + ": " + step_.left(1).toLower() + step_.mid(1);
    words += QString(" · %1 s").arg(seconds, 0, 'f', 1);
    if (const auto left = session_.remaining(); left && *left >= 1) words += ", " + timeWords(*left) + " left";
    text_->setText(words);
}

void WorkBar::showWaiting() {
    clearLayout(waiting_);
    const auto& jobs = session_.waiting();
    for (std::size_t i = 0; i < jobs.size() && i < shownWaiting; ++i) {
        const Session::Job& job = jobs[i];
        const double seconds = session_.likely(job);
        auto* row = new QWidget;
        row->setObjectName("waitingRow");
        auto* l = new QHBoxLayout(row);
        l->setContentsMargins(0, 0, 0, 0);
        auto* words = label(job.title + (seconds >= 1 ? " waits, takes " + timeWords(seconds) : " waits"), "muted");
        l->addWidget(words, 1);
        auto* drop = new QPushButton("Take back");
        drop->setObjectName("takeBack");
        connect(drop, &QPushButton::clicked, this, [this, id = job.id] { session_.drop(id); });
        l->addWidget(drop);
        waiting_->addWidget(row);
    }
    if (jobs.size() > shownWaiting)
        waiting_->addWidget(label(QString("and %1 more").arg(jobs.size() - shownWaiting), "muted"));
    arrange();
}

void WorkBar::notify(const QString& words, std::int64_t variant) {
    const bool isOpen = variant < 0 || variant == session_.variant().id;
    const double seconds = (QDateTime::currentMSecsSinceEpoch() - started_) / 1000.0;
    if (isOpen && (window()->isActiveWindow() || seconds < worthTelling)) return;
    QString text = "● " + words.toHtmlEscaped();
    if (!isOpen) text += " &nbsp; " + link(QString::number(variant), "open it");
    if (!doneRow_->isVisibleTo(this)) told_.clear();
    told_ << text;
    while (told_.size() > shownDone) told_.removeFirst();
    done_->setText(told_.join("<br/>"));
    doneRow_->show();
    arrange();
    QApplication::alert(window());  // the task bar tells it while something else is in front
}

void WorkBar::arrange() {
    setVisible(row_->isVisibleTo(this) || doneRow_->isVisibleTo(this) || waiting_->count() > 0);
}

}  // namespace escultura::app

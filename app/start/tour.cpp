#include "start/tour.hpp"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QVBoxLayout>
#include <algorithm>

#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

Tour::Tour(std::vector<Step> steps, QWidget* window) : QFrame(window), steps_(std::move(steps)) {
    setObjectName("tour");
    theme::fix(this, theme::Length::width, 340);
    frame_ = new QFrame(window);
    frame_->setObjectName("tourFrame");
    frame_->setAttribute(Qt::WA_TransparentForMouseEvents);
    frame_->hide();
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(16, 12, 16, 12);
    column->setSpacing(8);
    title_ = label("", "title");
    words_ = label("");
    count_ = label("", "muted");
    back_ = new QPushButton("Back");
    back_->setObjectName("tourBack");
    next_ = new QPushButton("Next");
    next_->setObjectName("tourNext");
    next_->setProperty("primary", true);
    auto* close = new QPushButton("End the tour");
    close->setObjectName("tourEnd");
    column->addWidget(title_);
    column->addWidget(words_);
    auto* row = new QHBoxLayout;
    row->addWidget(count_, 1);
    row->addWidget(close);
    row->addWidget(back_);
    row->addWidget(next_);
    column->addLayout(row);
    connect(back_, &QPushButton::clicked, this, [this] { show(current_ - 1); });
    connect(next_, &QPushButton::clicked, this, [this] { show(current_ + 1); });
    connect(close, &QPushButton::clicked, this, &Tour::end);
    window->installEventFilter(this);
    hide();
}

void Tour::begin() {
    show(0);
}

void Tour::show(int step) {
    if (step > last()) {
        end();
        return;
    }
    current_ = std::max(step, 0);
    const Step& s = steps_[static_cast<std::size_t>(current_)];
    if (s.prepare) s.prepare();
    title_->setText(s.title);
    words_->setText(s.words);
    count_->setText(QString("%1 of %2").arg(current_ + 1).arg(steps_.size()));
    back_->setEnabled(current_ > 0);
    next_->setText(current_ == last() ? "Done" : "Next");
    QFrame::show();
    place();
    next_->setFocus();
}

void Tour::place() {
    if (current_ < 0) return;
    const QWidget* about = steps_[static_cast<std::size_t>(current_)].about;
    QWidget* window = parentWidget();
    adjustSize();
    QPoint at(window->width() / 2 - width() / 2, window->height() / 2 - height() / 2);
    frame_->setVisible(about && about->isVisible());
    if (frame_->isVisible()) {
        const QRect target(about->mapTo(window, QPoint(0, 0)), about->size());
        frame_->setGeometry(target.adjusted(2, 2, -2, -2));
        frame_->raise();
        // beside it where there is room, else within
        at = QPoint(target.right() + 16, target.top() + 24);
        if (at.x() + width() > window->width()) at.setX(target.left() - width() - 16);
        if (at.x() < 0) at = QPoint(target.center().x() - width() / 2, target.top() - height() - 16);
        if (at.y() < 0) at.setY(target.top() + 24);
        at.setX(std::clamp(at.x(), 8, std::max(8, window->width() - width() - 8)));
        at.setY(std::clamp(at.y(), 8, std::max(8, window->height() - height() - 8)));
    }
    move(at);
    raise();
}

void Tour::end() {
    current_ = -1;
    frame_->hide();
    hide();
    emit ended();
}

bool Tour::eventFilter(QObject* watched, QEvent* event) {
    if (event->type() == QEvent::Resize && isVisible())
        QMetaObject::invokeMethod(this, &Tour::place, Qt::QueuedConnection);
    return QFrame::eventFilter(watched, event);
}

void Tour::keyPressEvent(QKeyEvent* e) {
    if (e->key() == Qt::Key_Escape)
        end();
    else
        QFrame::keyPressEvent(e);
}

}  // namespace escultura::app

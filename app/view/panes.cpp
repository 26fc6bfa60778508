#include "view/panes.hpp"

#include <algorithm>

namespace escultura::app {

Panes::Panes(View* main, QWidget* parent) : QWidget(parent) {
    grid_ = new QGridLayout(this);
    grid_->setContentsMargins(0, 0, 0, 0);
    grid_->setSpacing(1);
    main_ = makePane(main, "paneMain");
    layOut();
}

Panes::Pane Panes::makePane(View* view, const char* name) {
    Pane p{new QWidget, new QLabel, view};
    p.frame->setObjectName(name);
    auto* column = new QVBoxLayout(p.frame);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(0);
    p.caption->setObjectName("paneCaption");
    p.caption->hide();
    column->addWidget(p.caption);
    column->addWidget(view, 1);
    connect(view, &View::cameraChanged, this, [this, view] { follow(view); });
    return p;
}

void Panes::toggle(std::int64_t variant) {
    auto next = companions_;
    const auto at = std::find(next.begin(), next.end(), variant);
    if (at != next.end())
        next.erase(at);
    else
        next.push_back(variant);
    if (next.size() > 3) next.erase(next.begin());
    setCompanions(std::move(next));
}

void Panes::setCompanions(std::vector<std::int64_t> variants) {
    if (variants == companions_) return;
    companions_ = std::move(variants);
    while (panes_.size() < companions_.size()) {
        auto* view = new View;
        view->setObjectName("companion");
        panes_.push_back(makePane(view, "paneBeside"));
    }
    layOut();
    emit companionsChanged();
}

void Panes::setCaption(int index, const QString& words) {
    Pane& p = index < 0 ? main_ : panes_[static_cast<std::size_t>(index)];
    p.caption->setText(words);
    p.caption->setVisible(!words.isEmpty());
}

void Panes::layOut() {
    while (grid_->count()) delete grid_->takeAt(0);
    grid_->addWidget(main_.frame, 0, 0);
    for (std::size_t i = 0; i < panes_.size(); ++i) {
        const bool on = i < companions_.size();
        panes_[i].frame->setVisible(on);
        if (on) grid_->addWidget(panes_[i].frame, static_cast<int>((i + 1) / 2), static_cast<int>((i + 1) % 2));
    }
    grid_->setColumnStretch(0, 1);
    grid_->setColumnStretch(1, companions_.empty() ? 0 : 1);
    grid_->setRowStretch(0, 1);
    grid_->setRowStretch(1, companions_.size() > 1 ? 1 : 0);
}

void Panes::follow(View* moved) {
    if (companions_.empty()) return;
    auto take = [&](View* v) {
        if (v != moved) v->setCamera(moved->camera());
    };
    take(main_.view);
    for (std::size_t i = 0; i < companions_.size(); ++i) take(panes_[i].view);
}

}  // namespace escultura::app

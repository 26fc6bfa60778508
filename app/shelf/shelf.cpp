#include "shelf/shelf.hpp"

#include <QContextMenuEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <QScrollArea>
#include <algorithm>
#include <cmath>
#include <functional>
#include <optional>

#include "judge/comparison.hpp"
#include "judge/factor.hpp"
#include "settings.hpp"
#include "store/state_text.hpp"
#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

namespace {

/// One variant on the shelf: a line, or a card with a picture.
class ShelfCard : public QFrame {
  public:
    std::function<void()> open, beside;
    std::function<void(int)> moved;
    std::function<void(const QPoint&)> menu;
    ShelfCard(const QPixmap& picture, const QString& name, const QString& detail, const QString& figures,
              const QString& verdict, bool isOpen, bool large) {
        setObjectName("card");
        setProperty("open", isOpen);
        setFocusPolicy(Qt::StrongFocus);
        setCursor(Qt::PointingHandCursor);
        setAccessibleName("Variant " + name);
        setSizePolicy(QSizePolicy::Maximum, QSizePolicy::Preferred);
        auto* l = new QHBoxLayout(this);
        l->setContentsMargins(6, large ? 5 : 3, 8, large ? 5 : 3);
        l->setSpacing(8);
        image_ = new QLabel;
        image_->setFixedSize(large ? QSize(66, 56) : QSize(28, 24));
        image_->setObjectName("thumbnail");
        setPicture(picture);
        l->addWidget(image_);
        const QString gap = large ? "<br/>" : "&nbsp;&nbsp; ";
        auto* text = new QLabel("<b>" + name.toHtmlEscaped() + "</b> <span style='color:" + theme::muted.name() + "'>" +
                                detail.toHtmlEscaped() + "</span>" + gap + figures + gap + verdict);
        l->addWidget(text, 1);
        if (large) theme::fix(this, theme::Length::width, 236);
        theme::fix(this, theme::Length::height, large ? 70 : 32);
    }
    void setPicture(const QPixmap& picture) {
        if (!picture.isNull())
            image_->setPixmap(picture.scaled(image_->size(), Qt::KeepAspectRatioByExpanding, Qt::SmoothTransformation));
    }

  protected:
    void mousePressEvent(QMouseEvent* e) override {
        if (e->button() != Qt::LeftButton) return;
        if (e->modifiers() & Qt::ControlModifier) {
            beside();
            return;
        }
        pressed_ = e->globalPosition();
    }
    void mouseReleaseEvent(QMouseEvent* e) override {
        if (e->button() != Qt::LeftButton || !pressed_) return;
        const double across = e->globalPosition().x() - pressed_->x();
        pressed_.reset();
        const int places = static_cast<int>(std::lround(across / (width() + 8)));
        if (places != 0)
            moved(places);
        else
            open();
    }
    void keyPressEvent(QKeyEvent* e) override {
        if (e->key() == Qt::Key_Return || e->key() == Qt::Key_Space)
            open();
        else
            QFrame::keyPressEvent(e);
    }
    void contextMenuEvent(QContextMenuEvent* e) override { menu(e->globalPos()); }

  private:
    QLabel* image_ = nullptr;
    std::optional<QPointF> pressed_;
};

}  // namespace

Shelf::Shelf(Session& session, QWidget* parent) : QFrame(parent), session_(session) {
    setObjectName("shelf");
    large_ = settings()->value("shelf/large", false).toBool();
    auto* outer = new QHBoxLayout(this);
    outer->setContentsMargins(12, 0, 12, 0);
    auto* area = new QScrollArea;  // more variants than the window is wide
    area->setWidgetResizable(true);
    area->setFrameShape(QFrame::NoFrame);
    area->setVerticalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    area->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    auto* line = new QWidget;
    row_ = new QHBoxLayout(line);
    row_->setContentsMargins(0, 0, 0, 0);
    row_->setSpacing(8);
    area->setWidget(line);
    outer->addWidget(area, 1);
    size_ = new QToolButton;
    size_->setObjectName("shelfSize");
    size_->setAutoRaise(true);
    connect(size_, &QToolButton::clicked, this, [this] {
        large_ = !large_;
        settings()->setValue("shelf/large", large_);
        refresh();
    });
    outer->addWidget(size_);
    theme::fix(this, theme::Length::height, large_ ? 86 : 44);
}

void Shelf::setThumbnail(std::int64_t variant, const QImage& image) {
    if (image.isNull() || !session_.hasProject()) return;
    thumbnails_[variant] =
        QPixmap::fromImage(image.scaled(66, 56, Qt::KeepAspectRatioByExpanding, Qt::SmoothTransformation));
    // in the card that stands: a click that has begun on it goes on
    const Project& p = session_.project();
    for (auto* card : findChildren<QFrame*>("card")) {
        const int i = card->property("variant").toInt();
        if (i < static_cast<int>(p.variants.size()) && p.variants[static_cast<std::size_t>(i)].id == variant)
            static_cast<ShelfCard*>(card)->setPicture(thumbnails_[variant]);
    }
}

QString Shelf::verdictOf(std::size_t i) const {
    const Project& p = session_.project();
    const Variant& v = p.variants[i];
    const LastKnown k = session_.lastKnown(i);
    QString verdict = theme::coloured("no check yet", theme::muted);
    if (k.check) {
        bool met = true, known = true, soFar = false, factorMet = true;
        QString other;  // what else is not met
        for (const auto& s : requirementStates(p, v, k.surface.get(), k.check.get())) {
            if (s.kind == Requirement::Kind::findingsDisposed) continue;  // the strip tells it
            soFar = soFar || s.state == RequirementState::State::metSoFar;
            met = met && (s.state == RequirementState::State::met || s.state == RequirementState::State::metSoFar);
            known = known && s.state != RequirementState::State::outOfDate;
            if (s.state != RequirementState::State::notMet) continue;
            if (s.kind == Requirement::Kind::safetyFactor)
                factorMet = false;
            else
                other = QString::fromStdString(s.name);
        }
        const Factor factor = factorOf(p, v, *k.check);
        QString sf = "SF " + num(factor.value);
        if (!factor.bounded)
            sf = "SF ≤ " + num(factor.band.high);
        else if (!factor.resolved)
            sf += known ? " to " + num(factor.band.high) : QString();
        verdict = !known                          ? theme::coloured("◐ " + sf + " out of date", theme::ochre)
                  : soFar && met                  ? theme::coloured("◔ " + sf + " met so far", theme::ochre)
                  : met                           ? theme::coloured("● " + sf + " met", theme::teal)
                  : factorMet && !other.isEmpty() ? theme::coloured("○ " + other + " not met", theme::clay)
                                                  : theme::coloured("○ " + sf + " not met", theme::clay);
    }
    return verdict;
}

QString Shelf::differenceOf(std::size_t i, QString& all) const {
    const Project& p = session_.project();
    const Variant& v = p.variants[i];
    if (v.recipe.check.original) return "original";
    for (const Variant& from : p.variants) {
        if (from.id != v.from || from.recipe.check.original) continue;
        const auto differs = store::differences(p.part, from.recipe, v.recipe);
        if (differs.empty()) return "as " + QString::fromStdString(from.name);
        all = "Differs from " + QString::fromStdString(from.name) + ":";
        for (const store::Difference& d : differs)
            all += QString("\n%1: %2 instead of %3")
                       .arg(text(d.what), d.after.empty() ? QString("none") : text(d.after),
                            d.before.empty() ? QString("none") : text(d.before));
        const QString first = QString("%1 %2").arg(text(differs.front().what), text(differs.front().after)).trimmed();
        return differs.size() > 1 ? QString("%1, %2 more").arg(first).arg(differs.size() - 1) : first;
    }
    return i == p.baseline ? QString() : "threshold " + plain(v.recipe.threshold);
}

void Shelf::refresh() {
    clearLayout(row_);
    theme::fix(this, theme::Length::height, large_ ? 86 : 44);
    size_->setIcon(theme::icon(large_ ? "smaller" : "larger"));
    size_->setToolTip(large_ ? "A line for the variants" : "Cards with pictures for the variants");
    size_->setAccessibleName(size_->toolTip());
    if (!session_.hasProject()) return;
    const Project& p = session_.project();
    auto massOf = [&](std::size_t i) {
        const auto k = session_.lastKnown(i);
        const double kg = figuresOf(p, p.variants[i], k.check.get(), k.surface.get()).mass;
        return std::isfinite(kg) ? kg : 0.0;
    };
    for (std::size_t i = 0; i < p.variants.size(); ++i) {
        const Variant& v = p.variants[i];
        if (v.archived && i != p.open) continue;
        const double kg = massOf(i), base = massOf(p.baseline);
        QString figures = kg > 0 ? num(kg) + " kg" : "not built yet";
        if (i != p.baseline && kg > 0 && base > 0)
            figures += QString(" <span style='color:" + theme::muted.name() + "'>%1%2 %</span>")
                           .arg(kg >= base ? "+" : "−")
                           .arg(num(100 * std::abs(kg / base - 1), 2));
        const QString verdict = verdictOf(i);
        QString differs, detail = differenceOf(i, differs);
        if (i == p.baseline) detail = detail.isEmpty() ? QString("baseline") : "baseline, " + detail;
        const auto picture = thumbnails_.find(v.id);
        auto* card =
            new ShelfCard(picture == thumbnails_.end() ? QPixmap() : picture->second, QString::fromStdString(v.name),
                          fontMetrics().elidedText(detail, Qt::ElideRight, theme::px(large_ ? 108 : 190)), figures,
                          verdict, i == p.open, large_);
        card->setProperty("variant", static_cast<int>(i));
        card->open = [this, i] { session_.openVariant(i); };
        card->menu = [this, i](const QPoint& where) { emit variantMenu(i, where); };
        card->beside = [this, i] { emit besideAsked(i); };
        card->moved = [this, i](int places) {
            session_.edit("Reorder variants", [i, places](Project& q) { moveVariant(q, i, places); });
        };
        card->setToolTip((differs.isEmpty() ? QString() : differs + "\n\n") +
                         "Click opens it, Ctrl+click puts it beside the open one, drag reorders, right click: more");
        row_->addWidget(card);
    }
    auto* add = new QPushButton("New variant");
    add->setObjectName("newVariant");
    add->setIcon(theme::icon("plus"));
    theme::fix(add, theme::Length::height, large_ ? 70 : 32);
    add->setProperty("dashed", true);
    connect(add, &QPushButton::clicked, this, &Shelf::newVariant);
    row_->addWidget(add);
    const bool hasOriginal =
        std::any_of(p.variants.begin(), p.variants.end(), [](const Variant& v) { return v.recipe.check.original; });
    if (!hasOriginal) {
        auto* original = new QPushButton(large_ ? "Original as\nbaseline" : "Original as baseline");
        original->setObjectName("addOriginal");
        theme::fix(original, theme::Length::height, large_ ? 70 : 32);
        original->setProperty("dashed", true);
        original->setToolTip("Adds the design before the optimisation, to compare with");
        connect(original, &QPushButton::clicked, this,
                [this] { session_.edit("Original as baseline", [](Project& q) { project::addOriginal(q); }); });
        row_->addWidget(original);
    }
    row_->addStretch();
}

}  // namespace escultura::app

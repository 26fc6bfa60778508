#include "shelf/shelf.hpp"

#include <QContextMenuEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <algorithm>
#include <cmath>
#include <functional>
#include <optional>

#include "judge/comparison.hpp"
#include "judge/factor.hpp"
#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

namespace {

/// One variant on the shelf.
class ShelfCard : public QFrame {
  public:
    std::function<void()> open, beside;
    std::function<void(int)> moved;
    std::function<void(const QPoint&)> menu;
    ShelfCard(const QPixmap& picture, const QString& name, const QString& detail, const QString& figures,
              const QString& verdict, bool isOpen) {
        setObjectName("card");
        setProperty("open", isOpen);
        setFocusPolicy(Qt::StrongFocus);
        setCursor(Qt::PointingHandCursor);
        setFixedSize(236, 70);
        setAccessibleName("Variant " + name);
        auto* l = new QHBoxLayout(this);
        l->setContentsMargins(6, 5, 8, 5);
        l->setSpacing(8);
        auto* image = new QLabel;
        image->setFixedSize(66, 56);
        image->setPixmap(picture);
        image->setStyleSheet("background:#EFE9DC;border-radius:4px;");
        l->addWidget(image);
        auto* text = new QLabel("<b>" + name.toHtmlEscaped() + "</b> <span style='color:#6E695F'>" +
                                detail.toHtmlEscaped() + "</span><br/>" + figures + "<br/>" + verdict);
        l->addWidget(text, 1);
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
    std::optional<QPointF> pressed_;
};

}  // namespace

Shelf::Shelf(Session& session, QWidget* parent) : QFrame(parent), session_(session) {
    setObjectName("shelf");
    setFixedHeight(86);
    setStyleSheet("QFrame#shelf { border: 0; border-bottom: 1px solid #DAD2C3; }");
    row_ = new QHBoxLayout(this);
    row_->setContentsMargins(12, 8, 12, 8);
    row_->setSpacing(8);
}

void Shelf::setThumbnail(std::int64_t variant, const QImage& image) {
    if (image.isNull()) return;
    thumbnails_[variant] =
        QPixmap::fromImage(image.scaled(66, 56, Qt::KeepAspectRatioByExpanding, Qt::SmoothTransformation));
    refresh();
}

QString Shelf::verdictOf(std::size_t i) const {
    const Project& p = session_.project();
    const Variant& v = p.variants[i];
    const LastKnown k = session_.lastKnown(i);
    QString verdict = theme::coloured("no check yet", theme::muted);
    if (k.check) {
        bool met = true, known = true, soFar = false;
        for (const auto& s : requirementStates(p, v, k.surface.get(), k.check.get())) {
            if (s.kind == Requirement::Kind::findingsDisposed) continue;  // the strip tells it
            soFar = soFar || s.state == RequirementState::State::metSoFar;
            met = met && (s.state == RequirementState::State::met || s.state == RequirementState::State::metSoFar);
            known = known && s.state != RequirementState::State::outOfDate;
        }
        const Factor factor = factorOf(p, v, *k.check);
        QString sf = "SF " + num(factor.value);
        if (!factor.bounded)
            sf = "SF ≤ " + num(factor.band.high);
        else if (!factor.resolved)
            sf += known ? " to " + num(factor.band.high) : QString();
        verdict = !known         ? theme::coloured("◐ " + sf + " · old", theme::ochre)
                  : soFar && met ? theme::coloured("◔ " + sf + " met so far", theme::ochre)
                  : met          ? theme::coloured("● " + sf + " met", theme::teal)
                                 : theme::coloured("○ " + sf + " not met", theme::clay);
    }
    return verdict;
}

void Shelf::refresh() {
    clearLayout(row_);
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
            figures += QString(" <span style='color:#6E695F'>%1%2 %</span>")
                           .arg(kg >= base ? "+" : "−")
                           .arg(num(100 * std::abs(kg / base - 1), 2));
        const QString verdict = verdictOf(i);
        const auto picture = thumbnails_.find(v.id);
        auto* card =
            new ShelfCard(picture == thumbnails_.end() ? QPixmap() : picture->second, QString::fromStdString(v.name),
                          i == p.baseline           ? QString("baseline")
                          : v.recipe.check.original ? QString("original")
                                                    : "threshold " + plain(v.recipe.threshold),
                          figures, verdict, i == p.open);
        card->setProperty("variant", static_cast<int>(i));
        card->open = [this, i] {
            if (session_.project().open != i && !session_.isBusy())
                session_.edit("Open variant", [i](Project& q) { q.open = i; });
        };
        card->menu = [this, i](const QPoint& where) { emit variantMenu(i, where); };
        card->beside = [this, i] { emit besideAsked(i); };
        card->moved = [this, i](int places) {
            if (session_.isBusy()) return;
            session_.edit("Reorder variants", [i, places](Project& q) { moveVariant(q, i, places); });
        };
        card->setToolTip("Click opens it, Ctrl+click puts it beside the open one, drag reorders, right click: more");
        row_->addWidget(card);
    }
    auto* add = new QPushButton("New variant");
    add->setObjectName("newVariant");
    add->setIcon(theme::icon("plus"));
    add->setFixedHeight(70);
    add->setStyleSheet(
        "QPushButton { border: 1px dashed #CBBDA2; color: #6E695F; padding: 0 16px; background: transparent; } "
        "QPushButton:hover { border-color: #B4532A; }");
    connect(add, &QPushButton::clicked, this, &Shelf::newVariant);
    row_->addWidget(add);
    const bool hasOriginal =
        std::any_of(p.variants.begin(), p.variants.end(), [](const Variant& v) { return v.recipe.check.original; });
    if (!hasOriginal) {
        auto* original = new QPushButton("Original as\nbaseline");
        original->setObjectName("addOriginal");
        original->setFixedHeight(70);
        original->setStyleSheet(add->styleSheet());
        original->setToolTip("Adds the design before the optimisation, to compare with");
        connect(original, &QPushButton::clicked, this, [this] {
            if (!session_.isBusy()) session_.edit("Original as baseline", [](Project& q) { project::addOriginal(q); });
        });
        row_->addWidget(original);
    }
    row_->addStretch();
}

}  // namespace escultura::app

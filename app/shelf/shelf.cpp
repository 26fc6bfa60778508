#include "shelf/shelf.hpp"

#include <QContextMenuEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <functional>

#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace project;

namespace {

/// One variant on the shelf.
class ShelfCard : public QFrame {
  public:
    std::function<void()> open;
    std::function<void(const QPoint&)> menu;
    ShelfCard(const QPixmap& picture, const QString& name, const QString& detail, const QString& figures,
              const QString& verdict, bool isOpen) {
        setObjectName("card");
        setProperty("open", isOpen);
        setFocusPolicy(Qt::StrongFocus);
        setCursor(Qt::PointingHandCursor);
        setFixedSize(216, 70);
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
        if (e->button() == Qt::LeftButton) open();
    }
    void keyPressEvent(QKeyEvent* e) override {
        if (e->key() == Qt::Key_Return || e->key() == Qt::Key_Space)
            open();
        else
            QFrame::keyPressEvent(e);
    }
    void contextMenuEvent(QContextMenuEvent* e) override { menu(e->globalPos()); }
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

void Shelf::refresh() {
    clearLayout(row_);
    if (!session_.hasProject()) return;
    const Project& p = session_.project();
    auto massOf = [&](std::size_t i) {
        const auto k = session_.lastKnown(i);
        if (p.variants[i].recipe.check.original && k.check) return k.check->quality.volume * p.part.material.density;
        return k.surface ? k.surface->measures.volume * p.part.material.density : 0.0;
    };
    for (std::size_t i = 0; i < p.variants.size(); ++i) {
        const Variant& v = p.variants[i];
        const LastKnown k = session_.lastKnown(i);
        const double kg = massOf(i), base = massOf(p.baseline);
        QString figures = kg > 0 ? num(kg) + " kg" : "not built yet";
        if (i != p.baseline && kg > 0 && base > 0)
            figures += QString(" <span style='color:#6E695F'>%1%2 %</span>")
                           .arg(kg >= base ? "+" : "−")
                           .arg(num(100 * std::abs(kg / base - 1), 2));
        QString verdict = theme::coloured("no check yet", theme::muted);
        if (k.check) {
            bool met = true, known = true;
            for (const auto& s : requirementStates(p, v.recipe, k.surface.get(), k.check.get())) {
                met = met && s.state == RequirementState::State::met;
                known = known && s.state != RequirementState::State::outOfDate;
            }
            const QString sf = "SF " + num(k.check->minSafetyFactor);
            verdict = !known ? theme::coloured("◐ " + sf + " · old", theme::ochre)
                      : met  ? theme::coloured("● " + sf + " met", theme::teal)
                             : theme::coloured("○ " + sf + " not met", theme::clay);
        }
        const auto picture = thumbnails_.find(v.id);
        auto* card = new ShelfCard(
            picture == thumbnails_.end() ? QPixmap() : picture->second, QString::fromStdString(v.name),
            i == p.baseline ? "baseline" : "threshold " + plain(v.recipe.threshold), figures, verdict, i == p.open);
        card->setProperty("variant", static_cast<int>(i));
        card->open = [this, i] {
            if (session_.project().open != i && !session_.isBusy())
                session_.edit("Open variant", [i](Project& q) { q.open = i; });
        };
        card->menu = [this, i](const QPoint& where) { emit variantMenu(i, where); };
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
    row_->addStretch();
}

}  // namespace escultura::app

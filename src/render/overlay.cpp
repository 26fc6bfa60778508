#include "render/overlay.hpp"

#include <QFontInfo>
#include <QFontMetricsF>
#include <QLineF>
#include <QPainterPath>
#include <algorithm>
#include <cmath>

#include "base/quantity.hpp"

namespace escultura::render {
namespace {

QString number(double v) {
    return v == 0 ? QString("0") : QString::fromStdString(formatNumber(v, 3));
}

/// Of the axis mark.
QRectF axesBox(const QSize& size) {
    return {0, size.height() - 80.0, 80, 80};
}

void card(QPainter& p, const QRectF& r, const OverlayColours& c, const QColor& edge) {
    p.setPen(QPen(edge, 1));
    QColor fill = c.card;
    fill.setAlpha(236);
    p.setBrush(fill);
    p.drawRoundedRect(r, 6, 6);
}

QFont bold(QFont f) {
    f.setWeight(QFont::DemiBold);
    return f;
}

bool hasMark(const Label& l) {
    return l.role == Label::Role::maximum || l.role == Label::Role::minimum || l.role == Label::Role::finding;
}

constexpr double markWidth = 14, wordGap = 5;  // px

/// Room that a label's words take, px.
QSizeF contentOf(const Label& l, const QFont& font) {
    const QFontMetricsF strong(bold(font)), plain(font);
    const double gap = l.strong.empty() || l.text.empty() ? 0 : wordGap;
    return {(hasMark(l) ? markWidth : 0) + strong.horizontalAdvance(QString::fromStdString(l.strong)) + gap +
                plain.horizontalAdvance(QString::fromStdString(l.text)) + 16,
            plain.height() + 8};
}

/// Where the caption and its detail stand: the detail beside it, or below it where the picture is too narrow.
struct CaptionLayout {
    QRectF card, detail;
    double base = 0;  ///< of the caption's letters
};
CaptionLayout captionLayout(const Scene& scene, const QSize& size, const QFont& font) {
    CaptionLayout l;
    if (scene.caption.empty()) return l;
    constexpr double left = 16, top = 14, inset = 10, gap = 6;
    const QFontMetricsF strong(bold(font)), metrics(font);
    const QString words = QString::fromStdString(scene.captionDetail);
    const double caption = strong.horizontalAdvance(QString::fromStdString(scene.caption)),
                 detail = words.isEmpty() ? 0 : metrics.horizontalAdvance(words) + 1;
    const double legend = scene.legend.shown ? size.width() - legendLayout(size, metrics).card.left() : 0;
    const double room = std::max(120.0, size.width() - left - legend - 16 - 2 * inset);
    l.base = top + 5 + metrics.ascent();
    if (detail == 0 || caption + gap + detail <= room) {
        l.card = {left, top, caption + (detail > 0 ? gap + detail : 0) + 2 * inset, metrics.height() + 10};
        l.detail = {left + inset + caption + gap, top + 5, detail, metrics.height()};
        return l;
    }
    const QRectF block = metrics.boundingRect(QRectF(0, 0, room, 400), Qt::TextWordWrap | Qt::AlignLeft, words);
    l.detail = {left + inset, top + 5 + metrics.height(), room, block.height()};
    l.card = {left, top, std::max(caption, block.width()) + 2 * inset, metrics.height() + block.height() + 10};
    return l;
}

void paintLabel(QPainter& p, const Label& l, const PlacedLabel& placed, const OverlayColours& c) {
    QColor edge = l.role == Label::Role::load || l.role == Label::Role::support ? c.teal
                  : l.role == Label::Role::reading                              ? c.line
                                                                                : c.clay;
    const QPointF& at = placed.at;
    if (l.isHidden) edge.setAlpha(130);
    if (!placed.box) {
        p.setPen(Qt::NoPen);
        p.setBrush(edge);
        p.drawEllipse(at, 3.5, 3.5);
        return;
    }
    const QRectF& box = *placed.box;
    p.setPen(QPen(edge, 1, l.isHidden ? Qt::DashLine : Qt::SolidLine));
    p.drawLine(at, QPointF(std::clamp(at.x(), box.left(), box.right()), std::clamp(at.y(), box.top(), box.bottom())));
    p.setBrush(l.isHidden ? Qt::NoBrush : QBrush(edge));
    p.drawEllipse(at, 2.5, 2.5);
    card(p, box, c, edge);
    const QFontMetricsF metrics(p.font());
    double x = box.left() + 8;
    const double base = box.top() + 4 + metrics.ascent();
    if (hasMark(l)) {
        QPainterPath triangle;
        const double y = box.center().y();
        const double s = l.role == Label::Role::minimum ? -1 : 1;
        triangle.moveTo(x, y + 4 * s);
        triangle.lineTo(x + 9, y + 4 * s);
        triangle.lineTo(x + 4.5, y - 4 * s);
        p.setPen(Qt::NoPen);
        p.setBrush(edge);
        p.drawPath(triangle);
        x += markWidth;
    }
    p.setPen(l.isHidden ? c.muted : c.ink);
    const QFont plain = p.font();
    const QString strong = QString::fromStdString(l.strong);
    p.setFont(bold(plain));
    p.drawText(QPointF(x, base), strong);
    x += QFontMetricsF(p.font()).horizontalAdvance(strong) + (l.strong.empty() || l.text.empty() ? 0 : wordGap);
    p.setFont(plain);
    p.drawText(QPointF(x, base), QString::fromStdString(l.text));
}

void paintLabels(QPainter& p, const QSize& size, const Scene& scene, const Camera& camera, const OverlayColours& c) {
    const auto placed = placeLabels(scene.labels, size, camera, p.font(), takenBy(scene, size, p.font()));
    for (std::size_t k = 0; k < placed.size(); ++k)
        if (placed[k]) paintLabel(p, scene.labels[k], *placed[k], c);
}

void paintLegend(QPainter& p, const QSize& size, const Legend& legend, const OverlayColours& c) {
    const QFontMetricsF metrics(p.font());
    const LegendLayout at = legendLayout(size, metrics);
    card(p, at.card, c, c.line);
    const QFont plain = p.font();
    p.setFont(bold(plain));
    p.setPen(c.ink);
    const QString title = QString::fromStdString(legend.title);
    p.drawText(QPointF(at.card.left() + 10, at.card.top() + 10 + metrics.ascent()), title);
    const double titleWidth = QFontMetricsF(p.font()).horizontalAdvance(title);
    p.setFont(plain);
    p.setPen(c.muted);
    p.drawText(QPointF(at.card.left() + 16 + titleWidth, at.card.top() + 10 + metrics.ascent()),
               QString::fromStdString(legend.unit));
    const int rows = std::max(static_cast<int>(at.bar.height()), 1);
    for (int r = 0; r < rows; ++r) {
        const Colour k = legend.scale.colourAt(1 - (r + 0.5) / rows);
        p.fillRect(QRectF(at.bar.left(), at.bar.top() + r, at.bar.width(), 1.5), QColor(k.r, k.g, k.b));
    }
    p.setPen(QPen(c.line, 1));
    p.setBrush(Qt::NoBrush);
    p.drawRect(at.bar);
    const double most = legend.share.empty() ? 0 : *std::max_element(legend.share.begin(), legend.share.end());
    const double histogramWidth = 48;
    for (std::size_t b = 0; b < legend.share.size() && most > 0; ++b) {
        const double h = at.bar.height() / static_cast<double>(legend.share.size());
        const double top = at.bar.bottom() - h * static_cast<double>(b + 1);
        // square root: small volumes with high values stay visible
        const double w = histogramWidth * std::sqrt(legend.share[b] / most);
        if (legend.share[b] > 0)
            p.fillRect(QRectF(at.bar.right() + 3, top + 0.75, std::max(w, 1.0), h - 1.5), QColor(0xCB, 0xBD, 0xA2));
    }
    p.setPen(c.ink);
    constexpr int ticks = 5;
    for (int t = 0; t < ticks; ++t) {
        const double x = t / (ticks - 1.0);
        const double y = at.bar.bottom() - x * at.bar.height();
        p.drawText(QRectF(at.bar.right() + histogramWidth + 4, y - metrics.height() / 2,
                          at.card.right() - at.bar.right() - histogramWidth - 12, metrics.height()),
                   Qt::AlignRight | Qt::AlignVCenter, number(legend.scale.valueAt(x)));
    }
    p.setPen(c.muted);
    QFont small = plain;
    small.setPixelSize(std::max(9, static_cast<int>(std::lround(0.88 * QFontInfo(plain).pixelSize()))));
    p.setFont(small);
    p.drawText(QRectF(at.card.left() + 10, at.bar.bottom() + 8, at.card.width() - 20, metrics.height()),
               Qt::AlignLeft | Qt::AlignVCenter, QString::fromStdString("bars: share of " + legend.shareOf));
    p.setFont(plain);
}

void paintAxes(QPainter& p, const QSize& size, const Camera& camera, const OverlayColours& c) {
    const QPointF origin(38, size.height() - 40);
    const char* names[3] = {"x", "y", "z"};
    for (int a = 0; a < 3; ++a) {
        const Vec3 d = Vec3::Unit(a);
        const QPointF tip = origin + 24 * QPointF(d.dot(camera.side()), -d.dot(camera.screenUp()));
        p.setPen(QPen(c.muted, 1.4));
        p.drawLine(origin, tip);
        const QPointF out = origin + 32 * QPointF(d.dot(camera.side()), -d.dot(camera.screenUp()));
        p.setPen(c.muted);
        p.drawText(QRectF(out.x() - 8, out.y() - 8, 16, 16), Qt::AlignCenter, names[a]);
    }
}

}  // namespace

QRectF captionCard(const Scene& scene, const QSize& size, const QFont& font) {
    return captionLayout(scene, size, font).card;
}

LegendLayout legendLayout(const QSize& size, const QFontMetricsF& metrics) {
    LegendLayout l;
    const double width = std::max(152.0, metrics.horizontalAdvance("bars: share of volume") + 22),
                 height = std::clamp(size.height() * 0.52, 180.0, 330.0);
    l.card = QRectF(size.width() - width - 16, 16, width, height);
    const double top = l.card.top() + metrics.height() + 20;
    l.bar = QRectF(l.card.left() + 10, top, 14, l.card.bottom() - top - metrics.height() - 16);
    return l;
}

void paintOverlay(QPainter& painter, const QSize& size, const Scene& scene, const Camera& camera,
                  const OverlayColours& colours) {
    painter.setRenderHint(QPainter::Antialiasing);
    paintAxes(painter, size, camera, colours);
    if (scene.legend.shown) paintLegend(painter, size, scene.legend, colours);
    paintLabels(painter, size, scene, camera, colours);
    if (!scene.caption.empty()) {
        const CaptionLayout at = captionLayout(scene, size, painter.font());
        card(painter, at.card, colours, colours.line);
        const QFont plain = painter.font();
        painter.setPen(colours.ink);
        painter.setFont(bold(plain));
        painter.drawText(QPointF(at.card.left() + 10, at.base), QString::fromStdString(scene.caption));
        painter.setFont(plain);
        painter.setPen(colours.muted);
        painter.drawText(at.detail, Qt::AlignLeft | Qt::TextWordWrap, QString::fromStdString(scene.captionDetail));
    }
}

std::vector<std::optional<PlacedLabel>> placeLabels(const std::vector<Label>& labels, const QSize& size,
                                                    const Camera& camera, const QFont& font,
                                                    std::vector<QRectF> taken) {
    constexpr double margin = 8, apart = 4;  // px
    const QRectF room = QRectF(QPointF(0, 0), QSizeF(size)).adjusted(margin, margin, -margin, -margin);
    std::vector<std::optional<PlacedLabel>> placed(labels.size());
    auto isFree = [&](const QRectF& box) {
        return room.contains(box) && std::none_of(taken.begin(), taken.end(), [&](const QRectF& r) {
                   return r.intersects(box.adjusted(-apart, -apart, apart, apart));
               });
    };
    for (std::size_t k = 0; k < labels.size(); ++k) {
        const Vec3 at = camera.project(labels[k].position, size.width(), size.height());
        if (at[0] < 0 || at[1] < 0 || at[0] > size.width() || at[1] > size.height()) continue;
        const QSizeF content = contentOf(labels[k], font);
        PlacedLabel& label = placed[k].emplace(PlacedLabel{QPointF(at[0], at[1]), {}});
        // around the place, first above it to the right, farther and farther out
        for (double distance = 12; !label.box && distance < size.width(); distance *= 1.35)
            for (int turn = 0; turn < 16; ++turn) {
                const double angle = (45 + (turn % 2 ? -1 : 1) * 22.5 * ((turn + 1) / 2)) * M_PI / 180;
                const double dx = std::cos(angle), dy = -std::sin(angle);
                const QPointF near = label.at + distance * QPointF(dx, dy);
                const QRectF box(QPointF(near.x() - content.width() * 0.5 * (1 - std::clamp(dx * 1.5, -1.0, 1.0)),
                                         near.y() - content.height() * 0.5 * (1 - std::clamp(dy * 1.5, -1.0, 1.0))),
                                 content);
                if (!isFree(box)) continue;
                label.box = box;
                break;
            }
        // else the nearest room anywhere
        constexpr double step = 6;
        double nearest = 1e300;
        if (!label.box)
            for (double y = room.top(); y + content.height() <= room.bottom(); y += step)
                for (double x = room.left(); x + content.width() <= room.right(); x += step) {
                    const QRectF box(QPointF(x, y), content);
                    const double distance = QLineF(box.center(), label.at).length();
                    if (distance >= nearest || !isFree(box)) continue;
                    nearest = distance;
                    label.box = box;
                }
        if (label.box) taken.push_back(*label.box);
    }
    return placed;
}

Scene overlayOf(const Scene& scene) {
    Scene overlay;
    overlay.labels = scene.labels;
    overlay.legend = scene.legend;
    overlay.caption = scene.caption;
    overlay.captionDetail = scene.captionDetail;
    return overlay;
}

std::vector<QRectF> takenBy(const Scene& scene, const QSize& size, const QFont& font) {
    std::vector<QRectF> taken{captionLayout(scene, size, font).card, axesBox(size)};
    if (scene.legend.shown) taken.push_back(legendLayout(size, QFontMetricsF(font)).card);
    return taken;
}

void markHidden(std::vector<Label>& labels, const Picker& picker, const Camera& camera, const QSize& size) {
    for (Label& l : labels) l.isHidden = picker.hides(camera, size.width(), size.height(), l.position);
}

QImage picture(Renderer& renderer, const std::shared_ptr<const Scene>& scene, const Camera& camera, int width,
               int height) {
    renderer.setScene(scene);
    QImage image = renderer.render(camera, width, height, true);
    QPainter painter(&image);
    QFont font("Inter");
    font.setPixelSize(std::max(12, height / 42));
    painter.setFont(font);
    Scene overlay = overlayOf(*scene);
    if (!overlay.labels.empty()) markHidden(overlay.labels, Picker(scene), camera, image.size());
    paintOverlay(painter, image.size(), overlay, camera);
    return image;
}

}  // namespace escultura::render

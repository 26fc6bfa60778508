#include "render/overlay.hpp"

#include <QFontInfo>
#include <QFontMetricsF>
#include <QPainterPath>
#include <algorithm>
#include <cmath>

#include "base/quantity.hpp"

namespace escultura::render {
namespace {

QString number(double v) {
    return v == 0 ? QString("0") : QString::fromStdString(formatNumber(v, 3));
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

void paintLabels(QPainter& p, const QSize& size, const Scene& scene, const Camera& camera, const OverlayColours& c) {
    std::vector<QRectF> taken;
    if (scene.legend.shown) taken.push_back(legendLayout(size, QFontMetricsF(p.font())).card);
    for (const Label& l : scene.labels) {
        const Vec3 at = camera.project(l.position, size.width(), size.height());
        if (at[0] < 0 || at[1] < 0 || at[0] > size.width() || at[1] > size.height()) continue;
        const QColor edge = l.role == Label::Role::load || l.role == Label::Role::support ? c.teal
                            : l.role == Label::Role::reading                              ? c.line
                                                                                          : c.clay;
        const QString strong = QString::fromStdString(l.strong), rest = QString::fromStdString(l.text);
        const QFontMetricsF strongMetrics(bold(p.font())), metrics(p.font());
        const double mark =
            l.role == Label::Role::maximum || l.role == Label::Role::minimum || l.role == Label::Role::finding ? 14 : 0;
        const double gap = strong.isEmpty() || rest.isEmpty() ? 0 : 5;
        const QSizeF content(
            mark + strongMetrics.horizontalAdvance(strong) + gap + metrics.horizontalAdvance(rest) + 16,
            metrics.height() + 8);
        QRectF box(QPointF(at[0] + 14, at[1] - content.height() - 8), content);
        auto inside = [&] {
            box.moveLeft(std::clamp(box.left(), 8.0, std::max(8.0, size.width() - box.width() - 8)));
            box.moveTop(std::clamp(box.top(), 8.0, std::max(8.0, size.height() - box.height() - 8)));
        };
        inside();
        for (int tries = 0; tries < 12; ++tries) {
            const auto hit = std::find_if(taken.begin(), taken.end(),
                                          [&](const QRectF& r) { return r.intersects(box.adjusted(-3, -3, 3, 3)); });
            if (hit == taken.end()) break;
            if (tries % 2 == 0)
                box.moveTop(hit->bottom() + 6);
            else
                box.moveRight(hit->left() - 6);
            inside();
        }
        taken.push_back(box);
        p.setPen(QPen(edge, 1));
        p.drawLine(QPointF(at[0], at[1]),
                   QPointF(std::clamp(at[0], box.left(), box.right()), std::clamp(at[1], box.top(), box.bottom())));
        p.setBrush(edge);
        p.drawEllipse(QPointF(at[0], at[1]), 2.5, 2.5);
        card(p, box, c, edge);
        double x = box.left() + 8;
        const double base = box.top() + 4 + metrics.ascent();
        if (mark > 0) {
            QPainterPath triangle;
            const double y = box.center().y();
            const double s = l.role == Label::Role::minimum ? -1 : 1;
            triangle.moveTo(x, y + 4 * s);
            triangle.lineTo(x + 9, y + 4 * s);
            triangle.lineTo(x + 4.5, y - 4 * s);
            p.setPen(Qt::NoPen);
            p.setBrush(edge);
            p.drawPath(triangle);
            x += mark;
        }
        p.setPen(c.ink);
        const QFont plain = p.font();
        p.setFont(bold(plain));
        p.drawText(QPointF(x, base), strong);
        p.setFont(plain);
        p.drawText(QPointF(x + strongMetrics.horizontalAdvance(strong) + gap, base), rest);
    }
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
        const QString caption = QString::fromStdString(scene.caption),
                      detail = QString::fromStdString(scene.captionDetail);
        const QFontMetricsF strong(bold(painter.font())), metrics(painter.font());
        const double gap = detail.isEmpty() ? 0 : 6;
        const QRectF box(16, 14, strong.horizontalAdvance(caption) + gap + metrics.horizontalAdvance(detail) + 20,
                         metrics.height() + 10);
        card(painter, box, colours, colours.line);
        const double base = box.top() + 5 + metrics.ascent();
        const QFont plain = painter.font();
        painter.setPen(colours.ink);
        painter.setFont(bold(plain));
        painter.drawText(QPointF(box.left() + 10, base), caption);
        painter.setFont(plain);
        painter.setPen(colours.muted);
        painter.drawText(QPointF(box.left() + 10 + strong.horizontalAdvance(caption) + gap, base), detail);
    }
}

QImage picture(Renderer& renderer, const std::shared_ptr<const Scene>& scene, const Camera& camera, int width,
               int height) {
    renderer.setScene(scene);
    QImage image = renderer.render(camera, width, height, true);
    QPainter painter(&image);
    QFont font("Inter");
    font.setPixelSize(std::max(12, height / 42));
    painter.setFont(font);
    paintOverlay(painter, image.size(), *scene, camera);
    return image;
}

}  // namespace escultura::render

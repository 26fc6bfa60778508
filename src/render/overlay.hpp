/// @file render/overlay.hpp
/// What is painted over the picture: legend with histogram, labels, caption, axis mark.

#pragma once
#include <QPainter>
#include <QRectF>
#include <optional>
#include <vector>

#include "render/picker.hpp"
#include "render/renderer.hpp"

namespace escultura::render {

struct OverlayColours {
    QColor card{0xFF, 0xFD, 0xF8}, ink{0x2B, 0x2A, 0x27}, muted{0x6E, 0x69, 0x5F}, line{0xDA, 0xD2, 0xC3},
        clay{0xB4, 0x53, 0x2A}, teal{0x1F, 0x6F, 0x6B}, ochre{0xC5, 0x8B, 0x1B};
};

/// Where the legend's parts lie, for its handles.
struct LegendLayout {
    QRectF card, bar;
};
LegendLayout legendLayout(const QSize& size, const QFontMetricsF& metrics);

/// Where the caption stands; empty: there is none.
QRectF captionCard(const Scene& scene, const QSize& size, const QFont& font);

/// A label's place in the picture, and its box where there is room for one.
struct PlacedLabel {
    QPointF at;
    std::optional<QRectF> box;
};
/// Places labels beside their places: inside the picture, over neither each other nor what is taken (legend, caption,
/// axis mark). @return one a label; none of those whose place is not in the picture
std::vector<std::optional<PlacedLabel>> placeLabels(const std::vector<Label>& labels, const QSize& size,
                                                    const Camera& camera, const QFont& font, std::vector<QRectF> taken);

/// What is painted over a scene, without what is drawn.
Scene overlayOf(const Scene& scene);

/// What labels keep clear of: legend, caption, axis mark.
std::vector<QRectF> takenBy(const Scene& scene, const QSize& size, const QFont& font);

/// Marks the labels whose places are hidden.
void markHidden(std::vector<Label>& labels, const Picker& picker, const Camera& camera, const QSize& size);

/// Paints labels, legend, caption and axis mark.
void paintOverlay(QPainter& painter, const QSize& size, const Scene& scene, const Camera& camera,
                  const OverlayColours& colours = {});

/// A picture with its overlay, as the report shows it.
QImage picture(Renderer& renderer, const std::shared_ptr<const Scene>& scene, const Camera& camera, int width,
               int height);

}  // namespace escultura::render

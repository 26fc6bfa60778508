/// @file render/overlay.hpp
/// What is painted over the picture: legend with histogram, labels, caption, axis mark.

#pragma once
#include <QPainter>
#include <QRectF>

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

/// Paints labels, legend, caption and axis mark.
/// @param bottomInset  height at the lower edge that other things cover
void paintOverlay(QPainter& painter, const QSize& size, const Scene& scene, const Camera& camera,
                  const OverlayColours& colours = {});

/// A picture with its overlay, as the report shows it.
QImage picture(Renderer& renderer, const std::shared_ptr<const Scene>& scene, const Camera& camera, int width,
               int height);

}  // namespace escultura::render

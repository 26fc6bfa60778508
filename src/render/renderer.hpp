/// @file render/renderer.hpp
/// Draws a Scene off screen into an image: the same code for the window, the tests and the report. Needs no display.

#pragma once
#include <QImage>
#include <memory>

#include "render/camera.hpp"
#include "render/scene.hpp"

namespace escultura::render {

/// Owns the drawing context; use it from one thread.
class Renderer {
  public:
    /// @throws Error when no software drawing context can be made
    Renderer();
    ~Renderer();
    void setScene(std::shared_ptr<const Scene> scene);
    /// @param smooth  anti-aliased (slower)
    QImage render(const Camera& camera, int width, int height, bool smooth, Colour background = {0xF6, 0xF2, 0xEA});

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

}  // namespace escultura::render

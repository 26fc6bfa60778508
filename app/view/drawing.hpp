/// @file view/drawing.hpp
/// Makes scenes and draws them beside the interface; the latest order counts, those in between are passed over.

#pragma once
#include <QImage>
#include <QObject>
#include <QThread>
#include <condition_variable>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <vector>

#include "render/picker.hpp"
#include "render/renderer.hpp"

namespace escultura::app {

class Drawing : public QObject {
    Q_OBJECT

  public:
    /// Called on the drawing thread. May return null: nothing changes.
    using Make = std::function<std::shared_ptr<const render::Scene>()>;
    /// How a picture is drawn.
    struct Frame {
        render::Camera camera;
        int width = 0, height = 0;  ///< pixels
        double ratio = 1;           ///< of pixels to those of the interface
        bool smooth = true;
        render::Colour ground;
    };
    /// A picture of the whole part beside the frame.
    struct Small {
        int width = 0, height = 0;
        double seen = 0.9;                        ///< height of what is seen over the height of the part's bounds
        std::function<void(const QImage&)> tell;  ///< not called here
    };
    /// What has been drawn; what is null has not changed.
    struct Done {
        std::shared_ptr<const render::Scene> scene;
        std::shared_ptr<const render::Picker> picker;
        std::optional<render::Camera> fitted;  ///< to a new scene
        std::optional<std::pair<QImage, render::Camera>> frame;
        std::vector<std::pair<QImage, std::function<void(const QImage&)>>> small;
        int order = 0;    ///< number of the last scene that was dealt with
        QString failure;  ///< making or drawing a scene failed; the earlier one stays
    };

    explicit Drawing(QObject* parent = nullptr);
    ~Drawing() override;
    /// Orders a scene and its first picture. @param fit  moves the frame's camera to show it whole
    /// @return the order's number
    int setScene(Make make, const Frame& frame, bool fit, const std::optional<Small>& small = std::nullopt);
    /// Orders a picture of the scene, once that is there.
    void draw(const Frame& frame, const std::optional<Small>& small = std::nullopt);
    /// Waits for all that was ordered.
    void finish();
    bool isIdle() const;
    /// Takes what has been done since the last call.
    Done take();
    /// A picture of the scene as it is then; waits for it. Null when nothing can be drawn.
    QImage picture(const std::function<QImage(render::Renderer&, const render::Scene&)>& draw);
    /// Why nothing can be drawn at all; empty: it can.
    QString failure() const;

  signals:
    void ready();  ///< something can be taken

  private:
    struct Order {
        Make make;
        bool fit = false;
        int number = 0;
        std::optional<Frame> frame;
        std::vector<Small> small;
        std::function<void(render::Renderer&, const render::Scene*)> other;
    };
    void run();
    Done carryOut(const Order& order, render::Renderer& renderer);

    mutable std::mutex mutex_;
    std::condition_variable ordered_, idle_;
    Order next_;
    int orders_ = 0;
    bool waiting_ = false, working_ = true, ended_ = false;
    Done done_;
    QString failure_;
    std::shared_ptr<const render::Scene> scene_;  ///< of the drawing thread
    std::unique_ptr<QThread> thread_;
};

}  // namespace escultura::app

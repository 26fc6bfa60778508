/// @file field_painter.hpp
/// Finer pictures of large fields, made beside the interface once nothing moves any more.

#pragma once
#include <QObject>
#include <QTimer>
#include <memory>

#include "project/project.hpp"
#include "report/part_scene.hpp"

class QThread;

namespace escultura::app {

class FieldPainter : public QObject {
    Q_OBJECT

  public:
    explicit FieldPainter(QObject* parent);
    ~FieldPainter() override;
    /// Forgets what was asked for, and asks for a picture of a field. @param drawn  what is drawn of it; null: all
    void ask(const project::Project& project, const report::SceneOptions& options,
             std::shared_ptr<const stages::FieldResult> drawn);
    /// Forgets what was asked for: something else is shown.
    void drop();

  signals:
    void painted(std::shared_ptr<const render::Scene> scene);

  private:
    struct Order {
        project::Project project;
        report::SceneOptions options;
        std::shared_ptr<const stages::FieldResult> drawn;
    };
    void start();
    QTimer rest_;
    std::shared_ptr<const Order> order_;
    QThread* worker_ = nullptr;
};

}  // namespace escultura::app

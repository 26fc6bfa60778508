#include "field_painter.hpp"

#include <QThread>

#include "step_back.hpp"

namespace escultura::app {

FieldPainter::FieldPainter(QObject* parent) : QObject(parent) {
    rest_.setSingleShot(true);
    rest_.setInterval(250);
    connect(&rest_, &QTimer::timeout, this, &FieldPainter::start);
}

FieldPainter::~FieldPainter() {
    drop();
    if (!worker_) return;
    worker_->wait();
    delete worker_;
}

void FieldPainter::ask(const project::Project& project, const report::SceneOptions& options,
                       std::shared_ptr<const stages::FieldResult> drawn) {
    order_ = std::make_shared<const Order>(Order{project, options, std::move(drawn)});
    rest_.start();
}

void FieldPainter::drop() {
    order_.reset();
    rest_.stop();
}

void FieldPainter::start() {
    if (!order_ || worker_) return;  // the running one begins the next when it is done
    auto scene = std::make_shared<std::shared_ptr<const render::Scene>>();
    worker_ = QThread::create([order = order_, scene] {
        stepBack(5);
        try {
            report::SceneInputs inputs;
            inputs.drawn = order->drawn.get();
            *scene = report::makeScene(order->project, order->project.current().recipe, order->options, inputs);
        } catch (const std::exception&) {
            // the coarser picture stays
        }
    });
    connect(worker_, &QThread::finished, this, [this, order = order_, scene] {
        worker_->deleteLater();
        worker_ = nullptr;
        if (order != order_) {
            if (order_) rest_.start();
            return;
        }
        order_.reset();
        if (*scene) emit painted(*scene);
    });
    worker_->start(QThread::LowPriority);
}

}  // namespace escultura::app

#include "view/drawing.hpp"

#include <iterator>

#include "step_back.hpp"

namespace escultura::app {

Drawing::Drawing(QObject* parent)
    : QObject(parent), thread_(QThread::create([this] {
          stepBack(5);
          run();
      })) {
    thread_->setObjectName("drawing");
    thread_->start();
}

Drawing::~Drawing() {
    {
        const std::lock_guard lock(mutex_);
        ended_ = true;
    }
    ordered_.notify_all();
    thread_->wait();
}

int Drawing::setScene(Make make, const Frame& frame, bool fit, const std::optional<Small>& small) {
    int number = 0;
    {
        const std::lock_guard lock(mutex_);
        next_.fit = fit || (waiting_ && next_.fit);  // what was to be fitted and was passed over
        next_.make = std::move(make);
        next_.frame = frame;
        next_.small.clear();  // of a scene that was passed over
        if (small) next_.small.push_back(*small);
        next_.number = number = ++orders_;
        waiting_ = true;
    }
    ordered_.notify_all();
    return number;
}

void Drawing::draw(const Frame& frame, const std::optional<Small>& small) {
    {
        const std::lock_guard lock(mutex_);
        next_.frame = frame;
        if (small) next_.small.push_back(*small);
        waiting_ = true;
    }
    ordered_.notify_all();
}

void Drawing::finish() {
    std::unique_lock lock(mutex_);
    idle_.wait(lock, [this] { return !waiting_ && !working_; });
}

bool Drawing::isIdle() const {
    const std::lock_guard lock(mutex_);
    return !waiting_ && !working_;
}

Drawing::Done Drawing::take() {
    const std::lock_guard lock(mutex_);
    return std::exchange(done_, {});
}

QString Drawing::failure() const {
    const std::lock_guard lock(mutex_);
    return failure_;
}

QImage Drawing::picture(const std::function<QImage(render::Renderer&, const render::Scene&)>& draw) {
    QImage image;
    finish();
    {
        const std::lock_guard lock(mutex_);
        if (!failure_.isEmpty()) return {};
        next_.other = [&](render::Renderer& renderer, const render::Scene* scene) {
            if (scene) image = draw(renderer, *scene);
        };
        waiting_ = true;
    }
    ordered_.notify_all();
    finish();
    return image;
}

void Drawing::run() {
    std::unique_ptr<render::Renderer> renderer;
    QString failure;
    try {
        renderer = std::make_unique<render::Renderer>();
    } catch (const std::exception& e) {
        failure = e.what();
    }
    std::unique_lock lock(mutex_);
    failure_ = failure;
    for (;;) {
        working_ = false;
        idle_.notify_all();
        ordered_.wait(lock, [this] { return waiting_ || ended_; });
        if (ended_) return;
        const Order order = std::exchange(next_, {});
        waiting_ = false;
        working_ = true;
        if (!renderer) continue;
        lock.unlock();
        Done done = carryOut(order, *renderer);
        lock.lock();
        // what was not taken yet goes on, as far as it is not replaced
        done_.order = std::max(done_.order, done.order);
        if (done.scene) done_.scene = std::move(done.scene);
        if (done.picker) done_.picker = std::move(done.picker);
        if (done.fitted) done_.fitted = done.fitted;
        if (done.frame) done_.frame = std::move(done.frame);
        std::move(done.small.begin(), done.small.end(), std::back_inserter(done_.small));
        if (!done.failure.isEmpty()) done_.failure = done.failure;
        emit ready();
    }
}

Drawing::Done Drawing::carryOut(const Order& order, render::Renderer& renderer) {
    Done done;
    done.order = order.number;
    try {
        if (order.make)
            if (auto scene = order.make(); scene && scene != scene_) {
                done.picker = std::make_shared<render::Picker>(scene);
                renderer.setScene(scene);
                done.scene = scene_ = std::move(scene);
            }
        if (order.other) order.other(renderer, scene_.get());
        if (!scene_ || !order.frame) return done;
        Frame f = *order.frame;
        if (order.fit) {
            f.camera = render::fit(scene_->bounds, static_cast<int>(f.width / f.ratio),
                                   static_cast<int>(f.height / f.ratio), f.camera.direction, f.camera.up);
            done.fitted = f.camera;
        }
        QImage image = renderer.render(f.camera, f.width, f.height, f.smooth, f.ground);
        image.setDevicePixelRatio(f.ratio);
        done.frame = {std::move(image), f.camera};
        for (const Small& s : order.small) {
            render::Camera c = render::fit(scene_->bounds, s.width, s.height);
            c.height *= s.seen;
            done.small.emplace_back(renderer.render(c, 2 * s.width, 2 * s.height, true, f.ground), s.tell);
        }
    } catch (const std::exception& e) {
        done.failure = e.what();
    }
    return done;
}

}  // namespace escultura::app

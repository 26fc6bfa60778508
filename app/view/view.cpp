/// The view. Long because every gesture of the mouse begins, goes on and ends here.

#include "view/view.hpp"

#include <QMouseEvent>
#include <QPainter>
#include <cmath>
#include <limits>

#include "base/quantity.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

namespace {
/// Behind the part, in the theme that is applied.
render::Colour ground() {
    auto part = [](int v) { return static_cast<std::uint8_t>(v); };
    return {part(theme::paper.red()), part(theme::paper.green()), part(theme::paper.blue())};
}
}  // namespace

View::View(QWidget* parent) : QWidget(parent) {
    setObjectName("view");
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(320, 150);
    setAccessibleName("View of the part");
    connect(&drawing_, &Drawing::ready, this, &View::take, Qt::QueuedConnection);
    rest_.setSingleShot(true);
    rest_.setInterval(180);
    connect(&rest_, &QTimer::timeout, this, [this] { redraw(false); });
}

View::~View() = default;

void View::setScene(Drawing::Make make, bool refit, const std::optional<Drawing::Small>& small) {
    toFit_ = toFit_ || refit || !fitted_;
    isWhole_ = isWhole_ || toFit_;
    reading_.clear();  // of what was shown before
    ordered_ = drawing_.setScene(std::move(make), frame(false), toFit_, small);
    if (toFit_ && !fitted_) fitted_ = true;
    update();
}

void View::setScene(std::shared_ptr<const render::Scene> scene, bool refit) {
    setScene([scene = std::move(scene)] { return scene; }, refit);
}

std::shared_ptr<const render::Scene> View::scene() {
    if (shown_ != ordered_) settle();
    return scene_;
}

const render::Camera& View::camera() {
    settleFit();
    return camera_;
}

Drawing::Frame View::frame(bool moving) const {
    const double ratio = devicePixelRatioF();
    return {camera_, static_cast<int>(width() * ratio), static_cast<int>(height() * ratio), ratio, !moving, ground()};
}

void View::take() {
    Drawing::Done done = drawing_.take();
    shown_ = std::max(shown_, done.order);
    if (done.scene) {
        scene_ = std::move(done.scene);
        reading_.clear();
        for (render::Label& pin : pinned_) pin.strong = wordsNear(pin.position).toStdString();
    }
    if (done.picker) picker_ = std::move(done.picker);
    if (done.frame) std::tie(frame_, frameCamera_) = std::move(*done.frame);
    if (done.fitted && shown_ == ordered_) {
        toFit_ = false;
        camera_ = *done.fitted;
        if (frame_.size() != QSize(frame(false).width, frame(false).height)) {  // the window has changed meanwhile
            camera_ = render::fit(scene_->bounds, width(), height(), camera_.direction, camera_.up);
            redraw(false);
        } else if (!drawing_.isIdle()) {
            redraw(false);
        }
    }
    for (const auto& [image, tell] : done.small) tell(image);
    if (done.scene && pointer_ && !dragging_) updateReading(*pointer_);
    if (!done.failure.isEmpty()) {
        toFit_ = false;
        emit drawingFailed(done.failure);
    }
    update();
}

void View::settle() {
    drawing_.finish();
    take();
}

void View::settleFit() {
    if (toFit_) settle();
}

void View::setNotice(const QString& notice) {
    notice_ = notice;
    update();
}

void View::setHandles(std::vector<Handle> handles) {
    if (draggedHandle_ >= 0) return;  // the one in hand stays where the mouse has it
    handles_ = std::move(handles);
    update();
}

void View::setPicking(bool on) {
    picking_ = on;
    setCursor(on ? Qt::CrossCursor : Qt::ArrowCursor);
}

void View::setMeasuring(bool on) {
    measuring_ = on;
    measuredAt_.clear();
    measured_ = {};
    setCursor(on ? Qt::CrossCursor : Qt::ArrowCursor);
    if (!on) emit measuringEnded();
    update();
}

void View::measureAt(const QPointF& at) {
    const auto hit = hitAt(at);
    if (!hit) return;
    if (measuredAt_.size() == 3) measuredAt_.clear();
    measuredAt_.push_back(hit->position);
    measured_ = measured(measuredAt_, picker_->wallBelow(*hit));
    update();
}

void View::paintMeasure(QPainter& painter) {
    painter.setPen(QPen(theme::clay, 1.6));
    painter.setBrush(theme::card);
    QPolygonF way;
    for (const Vec3& p : measuredAt_) way << drawnAt(p);
    painter.setBrush(Qt::NoBrush);
    painter.drawPolyline(way);
    painter.setBrush(theme::card);
    for (const QPointF& p : way) painter.drawEllipse(p, 4, 4);
    const QFontMetricsF metrics(font());
    QString words = measured_.words();
    if (measuredAt_.empty())
        words = "Measure: click a place; two for a distance, three for angle and radius. Escape ends";
    if (deformed_) words += "\nof the deformed shape as it is drawn, not of the part";
    const QRectF text = metrics.boundingRect(QRectF(0, 0, 460, 200), Qt::AlignLeft | Qt::TextWordWrap, words);
    const QPointF corner = way.isEmpty() ? QPointF(96, height() - 60.0) : way.back() + QPointF(14, 12);
    QRectF box(corner, text.size() + QSizeF(20, 12));
    box.moveLeft(std::clamp(box.left(), 8.0, std::max(8.0, width() - box.width() - 8)));
    box.moveTop(std::clamp(box.top(), 8.0, std::max(8.0, height() - box.height() - 8)));
    painter.setPen(QPen(theme::clay, 1));
    painter.drawRoundedRect(box, 6, 6);
    painter.setPen(theme::ink);
    painter.drawText(box.adjusted(10, 6, -10, -6), Qt::AlignLeft | Qt::TextWordWrap, words);
}

void View::setEditing(bool on) {
    editing_ = on;
    region_.clear();
    if (!on) {
        dots_.clear();
        setPainting(false);
    }
    update();
}

void View::setPainting(bool on) {
    painting_ = on;
    stroke_ = false;
    setCursor(on ? Qt::CrossCursor : Qt::ArrowCursor);
}

void View::setDots(std::vector<Dot> dots) {
    dots_ = std::move(dots);
    update();
}

std::optional<render::Hit> View::hitAt(const QPointF& at) {
    if (shown_ != ordered_) settle();
    if (!picker_) return std::nullopt;
    return picker_->pick(camera_, width(), height(), at.x(), at.y());
}

QPointF View::drawnAt(const Vec3& p) const {
    const Vec3 at = frameCamera_.project(p, width(), height());
    return {at[0], at[1]};
}

QPointF View::placeOf(const Vec3& p) {
    settleFit();
    const Vec3 at = camera_.project(p, width(), height());
    return {at[0], at[1]};
}

void View::fit() {
    if (!scene()) return;
    camera_ = render::fit(scene_->bounds, width(), height(), camera_.direction, camera_.up);
    fitted_ = isWhole_ = true;
    redraw(false);
}

void View::look(const Vec3& direction, const Vec3& up) {
    settleFit();
    if (!scene_ && !scene()) return;
    camera_ = render::fit(scene_->bounds, width(), height(), direction, up);
    isWhole_ = true;
    redraw(false);
    emit cameraChanged();
}

void View::flyTo(const Vec3& p) {
    settleFit();
    if (!scene_ && !scene()) return;
    camera_.focus = p;
    camera_.height = std::min(camera_.height, 0.5 * scene_->bounds.diagonal());
    isWhole_ = false;
    redraw(false);
    emit cameraChanged();
}

void View::zoomTo(double height) {
    settleFit();
    camera_.height = height;
    isWhole_ = false;
    redraw(false);
    emit cameraChanged();
}

void View::redraw(bool moving) {
    if (!scene_ && !ordered_) return;
    drawing_.draw(frame(moving));
    if (moving) rest_.start();
}

void View::askForSmall(const Drawing::Small& small) {
    if (scene_ || ordered_) drawing_.draw(frame(false), small);
}

QImage View::thumbnail(int w, int h, double seen) {
    return drawing_.picture([&](render::Renderer& renderer, const render::Scene& scene) {
        render::Camera c = render::fit(scene.bounds, w, h);
        c.height *= seen;
        return renderer.render(c, w * 2, h * 2, true, ground());
    });
}

QImage View::picture(int w, int h) {
    if (!scene()) return {};
    render::Camera c = camera_;
    c.height *= std::max(1.0, (static_cast<double>(width()) / height()) / (static_cast<double>(w) / h));
    QImage image = drawing_.picture(
        [&](render::Renderer& renderer, const render::Scene&) { return renderer.render(c, w, h, true); });
    if (image.isNull()) return {};
    QPainter painter(&image);
    painter.setFont(font());
    render::Scene overlay = render::overlayOf(*scene_);
    render::markHidden(overlay.labels, *picker_, c, image.size());
    render::paintOverlay(painter, image.size(), overlay, c);
    return image;
}

QImage View::transparentPicture(int w, int h) {
    if (!scene()) return {};
    render::Camera c = camera_;
    c.height *= std::max(1.0, (static_cast<double>(width()) / height()) / (static_cast<double>(w) / h));
    // what differs between a black and a white ground is the ground
    auto drawn = [&](render::Colour under) {
        return drawing_.picture(
            [&](render::Renderer& renderer, const render::Scene&) { return renderer.render(c, w, h, true, under); });
    };
    const QImage black = drawn({0, 0, 0}), white = drawn({255, 255, 255});
    if (black.isNull() || white.isNull()) return {};
    QImage image(w, h, QImage::Format_ARGB32);
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x) {
            const QRgb b = black.pixel(x, y), v = white.pixel(x, y);
            const int alpha = std::clamp(255 - (qGreen(v) - qGreen(b)), 0, 255);
            auto part = [&](int channel) { return alpha ? std::min(255, channel * 255 / alpha) : 0; };
            image.setPixel(x, y, qRgba(part(qRed(b)), part(qGreen(b)), part(qBlue(b)), alpha));
        }
    QPainter painter(&image);
    painter.setFont(font());
    render::Scene overlay = render::overlayOf(*scene_);
    render::markHidden(overlay.labels, *picker_, c, image.size());
    render::paintOverlay(painter, image.size(), overlay, c);
    return image;
}

void View::setCamera(const render::Camera& camera) {
    settleFit();
    camera_ = camera;
    fitted_ = true;
    isWhole_ = false;
    redraw(false);
}

std::vector<Vec3> View::pinnedPlaces() const {
    std::vector<Vec3> places;
    for (const auto& p : pinned_) places.push_back(p.position);
    return places;
}

void View::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.fillRect(rect(), theme::paper);
    const QString failure = drawing_.failure();
    if (!failure.isEmpty() || !scene_ || !picker_) {
        if (failure.isEmpty() && ordered_) return;  // the first one is being made
        painter.setPen(theme::muted);
        painter.drawText(rect().adjusted(40, 40, -40, -40), Qt::AlignCenter | Qt::TextWordWrap,
                         failure.isEmpty()
                             ? "Open a part file (Ctrl+O), drop one here, or start with the demo in the File menu."
                             : failure);
        return;
    }
    painter.drawImage(QPointF(0, 0), frame_);
    const render::Scene over = overlay();
    render::paintOverlay(painter, size(), over, frameCamera_,
                         {theme::card, theme::ink, theme::muted, theme::line, theme::clay, theme::teal, theme::ochre});
    const QFontMetricsF metrics(font());
    if (scene_->legend.shown) {
        // handles of the range: small marks at the ends of the bar
        const auto at = render::legendLayout(size(), metrics);
        painter.setPen(QPen(theme::ink, 1.5));
        painter.setBrush(theme::card);
        double yLow = at.bar.bottom(), yHigh = at.bar.top();
        if (legendHandle_ == 1) yLow = last_.y();
        if (legendHandle_ == 2) yHigh = last_.y();
        for (double y :
             {std::clamp(yLow, at.bar.top(), at.bar.bottom()), std::clamp(yHigh, at.bar.top(), at.bar.bottom())})
            painter.drawRoundedRect(QRectF(at.bar.left() - 4, y - 3, at.bar.width() + 8, 6), 3, 3);
    }
    painter.setRenderHint(QPainter::Antialiasing);
    for (const bool selected : {false, true})
        for (const Dot& d : dots_) {
            if (d.selected != selected || (d.normal.dot(camera_.direction) > 0.05 && !selected)) continue;
            painter.setPen(QPen(selected ? theme::card : theme::muted, 1));
            painter.setBrush(selected ? theme::teal : theme::card);
            painter.drawEllipse(drawnAt(d.position), selected ? 4.5 : 2.5, selected ? 4.5 : 2.5);
        }
    if (!region_.isEmpty()) {
        painter.setPen(QPen(theme::teal, 1, Qt::DashLine));
        painter.setBrush(QColor(theme::teal.red(), theme::teal.green(), theme::teal.blue(), 30));
        painter.drawPolygon(lasso_ ? region_ : QPolygonF(region_.boundingRect()));
    }
    for (const Handle& h : handles_)
        if (h.axis.norm() > 0 && h.id >= 11) {  // an arm from the handle in the middle
            for (const Handle& m : handles_)
                if (m.id == 10) {
                    painter.setPen(QPen(theme::clay, 1.5));
                    painter.drawLine(drawnAt(m.position), drawnAt(h.position));
                }
        }
    for (const Handle& h : handles_) {
        painter.setPen(QPen(theme::clay, 2));
        painter.setBrush(theme::card);
        painter.drawEllipse(drawnAt(h.position), 6, 6);
    }
    if (measuring_) paintMeasure(painter);
    if (!notice_.isEmpty()) {
        const QRectF caption = render::captionCard(*scene_, size(), font());
        const QRectF box(16, caption.isEmpty() ? 14 : caption.bottom() + 6, metrics.horizontalAdvance(notice_) + 20,
                         metrics.height() + 10);
        painter.setPen(QPen(theme::warnLine, 1));
        painter.setBrush(theme::warnGround);
        painter.drawRoundedRect(box, 6, 6);
        painter.setPen(theme::ochre);
        painter.drawText(box, Qt::AlignCenter, notice_);
    }
    if (!reading_.isEmpty() && !dragging_) {
        const QRectF text = metrics.boundingRect(QRectF(0, 0, 400, 200), Qt::AlignLeft, reading_);
        QRectF box(readingPlace_ + QPointF(16, 14), text.size() + QSizeF(20, 14));
        if (box.right() > width() - 8) box.moveRight(readingPlace_.x() - 10);
        if (box.bottom() > height() - 8) box.moveBottom(readingPlace_.y() - 10);
        painter.setPen(QPen(theme::line, 1));
        painter.setBrush(theme::card);
        painter.drawRoundedRect(box, 6, 6);
        painter.setPen(theme::ink);
        painter.drawText(box.adjusted(10, 7, -10, -7), Qt::AlignLeft, reading_);
    }
}

render::Scene View::overlay() const {
    render::Scene over = render::overlayOf(*scene_);
    over.labels.insert(over.labels.end(), pinned_.begin(), pinned_.end());
    render::markHidden(over.labels, *picker_, frameCamera_, size());
    return over;
}

bool View::clickLabel(const QPointF& at) {
    settle();
    if (!scene_ || !picker_) return false;
    const render::Scene over = overlay();
    const auto placed =
        render::placeLabels(over.labels, size(), frameCamera_, font(), render::takenBy(over, size(), font()));
    for (std::size_t k = 0; k < placed.size(); ++k) {
        if (!placed[k] || !placed[k]->box || !placed[k]->box->contains(at)) continue;
        const std::size_t first = over.labels.size() - pinned_.size();
        if (k >= first) {  // a pinned reading goes
            pinned_.erase(pinned_.begin() + static_cast<std::ptrdiff_t>(k - first));
            emit pinsChanged();
            update();
        } else {
            emit labelClicked(over.labels[k]);
        }
        return true;
    }
    return false;
}

void View::resizeEvent(QResizeEvent*) {
    if (!scene_) return;
    if (isWhole_)  // what was in sight stays in sight
        camera_ = render::fit(scene_->bounds, width(), height(), camera_.direction, camera_.up);
    redraw(true);
}

void View::mousePressEvent(QMouseEvent* e) {
    if (shown_ != ordered_) settle();  // a click means what is about to be shown
    pressed_ = last_ = e->position();
    dragging_ = false;
    legendHandle_ = 0;
    draggedHandle_ = -1;
    for (std::size_t h = 0; h < handles_.size() && e->button() == Qt::LeftButton; ++h)
        if (QLineF(placeOf(handles_[h].position), e->position()).length() < 10) draggedHandle_ = static_cast<int>(h);
    if (draggedHandle_ >= 0) return;
    region_.clear();
    if (editing_ && e->button() == Qt::LeftButton && (e->modifiers() & (Qt::ControlModifier | Qt::AltModifier))) {
        lasso_ = e->modifiers() & Qt::AltModifier;
        region_ << e->position();
        return;
    }
    stroke_ = editing_ && painting_ && e->button() == Qt::LeftButton && hitAt(e->position());
    if (stroke_) {
        strokeKeys_ = e->modifiers();
        emit painted(e->position(), strokeKeys_);
        return;
    }
    if (scene_ && scene_->legend.shown && e->button() == Qt::LeftButton) {
        const auto at = render::legendLayout(size(), QFontMetricsF(font()));
        if (at.bar.adjusted(-8, -8, 8, 8).contains(e->position())) {
            const double x = (at.bar.bottom() - e->position().y()) / at.bar.height();
            legendHandle_ = x < 0.5 ? 1 : 2;
        }
    }
}

void View::mouseMoveEvent(QMouseEvent* e) {
    if (e->buttons() == Qt::NoButton) {
        updateReading(e->position());
        return;
    }
    const QPointF d = e->position() - last_;
    last_ = e->position();
    if (draggedHandle_ >= 0) {
        Handle& h = handles_[static_cast<std::size_t>(draggedHandle_)];
        const double scale = camera_.height / height();
        const Vec3 move = scale * (d.x() * camera_.side() - d.y() * camera_.screenUp());
        if (h.axis.norm() > 0) {
            // along the axis as far as the mouse goes along its picture
            const Vec3 seen = h.axis - h.axis.dot(camera_.direction) * camera_.direction;
            if (seen.squaredNorm() > 1e-4) h.position += move.dot(seen) / seen.squaredNorm() * h.axis;
        } else {
            h.position += move;
        }
        update();
        emit handleMoved(h.id, h.position, false);
        return;
    }
    if (!region_.isEmpty()) {
        if (lasso_ || region_.size() < 2)
            region_ << e->position();
        else
            region_[1] = e->position();
        update();
        return;
    }
    if (stroke_) {
        emit painted(e->position(), strokeKeys_);
        return;
    }
    if (legendHandle_) {
        update();
        return;
    }
    if (!dragging_ && (e->position() - pressed_).manhattanLength() < 4) return;
    dragging_ = true;
    if ((e->buttons() & (Qt::MiddleButton | Qt::RightButton)) || (e->modifiers() & Qt::ShiftModifier)) {
        const double scale = camera_.height / height();
        isWhole_ = false;
        camera_.focus += -d.x() * scale * camera_.side() + d.y() * scale * camera_.screenUp();
    } else {
        camera_.orbit(-d.x() * 0.008, -d.y() * 0.008);
    }
    redraw(true);
    emit cameraChanged();
}

void View::mouseReleaseEvent(QMouseEvent* e) {
    if (draggedHandle_ >= 0) {
        const Handle h = handles_[static_cast<std::size_t>(draggedHandle_)];
        draggedHandle_ = -1;
        emit handleMoved(h.id, h.position, true);
        return;
    }
    if (!region_.isEmpty()) {
        QPolygonF drawn = lasso_ ? region_ : QPolygonF(region_.boundingRect());
        region_.clear();
        update();
        // without a drag it is a click with a modifier
        if ((e->position() - pressed_).manhattanLength() < 4)
            emit clickedAt(e->position(), e->modifiers());
        else
            emit regionDrawn(drawn, e->modifiers());
        return;
    }
    if (stroke_) {
        stroke_ = false;
        return;
    }
    if (editing_ && !dragging_ && e->button() == Qt::LeftButton && !legendHandle_) {
        emit clickedAt(e->position(), e->modifiers());
        return;
    }
    if (picking_ && !dragging_ && e->button() == Qt::LeftButton) {
        if (const auto hit = hitAt(e->position())) emit picked(hit->position, hit->triangle);
        return;
    }
    if (legendHandle_) {
        const auto at = render::legendLayout(size(), QFontMetricsF(font()));
        const auto& scale = scene_->legend.scale;
        const double v = scale.valueAt(std::clamp((at.bar.bottom() - e->position().y()) / at.bar.height(), 0.0, 1.0));
        const int handle = legendHandle_;
        legendHandle_ = 0;
        if ((e->position() - pressed_).manhattanLength() > 3)
            emit rangeChosen(handle == 1 ? v : scale.low, handle == 2 ? v : scale.high);
        update();
        return;
    }
    if (measuring_ && !dragging_ && e->button() == Qt::LeftButton) {
        measureAt(e->position());
        return;
    }
    if (!dragging_ && e->button() == Qt::LeftButton && scene() && !clickLabel(e->position())) {
        if (const auto r = readingAt(e->position())) {
            pinned_.push_back(
                {render::Label::Role::reading, r->first, "", r->second.section('\n', 0, 0).toStdString()});
            emit pinsChanged();
            update();
        }
    }
    dragging_ = false;
}

void View::mouseDoubleClickEvent(QMouseEvent* e) {
    if (scene_ && scene_->legend.shown &&
        render::legendLayout(size(), QFontMetricsF(font())).card.contains(e->position())) {
        const double nan = std::numeric_limits<double>::quiet_NaN();
        emit rangeChosen(nan, nan);
    }
}

void View::wheelEvent(QWheelEvent* e) {
    settleFit();
    isWhole_ = false;
    camera_.height = std::clamp(camera_.height * std::pow(0.999, e->angleDelta().y()), 0.5, 1e5);
    redraw(true);
    emit cameraChanged();
}

void View::leaveEvent(QEvent*) {
    pointer_.reset();
    reading_.clear();
    update();
}

void View::keyPressEvent(QKeyEvent* e) {
    settleFit();
    const double step = 0.12;
    switch (e->key()) {
        case Qt::Key_Left:
            camera_.orbit(step, 0);
            break;
        case Qt::Key_Right:
            camera_.orbit(-step, 0);
            break;
        case Qt::Key_Up:
            camera_.orbit(0, step);
            break;
        case Qt::Key_Down:
            camera_.orbit(0, -step);
            break;
        case Qt::Key_Plus:
            isWhole_ = false;
            camera_.height *= 0.85;
            break;
        case Qt::Key_Minus:
            isWhole_ = false;
            camera_.height /= 0.85;
            break;
        case Qt::Key_Escape:
            if (editing_) {
                QWidget::keyPressEvent(e);
                return;
            }
            if (measuring_) {
                setMeasuring(false);
                return;
            }
            pinned_.clear();
            emit pinsChanged();
            break;
        default:
            QWidget::keyPressEvent(e);
            return;
    }
    redraw(true);
    emit cameraChanged();
}

QString View::valueText(double v) const {
    return QString("%1 %2 %3")
        .arg(QString::fromStdString(scene_->legend.title), placeNumber(v), QString::fromStdString(scene_->legend.unit));
}

QString View::wordsNear(const Vec3& place) const {
    const render::ColouredMesh* mesh = scene_->meshes.empty() ? nullptr : &scene_->meshes.front();
    if (mesh && !mesh->value.empty() && mesh->value.size() == mesh->position.size()) {
        std::size_t nearest = 0;
        for (std::size_t v = 1; v < mesh->position.size(); ++v)
            if ((mesh->position[v] - place).squaredNorm() < (mesh->position[nearest] - place).squaredNorm())
                nearest = v;
        return valueText(mesh->value[nearest]);
    }
    return QString("x %1, y %2, z %3 mm").arg(placeNumber(place[0]), placeNumber(place[1]), placeNumber(place[2]));
}

std::optional<std::pair<Vec3, QString>> View::readingAt(const QPointF& at) {
    const auto hit = hitAt(at);
    if (!hit || scene_->meshes.empty()) return std::nullopt;
    const auto& mesh = scene_->meshes.front();
    QString text;
    if (!mesh.value.empty()) {
        double v = 0;
        for (int k = 0; k < 3; ++k) v += hit->weight[k] * mesh.value[mesh.triangle[hit->triangle][k]];
        text = valueText(v) + "\n";
    }
    const Vec3& p = hit->position;
    text += QString("x %1, y %2, z %3 mm").arg(placeNumber(p[0]), placeNumber(p[1]), placeNumber(p[2]));
    return std::pair{p, text};
}

void View::updateReading(const QPointF& at) {
    // nothing is read from what is about to go
    pointer_ = at;
    const auto r = shown_ == ordered_ ? readingAt(at) : std::nullopt;
    reading_ = r ? r->second : QString();
    readingPlace_ = at;
    update();
}

}  // namespace escultura::app

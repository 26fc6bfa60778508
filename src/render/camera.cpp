#include "render/camera.hpp"

#include <cmath>

namespace escultura::render {

void Camera::orbit(double aroundUp, double aroundSide) {
    const Eigen::AngleAxisd turn(aroundUp, up);
    direction = turn * direction;
    const Vec3 tilted = Eigen::AngleAxisd(aroundSide, side()) * direction;
    if (std::abs(tilted.normalized().dot(up)) < 0.995) direction = tilted.normalized();
}

Vec3 Camera::project(const Vec3& p, int width, int imageHeight) const {
    const Vec3 d = p - focus;
    const double scale = imageHeight / height;
    return {0.5 * width + scale * d.dot(side()), 0.5 * imageHeight - scale * d.dot(screenUp()), d.dot(direction)};
}

Camera fit(const Box3& box, int width, int imageHeight, const Vec3& direction, const Vec3& up) {
    Camera c;
    c.up = up;
    c.direction = direction.normalized();
    c.focus = box.centre();
    double halfWidth = 1, halfHeight = 1;
    for (int m = 0; m < 8; ++m) {
        const Vec3 p((m & 1 ? box.high : box.low)[0], (m & 2 ? box.high : box.low)[1], (m & 4 ? box.high : box.low)[2]);
        halfWidth = std::max(halfWidth, std::abs((p - c.focus).dot(c.side())));
        halfHeight = std::max(halfHeight, std::abs((p - c.focus).dot(c.screenUp())));
    }
    c.height = 2.16 * std::max(halfHeight, halfWidth * imageHeight / std::max(width, 1));
    return c;
}

}  // namespace escultura::render

#include "render/scene.hpp"

namespace escultura::render {

std::vector<Scene::Section::Plane> Scene::Section::planes() const {
    if (kind == Kind::plane) return {{point, normal}};
    if (kind == Kind::slab) return {{point, normal}, {point + depth * normal, -normal}};
    std::vector<Plane> sides;
    for (int a = 0; a < 3; ++a) {
        sides.push_back({low, Vec3::Unit(a)});
        sides.push_back({high, -Vec3::Unit(a)});
    }
    return sides;
}

}  // namespace escultura::render

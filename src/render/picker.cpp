#include "render/picker.hpp"

#include <vtkCellArray.h>
#include <vtkNew.h>
#include <vtkPoints.h>
#include <vtkPolyData.h>
#include <vtkStaticCellLocator.h>

namespace escultura::render {

struct Picker::Impl {
    std::shared_ptr<const Scene> scene;
    vtkNew<vtkStaticCellLocator> locator;
    const ColouredMesh* picked = nullptr;
};

Picker::Picker(std::shared_ptr<const Scene> scene) : impl_(std::make_unique<Impl>()) {
    impl_->scene = std::move(scene);
    for (const ColouredMesh& mesh : impl_->scene->meshes) {
        if (mesh.triangle.empty()) continue;
        impl_->picked = &mesh;
        vtkNew<vtkPoints> points;
        points->SetDataTypeToDouble();
        points->SetNumberOfPoints(static_cast<vtkIdType>(mesh.position.size()));
        for (std::size_t v = 0; v < mesh.position.size(); ++v)
            points->SetPoint(static_cast<vtkIdType>(v), mesh.position[v].data());
        vtkNew<vtkCellArray> cells;
        cells->AllocateExact(static_cast<vtkIdType>(mesh.triangle.size()),
                             3 * static_cast<vtkIdType>(mesh.triangle.size()));
        for (const Triangle& t : mesh.triangle) {
            const vtkIdType ids[3] = {t[0], t[1], t[2]};
            cells->InsertNextCell(3, ids);
        }
        vtkNew<vtkPolyData> data;
        data->SetPoints(points);
        data->SetPolys(cells);
        impl_->locator->SetDataSet(data);
        impl_->locator->BuildLocator();
        return;
    }
}

Picker::~Picker() = default;

std::optional<Hit> Picker::pick(const Camera& camera, int width, int height, double x, double y) const {
    if (!impl_->picked) return std::nullopt;
    const double scale = camera.height / std::max(height, 1);
    const Vec3 base =
        camera.focus + scale * (x - 0.5 * width) * camera.side() - scale * (y - 0.5 * height) * camera.screenUp();
    const double far = 2 * impl_->scene->bounds.diagonal() + camera.height;
    const Vec3 from = base - far * camera.direction, to = base + far * camera.direction;
    Vec3 start = from;
    const auto& section = impl_->scene->section;
    double enters = 0;
    if (section.on)  // the ray begins where it enters what is left
        for (const Scene::Section::Plane& plane : section.planes()) {
            const double a = (from - plane.point).dot(plane.normal), b = (to - plane.point).dot(plane.normal);
            if (a < 0 && b < 0) return std::nullopt;
            if (a < 0) enters = std::max(enters, a / (a - b));
        }
    start = from + enters * (to - from);
    double t = 0, point[3], parametric[3];
    int sub = 0;
    vtkIdType cell = -1;
    if (!impl_->locator->IntersectWithLine(start.data(), to.data(), 1e-6, t, point, parametric, sub, cell) || cell < 0)
        return std::nullopt;
    Hit hit;
    hit.position = Vec3(point[0], point[1], point[2]);
    if (section.on)
        for (const Scene::Section::Plane& plane : section.planes())
            if ((hit.position - plane.point).dot(plane.normal) < -1e-6) return std::nullopt;
    hit.triangle = static_cast<std::int32_t>(cell);
    hit.weight = {1 - parametric[0] - parametric[1], parametric[0], parametric[1]};
    return hit;
}

std::optional<double> Picker::wallBelow(const Hit& hit) const {
    if (!impl_->picked) return std::nullopt;
    const ColouredMesh& mesh = *impl_->picked;
    const Triangle& t = mesh.triangle[static_cast<std::size_t>(hit.triangle)];
    const Vec3 a = mesh.position[t[0]], b = mesh.position[t[1]], c = mesh.position[t[2]];
    const Vec3 normal = (b - a).cross(c - a).normalized();
    const double far = 2 * impl_->scene->bounds.diagonal();
    const Vec3 from = hit.position - 1e-5 * far * normal, to = hit.position - far * normal;
    double at = 0, point[3], parametric[3];
    int sub = 0;
    vtkIdType cell = -1;
    if (!impl_->locator->IntersectWithLine(from.data(), to.data(), 1e-6, at, point, parametric, sub, cell) || cell < 0)
        return std::nullopt;
    return (Vec3(point[0], point[1], point[2]) - hit.position).norm();
}

bool Picker::hides(const Camera& camera, int width, int height, const Vec3& place) const {
    const Vec3 at = camera.project(place, width, height);
    const auto hit = pick(camera, width, height, at[0], at[1]);
    return hit && (place - hit->position).dot(camera.direction) > 0.01 * impl_->scene->bounds.diagonal();
}

}  // namespace escultura::render

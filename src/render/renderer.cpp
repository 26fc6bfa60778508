#include "render/renderer.hpp"

#include <vtkActor.h>
#include <vtkAppendPolyData.h>
#include <vtkCamera.h>
#include <vtkCellArray.h>
#include <vtkConeSource.h>
#include <vtkCylinderSource.h>
#include <vtkFloatArray.h>
#include <vtkLight.h>
#include <vtkNew.h>
#include <vtkPlane.h>
#include <vtkPointData.h>
#include <vtkPolyData.h>
#include <vtkPolyDataMapper.h>
#include <vtkPolyDataNormals.h>
#include <vtkProperty.h>
#include <vtkRenderer.h>
#include <vtkStaticCellLocator.h>
#include <vtkUnsignedCharArray.h>

#include <cmath>

#include "base/error.hpp"
#include "render/egl_window.hpp"

namespace escultura::render {
namespace {

vtkSmartPointer<vtkPolyData> polyData(const ColouredMesh& mesh) {
    auto data = vtkSmartPointer<vtkPolyData>::New();
    vtkNew<vtkPoints> points;
    points->SetDataTypeToFloat();
    points->SetNumberOfPoints(static_cast<vtkIdType>(mesh.position.size()));
    for (std::size_t v = 0; v < mesh.position.size(); ++v)
        points->SetPoint(static_cast<vtkIdType>(v), mesh.position[v].data());
    data->SetPoints(points);
    vtkNew<vtkCellArray> cells;
    cells->AllocateEstimate(static_cast<vtkIdType>(mesh.triangle.size()), 3);
    for (const Triangle& t : mesh.triangle) {
        const vtkIdType ids[3] = {t[0], t[1], t[2]};
        cells->InsertNextCell(3, ids);
    }
    data->SetPolys(cells);
    if (mesh.colour.size() == mesh.position.size() && !mesh.colour.empty()) {
        vtkNew<vtkUnsignedCharArray> colours;
        colours->SetNumberOfComponents(3);
        colours->SetNumberOfTuples(static_cast<vtkIdType>(mesh.colour.size()));
        for (std::size_t v = 0; v < mesh.colour.size(); ++v) {
            const unsigned char c[3] = {mesh.colour[v].r, mesh.colour[v].g, mesh.colour[v].b};
            colours->SetTypedTuple(static_cast<vtkIdType>(v), c);
        }
        data->GetPointData()->SetScalars(colours);
    }
    if (mesh.normal.size() == mesh.position.size()) {
        vtkNew<vtkFloatArray> normals;
        normals->SetNumberOfComponents(3);
        normals->SetNumberOfTuples(static_cast<vtkIdType>(mesh.normal.size()));
        for (std::size_t v = 0; v < mesh.normal.size(); ++v)
            normals->SetTuple(static_cast<vtkIdType>(v), mesh.normal[v].data());
        data->GetPointData()->SetNormals(normals);
    }
    return data;
}

vtkSmartPointer<vtkActor> actorOf(vtkPolyData* data, Colour colour) {
    vtkNew<vtkPolyDataMapper> mapper;
    mapper->SetInputData(data);
    mapper->SetColorModeToDirectScalars();
    mapper->SetScalarModeToUsePointData();
    mapper->SetResolveCoincidentTopologyToPolygonOffset();
    auto actor = vtkSmartPointer<vtkActor>::New();
    actor->SetMapper(mapper);
    auto* p = actor->GetProperty();
    p->SetColor(colour.r / 255.0, colour.g / 255.0, colour.b / 255.0);
    p->SetAmbient(0.22);
    p->SetDiffuse(0.86);
    p->SetSpecular(0.06);
    p->SetSpecularPower(18);
    return actor;
}

}  // namespace

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

struct Renderer::Impl {
    vtkSmartPointer<EglWindow> window;
    vtkNew<vtkRenderer> renderer;
    std::shared_ptr<const Scene> scene;
    vtkNew<vtkStaticCellLocator> locator;
    vtkSmartPointer<vtkPolyData> picked;
};

Renderer::Renderer() : impl_(std::make_unique<Impl>()) {
    impl_->window = vtkSmartPointer<EglWindow>::New();
    if (!impl_->window->open())
        throw Error(
            "No off-screen drawing context can be made: install the software OpenGL drivers (libgl1-mesa-dri, "
            "libegl1).");
    impl_->window->SetMultiSamples(0);
    impl_->window->AddRenderer(impl_->renderer);
    impl_->renderer->SetAutomaticLightCreation(false);
    // soft key from the upper left, weak fill from the right, a little from below; all move with the camera
    struct {
        double x, y, z, intensity;
        Colour colour;
    } lights[] = {{-0.45, 0.75, 1.0, 0.70, {255, 251, 243}},
                  {1.0, 0.1, 0.7, 0.42, {240, 244, 248}},
                  {-0.2, -1.0, 0.5, 0.20, {250, 238, 222}}};
    for (const auto& l : lights) {
        vtkNew<vtkLight> light;
        light->SetLightTypeToCameraLight();
        light->SetPosition(l.x, l.y, l.z);
        light->SetFocalPoint(0, 0, 0);
        light->SetIntensity(l.intensity);
        light->SetColor(l.colour.r / 255.0, l.colour.g / 255.0, l.colour.b / 255.0);
        impl_->renderer->AddLight(light);
    }
    impl_->renderer->GetActiveCamera()->ParallelProjectionOn();
}

Renderer::~Renderer() = default;

namespace {

vtkSmartPointer<vtkActor> actorOfLines(const Lines& lines) {
    vtkNew<vtkPolyData> data;
    vtkNew<vtkPoints> points;
    vtkNew<vtkCellArray> cells;
    for (std::size_t i = 0; i + 1 < lines.position.size(); i += 2) {
        const vtkIdType ids[2] = {points->InsertNextPoint(lines.position[i].data()),
                                  points->InsertNextPoint(lines.position[i + 1].data())};
        cells->InsertNextCell(2, ids);
    }
    data->SetPoints(points);
    data->SetLines(cells);
    auto actor = actorOf(data, lines.colour);
    actor->GetProperty()->LightingOff();
    actor->GetProperty()->SetLineWidth(static_cast<float>(lines.width));
    actor->GetMapper()->SetResolveCoincidentTopologyToDefault();
    return actor;
}

/// A slim prism around an arrow's axis. @param head  length of the cone that it ends in
ColouredMesh shaftOf(const Arrow& arrow, double head) {
    ColouredMesh shaft;
    const auto [u, w] = perpendicular(arrow.direction);
    constexpr int sides = 16;
    for (int k = 0; k < sides; ++k) {
        const double a = 2 * M_PI * k / sides;
        const Vec3 radial = std::cos(a) * u + std::sin(a) * w;
        for (double at : {arrow.length, head}) {
            shaft.position.push_back(arrow.tip - at * arrow.direction + 0.035 * arrow.length * radial);
            shaft.normal.push_back(radial);
        }
        const int i = 2 * k, j = 2 * ((k + 1) % sides);
        shaft.triangle.push_back({i, j, i + 1});
        shaft.triangle.push_back({j, j + 1, i + 1});
    }
    return shaft;
}

}  // namespace

void Renderer::setScene(std::shared_ptr<const Scene> scene) {
    impl_->scene = scene;
    impl_->window->MakeCurrent();
    impl_->renderer->RemoveAllViewProps();
    impl_->picked = nullptr;
    for (const ColouredMesh& mesh : scene->meshes) {
        if (mesh.triangle.empty()) continue;
        vtkSmartPointer<vtkPolyData> data = polyData(mesh);
        if (!impl_->picked) {
            impl_->picked = data;
            impl_->locator->SetDataSet(data);
            impl_->locator->BuildLocator();
        }
        if (mesh.normal.empty() && !mesh.flat) {
            vtkNew<vtkPolyDataNormals> normals;
            normals->SetInputData(data);
            normals->SetFeatureAngle(35);
            normals->ConsistencyOff();
            normals->Update();
            data = normals->GetOutput();
        }
        auto actor = actorOf(data, mesh.colour.empty() ? Colour{0xDE, 0xD6, 0xC6} : mesh.colour.front());
        actor->GetProperty()->SetOpacity(mesh.opacity);
        if (scene->section.on && !mesh.isWhole) {
            for (const Scene::Section::Plane& cut : scene->section.planes()) {
                vtkNew<vtkPlane> plane;
                plane->SetOrigin(cut.point.data());
                plane->SetNormal(cut.normal.data());
                actor->GetMapper()->AddClippingPlane(plane);
            }
            // the inside shows where it is cut open
            vtkNew<vtkProperty> inside;
            inside->DeepCopy(actor->GetProperty());
            inside->SetColor(0.79, 0.55, 0.42);
            inside->SetAmbient(0.55);
            inside->SetDiffuse(0.45);
            actor->SetBackfaceProperty(inside);
        }
        if (mesh.flat) actor->GetProperty()->SetInterpolationToFlat();
        impl_->renderer->AddActor(actor);
    }
    for (const Lines& lines : scene->lines) {
        impl_->renderer->AddActor(actorOfLines(lines));
    }
    for (const Arrow& arrow : scene->arrows) {
        const double head = 0.3 * arrow.length;
        vtkNew<vtkConeSource> cone;
        const Vec3 middle = arrow.tip - 0.5 * head * arrow.direction;
        cone->SetCenter(middle[0], middle[1], middle[2]);
        cone->SetDirection(arrow.direction[0], arrow.direction[1], arrow.direction[2]);
        cone->SetHeight(head);
        cone->SetRadius(0.11 * arrow.length);
        cone->SetResolution(24);
        cone->Update();
        impl_->renderer->AddActor(actorOf(cone->GetOutput(), arrow.colour));
        const ColouredMesh shaft = shaftOf(arrow, head);
        impl_->renderer->AddActor(actorOf(polyData(shaft), arrow.colour));
    }
}

QImage Renderer::render(const Camera& camera, int width, int height, bool smooth, Colour background) {
    width = std::max(width, 8);
    height = std::max(height, 8);
    impl_->window->MakeCurrent();
    impl_->window->SetSize(width, height);
    impl_->renderer->SetBackground(background.r / 255.0, background.g / 255.0, background.b / 255.0);
    impl_->renderer->SetUseFXAA(smooth);
    auto* c = impl_->renderer->GetActiveCamera();
    const double far = impl_->scene ? 2 * impl_->scene->bounds.diagonal() + camera.height : 1000;
    const Vec3 eye = camera.focus - far * camera.direction;
    c->SetFocalPoint(camera.focus.data());
    c->SetPosition(eye.data());
    c->SetViewUp(camera.up.data());
    c->SetParallelScale(0.5 * camera.height);
    impl_->renderer->ResetCameraClippingRange();
    impl_->window->Render();
    QImage image(width, height, QImage::Format_RGB32);
    impl_->window->read(width, height, image.bits());
    return image.mirrored(false, true);
}

std::optional<Hit> Renderer::pick(const Camera& camera, int width, int height, double x, double y) const {
    if (!impl_->picked || !impl_->scene) return std::nullopt;
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

std::optional<double> Renderer::wallBelow(const Hit& hit) const {
    if (!impl_->picked || !impl_->scene || impl_->scene->meshes.empty()) return std::nullopt;
    const ColouredMesh& mesh = impl_->scene->meshes.front();
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

bool Renderer::hides(const Camera& camera, int width, int height, const Vec3& place) const {
    const Vec3 at = camera.project(place, width, height);
    const auto hit = pick(camera, width, height, at[0], at[1]);
    return hit && (place - hit->position).dot(camera.direction) > 0.01 * impl_->scene->bounds.diagonal();
}

}  // namespace escultura::render

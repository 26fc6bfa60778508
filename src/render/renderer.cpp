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

struct Renderer::Impl {
    vtkSmartPointer<EglWindow> window;
    vtkNew<vtkRenderer> renderer;
    std::shared_ptr<const Scene> scene;
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
    for (const ColouredMesh& mesh : scene->meshes) {
        if (mesh.triangle.empty()) continue;
        vtkSmartPointer<vtkPolyData> data = polyData(mesh);
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

}  // namespace escultura::render

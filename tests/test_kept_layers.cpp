// Layers of a designed body behind its faces, as features of a solid: volumes, names and soundness by hand.
#include <QTemporaryDir>
#include <QtTest>
#include <algorithm>
#include <cmath>

#include "cage/automatic.hpp"
#include "made_up_part.hpp"
#include "shape/kept_faces.hpp"
#include "solid/build.hpp"
#include "stages/kept_faces.hpp"
#include "step_bracket.hpp"
#include "surface/extract.hpp"

using namespace escultura;
using shape::SurfaceForm;

class TestKeptLayers : public QObject {
    Q_OBJECT
  private slots:
    /// Layers of another body: a plane that a boss rises from, a countersink, half a groove; volumes by hand.
    void layersOfAnotherBody() {
        QTemporaryDir dir;
        const Mat3 turn = Eigen::AngleAxisd(1.1, Vec3(-1, 0.4, 2).normalized()).matrix();
        const Vec3 shift(200, 0, -40);
        const std::string path = dir.path().toStdString() + "/clamp.step";
        made_up::writeClamp(path, turn, shift);
        // a body far away, so that what is added is the layer alone
        const auto ball = [](const Vec3& q) { return q.norm() - 10; };
        auto body = std::make_shared<shape::MachinedSolid>(std::make_shared<shape::FunctionBody>(ball),
                                                           Box3{Vec3::Constant(-12), Vec3::Constant(12)});
        Progress progress;
        const cage::Target target(surface::extractSurface(*body, 2, false, progress), body, nullptr);
        cage::AutomaticOptions automatic;
        automatic.faceSize = 8;
        const cage::Cage cage = cage::automaticCage(ball, body->bounds(), target, automatic, progress).cage;
        const auto patches = cage::makePatches(cage);
        auto added = [&](const Vec3& place, double depth, SurfaceForm::Kind kind) {
            auto patch = stages::faceAt({path, "mm", 0, {}}, turn * place + shift).patch;
            QTest::qVerify(patch.surface->form().kind == kind, "kind", "", __FILE__, __LINE__);
            solid::SolidOptions o;
            o.keptFaces = std::make_shared<const shape::KeptFaces>(std::vector{patch});
            o.interfaces = {"kept"};
            solid::Feature f;
            f.kind = solid::Feature::Kind::layer;
            f.name = "layer";
            f.interface = "kept";
            f.face = "face";
            f.path = path;
            f.length = depth;
            const auto r = solid::buildSolid(cage, patches, {f}, o, progress);
            if (!r.features[0].built) QTest::qFail(r.features[0].problem.c_str(), __FILE__, __LINE__);
            QTest::qVerify(r.solid.valid && r.solid.closed && r.solid.solids == 2, "sound", "", __FILE__, __LINE__);
            const auto named = std::count_if(r.surfaces.begin(), r.surfaces.end(),
                                             [](const auto& s) { return s.interface == "kept"; });
            QTest::qVerify(named == 1, "one face", qPrintable(QString::number(named)), __FILE__, __LINE__);
            double area = 0;
            for (std::size_t t = 0; t < r.mesh.triangle.size(); ++t)
                if (r.surfaces[static_cast<std::size_t>(r.mesh.owner[t])].interface == "kept") {
                    const Triangle& v = r.mesh.triangle[t];
                    area += 0.5 * (r.mesh.position[v[1]] - r.mesh.position[v[0]])
                                      .cross(r.mesh.position[v[2]] - r.mesh.position[v[0]])
                                      .norm();
                }
            QTest::qVerify(std::abs(area / patch.area - 1) < 3e-3, "area", "", __FILE__, __LINE__);
            return r.features[0].volume;
        };
        auto near = [](double found, double expected) {
            QTest::qVerify(std::abs(found / expected - 1) < 1e-3, "volume",
                           qPrintable(QString::number(found) + " for " + QString::number(expected)), __FILE__,
                           __LINE__);
        };
        // the plane around the boss, less the countersink within its depth
        near(added({30, 25, 12}, 3, SurfaceForm::Kind::plane), 3 * (1200 - 49 * M_PI - 18 * M_PI) - 63 * M_PI);
        near(added({36, 3, 0}, 2, SurfaceForm::Kind::plane), 2 * (1200 - 9 * M_PI - 18 * M_PI));
        near(added({34, 15, 6}, 2, SurfaceForm::Kind::cylinder), 0.5 * M_PI * (64 - 36) * 12);
        near(added({17, 10, 16}, 3, SurfaceForm::Kind::cylinder), M_PI * (49 - 16) * 8);
        // the countersink, by slices; its layer goes on below it, where the hole is narrower
        double cone = 0;
        constexpr int slices = 20000;
        const double low = 9 - 0.375 - 1.5 * std::sqrt(0.5);
        for (int k = 0; k < slices; ++k) {
            const double z = low + (12 - low) * (k + 0.5) / slices, inner = std::max(z - 6, 3.0),
                         outer = z - 6 + 1.5 * std::sqrt(2.0);
            if (outer > inner) cone += M_PI * (outer * outer - inner * inner) * (12 - low) / slices;
        }
        near(added({26 + 4.5, 12, 10.5}, 1.5, SurfaceForm::Kind::cone), cone);
    }
};

QTEST_APPLESS_MAIN(TestKeptLayers)
#include "test_kept_layers.moc"

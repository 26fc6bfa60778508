#include <QtTest>
#include <cmath>
#include <numbers>

#include "fixtures.hpp"
#include "project/stages.hpp"
#include "shape/machined_solid.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::project;
using assess::HotspotClass;
using shape::Primitive;

namespace {

/// A body with two named faces, one held and one loaded, that goes through the same check and tests as a part does.
struct Case {
    std::shared_ptr<shape::MachinedSolid> solid;
    std::vector<NamedFace> faces;
    Part part;
    std::function<double(const Vec3&)> local{};

    struct Tested {
        CheckResult check;
        assess::Evidence evidence;
    };
    /// @param size    element size, mm
    /// @param near    where the hotspot is looked for: its peak within this radius is tested
    Tested test(double size, const Vec3& near, double radius) const {
        Progress progress;
        mesh::MeshOptions options;
        options.elementSize = size;
        options.localSize = local;
        MeshResult m;
        lattice::CreaseReport creases;
        m.corners = mesh::cornerMesh(*solid, options, creases, progress);
        m.mesh = mesh::curvedMesh(*solid, m.corners, progress);
        m.faces = faces;
        m.quality = mesh::measureQuality(m.mesh);
        Recipe recipe;
        recipe.check.original = true;  // no field behind it
        Tested t;
        t.check = evaluateCheck(part, {}, {}, m, recipe, progress);
        std::int32_t top = -1;
        for (const auto& f : t.check.mesh.boundary)
            for (auto n : f)
                if ((t.check.mesh.position[n] - near).norm() <= radius &&
                    (top < 0 || t.check.envelope.stress[n] > t.check.envelope.stress[top]))
                    top = n;
        if (top < 0) qFatal("nothing near the place");
        t.evidence = testSpots(part, *solid, m.corners, t.check, {t.check.mesh.position[top]}, progress).at(0);
        const assess::Evidence& e = t.evidence;
        QString text = QString("size %1: %2; cut %3; ").arg(size).arg(QString::fromStdString(e.reason)).arg(e.cutError);
        for (std::size_t i = 0; i < e.peak.size(); ++i) text += QString("%1 mm %2 MPa; ").arg(e.size[i]).arg(e.peak[i]);
        qInfo("%s", qPrintable(text));
        return t;
    }
};

/// A part of two interfaces "held" and "pushed" with supports and one load; where the faces are is told by NamedFace.
/// @param middle  of the pushed face: where its force acts, mm
Part dutyOf(const std::string& supports, const std::string& loads, bool brittle, const Vec3& middle) {
    const std::string at =
        std::to_string(middle[0]) + "," + std::to_string(middle[1]) + "," + std::to_string(middle[2]);
    const std::string strength = brittle ? R"("ultimate_strength": 400, "rule": "brittle", "yield_source": "made up")"
                                         : R"("yield_strength": 250, "yield_source": "made up")";
    return parsePart(R"({"format": "escultura-part", "version": 1, "name": "Reference",
      "material": {"name": "made-up steel", "youngs_modulus": "210 GPa", "poissons_ratio": 0.3, "density": 7850, )" +
                         strength + R"(},
      "field": {"file": "none.npy", "spacing": [1, 1, 1]},
      "interfaces": [
        {"name": "held", "kind": "pad", "origin": [0, 0, 0], "axis": [1, 0, 0], "length": 1, "ring_diameter": 400},
        {"name": "side", "kind": "pad", "origin": [0, 0, 0], "axis": [0, 1, 0], "length": 1, "ring_diameter": 400},
        {"name": "below", "kind": "pad", "origin": [0, 0, 0], "axis": [0, 0, 1], "length": 1, "ring_diameter": 400},
        {"name": "pushed", "kind": "pad", "origin": [)" +
                         at + R"(], "axis": [1, 0, 0], "length": 1, "ring_diameter": 400}],
      "supports": )" + supports +
                         R"(, "load_cases": [{"name": "load", "loads": )" + loads +
                         R"(}], "requirements": [{"kind": "safety_factor", "limit": 1, "source": "test"}]})",
                     "reference.json");
}

NamedFace faceOf(const std::string& interface, int surface, const Vec3& normal) {
    NamedFace f;
    f.interface = interface;
    f.axis = normal;
    f.face = "start";
    f.surface = surface;
    f.low = -1e6;
    f.high = 1e6;
    f.radius = 1e6;
    return f;
}

const std::string clamped = R"([{"kind": "fixed", "interfaces": ["held"], "face": "start"}])";
const std::string onThreePlanes = R"([{"kind": "sliding", "interfaces": ["held"], "face": "start"},
    {"kind": "sliding", "interfaces": ["side"], "face": "start"},
    {"kind": "sliding", "interfaces": ["below"], "face": "start"}])";
std::string pushedWith(double x, double y, double z) {
    return R"([{"kind": "force", "interfaces": ["pushed"], "face": "start", "force": [)" + std::to_string(x) + "," +
           std::to_string(y) + "," + std::to_string(z) + "]}]";
}

/// A block from the origin; faces: held x = 0, side y = 0, below z = 0, pushed at the far end along an axis.
Case block(std::shared_ptr<const shape::FreeBody> body, const Vec3& size, int pushedAxis, Part part) {
    Case c;
    Box3 bounds;
    bounds.include(Vec3::Constant(-1));
    bounds.include(size + Vec3::Constant(1));
    c.solid = std::make_shared<shape::MachinedSolid>(std::move(body), bounds);
    const char* names[] = {"held", "side", "below"};
    for (int a = 0; a < 3; ++a) {
        c.faces.push_back(faceOf(
            names[a], c.solid->addInside({Primitive::Kind::plane, Vec3::Zero(), -Vec3::Unit(a), 0}), -Vec3::Unit(a)));
        const int far = c.solid->addInside({Primitive::Kind::plane, size, Vec3::Unit(a), 0});
        if (a == pushedAxis) c.faces.push_back(faceOf("pushed", far, Vec3::Unit(a)));
    }
    c.part = std::move(part);
    return c;
}

}  // namespace

/// Hotspots with known answers, through the check and the tests that parts go through, at two mesh sizes each.
class TestSpots : public QObject {
    Q_OBJECT
  private slots:
    /// Kt of a spherical cavity in tension is (27 - 15 nu) / (2 (7 - 5 nu)) (Goodier 1933).
    void sphericalCavity() {
        const double r = 10, nu = 0.3, tension = 100, wide = 60;
        auto body = std::make_shared<shape::FunctionBody>([=](const Vec3& p) { return r - p.norm(); });
        Case c =
            block(body, Vec3(wide, wide, wide), 2,
                  dutyOf(onThreePlanes, pushedWith(0, 0, tension * wide * wide), true, Vec3(wide / 2, wide / 2, wide)));
        const double exact = (27 - 15 * nu) / (2 * (7 - 5 * nu)) * tension;
        for (const double fine : {5.0, 3.5}) {
            c.local = [=](const Vec3& p) { return p.norm() < 18 ? fine : 9.0; };
            const auto t = c.test(9, Vec3(r, 0, 0), 2);
            QVERIFY(t.evidence.verdict == HotspotClass::real);
            QVERIFY2(std::abs(t.evidence.peak.back() / exact - 1) < 0.03, qPrintable(QString::number(exact)));
            // and before any test the judged peak is not far below
            QVERIFY(t.evidence.peak.front() > 0.97 * exact && t.evidence.peak.front() < 1.08 * exact);
        }
    }
    /// A square re-entrant corner beside a clamped face is singular, not an artefact of the clamping.
    void cornerBesideAClampedFace() {
        Case c = block(nullptr, Vec3(30, 30, 8), 0, dutyOf(clamped, pushedWith(0, -800, 0), false, Vec3(30, 6, 4)));
        c.solid->addCut({{Primitive::Kind::plane, Vec3(6, 12, 0), -Vec3::UnitX(), 0},
                         {Primitive::Kind::plane, Vec3(6, 12, 0), -Vec3::UnitY(), 0}});
        for (const double size : {3.0, 2.2}) {
            const auto t = c.test(size, Vec3(6, 12, 4), 2.5);
            QVERIFY(t.evidence.verdict == HotspotClass::singular);
            QVERIFY(std::abs(t.evidence.angle - 90) < 8);
        }
    }
    /// A groove near a clamped face converges: it is real, however near the support is.
    void grooveBesideAClampedFace() {
        const Vec3 middle(7, 20, 0);
        const double radius = 4;
        Case c = block(nullptr, Vec3(40, 20, 8), 0, dutyOf(clamped, pushedWith(3000, 0, 0), false, Vec3(40, 10, 4)));
        c.solid->addCut({{Primitive::Kind::cylinder, middle, Vec3::UnitZ(), radius}});
        std::vector<double> peaks;
        for (const double size : {3.0, 2.2}) {
            const auto t = c.test(size, Vec3(7, 16, 4), 4.5);
            QVERIFY(t.evidence.verdict == HotspotClass::real);
            peaks.push_back(t.evidence.peak.back());
        }
        QVERIFY(std::abs(peaks[1] / peaks[0] - 1) < 0.03);
    }
    /// The rim of a clamped face grows without limit and belongs to the idealised support.
    void rimOfAClampedFace() {
        Case c = block(nullptr, Vec3(40, 24, 24), 0, dutyOf(clamped, pushedWith(60000, 0, 0), false, Vec3(40, 12, 12)));
        for (const double size : {5.0, 4.0}) {
            const auto t = c.test(size, Vec3(0, 12, 0), 6);
            QVERIFY(t.evidence.verdict == HotspotClass::artefact || t.evidence.verdict == HotspotClass::unresolved);
            QVERIFY(t.evidence.counts() > t.evidence.peak.back());
        }
    }
};

QTEST_GUILESS_MAIN(TestSpots)
#include "test_spots.moc"

// Edges and points as interfaces: found in a body's file, written and read, refused where only faces will do, and a
// beam on two edges under a force at a point against the beam's formula.
#include <QTemporaryDir>
#include <QtTest>
#include <cmath>

#include "base/quantity.hpp"
#include "box_mesh.hpp"
#include "duty/part_edit.hpp"
#include "exchange/writers.hpp"
#include "made_up_part.hpp"
#include "project/run.hpp"
#include "stages/kept_faces.hpp"
#include "stages/optimise_stage.hpp"
#include "step_bracket.hpp"

using namespace escultura;
using nlohmann::json;

class TestLines : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    static constexpr double length = 120, width = 12, height = 10, force = 600, spread = 2;
    Mat3 turn_ = Eigen::AngleAxisd(0.7, Vec3(0.3, -1, 0.5).normalized()).matrix();
    Vec3 shift_ = Vec3(-30, 14, 55);

    Vec3 out(const Vec3& own) const { return turn_ * own + shift_; }
    static json list(const Vec3& v) { return json::array({v[0], v[1], v[2]}); }
    /// A beam on its two lower edges at the ends, pressed in the middle of its top.
    std::string beam(const std::function<void(json&)>& change = {}) const {
        surface::TriMesh mesh = made_up::boxMesh({0, 0, 0}, {length, width, height});
        Box3 box;
        for (Vec3& p : mesh.position) {
            p = out(p);
            box.include(p);
        }
        exchange::writeStl((dir_.path() + "/beam.stl").toStdString(), mesh, "beam");
        field::DensityField f;
        f.spacing = Vec3::Constant(4);
        f.origin = box.low - Vec3::Ones();
        for (int a = 0; a < 3; ++a) f.cells[a] = static_cast<int>(std::ceil((box.size()[a] + 2) / 4));
        f.source = "beam";
        f.density.assign(static_cast<std::size_t>(f.cells[0]) * f.cells[1] * f.cells[2], 1.F);
        json part = made_up::leverPart();
        part["design_space"] = part["original"] = {{"body", "beam.stl"}};
        part["field"] = {{"file", "lever.npy"}, {"origin", list(f.origin)}, {"spacing", list(f.spacing)}};
        part["frames"] = {
            {{"name", "beam"}, {"points", {list(out({0, 0, 0})), list(out({1, 0, 0})), list(out({0, 1, 0}))}}}};
        auto edge = [&](const char* name, double x) {
            return json{{"name", name}, {"kind", "edges"}, {"radius", spread}, {"edges", {list(out({x, 5, 0}))}}};
        };
        part["interfaces"] = json::array({edge("left", 0),
                                          edge("right", length),
                                          {{"name", "middle"},
                                           {"kind", "points"},
                                           {"radius", "3 mm"},
                                           {"points", {list(out({0.5 * length, 0.5 * width, height}))}}}});
        part["supports"] = json::array({{{"kind", "fixed"}, {"interfaces", {"left"}}, {"face", "edge"}},
                                        {{"kind", "fixed"},
                                         {"interfaces", {"right"}},
                                         {"face", "edge"},
                                         {"frame", "beam"},
                                         {"directions", {"y", "z"}}}});
        part["load_cases"] = json::array({{{"name", "press"},
                                           {"loads", json::array({{{"kind", "force"},
                                                                   {"interfaces", {"middle"}},
                                                                   {"face", "point"},
                                                                   {"force", list(-force * turn_.col(2))}}})}}});
        part["requirements"] = json::array({{{"kind", "safety_factor"}, {"limit", 1.5}, {"source", "test"}}});
        if (change) change(part);
        return made_up::writeLever(dir_.path().toStdString(), part, f);
    }

  private slots:
    /// Edges of a STEP file and of triangles, as far as they go on smoothly.
    void edgesOfBodies() {
        const std::string step = dir_.path().toStdString() + "/clamp.step";
        made_up::writeClamp(step, turn_, shift_);
        const duty::BodySource clamp{step, "mm", 0, {}};
        const auto rim = stages::edgeAt(clamp, out({17, 10, 20}));
        QVERIFY2(std::abs(shape::lengthOf(rim) / (14 * M_PI) - 1) < 1e-3, qPrintable(QString::number(rim.size())));
        QVERIFY((rim.front() - rim.back()).norm() < 1e-6);
        for (const Vec3& p : rim)
            QVERIFY(std::abs(std::hypot(10 - (turn_.transpose() * (p - shift_)).x(),
                                        10 - (turn_.transpose() * (p - shift_)).y()) -
                             7) < 2e-3);
        QVERIFY(std::abs(shape::lengthOf(stages::edgeAt(clamp, out({0, 11, 0}))) - 30) < 1e-9);
        QVERIFY(made_up::messageOf([&] {
                    stages::edgeAt(clamp, out({5, 25, 12}));
                }).find("No edge") != std::string::npos);
        beam();
        const auto end = stages::edgeAt({(dir_.path() + "/beam.stl").toStdString(), "mm", 0, {}}, out({0, 5, 0}));
        QVERIFY2(std::abs(shape::lengthOf(end) - width) < 1e-5, qPrintable(QString::number(shape::lengthOf(end))));
    }
    /// Deflection and stress in the middle, the halves of the force at the edges.
    void beamOnEdges() {
        Progress progress;
        project::Project p = project::openPart(beam(), progress);
        auto recipe = project::addOriginal(p).recipe;
        recipe.elementSize = 2.5;
        const std::string problem =
            made_up::messageOf([&] { project::run(p, recipe, project::Stage::findings, progress); });
        QVERIFY2(problem == "no error", problem.c_str());
        const auto check = p.check(recipe);
        QVERIFY(check);
        const auto& c = check->cases[0];
        QVERIFY(c.appliedAsMeant);
        QVERIFY((c.applied + force * turn_.col(2)).norm() < 1e-6 * force);
        QVERIFY((c.reaction + c.applied).norm() < 1e-6 * force);
        const double span = length, inertia = width * height * height * height / 12, e = 210e3, g = e / 2.6;
        const double bends = force * span * span * span / (48 * e * inertia),
                     shears = force * span / (4 * 5.0 / 6 * g * width * height);
        const double stress = force * span / 4 * 0.5 * height / inertia;
        std::size_t at = 0;
        for (std::size_t n = 0; n < check->mesh.position.size(); ++n)
            if ((check->mesh.position[n] - out({0.5 * length, 0.5 * width, 0})).norm() <
                (check->mesh.position[at] - out({0.5 * length, 0.5 * width, 0})).norm())
                at = n;
        const double sunk = -c.displacement[at].dot(turn_.col(2));
        QVERIFY2(std::abs(sunk / (bends + shears) - 1) < 0.015,
                 qPrintable(QString("%1 mm for %2 mm").arg(sunk).arg(bends + shears)));
        const elastic::Voigt6& s = c.stress[at];
        Mat3 tensor;
        tensor << s[0], s[3], s[5], s[3], s[1], s[4], s[5], s[4], s[2];
        const double along = turn_.col(0).dot(tensor * turn_.col(0));
        QVERIFY2(std::abs(along / stress - 1) < 0.03, qPrintable(QString("%1 MPa for %2 MPa").arg(along).arg(stress)));
        // stresses stay finite at the edges: the largest is near the middle, under the force or opposite
        QVERIFY(
            std::abs((turn_.transpose() * (check->mesh.position[static_cast<std::size_t>(c.maxNode)] - shift_)).x() -
                     0.5 * length) < 8);
    }
    /// The surface keeps what is around them, and the optimiser's grid carries the same force.
    void surfaceAndGridKnowThem() {
        Progress progress;
        project::Project p = project::openPart(beam(), progress);
        const auto& recipe = p.current().recipe;
        const std::string problem =
            made_up::messageOf([&] { project::run(p, recipe, project::Stage::check, progress); });
        QVERIFY2(problem == "no error", problem.c_str());
        QVERIFY(p.check(recipe)->cases[0].appliedAsMeant);
        for (const auto& f : p.surface(recipe)->findings)
            QVERIFY2(f.kind != stages::GeometryFinding::Kind::interfaceLost, f.text.c_str());
        const auto grid = stages::gridProblem(p.part, 4);
        Vec3 sum = Vec3::Zero();
        for (const auto& [node, f] : grid.cases[0].forces) sum += f;
        QVERIFY2((sum + force * turn_.col(2)).norm() < 1e-6 * force, qPrintable(QString::number(sum.norm())));
        QVERIFY(!grid.holds.empty());
    }
    void writtenAndRefused() {
        const duty::Part good = duty::readPart(beam());
        const duty::Part again = duty::parsePart(duty::withInterface(good, "left", good.interfaces[0]), good.path);
        QVERIFY(again.interfaces[0].kind == duty::Interface::Kind::edges && again.interfaces[0].length == spread);
        QVERIFY((again.interfaces[0].places[0] - good.interfaces[0].places[0]).norm() < 1e-9);
        auto refused = [&](const std::function<void(json&)>& change) {
            json other = json::parse(good.text);
            change(other);
            return made_up::messageOf([&] { stages::withFaces(duty::parsePart(other.dump(), good.path)); });
        };
        QVERIFY(refused([](json& j) { j["supports"][0]["kind"] = "sliding"; }).find("faces for a sliding") !=
                std::string::npos);
        QVERIFY(refused([](json& j) {
                    j["load_cases"][0]["loads"][0] = {
                        {"kind", "pressure"}, {"interfaces", {"middle"}}, {"face", "point"}, {"pressure", 2}};
                }).find("faces for a pressure") != std::string::npos);
        QVERIFY(refused([](json& j) { j["supports"][0]["face"] = "start"; }).find("edge of 'left'") !=
                std::string::npos);
        QVERIFY(refused([](json& j) { j["interfaces"][2]["radius"] = -1; }).find("radius") != std::string::npos);
        QVERIFY(refused([](json& j) {
                    j["interfaces"][0]["edges"][0] = {900, 0, 0};
                }).find("left") != std::string::npos);
        QVERIFY(refused([](json& j) { j.erase("original"), j.erase("design_space"); }).find("original") !=
                std::string::npos);
    }
};

QTEST_APPLESS_MAIN(TestLines)
#include "test_lines.moc"

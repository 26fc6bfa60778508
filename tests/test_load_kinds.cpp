/// Every kind of load on a ring with known faces: what it does to a mesh against what it is meant to do and against
/// sums by hand; what is said of it, how it is drawn, and what looks like a slip.
#include <QtTest>
#include <cmath>
#include <nlohmann/json.hpp>
#include <set>

#include "duty/load_kind.hpp"
#include "duty/part.hpp"
#include "made_up_part.hpp"
#include "stages/check_model.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using nlohmann::json;

namespace {

constexpr double inner = 10, outer = 16, length = 24;  // mm
const Vec3 centre(30, -20, 5);                         // of the bottom of the first ring
const Vec3 apart(60, 0, 0);                            // from the first ring to the second

/// Two rings about z. Owners: bore, side, start, end of the first, then of the second.
const mesh::TetMesh& rings() {
    static const mesh::TetMesh m = [] {
        std::vector<Vec3> corners;
        std::vector<lattice::Tet> tets;
        for (int ring = 0; ring < 2; ++ring) {
            const mesh::TetMesh one = verification::mappedBlock(48, 2, 4, [&](const Vec3& p) {
                const double r = inner + (outer - inner) * p[1], a = -2 * M_PI * p[0];
                return Vec3(centre + ring * apart + Vec3(r * std::cos(a), r * std::sin(a), length * p[2]));
            });
            const auto first = static_cast<std::int32_t>(corners.size());
            for (std::size_t n = 0; n < one.cornerCount; ++n) corners.push_back(one.position[n]);
            for (const auto& t : one.tet) tets.push_back({first + t[0], first + t[1], first + t[2], first + t[3]});
        }
        mesh::TetMesh both = mesh::quadraticMesh(corners, tets);
        both.owner.assign(both.boundary.size(), -1);
        for (std::size_t f = 0; f < both.boundary.size(); ++f) {
            const auto& corner = both.boundary[f];
            auto all = [&](auto&& test) {
                return test(both.position[corner[0]]) && test(both.position[corner[1]]) &&
                       test(both.position[corner[2]]);
            };
            for (int ring = 0; ring < 2; ++ring) {
                const Vec3 o = centre + ring * apart;
                auto radius = [&](const Vec3& p) { return std::hypot(p[0] - o[0], p[1] - o[1]); };
                const int base = 4 * ring;
                if (all([&](const Vec3& p) { return std::abs(radius(p) - inner) < 1e-6; })) both.owner[f] = base;
                if (all([&](const Vec3& p) { return std::abs(radius(p) - outer) < 1e-6; })) both.owner[f] = base + 1;
                if (all([&](const Vec3& p) { return radius(p) < outer + 1e-6 && p[2] < o[2] + 1e-6; }))
                    both.owner[f] = base + 2;
                if (all([&](const Vec3& p) { return radius(p) < outer + 1e-6 && p[2] > o[2] + length - 1e-6; }))
                    both.owner[f] = base + 3;
            }
        }
        return both;
    }();
    return m;
}

std::vector<NamedFace> faces() {
    std::vector<NamedFace> list;
    int surface = 0;
    for (const char* ring : {"left", "right"})
        for (const char* face : {"bore", "side", "start", "end"}) {
            NamedFace f;
            f.interface = ring;
            f.face = face;
            f.origin = centre + (surface >= 4 ? apart : Vec3(0, 0, 0));
            f.axis = Vec3::UnitZ();
            f.low = 0;
            f.high = length;
            f.radius = outer;
            f.surface = surface++;
            list.push_back(f);
        }
    return list;
}

/// The two rings as a part, with one load case.
json partJson(const json& loads) {
    json p = made_up::leverPart();
    for (int ring = 0; ring < 2; ++ring) {
        json& i = p["interfaces"][ring];
        i["name"] = ring ? "right" : "left";
        const Vec3 o = centre + ring * apart;
        i["origin"] = {o[0], o[1], o[2]};
        i["length"] = length;
        i["bore_diameter"] = 2 * inner;
        i["ring_diameter"] = 2 * outer;
        i["start"] = i["end"] = {{"kind", "flat"}};
    }
    p["supports"] = json::parse(R"([{"kind": "fixed", "interfaces": ["left", "right"], "face": "start"}])");
    p["load_cases"] = json::array({json{{"name", "case"}, {"loads", loads}, {"on_supports", true}}});
    p["frames"] = json::parse(R"([{"name": "turned", "angles": [0, 0, 90]}])");
    return p;
}

Part partWith(const char* load) {
    return parsePart(partJson(json::array({json::parse(load)})).dump(), "rings.json");
}

const Load& loadOf(const Part& part) {
    return part.loadCases[0].loads[0];
}

struct Applied {
    elastic::Resultant sum;  ///< about the global origin
    MeantLoad meant;
    elastic::LoadVector vector;
    CheckModel model;
    double share = 0;  ///< what facets may explain
};

Applied apply(const Part& part) {
    Applied a;
    a.model = checkModel(part, faces(), rings());
    a.vector = a.model.loads.at(0);
    a.sum = elastic::resultant(rings(), a.vector.forces, Vec3::Zero());
    a.meant = a.model.meant.at(0);
    a.share = a.model.facetShare.at(0);
    return a;
}

bool near(const Vec3& a, const Vec3& b, double tolerance) {
    if ((a - b).norm() <= tolerance) return true;
    qWarning("(%.9g, %.9g, %.9g) is not (%.9g, %.9g, %.9g)", a[0], a[1], a[2], b[0], b[1], b[2]);
    return false;
}

/// Of both rings with their straight edges, kg.
double massOfRings() {
    const double sides = 48, area = 0.5 * sides * std::sin(2 * M_PI / sides) * (outer * outer - inner * inner);
    return 2 * area * length * 7850e-9;
}

const Vec3 halfUp(0, 0, length / 2);

}  // namespace

class TestLoadKinds : public QObject {
    Q_OBJECT

  private slots:
    /// Each kind has its place, its words, and what every kind must be able to do.
    void kindsAreComplete() {
        std::set<std::string> keys;
        for (std::size_t k = 0; k < loadKinds().size(); ++k) {
            const LoadKind& kind = loadKinds()[k];
            QCOMPARE(static_cast<std::size_t>(kind.kind), k);
            QVERIFY(keys.insert(kind.key).second);
            QVERIFY(kind.apply && kind.describe && kind.marks && *kind.words && !kind.figures.empty());
            QCOMPARE(kind.bodyForce != nullptr, !kind.onFaces);
        }
        QCOMPARE(keys.size(), std::size_t(9));
    }

    // ---- totals over two rings
    void forcesAreSharedOrGivenToEach() {
        const Part shared =
            partWith(R"({"kind": "force", "interfaces": ["left", "right"], "face": "bore", "force": [300, -400, 50]})");
        Applied a = apply(shared);
        QVERIFY(near(a.sum.force, Vec3(300, -400, 50), 1e-8));
        QVERIFY(near(a.sum.moment, (centre + 0.5 * apart + halfUp).cross(Vec3(300, -400, 50)), 1e-6));
        Part each = shared;
        each.loadCases[0].loads[0].sharedTotal = false;
        a = apply(each);
        QVERIFY(near(a.sum.force, Vec3(600, -800, 100), 1e-8));
        QVERIFY(near(a.meant.force, Vec3(600, -800, 100), 1e-8));
    }
    /// A moment goes with the force; a turned frame turns both.
    void forcesFollowTheirFrame() {
        const Part part = partWith(
            R"({"kind": "force", "interfaces": ["left"], "face": "bore", "frame": "turned", "force": [100, 0, 0], "moment": ["2 N*m", 0, 0]})");
        const Applied a = apply(part);
        QVERIFY(near(a.sum.force, Vec3(0, 100, 0), 1e-9));
        QVERIFY(near(a.sum.moment, (centre + halfUp).cross(Vec3(0, 100, 0)) + Vec3(0, 2000, 0), 1e-6));
    }
    void torquesTurnAboutTheAxis() {
        const Applied a = apply(
            partWith(R"({"kind": "torque", "interfaces": ["left", "right"], "face": "bore", "torque": "3 N*m"})"));
        QVERIFY(near(a.sum.force, Vec3::Zero(), 1e-9));
        QVERIFY(near(a.sum.moment, Vec3(0, 0, 3000), 1e-7));
        double largest = 0;
        for (std::size_t n = 0; n < a.vector.forces.size(); ++n) {
            const Vec3& p = rings().position[n];
            const double r = std::min(std::hypot(p[0] - centre[0], p[1] - centre[1]),
                                      std::hypot(p[0] - centre[0] - apart[0], p[1] - centre[1]));
            if (r > inner + 1e-6) largest = std::max(largest, a.vector.forces[n].norm());
        }
        QCOMPARE(largest, 0.0);  // on the bores only
    }
    /// The part of a bearing load across the axis comes from the half of the bore that the pin presses on.
    void bearingsPressOnOneHalf() {
        const Applied a = apply(partWith(
            R"({"kind": "bearing", "interfaces": ["left"], "face": "bore", "magnitude": "2 kN", "direction": [0, -1, 0]})"));
        QVERIFY(near(a.sum.force, Vec3(0, -2000, 0), 1e-8));
        QVERIFY(near(a.sum.moment, (centre + halfUp).cross(Vec3(0, -2000, 0)), 1e-5));
        for (std::size_t n = 0; n < a.vector.forces.size(); ++n)
            if (a.vector.forces[n].norm() > 1e-9) QVERIFY(rings().position[n][1] < centre[1] + 2);
    }

    // ---- pressures
    void pressuresGoIntoThePart() {
        const Applied end =
            apply(partWith(R"({"kind": "pressure", "interfaces": ["right"], "face": "end", "pressure": 5})"));
        const double area = massOfRings() / 7850e-9 / (2 * length);
        QVERIFY(near(end.sum.force, Vec3(0, 0, -5 * area), 1e-8));
        QVERIFY(near(end.meant.force, end.sum.force, end.share * 5 * area));
        QVERIFY(near(end.meant.moment, end.sum.moment, end.share * 5 * area * 100));
        // all round, a bore's pressure has no resultant, and pushes outward
        const Applied bore =
            apply(partWith(R"({"kind": "pressure", "interfaces": ["left"], "face": "bore", "pressure": 5})"));
        QVERIFY(near(bore.sum.force, Vec3::Zero(), 1e-7));
        double outward = 0;
        for (std::size_t n = 0; n < bore.vector.forces.size(); ++n) {
            Vec3 d = rings().position[n] - centre;
            d[2] = 0;
            outward += d.normalized().dot(bore.vector.forces[n]);
        }
        QVERIFY(std::abs(outward / (5 * 2 * M_PI * inner * length) - 1) < 0.005);
    }

    // ---- at a point away from the part
    void remoteForcesActAtTheirPoint() {
        const char* text =
            R"({"kind": "remote_force", "interfaces": ["left", "right"], "face": "bore", "force": [10, 20, -30], "moment": [0, 500, 0], "point": [0, 0, 200]})";
        Applied a = apply(partWith(text));
        const Vec3 force(10, 20, -30), moment = Vec3(0, 0, 200).cross(force) + Vec3(0, 500, 0);
        QVERIFY(near(a.sum.force, force, 1e-9));
        QVERIFY(near(a.sum.moment, moment, 1e-6));
        Part each = partWith(text);
        each.loadCases[0].loads[0].sharedTotal = false;
        a = apply(each);
        QVERIFY(near(a.sum.force, 2 * force, 1e-9));
        QVERIFY(near(a.sum.moment, 2 * moment, 1e-6));
    }

    // ---- the whole part
    void weightAndInertia() {
        const Vec3 middle = centre + 0.5 * apart + halfUp;
        const double mass = massOfRings();
        const Applied weight = apply(partWith(R"({"kind": "gravity", "acceleration": [0, 0, "-9.81 m/s^2"]})"));
        QVERIFY(near(weight.sum.force, Vec3(0, 0, -9.81 * mass), 1e-9 * mass));
        QVERIFY(near(weight.sum.moment, middle.cross(weight.sum.force), 1e-5));
        // inertia acts against an acceleration
        const Applied pushed =
            apply(partWith(R"({"kind": "acceleration", "frame": "turned", "acceleration": ["2 m/s^2", 0, 0]})"));
        QVERIFY(near(pushed.sum.force, Vec3(0, -2 * mass, 0), 1e-9 * mass));
    }
    /// m r omega^2 of each ring, away from the axis; in balance about the middle.
    void spinsPullOutward() {
        const double mass = massOfRings(), speed = 2 * M_PI * 600 / 60;
        const Applied a =
            apply(partWith(R"({"kind": "spin", "speed": "600 rpm", "axis": [0, 0, 1], "point": [30, -20, 0]})"));
        QVERIFY(near(a.sum.force, Vec3(0.5 * mass * 0.060 * speed * speed, 0, 0), 1e-7));
        const Applied balanced =
            apply(partWith(R"({"kind": "spin", "speed": "600 rpm", "axis": [0, 0, 1], "point": [60, -20, 0]})"));
        QVERIFY(near(balanced.sum.force, Vec3::Zero(), 1e-7));
        // about a slanted axis through the middle there is no force, and a moment
        const Applied slanted =
            apply(partWith(R"({"kind": "spin", "speed": "600 rpm", "axis": [1, 0, 1], "point": [60, -20, 17]})"));
        QVERIFY(near(slanted.sum.force, Vec3::Zero(), 1e-7));
        const double along = 30 * 30 + (inner * inner + outer * outer) / 4, across = length * length / 12;
        const double moment = 0.5 * mass * speed * speed * (along - across) / 1000;
        QVERIFY(near(slanted.sum.moment, Vec3(0, moment, 0), 0.01 * moment));
        QVERIFY(near(slanted.sum.moment, slanted.meant.moment, 1e-6 * slanted.meant.moment.norm()));
    }
    void displacementsMoveWhatIsHeld() {
        const Applied a = apply(partWith(
            R"({"kind": "displacement", "interfaces": ["right"], "face": "start", "displacement": [0.1, 0, -0.2]})"));
        QVERIFY(near(a.sum.force, Vec3::Zero(), 0));
        const auto& held = a.model.supports[0].constraints;
        QCOMPARE(a.vector.given.size(), held.size());
        int moved = 0;
        for (std::size_t c = 0; c < held.size(); ++c) {
            const bool right = rings().position[held[c].node][0] > centre[0] + 0.5 * apart[0];
            QCOMPARE(a.vector.given[c], right ? held[c].direction.dot(Vec3(0.1, 0, -0.2)) : 0.0);
            moved += right;
        }
        QVERIFY(moved > 100 && 2 * moved == static_cast<int>(held.size()));
    }

    // ---- what all have in common
    /// Factors scale forces, moments, what is meant and what is given; nominal sums agree with sums on the mesh.
    void factorsScaleAll_data() {
        QTest::addColumn<QByteArray>("load");
        for (
            const char* load :
            {R"({"kind": "force", "interfaces": ["left"], "face": "bore", "force": [3, 4, 5], "moment": [100, 0, 50]})",
             R"({"kind": "bearing", "interfaces": ["left", "right"], "face": "bore", "force": [0, 700, 30]})",
             R"({"kind": "torque", "interfaces": ["right"], "face": "bore", "torque": 900})",
             R"({"kind": "remote_force", "interfaces": ["left", "right"], "face": "end", "force": [1, 2, 3], "point": [5, 6, 7]})"})
            QTest::newRow(json::parse(load)["kind"].get<std::string>().c_str()) << QByteArray(load);
    }
    void factorsScaleAll() {
        QFETCH(QByteArray, load);
        Part part = partWith(load.constData());
        const Applied one = apply(part);
        const NominalLoad nominal = loadKind(loadOf(part).kind).nominal(loadOf(part), part);
        QVERIFY(near(nominal.force, one.sum.force, 1e-9 * (1 + nominal.size)));
        QVERIFY(near(nominal.moment, one.sum.moment, 1e-6 * (1 + nominal.lever)));
        QVERIFY(nominal.size >= nominal.force.norm() * (1 - 1e-12));
        part.loadCases[0].factor = -2.5;
        const Applied scaled = apply(part);
        QVERIFY(near(scaled.sum.force, -2.5 * one.sum.force, 1e-9 * (1 + nominal.size)));
        QVERIFY(near(scaled.meant.moment, -2.5 * one.meant.moment, 1e-9 * (1 + nominal.lever)));
    }
    void loadsInWords() {
        auto said = [](const char* load) {
            const Part part = partWith(load);
            return QString::fromStdString(loadKind(loadOf(part).kind).describe(loadOf(part)));
        };
        QCOMPARE(said(R"({"kind": "force", "interfaces": ["left"], "face": "bore", "force": [0, "-3 kN", 0]})"),
                 QString("(0, -3.000, 0) kN"));
        QCOMPARE(said(R"({"kind": "force", "interfaces": ["left"], "face": "bore", "moment": ["1 N*m", 0, 0]})"),
                 QString("moment (1.000, 0, 0) N m"));
        QCOMPARE(said(R"({"kind": "pressure", "interfaces": ["left"], "face": "bore", "pressure": "0.2 GPa"})"),
                 QString("200.0 MPa"));
        QCOMPARE(said(R"({"kind": "torque", "interfaces": ["left"], "face": "bore", "torque": "-4 N*m"})"),
                 QString("-4.000 N m"));
        QCOMPARE(said(R"({"kind": "gravity", "acceleration": [0, 0, "-9.81 m/s^2"]})"), QString("(0, 0, -9.810) m/s²"));
        QCOMPARE(said(R"({"kind": "spin", "speed": "600 rpm", "axis": [0, 0, 2], "point": [1, 2, 3]})"),
                 QString("600.0 rpm about (0, 0, 1.000) through (1.000, 2.000, 3.000) mm"));
    }
    /// An arrow a face with its own share, pointing where the case's factor turns it.
    void arrowsTellShareAndSense() {
        const Part part =
            partWith(R"({"kind": "force", "interfaces": ["left", "right"], "face": "bore", "force": [0, "-3 kN", 0]})");
        const auto marks = loadKind(loadOf(part).kind).marks(loadOf(part), part, -2);
        QCOMPARE(marks.size(), std::size_t(2));
        QVERIFY(near(marks[0].along, Vec3(0, 1, 0), 1e-12));
        QCOMPARE(QString::fromStdString(marks[1].text), QString("3.00 kN"));
        QCOMPARE(marks[1].on, std::string("right"));
        const Part turned =
            partWith(R"({"kind": "torque", "interfaces": ["left"], "face": "bore", "torque": "8 N*m"})");
        const auto ring = loadKind(loadOf(turned).kind).marks(loadOf(turned), turned, 1);
        QCOMPARE(ring.size(), std::size_t(1));
        QVERIFY(ring[0].shape == LoadMark::Shape::ring && ring[0].radius > outer);
        QVERIFY(near(ring[0].at, centre + halfUp, 1e-9));
    }
    void slipsOfUnitsAreOdd() {
        auto odd = [](const char* load) {
            const Part part = partWith(load);
            return loadKind(loadOf(part).kind).odd(loadOf(part), part, 1).size();
        };
        const char* newtons = R"({"kind": "bearing", "interfaces": ["left"], "face": "bore", "force": ["5 kN", 0, 0]})";
        QCOMPARE(odd(newtons), std::size_t(0));
        QCOMPARE(odd(R"({"kind": "bearing", "interfaces": ["left"], "face": "bore", "force": ["5000 kN", 0, 0]})"),
                 std::size_t(1));
        QCOMPARE(odd(R"({"kind": "bearing", "interfaces": ["left"], "face": "bore", "force": ["0.05 N", 0, 0]})"),
                 std::size_t(1));
        QCOMPARE(odd(R"({"kind": "gravity", "acceleration": [0, 0, "-9.81 m/s^2"]})"), std::size_t(0));
        QCOMPARE(odd(R"({"kind": "gravity", "acceleration": [0, 0, "-98100 m/s^2"]})"), std::size_t(1));
    }
    void whatCannotBeMeantIsRefused() {
        auto message = [](const char* load) { return made_up::messageOf([&] { partWith(load); }); };
        QVERIFY(message(R"({"kind": "bearing", "interfaces": ["left"], "face": "end", "force": [1, 0, 0]})")
                    .find("a bearing load acts on a bore") != std::string::npos);
        QVERIFY(message(R"({"kind": "force", "interfaces": ["left"], "face": "bore", "force": [0, 0, 0]})")
                    .find("not zero") != std::string::npos);
        QVERIFY(message(R"({"kind": "torque", "interfaces": ["left"], "face": "bore", "torque": 0})") != "no error");
        QVERIFY(message(R"({"kind": "displacement", "interfaces": ["left"], "face": "end", "displacement": [1, 0, 0]})")
                    .find("a displacement moves a support") != std::string::npos);
        QVERIFY(message(R"({"kind": "spin", "speed": 10, "axis": [0, 0, 0], "point": [0, 0, 0]})") != "no error");
    }
};

QTEST_GUILESS_MAIN(TestLoadKinds)
#include "test_load_kinds.moc"

#include <QtTest>
#include <set>

#include "base/error.hpp"
#include "made_up_part.hpp"
#include "stages/part_shape.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using nlohmann::json;

/// What interfaces, keep-outs and the design space make of a body.
class TestPartShape : public QObject {
    Q_OBJECT
    static Part partWith(const std::function<void(json&)>& change) {
        json j = made_up::leverPart();
        change(j);
        return parsePart(j.dump(), "lever.json");
    }
    /// Everything inside the design space is material.
    static PartShape fullShape(const Part& part) {
        return buildShape(part, {Box3{Vec3(0, 0, 0), Vec3(80, 30, 15)}, nullptr, {}},
                          std::make_shared<shape::FunctionBody>([](const Vec3&) { return -50.0; }));
    }
    static PartShape emptyShape(const Part& part) {
        return buildShape(part, {Box3{Vec3(0, 0, 0), Vec3(80, 30, 15)}, nullptr, {}},
                          std::make_shared<shape::FunctionBody>([](const Vec3&) { return 50.0; }));
    }
    static bool solidAt(const PartShape& s, const Vec3& p) { return s.solid->evaluate(p).value < 0; }

  private slots:
    void boresAreCutAndRingsAreKept() {
        const Part part = partWith([](json&) {});
        const PartShape full = fullShape(part), empty = emptyShape(part);
        QVERIFY(!solidAt(full, Vec3(15, 15, 7)) && !solidAt(full, Vec3(15 + 3.9, 15, 7)));
        QVERIFY(solidAt(full, Vec3(15 + 4.1, 15, 7)));
        // without any free material the ring alone is there: between 4 and 11 mm from the axis
        QVERIFY(solidAt(empty, Vec3(15 + 7, 15, 7)) && solidAt(empty, Vec3(15, 15 - 10.8, 7)));
        QVERIFY(!solidAt(empty, Vec3(15 + 11.5, 15, 7)) && !solidAt(empty, Vec3(40, 15, 7)));
    }
    void valueOnTheBoreIsTheExactDistance() {
        const PartShape s = fullShape(partWith([](json&) {}));
        for (double a = 0; a < 6; a += 0.7) {
            const Vec3 p(15 + 3.2 * std::cos(a), 15 + 3.2 * std::sin(a), 6);
            const auto sample = s.solid->evaluate(p);
            QVERIFY(std::abs(sample.value - 0.8) < 1e-12);
            bool named = false;
            for (const NamedFace& f : s.faces)
                named = named || (f.interface == "pivot" && f.face == "bore" && f.surface == sample.surface);
            QVERIFY(named);
        }
    }
    void namedFacesHoldTheirOwnPointsOnly() {
        const PartShape s = fullShape(partWith([](json&) {}));
        // both rings have start, end and bore
        QCOMPARE(s.faces.size(), std::size_t(6));
        for (const NamedFace& f : s.faces) {
            const double x = f.interface == "pivot" ? 15 : 65;
            const Vec3 onBore(x + 4, 15, 8), onStart(x + 8, 15, 0), onEnd(x, 15 + 8, 15), beside(x + 12, 15, 0);
            QCOMPARE(f.holds(onBore), f.face == "bore");
            QCOMPARE(f.holds(onStart), f.face == "start");
            QCOMPARE(f.holds(onEnd), f.face == "end");
            QVERIFY(!f.holds(beside));
        }
    }
    void flatFacesOfTwoInterfacesShareAPlane() {
        const PartShape s = fullShape(partWith([](json&) {}));
        std::set<int> starts;
        for (const NamedFace& f : s.faces)
            if (f.face == "start") starts.insert(f.surface);
        QCOMPARE(starts.size(), std::size_t(1));  // z = 0 carries both
    }
    void blindBoresHaveAFloor() {
        const PartShape s = fullShape(partWith([](json& j) {
            j["interfaces"][0]["length"] = 9;
            j["interfaces"][0]["end"] = {{"kind", "blind"}};
        }));
        QVERIFY(!solidAt(s, Vec3(15, 15, 8.9)));
        QVERIFY(solidAt(s, Vec3(15, 15, 9.1)));
        QVERIFY(std::abs(s.solid->evaluate(Vec3(15, 15, 8)).value - 1) < 1e-12);  // one millimetre above the floor
    }
    void throughBoresGoOn() {
        const PartShape s = fullShape(partWith([](json& j) {
            j["interfaces"][0]["length"] = 5;
            j["interfaces"][0]["end"] = {{"kind", "through"}};
        }));
        QVERIFY(!solidAt(s, Vec3(15, 15, 14)));
    }
    void clearanceKeepsTheSpaceBeyondAFlatFree() {
        const PartShape s = fullShape(partWith([](json& j) {
            j["interfaces"][1]["length"] = 6;
            j["interfaces"][1]["end"] = {{"kind", "flat"}, {"clearance", 4}, {"clear_diameter", 26}};
        }));
        QVERIFY(solidAt(s, Vec3(65 + 8, 15, 5.9)));
        QVERIFY(!solidAt(s, Vec3(65 + 8, 15, 6.1)) && !solidAt(s, Vec3(65 + 12.9, 15, 9.9)));
        QVERIFY(solidAt(s, Vec3(65 - 13.5, 15, 8)));  // outside the diameter
        QVERIFY(solidAt(s, Vec3(65 + 8, 15, 10.5)));  // beyond the depth
    }
    void padsAreDiscsWithoutABore() {
        const Part part = partWith([](json& j) {
            j["interfaces"].push_back({{"name", "pad"},
                                       {"kind", "pad"},
                                       {"origin", {40, 15, 0}},
                                       {"axis", {0, 0, 1}},
                                       {"length", 4},
                                       {"ring_diameter", 12}});
        });
        const PartShape s = emptyShape(part);
        QVERIFY(solidAt(s, Vec3(40, 15, 2)) && solidAt(s, Vec3(40 + 5, 15, 0.5)));
        QVERIFY(!solidAt(s, Vec3(40, 15, 5)));
        QVERIFY(std::abs(s.solid->evaluate(Vec3(40, 15, -0.5)).value - 0.5) < 1e-9);
        QVERIFY_EXCEPTION_THROWN(partWith([](json& j) { j["interfaces"][0]["kind"] = "pad"; }),
                                 InputError);  // has a bore diameter
    }
    void keepOutsAreEmpty() {
        const PartShape s = fullShape(partWith([](json& j) {
            j["keep_outs"] =
                json::array({{{"name", "slot"}, {"kind", "box"}, {"low", {35, -5, 5}}, {"high", {45, 40, 10}}},
                             {{"name", "tool"},
                              {"kind", "cylinder"},
                              {"origin", {28, 15, 2}},
                              {"axis", {0, 0, 1}},
                              {"length", 20},
                              {"diameter", 6}}});
        }));
        QVERIFY(!solidAt(s, Vec3(40, 15, 7)) && !solidAt(s, Vec3(40, 1, 9.9)));
        QVERIFY(solidAt(s, Vec3(40, 15, 4.9)) && solidAt(s, Vec3(40, 15, 10.1)));
        QVERIFY(!solidAt(s, Vec3(28, 15, 12)) && solidAt(s, Vec3(28, 15, 1.9)));
    }
    void sidesOfTheDesignSpaceAreBrokenUnlessMachined() {
        const PartShape s = fullShape(partWith([](json&) {}));
        // z = 0 carries flat faces: exact. y = 0 does not: the edge towards z = 0 is not rounded by it, but x = 0 with
        // y = 0 is
        QVERIFY(std::abs(s.solid->evaluate(Vec3(40, 15, -1)).value - 1) < 1e-9);
        QVERIFY(!solidAt(s, Vec3(0.2, 0.2, 7)));
        QVERIFY(solidAt(s, Vec3(0.2, 15, 7)) && solidAt(s, Vec3(40, 0.2, 7)));
        QVERIFY(!solidAt(s, Vec3(-0.01, 15, 7)) && !solidAt(s, Vec3(40, -0.01, 7)));
    }
    void cellsOfRingsAndVoids() {
        const Part part = partWith([](json&) {});
        const auto f = made_up::leverField();
        const auto kept = keptCells(part, f);
        QCOMPARE(kept.size(), std::size_t(2));
        // cells between the radii 4 and 11 over the whole height, up to the staircase: pi (121 - 16) 15 / 15.6
        const double expected = M_PI * (121 - 16) * 15 / 15.625;
        QVERIFY2(std::abs(static_cast<double>(kept[0].cells.size()) / expected - 1) < 0.12,
                 qPrintable(QString::number(kept[0].cells.size())));
        const auto isVoid = voidCells(part, loadRegions(part, f.bounds()), f);
        for (std::size_t c = 0; c < f.count(); ++c) {
            double nearest = 1e9;
            for (double x : made_up::ringX)
                nearest = std::min(nearest, std::hypot(f.centre(c)[0] - x, f.centre(c)[1] - 15));
            QCOMPARE(static_cast<bool>(isVoid[c]), nearest < 4);
        }
    }
    void interfacesOutsideTheFieldAreRefused() {
        const Part part = partWith([](json& j) { j["interfaces"][1]["origin"] = {65, 15, 40}; });
        try {
            keptCells(part, made_up::leverField());
            QFAIL("must be refused");
        } catch (const InputError& e) {
            QVERIFY(std::string(e.what()).find("'eye'") != std::string::npos);
        }
    }
    void theDesignSpaceDefaultsToTheField() {
        const auto f = made_up::leverField();
        const Part without = partWith([](json&) {});
        QVERIFY((loadRegions(without, f.bounds()).designSpace.high - Vec3(80, 30, 15)).norm() < 1e-12);
        const Part with = partWith([](json& j) { j["design_space"] = {{"low", {0, 0, 0}}, {"high", {80, 30, 12}}}; });
        QCOMPARE(loadRegions(with, f.bounds()).designSpace.high[2], 12.0);
        QVERIFY_EXCEPTION_THROWN(partWith([](json& j) {
                                     j["design_space"] = {{"low", {0, 0, 5}}, {"high", {80, 30, 5}}};
                                 }),
                                 InputError);
    }
};

QTEST_GUILESS_MAIN(TestPartShape)
#include "test_part_shape.moc"

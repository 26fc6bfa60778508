// Changes to a part file's text: what is asked for changes, everything else stays, and what would leave the file broken
// is refused.
#include <QtTest>
#include <cmath>

#include "base/error.hpp"
#include "box_mesh.hpp"
#include "duty/duty_edit.hpp"
#include "duty/part_edit.hpp"
#include "duty/part_numbers.hpp"
#include "exchange/writers.hpp"
#include "made_up_part.hpp"
#include "store/state_text.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using made_up::messageOf;
using nlohmann::json;

class TestPartEdit : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    Part part_;
    Part parsed(const std::string& text) const { return parsePart(text, part_.path); }
    /// Top-level entries that a change touched.
    QStringList touched(const std::string& text) const {
        const json before = json::parse(part_.text), after = json::parse(text);
        QStringList names;
        for (const auto& j : {before, after})
            for (const auto& [key, value] : j.items())
                if ((!before.contains(key) || !after.contains(key) || before[key] != after[key]) &&
                    !names.contains(QString::fromStdString(key)))
                    names << QString::fromStdString(key);
        names.sort();
        return names;
    }

  private slots:
    void initTestCase() {
        auto j = made_up::leverPart();
        part_ = readPart(made_up::writeLever(dir_.path().toStdString(), j));
    }

    void interfacesAreAddedAndChanged() {
        Interface i;
        i.name = "lug";
        i.kind = Interface::Kind::boss;
        i.origin = Vec3(40, 15, 0);
        i.axis = Vec3::UnitZ();
        i.length = 15;
        i.boreDiameter = 6;
        i.ringDiameter = 14;
        i.blendRadius = 1.5;
        i.start.kind = EndKind::through;
        const std::string text = withInterface(part_, "", i);
        QCOMPARE(touched(text), QStringList{"interfaces"});
        const Part p = parsed(text);
        QCOMPARE(p.interfaces.size(), std::size_t(3));
        const Interface* lug = p.findInterface("lug");
        QVERIFY(lug && lug->origin == i.origin && lug->boreDiameter == 6 && lug->ringDiameter == 14);
        QVERIFY(lug->blendRadius == 1.5 && lug->start.kind == EndKind::through && lug->end.kind == EndKind::flat);
        QVERIFY(!p.findInterface("nobody"));
        // loads and supports follow a new name
        Interface eye = *part_.findInterface("eye");
        eye.name = "fork eye";
        eye.boreDiameter = 9;
        const Part renamed = parsed(withInterface(part_, "eye", eye));
        QCOMPARE(renamed.interfaces.size(), std::size_t(2));
        QCOMPARE(renamed.interfaces[1].boreDiameter, 9.0);
        for (const LoadCase& c : renamed.loadCases) QCOMPARE(c.loads[0].on.interfaces[0], std::string("fork eye"));
        QCOMPARE(renamed.supports[0].on.interfaces[0], std::string("pivot"));
        // a bore wider than its ring is no interface
        eye.boreDiameter = 30;
        QVERIFY(messageOf([&] { parsed(withInterface(part_, "eye", eye)); }) != "no error");
        eye.boreDiameter = 9;
        eye.name = "pivot";
        QVERIFY(messageOf([&] { parsed(withInterface(part_, "eye", eye)); }).find("pivot") != std::string::npos);
    }
    void interfacesInUseStay() {
        const std::string why = messageOf([&] { withoutInterface(part_, "eye"); });
        QVERIFY2(why.find("in use") != std::string::npos && why.find("eye") != std::string::npos, why.c_str());
        Interface i;
        i.name = "spare";
        i.kind = Interface::Kind::bore;
        i.origin = Vec3(40, 15, 0);
        i.axis = Vec3::UnitZ();
        i.length = 15;
        i.boreDiameter = 5;
        const Part with = parsed(withInterface(part_, "", i));
        QCOMPARE(parsePart(withoutInterface(with, "spare"), part_.path).interfaces.size(), std::size_t(2));
        QVERIFY(json::parse(withoutInterface(part_, "nobody")) == json::parse(part_.text));
    }
    void fieldsAreAdded() {
        exchange::FieldSource second;
        second.path = dir_.filePath("lever.npy").toStdString();
        second.spacing = Vec3::Constant(2.5);
        second.origin = Vec3(0, 0, 1);
        const std::string text = withField(part_, {"storm", second});
        QCOMPARE(touched(text), QStringList{"more_fields"});
        const Part p = parsed(text);
        QCOMPARE(p.fields.size(), std::size_t(2));
        QCOMPARE(p.fields[1].name, std::string("storm"));
        QVERIFY(p.fields[1].source.origin == Vec3(0, 0, 1) && p.fields[1].source.spacing == Vec3::Constant(2.5));
        QVERIFY(canonical(p.fields[0].source) != canonical(p.fields[1].source));
        QVERIFY(messageOf([&] {
                    parsePart(withField(p, {"storm", second}), part_.path);
                }).find("storm") != std::string::npos);
    }
    void bodiesAreSetAndRemoved() {
        const std::string stl = dir_.filePath("block.stl").toStdString();
        exchange::writeStl(stl, made_up::boxMesh({0, 0, 0}, {80, 30, 15}), "block");
        const BodySource body{stl, "in", 0.5};
        Part p = parsed(withOriginal(part_, &body));
        QVERIFY(p.original && p.original->path == stl && p.original->lengthUnit == "in");
        QVERIFY(!parsePart(withOriginal(p, nullptr), part_.path).original);
        p = parsed(withDesignBody(part_, &body));
        QVERIFY(p.designBody && p.designBody->offset == 0.5);
        QVERIFY(!parsePart(withDesignBody(p, nullptr), part_.path).designBody);
        p = parsed(withKeepOutBody(part_, "hose", body));
        QCOMPARE(p.keepOuts.size(), std::size_t(1));
        QVERIFY(p.keepOuts[0].kind == KeepOut::Kind::body && p.keepOuts[0].name == "hose");
        QCOMPARE(p.keepOuts[0].body.path, stl);
    }
    void combinationsFollowTheirCases() {
        Combination c{"both", {{"down", 1.35}, {"pull", -0.5}}, true};
        const std::string text = withCombination(part_, "", c);
        QCOMPARE(touched(text), QStringList{"combinations"});
        Part p = parsed(text);
        QCOMPARE(p.combinations.size(), std::size_t(1));
        QCOMPARE(combinationText(p.combinations[0]), combinationText(c));
        const auto terms = parseCombination(combinationText(c), {"down", "pull"});
        QVERIFY(terms == c.terms);
        // a case in use cannot go; renamed, the combination follows
        QVERIFY(messageOf([&] { withoutCase(p, "down"); }).find("both") != std::string::npos);
        LoadCase renamed = p.loadCases[0];
        renamed.name = "storm down";
        p = parsePart(withCase(p, "down", renamed), part_.path);
        QCOMPARE(p.combinations[0].terms[0].first, std::string("storm down"));
        c = p.combinations[0];
        c.on = false;
        c.name = "both, off";
        p = parsePart(withCombination(p, "both", c), part_.path);
        QVERIFY(p.combinations.size() == 1 && !p.combinations[0].on && p.combinations[0].name == "both, off");
        QCOMPARE(parsePart(withoutCombination(p, "both, off"), part_.path).combinations.size(), std::size_t(0));
        QVERIFY(messageOf([&] { parseCombination("2 sideways", {"down", "pull"}); }) != "no error");
        QVERIFY(messageOf([&] { parseCombination("", {"down"}); }) != "no error");
    }
    void ownMaterialsAreKept() {
        elastic::Material m = part_.material;
        m.name = "made-up bronze";
        m.youngsModulus = 110000;
        m.density = 8.8e-6;
        m.yieldStrength = 140;
        Part p = parsed(withOwnMaterial(part_, m));
        QCOMPARE(p.ownMaterials.size(), std::size_t(1));
        QCOMPARE(p.ownMaterials[0].youngsModulus, 110000.0);
        QVERIFY(std::abs(p.ownMaterials[0].density / 8.8e-6 - 1) < 1e-12);
        QCOMPARE(p.material.name, part_.material.name);
        m.yieldStrength = 150;  // the same name: replaced
        p = parsePart(withOwnMaterial(p, m), part_.path);
        QVERIFY(p.ownMaterials.size() == 1 && p.ownMaterials[0].yieldStrength == 150);
        m.poissonsRatio = 0.5;
        QVERIFY(messageOf([&] { parsePart(withOwnMaterial(p, m), part_.path); }) != "no error");
    }
    /// A part file for a field alone can be opened and says what it assumes.
    void newPartsOpen() {
        exchange::FieldSource field;
        field.path = dir_.filePath("lever.npy").toStdString();
        field.spacing = Vec3::Constant(2.5);
        const std::string path = dir_.filePath("new.json").toStdString();
        const Part p = parsePart(newPartText("arm", field, path), path);
        QCOMPARE(p.fields.size(), std::size_t(1));
        QVERIFY(p.interfaces.empty() && p.loadCases.empty());
        QVERIFY(p.material.youngsModulus > 0 && !p.material.name.empty());
        const auto read = exchange::readField(p.fields[0].source);
        QCOMPARE(read.cells, (std::array<int, 3>{32, 12, 6}));
    }
    void numbersOfThePart() {
        const auto numbers = partNumbers(part_);
        auto find = [&](const std::string& label) {
            const auto at =
                std::find_if(numbers.begin(), numbers.end(), [&](const auto& n) { return n.label == label; });
            return at == numbers.end() ? PartNumberInfo{} : *at;
        };
        QCOMPARE(find("eye: bore diameter").value, 8.0);
        QCOMPARE(find("eye: bore diameter").unit, std::string("mm"));
        QCOMPARE(find("material: density").value, 7850.0);
        QCOMPARE(find("pull: load factor").value, 1.0);
        std::vector<PartNumber> changes;
        setNumber(changes, find("eye: bore diameter").place, 7.5);
        setNumber(changes, find("eye: bore diameter").place, 7);  // the last counts
        setNumber(changes, find("pull: load factor").place, 1.5);
        QCOMPARE(changes.size(), std::size_t(2));
        const Part p = withNumbers(part_, changes);
        QCOMPARE(p.findInterface("eye")->boreDiameter, 7.0);
        QCOMPARE(p.loadCases[1].factor, 1.5);
        QCOMPARE(p.findInterface("pivot")->boreDiameter, 8.0);
        QVERIFY(messageOf([&] { withNumbers(part_, {{"/interfaces/7/bore_diameter", 3}}); }) != "no error");
        QVERIFY(messageOf([&] {
                    withNumbers(part_, {{find("eye: bore diameter").place, -3}});
                }).find("bore_diameter") != std::string::npos);
    }
    /// A variant's number belongs to an interface by its name: another one in its place is another.
    void numbersFollowNames() {
        std::vector<PartNumber> numbers{{"/interfaces/eye/bore_diameter", 7}, {"/load_cases/pull/factor", 2}};
        auto j = nlohmann::json::parse(part_.text);
        // in front of it a new one: by count it would get the diameter
        auto added = j["interfaces"][0];
        added["name"] = "nose";
        added["origin"] = {40, 15, 0};
        j["interfaces"].insert(j["interfaces"].begin(), added);
        const Part more = parsePart(j.dump(), part_.path);
        const Part changed = withNumbers(more, numbers);
        QCOMPARE(changed.findInterface("eye")->boreDiameter, 7.0);
        QCOMPARE(changed.findInterface("pivot")->boreDiameter, 8.0);
        QCOMPARE(changed.findInterface("nose")->boreDiameter, 8.0);
        // renamed: follows; removed: goes, and says so
        auto renamed = nlohmann::json::parse(part_.text);
        renamed["interfaces"][1]["name"] = "tip/end";
        for (auto& c : renamed["load_cases"]) c["loads"][0]["interfaces"][0] = "tip/end";
        const Part other = parsePart(renamed.dump(), part_.path);
        auto followed = numbers;
        QVERIFY(followNames(part_, other, followed).empty());
        QCOMPARE(followed[0].place, std::string("/interfaces/tip~1end/bore_diameter"));
        QCOMPARE(withNumbers(other, followed).findInterface("tip/end")->boreDiameter, 7.0);
        auto fewer = nlohmann::json::parse(part_.text);
        fewer["load_cases"].erase(1);
        auto left = numbers;
        const auto dropped = followNames(part_, parsePart(fewer.dump(), part_.path), left);
        QCOMPARE(dropped, std::vector<std::string>{"pull: factor"});
        QCOMPARE(left.size(), std::size_t(1));
        // projects of earlier versions counted
        std::vector<PartNumber> old{{byCount("/interfaces/1/bore_diameter"), 7}, {byCount("/load_cases/9/factor"), 2}};
        nameNumbers(part_, old);
        QCOMPARE(old[0].place, std::string("/interfaces/eye/bore_diameter"));
        QVERIFY(messageOf([&] { withNumbers(part_, {old[1]}); }).find("/load_cases/9/factor") != std::string::npos);
        QCOMPARE(namedPlace(part_, "/interfaces/0/length").value_or(""), std::string("/interfaces/pivot/length"));
        QVERIFY(!namedPlace(part_, "/interfaces/2/length"));
    }
    /// Copies about an axis and across a plane, by rotations and reflections, with free names; held alike on request.
    void interfacesAreRepeated() {
        Repetition how;
        how.point = Vec3(40, 15, 99);  // anywhere on the axis
        how.axis = Vec3(0, 0, -2);
        how.count = 4;
        const Part four = parsePart(withCopies(part_, "pivot", how), part_.path);
        QCOMPARE(four.interfaces.size(), std::size_t(5));
        const Vec3 where[] = {Vec3(40, 40, 0), Vec3(65, 15, 0), Vec3(40, -10, 0)};  // a left turn about -z each
        for (int k = 0; k < 3; ++k) {
            const Interface* i = four.findInterface("pivot " + std::to_string(k + 2));
            QVERIFY(i && (i->origin - where[k]).norm() < 1e-9);
            QCOMPARE(i->axis, Vec3(0, 0, 1));
            QCOMPARE(i->boreDiameter, 8.0);
        }
        QCOMPARE(four.supports[0].on.interfaces, (std::vector<std::string>{"pivot", "pivot 2", "pivot 3", "pivot 4"}));
        QCOMPARE(four.loadCases[0].loads[0].on.interfaces, std::vector<std::string>{"eye"});
        how.kind = Repetition::Kind::mirrored;
        how.point = Vec3(0, 0, 20);
        how.heldAlike = false;
        const Part two = parsePart(withCopies(four, "pivot 2", how), part_.path);
        const Interface* i = two.findInterface("pivot 5");  // the next free number
        QVERIFY(i && (i->origin - Vec3(40, 40, 40)).norm() < 1e-9 && i->axis == Vec3(0, 0, -1));
        QCOMPARE(two.supports[0].on.interfaces.size(), std::size_t(4));
        auto screw = nlohmann::json::parse(two.text);
        screw["interfaces"][1]["name"] = "M8";
        for (auto& c : screw["load_cases"]) c["loads"][0]["interfaces"][0] = "M8";
        QVERIFY(
            parsePart(withCopies(parsePart(screw.dump(), part_.path), "M8", how), part_.path).findInterface("M8 2"));
        how.point = Vec3(0, 0, 7.5);  // through its middle
        QVERIFY(messageOf([&] { withCopies(part_, "pivot", how); }).find("plane") != std::string::npos);
        how.kind = Repetition::Kind::about;
        how.count = 1;
        QVERIFY(messageOf([&] { withCopies(part_, "pivot", how); }).find("2 to 100") != std::string::npos);
        how.count = 3;
        how.axis = Vec3::Zero();
        QVERIFY(messageOf([&] { withCopies(part_, "pivot", how); }).find("axis") != std::string::npos);
        QVERIFY(messageOf([&] { withCopies(part_, "nose", {}); }).find("'nose'") != std::string::npos);
    }
    void partsInOtherUnitsStayInThem() {
        auto j = made_up::leverPart();
        j["units"] = {{"length", "in"}, {"stress", "ksi"}};
        j["field"]["spacing"] = {0.1, 0.1, 0.1};
        for (auto& i : j["interfaces"])
            for (const char* key : {"length", "bore_diameter", "ring_diameter", "blend_radius"})
                i[key] = i[key].get<double>() / 25.4;
        for (auto& i : j["interfaces"])
            for (auto& x : i["origin"]) x = x.get<double>() / 25.4;
        j["material"]["yield_strength"] = 36;
        const Part p = parsePart(j.dump(), part_.path);
        QVERIFY(std::abs(p.findInterface("eye")->boreDiameter - 8) < 1e-12);
        QVERIFY(std::abs(p.material.yieldStrength - 36 * 6.894757293168) < 1e-9);
        Interface eye = *p.findInterface("eye");
        eye.boreDiameter = 12.7;
        const std::string text = withInterface(p, "eye", eye);
        QCOMPARE(json::parse(text)["interfaces"][1]["bore_diameter"].get<double>(), 0.5);
        QVERIFY(std::abs(parsePart(text, part_.path).findInterface("eye")->boreDiameter - 12.7) < 1e-12);
        for (const auto& n : partNumbers(p))
            if (n.label == "eye: bore diameter") QVERIFY(n.unit == "in" && std::abs(n.value - 8 / 25.4) < 1e-12);
    }
    void facesAndFrames() {
        const Interface& eye = *part_.findInterface("eye");
        QCOMPARE(faceMiddle(eye, "bore"), Vec3(65, 15, 7.5));
        QCOMPARE(faceMiddle(eye, "start"), Vec3(65, 15, 0));
        QCOMPARE(faceMiddle(eye, "end"), Vec3(65, 15, 15));
        Frame f{"turned", Vec3(1, 2, 3), axesFromAngles(Vec3(0, 0, 90))};
        const Part p = parsed(withFrame(part_, "", f));
        QVERIFY(p.findFrame("turned") && (p.axesOf("turned").col(0) - Vec3::UnitY()).norm() < 1e-12);
        QVERIFY(!p.findFrame("") && p.axesOf("") == Mat3::Identity());
        QVERIFY((axesFromPoints(Vec3(1, 1, 1), Vec3(1, 3, 1), Vec3(0, 1, 1)) - axesFromAngles(Vec3(0, 0, 90))).norm() <
                1e-12);
        QVERIFY(messageOf([] { axesFromPoints(Vec3(0, 0, 0), Vec3(1, 1, 1), Vec3(2, 2, 2)); }) != "no error");
    }
    void kindsOfRequirements() {
        int minima = 0, limits = 0;
        const int count = static_cast<int>(requirementKinds().size());
        for (int k = 0; k < count; ++k) {
            const RequirementKind& kind = requirementKinds()[static_cast<std::size_t>(k)];
            if (kind.kind != Requirement::Kind::figure)
                QCOMPARE(static_cast<int>(kind.kind), k);  // the list is in the order of the names
            minima += kind.isMinimum;
            limits += kind.hasLimit;
            QVERIFY(std::string(kind.words) != "" && std::string(kind.key).find(' ') == std::string::npos);
        }
        QCOMPARE(minima, 4);  // safety factor and wall, lowest frequency and buckling factor
        QCOMPARE(limits, count - 2);
        QCOMPARE(std::string(requirementKind(Requirement::Kind::displacement).unit), std::string("mm"));
        QCOMPARE(std::string(requirementKind(Requirement::Kind::safetyFactor).unit), std::string());
        // each kind is written and read back
        std::vector<Requirement> all;
        for (int k = 0; k < count; ++k) {
            Requirement r;
            r.kind = requirementKinds()[static_cast<std::size_t>(k)].kind;
            if (r.kind == Requirement::Kind::figure) r.figure = requirementKinds()[static_cast<std::size_t>(k)].key;
            if (requirementKind(r).hasLimit) r.limit = 1.25;
            r.source = "clause " + std::to_string(k);
            if (r.kind == Requirement::Kind::displacement) r.interface = "eye", r.direction = Vec3::UnitY();
            if (r.kind == Requirement::Kind::safetyFactor) r.loadCase = "pull";
            all.push_back(r);
        }
        const std::string text = withRequirements(part_, all);
        QCOMPARE(touched(text), QStringList{"requirements"});
        const Part p = parsed(text);
        QCOMPARE(p.requirements.size(), all.size());
        for (std::size_t k = 0; k < all.size(); ++k) QVERIFY2(p.requirements[k] == all[k], name(all[k]).c_str());
    }
};

QTEST_GUILESS_MAIN(TestPartEdit)
#include "test_part_edit.moc"

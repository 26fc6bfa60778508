#include "project/rebuild_text.hpp"

#include <nlohmann/json.hpp>

#include "base/error.hpp"

namespace escultura::project {
namespace {

using nlohmann::json;
using solid::Feature;

json vector(const Vec3& v) {
    return json::array({v[0], v[1], v[2]});
}
Vec3 vectorOf(const json& j) {
    return Vec3(j.at(0).get<double>(), j.at(1).get<double>(), j.at(2).get<double>());
}

constexpr Feature::Kind kinds[] = {Feature::Kind::bore,   Feature::Kind::boss,   Feature::Kind::pad,
                                   Feature::Kind::flat,   Feature::Kind::slot,   Feature::Kind::pocket,
                                   Feature::Kind::rib,    Feature::Kind::body,   Feature::Kind::keepOut,
                                   Feature::Kind::fillet, Feature::Kind::chamfer};

template <class Enum, std::size_t N>
Enum named(const std::string& text, const Enum (&values)[N], const char* place) {
    std::string known;
    for (Enum e : values) {
        if (text == name(e)) return e;
        known += (known.empty() ? "" : ", ") + std::string(name(e));
    }
    throw InputError(
        ErrorDetail{"The recipe holds a word that is not known.", {}, place, "one of " + known, "'" + text + "'"});
}

json cageJson(const cage::Cage& c) {
    json positions = json::array(), faces = json::array(), creases = json::array();
    for (const Vec3& p : c.position)
        for (int a = 0; a < 3; ++a) positions.push_back(p[a]);
    for (const auto& q : c.face)
        for (auto v : q) faces.push_back(v);
    for (const auto& x : c.crease) creases.push_back({x.a, x.b, x.sharpness});
    return {{"positions", positions}, {"faces", faces}, {"creases", creases}};
}

cage::Cage cageOf(const json& j) {
    cage::Cage c;
    const auto positions = j.at("positions").get<std::vector<double>>();
    const auto faces = j.at("faces").get<std::vector<std::int32_t>>();
    for (std::size_t i = 0; i + 2 < positions.size(); i += 3)
        c.position.emplace_back(positions[i], positions[i + 1], positions[i + 2]);
    for (std::size_t i = 0; i + 3 < faces.size(); i += 4)
        c.face.push_back({faces[i], faces[i + 1], faces[i + 2], faces[i + 3]});
    for (const auto& x : j.at("creases")) c.crease.push_back({x.at(0), x.at(1), x.at(2)});
    const auto count = static_cast<std::int32_t>(c.position.size());
    auto inside = [&](std::int32_t v) { return v >= 0 && v < count; };
    bool sound = true;
    for (const auto& q : c.face)
        for (auto v : q) sound = sound && inside(v);
    for (const auto& x : c.crease) sound = sound && inside(x.a) && inside(x.b);
    if (!sound)
        throw InputError(ErrorDetail{
            "A stored cage is damaged.", {}, "faces", "vertices 0 to " + std::to_string(count - 1), "others"});
    return c;
}

}  // namespace

json featureJson(const Feature& f) {
    return {{"kind", solid::name(f.kind)},
            {"name", f.name},
            {"interface", f.interface},
            {"face", f.face},
            {"on", f.on},
            {"origin", vector(f.origin)},
            {"axis", vector(f.axis)},
            {"along", vector(f.along)},
            {"diameter", f.diameter},
            {"length", f.length},
            {"through", f.through},
            {"before", f.before},
            {"long_side", f.longSide},
            {"short_side", f.shortSide},
            {"corner", f.corner},
            {"draft", f.draft},
            {"head", solid::name(f.head)},
            {"head_diameter", f.headDiameter},
            {"head_depth", f.headDepth},
            {"head_angle", f.headAngle},
            {"outer", f.outer},
            {"round", f.round},
            {"adds", f.adds},
            {"path", f.path},
            {"radius", f.radius},
            {"on_1", f.on1},
            {"on_2", f.on2}};
}

Feature featureFrom(const json& j) {
    static constexpr Feature::Head heads[] = {Feature::Head::none, Feature::Head::counterbore,
                                              Feature::Head::countersink};
    Feature f;
    f.kind = named(j.at("kind").get<std::string>(), kinds, "kind of a feature");
    f.name = j.at("name");
    f.interface = j.value("interface", f.interface);
    f.face = j.value("face", f.face);
    f.on = j.value("on", f.on);
    if (j.contains("origin")) f.origin = vectorOf(j["origin"]);
    if (j.contains("axis")) f.axis = vectorOf(j["axis"]);
    if (j.contains("along")) f.along = vectorOf(j["along"]);
    f.diameter = j.value("diameter", f.diameter);
    f.length = j.value("length", f.length);
    f.through = j.value("through", f.through);
    f.before = j.value("before", f.before);
    f.longSide = j.value("long_side", f.longSide);
    f.shortSide = j.value("short_side", f.shortSide);
    f.corner = j.value("corner", f.corner);
    f.draft = j.value("draft", f.draft);
    if (j.contains("head")) f.head = named(j["head"].get<std::string>(), heads, "head of a feature");
    f.headDiameter = j.value("head_diameter", f.headDiameter);
    f.headDepth = j.value("head_depth", f.headDepth);
    f.headAngle = j.value("head_angle", f.headAngle);
    f.outer = j.value("outer", f.outer);
    f.round = j.value("round", f.round);
    f.adds = j.value("adds", f.adds);
    f.path = j.value("path", f.path);
    f.radius = j.value("radius", f.radius);
    f.on1 = j.value("on_1", f.on1);
    f.on2 = j.value("on_2", f.on2);
    return f;
}

json rebuildJson(const Rebuild& r) {
    json steps = json::array(), features = json::array();
    for (const CageStep& s : r.steps) {
        json j = {{"kind", name(s.kind)}, {"name", s.name}, {"on", s.on}};
        const Member& m = s.member;
        const Thickening& t = s.thickening;
        if (s.kind == CageStep::Kind::member)
            j["member"] = {{"from", vector(m.from)},
                           {"to", vector(m.to)},
                           {"radius_from", m.radiusFrom},
                           {"radius_to", m.radiusTo},
                           {"blend", m.blend}};
        if (s.kind == CageStep::Kind::thickening)
            j["thickening"] = {
                {"box", t.box},       {"low", vector(t.low)}, {"high", vector(t.high)}, {"centre", vector(t.centre)},
                {"radius", t.radius}, {"amount", t.amount},   {"edge", t.edge}};
        if (s.kind == CageStep::Kind::byHand && s.cage) j["cage"] = cageJson(*s.cage);
        steps.push_back(j);
    }
    for (const Feature& f : r.features) features.push_back(featureJson(f));
    return {{"face_size", r.faceSize}, {"face_count", r.faceCount},     {"adapt", r.adapt},
            {"steps", steps},          {"own_features", r.ownFeatures}, {"features", features}};
}

Rebuild rebuildFrom(const json& j) {
    static constexpr CageStep::Kind stepKinds[] = {CageStep::Kind::member, CageStep::Kind::thickening,
                                                   CageStep::Kind::byHand};
    Rebuild r;
    r.faceSize = j.value("face_size", r.faceSize);
    r.faceCount = j.value("face_count", r.faceCount);
    r.adapt = j.value("adapt", r.adapt);
    for (const json& x : j.value("steps", json::array())) {
        const auto kind = named(x.at("kind").get<std::string>(), stepKinds, "kind of a cage step");
        CageStep s;
        if (kind == CageStep::Kind::byHand) s = byHandStep(cageOf(x.at("cage")));
        s.kind = kind;
        s.name = x.value("name", s.name);
        s.on = x.value("on", true);
        if (kind == CageStep::Kind::member) {
            const json& m = x.at("member");
            s.member = {vectorOf(m.at("from")), vectorOf(m.at("to")), m.at("radius_from"), m.at("radius_to"),
                        m.at("blend")};
        }
        if (kind == CageStep::Kind::thickening) {
            const json& t = x.at("thickening");
            s.thickening = {
                t.at("box"),    vectorOf(t.at("low")), vectorOf(t.at("high")), vectorOf(t.at("centre")), t.at("radius"),
                t.at("amount"), t.at("edge")};
        }
        r.steps.push_back(std::move(s));
    }
    r.ownFeatures = j.value("own_features", false);
    for (const json& f : j.value("features", json::array())) r.features.push_back(featureFrom(f));
    return r;
}

}  // namespace escultura::project

#include "duty/rebuild_text.hpp"

#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::duty {
namespace {

using nlohmann::json;
using solid::Feature;

json vector(const Vec3& v) {
    return json::array({v[0], v[1], v[2]});
}
Vec3 vectorOf(const json& j) {
    return Vec3(j.at(0).get<double>(), j.at(1).get<double>(), j.at(2).get<double>());
}

constexpr Feature::Kind kinds[] = {Feature::Kind::bore,   Feature::Kind::boss,    Feature::Kind::pad,
                                   Feature::Kind::flat,   Feature::Kind::slot,    Feature::Kind::pocket,
                                   Feature::Kind::rib,    Feature::Kind::body,    Feature::Kind::keepOut,
                                   Feature::Kind::fillet, Feature::Kind::chamfer, Feature::Kind::layer};

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

namespace {

/// Every member of a feature but its kind and head under its key, once for reading and writing.
template <class F, class Visit>
void eachMember(F& f, const Visit& visit) {
    visit("name", f.name);
    visit("interface", f.interface);
    visit("face", f.face);
    visit("on", f.on);
    visit("origin", f.origin);
    visit("axis", f.axis);
    visit("along", f.along);
    visit("diameter", f.diameter);
    if (!f.outline.empty() || f.kind == Feature::Kind::flat) {
        visit("outline", f.outline);
        if (!f.outline.empty()) visit("margin", f.margin);
    }
    visit("length", f.length);
    visit("through", f.through);
    visit("before", f.before);
    visit("long_side", f.longSide);
    visit("short_side", f.shortSide);
    visit("corner", f.corner);
    visit("draft", f.draft);
    visit("head_diameter", f.headDiameter);
    visit("head_depth", f.headDepth);
    visit("head_angle", f.headAngle);
    visit("outer", f.outer);
    visit("round", f.round);
    visit("adds", f.adds);
    visit("path", f.path);
    visit("unit", f.unit);
    visit("offset", f.offset);
    visit("radius", f.radius);
    visit("blend_in_cage", f.blendInCage);
    visit("on_1", f.on1);
    visit("on_2", f.on2);
}
template <class M, class Visit>
void eachOfMember(M& m, const Visit& visit) {
    visit("from", m.from);
    visit("to", m.to);
    visit("radius_from", m.radiusFrom);
    visit("radius_to", m.radiusTo);
    visit("blend", m.blend);
}
template <class T, class Visit>
void eachOfThickening(T& t, const Visit& visit) {
    visit("box", t.box);
    visit("low", t.low);
    visit("high", t.high);
    visit("centre", t.centre);
    visit("painted", t.painted);
    visit("radius", t.radius);
    visit("amount", t.amount);
    visit("edge", t.edge);
}

/// Visitors: into an object, and out of it where it has the key.
struct Write {
    json& j;
    void operator()(const char* key, const Vec3& v) const { j[key] = vector(v); }
    void operator()(const char* key, const std::vector<Vec3>& list) const {
        if (list.empty()) return;  // files from before places could be painted stay the same
        for (const Vec3& v : list) j[key].push_back(vector(v));
    }
    void operator()(const char* key, const std::vector<std::vector<Vec3>>& loops) const {
        for (const auto& loop : loops) {
            json corners = json::array();
            for (const Vec3& v : loop) corners.push_back(vector(v));
            j[key].push_back(std::move(corners));
        }
    }
    template <class V>
    void operator()(const char* key, const V& v) const {
        j[key] = v;
    }
};
struct Read {
    const json& j;
    void operator()(const char* key, Vec3& v) const {
        if (j.contains(key)) v = vectorOf(j.at(key));
    }
    void operator()(const char* key, std::vector<Vec3>& list) const {
        list.clear();
        if (j.contains(key))
            for (const json& v : j.at(key)) list.push_back(vectorOf(v));
    }
    void operator()(const char* key, std::vector<std::vector<Vec3>>& loops) const {
        loops.clear();
        if (!j.contains(key)) return;
        for (const json& loop : j.at(key)) {
            loops.emplace_back();
            for (const json& v : loop) loops.back().push_back(vectorOf(v));
        }
    }
    template <class V>
    void operator()(const char* key, V& v) const {
        v = j.value(key, v);
    }
};

}  // namespace

std::string describe(const Thickening& t) {
    auto mm = [](double v) { return formatNumber(v, 4) + " mm"; };
    auto place = [&](const Vec3& p) {
        return formatNumber(p[0]) + ", " + formatNumber(p[1]) + ", " + formatNumber(p[2]);
    };
    const std::string where =
        t.box               ? "in the box " + place(t.low) + " to " + place(t.high) + " mm"
        : t.painted.empty() ? "in a ball of radius " + mm(t.radius) + " around " + place(t.centre) + " mm"
                            : "within " + mm(t.radius) + " of " + std::to_string(t.painted.size()) + " painted places";
    return mm(t.amount) + " " + where + ", edge " + mm(t.edge);
}

json thickeningJson(const Thickening& t) {
    json j = json::object();
    eachOfThickening(t, Write{j});
    return j;
}

Thickening thickeningFrom(const json& j) {
    Thickening t;
    eachOfThickening(t, Read{j});
    return t;
}

json featureJson(const Feature& f) {
    json j = {{"kind", solid::name(f.kind)}, {"head", solid::name(f.head)}};
    eachMember(f, Write{j});
    return j;
}

Feature featureFrom(const json& j) {
    static constexpr Feature::Head heads[] = {Feature::Head::none, Feature::Head::counterbore,
                                              Feature::Head::countersink};
    Feature f;
    f.kind = named(j.at("kind").get<std::string>(), kinds, "kind of a feature");
    if (j.contains("head")) f.head = named(j["head"].get<std::string>(), heads, "head of a feature");
    eachMember(f, Read{j});
    return f;
}

json stepJson(const CageStep& s, bool whole) {
    json j = {{"kind", name(s.kind)}, {"name", s.name}, {"on", s.on}};
    if (s.kind == CageStep::Kind::member) eachOfMember(s.member, Write{j["member"]});
    if (s.kind == CageStep::Kind::thickening) eachOfThickening(s.thickening, Write{j["thickening"]});
    if (s.kind == CageStep::Kind::byHand && s.cage) j["cage"] = whole ? cageJson(*s.cage) : json(s.digest);
    if (s.faceSize > 0) j["face_size"] = s.faceSize;
    return j;
}

json rebuildJson(const Rebuild& r) {
    json steps = json::array(), features = json::array();
    for (const CageStep& s : r.steps) steps.push_back(stepJson(s, true));
    for (const Feature& f : r.features) features.push_back(featureJson(f));
    json j = {{"face_size", r.faceSize}, {"face_count", r.faceCount},     {"adapt", r.adapt},
              {"steps", steps},          {"own_features", r.ownFeatures}, {"features", features}};
    if (r.tolerance > 0) j["tolerance"] = r.tolerance;
    return j;
}

Rebuild rebuildFrom(const json& j) {
    static constexpr CageStep::Kind stepKinds[] = {CageStep::Kind::member, CageStep::Kind::thickening,
                                                   CageStep::Kind::byHand};
    Rebuild r;
    r.tolerance = j.value("tolerance", r.tolerance);
    r.faceSize = j.value("face_size", r.faceSize);
    r.faceCount = j.value("face_count", r.faceCount);
    r.adapt = j.value("adapt", r.adapt);
    for (const json& x : j.value("steps", json::array())) {
        const auto kind = named(x.at("kind").get<std::string>(), stepKinds, "kind of a cage step");
        CageStep s;
        if (kind == CageStep::Kind::byHand) s = byHandStep(cageOf(x.at("cage")), x.value("face_size", 0.0));
        s.kind = kind;
        s.name = x.value("name", s.name);
        s.on = x.value("on", true);
        if (kind == CageStep::Kind::member) eachOfMember(s.member, Read{x.at("member")});
        if (kind == CageStep::Kind::thickening) eachOfThickening(s.thickening, Read{x.at("thickening")});
        r.steps.push_back(std::move(s));
    }
    r.ownFeatures = j.value("own_features", false);
    for (const json& f : j.value("features", json::array())) r.features.push_back(featureFrom(f));
    return r;
}

}  // namespace escultura::duty

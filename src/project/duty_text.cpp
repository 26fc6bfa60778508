// Reading of a part file's duty: material, frames, supports, loads.

#include <algorithm>
#include <cmath>

#include "project/part_node.hpp"

namespace escultura::project {
namespace {

const std::string stiffnessUnit = "N/mm^3";
constexpr Dimension bedStiffness{-2, 1, -2}, speed{0, 0, -1};

double angle(const Node& n) {
    return n.quantity(dimension::none, "");
}

Frame readFrame(const Node& n, const Units& u) {
    n.onlyKeys({"name", "origin", "angles", "points"});
    Frame f;
    f.name = n.at("name").text();
    if (n.has("points")) {
        const auto points = n.at("points").list();
        if (points.size() != 3) n.at("points").refuse("three points", std::to_string(points.size()));
        Vec3 p[3];
        for (int k = 0; k < 3; ++k) p[k] = points[k].vector(dimension::length, u.length);
        f.origin = p[0];
        try {
            f.axes = axesFromPoints(p[0], p[1], p[2]);
        } catch (const InputError& e) {
            n.at("points").refuse(e.detail().expected, e.detail().found);
        }
        return f;
    }
    if (n.has("origin")) f.origin = n.at("origin").vector(dimension::length, u.length);
    if (n.has("angles")) {
        const auto parts = n.at("angles").list();
        if (parts.size() != 3) n.at("angles").refuse("three angles in degrees", std::to_string(parts.size()));
        f.axes = axesFromAngles(Vec3(angle(parts[0]), angle(parts[1]), angle(parts[2])));
    }
    return f;
}

std::string readFrameName(const Node& n, const Part& part) {
    if (!n.has("frame")) return {};
    const std::string name = n.at("frame").text();
    if (name.empty() || name == "global") return {};
    if (!part.findFrame(name)) {
        std::string all = "global";
        for (const Frame& f : part.frames) all += ", " + f.name;
        n.at("frame").refuse("one of the frames: " + all, "'" + name + "'");
    }
    return name;
}

template <std::size_t N>
std::array<bool, N> readChoice(const Node& n, const std::vector<std::string>& names) {
    std::array<bool, N> chosen{};
    for (const Node& item : n.list()) {
        const std::string found = item.oneOf(names);
        chosen[std::find(names.begin(), names.end(), found) - names.begin()] = true;
    }
    return chosen;
}

Support readSupport(const Node& n, const Part& part, const Units& u) {
    n.onlyKeys({"kind", "interfaces", "face", "frame", "directions", "held", "motions", "point", "normal_stiffness",
                "tangential_stiffness"});
    Support s;
    const std::string kind = n.at("kind").oneOf({"fixed", "sliding", "cylindrical", "elastic_bed", "remote", "rigid"});
    for (int k = 0; k <= static_cast<int>(Support::Kind::rigid); ++k)
        if (kind == name(static_cast<Support::Kind>(k))) s.kind = static_cast<Support::Kind>(k);
    s.on = readFaces(n, part);
    s.frame = readFrameName(n, part);
    auto only = [&](const char* key, std::initializer_list<Support::Kind> kinds) {
        if (!n.has(key)) return false;
        if (std::find(kinds.begin(), kinds.end(), s.kind) == kinds.end())
            n.at(key).refuse(std::string("no '") + key + "' on a support of kind " + kind, "one");
        return true;
    };
    if (only("directions", {Support::Kind::fixed})) {
        s.held = readChoice<3>(n.at("directions"), {"x", "y", "z"});
        if (s.held == std::array<bool, 3>{}) n.at("directions").refuse("at least one of x, y and z", "none");
    }
    if (only("held", {Support::Kind::cylindrical})) {
        s.held = readChoice<3>(n.at("held"), {"radial", "axial", "tangential"});
        if (s.held == std::array<bool, 3>{})
            n.at("held").refuse("at least one of radial, axial and tangential", "none");
    }
    if (only("motions", {Support::Kind::remote, Support::Kind::rigid})) {
        s.motions = readChoice<6>(n.at("motions"), {"x", "y", "z", "turn x", "turn y", "turn z"});
        if (s.motions == std::array<bool, 6>{}) n.at("motions").refuse("at least one motion", "none");
    }
    if (only("point", {Support::Kind::remote})) s.point = n.at("point").vector(dimension::length, u.length);
    if (s.kind == Support::Kind::bed) {
        s.normalStiffness = n.at("normal_stiffness").quantity(bedStiffness, stiffnessUnit);
        if (n.has("tangential_stiffness"))
            s.tangentialStiffness = n.at("tangential_stiffness").quantity(bedStiffness, stiffnessUnit);
        if (!(s.normalStiffness >= 0 && s.tangentialStiffness >= 0 && s.normalStiffness + s.tangentialStiffness > 0))
            n.at("normal_stiffness")
                .refuse("stiffnesses of zero or more, one above zero", formatNumber(s.normalStiffness));
    }
    if (s.kind == Support::Kind::cylindrical && s.on.face != "bore" && s.on.face != "side")
        n.at("face").refuse("a bore or the side of a pin", "'" + s.on.face + "'");
    return s;
}

Load readLoad(const Node& n, const Part& part, const Units& u, bool shared) {
    Load l;
    std::set<std::string> keys{"kind"};
    if (shared) keys.insert("cases");
    const std::string kind = n.at("kind").oneOf(
        {"force", "bearing", "pressure", "torque", "remote_force", "gravity", "acceleration", "spin", "displacement"});
    for (int k = 0; k <= static_cast<int>(Load::Kind::displacement); ++k)
        if (kind == name(static_cast<Load::Kind>(k))) l.kind = static_cast<Load::Kind>(k);
    using Kind = Load::Kind;
    if (l.onFaces()) keys.insert({"interfaces", "face"});
    const bool hasForce = l.kind == Kind::force || l.kind == Kind::bearing || l.kind == Kind::remoteForce;
    if (hasForce) keys.insert({"force", "magnitude", "direction", "share", "frame"});
    if (l.kind == Kind::force || l.kind == Kind::remoteForce) keys.insert("moment");
    if (l.kind == Kind::remoteForce) keys.insert({"point", "rigid"});
    if (l.kind == Kind::pressure) keys.insert("pressure");
    if (l.kind == Kind::torque) keys.insert({"torque", "share"});
    if (l.kind == Kind::gravity || l.kind == Kind::acceleration) keys.insert({"acceleration", "frame"});
    if (l.kind == Kind::spin) keys.insert({"point", "axis", "speed"});
    if (l.kind == Kind::displacement) keys.insert({"displacement", "frame"});
    n.onlyKeys(keys);
    if (l.onFaces()) l.on = readFaces(n, part);
    l.frame = readFrameName(n, part);
    auto finite = [&](const Node& at, const Vec3& v) {
        if (!v.allFinite()) at.refuse("finite numbers", "infinity or not a number");
    };
    if (l.kind == Kind::bearing && l.on.face != "bore")
        n.at("face").refuse("bore: a bearing load acts on a bore", "'" + l.on.face + "'");
    if (hasForce) {
        if (n.has("force"))
            l.force = n.at("force").vector(dimension::force, u.force);
        else if (n.has("magnitude"))
            l.force = n.at("magnitude").quantity(dimension::force, u.force) * n.at("direction").direction();
        if (n.has("moment")) l.moment = n.at("moment").vector(dimension::moment, u.force + "*" + u.length);
        finite(n, l.force);
        finite(n, l.moment);
        if (!(l.force.norm() + l.moment.norm() > 0))
            n.refuse("a force (or magnitude and direction) or a moment that is not zero", "zero or nothing");
    }
    if (l.kind == Kind::remoteForce) {
        l.point = n.at("point").vector(dimension::length, u.length);
        if (n.has("rigid")) l.rigid = n.at("rigid").yes();
    }
    auto notZero = [&](const char* key, Dimension wanted, const std::string& unit) {
        const double v = n.at(key).quantity(wanted, unit);
        if (!std::isfinite(v) || v == 0) n.at(key).refuse("a value that is not zero", formatNumber(v));
        return v;
    };
    if (l.kind == Kind::pressure) l.pressure = notZero("pressure", dimension::stress, u.stress);
    if (l.kind == Kind::torque) l.torque = notZero("torque", dimension::moment, u.force + "*" + u.length);
    if (l.kind == Kind::gravity || l.kind == Kind::acceleration) {
        l.acceleration = n.at("acceleration").vector(dimension::acceleration, "m/s^2");
        finite(n.at("acceleration"), l.acceleration);
        if (!(l.acceleration.norm() > 0)) n.at("acceleration").refuse("a vector that is not zero", "(0, 0, 0)");
    }
    if (l.kind == Kind::spin) {
        l.point = n.at("point").vector(dimension::length, u.length);
        l.axis = n.at("axis").direction();
        l.speed = notZero("speed", speed, "1/s");
    }
    if (l.kind == Kind::displacement) {
        l.displacement = n.at("displacement").vector(dimension::length, u.length);
        finite(n.at("displacement"), l.displacement);
        for (const std::string& i : l.on.interfaces) {
            bool held = false;
            for (const Support& s : part.supports)
                held =
                    held || (s.on.face == l.on.face && std::count(s.on.interfaces.begin(), s.on.interfaces.end(), i) &&
                             (s.kind == Support::Kind::fixed || s.kind == Support::Kind::sliding ||
                              s.kind == Support::Kind::cylindrical));
            if (!held)
                n.refuse("a face that a fixed, sliding or cylindrical support holds: a displacement moves a support",
                         "no such support on the " + l.on.face + " of '" + i + "'");
        }
    }
    if (n.has("share")) l.sharedTotal = n.at("share").oneOf({"total", "each"}) == "total";
    return l;
}

}  // namespace

FaceReference readFaces(const Node& n, const Part& part) {
    FaceReference r;
    for (const Node& i : n.at("interfaces").list()) {
        r.interfaces.push_back(i.text());
        if (!part.findInterface(r.interfaces.back())) {
            std::string all;
            for (const auto& known : part.interfaces) all += (all.empty() ? "" : ", ") + known.name;
            i.refuse("one of the interfaces: " + all, "'" + r.interfaces.back() + "'",
                     "An interface is named that the part does not have.");
        }
    }
    if (r.interfaces.empty()) n.at("interfaces").refuse("at least one interface", "an empty list");
    r.face = n.at("face").text();
    for (const std::string& name : r.interfaces) {
        const Interface& i = *part.findInterface(name);
        const bool known =
            (r.face == "bore" && i.boreDiameter > 0) || (r.face == "side" && i.kind == Interface::Kind::pin) ||
            (r.face == "start" && i.start.kind == EndKind::flat) || (r.face == "end" && i.end.kind == EndKind::flat);
        if (!known)
            n.at("face").refuse("bore, the side of a pin, or a flat start or end of '" + name + "'",
                                "'" + r.face + "'");
    }
    return r;
}

elastic::Material readMaterial(const Node& m, const Units& u) {
    m.onlyKeys({"name", "youngs_modulus", "poissons_ratio", "density", "yield_strength", "yield_source",
                "optimised_with", "ultimate_strength", "rule", "orthotropic"});
    elastic::Material r;
    r.name = m.at("name").text();
    if (m.has("rule"))
        r.rule = m.at("rule").oneOf({"ductile", "brittle"}) == "brittle" ? elastic::FailureRule::brittle
                                                                         : elastic::FailureRule::ductile;
    if (m.has("orthotropic")) {
        const Node o = m.at("orthotropic");
        o.onlyKeys({"youngs_moduli", "poissons_ratios", "shear_moduli", "angles"});
        elastic::Orthotropic c;
        c.youngs = o.at("youngs_moduli").vector(dimension::stress, u.stress);
        c.poissons = o.at("poissons_ratios").vector(dimension::none, "");
        c.shear = o.at("shear_moduli").vector(dimension::stress, u.stress);
        if (o.has("angles")) c.frame = axesFromAngles(o.at("angles").vector(dimension::none, ""));
        r.orthotropic = c;
        r.youngsModulus = c.youngs.maxCoeff();
        r.poissonsRatio = 0.3;
    } else {
        r.youngsModulus = m.at("youngs_modulus").quantity(dimension::stress, u.stress);
        r.poissonsRatio = m.at("poissons_ratio").quantity(dimension::none, "");
    }
    r.density = m.at("density").quantity(dimension::density, u.density);
    if (r.rule == elastic::FailureRule::ductile || m.has("yield_strength"))
        r.yieldStrength = m.at("yield_strength").quantity(dimension::stress, u.stress);
    if (r.rule == elastic::FailureRule::brittle || m.has("ultimate_strength"))
        r.ultimateStrength = m.at("ultimate_strength").quantity(dimension::stress, u.stress);
    r.yieldSource = m.at("yield_source").text();
    return r;
}

void readDuty(const Node& root, const Units& u, Part& p) {
    auto nameOnce = [](const Node& n, const std::string& name, const auto& others) {
        for (const auto& o : others)
            if (o.name == name) n.at("name").refuse("a name used once", "'" + name + "' again");
    };
    if (root.has("frames"))
        for (const Node& n : root.at("frames").list()) {
            const Frame f = readFrame(n, u);
            nameOnce(n, f.name, p.frames);
            p.frames.push_back(f);
        }
    for (const Node& n : root.at("supports").list()) p.supports.push_back(readSupport(n, p, u));
    for (const Node& n : root.at("load_cases").list()) {
        n.onlyKeys({"name", "loads", "use", "factor", "on_supports"});
        LoadCase c;
        c.name = n.at("name").text();
        nameOnce(n, c.name, p.loadCases);
        for (const Node& l : n.at("loads").list()) c.loads.push_back(readLoad(l, p, u, false));
        if (n.has("use")) {
            const std::string use = n.at("use").oneOf({"check", "combinations_only", "off"});
            c.use = use == "off"     ? LoadCase::Use::off
                    : use == "check" ? LoadCase::Use::check
                                     : LoadCase::Use::combinationsOnly;
        }
        if (n.has("factor")) c.factor = n.at("factor").quantity(dimension::none, "");
        if (!std::isfinite(c.factor)) n.at("factor").refuse("a finite factor", formatNumber(c.factor));
        if (n.has("on_supports")) c.onSupports = n.at("on_supports").yes();
        p.loadCases.push_back(std::move(c));
    }
    std::vector<std::string> cases;
    for (const LoadCase& c : p.loadCases) cases.push_back(c.name);
    if (root.has("shared_loads"))
        for (const Node& n : root.at("shared_loads").list()) {
            SharedLoad s{readLoad(n, p, u, true), {}};
            if (n.has("cases"))
                for (const Node& c : n.at("cases").list()) s.cases.push_back(c.oneOf(cases));
            p.sharedLoads.push_back(std::move(s));
        }
    for (std::size_t c = 0; c < p.loadCases.size(); ++c)
        if (p.loadsOf(p.loadCases[c]).empty())
            root.at("load_cases")
                .list()[c]
                .at("loads")
                .refuse("at least one load, its own or a shared one", "an empty list");
    if (root.has("combinations"))
        for (const Node& n : root.at("combinations").list()) {
            n.onlyKeys({"name", "sum", "on"});
            Combination c;
            c.name = n.at("name").text();
            nameOnce(n, c.name, p.combinations);
            nameOnce(n, c.name, p.loadCases);
            try {
                c.terms = parseCombination(n.at("sum").text(), cases);
            } catch (const InputError& e) {
                n.at("sum").refuse(e.detail().expected, e.detail().found + " at " + e.detail().place);
            }
            if (n.has("on")) c.on = n.at("on").yes();
            p.combinations.push_back(std::move(c));
        }
}

}  // namespace escultura::project

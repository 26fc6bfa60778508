// Reading of a part file's duty: material, frames, supports, loads.

#include <algorithm>
#include <cmath>

#include "duty/load_kind.hpp"
#include "duty/part_node.hpp"
#include "duty/support_kind.hpp"

namespace escultura::duty {
namespace {

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

template <class Owner>
void addKeys(const std::vector<Figure<Owner>>& figures, std::set<std::string>& keys) {
    for (const Figure<Owner>& f : figures) {
        keys.insert(f.key);
        if (f.orMagnitude) keys.insert({"magnitude", "direction"});
    }
}

template <class Owner>
void readFigure(const Node& n, const Figure<Owner>& f, const Units& u, Owner& o) {
    using Rule = typename Figure<Owner>::Rule;
    if (f.orMagnitude && !n.has(f.key) && n.has("magnitude")) {
        const double size = n.at("magnitude").quantity(f.dimension, f.fileUnit(u));
        return setValue(f, o, Vec3(size * n.at("direction").direction()));
    }
    if (!f.required && !n.has(f.key)) return;
    const Node value = n.at(f.key);
    if (const auto* yes = std::get_if<bool Owner::*>(&f.at)) {
        o.*(*yes) = value.yes();
        return;
    }
    Vec3 v = Vec3::Zero();
    if (f.rule == Rule::direction)
        v = value.direction();
    else if (f.isVector())
        v = value.vector(f.dimension, f.fileUnit(u));
    else
        v[0] = value.quantity(f.dimension, f.fileUnit(u));
    if (f.rule == Rule::notZero && !(v.norm() > 0))
        value.refuse(f.isVector() ? "a vector that is not zero" : "a value that is not zero",
                     f.isVector() ? "(0, 0, 0)" : "0");
    if (f.rule == Rule::notNegative && !(v.minCoeff() >= 0)) value.refuse("zero or more", formatNumber(v.minCoeff()));
    setValue(f, o, v);
}

/// The kind that a load or support names. @param kinds  with key and kind
template <class Kinds>
const typename Kinds::value_type& readKind(const Node& n, const Kinds& kinds) {
    std::vector<std::string> keys;
    for (const auto& k : kinds) keys.push_back(k.key);
    const std::string found = n.at("kind").oneOf(keys);
    return kinds[std::find(keys.begin(), keys.end(), found) - keys.begin()];
}

void readMotions(const Node& n, const SupportKind& kind, Support& s) {
    const Node chosen = n.at(kind.motionsKey);
    const std::vector<std::string> names(kind.motions.begin(), kind.motions.end());
    for (std::size_t m = 0; m < names.size(); ++m) setHeld(s, m, false);
    const auto list = chosen.list();
    for (const Node& item : list) {
        const std::string found = item.oneOf(names);
        setHeld(s, static_cast<std::size_t>(std::find(names.begin(), names.end(), found) - names.begin()), true);
    }
    if (!list.empty()) return;
    std::string all;
    for (std::size_t m = 0; m < names.size(); ++m)
        all += (m == 0 ? "" : m + 1 < names.size() ? ", " : " and ") + names[m];
    chosen.refuse("at least one of " + all, "none");
}

/// Edges and points have no area of their own, and no normal.
void requireNoLines(const Node& n, const Part& part, const FaceReference& on, const std::string& kind) {
    for (const std::string& name : on.interfaces)
        if (const Interface* i = part.findInterface(name); i && i->isOfLines())
            n.at("interfaces").refuse("faces for a " + kind, "'" + name + "', which is of " + duty::name(i->kind));
}

Support readSupport(const Node& n, const Part& part, const Units& u) {
    std::set<std::string> keys{"kind", "interfaces", "face", "frame", "set"}, own;
    for (const SupportKind& k : supportKinds()) {
        addKeys(k.figures, keys);
        if (!k.motions.empty()) keys.insert(k.motionsKey);
    }
    n.onlyKeys(keys);
    const SupportKind& kind = readKind(n, supportKinds());
    Support s;
    s.kind = kind.kind;
    s.on = readFaces(n, part);
    if (!kind.onLines) requireNoLines(n, part, s.on, kind.words);
    s.frame = readFrameName(n, part);
    if (n.has("set")) {
        s.set = n.at("set").text();
        if (s.set.empty()) n.at("set").refuse("the name of a set", "an empty one");
    }
    own = {"kind", "interfaces", "face", "frame", "set"};
    addKeys(kind.figures, own);
    if (!kind.motions.empty()) own.insert(kind.motionsKey);
    for (const std::string& key : keys)
        if (n.has(key.c_str()) && !own.count(key))
            n.at(key.c_str()).refuse("no '" + key + "' on a support of kind " + kind.key, "one");
    if (!kind.motions.empty() && n.has(kind.motionsKey)) readMotions(n, kind, s);
    for (const auto& f : kind.figures) readFigure(n, f, u, s);
    if (kind.require) kind.require(s, n);
    return s;
}

std::string setWords(const std::string& set) {
    return set.empty() ? "no set of supports" : "set of supports '" + set + "'";
}

/// What is held otherwise is another structure: its displacements cannot be added.
void requireOneSet(const Node& sum, const Combination& c, const Part& p) {
    const std::string first = p.supportSetOf(c.terms.front().first);
    for (const auto& [name, factor] : c.terms)
        if (const std::string set = p.supportSetOf(name); set != first)
            sum.refuse(
                "load cases with the same supports",
                "'" + c.terms.front().first + "' with " + setWords(first) + ", '" + name + "' with " + setWords(set),
                "A combination adds load cases that are held differently.");
}

Load readLoad(const Node& n, const Part& part, const Units& u, bool shared) {
    const LoadKind& kind = readKind(n, loadKinds());
    Load l;
    l.kind = kind.kind;
    std::set<std::string> keys{"kind"};
    if (shared) keys.insert("cases");
    if (kind.onFaces) keys.insert({"interfaces", "face"});
    if (kind.hasFrame) keys.insert("frame");
    if (kind.canShare) keys.insert("share");
    addKeys(kind.figures, keys);
    n.onlyKeys(keys);
    if (kind.onFaces) l.on = readFaces(n, part);
    if (!kind.onLines) requireNoLines(n, part, l.on, kind.words);
    l.frame = readFrameName(n, part);
    for (const auto& f : kind.figures) readFigure(n, f, u, l);
    if (kind.require) kind.require(l, part, n);
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
            (r.face == "start" && i.start.kind == EndKind::flat) || (r.face == "end" && i.end.kind == EndKind::flat) ||
            (r.face == keptFaceName && i.kind == Interface::Kind::faces) ||
            (r.face == edgeName && i.kind == Interface::Kind::edges) ||
            (r.face == pointName && i.kind == Interface::Kind::points);
        if (!known)
            n.at("face").refuse(
                std::string(i.kind == Interface::Kind::faces    ? keptFaceName
                            : i.kind == Interface::Kind::edges  ? edgeName
                            : i.kind == Interface::Kind::points ? pointName
                                                                : "bore, the side of a pin, or a flat start or end") +
                    " of '" + name + "'",
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
        n.onlyKeys({"name", "loads", "use", "factor", "on_supports", "support_set"});
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
        if (n.has("support_set")) {
            c.supportSet = n.at("support_set").text();
            std::string known;
            bool found = false;
            for (const Support& s : p.supports) {
                found = found || s.set == c.supportSet;
                if (!s.set.empty()) known += (known.empty() ? "" : ", ") + s.set;
            }
            if (!found || c.supportSet.empty())
                n.at("support_set")
                    .refuse(known.empty() ? "a set that a support belongs to (its key 'set'); none does"
                                          : "a set that a support belongs to: " + known,
                            "'" + c.supportSet + "'");
        }
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
            requireOneSet(n.at("sum"), c, p);
            p.combinations.push_back(std::move(c));
        }
}

}  // namespace escultura::duty

#include "duty/optimisation.hpp"

#include <cmath>

#include "duty/optimisation_text.hpp"

namespace escultura::duty {

const char* name(MakingRule::Kind kind) {
    return kind == MakingRule::Kind::overhang ? "overhang" : "draw";
}

const char* name(Optimisation::Aim aim) {
    return aim == Optimisation::Aim::stiffest ? "stiffest" : "lightest";
}

namespace {

std::string axisText(const Vec3& d) {
    for (int a = 0; a < 3; ++a)
        if (std::abs(d[a]) > 0.5) return std::string(d[a] > 0 ? "+" : "-") + "xyz"[a];
    return "no axis";
}

}  // namespace

std::string describe(const Optimisation& o) {
    std::string text = name(o.aim);
    if (o.aim == Optimisation::Aim::stiffest) {
        text += o.mass > 0 ? " with " + formatNumber(o.mass, 4) + " kg"
                           : " with " + formatNumber(100 * o.share, 3) + " % of the design space";
        if (o.worstCase) text += ", the worst case counts";
    } else {
        if (o.safetyFactor > 0) text += " with a safety factor of " + formatNumber(o.safetyFactor, 3);
        if (o.compliance > 0)
            text += std::string(o.safetyFactor > 0 ? " and" : "") + " at most " + formatNumber(o.compliance, 3) +
                    " times the compliance of the full design space";
    }
    for (const MakingRule& r : o.rules)
        text += r.kind == MakingRule::Kind::overhang ? ", printed up " + axisText(r.direction)
                                                     : ", drawn along " + axisText(r.direction);
    return text;
}

Optimisation readOptimisation(const Node& n, const Units& u, const Part& part) {
    Optimisation o;
    n.onlyKeys({"aim", "cell_size", "share", "mass", "cases", "weights", "safety_factor", "compliance", "filter_radius",
                "symmetric", "rules", "steps"});
    if (n.has("aim"))
        o.aim = n.at("aim").oneOf({"stiffest", "lightest"}) == "stiffest" ? Optimisation::Aim::stiffest
                                                                          : Optimisation::Aim::lightest;
    const bool stiff = o.aim == Optimisation::Aim::stiffest;
    auto onlyFor = [&](const char* key, bool fits, const char* aim) {
        if (n.has(key) && !fits)
            n.at(key).refuse(std::string("this with the aim ") + aim, std::string("aim ") + name(o.aim));
        return n.has(key);
    };
    if (n.has("cell_size")) o.cellSize = n.at("cell_size").positive(dimension::length, u.length);
    if (onlyFor("share", stiff, "stiffest")) {
        o.share = n.at("share").quantity(dimension::none, "");
        if (!(o.share > 0 && o.share < 1)) n.at("share").refuse("a value above 0 and below 1", formatNumber(o.share));
    }
    if (onlyFor("mass", stiff, "stiffest")) o.mass = n.at("mass").positive(dimension::mass, u.mass);
    if (n.has("share") && n.has("mass")) n.at("mass").refuse("a share or a mass", "both");
    if (onlyFor("cases", stiff, "stiffest")) o.worstCase = n.at("cases").oneOf({"sum", "worst"}) == "worst";
    if (onlyFor("weights", stiff, "stiffest"))
        for (const Node& w : n.at("weights").list()) {
            w.onlyKeys({"case", "weight"});
            const std::string of = w.at("case").text();
            bool known = false;
            for (const LoadCase& c : part.loadCases) known = known || c.name == of;
            for (const Combination& c : part.combinations) known = known || c.name == of;
            if (!known) w.at("case").refuse("a load case or a combination", "'" + of + "'");
            o.weights.emplace_back(of, w.at("weight").quantity(dimension::none, ""));
            if (!(o.weights.back().second >= 0))
                w.at("weight").refuse("zero or more", formatNumber(o.weights.back().second));
        }
    if (onlyFor("safety_factor", !stiff, "lightest"))
        o.safetyFactor = n.at("safety_factor").positive(dimension::none, "");
    if (onlyFor("compliance", !stiff, "lightest")) {
        o.compliance = n.at("compliance").quantity(dimension::none, "");
        if (!(o.compliance > 1)) n.at("compliance").refuse("a value above 1", formatNumber(o.compliance));
    }
    if (!stiff && !(o.safetyFactor > 0) && !(o.compliance > 0))
        n.refuse("a limit for the lightest design: safety_factor or compliance", "none");
    if (n.has("filter_radius")) o.filterRadius = n.at("filter_radius").positive(dimension::length, u.length);
    if (n.has("symmetric")) o.symmetric = n.at("symmetric").yes();
    if (n.has("rules"))
        for (const Node& r : n.at("rules").list()) {
            r.onlyKeys({"kind", "direction"});
            MakingRule rule;
            rule.kind = r.at("kind").oneOf({"overhang", "draw"}) == "overhang" ? MakingRule::Kind::overhang
                                                                               : MakingRule::Kind::draw;
            rule.direction = r.at("direction").direction();
            if (rule.direction.cwiseAbs().maxCoeff() < 1 - 1e-9)
                r.at("direction").refuse("a direction along x, y or z", "one between them");
            o.rules.push_back(rule);
        }
    if (n.has("steps")) {
        const double steps = n.at("steps").quantity(dimension::none, "");
        if (!(steps >= 5 && steps <= 1000 && steps == std::floor(steps)))
            n.at("steps").refuse("a whole number from 5 to 1000", formatNumber(steps));
        o.steps = static_cast<int>(steps);
    }
    return o;
}

std::string optimisationText(const Optimisation& o, const Units& u) {
    auto length = [&](double mm) { return std::round(mm / unitScale(u.length) * 1e9) / 1e9; };
    json j{{"aim", name(o.aim)}};
    if (o.cellSize > 0) j["cell_size"] = length(o.cellSize);
    if (o.aim == Optimisation::Aim::stiffest) {
        if (o.mass > 0)
            j["mass"] = o.mass / unitScale(u.mass);
        else
            j["share"] = o.share;
        if (o.worstCase) j["cases"] = "worst";
        for (const auto& [of, weight] : o.weights) j["weights"].push_back({{"case", of}, {"weight", weight}});
    } else {
        if (o.safetyFactor > 0) j["safety_factor"] = o.safetyFactor;
        if (o.compliance > 0) j["compliance"] = o.compliance;
    }
    if (o.filterRadius > 0) j["filter_radius"] = length(o.filterRadius);
    if (!o.symmetric) j["symmetric"] = false;
    for (const MakingRule& r : o.rules)
        j["rules"].push_back({{"kind", name(r.kind)}, {"direction", {r.direction[0], r.direction[1], r.direction[2]}}});
    if (o.steps != Optimisation().steps) j["steps"] = o.steps;
    return j.dump();
}

}  // namespace escultura::duty

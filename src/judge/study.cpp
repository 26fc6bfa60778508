#include "judge/study.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <nlopt.hpp>
#include <set>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "duty/part_numbers.hpp"
#include "judge/factor.hpp"
#include "judge/requirements.hpp"
#include "project/run.hpp"

namespace escultura::judge {
namespace {

[[noreturn]] void refuse(const std::string& place, const std::string& expected, const std::string& found) {
    throw InputError(ErrorDetail{"The study cannot be run.", {}, place, expected, found});
}

/// Numbers of a recipe by place, each once for reading and writing.
template <class R, class Visit>
void eachNumber(R& r, const Visit& visit) {
    visit("threshold", "threshold", "", r.threshold);
    visit("smoothing", "smoothing", "mm", r.smoothing);
    if (r.thin.smallest > 0) visit("smallest_member", "smallest member", "mm", r.thin.smallest);
    visit("element_size", "element size", "mm", r.elementSize);
    for (std::size_t t = 0; t < r.thickenings.size(); ++t) {
        const std::string place = "thickenings/" + std::to_string(t) + "/",
                          label = "thickening " + std::to_string(t + 1) + ": ";
        visit(place + "amount", label + "amount", "mm", r.thickenings[t].amount);
        if (!r.thickenings[t].box) visit(place + "radius", label + "radius", "mm", r.thickenings[t].radius);
    }
    for (std::size_t s = 0; s < r.rebuild.steps.size(); ++s) {
        auto& step = r.rebuild.steps[s];
        const std::string place = "steps/" + std::to_string(s) + "/", label = step.name + ": ";
        if (step.kind == CageStep::Kind::member) {
            visit(place + "radius_from", label + "radius at its start", "mm", step.member.radiusFrom);
            visit(place + "radius_to", label + "radius at its end", "mm", step.member.radiusTo);
        }
        if (step.kind == CageStep::Kind::thickening)
            visit(place + "amount", label + "amount", "mm", step.thickening.amount);
    }
}

std::string digestOf(const Project& project, const Recipe& recipe, bool standard) {
    return Digest()
        .add("study")
        .add(project.keys(recipe).check)
        .add(project.part.text)
        .add(static_cast<std::int64_t>(standard))
        .hex();
}

Recipe startRecipe(const Project& project, const Study& study) {
    const Variant* v = project.findVariant(study.variant);
    if (!v) refuse("variant", "the variant that the study starts from", "it is gone");
    Recipe r = v->recipe;
    r.check.level = study.standard ? Level::standard : Level::look;
    return r;
}

/// An evaluation that was done at these values; null: none.
const Evaluation* evaluationAt(const Study& study, const std::vector<double>& values) {
    for (const Evaluation& e : study.done) {
        bool same = e.values.size() == values.size();
        for (std::size_t k = 0; same && k < values.size(); ++k)
            same = std::abs(e.values[k] - values[k]) <= 1e-9 * std::max(1.0, std::abs(values[k]));
        if (same) return &e;
    }
    return nullptr;
}

/// Figures of one point. @param test  with its governing hotspots tested, at level 'standard'
Evaluation figuresAt(const Project& project, const Study& study, const std::vector<double>& values, bool test,
                     Progress& progress) {
    const auto start = std::chrono::steady_clock::now();
    Evaluation e;
    try {
        Recipe recipe = startRecipe(project, study);
        if (test && recipe.check.level == Level::look) recipe.check.level = Level::standard;
        for (std::size_t k = 0; k < values.size(); ++k)
            recipe = withParameter(project, recipe, study.axes[k].place, values[k]);
        // results of its own: what an evaluation computes is not kept
        Project own = project;
        own.results = std::make_shared<Results>();
        for (const auto& [key, source] : project.results->all<LoadedSource>()) own.results->share(key, source);
        for (const auto& [key, field] : project.results->all<FieldResult>()) own.results->share(key, field);
        run(own, recipe, test ? Stage::findings : Stage::check, progress);
        if (test) testWhatGoverns(own, recipe, progress);
        Variant v;
        v.recipe = recipe;
        e = figuresOf(own, v);
        e.tested = test;
    } catch (const Cancelled&) {
        throw;
    } catch (const std::exception& error) {
        e.problem = error.what();
    }
    e.values = values;
    e.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    return e;
}

/// Evaluates one point, or finds it among those that are done.
const Evaluation& evaluate(const Project& project, Study& study, const std::vector<double>& values, Progress& progress,
                           const std::function<void(const Study&)>& evaluated) {
    if (const Evaluation* known = evaluationAt(study, values)) return *known;
    progress.check();
    progress.step("Evaluation " + std::to_string(study.done.size() + 1));
    Evaluation e = figuresAt(project, study, values, false, progress);
    study.done.push_back(std::move(e));
    if (evaluated) evaluated(study);
    return study.done.back();
}

std::vector<double> startValues(const Study& study) {
    std::vector<double> v;
    for (const auto& a : study.axes) v.push_back(a.start);
    return v;
}

/// Step of a local study, inside the range.
double localStep(const Study& study, const Study::Axis& a) {
    const double size = std::abs(a.start) > 0 ? std::abs(a.start) : a.high - a.low;
    return study.step * size;
}

std::vector<std::vector<double>> plannedPoints(const Study& study) {
    std::vector<std::vector<double>> points;
    const auto start = startValues(study);
    if (study.kind == Study::Kind::local) {
        points.push_back(start);
        for (std::size_t k = 0; k < study.axes.size(); ++k)
            for (double side : {-1.0, 1.0}) {
                auto p = start;
                p[k] = std::clamp(p[k] + side * localStep(study, study.axes[k]), study.axes[k].low, study.axes[k].high);
                points.push_back(p);
            }
    }
    if (study.kind == Study::Kind::range) {
        const auto& a = study.axes[0];
        const int n = std::max(study.evaluations, 2);
        for (int i = 0; i < n; ++i) points.push_back({a.low + (a.high - a.low) * i / (n - 1)});
    }
    return points;
}

void chooseBest(Study& study) {
    study.best = -1;
    for (std::size_t i = 0; i < study.done.size(); ++i) {
        const Evaluation& e = study.done[i];
        if (!e.meetsAll) continue;
        if (study.best < 0 || e.figures.at("mass") < study.done[study.best].figures.at("mass"))
            study.best = static_cast<int>(i);
    }
}

/// Tests the best evaluation; one that only seemed to meet everything gives way to the next.
void finishBest(const Project& project, Study& study, Progress& progress,
                const std::function<void(const Study&)>& evaluated) {
    chooseBest(study);
    while (study.best >= 0 && !study.done[study.best].tested) {
        progress.check();
        progress.step("Testing the best of " + std::to_string(study.done.size()) + " evaluations");
        Evaluation& best = study.done[study.best];
        const Evaluation tested = figuresAt(project, study, best.values, true, progress);
        // its figures stay comparable with those of the others, which are not tested
        best.tested = true;
        best.meetsAll = tested.problem.empty() && tested.meetsAll;
        if (const auto at = tested.figures.find("safety factor"); at != tested.figures.end())
            best.figures["safety factor, tested"] = at->second;
        best.seconds += tested.seconds;
        chooseBest(study);
        if (evaluated) evaluated(study);
    }
}

/// How far an evaluation is from meeting each requirement with a limit, as a share of the limit; positive: not met.
std::vector<double> violations(const Evaluation& e) {
    std::vector<double> v;
    for (const auto& [name, value] : e.figures)
        if (name.starts_with("violation of ")) v.push_back(value);
    return v;
}

void search(const Project& project, Study& study, Progress& progress,
            const std::function<void(const Study&)>& evaluated) {
    const auto count = static_cast<unsigned>(study.axes.size());
    const Evaluation first = evaluate(project, study, startValues(study), progress, evaluated);
    chooseBest(study);
    const std::size_t constraints = violations(first).size();
    if (!first.problem.empty()) refuse("start", "a variant whose check succeeds", first.problem);
    const double usualMass = first.figures.at("mass");
    struct Problem {
        std::function<const Evaluation&(const std::vector<double>&)> at;
        std::vector<Study::Axis> axes;
        double mass;
        std::vector<double> values(const double* x) const {
            std::vector<double> v;
            for (std::size_t k = 0; k < axes.size(); ++k) {
                const double share = std::clamp(x[k], 0.0, 1.0);
                // a hundredth of the range is as fine as these figures are meaningful; repeats cost nothing then
                v.push_back(axes[k].low + (axes[k].high - axes[k].low) * std::round(200 * share) / 200);
            }
            return v;
        }
    };
    Problem problem{[&](const std::vector<double>& values) -> const Evaluation& {
                        if (!evaluationAt(study, values) && static_cast<int>(study.done.size()) >= study.evaluations)
                            throw nlopt::forced_stop();
                        return evaluate(project, study, values, progress, evaluated);
                    },
                    study.axes, usualMass};
    nlopt::opt opt(nlopt::LN_COBYLA, count);
    opt.set_lower_bounds(0);
    opt.set_upper_bounds(1);
    opt.set_xtol_abs(0.01);
    opt.set_maxeval(4 * study.evaluations);
    opt.set_initial_step(0.2);
    opt.set_min_objective(
        [](unsigned, const double* x, double*, void* data) {
            const auto& p = *static_cast<Problem*>(data);
            const Evaluation& e = p.at(p.values(x));
            return e.problem.empty() ? e.figures.at("mass") / p.mass : 10.0;
        },
        &problem);
    if (constraints > 0)
        opt.add_inequality_mconstraint(
            [](unsigned m, double* result, unsigned, const double* x, double*, void* data) {
                const auto& p = *static_cast<Problem*>(data);
                const Evaluation& e = p.at(p.values(x));
                const auto v = violations(e);
                for (unsigned k = 0; k < m; ++k) result[k] = k < v.size() ? v[k] : 1.0;
            },
            &problem, std::vector<double>(constraints, 0.0));
    std::vector<double> x;
    for (const auto& a : study.axes) x.push_back(std::clamp((a.start - a.low) / (a.high - a.low), 0.0, 1.0));
    double least = 0;
    try {
        opt.optimize(x, least);
    } catch (const nlopt::forced_stop&) {
        // as many evaluations as were asked for
    } catch (const nlopt::roundoff_limited&) {
        // no better place can be told apart
    }
    progress.check();
    study.evaluations = std::min(study.evaluations, static_cast<int>(study.done.size()));
    finishBest(project, study, progress, evaluated);
}

}  // namespace

std::vector<Parameter> parametersOf(const Project& project, const Recipe& recipe) {
    std::vector<Parameter> list;
    eachNumber(recipe, [&](const std::string& place, const std::string& label, const char* unit, const double& value) {
        list.push_back({place, label, unit, value});
    });
    for (const PartNumberInfo& n : partNumbers(project.partOf(recipe)))
        list.push_back({n.place, n.label, n.unit, n.value});
    return list;
}

Recipe withParameter(const Project& project, Recipe recipe, const std::string& wanted, double value) {
    if (!wanted.empty() && wanted[0] == '/') {
        if (const auto place = namedPlace(project.part, wanted)) {
            setNumber(recipe.numbers, *place, value);
            return recipe;
        }
        refuse(wanted, "a number of the part file", "nothing there");
    }
    bool found = false;
    eachNumber(recipe, [&](const std::string& place, const std::string&, const char*, double& number) {
        if (place == wanted) {
            number = value;
            found = true;
        }
    });
    if (!found) refuse(wanted, "a number of the recipe", "nothing there");
    return recipe;
}

Study newStudy(const Project& project, const Variant& variant, Study::Kind kind,
               const std::vector<std::string>& places) {
    const std::size_t most = kind == Study::Kind::range ? 1 : kind == Study::Kind::search ? 5 : 40;
    if (places.empty() || places.size() > most)
        refuse("parameters", "1 to " + std::to_string(most) + " of them", std::to_string(places.size()));
    if (std::set<std::string>(places.begin(), places.end()).size() != places.size())
        refuse("parameters", "each once", "one twice");
    Study s;
    s.kind = kind;
    s.variant = variant.id;
    const auto all = parametersOf(project, variant.recipe);
    for (const std::string& given : places) {
        const std::string place = namedPlace(project.part, given).value_or(given);
        const auto at = std::find_if(all.begin(), all.end(), [&](const Parameter& p) { return p.place == place; });
        if (at == all.end()) refuse(place, "a number of the recipe or the part file", "nothing there");
        Study::Axis a{place, at->label, at->unit, at->value, 0.7 * at->value, 1.4 * at->value};
        if (at->value < 0) std::swap(a.low, a.high);
        if (at->value == 0) a.high = 1;
        if (place == "threshold") {
            a.low = std::max(a.low, 0.05);
            a.high = std::min(a.high, 0.95);
        }
        if (place.ends_with("poissons_ratio")) a.high = std::min(a.high, 0.45);
        s.axes.push_back(a);
    }
    s.evaluations = kind == Study::Kind::range    ? 9
                    : kind == Study::Kind::search ? 12 + 8 * static_cast<int>(places.size())
                                                  : 1 + 2 * static_cast<int>(places.size());
    s.digest = digestOf(project, variant.recipe, s.standard);
    return s;
}

Evaluation figuresOf(const Project& project, const Variant& variant) {
    Evaluation e;
    const auto check = project.check(variant.recipe);
    if (!check) {
        e.problem = "no check";
        return e;
    }
    const Part& part = project.partOf(variant.recipe);
    const auto surface = project.surface(variant.recipe);
    const auto rebuilt = project.rebuild(variant.recipe);
    double volume = check->quality.volume;
    if (!variant.recipe.check.original) {
        if (variant.recipe.check.rebuilt && rebuilt)
            volume = rebuilt->solid.solid.volume;
        else if (!variant.recipe.check.rebuilt && surface)
            volume = surface->measures.volume;
    }
    e.figures["mass"] = volume * part.material.density;
    e.figures["safety factor"] = factorOf(project, variant, *check).value;
    double moved = 0;
    for (const CaseResult& c : check->cases) {
        moved = std::max(moved, c.maxDisplacement);
        e.figures["peak stress, " + c.name] = c.maxStress;
    }
    e.figures["displacement"] = moved;
    e.meetsAll = true;
    for (const RequirementState& s : requirementStates(project, variant, nullptr, nullptr)) {
        // findings are signed on the winner, convergence is proven on it
        if (s.kind == Requirement::Kind::findingsDisposed || s.kind == Requirement::Kind::convergence) continue;
        if (std::isnan(s.value)) {
            e.meetsAll = false;
            continue;
        }
        e.figures[s.name] = s.value;
        e.meetsAll =
            e.meetsAll && (s.state == RequirementState::State::met || s.state == RequirementState::State::metSoFar);
        if (s.hasLimit && s.kind != Requirement::Kind::mass && s.kind != Requirement::Kind::equilibrium)
            e.figures["violation of " + s.name] = (s.atLeast ? s.limit - s.value : s.value - s.limit) / s.limit;
    }
    return e;
}

bool isComplete(const Study& study) {
    if (study.kind == Study::Kind::search)
        return static_cast<int>(study.done.size()) >= study.evaluations && !study.done.empty();
    for (const auto& p : plannedPoints(study))
        if (!evaluationAt(study, p)) return false;
    return true;
}

void runStudy(const Project& project, Study& study, Progress& progress,
              const std::function<void(const Study&)>& evaluated) {
    const Variant* v = project.findVariant(study.variant);
    if (!v) refuse("variant", "the variant that the study starts from", "it is gone");
    const std::string digest = digestOf(project, v->recipe, study.standard);
    if (study.digest != digest) {  // another start: what was evaluated does not hold
        study.done.clear();
        study.best = -1;
        study.digest = digest;
    }
    for (const auto& a : study.axes)
        if (!(a.low < a.high)) refuse(a.label, "a range whose end is above its start", "an empty one");
    if (study.kind == Study::Kind::search) {
        search(project, study, progress, evaluated);
        return;
    }
    for (const auto& p : plannedPoints(study)) evaluate(project, study, p, progress, evaluated);
    if (study.kind == Study::Kind::range)
        finishBest(project, study, progress, evaluated);
    else
        chooseBest(study);
}

std::vector<Effect> rankedEffects(const Study& study, const std::string& figure) {
    std::vector<Effect> effects;
    const auto start = startValues(study);
    for (std::size_t k = 0; k < study.axes.size(); ++k) {
        const auto& a = study.axes[k];
        auto low = start, high = start;
        low[k] = std::clamp(a.start - localStep(study, a), a.low, a.high);
        high[k] = std::clamp(a.start + localStep(study, a), a.low, a.high);
        const Evaluation *below = evaluationAt(study, low), *above = evaluationAt(study, high);
        if (!below || !above || !below->figures.count(figure) || !above->figures.count(figure)) continue;
        const double step = 0.5 * (high[k] - low[k]);
        effects.push_back({k, step, 0.5 * (above->figures.at(figure) - below->figures.at(figure))});
    }
    std::stable_sort(effects.begin(), effects.end(),
                     [](const Effect& a, const Effect& b) { return std::abs(a.change) > std::abs(b.change); });
    return effects;
}

Recipe recipeOf(const Project& project, const Study& study, const Evaluation& evaluation) {
    const Variant* v = project.findVariant(study.variant);
    if (!v) refuse("variant", "the variant that the study starts from", "it is gone");
    Recipe r = v->recipe;
    for (std::size_t k = 0; k < study.axes.size(); ++k)
        r = withParameter(project, r, study.axes[k].place, evaluation.values.at(k));
    return r;
}

}  // namespace escultura::judge

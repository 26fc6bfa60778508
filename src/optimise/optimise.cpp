/// The steps of an optimisation: what the responses of a problem ask for, optimality criteria, moving asymptotes.

#include "optimise/optimise.hpp"

#include <algorithm>
#include <cmath>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "optimise/mma.hpp"

namespace escultura::optimise {
namespace {

const std::vector<double> stiffSharpnesses{0, 1.5, 3, 6, 12, 20};
const std::vector<double> lightSharpnesses{0, 1.5, 3, 6, 10};
constexpr double settled = 0.002;  // change of the objective over a few steps that ends a stage
constexpr double settledLast = 0.001;
constexpr int settledOver = 5;
constexpr double leastDesign = 1e-3;
constexpr int lostAfter = 12;    // steps without a better design
constexpr double inside = 0.01;  // limits are aimed at from this far within, so that what is found meets them
constexpr double worstPower = 8;

/// A problem with what its optimisation keeps from step to step.
class Run {
  public:
    Run(const Problem& problem, const Choice& choice)
        : problem_(problem),
          choice_(choice),
          chain_(problem.grid, problem.use, choice.filterRadius, choice.rules),
          responses_(problem, choice.tolerance) {}

    DensityChain& chain() { return chain_; }
    const std::vector<double>& density() const { return density_; }
    void setFirst(std::vector<double> first, std::vector<double> full) {
        first_ = std::move(first);
        full_ = std::move(full);
    }
    const std::vector<double>& first() const { return first_; }

    Point at(const std::vector<double>& design, Progress& progress) {
        density_ = chain_.densities(design);
        iterations_ = responses_.solve(density_, progress);
        Point p = choice_.aim == Aim::stiffest ? stiffest() : lightest(progress);
        symmetrise(p.gradient);
        for (auto& g : p.jacobian) symmetrise(g);
        return p;
    }
    int iterations() const { return iterations_; }
    /// Stress limits by the norm itself, whose gradient is exact.
    void usePlainNorm() { plainNorm_ = true; }
    std::vector<double> compliances() const {
        std::vector<double> c;
        for (std::size_t i = 0; i < problem_.cases.size(); ++i) c.push_back(responses_.compliance(i).value);
        return c;
    }
    /// Each limit of the lightest design over its bound, of the design that was solved last.
    std::vector<double> limitsOver() const {
        std::vector<double> l;
        for (std::size_t i = 0; i < problem_.cases.size(); ++i) {
            if (choice_.allowable > 0) l.push_back(responses_.largestStress(i, choice_.allowable));
            if (choice_.complianceOver > 0)
                l.push_back(responses_.compliance(i).value / (choice_.complianceOver * full_.at(i)));
        }
        return l;
    }
    double shareOf(const std::vector<double>& density) const {
        std::size_t count = 0;
        double sum = 0;
        for (std::size_t c = 0; c < density.size(); ++c)
            if (problem_.use[c] != CellUse::empty) {
                sum += density[c];
                ++count;
            }
        return sum / static_cast<double>(std::max<std::size_t>(count, 1));
    }

  private:
    Point stiffest() {
        std::vector<Response> c;
        for (std::size_t i = 0; i < problem_.cases.size(); ++i) c.push_back(responses_.compliance(i));
        if (first_.empty())
            for (const Response& r : c) first_.push_back(std::max(std::abs(r.value), 1e-300));
        Point p;
        std::vector<double> byDensity(density_.size(), 0.0), factor;
        double weights = 0;
        for (std::size_t i = 0; i < c.size(); ++i) weights += weight(i);
        if (choice_.worstCase) {
            double sum = 0, most = 1e-300;
            for (std::size_t i = 0; i < c.size(); ++i) most = std::max(most, weight(i) * c[i].value / first_[i]);
            for (std::size_t i = 0; i < c.size(); ++i)
                sum += std::pow(std::max(0.0, weight(i) * c[i].value / first_[i] / most), worstPower);
            p.objective = most * std::pow(sum, 1 / worstPower);
            for (std::size_t i = 0; i < c.size(); ++i)
                factor.push_back(
                    std::pow(std::max(0.0, weight(i) * c[i].value / first_[i]) / p.objective, worstPower - 1) *
                    weight(i) / first_[i]);
        } else {
            for (std::size_t i = 0; i < c.size(); ++i) {
                p.objective += weight(i) / weights * c[i].value / first_[i];
                factor.push_back(weight(i) / weights / first_[i]);
            }
        }
        for (std::size_t i = 0; i < c.size(); ++i)
            for (std::size_t n = 0; n < byDensity.size(); ++n) byDensity[n] += factor[i] * c[i].gradient[n];
        p.gradient = chain_.gradient(byDensity);
        const Response share = responses_.share();
        p.limit = {share.value / choice_.share - 1};
        p.jacobian = {chain_.gradient(share.gradient)};
        for (double& g : p.jacobian[0]) g /= choice_.share;
        return p;
    }
    Point lightest(Progress& progress) {
        Point p;
        const Response share = responses_.share();
        p.objective = share.value;
        p.gradient = chain_.gradient(share.gradient);
        for (std::size_t i = 0; i < problem_.cases.size(); ++i) {
            if (choice_.allowable > 0) {
                // the norm lies above the largest: scaled to it, with the scale held fast in the gradient
                double largest = 0;
                Response s = responses_.stress(i, choice_.allowable, &largest, progress);
                const double scale = s.value > 0 && !plainNorm_ ? largest / s.value : 1;
                p.limit.push_back(scale * s.value - 1);
                p.jacobian.push_back(chain_.gradient(s.gradient));
                for (double& g : p.jacobian.back()) g *= scale;
            }
            if (choice_.complianceOver > 0) {
                Response c = responses_.compliance(i);
                const double bound = choice_.complianceOver * full_.at(i);
                p.limit.push_back(c.value / bound - 1);
                p.jacobian.push_back(chain_.gradient(c.gradient));
                for (double& g : p.jacobian.back()) g /= bound;
            }
        }
        return p;
    }
    double weight(std::size_t i) const { return choice_.weights.empty() ? 1.0 : choice_.weights.at(i); }
    /// Both halves get the mean where both are free.
    void symmetrise(std::vector<double>& g) const {
        const Grid& grid = problem_.grid;
        for (const Mirror& m : problem_.mirrors) {
            const auto axis = static_cast<std::size_t>(m.axis);
            for (std::size_t c = 0; c < g.size(); ++c) {
                auto p = grid.cellAt(c);
                const int image = m.twice - 1 - p[axis];
                if (image <= p[axis] || image >= grid.cells[axis]) continue;
                p[axis] = image;
                const std::size_t other = grid.cell(p[0], p[1], p[2]);
                if (problem_.use[c] != CellUse::free || problem_.use[other] != CellUse::free) continue;
                g[c] = g[other] = 0.5 * (g[c] + g[other]);
            }
        }
    }

    const Problem& problem_;
    const Choice& choice_;
    DensityChain chain_;
    Responses responses_;
    std::vector<double> density_, first_, full_;
    int iterations_ = 0;
    bool plainNorm_ = false;
};

/// Optimality criteria: variables grow where a share of volume pays more than the multiplier, which is found so that
/// the volume after projection is met.
std::vector<double> criteriaStep(Run& run, const Problem& problem, const Choice& choice, const Point& p,
                                 const std::vector<double>& design, double move) {
    std::vector<double> ratio(design.size(), 0.0);
    double most = 0;
    for (std::size_t c = 0; c < design.size(); ++c) {
        if (problem.use[c] != CellUse::free || !(p.jacobian[0][c] > 0)) continue;
        ratio[c] = std::max(0.0, -p.gradient[c]) / p.jacobian[0][c];
        most = std::max(most, ratio[c]);
    }
    std::vector<double> next = design;
    auto volumeWith = [&](double multiplier) {
        parallelFor(design.size(), [&](std::size_t c) {
            if (problem.use[c] != CellUse::free) return;
            next[c] = std::clamp(design[c] * std::sqrt(ratio[c] / multiplier), std::max(leastDesign, design[c] - move),
                                 std::min(1.0, design[c] + move));
        });
        return run.shareOf(run.chain().densities(next));
    };
    double low = std::log(std::max(most, 1e-300)) - 40, high = std::log(std::max(most, 1e-300)) + 5;
    for (int i = 0; i < 60 && high - low > 1e-6; ++i) {
        const double middle = 0.5 * (low + high), share = volumeWith(std::exp(middle));
        if (std::abs(share - choice.share) < 1e-5 * choice.share) return next;
        (share > choice.share ? low : high) = middle;
    }
    volumeWith(std::exp(high));  // not more than asked
    return next;
}

std::vector<double> asymptotesStep(MovingAsymptotes& mma, const Problem& problem, const Point& p,
                                   const std::vector<double>& design) {
    std::vector<std::size_t> free;
    for (std::size_t c = 0; c < design.size(); ++c)
        if (problem.use[c] == CellUse::free) free.push_back(c);
    const auto n = static_cast<Eigen::Index>(free.size());
    const auto m = static_cast<Eigen::Index>(p.limit.size());
    Eigen::ArrayXd x(n), g(n);
    Eigen::VectorXd f(m);
    Eigen::MatrixXd j(m, n);
    // beside the cost of a violated limit the objective counts as ten, whatever its unit
    const double scale = p.objective > 0 ? 10 / p.objective : 1;
    for (Eigen::Index i = 0; i < n; ++i) {
        x[i] = design[free[static_cast<std::size_t>(i)]];
        g[i] = scale * p.gradient[free[static_cast<std::size_t>(i)]];
        for (Eigen::Index k = 0; k < m; ++k)
            j(k, i) = p.jacobian[static_cast<std::size_t>(k)][free[static_cast<std::size_t>(i)]];
    }
    for (Eigen::Index k = 0; k < m; ++k) f[k] = p.limit[static_cast<std::size_t>(k)] + inside;
    const Eigen::ArrayXd next = mma.step(x, g, f, j);
    std::vector<double> result = design;
    for (Eigen::Index i = 0; i < n; ++i) result[free[static_cast<std::size_t>(i)]] = std::max(leastDesign, next[i]);
    return result;
}

/// The design variables that give the wanted share without any difference between cells.
std::vector<double> evenDesign(Run& run, const Problem& problem, double share) {
    double low = 0, high = 1;
    std::vector<double> x(problem.use.size());
    for (int i = 0; i < 40; ++i) {
        const double middle = 0.5 * (low + high);
        std::fill(x.begin(), x.end(), middle);
        (run.shareOf(run.chain().densities(x)) > share ? high : low) = middle;
    }
    std::fill(x.begin(), x.end(), std::max(leastDesign, low));
    return x;
}

std::vector<double> refined(const std::vector<double>& coarse, const Grid& from, const Grid& to) {
    std::vector<double> x(to.cellCount());
    parallelFor(x.size(), [&](std::size_t c) {
        const Vec3 p = (to.centre(c) - from.origin).cwiseQuotient(from.spacing);
        int at[3];
        for (int a = 0; a < 3; ++a)
            at[a] = std::clamp(static_cast<int>(std::floor(p[a])), 0, from.cells[static_cast<std::size_t>(a)] - 1);
        x[c] = coarse[from.cell(at[0], at[1], at[2])];
    });
    return x;
}

/// Compliances of the full design space: what limits on stiffness are measured by.
std::vector<double> fullCompliances(const Problem& problem, const Choice& choice, Progress& progress) {
    Responses r(problem, choice.tolerance);
    std::vector<double> density(problem.use.size());
    for (std::size_t c = 0; c < density.size(); ++c) density[c] = problem.use[c] == CellUse::empty ? 0.0 : 1.0;
    r.solve(density, progress);
    std::vector<double> values;
    for (std::size_t i = 0; i < problem.cases.size(); ++i) values.push_back(r.compliance(i).value);
    return values;
}

void requireSolvable(const Problem& problem, const Choice& choice) {
    if (problem.cases.empty()) throw InputError("There is no load case to optimise for.");
    if (std::count(problem.use.begin(), problem.use.end(), CellUse::free) == 0)
        throw InputError("The design space leaves no cell free to optimise.");
    const double solid = problem.solidShare();
    if (choice.aim == Aim::stiffest && !(choice.share > solid && choice.share < 1))
        throw InputError(ErrorDetail{
            "The wanted mass cannot be met.",
            {},
            "share of the design space",
            "more than the " + formatNumber(100 * solid, 3) + " % that interfaces keep anyway, and less than all",
            formatNumber(100 * choice.share, 3) + " %"});
    if (choice.aim == Aim::lightest && !(choice.allowable > 0) && !(choice.complianceOver > 0))
        throw InputError("The lightest design needs a limit: without one it has no mass.");
}

/// The steps of one optimisation.
class Optimiser {
  public:
    Optimiser(const Problem& problem, const Problem* coarse, const Choice& choice, const StepListener& listener,
              Progress& progress)
        : problem_(problem), coarse_(coarse), choice_(choice), listener_(listener), progress_(progress) {}

    Outcome make() {
        const bool light = choice_.aim == Aim::lightest;
        if (light && choice_.complianceOver > 0) full_ = fullCompliances(problem_, choice_, progress_);
        // the lightest begins as the stiffest whose mass follows the limits
        Choice stiff = choice_;
        stiff.aim = Aim::stiffest;
        if (light) stiff.share = std::max(0.5, 0.5 * (1 + problem_.solidShare()));
        const int stiffBudget = light ? choice_.steps * 3 / 5 : choice_.steps;
        std::vector<double> first;
        if (coarse_) {
            Choice rough = stiff;
            rough.filterRadius = std::max(choice_.filterRadius, 1.3 * coarse_->grid.spacing.maxCoeff());
            rough.share = std::max(stiff.share, coarse_->solidShare() + 0.02);
            Run run(*coarse_, rough);
            if (light && !full_.empty()) run.setFirst({}, fullCompliances(*coarse_, rough, progress_));
            design_ = evenDesign(run, *coarse_, rough.share);
            stiffSteps(run, *coarse_, rough, stiffBudget * 3 / 10, {0}, light);
            if (light) stiff.share = rough.share;
            first = run.first();  // cases are weighed by the even design's
            design_ = refined(design_, coarse_->grid, problem_.grid);
        }
        Run run(problem_, stiff);
        run.setFirst(first, full_);
        if (!coarse_) design_ = evenDesign(run, problem_, stiff.share);
        shown_ = true;
        stiffSteps(run, problem_, stiff, stiffBudget - number_, light ? lightSharpnesses : stiffSharpnesses, light);
        if (!light || stopped_) return outcome(run);
        Run last(problem_, choice_);
        last.setFirst({}, full_);
        last.chain().setSharpness(lightSharpnesses.back());
        lightSteps(last);
        design_ = best_;
        return outcome(last);
    }

  private:
    /// Tells of a step. @return its limits' largest over its bound
    double tell(Step step, Run& run, double sharpness) {
        step.number = ++number_;
        step.share = run.shareOf(run.density());
        if (choice_.aim == Aim::lightest) step.objective = step.share;
        step.sharpness = sharpness;
        step.iterations = run.iterations();
        double worst = 0;
        for (double l : step.limits) worst = std::max(worst, l);
        progress_.step("Optimising", std::min(0.99, static_cast<double>(number_) / choice_.steps));
        progress_.record("objective", step.number, step.objective);
        progress_.record("share", step.number, step.share);
        if (!step.limits.empty()) progress_.record("limit", step.number, worst);
        steps_.push_back(step);
        if (listener_ && shown_ && !listener_(step, run.density())) stopped_ = true;
        return worst;
    }
    /// @param follow  the share follows the limits: more where they are exceeded
    void stiffSteps(Run& run, const Problem& p, Choice& choice, int budget, const std::vector<double>& sharpnesses,
                    bool follow) {
        // the layout settles before there is any projection: twice the steps
        const int end = number_ + budget, each = std::max(3, budget / static_cast<int>(sharpnesses.size() + 1));
        for (std::size_t s = 0; s < sharpnesses.size(); ++s) {
            // what is stopped is kept as it was seen: a sharper projection would be another design with another mass
            if (s > 0 && (number_ >= end || stopped_)) break;
            run.chain().setSharpness(sharpnesses[s]);
            const bool last = s + 1 == sharpnesses.size();
            std::vector<double> values;
            while (number_ < end && !stopped_) {
                progress_.check();
                const Point at = run.at(design_, progress_);
                Step step;
                step.objective = at.objective;
                if (follow) step.limits = run.limitsOver();
                const std::vector<double> next =
                    criteriaStep(run, p, choice, at, design_, sharpnesses[s] < 6 ? 0.2 : 0.1);
                for (std::size_t c = 0; c < next.size(); ++c)
                    if (p.use[c] == CellUse::free) step.change = std::max(step.change, std::abs(next[c] - design_[c]));
                // told with what was solved
                run.chain().densities(design_);
                const double worst = tell(step, run, sharpnesses[s]);
                values.push_back(at.objective);
                design_ = next;
                if (follow)
                    choice.share = std::clamp(choice.share * std::clamp(std::pow(worst, 0.4), 0.93, 1.07),
                                              p.solidShare() + 0.02, 0.98);
                const auto n = values.size();
                bool still = !follow && n > settledOver;
                for (std::size_t i = 1; still && i <= settledOver; ++i)
                    still = std::abs(values[n - 1] - values[n - 1 - i]) <
                            (last ? settledLast : settled) * std::abs(values[n - 1]);
                if (still || (!last && static_cast<int>(n) >= (s == 0 ? 2 : 1) * each)) break;
            }
        }
    }
    /// Moving asymptotes from a design that nearly keeps the limits. Keeps the lightest that does.
    void lightSteps(Run& run) {
        MovingAsymptotes mma(0.05);
        Point kept;
        std::vector<double> keptDesign;
        double keptWorst = 0, room = 1, bestShare = 2, bestWorst = 1e300;
        int sinceBest = 0;
        while (number_ < choice_.steps && !stopped_) {
            progress_.check();
            Point at = run.at(design_, progress_);
            Step step;
            for (double l : at.limit) step.limits.push_back(l + 1);
            double worst = 0;
            for (double l : step.limits) worst = std::max(worst, l);
            const bool keeps = worst <= 1, better = keeps ? at.objective < bestShare : worst < bestWorst;
            ++sinceBest;
            if (better && (keeps || bestShare > 1)) {
                best_ = design_;
                sinceBest = 0;
                bestWorst = worst;
                if (keeps) bestShare = at.objective;
            }
            if (!keptDesign.empty() && worst > std::max(1.05, 1.1 * keptWorst) && room > 0.02) {
                // a bar that carries something has gone: back, and less far
                room *= 0.4;
                at = kept;
                design_ = keptDesign;
            } else {
                room = std::min(1.0, 1.3 * room);
                kept = at;
                keptDesign = design_;
                keptWorst = worst;
            }
            if (sinceBest >= lostAfter) {  // it has drifted off: from the best anew
                sinceBest = 0;
                design_ = best_;
                at = run.at(design_, progress_);
                kept = at;
                keptDesign = design_;
                room = 0.3;
            }
            mma.setMove(0.05 * room);
            std::vector<double> next = asymptotesStep(mma, problem_, at, design_);
            for (std::size_t c = 0; c < next.size(); ++c)
                step.change = std::max(step.change, std::abs(next[c] - design_[c]));
            tell(step, run, lightSharpnesses.back());
            design_ = std::move(next);
        }
    }
    Outcome outcome(Run& run) {
        run.at(design_, progress_);
        Outcome out;
        out.design = design_;
        out.steps = std::move(steps_);
        out.stopped = stopped_;
        out.share = run.shareOf(run.density());
        out.compliance = run.compliances();
        if (choice_.aim == Aim::lightest)
            for (double l : run.limitsOver()) {
                out.worstLimit = std::max(out.worstLimit, l);
                out.within = out.within && l <= 1;
            }
        out.density.resize(design_.size());
        for (std::size_t c = 0; c < design_.size(); ++c)
            out.density[c] = static_cast<float>(std::clamp(run.density()[c], 0.0, 1.0));
        return out;
    }

    const Problem& problem_;
    const Problem* coarse_;
    const Choice& choice_;
    const StepListener& listener_;
    Progress& progress_;
    std::vector<double> design_, best_, full_;
    std::vector<Step> steps_;
    int number_ = 0;
    bool stopped_ = false;
    bool shown_ = false;  ///< steps on the coarse grid are told by their figures only
};

}  // namespace

Point evaluate(const Problem& problem, const Choice& choice, const std::vector<double>& design, double sharpness,
               Progress& progress) {
    Run run(problem, choice);
    if (choice.aim == Aim::lightest && choice.complianceOver > 0)
        run.setFirst({}, fullCompliances(problem, choice, progress));
    if (choice.aim == Aim::stiffest) run.setFirst(std::vector<double>(problem.cases.size(), 1.0), {});
    run.chain().setSharpness(sharpness);
    run.usePlainNorm();
    return run.at(design, progress);
}

Outcome makeDensities(const Problem& problem, const Problem* coarse, const Choice& choice, const StepListener& listener,
                      Progress& progress) {
    requireSolvable(problem, choice);
    return Optimiser(problem, coarse, choice, listener, progress).make();
}

}  // namespace escultura::optimise

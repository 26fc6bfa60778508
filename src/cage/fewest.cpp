#include "cage/fewest.hpp"

#include <algorithm>
#include <cmath>
#include <optional>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "cage/clearances.hpp"
#include "cage/patches.hpp"
#include "cage/split.hpp"

namespace escultura::cage {
namespace {

constexpr int triesASize = 24;
constexpr int nearlyRight = 2;  // handles off in the best of half the tries: the others are worth trying
constexpr double wallShare = 1.6, gapShare = 1.2, openedShare = 0.65;  // of a face: filled out, left by that, opened to
constexpr double farShare = 1;  // raw vertices farther from the target tell of a false or missing handle
constexpr double coarseStep = 1.18, fineStep = 0.95, hastyStep = 0.85;  // between sizes
constexpr double promising = 4;                  // times the bar after a short fit: smaller faces are near
constexpr double hopeless = 1.7;                 // times the bar after a short fit: fitting on does not help
constexpr double splitAbove = 0.85;              // of the allowed distance
constexpr double mostKink = 2.5;                 // degrees
constexpr double goodKink = 0.5, kinkCost = 20;  // degrees; faces a degree above
constexpr double awkwardness = 0.3;              // of one edge too many or too few, edges
constexpr int splitRounds = 2;

/// Numbers between 0 and 1 that depend on their two arguments only (splitmix64).
double drawn(std::uint64_t which, std::uint64_t number) {
    std::uint64_t z = which * 0x9e3779b97f4a7c15ULL + number * 0xbf58476d1ce4e5b9ULL + 0x94d049bb133111ebULL;
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
    return static_cast<double>((z ^ (z >> 31)) >> 11) * 0x1p-53;
}

struct Candidate {
    Cage cage;
    double size = 0;
    int irregular = 0;
    double ratio = 0;  ///< root mean square after a first fit, over what is allowed
    double kink = 0;   ///< degrees, once it is known
    /// What the cage costs the one who edits it, in faces.
    double score() const {
        return static_cast<double>(cage.face.size()) + 0.5 * irregular + kinkCost * std::max(0.0, kink - goodKink);
    }
};

class Search {
  public:
    Search(const std::function<WrapBody(double)>& bodyOf, const FewestOptions& options, Progress& progress)
        : bodyOf_(bodyOf), o_(options), progress_(progress) {}

    FewestCage run() {
        double size = coarsest();
        int without = 0;
        for (std::uint64_t draw = 0; size >= o_.leastSize && without < 2; ++draw) {
            const bool had = best_.within;
            const double before = bestScore();
            const bool any = trySize(size, draw);
            if (had && (!any || bestScore() >= before)) ++without;
            const bool spent = work_ > o_.mostWork;
            if (spent && best_.within) break;
            size *= spent ? hastyStep : fineStep;
        }
        best_.wraps = wraps_;
        return std::move(best_);
    }

  private:
    double bestScore() const { return best_.within ? bestScore_ : 1e300; }
    void say(const char* what) { progress_.step(what, std::min(0.95, 0.5 * work_ / o_.mostWork)); }

    void bodyFor(double size) {
        if (bodySize_ > 0 && size <= 1.15 * bodySize_ && size >= 0.75 * bodySize_) return;
        body_ = bodyOf_(size);
        bodySize_ = size;
        clearances_.emplace(*body_.target, (0.5 * wallShare + 0.5 * gapShare) * 1.15 * size, 0.15 * size);
    }

    /// A tidied wrap with the right pieces and handles that lies near the target.
    std::optional<Candidate> wrap(double size, std::uint64_t draw, int number, const WrapReady& ready,
                                  int& handlesOff) {
        WrapOptions w;
        w.faceSize = size;
        w.symmetry = body_.symmetry;
        w.pieces = body_.target->measures().parts();
        if (number > 0) {
            for (int a = 0; a < 3; ++a) {
                w.shift[a] = drawn(1000 * draw + number, a);
                w.sides[a] = std::exp(0.5 * drawn(1000 * draw + number, 3 + a) - 0.25);
            }
            w.sides /= std::cbrt(w.sides.prod());
        }
        bool wanted = false;
        w.wanted = [&](const Cage& raw, const CageReport& r) {
            handlesOff = std::abs(r.genus - body_.target->measures().genus);
            wanted = isRight(r, *body_.target) && isNear(raw, farShare * size);
            return wanted;
        };
        Candidate c;
        c.size = size;
        try {
            c.cage = wrapBody(ready, body_.bounds, body_.target->mesh(), body_.target->tree(), w, progress_);
        } catch (const InputError&) {  // nothing left at this size
            return std::nullopt;
        }
        if (!wanted || !isRight(inspect(c.cage), *body_.target)) return std::nullopt;
        c.irregular = irregularVertices(c.cage);
        return c;
    }
    /// Several at once: those that could be better than the best so far. Sets leastOff_ and
    /// rightOfLast_.
    std::vector<Candidate> wrapMany(double size, std::uint64_t draw, int from, int to, const WrapReady& ready) {
        const auto count = static_cast<std::size_t>(to - from);
        std::vector<std::optional<Candidate>> made(count);
        std::vector<int> off(count, 1000);
        parallelFor(
            count, [&](std::size_t i) { made[i] = wrap(size, draw, from + static_cast<int>(i), ready, off[i]); }, 1);
        wraps_ += to - from;
        leastOff_ = *std::min_element(off.begin(), off.end());
        rightOfLast_ =
            static_cast<int>(std::count_if(made.begin(), made.end(), [](const auto& c) { return c.has_value(); }));
        std::vector<Candidate> list;
        for (auto& c : made)
            if (c && c->score() < bestScore()) list.push_back(std::move(*c));
        return list;
    }
    bool isNear(const Cage& raw, double most) const {
        std::vector<char> far(raw.position.size(), 0);
        parallelFor(
            raw.position.size(),
            [&](std::size_t v) { far[v] = body_.target->tree().closest(raw.position[v], most).triangle < 0; }, 32);
        return std::find(far.begin(), far.end(), 1) == far.end();
    }

    struct Measured {
        CageDeviation deviation;
        std::vector<std::int32_t> folded;  ///< faces
        double rms = 0, largest = 0;       ///< over what is allowed
        double kink = 0;                   ///< degrees; 0 when the others are far off
        /// Folds and kinks first; one and below: within.
        double badness() const {
            return 100.0 * static_cast<double>(folded.size()) + std::max(0.0, kink - mostKink) + std::max(rms, largest);
        }
    };
    /// @param exact  from the body itself, else from its triangles, which is quicker
    Measured measure(const Cage& cage, bool exact) {
        Measured m;
        m.deviation =
            deviationOf(cage, *body_.target, exact ? fineDivisions(cage, *body_.target) : 6, progress_, exact);
        m.folded = foldedFaces(cage, 5, 6);
        m.rms = std::max(m.deviation.rms, m.deviation.backRms) / o_.rms;
        m.largest = std::max(m.deviation.largest, m.deviation.backLargest) / o_.largest;
        if (m.folded.empty() && m.rms <= 1.2 && m.largest <= 1.2) m.kink = makePatches(cage).irregularJump;
        return m;
    }
    void fit(Cage& cage, int iterations, double from, double to, double tangential, bool exact, double emphasis = 0) {
        FitOptions f;
        f.symmetry = body_.symmetry;
        f.iterations = iterations;
        f.fairness = from;
        f.lastFairness = to;
        f.tangential = tangential;
        f.exact = exact ? 2 : 0;
        if (exact) f.pull = 0;  // nothing is far any more
        if (emphasis > 0) {
            f.emphasis = emphasis;
            f.pull = emphasis / meanEdge(cage);
        }
        fitCage(cage, *body_.target, f, progress_);
    }

    /// Fits with falling fairness; the last stretch in several ways until one keeps the distances.
    Measured fitLong(Cage& cage) {
        work_ += static_cast<double>(cage.face.size());
        fit(cage, 15, 1e-3, 1e-4, 0.02, false);
        const Cage start = cage;
        Measured best;
        double least = 1e300;
        static constexpr double ways[][2] = {{1e-4, 0.02}, {1e-3, 0.02}, {1e-5, 0.1}, {3e-4, 0.1}};
        for (const auto& way : ways) {
            Cage c = start;
            fit(c, 25, 0.03, way[0], way[1], true);
            Measured m = measure(c, false);
            const double off = std::max(m.rms, 0.8 * m.largest), b = m.badness();
            if (b < least) {
                least = b;
                best = std::move(m);
                cage = std::move(c);
            }
            if (least <= 1 || off > 1.5) break;
        }
        for (int round = 0; round < 4 && best.folded.empty() && best.largest > 1 && best.rms < 1.15; ++round) {
            Cage c = cage;
            fit(c, 15, 1e-3, 1e-4, 0.02, true, 0.4 * o_.largest);
            Measured m = measure(c, false);
            if (m.badness() >= best.badness()) break;
            best = std::move(m);
            cage = std::move(c);
        }
        return best;
    }

    /// The vertex next to each place that is too far off, the worst of its neighbourhood only.
    std::vector<char> worstVertices(const Cage& cage, const Measured& m) const {
        const double limit = splitAbove * o_.largest;
        const Connectivity c(cage);
        // a split gives one more edge to the corners across: where they have five already, patches would get kinks
        std::vector<double> worst(cage.position.size(), 0), awkward(cage.position.size(), 0);
        auto extra = [&](std::int32_t v) { return static_cast<double>(c.edgesOfVertex[v].size()) - 4; };
        for (const Quad& q : cage.face)
            for (int k = 0; k < 4; ++k) awkward[q[k]] += awkwardness * std::max(0.0, extra(q[(k + 2) % 4]));
        for (std::size_t v = 0; v < awkward.size(); ++v)
            awkward[v] += awkwardness * std::abs(extra(static_cast<std::int32_t>(v)));
        auto note = [&](std::int32_t face, const Vec3& at, double d) {
            if (d <= limit) return;
            std::int32_t nearest = -1;
            double least = 1e300;
            for (auto v : cage.face[face]) {
                const double cost = (cage.position[v] - at).norm() / m.deviation.edge + awkward[v];
                if (cost < least) {
                    least = cost;
                    nearest = v;
                }
            }
            worst[nearest] = std::max(worst[nearest], d);
        };
        const CageDeviation& d = m.deviation;
        for (std::size_t t = 0; t < d.surface.triangle.size(); ++t)
            for (auto v : d.surface.triangle[t])
                if (std::abs(d.atVertex[v]) > limit && d.ofFace[d.faceOf[t]] > limit)
                    note(d.faceOf[t], d.surface.position[v], std::abs(d.atVertex[v]));
        for (std::size_t v = 0; v < d.back.size(); ++v)
            if (d.backFace[v] >= 0) note(d.backFace[v], body_.target->mesh().position[v], d.back[v]);
        for (const auto& plane : body_.symmetry) {  // the same place on each side
            const auto mirror = mirrorVertices(cage, plane, 0.02 * d.edge);
            const std::vector<double> own = worst;
            for (std::size_t v = 0; v < worst.size(); ++v)
                if (mirror[v] >= 0) worst[v] = std::max(worst[v], own[mirror[v]]);
        }
        std::vector<char> marked(cage.position.size(), 0);
        std::vector<double> around(cage.position.size(), 0);
        for (const Quad& q : cage.face)
            for (auto v : q)
                for (auto w : q)
                    if (w != v) around[v] = std::max(around[v], worst[w]);
        for (std::size_t v = 0; v < worst.size(); ++v) marked[v] = worst[v] > 0 && worst[v] >= around[v];
        return marked;
    }

    /// Takes a cage that keeps the distances, when it is the best so far.
    void consider(Candidate c, Measured m) {
        if (m.badness() <= 1 && c.score() < bestScore()) m = measure(c.cage, true);
        c.kink = m.kink;
        const bool within = m.badness() <= 1 && isRight(inspect(c.cage), *body_.target);
        const double b = m.badness();
        if (within ? c.score() >= bestScore() : best_.within || b >= leastBad_) return;
        if (!within) leastBad_ = b;
        best_.within = within;
        bestScore_ = c.score();
        best_.kink = m.kink;
        best_.irregular = c.irregular;
        best_.body = body_;
        AutomaticCage& a = best_.cage;
        a.cage = std::move(c.cage);
        a.deviation = std::move(m.deviation);
        a.folded = std::move(m.folded);
        a.report = inspect(a.cage);
        a.agrees = isRight(a.report, *body_.target);
        a.faceSize = c.size;
        a.tries = wraps_;
    }

    /// A first fit. @return root mean square over what is allowed
    double fitShort(Cage& cage) {
        fit(cage, 10, 0.1, 1e-3, 0.1, false);
        const CageDeviation d = deviationOf(cage, *body_.target, 3, progress_, false);
        return std::max(d.rms, d.backRms) / o_.rms;
    }
    void fitAndSplit(Candidate c) {
        say("Fitting cages");
        Measured m = fitLong(c.cage);
        consider(c, m);
        for (int round = 0; round < splitRounds; ++round) {
            if (m.largest <= 1 || m.rms > 1.15) break;
            const std::vector<char> marked = worstVertices(c.cage, m);
            const auto count = std::count(marked.begin(), marked.end(), 1);
            if (count == 0 || 8.0 * static_cast<double>(count) + c.score() >= bestScore()) break;
            splitAround(c.cage, marked, *body_.target, body_.symmetry);
            c.irregular = irregularVertices(c.cage);
            if (c.score() >= bestScore()) break;
            fit(c.cage, 10, 0.1, 1e-3, 0.02, false);
            m = fitLong(c.cage);
            consider(c, m);
        }
    }

    /// The size from which fits come near the distances.
    double coarsest() {
        double size = o_.firstSize;
        for (std::uint64_t step = 0; size > o_.leastSize; ++step) {
            bodyFor(size);
            say("Trying grids");
            const WrapReady ready(body_.value, *clearances_, wallShare * size, gapShare * size, openedShare * size);
            for (Candidate& c : wrapMany(size, 500 + step, 0, triesASize / 2, ready))
                if (fitShort(c.cage) <= promising) return size * coarseStep / fineStep / fineStep;
            size /= coarseStep;
        }
        return size;
    }

    /// @return whether a grid could still be better than the best so far
    bool trySize(double size, std::uint64_t draw) {
        bodyFor(size);
        say("Trying grids");
        const WrapReady ready(body_.value, *clearances_, wallShare * size, gapShare * size, openedShare * size);
        std::vector<Candidate> list = wrapMany(size, draw, 0, triesASize / 2, ready);
        if (leastOff_ <= nearlyRight && rightOfLast_ < triesASize / 4)
            for (Candidate& c : wrapMany(size, draw, triesASize / 2, triesASize, ready)) list.push_back(std::move(c));
        const bool any = !list.empty();
        for (Candidate& c : list) c.ratio = fitShort(c.cage);
        std::erase_if(list, [](const Candidate& c) { return c.ratio > hopeless || !foldedFaces(c.cage).empty(); });
        std::stable_sort(list.begin(), list.end(),
                         [](const Candidate& a, const Candidate& b) { return a.score() < b.score(); });
        int fittedHere = 0;
        for (Candidate& c : list) {
            if (c.score() >= bestScore() || (work_ >= o_.mostWork && fittedHere > 0)) break;
            ++fittedHere;
            fitAndSplit(std::move(c));
        }
        return any;
    }

    const std::function<WrapBody(double)>& bodyOf_;
    const FewestOptions& o_;
    Progress& progress_;
    WrapBody body_;
    double bodySize_ = 0;
    std::optional<Clearances> clearances_;
    FewestCage best_;
    double leastBad_ = 1e300, bestScore_ = 0, work_ = 0;
    int wraps_ = 0, leastOff_ = 0, rightOfLast_ = 0;
};

}  // namespace

int fineDivisions(const Cage& cage, const Target& target) {
    const auto& m = target.mesh();
    const double triangle = std::sqrt(2 * target.measures().area / static_cast<double>(m.triangle.size()));
    return std::clamp(static_cast<int>(std::ceil(meanEdge(cage) / triangle)), 5, 24);
}

int irregularVertices(const Cage& cage) {
    const Connectivity c(cage);
    int count = 0;
    for (const auto& edges : c.edgesOfVertex) count += !edges.empty() && edges.size() != 4;
    return count;
}

FewestCage fewestFaces(const std::function<WrapBody(double)>& bodyOf, const FewestOptions& options,
                       Progress& progress) {
    return Search(bodyOf, options, progress).run();
}

}  // namespace escultura::cage

#include "work_clock.hpp"

#include <algorithm>
#include <cmath>

namespace escultura::app {

double WorkClock::now() const {
    if (now_) return now_();
    return clock_.isValid() ? 1e-3 * static_cast<double>(clock_.elapsed()) : 0;
}

void WorkClock::begin(const QString& kind, double expected) {
    if (!clock_.isValid()) clock_.start();
    kind_ = kind;
    current_ = {0, expected, {}};
    runs_ = true;
    started_ = now();
}

void WorkClock::step(const QString& name, double share) {
    if (!runs_) return;
    auto& marks = current_.marks;
    if (marks.empty() || marks.back().step != name) marks.push_back({name, now() - started_, 0});
    marks.back().share = share;
}

void WorkClock::end(bool whole) {
    if (runs_ && whole) {
        current_.total = now() - started_;
        courses_[kind_] = current_;
    }
    runs_ = false;
}

double WorkClock::likely(const QString& kind, double expected) const {
    const auto last = courses_.find(kind);
    if (last == courses_.end()) return expected;
    const Course& c = last->second;
    // the forecast tells how much larger it is than the last one, that one how fast this machine is
    return expected > 0 && c.expected > 0 ? c.total * expected / c.expected : c.total;
}

std::optional<double> WorkClock::remaining() const {
    if (!runs_) return std::nullopt;
    const double elapsed = now() - started_, whole = likely(kind_, current_.expected);
    if (!(whole > 0)) return std::nullopt;
    double left = whole - elapsed;
    const auto last = courses_.find(kind_);
    if (last != courses_.end() && last->second.total > 0 && !current_.marks.empty()) {
        // where the last one was when it came to the same step, the same time over
        const auto& then = last->second.marks;
        const Mark& here = current_.marks.back();
        const auto times = std::count_if(current_.marks.begin(), current_.marks.end(),
                                         [&](const Mark& m) { return m.step == here.step; });
        std::ptrdiff_t seen = 0;
        for (std::size_t i = 0; i < then.size(); ++i) {
            if (then[i].step != here.step || ++seen != times) continue;
            const double end = i + 1 < then.size() ? then[i + 1].begun : last->second.total;
            const double done = (then[i].begun + here.share * (end - then[i].begun)) / last->second.total;
            left = (1 - done) * whole;
            // steps that are told only once go on meanwhile
            if (here.share <= 0)
                left -= std::min(elapsed - here.begun, whole * (end - then[i].begun) / last->second.total);
            break;
        }
    }
    return std::max(0.0, left);
}

QString timeWords(double seconds) {
    if (seconds < 1) return "about 1 s";
    if (seconds < 10) return QString("about %1 s").arg(std::lround(seconds));
    if (seconds < 90) return QString("about %1 s").arg(5 * std::lround(seconds / 5));
    if (seconds < 5400) return QString("about %1 min").arg(std::lround(seconds / 60));
    return QString("about %1 h").arg(seconds / 3600, 0, 'f', 1);
}

}  // namespace escultura::app

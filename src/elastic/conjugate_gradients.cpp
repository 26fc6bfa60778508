#include "elastic/conjugate_gradients.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <cstdio>
#include <span>

#include "base/parallel.hpp"

namespace escultura::elastic {
namespace {

using Four = Eigen::Array4d;

/// The iteration of one or up to four right-hand sides at once; vectors are laid out [row][component][vector].
class Iteration {
  public:
    /// @param right  [count][rows], count at most width
    Iteration(const System& system, const Preconditioner& preconditioner, const MeanProjection* means, int width,
              std::span<const std::vector<Vec3>> right)
        : system_(system),
          preconditioner_(preconditioner),
          means_(means),
          width_(width),
          count_(static_cast<int>(right.size())),
          values_(3 * system.rows()) {
        const std::size_t n = values_ * static_cast<std::size_t>(width);
        for (auto* v : {&u_, &r_, &p_, &q_}) v->assign(n, 0.0);
        for (auto* v : {&scaled_, &z_}) v->assign(n, 0.0f);
        for (int v = 0; v < count_; ++v)
            for (std::size_t i = 0; i < values_; ++i) r_[i * width_ + v] = right[v][i / 3][i % 3];
        if (means_) {
            step_.resize(n);
            means_->projectResidual(width_, r_);
        }
        size_ = dot(r_, r_).sqrt();
        norm_ = size_;
        active_ = (size_ > 0).cast<double>();
    }
    bool isActive() const { return (active_ > 0).any(); }

    /// One step. @param iterations  [count] set to `number` where it is not solved before
    void advance(int number, double tolerance, int* iterations) {
        precondition();
        turn(number > 1);
        multiply(system_.matrix(), width_, p_.data(), q_.data());
        if (means_) system_.subtractBed(width_, p_.data(), q_.data());
        pq_ = dot(p_, q_);
        const Four pr = dot(p_, r_);
        Four alpha = Four::Zero();
        for (int v = 0; v < width_; ++v)
            if (active_[v] > 0 && pq_[v] > 0) alpha[v] = pr[v] / pq_[v];
        parallelFor(
            values_,
            [&](std::size_t i) {
                for (int v = 0; v < width_; ++v) {
                    u_[i * width_ + v] += alpha[v] * p_[i * width_ + v];
                    r_[i * width_ + v] -= alpha[v] * q_[i * width_ + v];
                }
            },
            4096);
        if (means_) means_->projectResidual(width_, r_);
        norm_ = dot(r_, r_).sqrt();
        for (int v = 0; v < count_; ++v)
            if (active_[v] > 0) {
                iterations[v] = number;
                if (norm_[v] <= tolerance * size_[v]) active_[v] = 0;
            }
    }
    /// Relative residuals. [count]
    std::vector<float> residuals() const {
        std::vector<float> now(count_);
        for (int v = 0; v < count_; ++v) now[v] = size_[v] > 0 ? static_cast<float>(norm_[v] / size_[v]) : 0.0f;
        return now;
    }
    void take(int v, std::vector<Vec3>& x) const {
        for (std::size_t i = 0; i < values_; ++i) x[i / 3][i % 3] = u_[i * width_ + v];
    }

  private:
    template <class Left, class Right>
    Four dot(const Left& left, const Right& right) const {
        return orderedSum(values_, Four(Four::Zero()), [&](std::size_t i) {
            Four s = Four::Zero();
            for (int v = 0; v < width_; ++v)
                s[v] = static_cast<double>(left[i * width_ + v]) * static_cast<double>(right[i * width_ + v]);
            return s;
        });
    }
    void precondition() {
        parallelFor(
            values_,
            [&](std::size_t i) {
                for (int v = 0; v < width_; ++v)
                    scaled_[i * width_ + v] = active_[v] > 0 ? static_cast<float>(r_[i * width_ + v] / norm_[v]) : 0.0f;
            },
            4096);
        preconditioner_(width_, scaled_, z_);
        if (!means_) return;
        std::copy(z_.begin(), z_.end(), step_.begin());
        means_->projectStep(width_, step_);
    }
    /// The next direction: flexible (Polak and Ribiere), with r_new - r_old = -alpha A p: beta = -(z A p) / (p A p).
    void turn(bool hasLast) {
        Four beta = Four::Zero();
        if (hasLast) {
            const Four qz = (means_ ? dot(q_, step_) : dot(q_, z_)) * norm_;
            for (int v = 0; v < width_; ++v)
                if (active_[v] > 0) beta[v] = -qz[v] / pq_[v];
        }
        auto stepAt = [&](std::size_t i) { return means_ ? step_[i] : static_cast<double>(z_[i]); };
        parallelFor(
            values_,
            [&](std::size_t i) {
                for (int v = 0; v < width_; ++v)
                    p_[i * width_ + v] =
                        active_[v] * (norm_[v] * stepAt(i * width_ + v) + beta[v] * p_[i * width_ + v]);
            },
            4096);
    }

    const System& system_;
    const Preconditioner& preconditioner_;
    const MeanProjection* means_;
    int width_, count_;
    std::size_t values_;  // of one vector
    std::vector<double> u_, r_, p_, q_;
    std::vector<float> scaled_, z_;
    std::vector<double> step_;  // the preconditioned residual, where it is projected
    Four size_, norm_, pq_ = Four::Ones(), active_;
};

void report(int iteration, const std::vector<float>& residuals, double tolerance, Progress& progress) {
    double worst = 0;
    for (float r : residuals) worst = std::max<double>(worst, r);
    progress.record("residual", iteration, worst);
    const double share = worst > 0 ? std::clamp(std::log(worst) / std::log(tolerance), 0.0, 1.0) : 1.0;
    char text[64];
    std::snprintf(text, sizeof text, "Iteration %d, residual %.1e", iteration, worst);
    progress.step(text, share);
}

}  // namespace

IterationReport solveIteratively(const System& system, const Preconditioner& preconditioner,
                                 const MeanProjection* means, const std::vector<std::vector<Vec3>>& b,
                                 std::vector<std::vector<Vec3>>& x, double tolerance, int limit, Progress& progress) {
    IterationReport result;
    result.iterations.assign(b.size(), 0);
    x.assign(b.size(), std::vector<Vec3>(system.rows(), Vec3::Zero()));
    for (std::size_t first = 0; first < b.size();) {
        const int width = b.size() - first == 1 ? 1 : 4;  // vectors of a product; some may be empty
        const std::size_t count = std::min<std::size_t>(width, b.size() - first);
        Iteration group(system, preconditioner, means, width, std::span(b).subspan(first, count));
        auto record = [&](int iteration) {
            result.residual.push_back(group.residuals());
            report(iteration, result.residual.back(), tolerance, progress);
        };
        record(0);
        for (int iteration = 0; iteration < limit && group.isActive(); ++iteration) {
            group.advance(iteration + 1, tolerance, &result.iterations[first]);
            record(iteration + 1);
        }
        if (group.isActive()) result.converged = false;
        for (std::size_t v = 0; v < count; ++v) group.take(static_cast<int>(v), x[first + v]);
        first += count;
    }
    return result;
}

}  // namespace escultura::elastic

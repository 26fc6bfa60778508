#include "optimise/mma.hpp"

#include <algorithm>
#include <cmath>

namespace escultura::optimise {
namespace {

using Eigen::ArrayXd;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double violationCost = 1000;

/// One convex subproblem: sum of p/(high - x) + q/(x - low), the same in every constraint, minus b.
struct Subproblem {
    const ArrayXd &low, &high, &alpha, &beta, &p0, &q0;
    const MatrixXd &p, &q;  ///< [m][n]
    const VectorXd& b;

    ArrayXd solve() const;
};

/// The primal-dual interior point method of the subproblem (Svanberg 1987, 2007), after its variables: x, y, z, their
/// multipliers and slacks.
class InteriorPoint {
  public:
    explicit InteriorPoint(const Subproblem& problem)
        : low(problem.low),
          high(problem.high),
          alpha(problem.alpha),
          beta(problem.beta),
          p0(problem.p0),
          q0(problem.q0),
          p(problem.p),
          q(problem.q),
          b(problem.b),
          n(low.size()),
          m(b.size()) {}
    ArrayXd solve() {
        for (double epsilon = 1; epsilon > 1e-7; epsilon *= 0.1) {
            Residual r = residual(epsilon);
            for (int it = 0; r.largest > 0.9 * epsilon && it < 200; ++it) advance(epsilon, r);
        }
        return x;
    }

  private:
    struct Residual {
        ArrayXd rex, rexsi, reeta;
        VectorXd rey, relam, remu, res;
        double rez, rezet;
        double norm, largest;
    };
    /// A Newton step of all variables.
    struct Step {
        ArrayXd dx, dxsi, deta;
        VectorXd dy, dlam, dmu, ds;
        double dz, dzet;
    };
    Residual residual(double eps) const {
        Residual r;
        const ArrayXd ux = high - x, xl = x - low;
        const ArrayXd plam = p0 + (p.transpose() * lambda).array(), qlam = q0 + (q.transpose() * lambda).array();
        const VectorXd g = p * (1 / ux).matrix() + q * (1 / xl).matrix();
        r.rex = plam / (ux * ux) - qlam / (xl * xl) - xsi + eta;
        r.rey = c + d.cwiseProduct(y) - mu - lambda;
        r.rez = a0 - zet;
        r.relam = g - y + s - b;
        r.rexsi = xsi * (x - alpha) - eps;
        r.reeta = eta * (beta - x) - eps;
        r.remu = mu.cwiseProduct(y).array() - eps;
        r.rezet = zet * z - eps;
        r.res = lambda.cwiseProduct(s).array() - eps;
        r.norm = std::sqrt(r.rex.square().sum() + r.rey.squaredNorm() + r.rez * r.rez + r.relam.squaredNorm() +
                           r.rexsi.square().sum() + r.reeta.square().sum() + r.remu.squaredNorm() + r.rezet * r.rezet +
                           r.res.squaredNorm());
        r.largest = std::max({r.rex.abs().maxCoeff(), r.rey.cwiseAbs().maxCoeff(), std::abs(r.rez),
                              r.relam.cwiseAbs().maxCoeff(), r.rexsi.abs().maxCoeff(), r.reeta.abs().maxCoeff(),
                              r.remu.cwiseAbs().maxCoeff(), std::abs(r.rezet), r.res.cwiseAbs().maxCoeff()});
        return r;
    }
    Step newton(double epsilon) const {
        const ArrayXd ux = high - x, xl = x - low;
        const ArrayXd plam = p0 + (p.transpose() * lambda).array(), qlam = q0 + (q.transpose() * lambda).array();
        const VectorXd g = p * (1 / ux).matrix() + q * (1 / xl).matrix();
        MatrixXd gg(m, n);
        for (Eigen::Index i = 0; i < n; ++i) gg.col(i) = p.col(i) / (ux[i] * ux[i]) - q.col(i) / (xl[i] * xl[i]);
        const ArrayXd delx = plam / (ux * ux) - qlam / (xl * xl) - epsilon / (x - alpha) + epsilon / (beta - x);
        const VectorXd dely = c + d.cwiseProduct(y) - lambda - epsilon * y.cwiseInverse();
        const VectorXd dellam = g - y - b + epsilon * lambda.cwiseInverse();
        const ArrayXd diagx =
            2 * (plam / (ux * ux * ux) + qlam / (xl * xl * xl)) + xsi / (x - alpha) + eta / (beta - x);
        const VectorXd diagy = d + mu.cwiseQuotient(y);
        const VectorXd diaglamyi = s.cwiseQuotient(lambda) + diagy.cwiseInverse();
        // without a linear term of z it takes part by its own bound only
        MatrixXd a = gg * (1 / diagx).matrix().asDiagonal() * gg.transpose();
        a.diagonal() += diaglamyi;
        const VectorXd right = dellam + dely.cwiseQuotient(diagy) - gg * (delx / diagx).matrix();
        const VectorXd dlam = a.ldlt().solve(right);
        const double dz = (epsilon / z - a0) / (zet / z);
        const ArrayXd dx = -(delx + (gg.transpose() * dlam).array()) / diagx;
        const VectorXd dy = (dlam - dely).cwiseQuotient(diagy);
        const ArrayXd dxsi = -xsi + epsilon / (x - alpha) - xsi * dx / (x - alpha);
        const ArrayXd deta = -eta + epsilon / (beta - x) + eta * dx / (beta - x);
        const VectorXd dmu = (-mu.array() + epsilon / y.array() - mu.array() * dy.array() / y.array()).matrix();
        const double dzet = -zet + epsilon / z - zet * dz / z;
        const VectorXd ds =
            (-s.array() + epsilon / lambda.array() - s.array() * dlam.array() / lambda.array()).matrix();
        return {dx, dxsi, deta, dy, dlam, dmu, ds, dz, dzet};
    }
    /// Takes a step that keeps everything positive and brings the residual down. @param r  of before; that of after
    void advance(double epsilon, Residual& r) {
        const auto [dx, dxsi, deta, dy, dlam, dmu, ds, dz, dzet] = newton(epsilon);
        double most = 1;
        auto limit = [&](const auto& v, const auto& dv) {
            most = std::max(most, (-1.01 * dv.array() / v.array()).maxCoeff());
        };
        limit(y, dy);
        limit(lambda, dlam);
        limit(xsi, dxsi);
        limit(eta, deta);
        limit(mu, dmu);
        limit(s, ds);
        most = std::max({most, -1.01 * dz / z, -1.01 * dzet / zet, (-1.01 * dx / (x - alpha)).maxCoeff(),
                         (1.01 * dx / (beta - x)).maxCoeff()});
        double step = 1 / most;
        const ArrayXd x0 = x, xsi0 = xsi, eta0 = eta;
        const VectorXd y0 = y, lambda0 = lambda, mu0 = mu, s0 = s;
        const double z0 = z, zet0 = zet, norm0 = r.norm;
        for (int halving = 0; halving < 50; ++halving, step *= 0.5) {
            x = x0 + step * dx;
            y = y0 + step * dy;
            z = z0 + step * dz;
            lambda = lambda0 + step * dlam;
            xsi = xsi0 + step * dxsi;
            eta = eta0 + step * deta;
            mu = mu0 + step * dmu;
            zet = zet0 + step * dzet;
            s = s0 + step * ds;
            r = residual(epsilon);
            if (r.norm <= norm0) break;
        }
    }

    const ArrayXd &low, &high, &alpha, &beta, &p0, &q0;
    const MatrixXd &p, &q;
    const VectorXd& b;
    const Eigen::Index n, m;
    const double a0 = 1;
    const VectorXd c = VectorXd::Constant(m, violationCost), d = VectorXd::Ones(m);
    ArrayXd x = 0.5 * (alpha + beta);
    VectorXd y = VectorXd::Ones(m), lambda = VectorXd::Ones(m), s = VectorXd::Ones(m);
    ArrayXd xsi = (1 / (x - alpha)).max(1), eta = (1 / (beta - x)).max(1);
    VectorXd mu = VectorXd::Constant(m, std::max(1.0, 0.5 * violationCost));
    double z = 1, zet = 1;
};

ArrayXd Subproblem::solve() const {
    return InteriorPoint(*this).solve();
}

}  // namespace

ArrayXd MovingAsymptotes::step(const ArrayXd& x, const ArrayXd& gradient, const VectorXd& f, const MatrixXd& jacobian) {
    const Eigen::Index n = x.size(), m = f.size();
    if (steps_ < 2 || low_.size() != n) {
        low_ = x - 0.5;
        high_ = x + 0.5;
    } else {
        const ArrayXd turn = (x - last_) * (last_ - beforeLast_);
        const ArrayXd factor =
            (turn > 0).select(ArrayXd::Constant(n, 1.2), (turn < 0).select(ArrayXd::Constant(n, 0.7), 1.0));
        low_ = x - factor * (last_ - low_);
        high_ = x + factor * (high_ - last_);
        low_ = low_.max(x - 10).min(x - 0.01);
        high_ = high_.min(x + 10).max(x + 0.01);
    }
    const ArrayXd alpha = (low_ + 0.1 * (x - low_)).max(x - move_).max(0);
    const ArrayXd beta = (high_ - 0.1 * (high_ - x)).min(x + move_).min(1);
    const ArrayXd ux = high_ - x, xl = x - low_;
    constexpr double least = 1e-5;
    auto split = [&](const ArrayXd& g, ArrayXd& p, ArrayXd& q) {
        const ArrayXd up = g.max(0), down = (-g).max(0), more = 0.001 * (up + down) + least;
        p = (up + more) * ux * ux;
        q = (down + more) * xl * xl;
    };
    ArrayXd p0, q0, pi, qi;
    split(gradient, p0, q0);
    MatrixXd p(m, n), q(m, n);
    for (Eigen::Index i = 0; i < m; ++i) {
        split(jacobian.row(i).transpose().array(), pi, qi);
        p.row(i) = pi.matrix().transpose();
        q.row(i) = qi.matrix().transpose();
    }
    const VectorXd b = p * (1 / ux).matrix() + q * (1 / xl).matrix() - f;
    // a variable without room stays where it is
    const ArrayXd room = (beta - alpha).max(1e-9);
    const ArrayXd top = alpha + room;
    const ArrayXd next = Subproblem{low_, high_, alpha, top, p0, q0, p, q, b}.solve();
    beforeLast_ = steps_ > 0 ? last_ : x;
    last_ = x;
    ++steps_;
    return next.max(0).min(1);
}

}  // namespace escultura::optimise

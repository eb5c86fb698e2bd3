// Least squares, and what to do about outliers in it: the one place for both.
//
// `robust_fit` serves whatever is linear in few parameters (planes, gradients). Where an iteration of another kind
// needs only the weights, bisquare_weight and huber_weight give them.
#pragma once

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <vector>

namespace kasane {

/// Where Tukey's bisquare gives up a residual, in units of sigma: 95 % efficient for normal errors.
inline constexpr double kBisquareTuning = 4.685;

/// Tukey's bisquare (A. Beaton and J. Tukey, Technometrics 16, 1974) of a residual in units of where it is given up;
/// `outlier` from there on.
inline double bisquare_weight(double r, double outlier) {
    return r < 1 ? (1 - r * r) * (1 - r * r) : outlier;
}

/// Huber's weight (P. Huber, Ann. Math. Stat. 35, 1964): 1 up to `limit`, from there falling with the residual.
inline double huber_weight(double residual, double limit) {
    return std::min(1.0, limit / std::max(1e-9, std::abs(residual)));
}

/// One equation of a linear fit: `value` is `row` times the parameters, known as well as `weight` (1 / variance) says.
template <int Parameters>
struct Equation {
    Eigen::Matrix<double, Parameters, 1> row;
    double value = 0, weight = 1;
};

/// How outliers lose their say.
enum class Loss {
    bisquare, ///< gradually, by Tukey's bisquare at 4.685 sigma, sigma by the residuals' MAD about zero
    clip,     ///< wholly beyond 2.5 sigma from the residuals' median
};

struct RobustOptions {
    Loss loss = Loss::bisquare;
    int rounds = 6;
};

/// Parameters that fit all equations best, each with its own say: `share` holds one a equation, or is empty. NaN where
/// the equations do not determine them.
template <int Parameters>
Eigen::Matrix<double, Parameters, 1> least_squares(const std::vector<Equation<Parameters>>& equations,
                                                   const std::vector<double>& share = {}) {
    Eigen::Matrix<double, Parameters, Parameters> m = Eigen::Matrix<double, Parameters, Parameters>::Zero();
    Eigen::Matrix<double, Parameters, 1> v = Eigen::Matrix<double, Parameters, 1>::Zero();
    for (std::size_t i = 0; i < equations.size(); ++i) {
        const Equation<Parameters>& e = equations[i];
        const double weight = share.empty() ? e.weight : share[i] * e.weight;
        m += weight * e.row * e.row.transpose();
        v += weight * e.row * e.value;
    }
    const Eigen::LDLT<Eigen::Matrix<double, Parameters, Parameters>> solver(m);
    constexpr double kLeastCondition = 1e-13;
    if (!(solver.vectorD().minCoeff() > kLeastCondition * solver.vectorD().maxCoeff()))
        return Eigen::Matrix<double, Parameters, 1>::Constant(std::nan(""));
    return solver.solve(v);
}

namespace detail {

/// What each equation has to say, from the residuals in units of their errors.
inline void reweigh(Loss loss, const std::vector<float>& residuals, std::vector<double>& share) {
    constexpr double kLeastScale = 1e-6, kOutlier = 1e-6;
    std::vector<float> sorted = residuals;
    if (loss == Loss::clip) {
        constexpr float kLimit = 2.5f;
        const float centre = median_in_place(sorted), sigma = mad_sigma_in_place(sorted, centre);
        for (std::size_t i = 0; i < share.size(); ++i)
            share[i] = std::abs(residuals[i] - centre) <= kLimit * sigma + static_cast<float>(kLeastScale) ? 1 : 0;
        return;
    }
    for (float& r : sorted)
        r = std::abs(r);
    const double scale = kBisquareTuning * std::max(kLeastScale, kSigmaPerMad * median_in_place(sorted));
    for (std::size_t i = 0; i < share.size(); ++i)
        share[i] = bisquare_weight(std::abs(residuals[i]) / scale, kOutlier);
}

} // namespace detail

/// Parameters that fit most of the equations: iteratively reweighted least squares (P. Holland and R. Welsch, Comm.
/// Stat. A6, 1977). Zero without equations, NaN where they do not determine the parameters.
template <int Parameters>
Eigen::Matrix<double, Parameters, 1> robust_fit(const std::vector<Equation<Parameters>>& equations,
                                                const RobustOptions& options = {}) {
    Eigen::Matrix<double, Parameters, 1> fit = Eigen::Matrix<double, Parameters, 1>::Zero();
    std::vector<double> share(equations.size(), 1);
    std::vector<float> residuals(equations.size());
    for (int round = 0; round < options.rounds && !equations.empty(); ++round) {
        const Eigen::Matrix<double, Parameters, 1> next = least_squares(equations, share);
        if (round > 0 && !next.allFinite()) break; // too much was clipped: the round before stands
        fit = next;
        for (std::size_t i = 0; i < equations.size(); ++i)
            residuals[i] =
                static_cast<float>((equations[i].value - equations[i].row.dot(fit)) * std::sqrt(equations[i].weight));
        detail::reweigh(options.loss, residuals, share);
    }
    return fit;
}

} // namespace kasane

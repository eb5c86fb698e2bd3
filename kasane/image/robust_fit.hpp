// Least squares with outliers.
#pragma once

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <vector>

namespace kasane {

/// One equation of a linear fit: `value` is `row` times the parameters, known as well as `weight` (1 / variance) says.
template <int Parameters>
struct Equation {
    Eigen::Matrix<double, Parameters, 1> row;
    double value = 0, weight = 1;
};

/// Parameters that fit most of the equations: iteratively reweighted least squares with Tukey's bisquare at 4.685
/// sigma, sigma by the residuals' MAD (P. Holland and R. Welsch, Comm. Stat. A6, 1977). Zero without equations.
template <int Parameters>
Eigen::Matrix<double, Parameters, 1> robust_fit(const std::vector<Equation<Parameters>>& equations, int rounds = 6) {
    using Vector = Eigen::Matrix<double, Parameters, 1>;
    constexpr double kTuning = 4.685, kLeastScale = 1e-6, kOutlier = 1e-6;
    Vector fit = Vector::Zero();
    std::vector<double> soft(equations.size(), 1);
    std::vector<float> residuals(equations.size()), sorted;
    for (int round = 0; round < rounds && !equations.empty(); ++round) {
        Eigen::Matrix<double, Parameters, Parameters> m = Eigen::Matrix<double, Parameters, Parameters>::Zero();
        Vector v = Vector::Zero();
        for (std::size_t i = 0; i < equations.size(); ++i) {
            const auto& e = equations[i];
            m += soft[i] * e.weight * e.row * e.row.transpose();
            v += soft[i] * e.weight * e.row * e.value;
        }
        fit = m.ldlt().solve(v);
        for (std::size_t i = 0; i < equations.size(); ++i)
            residuals[i] = static_cast<float>(std::abs(equations[i].value - equations[i].row.dot(fit)) *
                                              std::sqrt(equations[i].weight));
        sorted = residuals;
        const double scale = kTuning * std::max(kLeastScale, kSigmaPerMad * median_in_place(sorted));
        for (std::size_t i = 0; i < equations.size(); ++i) {
            const double r = residuals[i] / scale;
            soft[i] = r < 1 ? (1 - r * r) * (1 - r * r) : kOutlier;
        }
    }
    return fit;
}

} // namespace kasane

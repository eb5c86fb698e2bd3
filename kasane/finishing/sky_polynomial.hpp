// Polynomials over a field through places of sky.
#pragma once

#include <kasane/finishing/gradient.hpp>

#include <Eigen/Dense>
#include <functional>
#include <vector>

namespace kasane {

/// A value at every place of a field, pixels.
using Surface = std::function<double(double x, double y)>;

/// Terms of x^i y^j, i + j up to a degree, as products of Legendre polynomials over the field.
class SkyPolynomial {
public:
    SkyPolynomial(int degree, int width, int height) : degree_(degree), width_(width), height_(height) {}
    static int terms(int degree) { return (degree + 1) * (degree + 2) / 2; }
    int terms() const { return terms(degree_); }
    /// Of one place.
    Eigen::VectorXd row(double x, double y) const;

private:
    std::vector<double> legendre(double t) const;
    int degree_, width_, height_;
};

/// Spots as equations of a polynomial, and what solves them.
class SkyPolynomialFit {
public:
    SkyPolynomialFit(int degree, const std::vector<SkySpot>& spots, int width, int height);
    int terms() const { return polynomial_.terms(); }
    /// Weighted least squares: a weight a spot.
    Eigen::VectorXd solve(const Eigen::VectorXd& weights) const;
    /// Through as many spots as there are terms; NaN where those do not determine it.
    Eigen::VectorXd through(const std::vector<Eigen::Index>& few) const;
    double residual(Eigen::Index spot, const Eigen::VectorXd& coefficients) const {
        return values_[spot] - rows_.row(spot).dot(coefficients);
    }
    Eigen::VectorXd residuals(const Eigen::VectorXd& coefficients) const { return values_ - rows_ * coefficients; }
    Surface surface(const Eigen::VectorXd& coefficients) const;

private:
    SkyPolynomial polynomial_;
    Eigen::MatrixXd rows_;
    Eigen::VectorXd values_;
};

} // namespace kasane

#include <kasane/finishing/sky_polynomial.hpp>

#include <kasane/base/units.hpp>

namespace kasane {

Eigen::VectorXd SkyPolynomial::row(double x, double y) const {
    const std::vector<double> across = legendre(2 * (x + 0.5) / width_ - 1),
                              down = legendre(2 * (y + 0.5) / height_ - 1);
    Eigen::VectorXd out(terms());
    Eigen::Index k = 0;
    for (int i = 0; i <= degree_; ++i)
        for (int j = 0; i + j <= degree_; ++j)
            out[k++] = across[static_cast<std::size_t>(i)] * down[static_cast<std::size_t>(j)];
    return out;
}

std::vector<double> SkyPolynomial::legendre(double t) const {
    std::vector<double> p{1, t};
    for (int n = 1; n < degree_; ++n)
        p.push_back(((2 * n + 1) * t * p[static_cast<std::size_t>(n)] - n * p[static_cast<std::size_t>(n) - 1]) /
                    (n + 1));
    return p;
}

SkyPolynomialFit::SkyPolynomialFit(int degree, const std::vector<SkySpot>& spots, int width, int height)
    : polynomial_(degree, width, height),
      rows_(static_cast<Eigen::Index>(spots.size()), static_cast<Eigen::Index>(polynomial_.terms())),
      values_(static_cast<Eigen::Index>(spots.size())) {
    for (Eigen::Index k = 0; k < rows_.rows(); ++k) {
        const SkySpot& s = spots[static_cast<std::size_t>(k)];
        rows_.row(k) = polynomial_.row(s.x, s.y).transpose();
        values_[k] = s.value;
    }
}

Eigen::VectorXd SkyPolynomialFit::solve(const Eigen::VectorXd& weights) const {
    const Eigen::MatrixXd weighed = weights.asDiagonal() * rows_;
    Eigen::MatrixXd normal = rows_.transpose() * weighed;
    normal.diagonal().array() += 1e-9 * normal.trace() / static_cast<double>(terms()); // where nothing is seen
    return normal.ldlt().solve(weighed.transpose() * values_);
}

Eigen::VectorXd SkyPolynomialFit::through(const std::vector<Eigen::Index>& few) const {
    Eigen::MatrixXd rows(static_cast<Eigen::Index>(few.size()), rows_.cols());
    Eigen::VectorXd values(static_cast<Eigen::Index>(few.size()));
    for (std::size_t i = 0; i < few.size(); ++i) {
        rows.row(static_cast<Eigen::Index>(i)) = rows_.row(few[i]);
        values[static_cast<Eigen::Index>(i)] = values_[few[i]];
    }
    const Eigen::ColPivHouseholderQR<Eigen::MatrixXd> solver(rows);
    if (solver.rank() < rows_.cols()) return Eigen::VectorXd::Constant(rows_.cols(), kNoData);
    return solver.solve(values);
}

Surface SkyPolynomialFit::surface(const Eigen::VectorXd& coefficients) const {
    return [p = polynomial_, c = coefficients](double x, double y) { return p.row(x, y).dot(c); };
}

} // namespace kasane

#include <kasane/normalization/fixed_point.hpp>

#include <Eigen/Dense>
#include <cmath>
#include <numeric>

namespace kasane {

namespace {

std::vector<double> difference(const std::vector<double>& a, const std::vector<double>& b) {
    std::vector<double> out(a.size());
    for (std::size_t i = 0; i < a.size(); ++i)
        out[i] = a[i] - b[i];
    return out;
}

double product(const std::vector<double>& a, const std::vector<double>& b) {
    return std::inner_product(a.begin(), a.end(), b.begin(), 0.0);
}

} // namespace

std::vector<double> FixedPoint::next(const std::vector<double>& point, const std::vector<double>& made) {
    const std::vector<double> change = difference(made, point);
    constexpr double kWorse = 4; // of the square
    if (change_.size() != change.size() || product(change, change) > kWorse * product(change_, change_)) {
        pairs_.clear();
    } else {
        pairs_.push_back({difference(change, change_), difference(made, made_)});
        if (pairs_.size() > memory_) pairs_.pop_front();
    }
    change_ = change;
    made_ = made;
    const auto n = static_cast<Eigen::Index>(pairs_.size());
    if (n == 0) return made;
    Eigen::MatrixXd normal(n, n);
    Eigen::VectorXd right(n);
    for (Eigen::Index i = 0; i < n; ++i) {
        const auto& a = pairs_[static_cast<std::size_t>(i)].change;
        for (Eigen::Index j = 0; j <= i; ++j)
            normal(i, j) = normal(j, i) = product(a, pairs_[static_cast<std::size_t>(j)].change);
        right(i) = product(a, change);
    }
    constexpr double kHeld = 1e-9; // of the largest: rounds that changed alike
    normal.diagonal().array() += kHeld * normal.diagonal().maxCoeff();
    const Eigen::VectorXd share = normal.ldlt().solve(right);
    if (!share.allFinite()) return made;
    std::vector<double> out = made;
    for (Eigen::Index i = 0; i < n; ++i)
        for (std::size_t k = 0; k < out.size(); ++k)
            out[k] -= share(i) * pairs_[static_cast<std::size_t>(i)].made[k];
    return out;
}

} // namespace kasane

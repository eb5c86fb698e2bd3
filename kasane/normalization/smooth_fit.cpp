#include <kasane/normalization/smooth_fit.hpp>

#include <kasane/image/robust_fit.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <optional>

namespace kasane {

SmoothMap fit_constant(const std::vector<LevelSample>& samples) {
    std::vector<Equation<1>> equations;
    for (const LevelSample& s : samples)
        equations.push_back({Eigen::Matrix<double, 1, 1>(1.0), s.value});
    return {robust_fit(equations)[0], 0, 0, {}};
}

SmoothMap fit_plane(const std::vector<LevelSample>& samples, const Canvas& canvas) {
    constexpr std::size_t kLeast = 12; // fewer carry a constant only
    if (samples.size() < kLeast) return fit_constant(samples);
    const auto [cx, cy] = canvas.centre();
    const double half = std::max({1.0, cx, cy});
    std::vector<Equation<3>> equations;
    for (const LevelSample& s : samples)
        equations.push_back({{1, (s.x - cx) / half, (s.y - cy) / half}, s.value});
    const Eigen::Vector3d plane = robust_fit(equations);
    if (!plane.allFinite()) return fit_constant(samples); // all in a line
    return {plane[0], plane[1] / half, plane[2] / half, {}};
}

/// Normal equations of the lattice's coefficients, and what is needed to judge a fit.
struct SmoothFit::Equations {
    Eigen::MatrixXd normal, penalty;
    Eigen::VectorXd right;
    double squares = 0, count = 0; ///< of what the plane leaves
};

SmoothFit::SmoothFit(const Canvas& canvas, double spacing)
    : canvas_(canvas),
      empty_(Lattice::over(canvas, std::max({2 * spacing, std::max(canvas.width, canvas.height) / 12.0, 1.0}))) {}

namespace {

double on_plane(const SmoothMap& plane, const Canvas& canvas, const LevelSample& s) {
    const auto [cx, cy] = canvas.centre();
    return plane.value + plane.slope_x * (s.x - cx) + plane.slope_y * (s.y - cy);
}

/// The sixteen coefficients around a place, and what each has to say there.
struct Local {
    std::array<int, 16> index;
    std::array<double, 16> weight;
};

Local around(const Lattice& lattice, double x, double y) {
    const LatticeBasis bx = lattice.basis_at(x, lattice.columns), by = lattice.basis_at(y, lattice.rows);
    Local l;
    for (std::size_t b = 0; b < 4; ++b)
        for (std::size_t a = 0; a < 4; ++a) {
            l.index[4 * b + a] = (by.first + static_cast<int>(b)) * lattice.columns + bx.first + static_cast<int>(a);
            l.weight[4 * b + a] = bx.weights[a] * by.weights[b];
        }
    return l;
}

/// Sum of the squared differences, of second or third order, of the coefficients along rows and columns.
Eigen::MatrixXd bending(const Lattice& lattice, int order) {
    const int n = lattice.columns * lattice.rows;
    Eigen::MatrixXd p = Eigen::MatrixXd::Zero(n, n);
    constexpr std::array<double, 4> kSecond = {1, -2, 1, 0}, kThird = {1, -3, 3, -1};
    const std::array<double, 4>& difference = order == 2 ? kSecond : kThird;
    const auto add = [&](int first, int step) {
        for (int a = 0; a <= order; ++a)
            for (int b = 0; b <= order; ++b)
                p(first + a * step, first + b * step) +=
                    difference[static_cast<std::size_t>(a)] * difference[static_cast<std::size_t>(b)];
    };
    for (int j = 0; j < lattice.rows; ++j)
        for (int i = 0; i < lattice.columns; ++i) {
            const int at = j * lattice.columns + i;
            if (i + order < lattice.columns) add(at, 1);
            if (j + order < lattice.rows) add(at, lattice.columns);
        }
    return p;
}

/// What of the lattice is a plane belongs to the plane: a little of everything is taken off, so that the solution is
/// one.
constexpr double kRidge = 1e-7;

} // namespace

SmoothFit::Equations SmoothFit::equations(const std::vector<LevelSample>& samples, const SmoothMap& plane,
                                          const std::vector<double>& share, int order) const {
    const int n = empty_.columns * empty_.rows;
    Equations e{Eigen::MatrixXd::Zero(n, n), bending(empty_, order), Eigen::VectorXd::Zero(n), 0, 0};
    for (std::size_t k = 0; k < samples.size(); ++k) {
        const LevelSample& s = samples[k];
        const double left = s.value - on_plane(plane, canvas_, s), w = s.weight * (share.empty() ? 1 : share[k]);
        const Local l = around(empty_, s.x, s.y);
        for (std::size_t a = 0; a < 16; ++a) {
            const double wa = w * l.weight[a];
            e.right[l.index[a]] += wa * left;
            for (std::size_t b = 0; b < 16; ++b)
                e.normal(l.index[a], l.index[b]) += wa * l.weight[b];
        }
        e.squares += w * left * left;
        e.count += share.empty() ? 1 : share[k];
    }
    const double unit = e.normal.trace() / std::max(1e-30, e.penalty.trace());
    e.penalty *= unit;
    e.penalty.diagonal().array() += kRidge * e.normal.trace() / n;
    return e;
}

std::optional<SmoothMap> SmoothFit::solve(const SmoothMap& plane, const Equations& e, double penalty) const {
    const Eigen::LLT<Eigen::MatrixXd> solver(e.normal + penalty * e.penalty);
    if (solver.info() != Eigen::Success) return std::nullopt;
    const Eigen::VectorXd c = solver.solve(e.right);
    if (!c.allFinite()) return std::nullopt;
    SmoothMap map = plane;
    map.lattice = empty_;
    for (std::size_t i = 0; i < map.lattice.coefficients.size(); ++i)
        map.lattice.coefficients[i] = static_cast<float>(c[static_cast<Eigen::Index>(i)]);
    return map;
}

std::vector<float> SmoothFit::left_by(const SmoothMap& map, const std::vector<LevelSample>& samples) const {
    std::vector<float> out;
    for (const LevelSample& s : samples)
        out.push_back(static_cast<float>(s.value - on_plane(map, canvas_, s) -
                                         (map.lattice.empty() ? 0 : map.lattice.at(s.x, s.y))));
    return out;
}

/// Told from a map that follows whatever is smooth at all: against a stiff one a lamp's glow would be an outlier.
std::vector<double> SmoothFit::without_outliers(const std::vector<LevelSample>& samples, const SmoothMap& plane) const {
    std::vector<double> share(samples.size(), 1);
    constexpr double kFlexible = 1e-2;
    constexpr float kOutlier = 5; // sigma
    constexpr int kRounds = 3;
    for (int round = 0; round < kRounds; ++round) {
        const auto map = solve(plane, equations(samples, plane, share, 2), kFlexible);
        if (!map) break;
        std::vector<float> residuals = left_by(*map, samples);
        for (std::size_t k = 0; k < residuals.size(); ++k)
            residuals[k] *= static_cast<float>(std::sqrt(samples[k].weight));
        std::vector<float> sorted = residuals;
        const float centre = median_in_place(sorted), limit = kOutlier * mad_sigma_in_place(sorted, centre);
        for (std::size_t k = 0; k < residuals.size(); ++k)
            share[k] = std::abs(residuals[k] - centre) <= limit ? 1 : 0;
    }
    return share;
}

Smoothness SmoothFit::choose(const std::vector<LevelSample>& samples) const {
    constexpr std::size_t kLeast = 24;
    Smoothness best;
    if (samples.size() < kLeast) return best;
    const SmoothMap plane = fit_plane(samples, canvas_);
    const std::vector<double> share = without_outliers(samples, plane);
    double least = std::numeric_limits<double>::infinity();
    constexpr double kCost = 2.4; // of a parameter
    for (const int order : {2, 3}) {
        const Equations e = equations(samples, plane, share, order);
        for (const double penalty :
             {Smoothness::kStiff, 1e3, 3e2, 1e2, 3e1, 1e1, 3.0, 1.0, 0.3, 1e-1, 1e-2, 1e-3, 1e-4}) {
            const Eigen::LLT<Eigen::MatrixXd> solver(e.normal + penalty * e.penalty);
            if (solver.info() != Eigen::Success) continue;
            const Eigen::VectorXd c = solver.solve(e.right);
            const double parameters = solver.solve(e.normal).trace() + 3; // and the plane's
            const double squares = e.squares - 2 * c.dot(e.right) + c.dot(e.normal * c);
            const double free = 1 - kCost * parameters / e.count;
            if (free <= 0) continue;
            const double score = squares / (free * free);
            if (score < least) {
                least = score;
                best = {order, penalty};
            }
        }
    }
    return best;
}

SmoothMap SmoothFit::fit(const std::vector<LevelSample>& samples, const Smoothness& smoothness) const {
    const SmoothMap plane = fit_plane(samples, canvas_);
    if (smoothness.plane() || samples.empty()) return plane;
    return solve(plane, equations(samples, plane, without_outliers(samples, plane), smoothness.order),
                 smoothness.penalty)
        .value_or(plane);
}

} // namespace kasane

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
    Eigen::MatrixXd normal;
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

constexpr int kAround = 16; // coefficients have a say at a place

/// Sums over samples between the same coefficients: neighbours in a list mostly are, and a small matrix stays at hand.
class CellSums {
public:
    CellSums(const Lattice& lattice, Eigen::MatrixXd& normal, Eigen::VectorXd& right)
        : lattice_(lattice), normal_(normal), right_(right) {}
    void add(double x, double y, double weight, double left) {
        const LatticeBasis bx = lattice_.basis_at(x, lattice_.columns), by = lattice_.basis_at(y, lattice_.rows);
        if (bx.first != x_ || by.first != y_) {
            hand_over();
            x_ = bx.first, y_ = by.first;
        }
        Row say; // of the coefficients
        for (int b = 0; b < 4; ++b)
            for (int a = 0; a < 4; ++a)
                say[4 * b + a] = bx.weights[static_cast<std::size_t>(a)] * by.weights[static_cast<std::size_t>(b)];
        const Row weighed = weight * say;
        squares_.noalias() += weighed * say.transpose();
        sum_.noalias() += left * weighed;
        any_ = true;
    }
    void hand_over() {
        if (!any_) return;
        std::array<int, kAround> at;
        for (int k = 0; k < kAround; ++k)
            at[static_cast<std::size_t>(k)] = (y_ + k / 4) * lattice_.columns + x_ + k % 4;
        for (int a = 0; a < kAround; ++a) {
            right_[at[static_cast<std::size_t>(a)]] += sum_[a];
            for (int b = 0; b < kAround; ++b)
                normal_(at[static_cast<std::size_t>(b)], at[static_cast<std::size_t>(a)]) += squares_(b, a);
        }
        squares_.setZero();
        sum_.setZero();
        any_ = false;
    }

private:
    using Row = Eigen::Matrix<double, kAround, 1>;
    const Lattice& lattice_;
    Eigen::MatrixXd& normal_;
    Eigen::VectorXd& right_;
    Eigen::Matrix<double, kAround, kAround> squares_ = Eigen::Matrix<double, kAround, kAround>::Zero();
    Row sum_ = Row::Zero();
    int x_ = -1, y_ = -1; ///< the first of the coefficients
    bool any_ = false;
};

/// Sum of the squared differences, of second or third order, of the coefficients along rows and columns.
Eigen::MatrixXd differences(const Lattice& lattice, int order) {
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

/// What bends, in units of what the values weigh.
Eigen::MatrixXd bending(const Lattice& lattice, const Eigen::MatrixXd& normal, int order) {
    Eigen::MatrixXd p = differences(lattice, order);
    p *= normal.trace() / std::max(1e-30, p.trace());
    p.diagonal().array() += kRidge * normal.trace() / static_cast<double>(p.rows());
    return p;
}

/// How a fit goes with its penalty, for any penalty at once: the normal equations in coordinates where the penalty is
/// one and they themselves are tridiagonal, so that a fit takes no more than a few operations for each coefficient
/// (L. Elden, BIT 17, 1977).
class PenaltyPath {
public:
    /// Not sound where the penalty is not positive.
    PenaltyPath(const Eigen::MatrixXd& normal, const Eigen::VectorXd& right, const Eigen::MatrixXd& penalty) {
        const Eigen::LLT<Eigen::MatrixXd> root(penalty);
        sound_ = root.info() == Eigen::Success;
        if (!sound_) return;
        const auto lower = root.matrixL();
        Eigen::MatrixXd m = lower.solve(normal);
        m = lower.solve(m.transpose()).eval();
        const Eigen::Tridiagonalization<Eigen::MatrixXd> t(m);
        diagonal_ = t.diagonal();
        beside_ = t.subDiagonal();
        right_ = t.matrixQ().adjoint() * lower.solve(right);
        Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> values;
        values.computeFromTridiagonal(diagonal_, beside_, Eigen::EigenvaluesOnly);
        sound_ = values.info() == Eigen::Success;
        if (sound_) values_ = values.eigenvalues();
    }
    bool sound() const { return sound_; }
    /// How many parameters a fit with this penalty is worth: the trace of what brings values to fitted ones.
    double parameters(double penalty) const {
        double sum = 0;
        for (const double v : values_)
            if (v > 0) sum += v / (v + penalty);
        return sum;
    }
    /// By how much the sum of squares falls with that fit.
    double gain(double penalty) const {
        const auto n = diagonal_.size();
        Eigen::VectorXd d = diagonal_.array() + penalty, y = right_;
        for (Eigen::Index i = 1; i < n; ++i) {
            const double f = beside_[i - 1] / d[i - 1];
            d[i] -= f * beside_[i - 1];
            y[i] -= f * y[i - 1];
        }
        for (Eigen::Index i = n; i-- > 0;)
            y[i] = (y[i] - (i + 1 < n ? beside_[i] * y[i + 1] : 0)) / d[i];
        return y.dot(right_) + penalty * y.squaredNorm();
    }

private:
    Eigen::VectorXd diagonal_, beside_, right_, values_;
    bool sound_ = false;
};

} // namespace

SmoothFit::Equations SmoothFit::equations(const std::vector<LevelSample>& samples, const SmoothMap& plane,
                                          const std::vector<double>& share) const {
    const int n = empty_.columns * empty_.rows;
    Equations e{Eigen::MatrixXd::Zero(n, n), Eigen::VectorXd::Zero(n), 0, 0};
    CellSums sums(empty_, e.normal, e.right);
    for (std::size_t k = 0; k < samples.size(); ++k) {
        const LevelSample& s = samples[k];
        const double left = s.value - on_plane(plane, canvas_, s), w = s.weight * share[k];
        sums.add(s.x, s.y, w, left);
        e.squares += w * left * left;
        e.count += share[k];
    }
    sums.hand_over();
    return e;
}

std::optional<SmoothMap> SmoothFit::solve(const SmoothMap& plane, const Equations& e,
                                          const Smoothness& smoothness) const {
    const Eigen::LLT<Eigen::MatrixXd> solver(e.normal +
                                             smoothness.penalty * bending(empty_, e.normal, smoothness.order));
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
        const auto map = solve(plane, equations(samples, plane, share), {2, kFlexible});
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
    const Equations e = equations(samples, plane, share);
    for (const int order : {2, 3}) {
        const PenaltyPath path(e.normal, e.right, bending(empty_, e.normal, order));
        if (!path.sound()) continue;
        for (const double penalty :
             {Smoothness::kStiff, 1e3, 3e2, 1e2, 3e1, 1e1, 3.0, 1.0, 0.3, 1e-1, 1e-2, 1e-3, 1e-4}) {
            const double parameters = path.parameters(penalty) + 3; // and the plane's
            const double squares = e.squares - path.gain(penalty);
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
    return solve(plane, equations(samples, plane, without_outliers(samples, plane)), smoothness).value_or(plane);
}

} // namespace kasane

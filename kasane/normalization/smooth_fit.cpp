#include <kasane/normalization/smooth_fit.hpp>

#include <kasane/image/robust_fit.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <optional>
#include <utility>

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

SmoothFit::SmoothFit(const Canvas& canvas, double spacing)
    : canvas_(canvas),
      empty_(Lattice::over(canvas, std::max({2 * spacing, std::max(canvas.width, canvas.height) / 12.0, 1.0}))) {}

namespace {

double on_plane(const SmoothMap& plane, const Canvas& canvas, const LevelSample& s) {
    const auto [cx, cy] = canvas.centre();
    return plane.value + plane.slope_x * (s.x - cx) + plane.slope_y * (s.y - cy);
}

/// Normal equations of the lattice's coefficients, and what is needed to judge a fit.
struct Equations {
    Eigen::MatrixXd normal;
    Eigen::VectorXd right;
    double squares = 0, count = 0; ///< of what the plane leaves
};

/// A value, by the coefficients that have a say there.
struct Placed {
    LatticeBasis x, y;
    double left = 0; ///< by the plane
    double weight = 1;
};

/// Sums over samples between the same coefficients. Products of their weights along rows and along columns stand in for
/// those of all sixteen: ten of each, for who is multiplied by whom does not matter.
class CellSums {
public:
    CellSums(const Lattice& lattice, Equations& e) : lattice_(lattice), e_(e) {}
    /// As often as `share` says; what was added before may be taken off.
    void add(const Placed& p, double share) {
        if (p.x.first != x_ || p.y.first != y_) {
            hand_over();
            x_ = p.x.first, y_ = p.y.first;
        }
        const double weight = share * p.weight;
        squares_.noalias() += weight * products(p.x.weights) * products(p.y.weights).transpose();
        const Eigen::Map<const Eigen::Vector4d> along(p.x.weights.data()), across(p.y.weights.data());
        sum_.noalias() += weight * p.left * along * across.transpose();
        e_.squares += weight * p.left * p.left;
        e_.count += share;
        any_ = true;
    }
    void hand_over() {
        if (!any_) return;
        for (int b = 0; b < 4; ++b)
            for (int a = 0; a < 4; ++a) {
                e_.right[at(a, b)] += sum_(a, b);
                for (int d = 0; d < 4; ++d)
                    for (int c = 0; c < 4; ++c)
                        e_.normal(at(c, d), at(a, b)) += squares_(pair(a, c), pair(b, d));
            }
        squares_.setZero();
        sum_.setZero();
        any_ = false;
    }

private:
    static constexpr int kPairs = 10; // of four
    using Products = Eigen::Matrix<double, kPairs, 1>;
    static constexpr int pair(int a, int b) { return a < b ? pair(b, a) : a * (a + 1) / 2 + b; }
    static Products products(const std::array<double, 4>& w) {
        Products out;
        for (int a = 0; a < 4; ++a)
            for (int b = 0; b <= a; ++b)
                out[pair(a, b)] = w[static_cast<std::size_t>(a)] * w[static_cast<std::size_t>(b)];
        return out;
    }
    int at(int a, int b) const { return (y_ + b) * lattice_.columns + x_ + a; }

    const Lattice& lattice_;
    Equations& e_;
    Eigen::Matrix<double, kPairs, kPairs> squares_ = Eigen::Matrix<double, kPairs, kPairs>::Zero();
    Eigen::Matrix4d sum_ = Eigen::Matrix4d::Zero();
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

std::optional<Eigen::VectorXd> coefficients_of(const Equations& e, const Lattice& lattice,
                                               const Smoothness& smoothness) {
    const Eigen::LLT<Eigen::MatrixXd> solver(e.normal +
                                             smoothness.penalty * bending(lattice, e.normal, smoothness.order));
    if (solver.info() != Eigen::Success) return std::nullopt;
    Eigen::VectorXd c = solver.solve(e.right);
    if (!c.allFinite()) return std::nullopt;
    return c;
}

/// Values, cell by cell of the lattice so that a small matrix stays at hand while they are summed up.
std::vector<Placed> placed(const std::vector<LevelSample>& samples, const SmoothMap& plane, const Canvas& canvas,
                           const Lattice& lattice) {
    std::vector<Placed> out;
    out.reserve(samples.size());
    for (const LevelSample& s : samples)
        out.push_back({lattice.basis_at(s.x, lattice.columns), lattice.basis_at(s.y, lattice.rows),
                       s.value - on_plane(plane, canvas, s), s.weight});
    std::stable_sort(out.begin(), out.end(), [](const Placed& a, const Placed& b) {
        return std::pair(a.y.first, a.x.first) < std::pair(b.y.first, b.x.first);
    });
    return out;
}

/// What a surface leaves of the values, in units of their errors.
std::vector<float> left_by(const Eigen::VectorXd& coefficients, const Lattice& lattice,
                           const std::vector<Placed>& samples) {
    std::vector<float> out;
    out.reserve(samples.size());
    for (const Placed& p : samples) {
        double sum = 0;
        for (int b = 0; b < 4; ++b) {
            const double* c = coefficients.data() + (p.y.first + b) * lattice.columns + p.x.first;
            double line = 0;
            for (std::size_t a = 0; a < 4; ++a)
                line += p.x.weights[a] * c[a];
            sum += p.y.weights[static_cast<std::size_t>(b)] * line;
        }
        out.push_back(static_cast<float>((p.left - sum) * std::sqrt(p.weight)));
    }
    return out;
}

/// The equations of all that are no outliers, told from a map that follows whatever is smooth at all: against a stiff
/// one a lamp's glow would be an outlier.
Equations equations_without_outliers(const std::vector<Placed>& samples, const Lattice& lattice) {
    constexpr double kFlexible = 1e-2;
    constexpr float kOutlier = 5; // sigma
    constexpr int kRounds = 3;
    const int n = lattice.columns * lattice.rows;
    std::vector<char> counts(samples.size(), 1);
    const auto all_that_count = [&] {
        Equations e{Eigen::MatrixXd::Zero(n, n), Eigen::VectorXd::Zero(n), 0, 0};
        CellSums sums(lattice, e);
        for (std::size_t k = 0; k < samples.size(); ++k)
            if (counts[k]) sums.add(samples[k], 1);
        sums.hand_over();
        return e;
    };
    Equations e = all_that_count();
    for (int round = 0; round < kRounds; ++round) {
        const auto c = coefficients_of(e, lattice, {2, kFlexible});
        if (!c) break;
        const std::vector<float> residuals = left_by(*c, lattice, samples);
        std::vector<float> sorted = residuals;
        const float centre = median_in_place(sorted), limit = kOutlier * mad_sigma_in_place(sorted, centre);
        const double before = e.squares;
        bool changed = false;
        CellSums sums(lattice, e);
        for (std::size_t k = 0; k < samples.size(); ++k) {
            const char now = std::abs(residuals[k] - centre) <= limit ? 1 : 0;
            if (now == counts[k]) continue;
            sums.add(samples[k], now - counts[k]);
            counts[k] = now;
            changed = true;
        }
        if (!changed) break;
        sums.hand_over();
        constexpr double kLeft = 1e-6; // so little is left of what was taken off that its rounding would show
        if (!(e.squares > kLeft * before)) e = all_that_count();
    }
    return e;
}

} // namespace

Smoothness SmoothFit::choose(const std::vector<LevelSample>& samples) const {
    constexpr std::size_t kLeast = 24;
    Smoothness best;
    if (samples.size() < kLeast) return best;
    const SmoothMap plane = fit_plane(samples, canvas_);
    const Equations e = equations_without_outliers(placed(samples, plane, canvas_, empty_), empty_);
    double least = std::numeric_limits<double>::infinity();
    constexpr double kCost = 2.4; // of a parameter
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
    const Equations e = equations_without_outliers(placed(samples, plane, canvas_, empty_), empty_);
    const auto c = coefficients_of(e, empty_, smoothness);
    if (!c) return plane;
    SmoothMap map = plane;
    map.lattice = empty_;
    for (std::size_t i = 0; i < map.lattice.coefficients.size(); ++i)
        map.lattice.coefficients[i] = static_cast<float>((*c)[static_cast<Eigen::Index>(i)]);
    return map;
}

} // namespace kasane

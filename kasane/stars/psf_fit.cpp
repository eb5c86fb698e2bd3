#include <kasane/stars/psf_fit.hpp>

#include <kasane/base/units.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <limits>

namespace kasane {

double PsfFit::fwhm() const {
    return std::sqrt(fwhm_major * fwhm_minor);
}

double PsfFit::eccentricity() const {
    return std::sqrt(std::max(0.0, 1 - (fwhm_minor * fwhm_minor) / (fwhm_major * fwhm_major)));
}

namespace {

// Parameters: amplitude, x, y, the quadratic form (xx, xy, yy), background, gamma. The profile is written as
//   A (1 + gamma q)^(-1 / gamma),  q = xx dx^2 + 2 xy dx dy + yy dy^2,  beta = 1 / gamma,
// which goes over into a Gaussian, A exp(-q), as gamma goes to zero, so that width and exponent hardly depend on each
// other.
constexpr int kParameters = 8;
using Vector = Eigen::Matrix<double, kParameters, 1>;
using Matrix = Eigen::Matrix<double, kParameters, kParameters>;
constexpr double kLeastGamma = 0.02, kMostGamma = 0.9;

struct Normal {
    Matrix matrix = Matrix::Zero();
    Vector gradient = Vector::Zero();
    double chi2 = std::numeric_limits<double>::infinity();
};

constexpr int kMostPixels = 33 * 33;
using Pixels = Eigen::Array<float, Eigen::Dynamic, 1, 0, kMostPixels, 1>;

/// The pixels of one star. In float, relative to the starting point: their own noise is far greater than its rounding;
/// what is summed over them is kept in double.
class Problem {
public:
    Problem(View<const float> image, const Region& box, double x, double y, const PsfFitOptions& o)
        : options_(o), x_(kMostPixels), y_(kMostPixels), value_(kMostPixels) {
        Eigen::Index n = 0;
        for (int v = box.y; v < box.bottom(); ++v)
            for (int u = box.x; u < box.right(); ++u) {
                const float value = image(u, v);
                if (!std::isfinite(value) || (o.saturation > 0 && value >= o.saturation)) continue;
                x_[n] = static_cast<float>(u - x);
                y_[n] = static_cast<float>(v - y);
                value_[n++] = value;
            }
        for (Pixels* p : {&x_, &y_, &value_})
            p->conservativeResize(n);
        weight_ = Pixels::Constant(n, static_cast<float>(1 / (o.noise * o.noise)));
    }

    Eigen::Index pixels() const { return value_.size(); }

    /// From now on bright pixels count by the photon noise of `p`.
    void weigh_by(const Vector& p) {
        if (!draw(p)) return;
        weight_ = (static_cast<float>(options_.noise * options_.noise) +
                   model_.max(0.0f) / static_cast<float>(options_.electrons_per_adu))
                      .inverse();
    }

    /// Sum of squares alone; infinite where the model is not defined. Draws the model.
    double chi2(const Vector& p) {
        if (!draw(p)) return std::numeric_limits<double>::infinity();
        return (weight_ * (value_ - static_cast<float>(p[6]) - model_).square()).cast<double>().sum();
    }

    /// The normal equations at `p`, which must have been drawn last.
    Normal normal(const Vector& p, double chi2) {
        Normal n;
        const auto gamma = static_cast<float>(p[7]);
        const Pixels dx = x_ - static_cast<float>(p[1]), dy = y_ - static_cast<float>(p[2]);
        const Pixels slope = -model_ / base_; // by the form
        const Pixels residual = value_ - static_cast<float>(p[6]) - model_;
        Eigen::Matrix<float, Eigen::Dynamic, kParameters, 0, kMostPixels, kParameters> d(pixels(), kParameters);
        const auto xx = static_cast<float>(p[3]), xy = static_cast<float>(p[4]), yy = static_cast<float>(p[5]);
        d.col(0) = model_ / static_cast<float>(p[0]);
        d.col(1) = -2 * slope * (xx * dx + xy * dy);
        d.col(2) = -2 * slope * (xy * dx + yy * dy);
        d.col(3) = slope * dx.square();
        d.col(4) = 2 * slope * dx * dy;
        d.col(5) = slope * dy.square();
        d.col(6).setOnes();
        d.col(7) = model_ * (log_base_ - (base_ - 1) / base_) / (gamma * gamma);
        const auto weighed = (d.array().colwise() * weight_).matrix().eval();
        n.matrix = (d.transpose() * weighed).cast<double>();
        n.gradient = (weighed.transpose() * residual.matrix()).cast<double>();
        n.chi2 = chi2;
        return n;
    }

private:
    /// False where the model is not defined.
    bool draw(const Vector& p) {
        const auto gamma = static_cast<float>(p[7]);
        const Pixels dx = x_ - static_cast<float>(p[1]), dy = y_ - static_cast<float>(p[2]);
        base_ = 1 + gamma * (static_cast<float>(p[3]) * dx.square() + 2 * static_cast<float>(p[4]) * dx * dy +
                             static_cast<float>(p[5]) * dy.square());
        if (!(base_.minCoeff() > 0)) return false;
        log_base_ = base_.log();
        model_ = static_cast<float>(p[0]) * (log_base_ * (-1 / gamma)).exp();
        return true;
    }

    PsfFitOptions options_;
    Pixels x_, y_, value_, weight_;
    Pixels base_, log_base_, model_; ///< of the parameters that were drawn last
};

/// Levenberg-Marquardt from `p`; false if no step is possible at all.
bool minimise(Problem& problem, int iterations, Vector& p, Normal& now) {
    double damping = 1e-3;
    const double start = problem.chi2(p);
    if (!std::isfinite(start)) return false;
    now = problem.normal(p, start);
    for (int i = 0; i < iterations; ++i) {
        Matrix m = now.matrix;
        m.diagonal() *= 1 + damping;
        const Vector step = m.ldlt().solve(now.gradient);
        if (!step.allFinite()) return false;
        Vector trial = p + step;
        trial[7] = std::clamp(trial[7], kLeastGamma, kMostGamma);
        const bool possible = trial[3] > 0 && trial[5] > 0 && trial[3] * trial[5] > trial[4] * trial[4] && trial[0] > 0;
        const double chi2 = possible ? problem.chi2(trial) : std::numeric_limits<double>::infinity();
        if (chi2 <= now.chi2) {
            const bool converged = now.chi2 - chi2 < 1e-3 + 1e-5 * now.chi2; // a thirtieth of a sigma
            p = trial;
            now = problem.normal(p, chi2);
            if (converged) break;
            damping = std::max(1e-9, damping * 0.2);
        } else {
            damping *= 10;
            if (damping > 1e4) break;
        }
    }
    return true;
}

} // namespace

std::optional<PsfFit> fit_psf(View<const float> image, double x, double y, const PsfFitOptions& o) {
    const int reach = static_cast<int>(std::clamp(std::ceil(1.9 * o.start_fwhm + 1), 4.0, 16.0));
    const Region box = intersect({static_cast<int>(std::lround(x)) - reach, static_cast<int>(std::lround(y)) - reach,
                                  2 * reach + 1, 2 * reach + 1},
                                 image.bounds());
    if (box.width < reach || box.height < reach) return std::nullopt;
    Problem problem(image, box, x, y, o);
    if (problem.pixels() < 2 * kParameters) return std::nullopt;

    double edge = 0, peak = -std::numeric_limits<double>::infinity();
    int seen = 0;
    for (int i = box.x; i < box.right(); ++i)
        for (const int j : {box.y, box.bottom() - 1})
            if (const double v = image(i, j); std::isfinite(v)) {
                edge += v;
                ++seen;
            }
    edge /= std::max(1, seen);
    const int cx = static_cast<int>(std::lround(x)), cy = static_cast<int>(std::lround(y));
    if (const double v = image(cx, cy); std::isfinite(v)) {
        peak = v;
    } else { // another colour's pixel, or none: the highest beside it
        for (int j = std::max(0, cy - 1); j <= std::min(image.height - 1, cy + 1); ++j)
            for (int i = std::max(0, cx - 1); i <= std::min(image.width - 1, cx + 1); ++i)
                if (std::isfinite(image(i, j))) peak = std::max<double>(peak, image(i, j));
    }
    if (seen == 0 || !std::isfinite(peak)) return std::nullopt;
    constexpr double kStartGamma = 0.28;
    const double form = 4 * (std::exp2(kStartGamma) - 1) / kStartGamma / (o.start_fwhm * o.start_fwhm);
    Vector p;
    p << std::max(peak - edge, 0.5 * o.noise), 0, 0, form, 0, form, edge, kStartGamma;

    Normal now;
    if (!minimise(problem, o.iterations, p, now)) return std::nullopt;
    const double half_width = std::sqrt((std::exp2(p[7]) - 1) / p[7] / (0.5 * (p[3] + p[5])));
    const bool star_like = 2 * half_width < 2 * o.start_fwhm;
    if (o.electrons_per_adu > 0 && star_like) { // the photon noise of what is no star does not matter
        problem.weigh_by(p);
        if (!minimise(problem, o.iterations, p, now)) return std::nullopt;
    }
    const double gamma = p[7];
    const double mean = 0.5 * (p[3] + p[5]), half = std::hypot(0.5 * (p[3] - p[5]), p[4]);
    const double width = 2 * std::sqrt((std::exp2(gamma) - 1) / gamma);
    PsfFit fit{x + p[1], y + p[2],  p[0], p[6], width / std::sqrt(mean - half), width / std::sqrt(mean + half),
               0,        1 / gamma, 0,    0};
    // Pixels are integrals, the model is not: of narrow stars the fit comes out too narrow (the figure is from
    // simulated Gaussian and Moffat stars of 1.5 to 8 pixels, and leaves less than 1.5 %).
    constexpr double kNarrowed = 0.065;
    const double widening = 1 + kNarrowed / (fit.fwhm_major * fit.fwhm_minor);
    fit.fwhm_major *= widening;
    fit.fwhm_minor *= widening;
    // The long axis lies where the quadratic form is least; y runs down, angles are counter-clockwise as displayed.
    fit.angle = degrees(0.5 * std::atan2(p[4], 0.5 * (p[5] - p[3])));
    const Matrix covariance = now.matrix.ldlt().solve(Matrix::Identity());
    fit.position_sigma = std::sqrt(std::max(0.0, 0.5 * (covariance(1, 1) + covariance(2, 2))));
    // Of (yy - xx) / (xx + yy) and 2 xy / (xx + yy), by propagation.
    const double sum = p[3] + p[5];
    const double by_xx = -2 * p[5] / (sum * sum), by_yy = 2 * p[3] / (sum * sum), by_xy = 2 / sum;
    fit.distortion_sigma =
        std::sqrt(std::max(0.0, 0.5 * (by_xx * by_xx * covariance(3, 3) + by_yy * by_yy * covariance(5, 5) +
                                       2 * by_xx * by_yy * covariance(3, 5) + by_xy * by_xy * covariance(4, 4))));
    const bool inside = std::abs(fit.x - x) < 0.5 * reach && std::abs(fit.y - y) < 0.5 * reach;
    const bool believable = fit.fwhm_minor > 0.3 && fit.fwhm_major < 2.0 * reach && std::isfinite(fit.position_sigma);
    if (!inside || !believable) return std::nullopt;
    return fit;
}

} // namespace kasane

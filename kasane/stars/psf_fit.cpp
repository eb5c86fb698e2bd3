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
    Matrix matrix;
    Vector gradient;
    double chi2 = 0;
    int pixels = 0;
};

class Problem {
public:
    Problem(View<const float> image, const Region& box, const PsfFitOptions& o)
        : image_(image), box_(box), options_(o) {}

    /// The weights of the pixels stay as they are until this is called: then bright ones count by the photon noise of
    /// `p`.
    void weigh_by(const Vector& p) {
        if (options_.electrons_per_adu <= 0) return;
        weights_by_ = p;
        weighed_ = true;
    }

    Normal evaluate(const Vector& p) const {
        Normal n;
        n.matrix.setZero();
        n.gradient.setZero();
        const double gamma = p[7];
        const double read2 = options_.noise * options_.noise;
        Vector d;
        for (int y = box_.y; y < box_.bottom(); ++y)
            for (int x = box_.x; x < box_.right(); ++x) {
                const double value = image_(x, y);
                if (!std::isfinite(value) || (options_.saturation > 0 && value >= options_.saturation)) continue;
                const double dx = x - p[1], dy = y - p[2];
                const double q = p[3] * dx * dx + 2 * p[4] * dx * dy + p[5] * dy * dy, base = 1 + gamma * q;
                if (!(base > 0)) {
                    n.chi2 = std::numeric_limits<double>::infinity();
                    return n;
                }
                const double logb = std::log(base), power = std::exp(-logb / gamma), model = p[0] * power;
                double variance = read2;
                if (weighed_) {
                    const double wx = x - weights_by_[1], wy = y - weights_by_[2];
                    const double form =
                        weights_by_[3] * wx * wx + 2 * weights_by_[4] * wx * wy + weights_by_[5] * wy * wy;
                    variance += std::max(0.0, weights_by_[0]) *
                                std::pow(1 + weights_by_[7] * form, -1 / weights_by_[7]) / options_.electrons_per_adu;
                }
                const double weight = 1 / variance;
                const double residual = value - p[6] - model;
                n.chi2 += weight * residual * residual;
                ++n.pixels;
                const double slope = -model / base; // by q
                d << power, -slope * 2 * (p[3] * dx + p[4] * dy), -slope * 2 * (p[4] * dx + p[5] * dy), slope * dx * dx,
                    slope * 2 * dx * dy, slope * dy * dy, 1, model * (logb / gamma - q / base) / gamma;
                n.matrix.selfadjointView<Eigen::Lower>().rankUpdate(d, weight);
                n.gradient += weight * residual * d;
            }
        n.matrix = Matrix(n.matrix.selfadjointView<Eigen::Lower>());
        return n;
    }

private:
    View<const float> image_;
    Region box_;
    PsfFitOptions options_;
    Vector weights_by_ = Vector::Zero();
    bool weighed_ = false;
};

/// Levenberg-Marquardt from `p`; false if no step is possible at all.
bool minimise(const Problem& problem, int iterations, Vector& p, Normal& now) {
    double damping = 1e-3;
    now = problem.evaluate(p);
    if (!std::isfinite(now.chi2) || now.pixels < 2 * kParameters) return false;
    for (int i = 0; i < iterations; ++i) {
        Matrix m = now.matrix;
        m.diagonal() *= 1 + damping;
        const Vector step = m.ldlt().solve(now.gradient);
        if (!step.allFinite()) return false;
        Vector trial = p + step;
        trial[7] = std::clamp(trial[7], kLeastGamma, kMostGamma);
        const bool possible = trial[3] > 0 && trial[5] > 0 && trial[3] * trial[5] > trial[4] * trial[4] && trial[0] > 0;
        const Normal next = possible ? problem.evaluate(trial) : Normal{};
        if (possible && next.chi2 <= now.chi2) {
            const bool converged = now.chi2 - next.chi2 < 1e-4 + 1e-6 * now.chi2; // far below what noise can tell
            p = trial;
            now = next;
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
    Problem problem(image, box, o);

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
    p << peak - edge, x, y, form, 0, form, edge, kStartGamma;

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
    PsfFit fit{p[1], p[2],      p[0], p[6], width / std::sqrt(mean - half), width / std::sqrt(mean + half),
               0,    1 / gamma, 0,    0};
    // Pixels are integrals, the model is not: of narrow stars the fit comes out too narrow (the figure is from
    // simulated Gaussian and Moffat stars of 1.5 to 8 pixels, and leaves less than 1.5 %).
    constexpr double kNarrowed = 0.065;
    fit.fwhm_major *= 1 + kNarrowed / (fit.fwhm_major * fit.fwhm_minor);
    fit.fwhm_minor *= 1 + kNarrowed / (fit.fwhm_major * fit.fwhm_minor);
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

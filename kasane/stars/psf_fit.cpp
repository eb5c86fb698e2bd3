#include <kasane/stars/psf_fit.hpp>

#include <kasane/base/units.hpp>
#include <kasane/stars/psf_sums.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <array>
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

constexpr int kParameters = static_cast<int>(kPsfParameters);
using Vector = Eigen::Matrix<double, kParameters, 1>;
using Matrix = Eigen::Matrix<double, kParameters, kParameters>;
constexpr double kLeastGamma = 0.02, kMostGamma = 0.9;

constexpr std::size_t kMostPixels = (33 * 33 + kPsfBlock - 1) / kPsfBlock * kPsfBlock;

/// The pixels of one star, in a circle. In float, relative to the starting point: their own noise is far greater than
/// its rounding.
class Problem {
public:
    Problem(View<const float> image, const Region& box, double x, double y, double radius, const PsfFitOptions& o)
        : options_(o) {
        const auto usual = static_cast<float>(1 / (o.noise * o.noise));
        for (int v = box.y; v < box.bottom(); ++v)
            for (int u = box.x; u < box.right(); ++u) {
                const float value = image(u, v);
                const double dx = u - x, dy = v - y;
                if (dx * dx + dy * dy > radius * radius || !std::isfinite(value) ||
                    (o.saturation > 0 && value >= o.saturation))
                    continue;
                x_[pixels_] = static_cast<float>(dx);
                y_[pixels_] = static_cast<float>(dy);
                value_[pixels_] = value;
                weight_[pixels_++] = usual;
            }
        filled_ = pixels_;
        for (; filled_ % kPsfBlock != 0; ++filled_)
            x_[filled_] = y_[filled_] = value_[filled_] = weight_[filled_] = 0;
    }

    std::size_t pixels() const { return pixels_; }

    /// From now on bright pixels count by the photon noise of the model `p`.
    void weigh_by(const Vector& p) {
        const auto n = static_cast<Eigen::Index>(pixels_);
        using Row = Eigen::Array<float, Eigen::Dynamic, 1, 0, static_cast<int>(kMostPixels), 1>;
        const Eigen::Matrix<float, kParameters, 1> f = p.cast<float>();
        const Row dx = Eigen::Map<const Eigen::ArrayXf>(x_.data(), n) - f[1],
                  dy = Eigen::Map<const Eigen::ArrayXf>(y_.data(), n) - f[2];
        const Row q = f[3] * dx.square() + 2 * f[4] * dx * dy + f[5] * dy.square();
        const Row model = f[0] * ((1 + f[7] * q).log() / -f[7]).exp();
        Eigen::Map<Eigen::ArrayXf>(weight_.data(), n) = (static_cast<float>(options_.noise * options_.noise) +
                                                         model / static_cast<float>(options_.electrons_per_adu))
                                                            .inverse();
    }

    PsfSums at(const Vector& p) const {
        PsfParameters parameters;
        std::copy_n(p.data(), kPsfParameters, parameters.begin());
        return psf_sums({x_.data(), y_.data(), value_.data(), weight_.data(), filled_}, parameters);
    }

private:
    using Values = std::array<float, kMostPixels>;
    PsfFitOptions options_;
    Values x_, y_, value_, weight_; // NOLINT(cppcoreguidelines-pro-type-member-init): filled as far as they are read
    std::size_t pixels_ = 0, filled_ = 0;
};

Matrix matrix_of(const PsfSums& sums) {
    return Eigen::Map<const Matrix>(sums.matrix.front().data());
}

/// Levenberg-Marquardt from `p`, until a step gains less than `enough` and a hundred-thousandth; false if no step is
/// possible at all.
bool minimise(const Problem& problem, int iterations, double enough, Vector& p, PsfSums& now) {
    double damping = 1e-3;
    now = problem.at(p);
    if (!std::isfinite(now.chi2)) return false;
    for (int i = 0; i < iterations; ++i) {
        Matrix m = matrix_of(now);
        m.diagonal() *= 1 + damping;
        const Vector step = m.ldlt().solve(Eigen::Map<const Vector>(now.gradient.data()));
        if (!step.allFinite()) return false;
        Vector trial = p + step;
        trial[7] = std::clamp(trial[7], kLeastGamma, kMostGamma);
        const bool possible = trial[3] > 0 && trial[5] > 0 && trial[3] * trial[5] > trial[4] * trial[4] && trial[0] > 0;
        const PsfSums there = possible ? problem.at(trial) : PsfSums{.chi2 = std::numeric_limits<double>::infinity()};
        if (there.chi2 <= now.chi2) {
            const bool converged = now.chi2 - there.chi2 < enough + 1e-5 * now.chi2;
            p = trial;
            now = there;
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
    Problem problem(image, box, x, y, reach + 0.5, o);
    if (problem.pixels() < 2 * kPsfParameters) return std::nullopt;

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

    constexpr double kEnough = 1e-3;     // of chi-square: a thirtieth of a sigma
    constexpr double kEnoughToWeigh = 1; // where the photon noise of the model follows
    PsfSums now;
    if (!minimise(problem, o.iterations, o.electrons_per_adu > 0 ? kEnoughToWeigh : kEnough, p, now))
        return std::nullopt;
    const double half_width = std::sqrt((std::exp2(p[7]) - 1) / p[7] / (0.5 * (p[3] + p[5])));
    const bool star_like = 2 * half_width < 2 * o.start_fwhm;
    if (o.electrons_per_adu > 0 && star_like) { // the photon noise of what is no star does not matter
        problem.weigh_by(p);
        if (!minimise(problem, o.iterations, kEnough, p, now)) return std::nullopt;
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
    const Matrix covariance = matrix_of(now).ldlt().solve(Matrix::Identity());
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

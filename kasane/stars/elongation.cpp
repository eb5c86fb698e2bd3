#include <kasane/stars/elongation.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// Distortion (a^2 - b^2) / (a^2 + b^2) along and at 45 degrees to the rows: unlike eccentricity, its components have
/// no bias by noise.
struct Distortion {
    double along = 0, across = 0, variance = 0;
};

Distortion distortion_of(const PsfFit& fit) {
    const double a2 = fit.fwhm_major * fit.fwhm_major, b2 = fit.fwhm_minor * fit.fwhm_minor;
    const double size = (a2 - b2) / (a2 + b2), turn = 2 * radians(fit.angle);
    return {size * std::cos(turn), size * std::sin(turn), fit.distortion_sigma * fit.distortion_sigma};
}

} // namespace

void describe_elongation(const std::vector<const PsfFit*>& fits, StarList& list) {
    if (fits.empty()) return;
    constexpr double kOwn = 0.03; // of stars that noise leaves alone: they differ by so much anyway
    constexpr double kClip = 4;   // sigma; blends
    constexpr double kChance = 8; // of a chi-square with two degrees of freedom: one in fifty
    constexpr double kSignificant = 2.5;
    std::vector<Distortion> all;
    std::vector<float> along, across;
    for (const PsfFit* f : fits) {
        all.push_back(distortion_of(*f));
        along.push_back(static_cast<float>(all.back().along));
        across.push_back(static_cast<float>(all.back().across));
    }
    const float middle_along = median_in_place(along), middle_across = median_in_place(across);
    const double spread =
        std::hypot(mad_sigma_in_place(along, middle_along), mad_sigma_in_place(across, middle_across)) / std::sqrt(2.0);
    std::erase_if(all, [&](const Distortion& d) {
        return std::hypot(d.along - middle_along, d.across - middle_across) >
               kClip * std::sqrt(2 * (spread * spread + d.variance) + kOwn * kOwn);
    });
    if (all.empty()) return;
    double weights = 0, mean_along = 0, mean_across = 0;
    const auto weight = [&](const Distortion& d) { return 1 / (d.variance + kOwn * kOwn); };
    for (const Distortion& d : all) {
        weights += weight(d);
        mean_along += weight(d) * d.along;
        mean_across += weight(d) * d.across;
    }
    mean_along /= weights;
    mean_across /= weights;
    double mean_variance = 0, own2 = 0, own_error2 = 0; // variance of a component of the mean
    const auto excess = [&](const Distortion& d) {
        return std::pow(d.along - mean_along, 2) + std::pow(d.across - mean_across, 2) - 2 * d.variance;
    };
    for (const Distortion& d : all) {
        const double share = weight(d) / weights;
        mean_variance += share * share * std::max(d.variance, 0.5 * (excess(d) + 2 * d.variance));
        own2 += share * excess(d);
    }
    for (const Distortion& d : all)
        own_error2 += std::pow(weight(d) / weights * (excess(d) - own2), 2);
    const double square = mean_along * mean_along + mean_across * mean_across;
    const double common2 = square > kChance * mean_variance ? square - 2 * mean_variance : 0;
    if (own2 < kSignificant * std::sqrt(own_error2)) own2 = 0;
    const double size = std::min(0.999, std::sqrt(common2 + own2));
    list.eccentricity = std::sqrt(2 * size / (1 + size));
    list.angle = degrees(0.5 * std::atan2(mean_across, mean_along));
    list.alignment = size > 0 ? std::min(1.0, std::sqrt(common2) / size) : 0;
}

} // namespace kasane

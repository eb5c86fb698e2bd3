#include <kasane/integration/noise_covariance.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <vector>

namespace kasane {

NoiseCovariance::NoiseCovariance(int reach)
    : reach_(std::clamp(reach, 0, kMostReach)), side_(2 * reach_ + 1),
      products_(static_cast<std::size_t>(side_) * static_cast<std::size_t>(side_)), counts_(products_.size()),
      of_means_(products_.size()) {}

void NoiseCovariance::add(View<const float> window, float usual) {
    std::vector<float> known;
    for (int y = 0; y < window.height; ++y)
        for (int x = 0; x < window.width; ++x)
            if (std::isfinite(window(x, y))) known.push_back(window(x, y));
    if (known.size() < products_.size()) {
        sigmas_.push_back({0.0f, usual});
        return;
    }
    const float centre = median_in_place(known);
    constexpr float kOutlier = 5;
    const float limit = kOutlier * mad_sigma_in_place(known, centre);
    double sum = 0, count = 0;
    const auto counts = [&](float v) { return std::abs(v - centre) <= limit; }; // NaN does not
    for (int y = 0; y < window.height; ++y)
        for (int x = 0; x < window.width; ++x)
            if (counts(window(x, y))) sum += static_cast<double>(window(x, y)), ++count;
    if (count == 0) return;
    const auto mean = static_cast<float>(sum / count);
    double squares = 0;
    for (int y = 0; y < window.height; ++y)
        for (int x = 0; x < window.width; ++x)
            if (counts(window(x, y))) squares += std::pow(static_cast<double>(window(x, y) - mean), 2);
    const double variance = squares / count;
    if (!(variance > 0)) return;
    sigmas_.push_back({static_cast<float>(std::sqrt(variance)), usual});
    std::vector<double> products(products_.size()), pairs(products_.size());
    for (int y = 0; y < window.height; ++y)
        for (int x = 0; x < window.width; ++x) {
            if (!counts(window(x, y))) continue;
            const float own = window(x, y) - mean;
            std::size_t lag = 0;
            for (int j = -reach_; j <= reach_; ++j)
                for (int i = -reach_; i <= reach_; ++i, ++lag) {
                    const int u = x + i, v = y + j;
                    if (u < 0 || v < 0 || u >= window.width || v >= window.height || !counts(window(u, v))) continue;
                    products[lag] += static_cast<double>(own) * static_cast<double>(window(u, v) - mean);
                    ++pairs[lag];
                }
        }
    // Rounded, so that the order of windows does not matter.
    constexpr double kUnit = 0x1p-20;
    for (std::size_t lag = 0; lag < products.size(); ++lag) {
        products_[lag] += std::round(products[lag] / (variance * kUnit)) * kUnit;
        counts_[lag] += pairs[lag];
        of_means_[lag] += std::round(pairs[lag] / (count * kUnit)) * kUnit;
    }
}

void NoiseCovariance::add(const NoiseCovariance& other) {
    for (std::size_t lag = 0; lag < products_.size(); ++lag)
        products_[lag] += other.products_[lag], counts_[lag] += other.counts_[lag],
            of_means_[lag] += other.of_means_[lag];
    sigmas_.insert(sigmas_.end(), other.sigmas_.begin(), other.sigmas_.end());
}

/// The mean of a window was taken off, which takes off of each covariance what all pixels share on average.
double NoiseCovariance::covariance(std::size_t lag) const {
    return counts_[lag] > 0 ? products_[lag] / counts_[lag] : 0;
}

double NoiseCovariance::pixel() const {
    std::vector<float> known, all;
    for (const auto& [sigma, usual] : sigmas_)
        if (sigma > 0) known.push_back(sigma);
    if (known.empty()) return 0;
    const float middle = median_in_place(known);
    for (const auto& [sigma, usual] : sigmas_)
        all.push_back(usual * (sigma > 0 ? sigma : middle));
    return static_cast<double>(median_in_place(all));
}

double NoiseCovariance::pixel_after(const std::vector<float>& kernel) const {
    const int reach = static_cast<int>(kernel.size()) - 1;
    const auto tap = [&](int k) {
        return std::abs(k) <= reach ? static_cast<double>(kernel[static_cast<std::size_t>(std::abs(k))]) : 0.0;
    };
    std::vector<double> with_itself; // by lag
    for (int lag = -reach_; lag <= reach_; ++lag) {
        double sum = 0;
        for (int k = -reach; k <= reach; ++k)
            sum += tap(k) * tap(k + lag);
        with_itself.push_back(sum);
    }
    double variance = 0;
    std::size_t at = 0;
    for (const double along_y : with_itself)
        for (const double along_x : with_itself)
            variance += covariance(at++) * along_y * along_x;
    return pixel() * std::sqrt(std::max(0.0, variance));
}

double NoiseCovariance::white() const {
    // cov' = cov - S / pixels of the window that counted, for each of the lags added, S the sum itself.
    double sum = 0, taken = 0;
    for (std::size_t lag = 0; lag < products_.size(); ++lag) {
        sum += covariance(lag);
        if (counts_[lag] > 0) taken += of_means_[lag] / counts_[lag];
    }
    if (!(taken < 1)) return 0;
    return pixel() * std::sqrt(std::max(0.0, sum / (1 - taken)));
}

} // namespace kasane

#include <kasane/image/statistics.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

float median_in_place(std::span<float> values) {
    if (values.empty()) return kNoData;
    const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
    std::nth_element(values.begin(), middle, values.end());
    if (values.size() % 2 == 1) return *middle;
    return 0.5f * (*middle + *std::max_element(values.begin(), middle));
}

float quantile_in_place(std::span<float> values, double q) {
    if (values.empty()) return kNoData;
    const double at = std::clamp(q, 0.0, 1.0) * static_cast<double>(values.size() - 1);
    const auto low = static_cast<std::ptrdiff_t>(at);
    std::nth_element(values.begin(), values.begin() + low, values.end());
    const float a = values[static_cast<std::size_t>(low)];
    if (static_cast<std::size_t>(low) + 1 == values.size()) return a;
    const float b = *std::min_element(values.begin() + low + 1, values.end());
    return a + static_cast<float>(at - static_cast<double>(low)) * (b - a);
}

float mad_sigma_in_place(std::span<float> values, float center) {
    for (float& v : values)
        v = std::abs(v - center);
    return static_cast<float>(kSigmaPerMad) * median_in_place(values);
}

namespace {
/// Standard deviation of a unit normal cut at +-c: what clipping alone takes from the measured spread.
double truncated_sigma(double c) {
    const double phi = std::exp(-0.5 * c * c) / std::sqrt(2 * kPi);
    const double inside = std::erf(c / std::sqrt(2.0));
    return std::sqrt(1 - 2 * c * phi / inside);
}
} // namespace

RobustStatistics clipped_statistics(std::vector<float>& values, float clip, int iterations) {
    values.erase(std::remove_if(values.begin(), values.end(), [](float v) { return !std::isfinite(v); }), values.end());
    RobustStatistics result;
    if (values.empty()) return {kNoData, kNoData, 0};
    result.location = median_in_place(values);
    {
        std::vector<float> deviations = values;
        result.sigma = mad_sigma_in_place(deviations, result.location);
    }
    result.used = values.size();
    const double correction = 1 / truncated_sigma(clip);
    for (int i = 0; i < iterations; ++i) {
        // Quantised data can have a MAD of zero: keep at least the values equal to the location.
        const float low = result.location - clip * result.sigma, high = result.location + clip * result.sigma;
        double sum = 0, square = 0;
        std::size_t n = 0;
        for (const float v : values) {
            if (v < low || v > high) continue;
            const double d = static_cast<double>(v) - result.location;
            sum += d;
            square += d * d;
            ++n;
        }
        if (n == 0) break;
        const double mean = sum / static_cast<double>(n);
        const double variance = std::max(0.0, square / static_cast<double>(n) - mean * mean);
        const bool settled = n == result.used && i > 0;
        result = {static_cast<float>(result.location + mean), static_cast<float>(std::sqrt(variance) * correction), n};
        if (settled) break;
    }
    return result;
}

std::vector<float> sample_pixels(View<const float> view, std::size_t most) {
    const auto area = static_cast<std::size_t>(view.bounds().area());
    const int step =
        std::max(1, static_cast<int>(std::ceil(
                        std::sqrt(static_cast<double>(area) / static_cast<double>(std::max<std::size_t>(most, 1))))));
    std::vector<float> values;
    values.reserve(area / static_cast<std::size_t>(step * step) + 1);
    for (int y = step / 2; y < view.height; y += step)
        for (int x = (step / 2 + y / step) % step; x < view.width; x += step) // staggered: columns do not alias
            if (std::isfinite(view(x, y))) values.push_back(view(x, y));
    return values;
}

RobustStatistics image_statistics(View<const float> view, std::size_t most) {
    std::vector<float> values = sample_pixels(view, most);
    return clipped_statistics(values);
}

float difference_noise(View<const float> view, int lag, std::size_t most) {
    const std::int64_t area = view.bounds().area();
    const int step = std::max<int>(1, static_cast<int>(area / static_cast<std::int64_t>(most)));
    std::vector<float> values;
    for (int y = 0; y < view.height; ++y)
        for (int x = lag + (y * 7) % step; x + lag < view.width; x += step) {
            const float d = view(x - lag, y) - 2 * view(x, y) + view(x + lag, y);
            if (std::isfinite(d)) values.push_back(d);
        }
    if (values.empty()) return 0;
    return clipped_statistics(values, 3.0f, 10).sigma / std::sqrt(6.0f);
}

float background_noise(View<const float> view, int lag) {
    constexpr int kCell = 64;
    std::vector<std::pair<float, float>> cells; // level, noise
    for (int y = 0; y < view.height; y += kCell)
        for (int x = 0; x < view.width; x += kCell) {
            const View<const float> cell = view.crop(intersect({x, y, kCell, kCell}, view.bounds()));
            std::vector<float> values = sample_pixels(cell, kCell * kCell);
            if (values.size() < kCell * kCell / 2) continue;
            cells.emplace_back(median_in_place(values), difference_noise(cell, lag));
        }
    if (cells.empty()) return difference_noise(view, lag);
    std::sort(cells.begin(), cells.end());
    std::vector<float> dark;
    for (std::size_t i = 0; i < std::max<std::size_t>(1, cells.size() * 2 / 5); ++i)
        dark.push_back(cells[i].second);
    return median_in_place(dark);
}

} // namespace kasane

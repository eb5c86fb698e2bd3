#include <kasane/image/statistics.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/row_arithmetic.hpp>
#include <kasane/image/statistics_kernel.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <memory>
#include <optional>

namespace kasane {

namespace {

/// Values among which two neighbouring ranks are to be found.
struct Few {
    std::unique_ptr<float[]> values;
    std::size_t count = 0;
    std::size_t less = 0; ///< of all values are below these
};

/// The values around a rank, and around the next one below it: what lies between two that a sample tells to enclose
/// them (R. Floyd and R. Rivest, CACM 18, 1975). One pass without a branch leaves a small part to be sorted out.
/// Nothing where that is not worth while, or where the sample misled.
std::optional<Few> enclose(std::span<const float> values, std::size_t rank) {
    constexpr std::size_t kWorthWhile = 4096, kSample = 64;
    constexpr std::size_t kSlack = 10; // two and a half standard deviations of a place in the sample
    if (values.size() < kWorthWhile) return std::nullopt;
    std::array<float, kSample> sample;
    for (std::size_t i = 0; i < kSample; ++i)
        sample[i] = values[i * values.size() / kSample];
    std::sort(sample.begin(), sample.end());
    const std::size_t place = rank * kSample / values.size();
    constexpr float kInfinite = std::numeric_limits<float>::infinity();
    const float low = place < kSlack ? -kInfinite : sample[place - kSlack],
                high = place + kSlack >= kSample ? kInfinite : sample[place + kSlack];
    Few few{std::make_unique_for_overwrite<float[]>(values.size() + kTakeSlack), 0, 0};
    const Between between = take_between(values.data(), values.size(), low, high, few.values.get());
    few.count = between.taken;
    few.less = between.less;
    if (rank < few.less + 1 || rank >= few.less + few.count) return std::nullopt;
    return few;
}

/// Of the eight around a pixel, the most frequent case: by a network without a branch (Batcher's odd-even merge sort,
/// AFIPS 32, 1968), of which only the two in the middle are wanted.
float median_of_eight(const float* values) {
    std::array<float, 8> v;
    std::copy_n(values, 8, v.begin());
    // Pairs of places that are put in order, one after the other. Three more would sort all of them.
    constexpr std::array<std::uint8_t, 32> kSteps = {0, 1, 2, 3, 4, 5, 6, 7, 0, 2, 1, 3, 4, 6, 5, 7,
                                                     1, 2, 5, 6, 0, 4, 1, 5, 2, 6, 3, 7, 2, 4, 3, 5};
    for (std::size_t i = 0; i < kSteps.size(); i += 2) {
        float &first = v[kSteps[i]], &second = v[kSteps[i + 1]];
        const float low = std::min(first, second), high = std::max(first, second);
        first = low;
        second = high;
    }
    return 0.5f * (v[4] + v[3]);
}

/// Below so many values they are put in order as far as need be, from there on halving their range is faster.
constexpr std::size_t kFewest = 24;

/// The value of a rank and the one after it.
Neighbours neighbours_in_place(std::span<float> values, std::size_t rank) {
    if (values.size() >= kFewest) return select_rank(values.data(), values.size(), rank);
    const auto at = values.begin() + static_cast<std::ptrdiff_t>(rank);
    std::nth_element(values.begin(), at, values.end());
    return {*at, at + 1 == values.end() ? *at : *std::min_element(at + 1, values.end())};
}

/// The mean of the value of a rank and the one before it, or that value alone.
float middle_of(std::span<float> values, std::size_t rank, bool even) {
    if (values.size() == 8 && rank == 4 && even) return median_of_eight(values.data());
    if (!even) return neighbours_in_place(values, rank).at;
    const Neighbours two = neighbours_in_place(values, rank - 1);
    return 0.5f * (two.next + two.at);
}

} // namespace

float median_in_place(std::span<float> values) {
    if (values.empty()) return kNoData;
    const std::size_t rank = values.size() / 2;
    const bool even = values.size() % 2 == 0;
    if (const auto few = enclose(values, rank))
        return middle_of({few->values.get(), few->count}, rank - few->less, even);
    return middle_of(values, rank, even);
}

float quantile_in_place(std::span<float> values, double q) {
    if (values.empty()) return kNoData;
    const double at = std::clamp(q, 0.0, 1.0) * static_cast<double>(values.size() - 1);
    const auto low = static_cast<std::size_t>(at);
    const auto [a, b] = neighbours_in_place(values, low);
    return a + static_cast<float>(at - static_cast<double>(low)) * (b - a);
}

float mad_sigma_in_place(std::span<float> values, float center) {
    for (float& v : values)
        v = std::abs(v - center);
    return static_cast<float>(kSigmaPerMad) * median_in_place(values);
}

double truncated_sigma(double c) {
    const double phi = std::exp(-0.5 * c * c) / std::sqrt(2 * kPi);
    const double inside = std::erf(c / std::sqrt(2.0));
    return std::sqrt(1 - 2 * c * phi / inside);
}

SumsWithin sums_within_reference(const float* values, std::size_t count, float center, float low, float high) {
    SumsWithin s;
    for (std::size_t i = 0; i < count; ++i) {
        const bool inside = (values[i] >= low) & (values[i] <= high);
        const double d = inside ? static_cast<double>(values[i] - center) : 0.0;
        s.sum += d;
        s.square += d * d;
        s.count += inside;
    }
    return s;
}

Between take_between_reference(const float* values, std::size_t count, float low, float high, float* out) {
    Between b;
    for (std::size_t i = 0; i < count; ++i) {
        out[b.taken] = values[i];
        b.taken += static_cast<std::size_t>((values[i] >= low) & (values[i] <= high));
        b.less += values[i] < low;
    }
    return b;
}

RobustStatistics clipped_statistics(std::vector<float>& values, float clip, int iterations) {
    if (any_gap(values.data(), values.size()))
        values.erase(std::remove_if(values.begin(), values.end(), [](float v) { return !std::isfinite(v); }),
                     values.end());
    RobustStatistics result;
    if (values.empty()) return {kNoData, kNoData, 0};
    // Where the clipping starts hardly matters to where it ends: of many values, some tell it well enough. Their number
    // is a prime, so that they do not fall into step with rows.
    constexpr std::size_t kEnough = 113;
    std::array<float, 3 * kEnough / 2> room;
    std::span<float> some(room.data(), std::min(values.size(), room.size()));
    if (values.size() > some.size()) {
        some = some.first(kEnough);
        for (std::size_t i = 0; i < kEnough; ++i)
            some[i] = values[i * values.size() / kEnough];
    } else {
        std::copy(values.begin(), values.end(), some.begin());
    }
    result.location = median_in_place(some);
    result.sigma = mad_sigma_in_place(some, result.location);
    result.used = values.size();
    const double correction = 1 / truncated_sigma(clip);
    constexpr double kStill = 1e-3; // of sigma: what is left to move is far below what so many values can tell
    for (int i = 0; i < iterations; ++i) {
        // Quantised data can have a MAD of zero: keep at least the values equal to the location.
        const float low = result.location - clip * result.sigma, high = result.location + clip * result.sigma;
        const auto [sum, square, n] = sums_within(values.data(), values.size(), result.location, low, high);
        if (n == 0) break;
        const double mean = sum / static_cast<double>(n);
        const double variance = std::max(0.0, square / static_cast<double>(n) - mean * mean);
        const double sigma = std::sqrt(variance) * correction, still = kStill * sigma;
        const bool settled =
            i > 0 && (n == result.used ||
                      (std::abs(mean) <= still && std::abs(sigma - static_cast<double>(result.sigma)) <= still));
        result = {static_cast<float>(result.location + mean), static_cast<float>(sigma), n};
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

float structureless_sigma(std::vector<float>& differences) {
    constexpr double kNorm = 6; // sqrt of the sum of the squared weights (1, -2, 1) x (1, -2, 1)
    return static_cast<float>(clipped_statistics(differences, 3.0f).sigma / kNorm);
}

float structureless_noise(View<const float> view, const NoiseSteps& s, int stride, std::vector<float>& scratch) {
    const int rx = std::abs(s.ux) + std::abs(s.vx), ry = std::abs(s.uy) + std::abs(s.vy);
    const std::ptrdiff_t u = s.uy * view.stride + s.ux, v = s.vy * view.stride + s.vx;
    scratch.clear();
    if (view.width <= 2 * rx || view.height <= 2 * ry) return kNoData;
    scratch.resize(static_cast<std::size_t>((view.height - 2 * ry)) *
                   static_cast<std::size_t>((view.width - 2 * rx) / stride + 1));
    float* out = scratch.data();
    const auto along = [u](const float* at) { return at[-u] - 2 * *at + at[u]; };
    const bool upright = s.uy == 0 && s.vx == 0;
    std::vector<float> down(upright ? static_cast<std::size_t>(view.width) : 0), across(down.size()); // of one row
    for (int y = ry; y + ry < view.height; ++y) {
        const float* row = view.row(y);
        if (upright) {
            const float *above = row - v, *below = row + v;
            const auto width = static_cast<std::size_t>(view.width), inside = width - 2 * static_cast<std::size_t>(rx);
            second_difference_row(above, row, below, width, down.data());
            const float* middle = down.data() + rx; // NaN where a pixel is: left out below
            second_difference_row(middle - u, middle, middle + u, inside, across.data());
            const auto from = static_cast<std::size_t>(y % stride);
            if (from < inside)
                out += take_every(across.data() + from, static_cast<std::size_t>(stride), inside - from, out);
            continue;
        }
        for (int x = rx + y % stride; x + rx < view.width; x += stride) {
            const float* at = row + x;
            if (*at == *at) // in a mosaic seldom
                *out++ = along(at - v) - 2 * along(at) + along(at + v);
        }
    }
    scratch.resize(static_cast<std::size_t>(out - scratch.data()));
    return structureless_sigma(scratch);
}

float background_noise(View<const float> view, int lag) {
    constexpr int kCell = 64;
    std::vector<std::pair<float, float>> cells; // level, noise
    std::vector<float> differences;
    for (int y = 0; y < view.height; y += kCell)
        for (int x = 0; x < view.width; x += kCell) {
            const View<const float> cell = view.crop(intersect({x, y, kCell, kCell}, view.bounds()));
            std::vector<float> values = sample_pixels(cell, kCell * kCell);
            if (values.size() < kCell * kCell / 2) continue;
            const float noise = structureless_noise(cell, NoiseSteps::apart(lag), 1, differences);
            if (noise >= 0) cells.emplace_back(median_in_place(values), noise); // not NaN
        }
    if (cells.empty()) return difference_noise(view, lag);
    std::sort(cells.begin(), cells.end());
    std::vector<float> dark;
    for (std::size_t i = 0; i < std::max<std::size_t>(1, cells.size() * 2 / 5); ++i)
        dark.push_back(cells[i].second);
    return median_in_place(dark);
}

} // namespace kasane

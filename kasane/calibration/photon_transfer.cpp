// Photon transfer: conversion gain, read noise and saturation of a camera from its own flats and bias frames.
#include <kasane/calibration/master.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

constexpr int kRows = 64; // of each frame
constexpr std::size_t kMostPairs = 8;
constexpr std::size_t kBins = 16;        // of the signal
constexpr std::size_t kLeastInBin = 400; // pixels
constexpr double kWideRange = 2;         // highest over lowest signal from which the fit gives its intercept too

std::vector<float> sampled(const FrameReader& frame, const FrameReader* offset, float level) {
    const int rows = std::min(kRows, frame.height());
    Image row(frame.width(), 1), dark(frame.width(), 1, 1, level);
    std::vector<float> out;
    for (int i = 0; i < rows; ++i) {
        const Region r{0, static_cast<int>((i + 0.5) * frame.height() / rows), frame.width(), 1};
        frame.read(r, row.plane());
        if (offset) offset->read(r, dark.plane());
        for (int x = 0; x < frame.width(); ++x)
            out.push_back(row(x, 0) - dark(x, 0));
    }
    return out;
}

float median_of(std::vector<float> v) {
    std::erase_if(v, [](float x) { return !std::isfinite(x); });
    return v.empty() ? 0 : median_in_place(v);
}

struct LevelPoint {
    double signal, variance, weight;
};

using Pixels = std::vector<std::pair<float, float>>; // signal, difference

/// Where the bin begins among all pixels, ordered by their signal.
std::ptrdiff_t beginning(const Pixels& pixels, std::size_t bin, std::size_t bins) {
    return static_cast<std::ptrdiff_t>(bin * pixels.size() / bins);
}

/// Brings the pixels of these bins into them, in any order within each: a fifth of the work of ordering them all.
void part(Pixels& pixels, std::size_t first, std::size_t last, std::size_t bins) {
    if (last - first < 2) return;
    const std::size_t middle = first + (last - first) / 2;
    const auto at = [&](std::size_t bin) { return pixels.begin() + beginning(pixels, bin, bins); };
    std::nth_element(at(first), at(middle), at(last));
    part(pixels, first, middle, bins);
    part(pixels, middle, last, bins);
}

/// Signal and variance of one frame of a pair, in bins of the signal.
void add_points(const std::vector<float>& a, const std::vector<float>& b, std::vector<LevelPoint>& points) {
    const float ma = median_of(a), mb = median_of(b);
    if (!(ma > 0 && mb > 0)) return;
    const float k = ma / mb;
    Pixels pixels;
    for (std::size_t i = 0; i < a.size(); ++i)
        if (std::isfinite(a[i]) && std::isfinite(b[i])) pixels.emplace_back(0.5f * (a[i] + k * b[i]), a[i] - k * b[i]);
    const std::size_t bins = std::min(kBins, pixels.size() / kLeastInBin);
    if (bins == 0) return;
    part(pixels, 0, bins, bins);
    for (std::size_t n = 0; n < bins; ++n) {
        std::vector<float> d;
        double signal = 0;
        for (auto i = beginning(pixels, n, bins); i < beginning(pixels, n + 1, bins); ++i) {
            const auto& [level, difference] = pixels[static_cast<std::size_t>(i)];
            d.push_back(difference);
            signal += level;
        }
        const auto size = static_cast<double>(d.size());
        const double sigma = clipped_statistics(d, 4).sigma;
        // The difference holds S / g + r2 of the first and k times S / g + k2 r2 of the second.
        const double variance = sigma * sigma / (1 + k);
        points.push_back({signal / size, variance, variance > 0 ? size / (variance * variance) : 0});
    }
}

} // namespace

PhotonTransfer measure_photon_transfer(const std::vector<std::shared_ptr<const FrameReader>>& flats,
                                       const std::vector<std::shared_ptr<const FrameReader>>& bias,
                                       const FrameReader* offset, float offset_level, const Workers& workers) {
    PhotonTransfer out;
    if (flats.size() < 2) return out;
    struct Pair {
        std::vector<LevelPoint> points;
        float top = 0; // where pixels pile up
        std::size_t at_top = 0, pixels = 0;
    };
    std::vector<Pair> pairs(std::min(kMostPairs, flats.size() / 2));
    workers.for_each(pairs.size(), [&](std::size_t p) {
        const std::size_t f = 2 * (p * (flats.size() / 2) / pairs.size());
        Pair& pair = pairs[p];
        add_points(sampled(*flats[f], offset, offset_level), sampled(*flats[f + 1], offset, offset_level), pair.points);
        for (const float v : sampled(*flats[f], nullptr, 0)) {
            ++pair.pixels;
            if (v > pair.top) {
                pair.top = v;
                pair.at_top = 0;
            }
            pair.at_top += v == pair.top;
        }
    });
    std::vector<LevelPoint> points;
    float top = 0;
    std::size_t at_top = 0, pixels = 0;
    for (const Pair& pair : pairs) {
        points.insert(points.end(), pair.points.begin(), pair.points.end());
        pixels += pair.pixels;
        if (pair.top > top) {
            top = pair.top;
            at_top = 0;
        }
        if (pair.top == top) at_top += pair.at_top;
    }
    if (top > 0 && static_cast<double>(at_top) > 1e-3 * static_cast<double>(pixels)) out.saturation = top;
    if (points.empty()) return out;

    double read_variance = -1; // ADU squared
    if (bias.size() >= 2) {
        const auto a = sampled(*bias[0], nullptr, 0), b = sampled(*bias[1], nullptr, 0);
        std::vector<float> d;
        for (std::size_t i = 0; i < std::min(a.size(), b.size()); ++i)
            if (std::isfinite(a[i] - b[i])) d.push_back(a[i] - b[i]);
        const double sigma = clipped_statistics(d, 4).sigma / std::sqrt(2.0);
        read_variance = sigma * sigma;
    }
    const auto fit = [&](const std::vector<LevelPoint>& used, double& slope, double& intercept) {
        double w = 0, x = 0, y = 0, xx = 0, xy = 0;
        for (const LevelPoint& p : used) {
            w += p.weight, x += p.weight * p.signal, y += p.weight * p.variance;
            xx += p.weight * p.signal * p.signal, xy += p.weight * p.signal * p.variance;
        }
        const double low =
            std::min_element(used.begin(), used.end(), [](auto& a, auto& b) { return a.signal < b.signal; })->signal;
        const double high =
            std::max_element(used.begin(), used.end(), [](auto& a, auto& b) { return a.signal < b.signal; })->signal;
        if (read_variance >= 0 || !(low > 0) || high < kWideRange * low) {
            intercept = std::max(0.0, read_variance);
            slope = (xy - intercept * x) / xx;
        } else {
            const double determinant = w * xx - x * x;
            slope = (w * xy - x * y) / determinant;
            intercept = (y - slope * x) / w;
        }
    };
    double slope = 0, intercept = 0;
    for (int round = 0; round < 3 && points.size() >= 2; ++round) {
        fit(points, slope, intercept);
        // Clipped pixels lose variance near saturation, structure adds some: points far off the line go.
        std::vector<LevelPoint> kept;
        for (const LevelPoint& p : points)
            if (std::abs(p.variance - slope * p.signal - intercept) < 0.15 * p.variance) kept.push_back(p);
        if (kept.size() < points.size() / 2 || kept.size() == points.size() || kept.size() < 2) break;
        points = std::move(kept);
    }
    if (!(slope > 0) || !std::isfinite(slope)) return out;
    out.electrons_per_adu = 1 / slope;
    if (read_variance >= 0)
        out.read_noise = std::sqrt(read_variance) / slope;
    else if (intercept > 0)
        out.read_noise = std::sqrt(intercept) / slope;
    return out;
}

} // namespace kasane

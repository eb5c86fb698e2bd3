#include <kasane/integration/halves.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace kasane {

namespace {

using Counts = std::vector<std::uint64_t>;

/// The standard deviation of what is counted in bins of that width around zero.
float scatter_of(const Counts& bins, double width) {
    constexpr double kClip = 3;
    constexpr int kRounds = 20;
    const double reach = 0.5 * width * static_cast<double>(bins.size());
    double sigma = reach, mean = 0;
    for (int round = 0; round < kRounds; ++round) {
        double n = 0, sum = 0, squares = 0;
        for (std::size_t i = 0; i < bins.size(); ++i) {
            const double z = (static_cast<double>(i) + 0.5) * width - reach;
            if (std::abs(z - mean) > kClip * sigma) continue;
            const auto count = static_cast<double>(bins[i]);
            n += count, sum += count * z, squares += count * z * z;
        }
        if (!(n > 0)) return 0;
        mean = sum / n;
        const double correction = round == 0 ? 1 : 1 / truncated_sigma(kClip);
        const double next = correction * std::sqrt(std::max(0.0, squares / n - mean * mean));
        if (std::abs(next - sigma) < 1e-6) return static_cast<float>(next);
        sigma = next;
    }
    return static_cast<float>(sigma);
}

std::uint64_t sum_of(const Counts& bins) {
    return std::accumulate(bins.begin(), bins.end(), std::uint64_t{0});
}

constexpr double kLeastVariance = 0.2; // of that at the level: readout stays

/// Every other one of the frames that have data at a pixel, or the rest: of their weighted samples.
struct Half {
    double sum = 0, weight = 0, flat = 0, variance = 0; ///< at the level, and at the pixel's brightness
    double slope = 0;                                   ///< of the variance with the signal
    double least_signal = -HUGE_VAL;                    ///< from which on it grows alike in all of them
};

/// Where all frames have data, but for their samples.
std::array<Half, 2> halves_of_all(const StackExpectation& expectation) {
    std::array<Half, 2> out;
    for (std::size_t f = 0; f < expectation.frames.size(); ++f) {
        const FrameExpectation& e = expectation.frames[f];
        Half& h = out[f & 1];
        const double w2 = static_cast<double>(e.weight) * e.weight;
        h.weight += e.weight, h.flat += w2 * e.variance, h.slope += w2 * e.variance_slope;
        if (e.variance_slope > 0)
            h.least_signal =
                std::max(h.least_signal, (kLeastVariance - 1) * static_cast<double>(e.variance) / e.variance_slope);
    }
    return out;
}

/// The sums of a pixel's samples; false: some frame has none.
bool add_all(const SampleBlock& block, const std::vector<double>& weights, int i, std::array<Half, 2>& halves) {
    double even = 0, odd = 0;
    const float* v = block.samples + i;
    int f = 0;
    for (; f + 1 < block.frames; f += 2, v += 2 * block.frame_stride) {
        even += weights[static_cast<std::size_t>(f)] * static_cast<double>(v[0]);
        odd += weights[static_cast<std::size_t>(f) + 1] * static_cast<double>(v[block.frame_stride]);
    }
    if (f < block.frames) even += weights[static_cast<std::size_t>(f)] * static_cast<double>(v[0]);
    halves[0].sum = even, halves[1].sum = odd;
    return std::isfinite(even) && std::isfinite(odd);
}

/// The same of the frames that have data; returns how many.
int add_present(const SampleBlock& block, const StackExpectation& expectation, int i, double signal,
                std::array<Half, 2>& halves) {
    halves = {};
    int present = 0;
    for (int f = 0; f < block.frames; ++f) {
        const float v = block.samples[f * block.frame_stride + i];
        if (!std::isfinite(v)) continue;
        const FrameExpectation& e = expectation.frames[static_cast<std::size_t>(f)];
        Half& h = halves[static_cast<std::size_t>(present++ & 1)];
        h.sum += static_cast<double>(e.weight) * static_cast<double>(v);
        h.weight += e.weight;
        const double w2 = static_cast<double>(e.weight) * e.weight;
        h.flat += w2 * e.variance;
        h.variance += w2 * std::max<double>(kLeastVariance * e.variance, e.variance + e.variance_slope * signal);
    }
    return present;
}

/// The value below which half of the weight lies.
double weighted_median(std::vector<std::pair<double, double>>& values) {
    std::sort(values.begin(), values.end());
    double half = 0;
    for (const auto& [value, weight] : values)
        half += 0.5 * weight;
    for (const auto& [value, weight] : values)
        if ((half -= weight) <= 0) return value;
    return values.back().first;
}

} // namespace

HalvesScatter::HalvesScatter(const Region& canvas, const Region& part) : left_(canvas.x), top_(canvas.y) {
    constexpr int kLeastSide = 64;
    constexpr double kMostCells = 1024;
    side_ =
        std::max(kLeastSide, static_cast<int>(std::ceil(std::sqrt(static_cast<double>(canvas.area()) / kMostCells))));
    const auto cells = [&](int from, int to) { return std::pair(from / side_, (to + side_ - 1) / side_); };
    cell_columns_ = cells(part.x - left_, part.right() - left_);
    cell_rows_ = cells(part.y - top_, part.bottom() - top_);
    cells_.resize(static_cast<std::size_t>(cell_columns_.second - cell_columns_.first) *
                  static_cast<std::size_t>(cell_rows_.second - cell_rows_.first));
}

int HalvesScatter::every(int width, int height) {
    constexpr double kPixels = 1 << 20, kFew = 1 << 18;
    constexpr double kUsual = 8;
    const double area = static_cast<double>(width) * height;
    return std::max(1, static_cast<int>(std::max(area / kPixels, std::min(kUsual, area / kFew))));
}

void HalvesScatter::add(int x, int y, const SampleBlock& block, const float* combined,
                        const StackExpectation& expectation, const Structure* structure, std::size_t first) {
    const std::array<Half, 2> all = halves_of_all(expectation);
    std::vector<double> weights;
    for (const FrameExpectation& e : expectation.frames)
        weights.push_back(e.weight);
    const int row = (y - top_) / side_;
    for (int i = 0; i < block.pixels; ++i) {
        if (!std::isfinite(combined[i])) continue;
        const double signal = static_cast<double>(combined[i]) - expectation.level; // below it there is less noise
        std::array<Half, 2> halves = all;
        int present = block.frames;
        if (!add_all(block, weights, i, halves) || signal < all[0].least_signal || signal < all[1].least_signal)
            present = add_present(block, expectation, i, signal, halves);
        else
            for (Half& h : halves)
                h.variance = h.flat + h.slope * signal;
        const auto& [a, b] = halves;
        if (!(a.weight > 0 && b.weight > 0)) continue;
        const double variance = a.variance / (a.weight * a.weight) + b.variance / (b.weight * b.weight);
        const double z = (a.sum / a.weight - b.sum / b.weight) / std::sqrt(variance);
        const double place = (z + kReach) * (kBins / (2 * kReach));
        if (!(place >= 0 && place < kBins)) continue;
        const bool flat = !structure || !structure->any(first + static_cast<std::size_t>(i));
        Cell& cell = at((x + i - left_) / side_, row);
        const double level = a.flat / (a.weight * a.weight) + b.flat / (b.weight * b.weight);
        const double octaves = (std::log2(variance / level) + kOctaves) * (kBins / (2 * kOctaves));
        ++cell.variances[static_cast<std::size_t>(std::clamp(octaves, 0.0, kBins - 1.0))];
        cell.samples += static_cast<std::uint64_t>(present);
        ++(flat ? cell.flat : cell.structured)[static_cast<std::size_t>(place)];
    }
}

void HalvesScatter::add(const HalvesScatter& other) {
    auto from = other.cells_.begin();
    for (int row = other.cell_rows_.first; row < other.cell_rows_.second; ++row)
        for (int column = other.cell_columns_.first; column < other.cell_columns_.second; ++column, ++from) {
            Cell& to = at(column, row);
            for (std::size_t i = 0; i < kBins; ++i)
                to.flat[i] += from->flat[i], to.structured[i] += from->structured[i],
                    to.variances[i] += from->variances[i];
            to.samples += from->samples;
        }
}

/// Of the variance at the level, at the cell's usual brightness.
double HalvesScatter::usual_variance(const Cell& cell) {
    const double half =
        0.5 * static_cast<double>(std::accumulate(cell.variances.begin(), cell.variances.end(), std::uint64_t{0}));
    double below = 0, place = 0;
    for (std::size_t i = 0; i < kBins; ++i) {
        const double here = cell.variances[i];
        if (below + here >= half && here > 0) {
            place = static_cast<double>(i) + (half - below) / here;
            break;
        }
        below += here;
    }
    return std::exp2(place * (2 * kOctaves / kBins) - kOctaves);
}

double HalvesScatter::ratio() const {
    constexpr std::uint64_t kEnough = 200, kLeast = 1000;
    constexpr double kWidth = 2 * kReach / kBins;
    Counts whole(kBins);
    std::vector<std::pair<double, double>> flat, all; // the noise of cells, and their weights
    std::size_t shown = 0;
    for (const Cell& cell : cells_) {
        Counts bins(cell.flat.begin(), cell.flat.end());
        const double usual = std::sqrt(usual_variance(cell)), weight = static_cast<double>(cell.samples);
        if (sum_of(bins) >= kEnough) flat.push_back({usual * scatter_of(bins, kWidth), weight});
        for (std::size_t i = 0; i < kBins; ++i)
            bins[i] += cell.structured[i], whole[i] += bins[i];
        const std::uint64_t here = sum_of(bins);
        shown += here > 0;
        if (here >= kEnough) all.push_back({usual * scatter_of(bins, kWidth), weight});
    }
    if (sum_of(whole) < kLeast) return 1;
    if (4 * flat.size() >= shown) return weighted_median(flat);
    return all.empty() ? scatter_of(whole, kWidth) : weighted_median(all);
}

} // namespace kasane

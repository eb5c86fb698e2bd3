#include <kasane/grading/obstruction.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <limits>

namespace kasane {

namespace {

/// Depth of a band along one edge in which next to nothing of what is expected is found, as a share of the field:
/// `distance` is each star's from that edge, 0..1.
double covered_band(std::vector<std::pair<double, bool>> stars, double clear) {
    constexpr double kFew = 0.2;     // of what the clear part shows
    constexpr double kLeastSeen = 6; // stars that a clear band would show
    constexpr int kChances = 3;      // found in a row end the band
    std::sort(stars.begin(), stars.end());
    double depth = 0;
    int expected = 0, found = 0, in_a_row = 0;
    for (const auto& [distance, seen] : stars) {
        ++expected;
        found += seen;
        in_a_row = seen ? in_a_row + 1 : 0;
        if (in_a_row >= kChances) break;
        if (!seen && expected * clear >= kLeastSeen && found < kFew * clear * expected) depth = distance;
    }
    return depth;
}

} // namespace

double obstructed_share(const std::vector<ExpectedStar>& expected, int width, int height) {
    constexpr std::size_t kLeast = 24;
    constexpr double kPerCell = 6;
    if (expected.size() < kLeast || width <= 0 || height <= 0) return std::numeric_limits<double>::quiet_NaN();
    const double cells = std::clamp(static_cast<double>(expected.size()) / kPerCell, 3.0, 96.0);
    const int nx = std::max(1, static_cast<int>(std::lround(std::sqrt(cells * width / height)))),
              ny = std::max(1, static_cast<int>(std::lround(std::sqrt(cells * height / width))));
    struct Cell {
        int expected = 0, found = 0;
        double rate() const { return expected > 0 ? static_cast<double>(found) / expected : 0; }
    };
    std::vector<Cell> all(static_cast<std::size_t>(nx) * static_cast<std::size_t>(ny));
    for (const ExpectedStar& s : expected) {
        const int i = static_cast<int>(s.x * nx / width), j = static_cast<int>(s.y * ny / height);
        if (i < 0 || j < 0 || i >= nx || j >= ny) continue;
        Cell& c = all[static_cast<std::size_t>(j) * static_cast<std::size_t>(nx) + static_cast<std::size_t>(i)];
        ++c.expected;
        c.found += s.found;
    }
    // The clear part of the field tells what share is found where nothing stands in the way: the upper quartile.
    std::vector<double> rates;
    for (const Cell& c : all)
        if (c.expected >= 3) rates.push_back(c.rate());
    if (rates.size() < 3) return std::numeric_limits<double>::quiet_NaN();
    std::sort(rates.begin(), rates.end());
    const double clear = rates[rates.size() * 3 / 4];
    constexpr double kFew = 0.35;    // of what the clear part shows
    constexpr double kChance = 0.02; // that any cell of a clear field shows so few
    constexpr double kSurest = 0.95; // share that a clear cell shows, at most: some stars are always missed
    const double rate = std::clamp(clear, 0.05, kSurest), known = static_cast<double>(rates.size());
    int hidden = 0;
    for (const Cell& c : all) {
        if (c.expected < 3) continue;
        double term = std::pow(1 - rate, c.expected), chance = term; // of `found` or fewer, binomial
        for (int k = 1; k <= c.found; ++k) {
            term *= rate / (1 - rate) * (c.expected - k + 1) / k;
            chance += term;
        }
        hidden += c.found < kFew * clear * c.expected && chance < kChance / known;
    }
    double share = hidden / known;
    for (int edge = 0; edge < 4; ++edge) {
        std::vector<std::pair<double, bool>> stars;
        for (const ExpectedStar& s : expected) {
            const double along = edge < 2 ? s.x / width : s.y / height;
            stars.emplace_back(edge % 2 ? 1 - along : along, s.found);
        }
        share = std::max(share, covered_band(std::move(stars), clear));
    }
    return share;
}

double darkened_edge(View<const float> plane) {
    constexpr double kDark = 0.35;      // of the middle; uncorrected vignetting of whole lines leaves far more
    constexpr double kClearAgain = 0.6; // of the middle, soon behind the edge of what stands in the way
    constexpr std::size_t kRise = 25;   // of the field
    if (plane.width < 8 || plane.height < 8) return 0;
    constexpr int kEnough = 64; // pixels of a line: their median is known to a sixth of a pixel's noise
    const auto medians = [&](bool rows) {
        std::vector<float> out, line;
        const int lines = rows ? plane.height : plane.width, length = rows ? plane.width : plane.height,
                  step = std::max(1, length / kEnough);
        for (int a = 0; a < lines; ++a) {
            line.clear();
            for (int b = a % step; b < length; b += step)
                if (const float v = rows ? plane(b, a) : plane(a, b); std::isfinite(v)) line.push_back(v);
            out.push_back(line.empty() ? 0 : median_in_place(line));
        }
        return out;
    };
    double deepest = 0;
    for (const bool rows : {true, false}) {
        std::vector<float> lines = medians(rows), all = lines;
        const float middle = quantile_in_place(all, 0.6);
        if (!(middle > 0)) continue;
        for (const bool from_end : {false, true}) {
            if (from_end) std::reverse(lines.begin(), lines.end());
            std::size_t dark = 0;
            while (dark < lines.size() && lines[dark] < kDark * middle)
                ++dark;
            // An obstruction ends: where the light only falls off, under a nebula or without a flat, it rises slowly.
            const std::size_t beyond = dark + std::max<std::size_t>(2, lines.size() / kRise);
            if (dark == 0 || beyond >= lines.size() || lines[beyond] < kClearAgain * middle) continue;
            deepest = std::max(deepest, static_cast<double>(dark) / static_cast<double>(lines.size()));
        }
    }
    return deepest;
}

std::vector<double> darkened_shares(const std::vector<std::vector<float>>& levels, const std::vector<double>& noise) {
    constexpr double kDark = 0.55; // of what is expected
    constexpr double kPlain = 1.5; // in units of a pixel's noise: a cell's level is known far better
    constexpr std::size_t kLeast = 4, kLeastCells = 12;
    std::vector<double> out(levels.size(), std::numeric_limits<double>::quiet_NaN());
    if (levels.size() < kLeast) return out;
    const std::size_t cells = levels.front().size();
    std::vector<double> factor(levels.size(), 1);
    std::vector<float> usual(cells), values;
    for (int round = 0; round < 3; ++round) { // levels of frames and shape of the sky, by turns
        for (std::size_t c = 0; c < cells; ++c) {
            values.clear();
            for (std::size_t i = 0; i < levels.size(); ++i)
                if (std::isfinite(levels[i][c]) && factor[i] > 0)
                    values.push_back(static_cast<float>(levels[i][c] / factor[i]));
            usual[c] = values.size() < kLeast ? std::numeric_limits<float>::quiet_NaN() : median_in_place(values);
        }
        for (std::size_t i = 0; i < levels.size(); ++i) {
            values.clear();
            for (std::size_t c = 0; c < cells; ++c)
                if (std::isfinite(levels[i][c]) && usual[c] > 0) values.push_back(levels[i][c] / usual[c]);
            // The clear part leads, even where it is the smaller one.
            factor[i] = values.size() < kLeastCells ? 0 : quantile_in_place(values, 0.7);
        }
    }
    for (std::size_t i = 0; i < levels.size(); ++i) {
        if (!(factor[i] > 0)) continue;
        int dark = 0, known = 0;
        for (std::size_t c = 0; c < cells; ++c) {
            if (!std::isfinite(levels[i][c]) || !(usual[c] > 0)) continue;
            const double expected = factor[i] * usual[c];
            ++known;
            dark += levels[i][c] < kDark * expected && expected - levels[i][c] > kPlain * noise[i];
        }
        if (known > 0) out[i] = static_cast<double>(dark) / known;
    }
    return out;
}

} // namespace kasane

#include <kasane/calibration/own_corrections.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/row_arithmetic.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

/// Pixels of one colour around a pixel.
class SameColour {
public:
    SameColour(View<const float> v, const CfaPattern& cfa) : v_(v), cfa_(cfa), step_(cfa.empty() ? 1 : 2) {}

    /// Median of the finite neighbours of the pixel's colour within two steps; `spread` their MAD as a sigma.
    float median(int x, int y, float* spread = nullptr) {
        std::size_t n = 0;
        const int reach = 2 * step_, own = cfa_.colour(x, y);
        for (int j = std::max(0, y - reach); j <= std::min(v_.height - 1, y + reach); ++j)
            for (int i = std::max(0, x - reach); i <= std::min(v_.width - 1, x + reach); ++i)
                if ((i != x || j != y) && (cfa_.empty() || cfa_.colour(i, j) == own) && std::isfinite(v_(i, j)))
                    ring_[n++] = v_(i, j);
        const float m = median_in_place(std::span(ring_.data(), n));
        if (spread) *spread = mad_sigma_in_place(std::span(ring_.data(), n), m);
        return m;
    }
    /// By how much the four pixels `distance` away stand above their own colours' surroundings, together.
    float shared(int x, int y, int distance) {
        constexpr std::array<std::array<int, 2>, 4> kSides = {{{-1, 0}, {1, 0}, {0, -1}, {0, 1}}};
        float sum = 0;
        for (const auto& [dx, dy] : kSides) {
            const int i = x + distance * dx, j = y + distance * dy;
            if (i < 0 || j < 0 || i >= v_.width || j >= v_.height || !std::isfinite(v_(i, j))) continue;
            sum += v_(i, j) - median(i, j);
        }
        return sum;
    }

private:
    View<const float> v_;
    const CfaPattern& cfa_;
    int step_;
    std::array<float, 81> ring_{};
};

/// Whether there are any.
bool find_lone_pixels(View<const float> v, const CfaPattern& cfa, double sigmas, Mask& mask) {
    // Of what a point source puts into the pixel, its four neighbours have at least as much together. Half of that,
    // less twice the noise of their sum, is what still passes for a star.
    constexpr float kSharedByStars = 0.55f, kNoiseOfFour = 2, kLessSure = 2;
    constexpr float kCold = 1.3f; // cold pixels are rarer, and dark lanes are no excuse
    const int step = cfa.empty() ? 1 : 2;
    const float noise = difference_noise(v, step);
    if (!(noise > 0)) return false;
    bool any = false;
    const auto limit = static_cast<float>(sigmas) * noise;
    SameColour around(v, cfa);
    for (int y = 0; y < v.height; ++y) {
        const float* row = v.row(y);
        for (int x = step; x + step < v.width; ++x) {
            const float rough = row[x] - 0.5f * (row[x - step] + row[x + step]);
            if (!(std::abs(rough) > 0.6f * limit)) continue;
            float spread = 0;
            const float excess = row[x] - around.median(x, y, &spread);
            const float sigma = std::max(noise, spread);
            if (excess < -kCold * static_cast<float>(sigmas) * sigma) {
                mask(x, y) = any = true;
                continue;
            }
            if (!(excess > static_cast<float>(sigmas) * sigma)) continue;
            const float allowed = kSharedByStars * excess - kLessSure * kNoiseOfFour * sigma;
            if (around.shared(x, y, 1) > allowed) continue;
            if (!cfa.empty() && around.shared(x, y, 2) > allowed) continue;
            mask(x, y) = any = true;
        }
    }
    return any;
}

/// Saturated pixels that hang together.
struct Blob {
    std::vector<std::pair<int, int>> pixels; ///< x, y
    int left = 0, right = 0, top = 0, bottom = 0;
};

Blob take_blob(View<const float> v, float saturation, int x, int y, Mask& seen) {
    Blob b{{{x, y}}, x, x, y, y};
    seen(x, y) = 1;
    for (std::size_t k = 0; k < b.pixels.size(); ++k) {
        const auto [px, py] = b.pixels[k];
        b.left = std::min(b.left, px), b.right = std::max(b.right, px);
        b.top = std::min(b.top, py), b.bottom = std::max(b.bottom, py);
        for (int j = std::max(0, py - 1); j <= std::min(v.height - 1, py + 1); ++j)
            for (int i = std::max(0, px - 1); i <= std::min(v.width - 1, px + 1); ++i)
                if (!seen(i, j) && v(i, j) >= saturation) {
                    seen(i, j) = 1;
                    b.pixels.emplace_back(i, j);
                }
    }
    return b;
}

/// Whether there are any. `tops`: the highest value of each row.
bool find_spills(View<const float> v, float saturation, std::span<const float> tops, Mask& mask) {
    constexpr int kLeastLength = 12, kEnds = 3; // pixels; the ends of a spill are filled only in part
    constexpr double kElongated = 2.5;
    bool any = false;
    Mask seen(v.width, v.height);
    for (int y = 0; y < v.height; ++y) {
        if (!(tops[static_cast<std::size_t>(y)] >= saturation)) continue;
        for (int x = 0; x < v.width; ++x) {
            if (!(v(x, y) >= saturation) || seen(x, y)) continue;
            const Blob b = take_blob(v, saturation, x, y, seen);
            const int high = b.bottom - b.top + 1, wide = b.right - b.left + 1;
            if (high < kLeastLength || high < kElongated * wide) continue;
            std::vector<int> widths(static_cast<std::size_t>(high));
            for (const auto& [px, py] : b.pixels)
                ++widths[static_cast<std::size_t>(py - b.top)];
            // The disc of the star: rows at least half as wide as the widest, as far as they hang together with it.
            const int widest = *std::max_element(widths.begin(), widths.end());
            const bool has_disc = widest > 3;
            int first = 0, last = -1;
            if (has_disc) {
                const auto peak = static_cast<int>(std::max_element(widths.begin(), widths.end()) - widths.begin());
                const int least = (widest + 1) / 2;
                first = last = peak;
                while (first > 0 && widths[static_cast<std::size_t>(first - 1)] >= least)
                    --first;
                while (last + 1 < high && widths[static_cast<std::size_t>(last + 1)] >= least)
                    ++last;
            } else { // a thin spill: the star is in its middle, as wide as the spill is
                first = high / 2 - widest;
                last = high / 2 + widest;
            }
            for (const auto& [px, py] : b.pixels) {
                const int at = py - b.top;
                if (at >= first && at <= last) continue;
                const int before = at == 0 ? kEnds : 0, after = at == high - 1 ? kEnds : 0;
                for (int j = std::max(0, py - before); j <= std::min(v.height - 1, py + after); ++j)
                    for (int i = std::max(0, px - 1); i <= std::min(v.width - 1, px + 1); ++i)
                        mask(i, j) = any = true;
            }
        }
    }
    return any;
}

constexpr int kParts = 8;       // of a line, that must agree
constexpr int kSmoothLines = 6; // on each side: slower changes are the sky's

/// Offsets of the lines of an image given as `value(line, position)`.
template <class Value>
std::vector<float> line_offsets(int lines, int length, int step, Value value) {
    Image level(kParts, lines);
    std::vector<float> values;
    for (int l = 0; l < lines; ++l)
        for (int p = 0; p < kParts; ++p) {
            level(p, l) = 0;
            for (const int parity : {0, 1}) { // the two colours of a mosaic's line apart
                values.clear();
                for (int i = p * length / kParts + parity; i < (p + 1) * length / kParts; i += 2)
                    if (const float v = value(l, i); std::isfinite(v)) values.push_back(v);
                level(p, l) += 0.5f * median_in_place(values);
            }
        }
    // Each part against pairs of lines on both sides: a slope cancels.
    Image excess(kParts, lines);
    std::vector<float> scatter;
    for (int l = 0; l < lines; ++l) {
        std::array<float, kParts> row{};
        for (int p = 0; p < kParts; ++p) {
            values.clear();
            for (int k = step; k <= kSmoothLines * step; k += step)
                if (l - k >= 0 && l + k < lines) values.push_back(0.5f * (level(p, l - k) + level(p, l + k)));
            excess(p, l) = row[static_cast<std::size_t>(p)] =
                values.empty() ? 0 : level(p, l) - median_in_place(values);
        }
        const float middle = median_in_place(row);
        for (int p = 0; p < kParts; ++p)
            scatter.push_back(excess(p, l) - middle);
    }
    const float sigma = mad_sigma_in_place(scatter, 0); // of one part
    constexpr float kAgree = 4, kSure = 3;
    std::vector<float> out(static_cast<std::size_t>(lines));
    for (int l = 0; l < lines; ++l) {
        std::array<float, kParts> row{};
        for (int p = 0; p < kParts; ++p)
            row[static_cast<std::size_t>(p)] = excess(p, l);
        const auto [least, most] = std::minmax_element(row.begin(), row.end());
        const bool agree = *most - *least < 1.5f * kAgree * sigma;
        const float offset = median_in_place(row);
        if (agree && std::abs(offset) > kSure * 1.25f * sigma / std::sqrt(static_cast<float>(kParts)))
            out[static_cast<std::size_t>(l)] = offset;
    }
    return out;
}

} // namespace

std::string OwnCorrectionOptions::check() const {
    if (!(lone_sigmas > 0)) return fmt::format("a lone pixel stands out by more than 0 sigma, not {:g}", lone_sigmas);
    return {};
}

OwnCorrections find_own_corrections(View<const float> plane, const CfaPattern& cfa, const OwnCorrectionOptions& o,
                                    std::span<const float> tops) {
    require_sense(o);
    OwnCorrections out;
    const int step = cfa.empty() ? 1 : 2; // lines of one parity hold the same colours
    if (o.equalise_rows && plane.width >= 64 && plane.height > 2 * kSmoothLines)
        out.rows = line_offsets(plane.height, plane.width, step, [&](int l, int i) { return plane(i, l); });
    if (o.equalise_columns && plane.height >= 64 && plane.width > 2 * kSmoothLines)
        out.columns = line_offsets(plane.width, plane.height, step, [&](int l, int i) { return plane(l, i); });
    const bool spills = o.spills && o.saturation > 0;
    if (!o.lone_pixels && !spills) return out;
    Mask mask(plane.width, plane.height);
    bool any = o.lone_pixels && find_lone_pixels(plane, cfa, o.lone_sigmas, mask);
    if (spills) {
        std::vector<float> found;
        if (tops.empty()) {
            for (int y = 0; y < plane.height; ++y)
                found.push_back(highest_of(plane.row(y), static_cast<std::size_t>(plane.width)));
            tops = found;
        }
        Mask spilled(plane.width, plane.height);
        if (find_spills(plane, o.saturation, tops, spilled)) {
            any = true;
            out.spilled = DefectList(spilled);
            for (const auto& [x, y] : out.spilled.places())
                mask(x, y) = 1;
        }
    }
    if (any) out.defects = DefectList(mask);
    return out;
}

} // namespace kasane

#include <kasane/frames/look.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <vector>

namespace kasane {

namespace {

constexpr int kWindow = 64;
constexpr int kMostWindows = 1500;

/// Corners of windows, evenly spread: whole rows and columns of windows, thinned alike in both directions.
std::vector<Region> window_grid(int width, int height, int most) {
    const int w = std::min(kWindow, width), h = std::min(kWindow, height);
    int across = std::max(1, width / w), down = std::max(1, height / h);
    if (across * down > most) {
        const double thin = std::sqrt(static_cast<double>(most) / (static_cast<double>(across) * down));
        across = std::max(1, static_cast<int>(across * thin));
        down = std::max(1, static_cast<int>(down * thin));
    }
    std::vector<Region> grid;
    for (int j = 0; j < down; ++j)
        for (int i = 0; i < across; ++i) {
            const int x =
                across == 1 ? (width - w) / 2 : static_cast<int>(std::int64_t{i} * (width - w) / (across - 1));
            const int y = down == 1 ? (height - h) / 2 : static_cast<int>(std::int64_t{j} * (height - h) / (down - 1));
            grid.push_back({x & ~1, y & ~1, w & ~1, h & ~1}); // even: the phases of a CFA stay in place
        }
    return grid;
}

struct WindowLook {
    float level = 0, noise = 0;
    std::array<float, 4> phase{};
};

/// Removes the phases' medians from a window and measures it. False if it holds too little.
bool flatten(Image& image, WindowLook& out) {
    std::vector<float> values;
    for (int p = 0; p < 4; ++p) {
        values.clear();
        for (int y = p / 2; y < image.height(); y += 2)
            for (int x = p % 2; x < image.width(); x += 2)
                if (std::isfinite(image(x, y))) values.push_back(image(x, y));
        if (values.size() < 16) return false;
        out.phase[static_cast<std::size_t>(p)] = median_in_place(values);
    }
    values.clear();
    for (int y = 0; y < image.height(); ++y)
        for (int x = 0; x < image.width(); ++x) {
            image(x, y) -= out.phase[static_cast<std::size_t>((y & 1) * 2 + (x & 1))];
            if (std::isfinite(image(x, y))) values.push_back(image(x, y));
        }
    out.level = 0.25f * (out.phase[0] + out.phase[1] + out.phase[2] + out.phase[3]);
    out.noise =
        clipped_statistics(values, 4).sigma; // not the MAD: counts are whole numbers, noise may be less than one
    return true;
}

struct Peaks {
    std::vector<float> stars; ///< heights
    std::size_t lone = 0;
    double lone_excess = 0;
};

/// Whether a peak is shared by its neighbours: a star, however narrow or off centre, lifts at least two more of its
/// four neighbours than a particle's track does.
bool is_shared(const Image& residual, int x, int y, float sigma) {
    constexpr float kShared = 2.5f;
    std::array<float, 4> edge = {residual(x - 1, y), residual(x + 1, y), residual(x, y - 1), residual(x, y + 1)};
    std::sort(edge.begin(), edge.end());
    const float shared = edge[0] + edge[1];
    return shared > kShared * 1.4142f * sigma && shared > 0.08f * residual(x, y);
}

/// Faint wide stars: maxima of the sums over 3 x 3 pixels, hot pixels taken out before. What is high enough in a single
/// pixel to be judged there must pass as a star there.
void find_faint_stars(Image residual, const std::vector<std::pair<int, int>>& lone, float sigma, Peaks& peaks) {
    constexpr float kPeak = 6.5f, kJudged = 8;
    for (const auto& [x, y] : lone)
        residual(x, y) = 0;
    Image sum(residual.width(), residual.height());
    for (int y = 1; y + 1 < residual.height(); ++y)
        for (int x = 1; x + 1 < residual.width(); ++x) {
            float s = 0;
            for (int j = -1; j <= 1; ++j)
                for (int i = -1; i <= 1; ++i)
                    s += residual(x + i, y + j);
            sum(x, y) = s / 3; // the noise of a pixel again
        }
    std::vector<float> values(sum.pixels().begin(), sum.pixels().end());
    const float noise = std::max(sigma, clipped_statistics(values, 4).sigma); // slow structure counts as noise here
    for (int y = 3; y + 3 < sum.height(); ++y)
        for (int x = 3; x + 3 < sum.width(); ++x) {
            const float v = sum(x, y);
            if (!(v > kPeak * noise)) continue;
            bool highest = true;
            int px = x, py = y;
            for (int j = -2; j <= 2; ++j)
                for (int i = -2; i <= 2; ++i) {
                    highest = highest && sum(x + i, y + j) <= v;
                    if (std::abs(i) < 2 && std::abs(j) < 2 && residual(x + i, y + j) > residual(px, py)) {
                        px = x + i;
                        py = y + j;
                    }
                }
            if (!highest || (residual(px, py) > kJudged * sigma && !is_shared(residual, px, py, sigma))) continue;
            peaks.stars.push_back(residual(px, py));
        }
}

/// Local maxima above 6 sigma: hot pixels stand alone, stars are shared.
void find_peaks(const Image& residual, float sigma, Peaks& peaks) {
    constexpr float kPeak = 6;
    std::vector<std::pair<int, int>> lone;
    Image rest = residual; // without the stars that are found here
    const float floor = std::max(sigma, 1e-12f);
    for (int y = 1; y + 1 < residual.height(); ++y)
        for (int x = 1; x + 1 < residual.width(); ++x) {
            const float v = residual(x, y);
            if (!(v > kPeak * floor)) continue;
            const std::array<float, 4> edge = {residual(x - 1, y), residual(x + 1, y), residual(x, y - 1),
                                               residual(x, y + 1)};
            const bool highest = v >= edge[0] && v > edge[1] && v >= edge[2] && v > edge[3];
            if (!highest) continue;
            const float most = *std::max_element(edge.begin(), edge.end());
            if (is_shared(residual, x, y, floor)) {
                peaks.stars.push_back(v);
                for (int j = std::max(0, y - 4); j <= std::min(rest.height() - 1, y + 4); ++j)
                    for (int i = std::max(0, x - 4); i <= std::min(rest.width() - 1, x + 4); ++i)
                        rest(i, j) = 0;
            } else if (most < 0.25f * v || most < 4 * floor) {
                ++peaks.lone;
                peaks.lone_excess += v / floor;
                lone.emplace_back(x, y);
            }
        }
    find_faint_stars(std::move(rest), lone, floor, peaks);
}

} // namespace

Look look_at(const FrameReader& reader, const LookOptions& options) {
    Look look;
    const auto grid =
        window_grid(reader.width(), reader.height(), options.windows > 0 ? options.windows : kMostWindows);
    std::vector<float> levels, noises, all;
    std::array<double, 4> phases{};
    Peaks peaks;
    double pixels = 0;
    float highest = -1e30f, lowest = 1e30f;
    std::vector<std::pair<double, float>> by_radius; // squared distance from the middle, level
    std::vector<float> tops;                         // the highest pixels of each window, to see clipping
    std::size_t at_top = 0;
    std::vector<Image> windows;
    for (const Region& r : grid) {
        if (r.width < 8 || r.height < 8) continue;
        Image window(r.width, r.height);
        reader.read(r, window.plane());
        for (const float v : window.pixels()) {
            if (v > highest) {
                highest = v;
                at_top = 0;
            }
            at_top += v == highest;
            if (std::isfinite(v)) lowest = std::min(lowest, v);
        }
        WindowLook w;
        if (!flatten(window, w)) continue;
        find_peaks(window, w.noise, peaks);
        levels.push_back(w.level);
        noises.push_back(w.noise);
        for (std::size_t p = 0; p < 4; ++p)
            phases[p] += w.phase[p];
        const double dx = (r.x + 0.5 * r.width) / reader.width() - 0.5,
                     dy = (r.y + 0.5 * r.height) / reader.height() - 0.5;
        by_radius.emplace_back(dx * dx + dy * dy, w.level);
        pixels += static_cast<double>(r.area());
    }
    look.windows = static_cast<int>(levels.size());
    if (levels.empty()) return look;
    std::sort(by_radius.begin(), by_radius.end());
    const std::size_t fifth = std::max<std::size_t>(1, by_radius.size() / 5);
    std::vector<float> middle, corner;
    for (std::size_t i = 0; i < fifth; ++i) {
        middle.push_back(by_radius[i].second);
        corner.push_back(by_radius[by_radius.size() - 1 - i].second);
    }
    look.falloff = median_in_place(middle) - median_in_place(corner);
    look.shape_low = quantile_in_place(levels, 0.05);
    look.shape_high = quantile_in_place(levels, 0.95);
    look.level = median_in_place(levels);
    look.noise = median_in_place(noises);
    const double n = static_cast<double>(look.windows);
    const auto [least, most] = std::minmax_element(phases.begin(), phases.end());
    look.phase_spread = (*most - *least) / n;
    const double share = static_cast<double>(at_top) / pixels;
    look.clipped = share > 1e-3 && highest > lowest ? share : 0;
    // Saturation: as told; else the bit depth that the highest count fits.
    look.full_scale = options.full_scale;
    look.highest = highest;
    if (look.full_scale <= 0)
        look.full_scale = look.clipped > 0 && highest > 1000 ? highest : std::max(65535.0, full_scale_above(highest));
    if (highest <= 1.5f) look.full_scale = 1;
    look.lone = static_cast<double>(peaks.lone) / pixels;
    look.lone_excess = peaks.lone ? peaks.lone_excess / static_cast<double>(peaks.lone) : 0;
    look.stars = static_cast<double>(peaks.stars.size()) / pixels * 1e6;
    if (!peaks.stars.empty()) {
        std::sort(peaks.stars.rbegin(), peaks.stars.rend());
        look.star_peak = peaks.stars[std::min<std::size_t>(2, peaks.stars.size() - 1)];
    }
    reader.release();
    return look;
}

double full_scale_above(double highest) {
    for (const double step : {1.5, 255.0, 4095.0, 16383.0, 65535.0})
        if (highest <= step) return step == 1.5 ? 1 : step;
    return highest;
}

bool shows_stars(const Look& look) {
    return look.stars * 1e-6 * look.windows * kWindow * kWindow >= 3 && look.stars >= 4;
}

void add_to_context(LookContext& context, const Look& look) {
    if (look.windows == 0) return;
    context.floor = std::min(context.floor.value_or(look.level), look.level);
    context.highest = std::max(context.highest.value_or(look.highest), look.highest);
    if (!shows_stars(look)) return;
    context.darkest_starry = std::min(context.darkest_starry.value_or(look.level), look.level);
    context.brightest_starry = std::max(context.brightest_starry.value_or(look.level), look.level);
}

namespace {

/// What the skies of the other frames with stars say: where the heap holds dark and bright ones, the dark are lights
/// and the bright are flats of the twilight. Positive speaks for a light.
double sky_among_others(const LookContext& context, double floor, double scale, double share) {
    if (!context.darkest_starry || !context.brightest_starry) return 0;
    constexpr double kDarkSky = 0.02;                       // share of the full scale below which skies are all dark
    constexpr double kBothKinds = 1.2, kLightsDiffer = 0.8; // logarithms of ratios of levels
    const auto dark = [&](double level) { return std::max(kDarkSky, (level - floor) / scale); };
    const double darkest = dark(*context.darkest_starry);
    const double both = std::log(dark(*context.brightest_starry) / darkest);
    const double above = std::log(std::max(kDarkSky, share) / darkest);
    const double score = std::clamp(1.5 * (kLightsDiffer - above), -2.5, 1.5);
    return score > 0 && both < kBothKinds ? 0 : score;
}

} // namespace

RoleGuess guess_role(const Look& look, const LookContext& context) {
    if (look.windows == 0) return {Role::unknown, 0, "too small to look at"};
    const double scale =
        context.highest ? std::min(look.full_scale, full_scale_above(*context.highest)) : look.full_scale;
    // Without a companion to compare with, offsets of cameras lie below a few percent of the full scale.
    const double floor = context.floor.value_or(std::min(look.level, 0.02 * scale));
    const double signal = std::max(0.0, look.level - floor);
    const double share = signal / scale; // 0..1
    const double seconds = context.seconds.value_or(-1);
    const auto sure = [](double score) { return 0.5 + 0.5 * std::tanh(std::abs(score)); };
    if (shows_stars(look)) {
        // A light's brightest stars tower above its sky; on a sky flat they are ripples on a flood.
        const double contrast = look.star_peak / std::max(signal, 4 * look.noise);
        double score = 1.2 * std::log(contrast / 0.35) + 0.6 * std::log(look.stars / 60);
        if (share > 0) score -= 1.0 * std::log(std::max(share, 0.004) / 0.10);
        if (share > 0.13) score -= 0.5; // few skies are as bright, most flats are
        score += sky_among_others(context, floor, scale, share);
        if (seconds > 0) score += std::clamp(2 * std::log(seconds / 17), -2.5, 2.5);
        if (score > 0 || share < 0.04)
            return {Role::light, sure(share < 0.04 ? std::max(1.0, score) : score),
                    fmt::format("{:.0f} stars per megapixel above the sky", look.stars)};
        return {Role::flat, sure(score),
                fmt::format("evenly lit to {:.0f} % of the full scale, with a few faint stars", 100 * share)};
    }
    // Even light: high above the floor, or with the shape of the optics where that is lower.
    // Flats are taken brighter, and seldom for as long: what is dimmer, or held open longer, is a poor light.
    constexpr double kDimForFlat = 0.13, kDimForLongFlat = 0.2;
    if ((seconds > 15 && share > 0.06 && share < kDimForLongFlat) ||
        (seconds < 0 && look.stars > 0 && share > 0.06 && share < kDimForFlat))
        return {Role::light, 0.6, "a bright sky with hardly a star"};
    const double shape = (look.shape_high - look.shape_low) / std::max(signal, 1e-9 * scale);
    const bool lit = share > 0.06;
    // Long, or with a star or two: a poor light rather than a poor flat.
    const bool as_light = seconds > 15 || (seconds < 0 && look.stars > 0);
    const bool dimly_lit =
        share > 0.006 && signal > 6 * look.noise && look.falloff > 0.02 * signal && shape < 1.5 && !as_light;
    if (lit || dimly_lit) {
        const double score = lit ? 0.8 + std::log(share / 0.06) : 0.7;
        return {Role::flat, sure(score),
                fmt::format("evenly lit to {:.1f} % of the full scale, without stars", 100 * share)};
    }
    if ((share > 0.012 && signal > 12 * look.noise) ||
        (as_light && share > 0.003 && signal > 2 * look.noise && look.falloff > 0.02 * signal) ||
        (as_light && share > 0.0003 && signal > 3 * look.noise && look.falloff > 0.08 * signal) ||
        (as_light && signal > 1.5 * look.noise && look.falloff > 0.3 * signal && look.falloff > 0.5 * look.noise))
        return {Role::light, 0.5, "a lit sky without stars"};
    // Dark: hot pixels grow with the exposure; a bias has next to none.
    const double hot = look.lone * std::max(1.0, look.lone_excess / 20); // many, or few and strong
    if (seconds >= 0) {
        if (seconds <= 0.02) return {Role::bias, 0.9, "no light, the shortest of exposures"};
        if (seconds > 1) return {Role::dark, 0.9, fmt::format("no light in {:g} s, {:.0f} stars", seconds, look.stars)};
    }
    const double score = std::log(std::max(hot, 1e-7) / 3e-5);
    if (score > 0)
        return {Role::dark, sure(0.5 * score),
                fmt::format("no light, hot pixels on {:.3f} % of the frame", 100 * look.lone)};
    return {Role::bias, sure(0.5 * score), "no light, hardly a hot pixel"};
}

} // namespace kasane

#include <kasane/calibration/flat_fit.hpp>

#include <kasane/base/units.hpp>
#include <kasane/calibration/own_corrections.hpp>
#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <vector>

namespace kasane {

namespace {

constexpr int kMostBlocks = 96; // along the longer side

/// Medians of blocks of a plane; of a mosaic, of sums over 2 x 2 pixels, so that its colours mix alike everywhere.
Image block_levels(View<const float> v, bool mosaic, int block) {
    Image out(v.width / block, v.height / block);
    const int step = mosaic ? 2 : 1;
    std::vector<float> values;
    for (int j = 0; j < out.height(); ++j)
        for (int i = 0; i < out.width(); ++i) {
            values.resize(static_cast<std::size_t>(block / step) * static_cast<std::size_t>(block / step));
            float* to = values.data();
            for (int y = j * block; y < (j + 1) * block; y += step) {
                const float *row = v.row(y), *below = v.row(mosaic ? y + 1 : y);
                for (int x = i * block; x < (i + 1) * block; x += step) {
                    *to = mosaic ? 0.25f * (row[x] + row[x + 1] + below[x] + below[x + 1]) : row[x];
                    to += std::isfinite(*to);
                }
            }
            values.resize(static_cast<std::size_t>(to - values.data()));
            out(i, j) = values.empty() ? kNoData : median_in_place(values);
        }
    return out;
}

/// Takes a tilted plane off, robustly.
void remove_plane(Image& v) {
    const auto row = [&](int i, int j) {
        return Eigen::Vector3d(1, 2.0 * i / std::max(1, v.width() - 1) - 1, 2.0 * j / std::max(1, v.height() - 1) - 1);
    };
    std::vector<Equation<3>> blocks;
    for (int j = 0; j < v.height(); ++j)
        for (int i = 0; i < v.width(); ++i)
            if (std::isfinite(v(i, j))) blocks.push_back({row(i, j), v(i, j)});
    const Eigen::Vector3d plane = robust_fit(blocks);
    if (!plane.allFinite()) return; // a single row of blocks, say: nothing can be told of its tilt
    for (int j = 0; j < v.height(); ++j)
        for (int i = 0; i < v.width(); ++i)
            v(i, j) -= static_cast<float>(plane.dot(row(i, j)));
}

/// Each block less the median of those around it: dust stays, vignetting and sky go.
Image fine_structure(const Image& v) {
    constexpr int kReach = 4;
    Image out(v.width(), v.height());
    std::vector<float> around;
    for (int j = 0; j < v.height(); ++j)
        for (int i = 0; i < v.width(); ++i) {
            // At the edge the neighbours lie on one side, and vignetting would show.
            constexpr int kEdge = 2;
            if (i < kEdge || j < kEdge || i >= v.width() - kEdge || j >= v.height() - kEdge) {
                out(i, j) = kNoData;
                continue;
            }
            around.clear();
            for (int y = std::max(0, j - kReach); y <= std::min(v.height() - 1, j + kReach); ++y)
                for (int x = std::max(0, i - kReach); x <= std::min(v.width() - 1, i + kReach); ++x)
                    if (std::isfinite(v(x, y))) around.push_back(v(x, y));
            out(i, j) = around.empty() ? kNoData : v(i, j) - median_in_place(around);
        }
    return out;
}

float spread_of(const Image& v) {
    std::vector<float> values;
    for (const float x : v.pixels())
        if (std::isfinite(x)) values.push_back(x);
    return clipped_statistics(values, 6).sigma;
}

struct Slope {
    double value = 0, sigma = 1e9;
};

/// Slope of y on x through the origin with Huber's weights; the error from the four quarters of the frame.
Slope slope_of(const Image& x, const Image& y) {
    const auto fit = [&](int quarter) {
        double value = 0, spread = 1e9;
        for (int round = 0; round < 10; ++round) {
            double xx = 0, xy = 0;
            std::vector<float> residuals;
            for (int j = 0; j < x.height(); ++j)
                for (int i = 0; i < x.width(); ++i) {
                    const int q = (2 * i >= x.width()) + 2 * (2 * j >= x.height());
                    const double a = x(i, j), b = y(i, j);
                    if ((quarter >= 0 && q != quarter) || !std::isfinite(a) || !std::isfinite(b)) continue;
                    const double r = b - value * a, w = std::min(1.0, 1.5 * spread / std::max(1e-12, std::abs(r)));
                    xx += w * a * a;
                    xy += w * a * b;
                    residuals.push_back(static_cast<float>(r));
                }
            if (!(xx > 0)) return Slope{};
            value = xy / xx;
            spread = std::max(1e-9f, mad_sigma_in_place(residuals, 0));
        }
        return Slope{value, 0};
    };
    Slope all = fit(-1);
    double squares = 0;
    for (int q = 0; q < 4; ++q)
        squares += std::pow(fit(q).value - all.value, 2);
    all.sigma = std::sqrt(squares / 3) / 2;
    return all;
}

/// Error of the slope of y on x, blocks of y being as uncertain as they scatter, and neighbours alike.
double slope_error(const Image& x, const Image& y) {
    constexpr double kAlikeNeighbours = 3;
    double xx = 0;
    for (std::size_t i = 0; i < x.pixels().size(); ++i)
        if (std::isfinite(x.pixels()[i]) && std::isfinite(y.pixels()[i]))
            xx += static_cast<double>(x.pixels()[i]) * x.pixels()[i];
    return xx > 0 ? kAlikeNeighbours * spread_of(y) / std::sqrt(xx) : 1e9;
}

/// How alike two structures are, 0..1: their correlation.
double correlation(const Image& x, const Image& y) {
    double xx = 0, yy = 0, xy = 0;
    double highest = 0;
    for (const float v : x.pixels())
        if (std::isfinite(v)) highest = std::max<double>(highest, std::abs(v));
    const double most = 2 * highest; // what the light has beyond that (stars) is none of the flat's
    for (std::size_t i = 0; i < x.pixels().size(); ++i) {
        const double a = x.pixels()[i], b = std::clamp<double>(y.pixels()[i], -most, most);
        if (!std::isfinite(a) || !std::isfinite(b)) continue;
        xx += a * a, yy += b * b, xy += a * b;
    }
    return xx > 0 && yy > 0 ? xy / std::sqrt(xx * yy) : 0;
}

Image turned(const Image& v, int degrees) {
    const bool sideways = degrees == 90 || degrees == 270;
    Image out(sideways ? v.height() : v.width(), sideways ? v.width() : v.height());
    for (int y = 0; y < v.height(); ++y)
        for (int x = 0; x < v.width(); ++x) {
            const int w = v.width() - 1, h = v.height() - 1;
            if (degrees == 180)
                out(w - x, h - y) = v(x, y);
            else if (degrees == 90)
                out(h - y, x) = v(x, y);
            else
                out(y, w - x) = v(x, y);
        }
    return out;
}

void relative_to_level(Image& v) {
    std::vector<float> values;
    for (const float x : v.pixels())
        if (std::isfinite(x)) values.push_back(x);
    const float level = values.empty() ? 0 : median_in_place(values);
    for (float& x : v.pixels())
        x = level > 0 && x > 0.02f * level ? std::log(x / level) : kNoData;
}

} // namespace

int block_side(int width, int height) {
    return std::max(8, (std::max(width, height) / kMostBlocks) & ~1);
}

BlockLevels light_levels(const CalibratedView& view) {
    CalibrationSet without = view.calibration();
    without.flat = nullptr;
    const CalibratedView plain(view.shared_raw(), without);
    Image pixels(view.width(), view.height());
    plain.read(view.bounds(), pixels.plane());
    plain.release();
    const bool mosaic = !without.cfa.empty();
    const int block = block_side(view.width(), view.height());
    return {block_levels(pixels.plane(), mosaic, block), block,
            static_cast<double>(difference_noise(pixels.plane(), mosaic ? 2 : 1))};
}

BlockLevels flat_levels(const CalibratedView& view, int block) {
    const CalibrationSet& set = view.calibration();
    if (!set.flat) return {};
    const FrameReader& flat = *set.flat;
    Image levels(flat.width() / block, flat.height() / block), band(flat.width(), block);
    for (int j = 0; j < levels.height(); ++j) {
        flat.read({0, j * block, band.width(), block}, band.plane());
        const Image row = block_levels(band.plane(), !set.cfa.empty(), block);
        std::copy(row.pixels().begin(), row.pixels().end(), levels.plane().row(j));
    }
    flat.release();
    return {std::move(levels), block, 0};
}

BlockLevels before_flat(const BlockLevels& calibrated, const BlockLevels& flat) {
    const Image &c = calibrated.levels, &f = flat.levels;
    BlockLevels out = calibrated;
    out.levels = Image(std::min(c.width(), f.width()), std::min(c.height(), f.height()));
    for (int j = 0; j < out.levels.height(); ++j)
        for (int i = 0; i < out.levels.width(); ++i)
            out.levels(i, j) = c(i, j) * f(i, j);
    return out;
}

FlatFit fit_flat(const CalibratedView& view) {
    if (!view.calibration().flat || view.planes() != 1) return fit_flat(BlockLevels{}, BlockLevels{});
    const BlockLevels light = light_levels(view);
    return fit_flat(light, flat_levels(view, light.block));
}

FlatFit fit_flat(const BlockLevels& of_light, const BlockLevels& of_flat) {
    FlatFit fit;
    fit.fine = kNoData;
    Image light = of_light.levels, flat = of_flat.levels;
    if (light.width() < 8 || light.height() < 8 || flat.bounds() != light.bounds()) return fit;
    std::vector<float> levels(light.pixels().begin(), light.pixels().end());
    std::erase_if(levels, [](float v) { return !std::isfinite(v); });
    if (levels.empty()) return fit;
    const float level = median_in_place(levels);
    const double block_noise = 1.25 * of_light.noise / of_light.block; // of a median
    relative_to_level(light);
    relative_to_level(flat);
    remove_plane(light);
    remove_plane(flat);
    const Image fine_light = fine_structure(light), fine_flat = fine_structure(flat);

    constexpr double kStructure = 0.004; // relative: less is nothing to judge by
    const double relative_noise = level > 0 ? block_noise / level : 1;
    const double coarse_structure = spread_of(flat);
    double fine_peak = 0; // dust is rare: its deepest shadows, not the spread
    {
        std::vector<float> values;
        for (const float v : fine_flat.pixels())
            if (std::isfinite(v)) values.push_back(-v);
        fine_peak = values.empty() ? 0 : quantile_in_place(values, 0.998);
    }
    const bool bright = level > 0 && relative_noise < std::max(coarse_structure, fine_peak);
    if (!bright || (coarse_structure < kStructure && fine_peak < 3 * kStructure)) return fit;
    fit.measured = true;
    const Slope coarse = slope_of(flat, light);
    fit.strength = coarse.value;
    fit.sigma = coarse.sigma;
    const bool has_dust = fine_peak > 3 * kStructure && fine_peak > 4 * relative_noise;
    double alike = 0;
    if (has_dust) {
        fit.fine = slope_of(fine_flat, fine_light).value;
        fit.fine_sigma = slope_error(fine_flat, fine_light);
        alike = correlation(fine_flat, fine_light);
    }

    // Another orientation fits plainly better: dust shadows meet only in one.
    constexpr double kAlike = 0.35, kMuchMore = 0.1;
    if (has_dust) {
        double best = alike + kMuchMore;
        for (const int degrees : {90, 180, 270}) {
            const Image other = turned(fine_flat, degrees);
            if (other.bounds() != fine_light.bounds()) continue;
            if (const double c = correlation(other, fine_light); c > kAlike && c > best) {
                best = c;
                fit.turned = degrees;
            }
        }
    }
    constexpr double kWeak = 0.6, kStrong = 1.5, kSure = 4; // powers; errors
    const double off = std::abs(fit.strength - 1);
    // A nebula larger than the flat's structure says nothing of it, unless flat and light go together all the same.
    constexpr double kTogether = 0.7;
    const bool clear = spread_of(light) < coarse_structure || correlation(flat, light) > kTogether;
    if (!clear && !has_dust) fit.measured = false;
    const bool sure = clear && off > kSure * fit.sigma;
    constexpr double kFineSure = 3; // errors
    const bool too_little = !has_dust || (fit.fine < 0.7 && fit.fine + kFineSure * fit.fine_sigma < 1);
    // A nebula in the middle falls off as a lens does: only dust can tell that a flat does too little.
    const bool too_much = has_dust && alike > kAlike && fit.fine - kFineSure * fit.fine_sigma > 1.2;
    if (fit.turned)
        fit.doubt =
            fmt::format("its dust shadows meet the light's only when it is turned clockwise by {} degrees", fit.turned);
    else if (has_dust && fit.fine < 0.4 && fit.fine + kFineSure * fit.fine_sigma < 0.8 && alike < 0.3)
        fit.doubt = "the dust shadows that it takes out are not in the light: it belongs to another night, or the "
                    "camera was turned";
    else if (fit.strength < kWeak && sure && too_little)
        fit.doubt =
            fmt::format("it over-corrects: the light holds {:.2f} of its fall-off (an offset left in the lights, "
                        "taken out of the flats twice, or a flat of other optics)",
                        fit.strength);
    else if (fit.strength > kStrong && sure && too_much)
        fit.doubt = fmt::format("it under-corrects: the light falls off {:.2f} times as far (an offset left in the "
                                "flats, or a flat of other optics)",
                                fit.strength);
    return fit;
}

Illumination measure_illumination(View<const float> plane, const CfaPattern& cfa) {
    Illumination out;
    const int block = block_side(plane.width, plane.height);
    Image levels = block_levels(plane, !cfa.empty(), block);
    if (levels.width() < 4 || levels.height() < 4) return out;
    const auto around = [&](double cx, double cy) {
        std::vector<float> values;
        const int rx = std::max(1, levels.width() / 12), ry = std::max(1, levels.height() / 12);
        const int x = static_cast<int>(std::lround(cx * (levels.width() - 1))),
                  y = static_cast<int>(std::lround(cy * (levels.height() - 1)));
        for (int j = std::max(0, y - ry); j <= std::min(levels.height() - 1, y + ry); ++j)
            for (int i = std::max(0, x - rx); i <= std::min(levels.width() - 1, x + rx); ++i)
                if (std::isfinite(levels(i, j))) values.push_back(levels(i, j));
        return values.empty() ? kNoData : median_in_place(values);
    };
    const float middle = around(0.5, 0.5);
    out.corner_ratio = 0.25 * (around(0, 0) + around(1, 0) + around(0, 1) + around(1, 1)) / middle;
    relative_to_level(levels);
    remove_plane(levels);
    out.unevenness = spread_of(levels);
    out.defects =
        static_cast<int>(find_own_corrections(plane, cfa, {.lone_pixels = true, .spills = false}).defects.size());
    return out;
}

} // namespace kasane

#include <kasane/calibration/dark_fit.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <vector>

namespace kasane {

namespace {

constexpr int kBands = 24, kLeastPixels = 50;
constexpr double kTuning = 1.5; // of Huber's weights, in sigma

/// Local contrasts of two images over bands of rows spread over the frame.
struct Contrasts {
    std::vector<float> light, dark, level; ///< `level`: of the light's pixel itself, ADU
};

float contrast(const Image& v, int x, int y, int lag) {
    return v(x, y) - 0.5f * (v(x - lag, y) + v(x + lag, y));
}

/// `model` fills in the dark's image for a band.
template <class Model>
Contrasts collect(const FrameReader& raw, const CfaPattern& cfa, Model model) {
    Contrasts c;
    const int lag = cfa.empty() ? 1 : 2;
    const int rows = std::clamp(raw.height() / (10 * kBands), 2, 64);
    for (int b = 0; b < kBands; ++b) {
        const int y = static_cast<int>((b + 0.5) * (raw.height() - rows) / kBands);
        if (y < 0) continue;
        const Region band{0, y, raw.width(), rows};
        Image light(band.width, band.height), dark(band.width, band.height);
        raw.read(band, light.plane());
        model(band, light, dark);
        for (int j = 0; j < rows; ++j)
            for (int x = lag; x + lag < raw.width(); ++x) {
                const float l = contrast(light, x, j, lag), d = contrast(dark, x, j, lag);
                if (!std::isfinite(l) || !std::isfinite(d)) continue;
                c.light.push_back(l);
                c.dark.push_back(d);
                c.level.push_back(light(x, j));
            }
    }
    return c;
}

float sigma_of(std::vector<float> values) {
    return clipped_statistics(values, 3).sigma;
}

/// Slope of light against dark through the origin, over the pixels with structure.
struct Slope {
    double value = 0, sigma = 0;
    int pixels = 0;
};

Slope fit_slope(const Contrasts& c, const DarkFitOptions& o) {
    const double noise = sigma_of(c.light), limit = o.hot_sigmas * sigma_of(c.dark);
    Slope s;
    std::vector<std::size_t> used;
    for (std::size_t i = 0; i < c.dark.size(); ++i)
        if (c.dark[i] > limit && c.level[i] < o.saturation) used.push_back(i);
    s.pixels = static_cast<int>(used.size());
    if (s.pixels < kLeastPixels || !(noise > 0)) return s;
    s.value = 1;
    double spread = noise;
    for (int round = 0; round < 12; ++round) {
        double xx = 0, xy = 0;
        std::vector<float> residuals;
        for (const std::size_t i : used) {
            const double r = c.light[i] - s.value * c.dark[i];
            // Hot pixels scatter more, in proportion to what they add: the weight falls with it.
            const double sigma = std::hypot(spread, 0.05 * c.dark[i]);
            const double w = huber_weight(r, kTuning * sigma) / (sigma * sigma);
            xx += w * c.dark[i] * static_cast<double>(c.dark[i]);
            xy += w * c.dark[i] * static_cast<double>(c.light[i]);
            residuals.push_back(static_cast<float>(r));
        }
        if (!(xx > 0)) return {};
        const double next = xy / xx;
        spread = std::max(noise, 0.5 * static_cast<double>(mad_sigma_in_place(residuals, 0)));
        s.sigma = 1 / std::sqrt(xx);
        const bool settled = std::abs(next - s.value) < 1e-5;
        s.value = next;
        if (settled) break;
    }
    return s;
}

} // namespace

std::string DarkFitOptions::check() const {
    if (!(hot_sigmas > 0))
        return fmt::format("the structure of a dark stands out by more than 0 sigma, not {:g}", hot_sigmas);
    if (!(saturation > 0)) return fmt::format("light saturates above 0 ADU, not at {:g}", saturation);
    return {};
}

DarkFit fit_dark_factor(const FrameReader& raw, const FrameReader& dark, const FrameReader* bias,
                        const DarkFitOptions& o) {
    require_sense(o);
    const Contrasts c = collect(raw, o.cfa, [&](const Region& band, Image& light, Image& out) {
        dark.read(band, out.plane());
        if (!bias) return;
        Image offset(band.width, band.height);
        bias->read(band, offset.plane());
        for (std::size_t i = 0; i < out.pixels().size(); ++i) {
            out.pixels()[i] -= offset.pixels()[i];
            light.pixels()[i] -= offset.pixels()[i];
        }
    });
    const Slope s = fit_slope(c, o);
    DarkFit fit{o.expected, 0, 0, s.pixels};
    constexpr double kAgrees = 2, kSure = 0.05; // errors; relative
    if (s.sigma <= 0 || s.sigma > kSure * o.expected || !std::isfinite(s.value)) return fit;
    if (std::abs(s.value - o.expected) < kAgrees * s.sigma) return fit;
    fit.factor = std::clamp(s.value, o.expected / o.most_deviation, o.expected * o.most_deviation);
    fit.sigma = s.sigma;
    return fit;
}

DarkFit fit_dark_mixture(const FrameReader& raw, const FrameReader& dark, const FrameReader& second,
                         const DarkFitOptions& o) {
    // light - dark = share (second - dark): the slope against the difference of both.
    DarkFit fit{1, 0, 0, 0};
    for (const bool warmer : {true, false}) { // structure of either sign: the second may be the colder
        const Contrasts c = collect(raw, o.cfa, [&](const Region& band, Image& light, Image& out) {
            Image first(band.width, band.height);
            dark.read(band, first.plane());
            second.read(band, out.plane());
            for (std::size_t i = 0; i < out.pixels().size(); ++i) {
                out.pixels()[i] = (warmer ? 1.0f : -1.0f) * (out.pixels()[i] - first.pixels()[i]);
                light.pixels()[i] = (warmer ? 1.0f : -1.0f) * (light.pixels()[i] - first.pixels()[i]);
            }
        });
        DarkFitOptions signless = o;
        signless.saturation = 1e30;
        const Slope s = fit_slope(c, signless);
        constexpr double kBetter = 3; // errors
        if (s.pixels <= fit.pixels || s.sigma <= 0) continue;
        fit.pixels = s.pixels;
        const double share = std::clamp(s.value, 0.0, 1.0);
        const bool better = share > kBetter * s.sigma;
        fit.second_share = better ? share : 0;
        fit.sigma = better ? s.sigma : 0;
    }
    return fit;
}

} // namespace kasane

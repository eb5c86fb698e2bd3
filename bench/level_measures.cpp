// F10: how well the frames of a stack are brought to one level, against noiseless skies.
#include "fidelity_measures.hpp"
#include "simulated.hpp"

#include <kasane/grading/measures.hpp>
#include <kasane/integration/edge_feather.hpp>
#include <kasane/io/memory_frame.hpp>
#include <kasane/normalization/levels.hpp>
#include <kasane/sky/instrument.hpp>

#include <cmath>
#include <fmt/format.h>

namespace kasane::bench {

namespace {

/// Lights of one field, in memory, with the sky that each would show without stars and noise.
struct Field {
    std::vector<Measures> measures;
    std::vector<Transform> to_frame; ///< from the first one's grid
    std::vector<Image> skies;        ///< nebula and glow, ADU above the offset
    std::vector<std::vector<Streak>> streaks;
};

Field take(const sky::Scenario& s, const Context& context) {
    const sky::Scene scene = sky::make_scene(s.scene, context.workers);
    sky::Scene empty = scene;
    empty.stars.clear();
    const sky::InstrumentMaps maps = sky::make_maps(s.instrument, s.dust.front());
    const auto lights = lights_of(s);
    const Affine to_scene = true_transform(s, *lights.front()).inverse();
    Field f;
    f.measures.resize(lights.size());
    f.skies.resize(lights.size());
    f.streaks.resize(lights.size());
    for (const sky::Shot* l : lights)
        f.to_frame.emplace_back(true_transform(s, *l).after(to_scene));
    context.workers.for_each(lights.size(), [&](std::size_t k) {
        const sky::Shot& l = *lights[k];
        const sky::Camera camera{s.instrument, maps};
        sky::Conditions without_trails = l.conditions;
        without_trails.trails.clear();
        f.skies[k] = sky::render_light(empty, l.filter, camera, without_trails, l.seconds);
        for (float& v : f.skies[k].pixels())
            v /= static_cast<float>(s.instrument.gain);
        const auto raw = sky::expose(sky::render_light(scene, l.filter, camera, l.conditions, l.seconds), camera,
                                     {l.seconds, l.temperature, l.conditions.cosmic_rays}, s.seed * 7919 + k);
        Image pixels(s.instrument.width, s.instrument.height);
        for (std::size_t i = 0; i < pixels.pixels().size(); ++i)
            pixels.pixels()[i] = raw.pixels()[i];
        CalibrationSet set;
        set.offset_level = static_cast<float>(s.instrument.offset);
        MeasureOptions o;
        o.detect.saturation = static_cast<float>(0.9 * (s.instrument.saturation_adu - s.instrument.offset));
        const ExposureMeasures m = measure_exposure(
            std::make_shared<const CalibratedView>(std::make_shared<MemoryFrame>(std::move(pixels)), set), o);
        f.measures[k] = m.main();
        f.streaks[k] = m.streaks;
    });
    return f;
}

/// What is left between the frames, as means over squares of 64 pixels, in units of each frame's own noise.
struct Mismatch {
    double rms = 0, worst = 0;
};

/// What a frame shows at a place of the canvas, at its level; NaN where it shows nothing.
double level_value(const Field& f, std::size_t k, const LevelMap& map, Point at) {
    constexpr int kEdge = 2;
    const Image& sky = f.skies[k];
    const Point there = f.to_frame[k].map(at);
    if (!(there.x > kEdge && there.y > kEdge && there.x < sky.width() - kEdge && there.y < sky.height() - kEdge))
        return std::nan("");
    const int u = static_cast<int>(there.x), v = static_cast<int>(there.y);
    const double a = there.x - u, b = there.y - v;
    const double value =
        (sky(u, v) * (1 - a) + sky(u + 1, v) * a) * (1 - b) + (sky(u, v + 1) * (1 - a) + sky(u + 1, v + 1) * a) * b;
    return map.scale_at(at) * value + map.offset_at(at);
}

/// The mean over a square of the canvas; NaN where the frame does not show all of it.
double mean_of_square(const Field& f, std::size_t k, const LevelMap& map, int x0, int y0, int side) {
    constexpr int kEvery = 4;
    double sum = 0, count = 0;
    for (int y = y0; y < y0 + side; y += kEvery)
        for (int x = x0; x < x0 + side; x += kEvery) {
            sum += level_value(f, k, map, {static_cast<double>(x), static_cast<double>(y)});
            ++count;
        }
    return sum / count;
}

Mismatch mismatch_of(const Field& f, const StackLevels& levels, const Canvas& canvas) {
    constexpr int kSide = 64;
    double squares = 0, count = 0, worst = 0;
    for (int y = 0; y + kSide <= canvas.height; y += kSide)
        for (int x = 0; x + kSide <= canvas.width; x += kSide) {
            std::vector<std::pair<double, double>> seen; // value, sigma
            double sum = 0;
            for (std::size_t k = 0; k < f.skies.size(); ++k) {
                const double value = mean_of_square(f, k, levels.maps[k], x, y, kSide);
                if (!std::isfinite(value)) continue;
                seen.emplace_back(value, levels.maps[k].scale.value * f.measures[k].noise);
                sum += value;
            }
            if (seen.size() < 2) continue;
            const double mean = sum / static_cast<double>(seen.size());
            for (const auto& [value, sigma] : seen) {
                const double d = (value - mean) / sigma;
                squares += d * d;
                worst = std::max(worst, std::abs(d));
                ++count;
            }
        }
    return {std::sqrt(squares / count), worst};
}

/// How far the mean of all frames, weighed by their noise and fading towards their edges as by default, steps over the
/// last pixels of one of them: means over stretches of 64 pixels along its edges, in units of the noise of that mean.
Mismatch steps_at_edges(const Field& f, const StackLevels& levels, const Canvas& canvas) {
    constexpr int kStretch = 64, kEvery = 4;
    constexpr double kDepth = 4; // pixels inside the frame
    const std::size_t n = f.skies.size();
    const auto weight = [&](std::size_t k) {
        const double sigma = levels.maps[k].scale.value * f.measures[k].noise;
        return 1 / (sigma * sigma);
    };
    const auto faded = [&](std::size_t k, Point at) {
        const Image& sky = f.skies[k];
        const Point there = f.to_frame[k].map(at);
        const double right = sky.width() - 0.5, bottom = sky.height() - 0.5;
        const double deep = std::min({there.x + 0.5, right - there.x, there.y + 0.5, bottom - there.y});
        return weight(k) * feather_share(deep, default_feather(sky.width(), sky.height()));
    };
    double squares = 0, count = 0, worst = 0;
    const auto stretch = [&](std::size_t own, Point from, Point step) {
        double sum = 0;
        for (int i = 0; i < kStretch; i += kEvery) {
            const Point at = f.to_frame[own].unmap({from.x + i * step.x, from.y + i * step.y});
            if (!(at.x >= 0 && at.y >= 0 && at.x < canvas.width && at.y < canvas.height)) return;
            double others = 0, all = 0, variance = 0; // of the sum of all
            const auto add_noise_of = [&](std::size_t k) { variance += faded(k, at) * faded(k, at) / weight(k); };
            add_noise_of(own);
            for (std::size_t k = 0; k < n; ++k) {
                const double value = k == own ? std::nan("") : level_value(f, k, levels.maps[k], at);
                if (!std::isfinite(value)) continue;
                others += faded(k, at) * value, all += faded(k, at);
                add_noise_of(k);
            }
            if (all == 0) return; // nothing beyond the edge
            const double off = level_value(f, own, levels.maps[own], at) - others / all;
            sum += faded(own, at) * off / std::sqrt(variance); // what it adds to the mean over the mean's noise
        }
        const double step_here = sum / (kStretch / kEvery);
        if (!std::isfinite(step_here)) return;
        squares += step_here * step_here;
        worst = std::max(worst, std::abs(step_here));
        ++count;
    };
    for (std::size_t k = 0; k < n; ++k) {
        const double right = f.skies[k].width() - 1 - kDepth, bottom = f.skies[k].height() - 1 - kDepth;
        for (double x = kDepth; x + kStretch < right; x += kStretch)
            for (const double y : {kDepth, bottom})
                stretch(k, {x, y}, {1, 0});
        for (double y = kDepth; y + kStretch < bottom; y += kStretch)
            for (const double x : {kDepth, right})
                stretch(k, {x, y}, {0, 1});
    }
    return {std::sqrt(squares / count), worst};
}

} // namespace

std::vector<Figure> level_mismatch(const Context& context) {
    struct Kind {
        const char* name;
        bool bow, lamp, trails;
        double veil;
        int stars;
    };
    std::vector<Figure> figures;
    for (const Kind& kind : {Kind{"linear gradients, sparse field", false, false, false, 0, 150},
                             Kind{"quadratic gradients, nebula that fills the field", true, false, true, 3, 600},
                             Kind{"quadratic gradients and a moving lamp, crowded", true, true, true, 3, 6000}}) {
        sky::PlainOptions o;
        o.width = 1600;
        o.height = 1100;
        o.lights = 12;
        o.calibration = 0;
        o.stars = kind.stars;
        o.seconds = 180;
        o.nebula = 4;
        o.transparency_low = 0.4;
        o.sky_spread = 1;
        o.gradient = 0.25;
        o.rotation = 2;
        o.fwhm_spread = 0.3;
        o.trails = kind.trails ? 4 : 0;
        o.cosmic_rays = kind.trails ? 200 : 0;
        o.seed = 1010 + static_cast<std::uint64_t>(kind.stars);
        sky::Scenario s = sky::plain_scenario(o);
        s.scene.veil = kind.veil;
        s.scene.texture = kind.veil > 0 ? 0.15 : 0;
        s.instrument.vignetting = s.instrument.hot_share = s.instrument.dead_share = s.instrument.offset_pattern =
            s.instrument.response_spread = s.instrument.glow = s.instrument.dark_rate = 0;
        s.dust = {{}};
        int k = 0;
        for (sky::Shot& shot : s.shots) {
            sky::Conditions& c = shot.conditions;
            if (kind.bow) c.bow = 0.15 * std::sin(1.0 + k);
            if (kind.lamp) c.lamps = {{200.0 + 100 * k, 900.0 - 60 * k, 260, 0.15 * c.sky}};
            ++k;
        }
        const Field f = take(s, context);
        std::vector<LevelInput> inputs;
        for (std::size_t i = 0; i < f.measures.size(); ++i)
            inputs.push_back({&f.measures[i], f.to_frame[i], o.seconds, o.width, o.height, &f.streaks[i]});
        const Canvas canvas = reference_canvas(o.width, o.height);
        const StackLevels levels = fit_stack_levels(inputs, canvas, context.workers);
        const Mismatch m = mismatch_of(f, levels, canvas);
        figures.push_back({"F10", fmt::format("background mismatch, transparency 0.4 to 1, {}: RMS", kind.name), m.rms,
                           "sigma of a frame", 0.1});
        figures.push_back({"F10", "the worst of its 64-pixel places", m.worst, "sigma of a frame", 0.4});
        const Mismatch edges = steps_at_edges(f, levels, canvas);
        figures.push_back({"F10", "the step of the mean where a frame ends: RMS", edges.rms, "sigma of the mean", 0.1});
        figures.push_back({"F10", "the worst of its 64-pixel stretches", edges.worst, "sigma of the mean", 0.1});
        double squares = 0, told = 0, mean = 0;
        const auto lights = lights_of(s);
        std::vector<double> logs;
        for (std::size_t i = 0; i < lights.size(); ++i) {
            logs.push_back(std::log(levels.scales[i].scale * lights[i]->conditions.transparency));
            mean += logs.back() / static_cast<double>(lights.size());
            told += levels.scales[i].error / static_cast<double>(lights.size());
        }
        for (const double l : logs)
            squares += (l - mean) * (l - mean) / static_cast<double>(lights.size());
        figures.push_back({"F10", fmt::format("error of the scales (told: {:.2g} %)", 100 * told),
                           100 * std::sqrt(squares), "%", 0.5});
    }
    return figures;
}

} // namespace kasane::bench

// F12, and what else a drizzled master has to keep: stars, flux and noise against the interpolated one of the same
// frames.
#include "fidelity_measures.hpp"
#include "simulated.hpp"

#include <kasane/base/units.hpp>
#include <kasane/integration/drizzle.hpp>
#include <kasane/integration/sampling.hpp>
#include <kasane/sky/instrument.hpp>
#include <kasane/stars/detection.hpp>

#include <cmath>
#include <fmt/format.h>

namespace kasane::bench {

namespace {

struct Field {
    sky::Scenario scenario;
    sky::Scene scene;
    std::vector<Transform> to_frame; ///< from the first one's grid
    std::vector<Image> noiseless;    ///< ADU above the offset
    std::vector<StackFrame> frames;  ///< calibrated
    std::vector<double> levels{0};
};

Field take(const sky::PlainOptions& o, const Context& context, std::uint64_t noise_seed) {
    Field f{sky::plain_scenario(o), {}, {}, {}, {}};
    sky::Instrument& camera = f.scenario.instrument;
    camera.vignetting = camera.hot_share = camera.dead_share = camera.offset_pattern = camera.response_spread =
        camera.glow = camera.dark_rate = 0;
    f.scenario.dust = {{}};
    f.scene = sky::make_scene(f.scenario.scene, context.workers);
    const sky::InstrumentMaps maps = sky::make_maps(camera, f.scenario.dust.front());
    const auto lights = lights_of(f.scenario);
    const Affine to_scene = true_transform(f.scenario, *lights.front()).inverse();
    f.noiseless.resize(lights.size());
    f.frames.resize(lights.size());
    context.workers.for_each(lights.size(), [&](std::size_t k) {
        const sky::Shot& l = *lights[k];
        sky::Conditions clean = l.conditions;
        clean.trails.clear();
        f.noiseless[k] = sky::render_light(f.scene, l.filter, {camera, maps}, clean, l.seconds);
        for (float& v : f.noiseless[k].pixels())
            v /= static_cast<float>(camera.gain);
        const auto raw =
            sky::expose(sky::render_light(f.scene, l.filter, {camera, maps}, l.conditions, l.seconds), {camera, maps},
                        {l.seconds, l.temperature, l.conditions.cosmic_rays}, noise_seed * 7919 + k);
        Image pixels(camera.width, camera.height);
        for (std::size_t i = 0; i < pixels.pixels().size(); ++i)
            pixels.pixels()[i] = static_cast<float>(raw.pixels()[i] - camera.offset);
        const double sky = l.conditions.sky * l.seconds; // electrons
        const double noise = std::sqrt(sky + camera.read_noise * camera.read_noise) / camera.gain;
        f.frames[k] = {std::make_shared<const ImagePlanes>(std::move(pixels)),
                       {{Transform(true_transform(f.scenario, l).after(to_scene)), {}, noise, o.fwhm}},
                       camera.gain};
        f.frames[k].planes[0].level.centre = reference_canvas(camera.width, camera.height).centre();
    });
    for (const StackFrame& frame : f.frames)
        f.to_frame.push_back(frame.planes[0].to_frame);
    f.levels = {lights.front()->conditions.sky * lights.front()->seconds / camera.gain};
    return f;
}

/// Relative errors of the fluxes of stars of S/N above 200, in an image `scale` times as fine as the first frame.
std::vector<float> flux_errors(const Field& f, const MasterLight& m, double scale) {
    std::vector<float> out;
    constexpr double kRadius = 7;
    const Affine from_scene = true_transform(f.scenario, *lights_of(f.scenario).front());
    const sky::Shot& first = *lights_of(f.scenario).front();
    for (const sky::SceneStar& s : f.scene.stars) {
        const double electrons = s.rate.at(first.filter) * first.seconds;
        double x = 0, y = 0;
        from_scene.apply(s.x, s.y, x, y);
        if (electrons < 40000 || electrons > 150000) continue;
        double should = 0, weights = 0;
        for (std::size_t k = 0; k < f.frames.size(); ++k) {
            const Point at = f.to_frame[k].map({x, y});
            const double flux = aperture_flux(f.noiseless[k].plane(), at.x, at.y, kRadius);
            if (std::isfinite(flux)) should += m.weights[0][k] * flux, weights += m.weights[0][k];
        }
        const double is =
            aperture_flux(m.pixels.plane(), (x + 0.5) * scale - 0.5, (y + 0.5) * scale - 0.5, kRadius * scale) /
            (scale * scale);
        if (weights > 0.99 && std::isfinite(is)) out.push_back(static_cast<float>(is * weights / should - 1));
    }
    return out;
}

/// Noise of a pixel as what is large sees it, at the level of `Field` and where it is as usual.
struct LargeNoise {
    double at_level = 0, at_usual = 0;
};

/// By the difference of two images (over sqrt 2) under Gaussian windows of 3 pixels of a frame (sigma), which have no
/// edges that an image smoother than another hides noise at. Windows are made alike by the photons that fell into them.
LargeNoise large_noise(const Field& f, const Image& first, const Image& second, double scale) {
    constexpr double kWidth = 3;
    const double width = kWidth * scale;
    const int reach = static_cast<int>(4 * width), step = static_cast<int>(2.5 * width);
    const sky::Instrument& camera = f.scenario.instrument;
    const double dark = camera.read_noise * camera.read_noise / (camera.gain * camera.gain);
    std::vector<float> means, variances;
    for (int y = 2 * reach; y + 2 * reach < first.height(); y += step)
        for (int x = 2 * reach; x + 2 * reach < first.width(); x += step) {
            double sum = 0, light = 0, weights = 0;
            for (int j = -reach; j <= reach; ++j)
                for (int i = -reach; i <= reach; ++i) {
                    const double w = std::exp(-0.5 * (i * i + j * j) / (width * width));
                    sum += w * (static_cast<double>(first(x + i, y + j)) - second(x + i, y + j)), weights += w;
                    const auto at = [&](int v) { return static_cast<int>((v + 0.5) / scale); };
                    light += w * w * f.noiseless.front()(at(x + i), at(y + j));
                }
            if (!std::isfinite(sum)) continue;
            means.push_back(static_cast<float>(sum / weights));
            // The squares of a Gaussian's weights are half as much as its weights.
            variances.push_back(static_cast<float>(light / (weights / 2) / camera.gain + dark));
        }
    std::vector<float> alike(means.size());
    for (std::size_t i = 0; i < means.size(); ++i)
        alike[i] = means[i] / std::sqrt(variances[i]);
    const double of_one = clipped_statistics(alike, 4).sigma / std::sqrt(2.0) * std::sqrt(4 * kPi) * width;
    return {of_one * std::sqrt(f.levels[0] / camera.gain + dark),
            of_one * std::sqrt(clipped_statistics(variances, 4).location)};
}

/// What is advised to somebody who leaves it open, or asks for a way and leaves open whether to restore.
DrizzleOptions advised(const Field& f, const Canvas& canvas, const sky::PlainOptions& o, bool by_default) {
    std::vector<SampledFrame> sampled;
    for (const Transform& t : f.to_frame) {
        SampledFrame& s = sampled.emplace_back();
        s.to_frame = {t};
        s.fwhm = std::hypot(o.fwhm, 0.887); // of a pixel as wide as one
        s.width = o.width, s.height = o.height;
    }
    const auto best = advise_drizzle({sampled}, canvas, DropShape::square, std::nullopt);
    return advise_restoring({sampled}, canvas, by_default ? DrizzleOptions{} : best.value_or(DrizzleOptions{}),
                            std::nullopt);
}

} // namespace

std::vector<Figure> drizzled(const Context& context) {
    std::vector<Figure> figures;
    sky::PlainOptions o;
    o.width = 720;
    o.height = 540;
    o.lights = 36;
    o.calibration = 0;
    o.stars = 900;
    o.seconds = 180;
    o.nebula = 1;
    o.rotation = 1;
    o.dither = 8;
    o.fwhm = 1.3;
    o.seed = 1212;
    const Field f = take(o, context, 1), again = take(o, context, 2);
    const Canvas canvas = reference_canvas(o.width, o.height);
    const IntegrateOptions plain;
    const DrizzleOptions fine = advised(f, canvas, o, true);
    const MasterLight mean = integrate(f.frames, canvas, f.levels, context, plain),
                      mean_again = integrate(again.frames, canvas, f.levels, context, plain);
    const MasterLight drops = drizzle(f.frames, canvas, f.levels, context, plain, fine),
                      drops_again = drizzle(again.frames, canvas, f.levels, context, plain, fine);
    const double wide = detect_stars(mean.pixels.plane()).fwhm;
    const auto sharpness = [&](const MasterLight& m, const DrizzleOptions& by, const char* chosen) {
        const double width = detect_stars(m.pixels.plane()).fwhm / by.scale;
        figures.push_back({"F12",
                           fmt::format("FWHM drizzled at scale {:g} with drops of {:g}, {} ({:.2f} px of a frame) over "
                                       "interpolated ({:.2f}), frames of {} px",
                                       by.scale, by.drop, chosen, width, wide, o.fwhm),
                           width / wide, "x", 0.8});
    };
    sharpness(drops, fine, "by default");
    const DrizzleOptions best = advised(f, canvas, o, false);
    sharpness(drizzle(f.frames, canvas, f.levels, context, plain, best), best, "as advised");
    const auto error = [](std::vector<float> ratios) {
        return 100 * static_cast<double>(clipped_statistics(ratios, 4).location);
    };
    const std::vector<float> errors = flux_errors(f, drops, fine.scale);
    figures.push_back({"F12", fmt::format("flux of {} stars, raw to drizzled master", errors.size()),
                       std::abs(error(errors)), "%", 0.2});
    figures.push_back({"F12", "the same, interpolated", std::abs(error(flux_errors(f, mean, 1))), "%", 0.2});
    const LargeNoise noise = large_noise(f, drops.pixels, drops_again.pixels, fine.scale),
                     of_mean = large_noise(f, mean.pixels, mean_again.pixels, 1);
    const auto off = [](double told, double is) { return 100 * std::abs(told / is - 1); };
    figures.push_back({"F12", "noise of what is large, drizzled, against the interpolated",
                       off(noise.at_usual / fine.scale, of_mean.at_usual), "%", 2});
    figures.push_back({"F12", "noise as told (NOISE), drizzled", off(drops.noise[0], noise.at_usual), "%", 3});
    figures.push_back({"F12", "the same, interpolated", off(mean.noise[0], of_mean.at_usual), "%", 3});
    figures.push_back(
        {"F12", "noise as the frames let expect, drizzled", off(drops.expected_noise[0], noise.at_level), "%", 3});
    std::size_t holes = 0;
    for (int y = 40; y < drops.pixels.height() - 40; ++y)
        for (int x = 40; x < drops.pixels.width() - 40; ++x)
            holes += !std::isfinite(drops.pixels(x, y));
    figures.push_back({"F12", "pixels without data",
                       100 * static_cast<double>(holes) / static_cast<double>(drops.pixels.pixels().size()), "%",
                       0.01});
    figures.push_back(
        {"F12", "samples rejected",
         100.0 * static_cast<double>(drops.rejected_high + drops.rejected_low) / static_cast<double>(drops.samples),
         "%", 1});
    figures.push_back({"F12", "noise of a pixel over that told", drops.pixel_noise[0] / drops.noise[0], "x", 1});
    return figures;
}

} // namespace kasane::bench

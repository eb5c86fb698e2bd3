// F12, and what else a drizzled master has to keep: stars, flux and noise against the interpolated one of the same
// frames.
#include "fidelity_measures.hpp"
#include "simulated.hpp"

#include <kasane/integration/drizzle.hpp>
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

/// Standard deviation of the difference of two images over sqrt 2, by means over squares.
double block_noise(const Image& first, const Image& second, int side) {
    std::vector<float> means;
    for (int y = 4 * side; y + 5 * side <= first.height(); y += side)
        for (int x = 4 * side; x + 5 * side <= first.width(); x += side) {
            double sum = 0;
            for (int j = y; j < y + side; ++j)
                for (int i = x; i < x + side; ++i)
                    sum += static_cast<double>(first(i, j)) - second(i, j);
            if (std::isfinite(sum)) means.push_back(static_cast<float>(sum / (side * side)));
        }
    return clipped_statistics(means, 4).sigma / std::sqrt(2.0);
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
    const DrizzleOptions fine;
    const MasterLight mean = integrate(f.frames, canvas, f.levels, context, plain),
                      mean_again = integrate(again.frames, canvas, f.levels, context, plain);
    const MasterLight drops = drizzle(f.frames, canvas, f.levels, context, plain, fine),
                      drops_again = drizzle(again.frames, canvas, f.levels, context, plain, fine);
    const double width = detect_stars(drops.pixels.plane()).fwhm / fine.scale,
                 wide = detect_stars(mean.pixels.plane()).fwhm;
    figures.push_back({"F12",
                       fmt::format("FWHM drizzled ({:.2f} px of a frame) over interpolated ({:.2f}), frames of {} px",
                                   width, wide, o.fwhm),
                       width / wide, "x", 0.8});
    const auto error = [](std::vector<float> ratios) {
        return 100 * static_cast<double>(clipped_statistics(ratios, 4).location);
    };
    const std::vector<float> errors = flux_errors(f, drops, fine.scale);
    figures.push_back({"F12", fmt::format("flux of {} stars, raw to drizzled master", errors.size()),
                       std::abs(error(errors)), "%", 0.2});
    figures.push_back({"F12", "the same, interpolated", std::abs(error(flux_errors(f, mean, 1))), "%", 0.2});
    constexpr int kBlock = 8;
    const double noise = block_noise(drops.pixels, drops_again.pixels, static_cast<int>(kBlock * fine.scale)),
                 noise_of_mean = block_noise(mean.pixels, mean_again.pixels, kBlock);
    figures.push_back(
        {"F12", "noise of blocks of 8 pixels over that of the mean, drizzled", noise / noise_of_mean, "x", 1.02});
    const double told = drops.noise[0] / (kBlock * fine.scale);
    figures.push_back({"F12", "noise as told (NOISE) over that of blocks", 100 * std::abs(told / noise - 1), "%", 3});
    figures.push_back({"F12", "the same as its frames let expect",
                       100 * std::abs(drops.expected_noise[0] / (kBlock * fine.scale) / noise - 1), "%", 3});
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

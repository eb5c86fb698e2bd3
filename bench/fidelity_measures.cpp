#include "fidelity_measures.hpp"
#include "run_project.hpp"
#include "simulated.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/calibration/master.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/integration/noise_factors.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/project/run.hpp>
#include <kasane/sky/truth.hpp>
#include <kasane/stages/scan.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>

namespace fs = std::filesystem;

namespace kasane::bench {

namespace {

double mean_illumination(const Image& map) {
    double sum = 0;
    std::int64_t n = 0;
    for (const float v : map.pixels())
        if (v > 0.2f) {
            sum += v;
            ++n;
        }
    return sum / static_cast<double>(n);
}

} // namespace

namespace {

/// Fluxes of bright stars in the master light over their true ones, less 1.
std::vector<float> flux_errors(const sky::PlainOptions& o, const Context& context) {
    const Project p(sky::plain_scenario(o), context);
    const Image master = p.master();
    const sky::Scene scene = sky::make_scene(p.scenario.scene, context.workers);
    const double unit = p.level_transparency() * o.seconds / p.scenario.instrument.gain *
                        mean_illumination(sky::make_maps(p.scenario.instrument, p.scenario.dust.front()).illumination);
    sky::Conditions still;
    still.pointing = p.reference().conditions.pointing;
    still.fwhm = o.fwhm;
    const Image truth = sky::render_truth(scene, o.filter, p.scenario.instrument, still);
    const Affine to_pixel = true_transform(p.scenario, p.reference());
    std::vector<float> ratios;
    for (const sky::SceneStar& star : scene.stars) {
        const double electrons = star.rate.at(o.filter) * o.seconds;
        double x = 0, y = 0;
        to_pixel.apply(star.x, star.y, x, y);
        if (electrons < 40000 || electrons > 500000 || x < 60 || y < 60 || x > o.width - 60 || y > o.height - 60)
            continue; // S/N above 200, not saturated
        constexpr double kRadius = 8;
        const double is = aperture_flux(master.plane(), x, y, kRadius),
                     should = unit * aperture_flux(truth.plane(), x, y, kRadius);
        if (std::isfinite(is) && std::isfinite(should)) ratios.push_back(static_cast<float>(is / should - 1));
    }
    return ratios;
}

sky::PlainOptions flux_scene(std::uint64_t seed) {
    sky::PlainOptions o;
    o.width = 1000;
    o.height = 700;
    o.lights = 16;
    o.stars = 500;
    o.rotation = 2;
    o.nebula = 0;
    o.transparency_low = 0.7;
    o.sky_spread = 0.5;
    o.gradient = 0.05;
    o.seed = seed;
    return o;
}

} // namespace

std::vector<Figure> star_flux(const Context& context) {
    sky::PlainOptions o = flux_scene(501);
    o.flip = true;
    std::vector<float> ratios = flux_errors(o, context);
    const auto n = ratios.size();
    const RobustStatistics s = clipped_statistics(ratios, 4);
    return {
        {"F5", fmt::format("star flux, raw to master light, mean of {} stars", n),
         100 * std::abs(static_cast<double>(s.location)), "%", 0.2},
        {"F5", "the same, scatter from star to star (noise included)", 100 * static_cast<double>(s.sigma), "%", 0.5}};
}

std::vector<Figure> star_cores(const Context& context) {
    std::vector<Figure> figures;
    for (const int n : {8, 24}) {
        sky::PlainOptions o = flux_scene(510 + static_cast<std::uint64_t>(n));
        o.lights = n;
        o.fwhm_spread = 0.4;
        o.nebula = n == 24 ? 2 : 0;
        // The same frames with and without rejection: what the stars lost to it.
        const sky::Scenario scenario = sky::plain_scenario(o);
        const Project with(scenario, context),
            without(scenario, context, with.stack().reference, "[integration]\nrejection = \"none\"\n");
        const Image a = with.master(), b = without.master();
        const sky::Scene scene = sky::make_scene(scenario.scene, context.workers);
        const Affine to_pixel = true_transform(scenario, with.reference());
        double kept = 0, all = 0;
        int stars = 0;
        for (const sky::SceneStar& star : scene.stars) {
            const double electrons = star.rate.at(o.filter) * o.seconds;
            double x = 0, y = 0;
            to_pixel.apply(star.x, star.y, x, y);
            if (electrons < 20000 || x < 60 || y < 60 || x > o.width - 60 || y > o.height - 60) continue;
            constexpr double kRadius = 4; // the core
            const double here = aperture_flux(a.plane(), x, y, kRadius),
                         there = aperture_flux(b.plane(), x, y, kRadius);
            if (!std::isfinite(here) || !std::isfinite(there)) continue;
            kept += here / there;
            ++all, ++stars;
        }
        figures.push_back({"F8",
                           fmt::format("flux that stars lose to rejection, seeing varying by 40 %, N = {}{}, {} stars",
                                       n, o.nebula > 0 ? ", bright nebula" : "", stars),
                           100 * std::abs(kept / all - 1), "%", 0.3});
    }
    return figures;
}

std::vector<Figure> master_noise(const Context& context) {
    std::vector<Figure> figures;
    for (const int n : {5, 10, 30}) {
        sky::PlainOptions o;
        o.lights = n;
        o.calibration = 0;
        o.nebula = 0;
        o.stars = 90;
        o.transparency_low = 0.6;
        o.sky_spread = 1.0;
        o.seed = 600 + static_cast<std::uint64_t>(n);
        sky::Scenario s = sky::plain_scenario(o);
        s.instrument.vignetting = 0;
        s.instrument.hot_share = s.instrument.dead_share = 0;
        s.instrument.offset_pattern = 0;
        s.instrument.response_spread = 0;
        s.instrument.glow = 0;
        s.dust = {{}};
        const Project p(s, context);
        const Image master = p.master();
        const double level_transparency = p.level_transparency();
        // The best that inverse-variance weights can do with the true noise of each frame at the level's scale.
        double inverse = 0;
        std::vector<double> sigma2;
        for (const FrameReport& f : p.stack().frames) {
            const sky::Conditions& c = p.light(f.path).conditions;
            const double scale = level_transparency / c.transparency;
            const double electrons2 = c.sky * o.seconds + s.instrument.dark_rate * o.seconds +
                                      std::pow(s.instrument.read_noise, 2) + std::pow(s.instrument.gain, 2) / 12;
            sigma2.push_back(scale * scale * electrons2 / std::pow(s.instrument.gain, 2));
            inverse += 1 / sigma2.back();
        }
        // Resampling lowers the noise of single pixels; the same factors apply to the ideal.
        double ideal = 0;
        const Affine to_scene = true_transform(s, p.reference()).inverse();
        for (std::size_t i = 0; i < sigma2.size(); ++i) {
            const Affine t = true_transform(s, p.light(p.stack().frames[i].path)).after(to_scene);
            const double factor =
                p.stack().frames[i].path == p.stack().reference ? 1 : resampling_noise_factor(t, {o.width, o.height});
            ideal += factor / sigma2[i] / (inverse * inverse);
        }
        // Noise without structure: differences over five pixels, beyond the reach of the interpolation's correlation.
        const View<const float> middle = master.plane().crop({60, 60, o.width - 120, o.height - 120});
        const double measured = difference_noise(middle, 5, 2000000);
        figures.push_back({"F6", fmt::format("background noise of the master over the ideal, N = {}", n),
                           measured / std::sqrt(ideal), "x", n >= 10 ? 1.03 : 1.06});
    }
    return figures;
}

std::vector<Figure> outliers_left(const Context& context) {
    std::vector<Figure> figures;
    for (const int n : {4, 6, 9, 15, 30}) {
        sky::PlainOptions o;
        o.lights = n;
        o.calibration = 12;
        o.stars = 120;
        o.trails = std::max(1, n / 3);
        o.cosmic_rays = 60;
        o.transparency_low = 0.8;
        o.seed = 700 + static_cast<std::uint64_t>(n);
        const sky::Scenario dirty = sky::plain_scenario(o);
        sky::Scenario clean = dirty;
        for (sky::Shot& shot : clean.shots) {
            shot.conditions.trails.clear();
            shot.conditions.cosmic_rays = shot.role == sky::Shot::Role::light ? 0 : shot.conditions.cosmic_rays;
        }
        const Project with(dirty, context),
            without(clean, context, {}, fmt::format("[registration]\nreference = \"{}\"\n", with.stack().reference));
        if (with.stack().reference != without.stack().reference)
            throw DataError("the two runs chose different references", {}, {});
        const Image a = with.master();
        const Image b = without.master();
        // What the outliers added to each frame (the noise of both simulations is the same), brought to the reference.
        Image added(o.width, o.height);
        const Affine to_scene = true_transform(dirty, with.reference()).inverse();
        for (const FrameReport& f : with.stack().frames) {
            if (!f.used) continue;
            const Image x = read_plane(*open_fits(with.path() / f.path)),
                        y = read_plane(*open_fits(without.path() / f.path));
            const Affine back = true_transform(dirty, with.light(f.path)).after(to_scene).inverse();
            for (int v = 0; v < o.height; ++v)
                for (int u = 0; u < o.width; ++u) {
                    const float d = x(u, v) - y(u, v);
                    if (d < 30) continue; // above the differences of the noise
                    double rx = 0, ry = 0;
                    back.apply(u, v, rx, ry);
                    const int i = static_cast<int>(std::lround(rx)), j = static_cast<int>(std::lround(ry));
                    if (i >= 4 && j >= 4 && i < o.width - 4 && j < o.height - 4)
                        added(i, j) += static_cast<float>(f.weight * f.scale * d);
                }
        }
        double left = 0, all = 0;
        Mask near(o.width, o.height);
        for (int y = 4; y < o.height - 4; ++y)
            for (int x = 4; x < o.width - 4; ++x) {
                if (added(x, y) <= 0) continue;
                all += added(x, y);
                for (int j = -3; j <= 3; ++j)
                    for (int i = -3; i <= 3; ++i)
                        near(x + i, y + j) = 1;
            }
        // The two runs may have settled on slightly different levels: a line through the untouched pixels takes that
        // away.
        const auto both = [&](int x, int y) { return std::isfinite(a(x, y)) && std::isfinite(b(x, y)); };
        double n_far = 0, sa = 0, sb = 0, sab = 0, sbb = 0;
        for (int y = 0; y < o.height; ++y)
            for (int x = 0; x < o.width; ++x) {
                if (near(x, y) || !both(x, y)) continue;
                ++n_far;
                sa += a(x, y);
                sb += b(x, y);
                sab += static_cast<double>(a(x, y)) * b(x, y);
                sbb += static_cast<double>(b(x, y)) * b(x, y);
            }
        const double slope = (n_far * sab - sa * sb) / (n_far * sbb - sb * sb), intercept = (sa - slope * sb) / n_far;
        for (int y = 0; y < o.height; ++y)
            for (int x = 0; x < o.width; ++x)
                if (near(x, y) && both(x, y)) left += a(x, y) - (slope * b(x, y) + intercept);
        figures.push_back({"F7", fmt::format("trails and cosmic rays left in the master, N = {}", n),
                           100 * std::abs(left) / all, "%", n >= 10 ? 0.5 : 3});
    }
    return figures;
}

std::vector<Figure> illumination_left(const Context& context) {
    sky::PlainOptions o;
    o.lights = 16;
    o.calibration = 24;
    o.nebula = 0;
    o.stars = 60;
    o.dither = 0;
    o.seed = 901;
    sky::Scenario s = sky::plain_scenario(o);
    for (sky::Shot& shot : s.shots)
        shot.conditions.sky *= 4; // moonlight: shows what flats leave
    const Project p(s, context);
    // The calibrated frames themselves, averaged in their own pixels, so that nothing else takes part.
    CalibrationSet set;
    for (const MasterReport& m : p.report.masters) {
        if (m.role == "dark") set.dark = open_fits(fs::path(p.report.output) / m.file);
        if (m.role == "flat") set.flat = open_fits(fs::path(p.report.output) / m.file);
    }
    Image mean(o.width, o.height), one(o.width, o.height);
    const auto lights = lights_of(s);
    for (const sky::Shot* light : lights) {
        CalibratedView({open_fits(p.path() / light->path)}, set).read(one.bounds(), one.plane());
        for (std::size_t i = 0; i < mean.pixels().size(); ++i)
            mean.pixels()[i] += one.pixels()[i] / static_cast<float>(lights.size());
    }
    constexpr int kBlock = 32;
    std::vector<double> blocks;
    double noise2 = 0;
    for (int y = 0; y + kBlock <= o.height; y += kBlock)
        for (int x = 0; x + kBlock <= o.width; x += kBlock) {
            std::vector<float> values = sample_pixels(mean.plane().crop({x, y, kBlock, kBlock}), kBlock * kBlock);
            const RobustStatistics r = clipped_statistics(values, 2.5f);
            blocks.push_back(r.location);
            noise2 += static_cast<double>(r.sigma) * r.sigma / static_cast<double>(r.used);
        }
    double sum = 0, squares = 0;
    for (const double b : blocks)
        sum += b;
    const double level = sum / static_cast<double>(blocks.size());
    for (const double b : blocks)
        squares += (b - level) * (b - level);
    const double excess =
        squares / static_cast<double>(blocks.size() - 1) - noise2 / static_cast<double>(blocks.size());
    return {{"F9", "illumination left after flats (32-pixel blocks, noise taken off)",
             100 * std::sqrt(std::max(0.0, excess)) / level, "% RMS", 0.1}};
}

std::vector<Figure> calibration_noise(const Context& context) {
    sky::PlainOptions o;
    o.lights = 1;
    o.calibration = 20;
    o.cosmic_rays = 0;
    o.seed = 1401;
    const sky::Scenario s = sky::plain_scenario(o);
    const TemporaryFolder folder;
    sky::write_scenario(s, folder.path(), context);
    const sky::InstrumentMaps maps = sky::make_maps(s.instrument, s.dust.front());
    std::vector<std::shared_ptr<const FrameReader>> darks;
    for (const sky::Shot& shot : s.shots)
        if (shot.role == sky::Shot::Role::dark) darks.push_back(open_fits(folder.path() / shot.path));
    const MasterResult m = build_master(Role::dark, darks, nullptr, context);
    const double g = s.instrument.gain;
    std::vector<float> residuals;
    double ideal2 = 0;
    for (int y = 0; y < o.height; ++y)
        for (int x = 0; x < o.width; ++x) {
            if (maps.defects(x, y)) continue;
            const double electrons = o.seconds * maps.dark(x, y);
            residuals.push_back(static_cast<float>(m.pixels(x, y) - maps.offset(x, y) - electrons / g));
            ideal2 += (electrons + s.instrument.read_noise * s.instrument.read_noise) / (g * g) + 1.0 / 12;
        }
    const double ideal = std::sqrt(ideal2 / static_cast<double>(residuals.size()) / o.calibration);
    double squares = 0;
    for (const float r : residuals)
        squares += static_cast<double>(r) * r;
    return {{"F14", fmt::format("noise of a master dark over the ideal of the same {} frames", o.calibration),
             std::sqrt(squares / static_cast<double>(residuals.size())) / ideal, "x", 1.03}};
}

} // namespace kasane::bench

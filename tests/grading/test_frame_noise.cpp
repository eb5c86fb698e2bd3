#include "support/support.hpp"

#include <kasane/grading/frame_noise.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/io/memory_frame.hpp>
#include <kasane/sky/render.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

struct Taken {
    std::shared_ptr<const CalibratedView> view;
    double truth = 0; ///< noise of a calibrated background pixel, median of the cells
    SensorNoise sensor;
    ColourMethod method = ColourMethod::adaptive;
};

/// A light of a sky full of faint stars and nebula, its dark known to `dark_frames`, its flat to `flat_noise`.
Taken take(double fwhm, int stars, double sky_rate, const std::string& cfa = "", double flat_noise = 0) {
    constexpr int kWide = 640, kHigh = 448;
    constexpr double kSeconds = 240;
    const Workers workers;
    sky::SceneOptions o{.seed = 31, .width = kWide, .height = kHigh, .stars = stars, .faintest_rate = 0.15};
    o.brightest_rate = 3000;
    o.veil = 1.5;
    o.texture = 0.25;
    const sky::Scene scene = sky::make_scene(o, workers);
    sky::Instrument n;
    n.width = kWide, n.height = kHigh, n.cfa = cfa;
    n.hot_share = n.dead_share = n.offset_pattern = n.glow = 0;
    n.dark_rate = 0.05;
    const sky::InstrumentMaps maps = sky::make_maps(n);
    sky::Conditions c;
    c.fwhm = fwhm, c.sky = sky_rate;
    const Image electrons = sky::render_light(scene, "L", {n, maps}, c, kSeconds);
    const auto raw = sky::expose(electrons, {n, maps}, {kSeconds, n.reference_temperature, 0}, 77);
    Image pixels(kWide, kHigh), dark(kWide, kHigh), flat(kWide, kHigh), variance(kWide, kHigh);
    constexpr double kDarkFrames = 10;
    const double read = std::pow(n.read_noise / n.gain, 2) + 1.0 / 12,
                 current = n.dark_rate * kSeconds / (n.gain * n.gain);
    for (int y = 0; y < kHigh; ++y)
        for (int x = 0; x < kWide; ++x) {
            pixels(x, y) = raw(x, y);
            dark(x, y) = static_cast<float>(n.offset + n.dark_rate * kSeconds / n.gain);
            flat(x, y) = maps.illumination(x, y);
            const double f = flat(x, y), light = electrons(x, y);
            variance(x, y) =
                static_cast<float>((light / (n.gain * n.gain) + (read + current) * (1 + 1 / kDarkFrames)) / (f * f) +
                                   std::pow(light / n.gain / f, 2) * flat_noise * flat_noise / f);
        }
    add_noise(dark, std::sqrt((read + current) / kDarkFrames), 78);
    if (flat_noise > 0) {
        Image white(kWide, kHigh);
        add_noise(white, flat_noise, 79);
        for (std::size_t i = 0; i < white.pixels().size(); ++i)
            flat.pixels()[i] += white.pixels()[i] * std::sqrt(flat.pixels()[i]);
    }
    Taken t;
    CalibrationSet set;
    set.dark = std::make_shared<MemoryFrame>(std::move(dark));
    set.flat = std::make_shared<MemoryFrame>(std::move(flat));
    set.cfa = CfaPattern(cfa);
    t.view = std::make_shared<const CalibratedView>(std::make_shared<MemoryFrame>(std::move(pixels)), set);
    t.sensor = {n.gain, read + current, (read + current) / kDarkFrames, flat_noise};
    std::vector<float> cells, values;
    for (int y = 0; y + 64 <= kHigh; y += 64)
        for (int x = 0; x + 64 <= kWide; x += 64) {
            values.clear();
            for (int j = y; j < y + 64; ++j)
                for (int i = x; i < x + 64; ++i)
                    if (cfa.empty() || set.cfa.colour(i, j) == 1) values.push_back(variance(i, j));
            cells.push_back(clipped_statistics(values, 2.5f).location);
        }
    t.truth = std::sqrt(median_in_place(cells));
    return t;
}

Measures measured(const Taken& t, const SensorNoise& sensor) {
    MeasureOptions o;
    o.sensor = sensor;
    return measure_exposure(FrameView(t.view, t.method), o).main();
}

} // namespace

TEST_CASE("The noise of a frame full of stars and nebula is told within 3 percent") {
    for (const auto& [fwhm, stars, sky] :
         {std::tuple{3.0, 300, 2.0}, {2.0, 15000, 0.5}, {3.5, 15000, 8.0}, {2.4, 30000, 2.0}}) {
        INFO("FWHM " << fwhm << ", " << stars << " stars, sky " << sky);
        const Taken t = take(fwhm, stars, sky);
        const Measures known = measured(t, t.sensor), unknown = measured(t, {});
        CHECK(known.noise_from_level);
        CHECK(known.noise == Approx(t.truth).epsilon(0.03));
        CHECK(!unknown.noise_from_level);
        CHECK(unknown.noise == Approx(t.truth).epsilon(stars > 10000 ? 0.05 : 0.03)); // stars a few pixels apart
    }
}

TEST_CASE("Of a mosaic each colour's noise is its own") {
    const Taken t = take(3, 8000, 2, "RGGB");
    for (const SensorNoise& sensor : {t.sensor, SensorNoise{}}) {
        const Measures m = measured(t, sensor);
        CHECK(m.noise == Approx(t.truth).epsilon(0.03));
    }
    Taken halves = t; // a binned green pixel is the mean of two
    halves.method = ColourMethod::green;
    CHECK(measured(halves, t.sensor).noise == Approx(t.truth / std::sqrt(2.0)).epsilon(0.03));
    CHECK(measured(halves, t.sensor).noise_from_level);
}

TEST_CASE("A dim flat adds noise, and how much is said") {
    const Taken t = take(3, 2000, 15, "", 0.015);
    const Measures m = measured(t, t.sensor);
    CHECK(m.noise == Approx(t.truth).epsilon(0.03));
    CHECK(m.flat_noise_share > 0.05);
    const Taken clean = take(3, 2000, 15);
    CHECK(m.flat_noise_share == Approx(t.truth / clean.truth - 1).margin(0.02));
    CHECK(measured(clean, clean.sensor).flat_noise_share < 0.001);
}

TEST_CASE("What is said of a camera gives way to its pixels where they contradict") {
    const Taken t = take(3, 300, 2);
    for (const double wrong : {0.5, 0.9, 1.15, 3.0}) {
        INFO(wrong);
        SensorNoise sensor = t.sensor;
        sensor.electrons_per_adu *= wrong;
        const Measures m = measured(t, sensor);
        CHECK(m.noise == Approx(t.truth).epsilon(0.04));
    }
    CHECK(SensorNoise{.flat_noise = -1}.check() != "");
}

TEST_CASE("Steps between pixels of one colour are the shortest there are") {
    CHECK(CfaPattern().steps(0) == NoiseSteps{1, 0, 0, 1});
    const CfaPattern bayer("GRBG");
    CHECK(bayer.steps(0) == NoiseSteps{2, 0, 0, 2});
    const NoiseSteps green = bayer.steps(1);
    CHECK((std::abs(green.ux * green.uy) == 1 && std::abs(green.vx * green.vy) == 1));
    const CfaPattern wide("GBGGRGRGRBGBGBGGRGGRGGBGBGBRGRGRGGBG");
    for (const int colour : {0, 1, 2}) {
        const NoiseSteps s = wide.steps(colour);
        CHECK(s.ux * s.vy != s.uy * s.vx);
        for (int y = 0; y < 6; ++y)
            for (int x = 0; x < 6; ++x)
                if (wide.colour(x, y) == colour) {
                    CHECK(wide.colour(x + s.ux, y + s.uy) == colour);
                    CHECK(wide.colour(x - s.vx, y - s.vy) == colour);
                }
    }
}

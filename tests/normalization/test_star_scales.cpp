#include "support/support.hpp"

#include <kasane/normalization/star_scales.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 1000, kHeight = 700;
const Canvas kCanvas = reference_canvas(kWidth, kHeight);

struct Sky {
    std::vector<Point> at;
    std::vector<double> flux;
};

Sky sky_of(int stars, std::uint64_t seed) {
    Sky s;
    sky::Random random(seed);
    for (int i = 0; i < stars; ++i) {
        s.at.push_back({random.uniform(20, kWidth - 20), random.uniform(20, kHeight - 20)});
        s.flux.push_back(5000 * std::pow(random.uniform(0.01, 1), -0.8));
    }
    return s;
}

/// The stars as a frame sees them, through so much haze, each with the noise of a faint sky.
Measures seen(const Sky& sky, double transparency, std::uint64_t seed, double tilt = 0) {
    Measures m;
    m.fwhm = 3;
    m.noise = 10;
    sky::Random random(seed);
    for (std::size_t i = 0; i < sky.at.size(); ++i) {
        Star s;
        s.x = sky.at[i].x + 0.05 * random.normal(), s.y = sky.at[i].y + 0.05 * random.normal();
        s.flux_sigma = 60;
        s.flux = transparency * (1 + tilt * (s.x - kCanvas.centre().x) / kCanvas.centre().x) * sky.flux[i] +
                 s.flux_sigma * random.normal();
        m.stars.push_back(s);
    }
    return m;
}

std::vector<LevelInput> inputs_of(const std::vector<Measures>& frames) {
    std::vector<LevelInput> out;
    for (const Measures& m : frames)
        out.push_back({&m, {}, 60, kWidth, kHeight});
    return out;
}

} // namespace

TEST_CASE("Scales of a stack are as exact as its stars, and their error is told") {
    const Sky sky = sky_of(150, 3);
    const std::vector<double> transparency = {1, 0.8, 0.45, 0.9, 0.6, 1, 0.7, 0.5};
    std::vector<Measures> frames;
    for (std::size_t light = 0; light < transparency.size(); ++light)
        frames.push_back(seen(sky, transparency[light], 100 + light));
    const auto scales = fit_star_scales(inputs_of(frames), kCanvas, 0);
    CHECK(scales[0].scale == 1);
    for (std::size_t light = 1; light < frames.size(); ++light) {
        INFO(light);
        CHECK(scales[light].stars > 100);
        CHECK(scales[light].error < 0.003);
        CHECK(std::abs(scales[light].scale * transparency[light] - 1) < 5 * scales[light].error);
    }
}

TEST_CASE("Trails, particles and variable stars do not move a scale") {
    const Sky sky = sky_of(60, 5);
    std::vector<Measures> frames;
    for (std::size_t light = 0; light < 6; ++light)
        frames.push_back(seen(sky, 1, 200 + light));
    const auto before = fit_star_scales(inputs_of(frames), kCanvas, 0);
    for (std::size_t i = 0; i < 12; ++i) // a fifth of its stars brighter by a little or a lot
        frames[2].stars[5 * i].flux *= i % 2 ? 1.06 : 2.5;
    const auto after = fit_star_scales(inputs_of(frames), kCanvas, 0);
    for (std::size_t light = 1; light < frames.size(); ++light) {
        INFO(light);
        CHECK(after[light].scale == Approx(before[light].scale).epsilon(0.004));
    }
    CHECK(after[2].stars < before[2].stars);
}

TEST_CASE("Stars under a streak are passed over") {
    const Sky sky = sky_of(200, 6);
    std::vector<Measures> frames = {seen(sky, 1, 1), seen(sky, 1, 2), seen(sky, 1, 3)};
    const std::vector<Streak> across = {{0, 350, kWidth, 350}};
    int under = 0;
    for (Star& s : frames[1].stars)
        if (std::abs(s.y - 350) < 10) { // as bright as the trail makes them: too even to look like outliers
            s.flux *= 1.02;
            ++under;
        }
    REQUIRE(under > 2);
    auto inputs = inputs_of(frames);
    const int before = fit_star_scales(inputs, kCanvas, 0)[1].stars;
    inputs[1].streaks = &across;
    CHECK(fit_star_scales(inputs, kCanvas, 0)[1].stars <= before - under / 2);
}

TEST_CASE("Stars that are saturated in one frame do not count in any") {
    const Sky sky = sky_of(40, 7);
    std::vector<Measures> frames = {seen(sky, 1, 1), seen(sky, 0.5, 2), seen(sky, 0.7, 3)};
    for (std::size_t i = 0; i < 10; ++i) { // clipped in the clearest only, and fainter than they are
        frames[0].stars[i].saturated = true;
        frames[0].stars[i].flux *= 0.8;
    }
    const auto scales = fit_star_scales(inputs_of(frames), kCanvas, 0);
    CHECK(scales[2].stars <= 30);
    CHECK(scales[2].scale / scales[1].scale == Approx(0.5 / 0.7).epsilon(0.01));
}

TEST_CASE("Frames that share stars only through others are brought to one scale") {
    const Sky sky = sky_of(400, 8);
    std::vector<Measures> frames;
    std::vector<LevelInput> inputs;
    for (std::size_t light = 0; light < 5; ++light) { // a row of frames, each moved by two fifths of its width
        frames.push_back(seen(sky, 1 - 0.1 * static_cast<double>(light), 300 + light));
        std::erase_if(frames.back().stars, [&](const Star& s) {
            const double from = 150.0 * static_cast<double>(light);
            return s.x < from || s.x > from + 250;
        });
    }
    for (const Measures& m : frames)
        inputs.push_back({&m, {}, 60, kWidth, kHeight});
    // The catalogue asks that most of the frames that should show a star do: these say what they show.
    for (std::size_t light = 0; light < 5; ++light) {
        const double from = 150.0 * static_cast<double>(light);
        for (Star& s : frames[light].stars)
            s.x -= from;
        inputs[light].to_frame = Affine{1, 0, -from, 0, 1, 0};
        inputs[light].width = 250;
    }
    const auto scales = fit_star_scales(inputs, kCanvas, 0);
    for (std::size_t light = 1; light < 5; ++light) {
        INFO(light);
        CHECK(scales[light].stars > 20);
        CHECK(scales[light].scale == Approx(1 / (1 - 0.1 * static_cast<double>(light))).epsilon(0.02));
    }
}

TEST_CASE("Few stars give a scale with weaker ones, none the exposure times") {
    const Sky sky = sky_of(4, 9);
    std::vector<Measures> frames = {seen(sky, 1, 1), seen(sky, 0.5, 2), seen({}, 1, 3)};
    auto inputs = inputs_of(frames);
    inputs[2].seconds = 30;
    const auto scales = fit_star_scales(inputs, kCanvas, 0);
    CHECK(scales[1].stars >= 3);
    CHECK(scales[1].scale == Approx(2).epsilon(0.05));
    CHECK(scales[2].stars == 0);
    CHECK(scales[2].scale == 2);
    CHECK(scales[2].error == 0);
}

TEST_CASE("A transparency that differs across the field is told as a tilt of the scale, where it is clear") {
    const Sky sky = sky_of(200, 10);
    std::vector<Measures> frames;
    for (std::size_t light = 0; light < 6; ++light)
        frames.push_back(seen(sky, 1, 400 + light, light == 3 ? 0.05 : 0));
    const auto scales = fit_star_scales(inputs_of(frames), kCanvas, 0);
    const double to_edge = kCanvas.centre().x;
    CHECK(scales[3].slope_x * to_edge == Approx(-0.05).margin(0.01));
    CHECK(std::abs(scales[3].slope_y * to_edge) < 0.01);
    for (const std::size_t light : {1u, 2u, 4u, 5u})
        CHECK(std::abs(scales[light].slope_x * to_edge) < 0.012);
}

TEST_CASE("Options of scales that make no sense are refused") {
    const Measures m;
    const std::vector<LevelInput> one = {{&m, {}, 60, 10, 10}};
    CHECK_THROWS_WITH(fit_star_scales(one, kCanvas, 0, {.least_stars = 0}), Catch::Contains("not 0"));
    CHECK_THROWS_WITH(fit_star_scales(one, kCanvas, 0, {.match_radius = -1}), Catch::Contains("not -1"));
    CHECK(fit_star_scales({}, kCanvas, 0).empty());
}

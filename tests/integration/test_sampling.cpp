// Whether drizzling gains, told before it is done, against what it does.
#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/drizzle.hpp>
#include <kasane/integration/sampling.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 240, kHeight = 200;
const Canvas kCanvas = reference_canvas(kWidth, kHeight);

/// Lights moved by `dither` pixels at most, all of the same width and noise.
std::vector<SampledFrame> lights_of(int count, double fwhm, double dither, std::uint64_t seed = 1) {
    std::vector<SampledFrame> out;
    sky::Random random(seed);
    for (int f = 0; f < count; ++f) {
        const Affine t{1, 0, random.uniform(-dither, dither), 0, 1, random.uniform(-dither, dither)};
        out.push_back({{Transform(t)}, fwhm, 1, kWidth, kHeight});
    }
    return out;
}

} // namespace

TEST_CASE("How wide stars become is known beforehand") {
    // Wide stars stay as they are.
    CHECK(interpolated_fwhm(4) == Approx(4).epsilon(0.005));
    CHECK(drizzled_fwhm(4, {2, 0.7}) == Approx(4).epsilon(0.02));
    CHECK(interpolated_fwhm(1.4) > 1.55);
    CHECK(drizzled_fwhm(1.4, {3, 0.3}) < 1.46);
    CHECK(drizzled_fwhm(1.4, {2, 0.5, DropShape::gaussian}) == Approx(std::hypot(1.4, 0.5)));
    CHECK(interpolated_fwhm(0) == 0);
}

TEST_CASE("Lights that were dithered fill the phases of a pixel, others do not") {
    const PhaseCoverage none = phase_coverage(lights_of(20, 1.5, 0), kCanvas);
    CHECK(none.cells == 1);
    CHECK(none.phases[4].size() == 20);
    CHECK(phase_coverage(lights_of(60, 1.5, 5), kCanvas).cells > 14.5);
    const double few = phase_coverage(lights_of(5, 1.5, 5), kCanvas).cells;
    CHECK((few > 3 && few <= 5));
    CHECK(phase_coverage({}, kCanvas).cells == 0);
    // A picture: squares side by side, with a dot for each light.
    const auto picture = draw_phases(phase_coverage(lights_of(12, 1.5, 5), kCanvas));
    CHECK((picture.width() == picture.height() && picture.planes() == 3));
    int dots = 0;
    for (const std::uint8_t v : picture.pixels())
        dots += v > 200;
    CHECK(dots > 9 * 12 * 20);
}

TEST_CASE("What drizzling costs in noise and leaves in holes is known beforehand") {
    const DrizzleOptions fine{2, 0.4};
    // Drops of less than half a pixel that all lie in one place leave holes between them.
    CHECK(predict_drizzle(lights_of(20, 1.5, 0), kCanvas, {3, 0.3}).holes > 0.3);
    CHECK(predict_drizzle(lights_of(60, 1.5, 5), kCanvas, fine).holes == 0);
    const double few = predict_drizzle(lights_of(6, 1.5, 5, 3), kCanvas, {2, 0.3}).cost,
                 many = predict_drizzle(lights_of(60, 1.5, 5, 3), kCanvas, {2, 0.3}).cost;
    CHECK(few > 0.03);
    CHECK(many < 0.02);

    // As the noise of a drizzled stack tells it, which is that of larger areas.
    const Quiet quiet;
    const std::vector<SampledFrame> lights = lights_of(6, 1.5, 5, 3);
    std::vector<StackFrame> stack;
    for (std::size_t f = 0; f < lights.size(); ++f) {
        Image image(kWidth, kHeight, 1, 500.0f);
        add_noise(image, 10, f + 7);
        stack.push_back(
            {std::make_shared<const ImagePlanes>(std::move(image)), {{lights[f].to_frame.front(), {}, 10}}, 0});
    }
    const MasterLight m = drizzle(stack, kCanvas, {500}, quiet.context, {.rejection = NoRejection{}}, {2, 0.3});
    CHECK(m.noise[0] / m.expected_noise[0] - 1 == Approx(few).margin(0.03));
}

TEST_CASE("Drizzling is advised where it gains, and told what it would do") {
    const auto advised = [](const std::vector<SampledFrame>& lights, std::optional<double> drop = std::nullopt) {
        return advise_drizzle({lights}, kCanvas, DropShape::square, drop);
    };
    const auto sharp = advised(lights_of(60, 1.4, 5));
    REQUIRE(sharp);
    CHECK(sharp->scale >= 2);
    CHECK(sharp->drop < 0.7);
    CHECK_FALSE(advised(lights_of(60, 3, 5)));    // nothing to gain
    CHECK_FALSE(advised(lights_of(60, 1.85, 5))); // too little
    CHECK_FALSE(advised(lights_of(60, 1.4, 0)));  // not dithered
    CHECK_FALSE(advised(lights_of(4, 1.4, 5)));   // too few
    CHECK(advised(lights_of(16, 1.4, 5, 2))->scale == 2);
    CHECK_FALSE(advised({}));
    CHECK(advised(lights_of(60, 1.4, 5), 0.5)->drop == 0.5);
    CHECK(advise_drizzle({lights_of(60, 1.4, 5)}, kCanvas, DropShape::square, std::nullopt, {.most_scale = 2})->scale ==
          2);
    // All stacks that lie on one grid have to bear it.
    CHECK_FALSE(
        advise_drizzle({lights_of(60, 1.4, 5), lights_of(4, 1.4, 5)}, kCanvas, DropShape::square, std::nullopt));

    const DrizzlePrediction p = predict_drizzle(lights_of(60, 1.4, 5), kCanvas, *sharp);
    CHECK(p.gain > 0.05);
    CHECK_THAT(prediction_text(p), Catch::Contains("% sharper") && Catch::Contains("holes in 0.0 %"));
    CHECK_THAT(prediction_text(predict_drizzle(lights_of(60, 3.2, 5), kCanvas, {2, 0.7})),
               Catch::Contains("nothing is gained"));
    CHECK_THAT(prediction_text(predict_drizzle(lights_of(60, 0, 5), kCanvas, {2, 0.7})),
               Catch::Contains("how sharp stars are is not known"));
}

TEST_CASE("Of a mosaic, the colour that has the fewest samples tells") {
    std::vector<SampledFrame> mono = lights_of(12, 1.5, 5), colour = mono;
    for (SampledFrame& f : colour) {
        f.to_frame.resize(3, f.to_frame.front());
        f.plane_of = [](int x, int y) { return x % 2 == 0 && y % 2 == 0 ? 0 : x % 2 == 1 && y % 2 == 1 ? 2 : 1; };
    }
    const DrizzlePrediction of_mono = predict_drizzle(mono, kCanvas, {2, 0.7}),
                            of_colour = predict_drizzle(colour, kCanvas, {2, 0.7});
    CHECK(of_colour.cost > 2 * of_mono.cost);
    CHECK(of_colour.cost < 0.4);
    CHECK(of_colour.holes > of_mono.holes);
}

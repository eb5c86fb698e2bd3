#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/drizzle.hpp>
#include <kasane/integration/noise_covariance.hpp>
#include <kasane/integration/pixel_response.hpp>
#include <kasane/integration/sampling.hpp>
#include <kasane/sky/random.hpp>
#include <kasane/stars/detection.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>

using namespace kasane;
using namespace kasane::test;

namespace {

const DrizzleOptions kDrops{2, 0.5, DropShape::square, true, 0};

void restored(Image& image, double noise, int threads = 2, const DrizzleOptions& options = kDrops) {
    Quiet quiet(threads);
    restore(image.plane(), restoring_kernel(options, 1), noise, 2, quiet.context);
}

double sum_of(const Image& image) {
    double sum = 0;
    for (const float v : image.pixels())
        sum += static_cast<double>(v);
    return sum;
}

Image noisy(int width, int height, double sigma, std::uint64_t seed) {
    Image image(width, height, 1, 100);
    add_noise(image, sigma, seed);
    return image;
}

} // namespace

TEST_CASE("Restoring keeps level and light") {
    for (const DrizzleOptions& o : {kDrops, DrizzleOptions{3, 0.3, DropShape::square, true, 0},
                                    DrizzleOptions{2, 0.8, DropShape::gaussian, true, 0}}) {
        const std::vector<float> kernel = restoring_kernel(o, 1);
        double sum = static_cast<double>(kernel[0]);
        for (std::size_t k = 1; k < kernel.size(); ++k)
            sum += 2 * static_cast<double>(kernel[k]);
        CHECK(sum == Approx(1).margin(1e-6));
        Image flat(90, 70, 1, 250);
        restored(flat, 1, 2, o);
        for (const float v : flat.pixels())
            REQUIRE(v == Approx(250).epsilon(1e-5));
        Image star(120, 120, 1, 0);
        add_gaussian_star(star, 60.3, 59.2, 50000, 3.4);
        const double before = sum_of(star);
        restored(star, 1e4, 2, o); // so noisy that no ring shows
        CHECK(sum_of(star) == Approx(before).epsilon(1e-4));
    }
}

TEST_CASE("Stars are restored to the width that is told") {
    for (const double fwhm : {1.4, 1.6, 1.9}) {
        // As drops of half a pixel lay them down on pixels of half a pixel, whose own width they have anyhow.
        Image drizzled(200, 200, 1, 0);
        for (int k = 0; k < 16; ++k)
            for (int j = 0; j < 10; ++j)
                for (int i = 0; i < 10; ++i)
                    add_gaussian_star(drizzled, 24.25 + 48.3 * (k % 4) + 0.1 * i, 25.15 + 49.2 * (k / 4) + 0.1 * j, 100,
                                      2 * fwhm);
        add_noise(drizzled, 0.001, 7);
        const double wide = detect_stars(drizzled.plane()).fwhm;
        restored(drizzled, 0.002);
        const double narrow = detect_stars(drizzled.plane()).fwhm;
        INFO(fwhm << ": " << wide << " " << narrow);
        CHECK(narrow / 2 == Approx(restored_fwhm(fwhm, kDrops)).epsilon(0.03));
        CHECK(restored_fwhm(fwhm, kDrops) < 0.97 * fwhm);
    }
    CHECK(restored_fwhm(0, kDrops) == 0);
    CHECK(restoring_cost(1.5, kDrops) > restoring_cost(3, kDrops));
    CHECK(restoring_cost(6, kDrops) < 0.02);
    CHECK(restoring_smoothness(1.6) == 0);
    CHECK(restoring_smoothness(1.1) > restoring_smoothness(1.3));
    DrizzleOptions smooth = kDrops;
    smooth.smooth = restoring_smoothness(1.3);
    CHECK(restored_fwhm(1.3, smooth) > restored_fwhm(1.3, kDrops));
    CHECK(restored_fwhm(1.3, smooth) < 0.8 * interpolated_fwhm(1.3));
}

TEST_CASE("What restoring makes of noise is told") {
    Image noise = noisy(NoiseCovariance::kWindow, NoiseCovariance::kWindow, 3, 5);
    NoiseCovariance covariance(3);
    for (std::uint64_t seed = 1; seed <= 12; ++seed)
        covariance.add(noisy(NoiseCovariance::kWindow, NoiseCovariance::kWindow, 3, seed).plane());
    const std::vector<float> kernel = restoring_kernel(kDrops, 1);
    Image large = noisy(400, 300, 3, 99);
    restored(large, 100);
    std::vector<float> values(large.pixels().begin(), large.pixels().end());
    CHECK(covariance.pixel_after(kernel) == Approx(clipped_statistics(values, 5).sigma).epsilon(0.03));
    CHECK(covariance.pixel_after({1}) == Approx(covariance.pixel()));
}

TEST_CASE("Pixels without data stay so, and spoil nothing around them") {
    Image image = noisy(130, 150, 0.5, 3);
    for (int y = 40; y < 60; ++y)
        for (int x = 30; x < 80; ++x)
            image(x, y) = kNoData;
    for (int x = 0; x < 130; ++x)
        image(x, 100) = kNoData;
    image(5, 5) = kNoData;
    const Image before = image;
    restored(image, 10);
    for (int y = 0; y < 150; ++y)
        for (int x = 0; x < 130; ++x) {
            REQUIRE(std::isfinite(image(x, y)) == std::isfinite(before(x, y)));
            if (std::isfinite(image(x, y))) REQUIRE(std::abs(image(x, y) - 100) < 12);
        }
    Image nothing(20, 20, 1, kNoData);
    restored(nothing, 1);
    CHECK(std::none_of(nothing.pixels().begin(), nothing.pixels().end(), [](float v) { return std::isfinite(v); }));
    Image tiny(1, 2, 1, 7);
    restored(tiny, 1);
    CHECK(tiny(0, 1) == Approx(7));
}

TEST_CASE("Restoring does not depend on threads") {
    Image one = noisy(301, 411, 4, 11);
    add_gaussian_star(one, 150, 200, 1e6, 3);
    one(17, 64) = kNoData;
    Image three = one, again = one;
    restored(one, 5, 1), restored(three, 5, 3), restored(again, 5, 8);
    const std::size_t bytes = one.pixels().size() * sizeof(float);
    CHECK(std::memcmp(one.pixels().data(), three.pixels().data(), bytes) == 0);
    CHECK(std::memcmp(one.pixels().data(), again.pixels().data(), bytes) == 0);
}

TEST_CASE("Saturated stars get no dark rings") {
    Image image = noisy(200, 200, 2, 21);
    add_gaussian_star(image, 100, 100, 8e6, 6);
    for (float& v : image.pixels())
        v = std::min(v, 20000.0f); // full
    const double noise = 6;
    float before = image(0, 0);
    for (const float v : image.pixels())
        before = std::min(before, v);
    restored(image, noise);
    for (const float v : image.pixels())
        REQUIRE(v > before - 3.01f * static_cast<float>(noise));
}

TEST_CASE("A stack is restored as it is drizzled") {
    constexpr int kWidth = 150, kHeight = 120;
    constexpr double kNoise = 8;
    const auto frames_of = [&](std::uint64_t seed) {
        std::vector<StackFrame> frames;
        sky::Random random(4);
        for (int f = 0; f < 36; ++f) {
            const Affine t{1, 0, random.uniform(-3, 3), 0, 1, random.uniform(-3, 3)};
            Image image(kWidth, kHeight, 1, 400);
            for (int k = 0; k < 12; ++k) {
                double u = 0, v = 0;
                t.apply(25.3 + 31.7 * (k % 4), 22.1 + 34.9 * (k / 4), u, v);
                add_gaussian_star(image, u, v, 12000, 1.5);
            }
            add_noise(image, kNoise, seed * 100 + static_cast<std::uint64_t>(f));
            frames.push_back({std::make_shared<const ImagePlanes>(std::move(image)), {{t, {}, kNoise, 1.5}}, 0});
        }
        return frames;
    };
    Quiet quiet(2);
    const Canvas canvas = reference_canvas(kWidth, kHeight);
    DrizzleOptions plain = kDrops;
    plain.restore = false;
    const std::vector<StackFrame> frames = frames_of(1);
    const MasterLight is = drizzle(frames, canvas, {400}, quiet.context, {}, kDrops),
                      was = drizzle(frames, canvas, {400}, quiet.context, {}, plain),
                      other = drizzle(frames_of(2), canvas, {400}, quiet.context, {}, kDrops);
    CHECK(detect_stars(is.pixels.plane()).fwhm < 0.93 * detect_stars(was.pixels.plane()).fwhm);
    CHECK(is.noise[0] == was.noise[0]); // of what is large
    CHECK(is.pixel_noise[0] > 1.3 * was.pixel_noise[0]);
    std::vector<float> differences;
    for (int y = 20; y < 220; ++y)
        for (int x = 20; x < 280; ++x)
            differences.push_back((is.pixels(x, y) - other.pixels(x, y)) / std::sqrt(2.0f));
    CHECK(is.pixel_noise[0] == Approx(clipped_statistics(differences, 4).sigma).epsilon(0.05));
    const auto light = [](const MasterLight& m) {
        double sum = 0;
        for (int y = 30; y < 60; ++y)
            for (int x = 36; x < 66; ++x)
                sum += static_cast<double>(m.pixels(x, y)) - 400;
        return sum;
    };
    CHECK(light(is) == Approx(light(was)).epsilon(0.002));
    CHECK_THAT(is.made.steps.back().text, Catch::Contains("blur of pixels and drops taken out"));
}

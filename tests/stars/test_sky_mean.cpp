#include "support/support.hpp"

#include <kasane/sky/random.hpp>
#include <kasane/stars/sky_mean.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 448, kHeight = 320;

/// A rough nebula and many faint stars, `bright` times as bright, under a sky of noise.
Image field(double bright, double noise, std::uint64_t seed) {
    Image image(kWidth, kHeight, 1, 1000.0f);
    sky::Random random(5);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            image(x, y) += static_cast<float>(bright * 200 * (1 + std::sin(x / 3.0) * std::sin(y / 4.0)));
    for (int i = 0; i < 3000; ++i)
        add_gaussian_star(image, random.uniform(4, kWidth - 4), random.uniform(4, kHeight - 4), bright * 500, 3);
    add_noise(image, noise, seed);
    return image;
}

/// At the middles of squares of 64 pixels.
Image at_middles(const SkyMeans& means) {
    Image out(kWidth / 64, kHeight / 64);
    for (int j = 0; j < out.height(); ++j)
        for (int i = 0; i < out.width(); ++i)
            out(i, j) = means.at((i + 0.5) * 64 - 0.5, (j + 0.5) * 64 - 0.5, 48);
    return out;
}

Image means_of(const Image& image, const std::vector<Star>& stars = {}, const std::vector<Streak>& streaks = {}) {
    return at_middles(mean_sky(image.plane(), measure_background(image.plane()), {stars, 3, streaks}));
}

} // namespace

TEST_CASE("Means are linear in what the sky shows: half the light is half the rise") {
    const Image full = means_of(field(1, 15, 1)), half = means_of(field(0.5, 40, 2));
    for (int j = 0; j < full.height(); ++j)
        for (int i = 0; i < full.width(); ++i) {
            const double rise = full(i, j) - 1000;
            INFO(i << " " << j);
            CHECK(rise > 150);
            CHECK(half(i, j) - 1000 == Approx(0.5 * rise).margin(6)); // 2048 samples of 15 and of 40
        }
}

TEST_CASE("Stars and streaks that are known take no part, particles neither") {
    Image image(kWidth, kHeight, 1, 1000.0f);
    add_noise(image, 10, 3);
    const Image before = means_of(image);
    Star s;
    s.x = 100, s.y = 90, s.flux = 2e6, s.peak = 2e5;
    add_gaussian_star(image, s.x, s.y, s.flux, 3);
    for (int x = 0; x < kWidth; ++x) // four pixels wide, four times the noise
        for (int y = 200; y < 204; ++y)
            image(x, y) += 40;
    image(300, 60) += 50000;
    const Streak k{0, 201.5, kWidth - 1.0, 201.5};
    const Image after = means_of(image, {s}, {k}), uncovered = means_of(image);
    for (int j = 0; j < after.height(); ++j)
        for (int i = 0; i < after.width(); ++i)
            CHECK(after(i, j) == Approx(before(i, j)).margin(0.5)); // a mean of 2048 samples of 10 is known to 0.2
    CHECK(uncovered(3, 3) > before(3, 3) + 1);
}

TEST_CASE("A cell that is covered for the most part has no mean") {
    Image image(kWidth, kHeight, 1, 1000.0f);
    add_noise(image, 10, 4);
    for (int y = 0; y < 64; ++y)
        for (int x = 64; x < 80; ++x)
            image(x, y) = NAN;
    Star s;
    s.x = 224, s.y = 160, s.flux = 1e9, s.peak = 1e9, s.saturated = true;
    const Background b = measure_background(image.plane());
    const Image means = at_middles(mean_sky(image.plane(), b, {{s}, 6, {}}));
    CHECK(std::isnan(means(3, 2)));
    CHECK(std::isfinite(means(1, 0))); // of the cells that have data
    CHECK(std::isfinite(means(0, 4)));
}

TEST_CASE("A cell with saturated pixels has no mean, but for those that are covered") {
    Image image(kWidth, kHeight, 1, 1000.0f);
    add_noise(image, 5, 4);
    image(40, 40) = image(100, 40) = 60000;
    Star s;
    s.x = 100, s.y = 40, s.peak = 60000, s.saturated = true;
    const Background b = measure_background(image.plane());
    const SkyMeans means = mean_sky(image.plane(), b, {{s}, 3, {}, 1, 55000});
    CHECK(std::isnan(means.values(40 / means.cell, 40 / means.cell)));
    CHECK(std::isfinite(means.values(20 / means.cell, 40 / means.cell)));
    CHECK(std::isfinite(mean_sky(image.plane(), b, {{s}, 3, {}, 1, 0}).values(40 / means.cell, 40 / means.cell)));
    const Image all = mean_sky(image.plane(), b, {{s}, 3, {}, 1, 0}).values; // the star's own wings cover some
    int full = 0;
    for (std::size_t k = 0; k < all.pixels().size(); ++k)
        full += std::isfinite(all.pixels()[k]) && std::isnan(means.values.pixels()[k]);
    CHECK(full == 1);
}

TEST_CASE("The sky around a place does not depend on how the cells lie there") {
    const auto sky_at = [](double x, double y) {
        return 1000 + 0.4 * x - 0.2 * y + 200 * std::exp(-(std::pow((x - 200) / 60, 2) + std::pow((y - 150) / 60, 2)));
    };
    const auto moved = [&](double dx, double dy, int width, int height) {
        Image image(width, height);
        for (int y = 0; y < height; ++y)
            for (int x = 0; x < width; ++x)
                image(x, y) = static_cast<float>(sky_at(x - dx, y - dy));
        add_noise(image, 1, 8);
        return mean_sky(image.plane(), measure_background(image.plane()), {{}, 3, {}});
    };
    const SkyMeans first = moved(0, 0, kWidth, kHeight);
    for (const double dx : {3.0, 9.0, 14.0}) {
        const SkyMeans second = moved(dx, 7, kWidth + 5, kHeight + 11); // ends within cells
        for (double y = 36; y < kHeight - 60; y += 17)
            for (double x = 36; x < kWidth - 60; x += 17)
                CHECK(second.at(x + dx, y + 7, 32) == Approx(first.at(x, y, 32)).margin(2.5)); // of 200
    }
    // A slope is told where it is, at the edges and beside what is missing as well.
    SkyMeans slope{Image(10, 8), 16, 164, 128};
    for (int j = 0; j < 8; ++j)
        for (int i = 0; i < 10; ++i)
            slope.values(i, j) = static_cast<float>(3 * (i == 9 ? 153.5 : i * 16 + 7.5) - 2 * (j * 16 + 7.5));
    slope.values(4, 4) = slope.values(5, 4) = NAN;
    for (const Point p : {Point{32, 32}, Point{75, 60}, Point{150, 100}})
        CHECK(slope.at(p.x, p.y, 48) == Approx(3 * p.x - 2 * p.y).margin(0.01));
    CHECK(std::isnan(SkyMeans{Image(2, 2, 1, NAN), 16, 32, 32}.at(16, 16, 48)));
}

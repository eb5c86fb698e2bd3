#include "support/support.hpp"

#include <kasane/normalization/smooth_fit.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

namespace {

const Canvas kCanvas = reference_canvas(1200, 800);

template <class F>
std::vector<LevelSample> samples_of(F value, double noise, std::uint64_t seed, double until = 1200) {
    std::vector<LevelSample> out;
    sky::Random random(seed);
    for (double y = 32; y < 800; y += 64)
        for (double x = 32; x < until; x += 64)
            out.push_back({x, y, value(x, y) + noise * random.normal()});
    return out;
}

double at(const SmoothMap& m, double x, double y) {
    return LevelMap{kCanvas.centre(), {}, m}.offset_at({x, y});
}

} // namespace

TEST_CASE("A plane is left a plane") {
    const auto plane = [](double x, double y) { return 5 + 0.01 * x - 0.02 * y; };
    const SmoothFit fit(kCanvas, 64);
    const auto samples = samples_of(plane, 0.3, 1);
    CHECK(fit.choose(samples).order == 2);
    CHECK(fit.choose(samples).penalty >= 10); // next to nothing but a plane
    const SmoothMap m = fit.fit(samples, fit.choose(samples));
    for (double x = 0; x < 1200; x += 100)
        CHECK(at(m, x, 400) == Approx(plane(x, 400)).margin(0.2)); // 228 values of 0.3
}

TEST_CASE("A bend is followed as far as the noise lets it show") {
    const auto bend = [](double x, double y) {
        return 20 * std::exp(-(std::pow((x - 800) / 250, 2) + std::pow((y - 300) / 250, 2))) + 1e-5 * x * x;
    };
    const SmoothFit fit(kCanvas, 64);
    const auto samples = samples_of(bend, 0.3, 2);
    const Smoothness smoothness = fit.choose(samples);
    CHECK(smoothness.penalty < 100);
    const SmoothMap m = fit.fit(samples, smoothness);
    for (double y = 50; y < 780; y += 50)
        for (double x = 50; x < 1180; x += 50)
            REQUIRE(at(m, x, y) == Approx(bend(x, y)).margin(1.2));
}

TEST_CASE("A surface of second order is followed into its corners") {
    const auto bowl = [](double x, double y) { return 3e-5 * std::pow(x - 500, 2) - 2e-5 * x * y; };
    const SmoothFit fit(kCanvas, 64);
    const auto samples = samples_of(bowl, 0.3, 6);
    const Smoothness smoothness = fit.choose(samples);
    CHECK(smoothness.order == 3);
    const SmoothMap m = fit.fit(samples, smoothness);
    for (const Point p : {Point{0, 0}, Point{1199, 0}, Point{0, 799}, Point{1199, 799}})
        CHECK(at(m, p.x, p.y) == Approx(bowl(p.x, p.y)).margin(0.5)); // a plane misses by 6
}

TEST_CASE("Values of little weight have little say") {
    const auto bend = [](double x, double) { return 2e-5 * (x - 600) * (x - 600); };
    auto samples = samples_of(bend, 0.1, 7);
    sky::Random random(8);
    for (std::size_t i = 0; i < samples.size(); i += 2) {
        samples[i].value += 3 * random.normal(); // no outlier among its like
        samples[i].weight = 1e-3;
    }
    const SmoothFit fit(kCanvas, 64);
    const SmoothMap m = fit.fit(samples, fit.choose(samples));
    for (double x = 50; x < 1180; x += 50)
        CHECK(at(m, x, 400) == Approx(bend(x, 400)).margin(0.1));
}

TEST_CASE("Outliers have no say") {
    const auto bend = [](double x, double) { return 4e-5 * (x - 600) * (x - 600); };
    auto samples = samples_of(bend, 0.1, 3);
    for (std::size_t i = 0; i < samples.size(); i += 12)
        samples[i].value += 40; // a bright star in the cell
    const SmoothFit fit(kCanvas, 64);
    const SmoothMap m = fit.fit(samples, fit.choose(samples));
    for (double x = 50; x < 1180; x += 50)
        CHECK(at(m, x, 400) == Approx(bend(x, 400)).margin(0.5));
}

TEST_CASE("A value beyond all bounds leaves no trace, not even by its rounding") {
    const auto bend = [](double x, double y) { return 8 * std::sin(x / 300) + 0.01 * y; };
    const SmoothFit fit(kCanvas, 64);
    auto far = samples_of(bend, 0.3, 9), farther = far;
    far[100].value = 1e5;
    farther[100].value = 3e9;
    const Smoothness smoothness = fit.choose(far);
    CHECK(fit.choose(farther) == smoothness);
    const SmoothMap m = fit.fit(farther, smoothness), expected = fit.fit(far, smoothness);
    for (double y = 50; y < 780; y += 50)
        for (double x = 50; x < 1180; x += 50)
            REQUIRE(at(m, x, y) == Approx(at(expected, x, y)).margin(0.01));
}

TEST_CASE("Where there are no values it goes on straight") {
    const auto samples = samples_of([](double x, double) { return 0.01 * x; }, 0.05, 4, 700);
    const SmoothFit fit(kCanvas, 64);
    for (const double penalty : {1.0, 0.01}) {
        const SmoothMap m = fit.fit(samples, {2, penalty});
        CHECK(at(m, 1150, 400) == Approx(11.5).margin(1.5));
    }
}

TEST_CASE("Too few values give a constant, none nothing") {
    CHECK(fit_constant({}).value == 0);
    const std::vector<LevelSample> few = {{10, 10, 3}, {600, 400, 3.2}, {1100, 700, 2.8}};
    CHECK(fit_plane(few, kCanvas).value == Approx(3).margin(0.01));
    CHECK(fit_plane(few, kCanvas).slope_x == 0);
    const SmoothFit fit(kCanvas, 64);
    CHECK(fit.choose(few).plane());
    CHECK(fit.fit(few, {}).lattice.empty());
}

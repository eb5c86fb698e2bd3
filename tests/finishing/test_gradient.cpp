#include <kasane/base/error.hpp>
#include <kasane/finishing/gradient.hpp>
#include <kasane/finishing/gradient_picture.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <random>

namespace kasane {
namespace {

constexpr int kWidth = 720, kHeight = 480;
constexpr float kNoise = 5;

struct Sky {
    Image pixels{kWidth, kHeight};
    Image gradient{kWidth, kHeight}, nebula{kWidth, kHeight};
    StarList stars;

    template <class G, class N>
    Sky(const G& gradient_at, const N& nebula_at) {
        std::mt19937_64 random(3);
        std::normal_distribution<float> normal;
        for (int y = 0; y < kHeight; ++y)
            for (int x = 0; x < kWidth; ++x) {
                const double u = 2.0 * x / kWidth - 1, v = 2.0 * y / kHeight - 1;
                gradient(x, y) = static_cast<float>(gradient_at(u, v));
                nebula(x, y) = static_cast<float>(nebula_at(u, v));
                pixels(x, y) = 500 + gradient(x, y) + nebula(x, y) + kNoise * normal(random);
            }
        stars.background = measure_background(pixels.plane());
        stars.noise = kNoise;
    }

    struct Left {
        double gradient = 0; ///< from end to end, over that of the true one
        double flux = 0;     ///< share that the nebula lost
    };
    Left left_by(const Gradient& g) const {
        double least = HUGE_VAL, most = -HUGE_VAL, low = HUGE_VAL, high = -HUGE_VAL, in = 0, ins = 0, out = 0, outs = 0,
               flux = 0;
        for (int y = 0; y < kHeight; y += 3)
            for (int x = 0; x < kWidth; x += 3) {
                const double true_one = gradient(x, y), wrong = g.surface.at(x, y) - true_one;
                least = std::min(least, wrong), most = std::max(most, wrong);
                low = std::min(low, true_one), high = std::max(high, true_one);
                if (nebula(x, y) > 1)
                    in += wrong, flux += nebula(x, y), ++ins;
                else
                    out += wrong, ++outs;
            }
        return {(most - least) / std::max(1e-9, high - low),
                flux > 0 ? (in / ins - out / std::max(1.0, outs)) / (flux / ins) : 0};
    }
};

double no_nebula(double, double) {
    return 0;
}
/// Over two thirds of the field, with some structure.
double dome(double u, double v) {
    return 60 * std::max(0.0, 1 - std::hypot(1.1 * u, v)) * (1 + 0.5 * std::sin(9 * u) * std::cos(7 * v));
}
double tilted(double u, double v) {
    return 30 * u - 20 * v;
}
double curved(double u, double v) {
    return 25 * u + 15 * u * u - 20 * u * v + 10 * v * v;
}

TEST_CASE("A gradient is told to a tenth of itself, and the light of a nebula over most of the field stays") {
    const Workers workers(2);
    const auto judge = [&](const Sky& sky, const char* kind) {
        const Gradient g = fit_gradient(sky.pixels.plane(), sky.stars, {}, workers);
        CHECK(g.kind == kind);
        return sky.left_by(g);
    };
    CHECK(judge(Sky(tilted, no_nebula), "a polynomial of degree 1").gradient < 0.01);
    CHECK(judge(Sky(curved, no_nebula), "a polynomial of degree 2").gradient < 0.02);
    const Sky::Left flat = judge(Sky(tilted, dome), "a polynomial of degree 1"),
                    bent = judge(Sky(curved, dome), "a polynomial of degree 2");
    CHECK(flat.gradient < 0.05);
    CHECK(std::abs(flat.flux) < 0.02);
    CHECK(bent.gradient < 0.1);
    CHECK(std::abs(bent.flux) < 0.02);
}

TEST_CASE("Sky without a gradient gets none, and a lamp's glow is followed where all is sky") {
    const Workers workers(2);
    const Sky plain([](double, double) { return 0.0; }, dome);
    const Gradient none = fit_gradient(plain.pixels.plane(), plain.stars, {}, workers);
    CHECK(none.size < 0.3 * kNoise);
    CHECK(none.share() == Approx(0.33).margin(0.12));
    CHECK(none.left < 2 * none.expected);
    const Sky lamp([](double u, double v) { return 40 * std::exp(-2 * ((u - 1.1) * (u - 1.1) + (v + 1) * (v + 1))); },
                   no_nebula);
    const Gradient glow = fit_gradient(lamp.pixels.plane(), lamp.stars, {}, workers);
    CHECK(lamp.left_by(glow).gradient < 0.4);
    GradientOptions spline;
    spline.kind = GradientKind::spline;
    const Gradient bent = fit_gradient(lamp.pixels.plane(), lamp.stars, spline, workers);
    CHECK(bent.kind == "a spline");
    CHECK(lamp.left_by(bent).gradient < 0.4);
}

TEST_CASE("The sky's level is that of its darkest places, not of the nebula that lies on most") {
    const Workers workers(1);
    const Sky veiled([](double, double) { return 0.0; },
                     [](double u, double v) { return 8 * (1 + std::sin(40 * u) * std::sin(31 * v)); });
    const Gradient g = fit_gradient(veiled.pixels.plane(), veiled.stars, {}, workers);
    CHECK(g.sky == Approx(500).margin(4));
    CHECK(g.level > g.sky + 2);
    const Sky plain(tilted, no_nebula);
    const Gradient flat = fit_gradient(plain.pixels.plane(), plain.stars, {}, workers);
    CHECK(flat.sky == Approx(500).margin(0.3));
}

TEST_CASE("Boxes that are sky or none decide, and their own degree is kept") {
    const Workers workers(1);
    const auto half = [](double u, double) { return u > 0 ? 25 * u : 0.0; }; // as smooth as a gradient
    const Sky sky([](double, double) { return 0.0; }, half);
    GradientOptions o;
    o.not_sky = {{kWidth / 2, 0, kWidth / 2, kHeight}};
    o.kind = GradientKind::polynomial;
    o.degree = 1;
    const Gradient left = fit_gradient(sky.pixels.plane(), sky.stars, o, workers);
    CHECK(left.size < 3);
    CHECK(std::count_if(left.spots.begin(), left.spots.end(),
                        [](const SkySpot& s) { return s.use == SkySpot::Use::forbidden; }) > 100);
    o.not_sky.clear();
    o.sky = {{0, 0, kWidth, kHeight}};
    CHECK(fit_gradient(sky.pixels.plane(), sky.stars, o, workers).size > 15);
    o.degree = 3;
    CHECK(fit_gradient(sky.pixels.plane(), sky.stars, o, workers).kind == "a polynomial of degree 3");
    o.degree = 7;
    CHECK_THROWS_AS(fit_gradient(sky.pixels.plane(), sky.stars, o, workers), UsageError);
    o.degree = 1;
    o.sky.clear();
    o.not_sky = {{0, 0, kWidth, kHeight}};
    CHECK_THROWS_AS(fit_gradient(sky.pixels.plane(), sky.stars, o, workers), DataError);
}

TEST_CASE("A gradient is subtracted or divided, the same for any threads") {
    const Workers one(1), three(3);
    const Sky sky(curved, dome);
    const Gradient g = fit_gradient(sky.pixels.plane(), sky.stars, {}, one),
                   again = fit_gradient(sky.pixels.plane(), sky.stars, {}, three);
    for (std::size_t i = 0; i < g.surface.nodes.pixels().size(); ++i)
        REQUIRE(g.surface.nodes.pixels()[i] == again.surface.nodes.pixels()[i]);
    Image less = sky.pixels, quotient = sky.pixels;
    take_off(g, false, less.plane(), one);
    take_off(g, true, quotient.plane(), three);
    for (const auto& [x, y] : {std::pair(3, 5), std::pair(700, 470), std::pair(360, 240)}) {
        CHECK(less(x, y) == Approx(sky.pixels(x, y) - g.surface.at(x, y) + g.level).margin(1e-3));
        CHECK(quotient(x, y) == Approx(sky.pixels(x, y) * g.level / g.surface.at(x, y)).epsilon(1e-5));
    }
    Image dark = sky.pixels;
    for (float& v : dark.pixels())
        v -= 520;
    Sky below = sky;
    below.stars.background = measure_background(dark.plane());
    const Gradient negative = fit_gradient(dark.plane(), below.stars, {}, one);
    CHECK_THROWS_AS(take_off(negative, true, dark.plane(), one), DataError);
}

TEST_CASE("A picture shows what was taken for sky beside the gradient") {
    const Workers workers(1);
    const Sky sky(tilted, dome);
    const Gradient g = fit_gradient(sky.pixels.plane(), sky.stars, {}, workers);
    const Raster<std::uint8_t> picture = draw_gradient(sky.pixels.plane(), g, 800);
    CHECK(picture.planes() == 3);
    CHECK(picture.width() <= 800);
    int blue = 0, orange = 0;
    for (int y = 0; y < picture.height(); ++y)
        for (int x = 0; x < picture.width(); ++x) {
            blue += picture(x, y, 0) == 80 && picture(x, y, 1) == 160 && picture(x, y, 2) == 255;
            orange += picture(x, y, 0) == 230 && picture(x, y, 1) == 120 && picture(x, y, 2) == 40;
        }
    CHECK(blue > 1000);
    CHECK(orange > 1000);
    // Right is brighter than left, above brighter than below.
    const int middle = (picture.width() + 4) / 2;
    CHECK(picture(picture.width() - 2, 2, 0) > 240);
    CHECK(picture(middle + 2, picture.height() - 2, 0) < 15);
}

} // namespace
} // namespace kasane

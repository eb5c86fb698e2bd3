#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/finishing/colour.hpp>
#include <kasane/finishing/reshape.hpp>
#include <kasane/finishing/tone.hpp>
#include <kasane/image/statistics.hpp>

#include "support/support.hpp"

#include <catch2/catch.hpp>
#include <cmath>
#include <random>

namespace kasane {
namespace {

using test::add_gaussian_star;

Image noisy(float sky, float sigma, unsigned seed, int side = 200) {
    Image out(side, side);
    std::mt19937_64 random(seed);
    std::normal_distribution<float> normal;
    for (float& v : out.pixels())
        v = sky + sigma * normal(random);
    return out;
}

/// Stars on a grid, of one colour but two.
void add_stars(Image& image, double times) {
    for (int j = 0; j < 5; ++j)
        for (int i = 0; i < 5; ++i)
            add_gaussian_star(image, 20 + 40 * i + 0.3 * j, 20 + 40 * j, times * (4000 + 900 * i + 400 * j), 3);
}

TEST_CASE("Sums of channels are read and written, and nonsense is refused") {
    CHECK(parse_channel_sum("Ha") == Palette::Sum{{"Ha", 1}});
    CHECK(parse_channel_sum("0.3 Ha + 0.7*OIII") == Palette::Sum{{"Ha", 0.3}, {"OIII", 0.7}});
    CHECK(parse_channel_sum("-0.5 R + G") == Palette::Sum{{"R", -0.5}, {"G", 1}});
    CHECK(channel_sum_text(parse_channel_sum("0.3Ha+OIII")) == "0.3 Ha + OIII");
    CHECK(channel_sum_text(parse_palette("Ha; 0.5 Ha + 0.5 OIII ;OIII").colours[1]) == "0.5 Ha + 0.5 OIII");
    for (const char* wrong : {"", "+", "0.3", "Ha + ", "1000 Ha", "nan Ha"})
        CHECK_THROWS_AS(parse_channel_sum(wrong), UsageError);
    for (const char* wrong : {"Ha", "Ha;OIII", "Ha;OIII;SII;R", "Ha;;OIII"})
        CHECK_THROWS_AS(parse_palette(wrong), UsageError);
    CHECK(parse_white("stars").by == WhiteChoice::By::stars);
    CHECK(parse_white("10 20 30 40").region == Region{10, 20, 30, 40});
    CHECK(parse_white("1.2 1 0.9").factors == std::array<double, 3>{1.2, 1, 0.9});
    for (const char* wrong : {"", "moon", "1 2", "1 0 1", "-1 1 1", "1 1 1 x", "1 2 3 4 5"})
        CHECK_THROWS_AS(parse_white(wrong), UsageError);
}

TEST_CASE("Channels are mixed above their skies, with the noise that follows, and a missing one is named") {
    const Workers workers(2);
    const Image a = noisy(100, 2, 1), b = noisy(300, 3, 2);
    const std::vector<ColourChannel> channels = {{"Ha", a.plane(), 100, 2}, {"OIII", b.plane(), 300, 3}};
    std::array<double, 3> noise{};
    const Image rgb = mix(channels, parse_palette("Ha; 0.5 Ha + 2 OIII; OIII"), noise, workers);
    CHECK(rgb.planes() == 3);
    CHECK(rgb(7, 9, 0) == Approx(a(7, 9) - 100));
    CHECK(rgb(7, 9, 1) == Approx(0.5 * (a(7, 9) - 100) + 2 * (b(7, 9) - 300)).margin(1e-3));
    CHECK(noise[1] == Approx(std::hypot(1, 6)));
    CHECK(double{image_statistics(rgb.plane(1)).sigma} == Approx(noise[1]).epsilon(0.03));
    CHECK_THROWS_WITH(mix(channels, parse_palette("Ha; SII; OIII"), noise, workers),
                      Catch::Contains("SII") && Catch::Contains("Ha, OIII"));
}

TEST_CASE("White is the average star, a region, or what one says") {
    const Workers workers(1);
    Image rgb(200, 200, 3);
    const std::array<double, 3> colour = {0.5, 1, 2};
    StarList stars;
    for (int p = 0; p < 3; ++p) {
        Image plane = noisy(0, 1, static_cast<unsigned>(p) + 5);
        add_stars(plane, colour[static_cast<std::size_t>(p)]);
        for (int y = 0; y < 200; ++y)
            for (int x = 0; x < 200; ++x)
                rgb(x, y, p) = plane(x, y);
    }
    stars = detect_stars(rgb.plane(1));
    const WhiteBalance by_stars = white_balance(rgb, stars, {});
    CHECK(by_stars.told);
    CHECK(by_stars.factors[0] == Approx(2).epsilon(0.02));
    CHECK(by_stars.factors[1] == 1);
    CHECK(by_stars.factors[2] == Approx(0.5).epsilon(0.02));
    multiply(rgb, by_stars.factors, workers);
    CHECK(white_balance(rgb, stars, {}).factors[0] == Approx(1).epsilon(0.02));
    const WhiteBalance none = white_balance(rgb, StarList{}, {});
    CHECK_FALSE(none.told);
    CHECK(none.factors == std::array<double, 3>{1, 1, 1});
    for (int p = 0; p < 3; ++p)
        for (int y = 0; y < 10; ++y)
            for (int x = 0; x < 10; ++x)
                rgb(x, y, p) = static_cast<float>(100 * (p + 1));
    const WhiteBalance region = white_balance(rgb, stars, parse_white("0 0 10 10"));
    CHECK(region.factors[0] == Approx(2));
    CHECK(region.factors[2] == Approx(2.0 / 3));
    for (int p = 0; p < 3; ++p)
        for (int y = 190; y < 200; ++y)
            for (int x = 0; x < 10; ++x)
                rgb(x, y, p) = -5;
    CHECK_FALSE(white_balance(rgb, stars, parse_white("0 190 10 10")).told); // no brighter than the sky
    CHECK_THROWS_AS(white_balance(rgb, stars, parse_white("195 0 10 10")), UsageError);
}

TEST_CASE("A luminance takes noise from brightness and leaves light and colour what they are") {
    const Workers workers(2);
    Image rgb(300, 300, 3);
    std::mt19937_64 random(9);
    std::normal_distribution<float> normal;
    const float colour[] = {1.5f, 1.0f, 0.5f};
    Image luminance(300, 300);
    for (int y = 0; y < 300; ++y)
        for (int x = 0; x < 300; ++x) {
            const float light = x < 150 ? 0 : 200; // sky, and a nebula in colour
            luminance(x, y) = 1000 + 2 * light + 4 * normal(random);
            for (int p = 0; p < 3; ++p)
                rgb(x, y, p) = light * colour[p] + 6 * normal(random);
        }
    std::array<double, 3> noise = {6, 6, 6};
    const LuminanceGain gain = put_luminance(rgb, {"L", luminance.plane(), 1000, 4}, 0.5, noise, workers);
    CHECK(gain.noise_before == Approx(6 / std::sqrt(3.0)));
    CHECK(gain.weight == Approx(0.75));
    CHECK(gain.noise == Approx(std::sqrt(3.0)));
    const Image bright = brightness(rgb, workers);
    const Region sky{10, 10, 130, 280}, nebula{160, 10, 130, 280};
    CHECK(double{image_statistics(bright.plane().crop(sky)).sigma} == Approx(gain.noise).epsilon(0.03));
    CHECK(double{image_statistics(bright.plane().crop(sky)).location} == Approx(0).margin(0.05));
    CHECK(double{image_statistics(bright.plane().crop(nebula)).location} == Approx(200).epsilon(0.003));
    for (int p = 0; p < 3; ++p) {
        const auto light = image_statistics(rgb.plane(p).crop(nebula)).location;
        CHECK(double{light} == Approx(200 * double{colour[p]}).epsilon(0.005));
        CHECK(double{image_statistics(rgb.plane(p).crop(sky)).sigma} ==
              Approx(noise[static_cast<std::size_t>(p)]).epsilon(0.04));
    }
    // What the channel does not show keeps its own.
    const Image before = rgb;
    luminance(200, 200) = kNoData;
    put_luminance(rgb, {"L", luminance.plane(), 1000, 4}, 0.5, noise, workers);
    CHECK(rgb(200, 200, 0) == before(200, 200, 0));
}

TEST_CASE("A tone shows the sky as bright as asked, black below it, and keeps the hue of bright stars") {
    const Workers workers(2);
    Image rgb(200, 200, 3);
    for (int p = 0; p < 3; ++p) {
        Image plane = noisy(50, 2, static_cast<unsigned>(p) + 31);
        add_gaussian_star(plane, 100, 100, p == 2 ? 90000 : 45000, 4);
        std::copy(plane.pixels().begin(), plane.pixels().end(), rgb.plane(p).data);
    }
    ToneOptions o;
    o.sky = 0.2;
    const std::vector<Stretch> curves = choose_tone(rgb, {50, 50, 50}, {2, 2, 2}, o);
    REQUIRE(curves.size() == 3);
    CHECK(curves[1].black == Approx(44));
    CHECK(double{curves[1](50)} == Approx(0.2).margin(0.002));
    Image shown = rgb;
    const double beyond = apply_tone(shown, curves, true, workers);
    CHECK(beyond > 0);
    CHECK(beyond < 0.01);
    CHECK(double{image_statistics(shown.plane(1)).location} == Approx(0.2).margin(0.02));
    for (const float v : shown.pixels())
        REQUIRE((v >= 0 && v <= 1));
    // Twice as bright in blue, in the core and in the wings.
    CHECK(shown(100, 100, 2) > 1.1f * shown(100, 100, 0));
    CHECK(shown(104, 100, 2) > 1.1f * shown(104, 100, 0));
    CHECK(double{shown(100, 100, 2)} == Approx(1).margin(0.01));
    Image apart = rgb;
    o.linked = false;
    apply_tone(apart, choose_tone(rgb, {50, 50, 50}, {2, 2, 2}, o), false, workers);
    CHECK(double{apart(100, 100, 2)} == Approx(1).margin(0.01)); // each colour is burnt by itself
    CHECK(double{apart(100, 100, 0)} == Approx(1).margin(0.01));
    Image hole(4, 4, 1, kNoData);
    apply_tone(hole, {{0, 1, 0}}, true, workers);
    CHECK(hole(1, 1) == 0);
    CHECK(ToneOptions{}.check().empty());
    CHECK_FALSE(ToneOptions{.sky = 0.9}.check().empty());
    CHECK_FALSE(ToneOptions{.black = -1}.check().empty());
}

TEST_CASE("Spots and trails of a mask are closed and its edges stay") {
    Mask mask(80, 60, 1, 1);
    const auto clear = [&](const Region& r) {
        for (int y = r.y; y < r.bottom(); ++y)
            for (int x = r.x; x < r.right(); ++x)
                mask(x, y) = 0;
    };
    clear({0, 0, 5, 60});    // an edge
    clear({30, 20, 4, 4});   // a spot
    clear({5, 40, 75, 3});   // a trail to the other edge
    clear({7, 5, 1, 1});     // a spot near the edge
    clear({40, 10, 28, 26}); // too large for a spot
    close_gaps(mask);
    CHECK(mask(31, 22) == 1);
    CHECK(mask(50, 41) == 1);
    CHECK(mask(79, 41) == 1);
    CHECK(mask(7, 5) == 1);
    CHECK(mask(50, 20) == 0);
    CHECK(mask(4, 30) == 0);
    CHECK(mask(0, 41) == 0);
}

TEST_CASE("The largest rectangle of a mask is found") {
    Mask mask(7, 5, 1, 1);
    CHECK(largest_rectangle(mask) == Region{0, 0, 7, 5});
    mask(3, 0) = 0;
    CHECK(largest_rectangle(mask) == Region{0, 1, 7, 4});
    mask(1, 3) = 0;
    CHECK(largest_rectangle(mask) == Region{2, 1, 5, 4});
    CHECK(largest_rectangle(Mask(4, 4)).empty());
    // Against trying all of them.
    std::uint32_t state = 1;
    for (int round = 0; round < 30; ++round) {
        Mask random(9, 8);
        for (auto& v : random.pixels())
            v = (state = state * 1664525u + 1013904223u) >> 30 ? 1 : 0;
        std::int64_t best = 0;
        for (int y = 0; y < 8; ++y)
            for (int x = 0; x < 9; ++x)
                for (int h = 1; y + h <= 8; ++h)
                    for (int w = 1; x + w <= 9; ++w) {
                        bool full = true;
                        for (int j = y; j < y + h; ++j)
                            for (int i = x; i < x + w; ++i)
                                full = full && random(i, j);
                        if (full) best = std::max<std::int64_t>(best, w * h);
                    }
        CHECK(largest_rectangle(random).area() == best);
    }
}

TEST_CASE("Pictures are cropped, turned, mirrored and binned by whole pixels, and the way back is known") {
    Image image(6, 4, 1);
    for (int y = 0; y < 4; ++y)
        for (int x = 0; x < 6; ++x)
            image(x, y) = static_cast<float>(10 * y + x);
    const Image quarter = reshaped(image, {{}, 90, false, 1}); // the right edge comes to the top
    CHECK(quarter.width() == 4);
    CHECK(quarter.height() == 6);
    CHECK(quarter(0, 0) == 5);
    CHECK(quarter(3, 0) == 35);
    CHECK(quarter(0, 5) == 0);
    CHECK(reshaped(image, {{}, 180, false, 1})(0, 0) == 35);
    CHECK(reshaped(image, {{}, 270, false, 1})(0, 0) == 30);
    CHECK(reshaped(image, {{}, 0, true, 1})(0, 0) == 5);
    const Image small = reshaped(image, {{2, 0, 4, 4}, 0, false, 2});
    CHECK(small.width() == 2);
    CHECK(small(0, 0) == Approx((2 + 3 + 12 + 13) / 4.0));
    for (const int turn : {0, 90, 180, 270})
        for (const bool mirror : {false, true}) {
            const Reshape r{{1, 0, 4, 3}, turn, mirror, 1};
            const Image out = reshaped(image, r);
            const Affine back = to_former(r, 6, 4);
            for (int y = 0; y < out.height(); ++y)
                for (int x = 0; x < out.width(); ++x) {
                    double u = 0, v = 0;
                    back.apply(x, y, u, v);
                    CHECK(out(x, y) == image(static_cast<int>(std::lround(u)), static_cast<int>(std::lround(v))));
                }
        }
    double u = 0, v = 0;
    to_former({{2, 0, 4, 4}, 0, false, 2}, 6, 4).apply(0, 0, u, v);
    CHECK(u == Approx(2.5));
    CHECK(v == Approx(0.5));
    CHECK_THROWS_AS(reshaped(image, {{3, 0, 4, 4}, 0, false, 1}), UsageError);
    CHECK_THROWS_AS(reshaped(image, {{}, 45, false, 1}), UsageError);
    CHECK_THROWS_AS(reshaped(image, {{}, 0, false, 5}), UsageError);
}

} // namespace
} // namespace kasane

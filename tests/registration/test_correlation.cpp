// Registration without stars: against the simulator's truth, on frames so far out of focus that no star is left.
#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/registration/correlation.hpp>
#include <kasane/sky/render.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 480, kHeight = 360;

const sky::Scene& scene() {
    static const sky::Scene s =
        sky::make_scene({.width = kWidth, .height = kHeight, .filters = {"L"}, .stars = 120}, Quiet().workers);
    return s;
}

/// A calibrated light, far out of focus, with its noise.
PicturePyramid light(const sky::Pointing& pointing, std::uint64_t seed, double fwhm = 22,
                     const Image* pattern = nullptr) {
    sky::Instrument n;
    n.width = kWidth, n.height = kHeight, n.vignetting = 0, n.response_spread = 0;
    const sky::InstrumentMaps maps = sky::make_maps(n);
    sky::Conditions c;
    c.pointing = pointing;
    c.fwhm = fwhm;
    c.sky = 3;
    c.gradient_x = 0.05 * static_cast<double>(seed % 3);
    Image e = sky::render_light(scene(), "L", {n, maps}, c, 60);
    add_noise(e, 14, seed);
    if (pattern)
        for (std::size_t i = 0; i < e.pixels().size(); ++i)
            e.pixels()[i] += pattern->pixels()[i];
    return picture_of(ImagePlanes(std::move(e)), 0);
}

/// The farthest that the map found lies from the truth, at corners and middle of the frame, pixels.
double farthest(const Transform& found, const sky::Pointing& reference, const sky::Pointing& frame) {
    sky::Instrument n;
    n.width = kWidth, n.height = kHeight;
    double worst = 0;
    for (const Point p : {Point{0, 0}, Point{kWidth - 1.0, 0}, Point{0, kHeight - 1.0},
                          Point{kWidth - 1.0, kHeight - 1.0}, Point{0.5 * kWidth, 0.5 * kHeight}}) {
        const Point truth = sky::pixel_of(frame, n, sky::scene_at(reference, n, p)), here = found.map(p);
        worst = std::max(worst, std::hypot(truth.x - here.x, truth.y - here.y));
    }
    return worst;
}

} // namespace

TEST_CASE("Frames out of focus come onto each other by their pictures, whatever the turn") {
    const sky::Pointing reference;
    const PicturePyramid base = light(reference, 1);
    struct Case {
        double x, y, turn;
    };
    for (const Case& k : {Case{13, -8, 0}, Case{-21, 17, 180}, Case{6, 9, 1.3}, Case{-9, 4, 38}, Case{11, 5, -127}}) {
        sky::Pointing p;
        p.offset_x = k.x, p.offset_y = k.y, p.rotation = k.turn;
        const auto found = correlate_pictures(base, light(p, 2));
        INFO(k.x << ", " << k.y << ", " << k.turn << " deg: " << found.text);
        REQUIRE(found);
        INFO(found->way);
        // A seeing disc of 22 px and 14 electrons of noise: a twentieth of the disc.
        CHECK(farthest(found->to_frame, reference, p) < 1.2);
        CHECK_THAT(found->way, Catch::Contains("by its picture") && Catch::Contains("times what chance makes"));
        CHECK(found->model == Model{Mapping::similarity, Optics::none});
    }
}

TEST_CASE("Pictures that have nothing in common are refused, patterns of the sensor among them") {
    const PicturePyramid base = light({}, 1);
    Image nothing(kWidth, kHeight);
    for (int seed = 0; seed < 12; ++seed) {
        Image noise = nothing;
        add_noise(noise, 14, static_cast<std::uint64_t>(100 + seed));
        const auto found = correlate_pictures(base, picture_of(ImagePlanes(std::move(noise)), 0));
        CHECK_FALSE(found);
        CHECK_THAT(found.text, Catch::Contains("agree"));
    }
    // Warm squares that stand still on two pictures of nothing.
    Image pattern(kWidth, kHeight);
    add_noise(pattern, 60, 7);
    Image a = pattern, b = pattern;
    add_noise(a, 14, 8);
    add_noise(b, 14, 9);
    const PicturePyramid first = picture_of(ImagePlanes(std::move(a)), 0),
                         second = picture_of(ImagePlanes(std::move(b)), 0);
    const auto still = correlate_pictures(first, second);
    CHECK_FALSE(still);
    CHECK_THAT(still.text, Catch::Contains("stands still as the sensor does"));
}

TEST_CASE("Another scale is found, and what a neighbour knows is tried first") {
    const sky::Pointing reference;
    sky::Pointing p;
    p.offset_x = 7, p.offset_y = -5, p.rotation = 71, p.scale = 1.25;
    const PicturePyramid base = light(reference, 1, 12), turned = light(p, 3, 14);
    const auto alone = correlate_pictures(base, turned);
    INFO(alone.text);
    REQUIRE(alone);
    CHECK(farthest(alone->to_frame, reference, p) < 1.5);
    CorrelationOptions o;
    const double c = std::cos(71.2 * kPi / 180) * 1.25, s = std::sin(71.2 * kPi / 180) * 1.25;
    o.guesses = {{c, s, 0, -s, c, 0}};
    const auto led = correlate_pictures(base, turned, o);
    REQUIRE(led);
    CHECK(farthest(led->to_frame, reference, p) < 1.5);
}

TEST_CASE("A few stars near the place that is known say it exactly") {
    std::vector<Star> reference, frame;
    const double places[][2] = {{50, 60}, {400, 80}, {90, 300}, {350, 310}, {220, 170}};
    for (const auto& [x, y] : places) {
        Star s;
        s.x = x, s.y = y, s.flux = 1000 - x, s.position_sigma = 0.05;
        reference.push_back(s);
        s.x += 12.3, s.y -= 7.6;
        frame.push_back(s);
    }
    Star wrong = frame[0];
    wrong.x += 9;
    frame.insert(frame.begin(), wrong);
    const kasane::Outcome found =
        refine_on_stars(reference, frame, Transform(Affine{1, 0, 10, 0, 1, -9}), 8,
                        {.reference = {kWidth, kHeight, nullptr}, .frame = {kWidth, kHeight, nullptr}});
    INFO(found.text);
    REQUIRE(found);
    const Point p = found->to_frame.map({200, 200});
    CHECK(std::hypot(p.x - 212.3, p.y - 192.4) < 0.01);
    CHECK(found->matched == 5);
    CHECK_FALSE(refine_on_stars(reference, frame, Transform(Affine{1, 0, 60, 0, 1, 40}), 8)); // not there
}

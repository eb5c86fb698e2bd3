#include "support/support.hpp"

#include <kasane/image/statistics.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/sky/random.hpp>
#include <kasane/sky/truth.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <nlohmann/json.hpp>
#include <set>

using namespace kasane;
using namespace kasane::test;

TEST_CASE("Poisson counts have the right mean and variance, few and many") {
    const double mean = GENERATE(0.3, 5.0, 15.9, 16.1, 400.0);
    sky::Random random(3);
    double sum = 0, squares = 0;
    constexpr int kDraws = 40000;
    for (int i = 0; i < kDraws; ++i) {
        const double k = random.poisson(mean);
        sum += k;
        squares += k * k;
    }
    const double m = sum / kDraws, variance = squares / kDraws - m * m;
    CHECK(m == Approx(mean).margin(4 * std::sqrt(mean / kDraws)));
    CHECK(variance == Approx(mean).epsilon(0.05));
}

TEST_CASE("A project is the same to the byte for one seed and any number of threads, and another for another") {
    const TemporaryFolder a, b, c;
    sky::PlainOptions o = small_options();
    o.lights = 2;
    o.calibration = 1;
    o.trails = 1;
    o.cosmic_rays = 20;
    const Quiet one(1), three(3);
    sky::write_scenario(sky::plain_scenario(o), a / "p", one.context);
    sky::write_scenario(sky::plain_scenario(o), b / "p", three.context);
    o.seed = 6;
    sky::write_scenario(sky::plain_scenario(o), c / "p", three.context);
    CHECK(digests(a / "p") == digests(b / "p"));
    CHECK(digests(a / "p.truth") == digests(b / "p.truth"));
    CHECK(digests(a / "p") != digests(c / "p"));
}

TEST_CASE("Rendered stars hold their flux at their place, whatever the shape") {
    sky::Scene scene;
    const std::string filter = "L";
    scene.stars = {{10.3, -7.6, {{filter, 100.0}}}};
    scene.extended[filter] = Image(300, 300);
    sky::Instrument n;
    n.width = 200;
    n.height = 160;
    sky::Conditions c;
    c.sky = 0;
    c.fwhm = GENERATE(1.4, 3.0);
    c.ellipticity = GENERATE(0.0, 0.4);
    c.pointing = {3.2, 1.1, 180, 1};
    const Image image = sky::render_truth(scene, filter, n, c);
    const auto m = sky::scene_to_pixel(c.pointing, n.width, n.height);
    const double x = m[0] * 10.3 + m[1] * -7.6 + m[2], y = m[3] * 10.3 + m[4] * -7.6 + m[5];
    double sum = 0, sx = 0, sy = 0;
    for (int j = 0; j < 160; ++j)
        for (int i = 0; i < 200; ++i) {
            sum += image(i, j);
            sx += image(i, j) * i;
            sy += image(i, j) * j;
        }
    CHECK(sum == Approx(100).epsilon(0.02)); // the wings beyond the frame are missing
    CHECK(sx / sum == Approx(x).margin(0.1));
    CHECK(sy / sum == Approx(y).margin(0.1));
}

TEST_CASE("An exposure has the level and noise its truth says") {
    sky::Instrument n;
    n.width = 300;
    n.height = 200;
    n.hot_share = n.dead_share = n.offset_pattern = n.glow = n.vignetting = n.response_spread = 0;
    const auto maps = sky::make_maps(n);
    const auto adu = sky::expose(Image(300, 200, 1, 900.0f), {n, maps}, {100, -4, 0}, 5);
    double sum = 0, squares = 0;
    for (const auto v : adu.pixels()) {
        sum += v;
        squares += static_cast<double>(v) * v;
    }
    const double mean = sum / 60000, variance = squares / 60000 - mean * mean;
    const double electrons = 900 + 100 * n.dark_rate * 2; // six degrees warmer: dark current doubles
    CHECK(mean == Approx(n.offset + electrons / n.gain).margin(0.6));
    CHECK(variance == Approx((electrons + n.read_noise * n.read_noise) / (n.gain * n.gain)).epsilon(0.03));
}

TEST_CASE("The demo has three nights and five filters, every flaw, and says so in its truth") {
    const sky::Scenario s = sky::demo_scenario();
    std::set<std::string> nights, filters, flaws;
    for (const sky::Shot& shot : s.shots) {
        if (shot.role != sky::Shot::Role::light) continue;
        nights.insert(shot.start.substr(0, 10));
        filters.insert(shot.filter);
        flaws.insert(shot.conditions.flaws.begin(), shot.conditions.flaws.end());
    }
    CHECK(nights.size() >= 3);
    CHECK(filters == std::set<std::string>{"L", "R", "G", "B", "Ha"});
    CHECK(flaws == std::set<std::string>{"cloud", "twilight", "wind", "obstruction", "trail"});
    const sky::Scene scene = sky::make_scene(s.scene, Workers(2));
    const auto truth = sky::truth_json(s, scene);
    CHECK(truth.at("lights").size() > 50);
    CHECK(truth.at("stars").size() == scene.stars.size());
    CHECK(truth.at("lights").at(0).at("scene_to_pixel").size() == 6);
}

TEST_CASE("A colour sensor sees each colour through its own pixels") {
    sky::SceneOptions so;
    so.width = 120;
    so.height = 90;
    so.filters = {"R", "G", "B"};
    so.stars = 0;
    const sky::Scene scene = sky::make_scene(so, Workers(2));
    sky::Instrument n;
    n.width = 120;
    n.height = 90;
    n.cfa = "RGGB";
    n.vignetting = n.response_spread = n.dead_share = 0;
    sky::Conditions c;
    const Image mosaic = sky::render_light(scene, "", {n, sky::make_maps(n)}, c, 10);
    n.cfa.clear();
    CHECK(mosaic(40, 40) == Approx(sky::render_light(scene, "R", {n, sky::make_maps(n)}, c, 10)(40, 40)));
    CHECK(mosaic(41, 40) == Approx(sky::render_light(scene, "G", {n, sky::make_maps(n)}, c, 10)(41, 40)));
    CHECK(mosaic(41, 41) == Approx(sky::render_light(scene, "B", {n, sky::make_maps(n)}, c, 10)(41, 41)));
}

// The pixels tell the role on frames of cameras drawn at random; kasane-fidelity counts errors on thousands.
#include "support/support.hpp"

#include <kasane/frames/look.hpp>
#include <kasane/io/memory_frame.hpp>
#include <kasane/sky/render.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

MemoryFrame exposed(const sky::Instrument& n, const Image& electrons, double seconds, std::uint64_t seed) {
    const auto counts =
        sky::expose(electrons, {n, sky::make_maps(n)}, {seconds, n.reference_temperature, 0.02 * seconds}, seed);
    Image image(n.width, n.height);
    std::copy(counts.pixels().begin(), counts.pixels().end(), image.pixels().begin());
    return MemoryFrame(std::move(image));
}

} // namespace

TEST_CASE("Bias, dark, flat, sky flat and light are told apart without a word from the header") {
    const Quiet quiet;
    sky::Instrument n;
    n.width = 480;
    n.height = 360;
    n.hot_share = 0.003;
    n.cfa = GENERATE(as<std::string>{}, "", "RGGB");
    const std::string filter = n.cfa.empty() ? "L" : "";
    sky::SceneOptions o;
    o.width = n.width;
    o.height = n.height;
    o.stars = 250;
    if (!n.cfa.empty()) o.filters = {"R", "G", "B"};
    const sky::Scene scene = sky::make_scene(o, quiet.workers);
    const auto maps = sky::make_maps(n);
    const Image nothing(n.width, n.height);
    Image panel = maps.illumination;
    for (float& v : panel.pixels())
        v *= 20000;
    sky::Conditions night, dusk;
    night.sky = 2;
    dusk.sky = 6000;
    dusk.pointing.offset_x = 50;

    const Look bias = look_at(exposed(n, nothing, 0.001, 1), {.windows = 0});
    const LookContext context{65535, bias.level, {}};
    const auto role = [&](const Image& electrons, double seconds, std::uint64_t seed) {
        return guess_role(look_at(exposed(n, electrons, seconds, seed), {.windows = 0}), context);
    };
    CHECK(guess_role(bias, context).role == Role::bias);
    CHECK(role(nothing, 240, 2).role == Role::dark);
    CHECK(role(panel, 2, 3).role == Role::flat);
    CHECK(role(sky::render_light(scene, filter, {n, maps}, dusk, 3), 3, 4).role == Role::flat);
    const RoleGuess light = role(sky::render_light(scene, filter, {n, maps}, night, 180), 180, 5);
    CHECK(light.role == Role::light);
    CHECK(light.confidence > 0.9);
    CHECK_THAT(light.reason, Catch::Contains("stars"));
}

TEST_CASE("A look sees level, noise, clipping and the colours of a mosaic") {
    Image image(200, 160, 1, 1000.0f);
    add_noise(image, 12, 1);
    const Look even = look_at(MemoryFrame(image));
    CHECK(even.level == Approx(1000).margin(1));
    CHECK(even.noise == Approx(12).epsilon(0.05));
    CHECK(even.phase_spread < 3);
    CHECK(even.clipped == 0);
    for (int y = 0; y < 160; y += 2)
        for (int x = 0; x < 200; x += 2)
            image(x, y) += 100;
    CHECK(look_at(MemoryFrame(image)).phase_spread == Approx(100).margin(4));
    for (float& v : image.pixels())
        v = std::min(v, 1010.0f);
    CHECK(look_at(MemoryFrame(image)).clipped > 0.1);
    CHECK(look_at(MemoryFrame(Image(4, 4, 1, 5.0f))).windows == 0);
    CHECK(guess_role({}).role == Role::unknown);
}

TEST_CASE("The full scale follows from the highest value of all frames") {
    CHECK(full_scale_above(0.7) == 1);
    CHECK(full_scale_above(3900) == 4095);
    CHECK(full_scale_above(16000) == 16383);
    CHECK(full_scale_above(17000) == 65535);
    CHECK(full_scale_above(1e6) == 1e6);
}

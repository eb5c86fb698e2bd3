#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/normalization/level_map.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 233, kHeight = 141; // no multiples of a step or tile

/// A scale and an offset that both vary, with lattices of another step each.
LevelMap varied(std::uint64_t seed) {
    const Canvas canvas = reference_canvas(kWidth, kHeight);
    LevelMap map{
        canvas.centre(), {1.2, 1e-4, -2e-4, Lattice::over(canvas, 37.3)}, {-80, 0.2, 0.1, Lattice::over(canvas, 64)}};
    sky::Random random(seed);
    for (float& c : map.scale.lattice.coefficients)
        c = static_cast<float>(0.02 * random.normal());
    for (float& c : map.offset.lattice.coefficients)
        c = static_cast<float>(15 * random.normal());
    return map;
}

Image levelled(const LevelMap& map, const Region& region, const Image& whole) {
    Image part(region.width, region.height);
    for (int y = 0; y < region.height; ++y)
        for (int x = 0; x < region.width; ++x)
            part(x, y) = whole(region.x + x, region.y + y);
    LevelRows rows(map, region.x, region.width);
    for (int y = 0; y < region.height; ++y)
        CHECK(rows.apply(region.y + y, part.plane().row(y)));
    return part;
}

} // namespace

TEST_CASE("A level is scale times value plus offset, as both are told at a place") {
    const LevelMap map = varied(3);
    REQUIRE(map.check().empty());
    const Image image(kWidth, kHeight, 1, 700.0f);
    const Image out = levelled(map, image.bounds(), image);
    for (int y = 0; y < kHeight; y += 3)
        for (int x = 0; x < kWidth; ++x) {
            const Point at{static_cast<double>(x), static_cast<double>(y)};
            // Float keeps a value of 800 to 5e-5; a few operations.
            REQUIRE(out(x, y) == Approx(map.scale_at(at) * 700 + map.offset_at(at)).margin(5e-4));
        }
}

TEST_CASE("A sample's level does not depend on the rectangle in which it is asked for") {
    const LevelMap map = varied(4);
    Image image(kWidth, kHeight, 1, 500.0f);
    add_noise(image, 30, 8);
    const Image whole = levelled(map, image.bounds(), image);
    int differing = 0;
    for (const Region& r : {Region{0, 0, 1, 1}, Region{36, 5, 3, 90}, Region{37, 0, 75, 64}, Region{111, 64, 122, 77},
                            Region{232, 140, 1, 1}, Region{13, 37, 200, 2}}) {
        const Image part = levelled(map, r, image);
        for (int y = 0; y < r.height; ++y)
            for (int x = 0; x < r.width; ++x)
                differing += part(x, y) != whole(r.x + x, r.y + y);
    }
    CHECK(differing == 0);
}

TEST_CASE("Rows tell of samples without data, whatever a level is made of") {
    LevelMap planes = varied(5);
    planes.offset.lattice = {};
    planes.scale = {1.5, 0, 0, {}};
    for (const LevelMap& map : {varied(5), planes, LevelMap{}}) {
        LevelRows rows(map, 3, 60);
        for (const int gap : {0, 31, 59}) {
            std::vector<float> samples(60, 400.0f);
            CHECK(rows.apply(7, samples.data()));
            CHECK(samples[5] == Approx(map.scale_at({8, 7}) * 400 + map.offset_at({8, 7})).margin(5e-4));
            samples[static_cast<std::size_t>(gap)] = kNoData;
            CHECK_FALSE(rows.apply(8, samples.data()));
        }
    }
}

TEST_CASE("A lattice keeps constants, slopes and parabolas, and is smooth") {
    // Coefficients that lie on a parabola give it back, but for a constant of a sixth of its bend
    // (C. de Boor: B-splines of order four reproduce polynomials up to the third degree).
    constexpr double kStep = 32;
    Lattice lattice = Lattice::over(reference_canvas(kWidth, kHeight), kStep);
    const auto value = [](double x, double y) { return 5 + 0.02 * x - 0.03 * y + 1e-4 * x * x; };
    for (int j = 0; j < lattice.rows; ++j)
        for (int i = 0; i < lattice.columns; ++i)
            lattice.coefficients[static_cast<std::size_t>(j * lattice.columns + i)] =
                static_cast<float>(value((i - 1) * kStep, (j - 1) * kStep));
    const double bend = 2e-4 * kStep * kStep / 6; // second derivative times step squared by six
    for (double y = 0; y < kHeight; y += 7.3)
        for (double x = 0; x < kWidth; x += 5.1)
            REQUIRE(lattice.at(x, y) == Approx(value(x, y) + bend).margin(1e-5));
    // From one step to the next neither value nor slope jumps.
    Lattice rough = varied(9).offset.lattice;
    const double h = 1e-4;
    for (double x = rough.step; x < kWidth - 1; x += rough.step) {
        const double before = rough.at(x - h, 50), here = rough.at(x, 50), after = rough.at(x + h, 50);
        CHECK(std::abs(after - 2 * here + before) < 1e-5 * h * 100);
    }
}

TEST_CASE("A coefficient changes nothing farther than two steps away") {
    Lattice lattice = Lattice::over(reference_canvas(400, 300), 40);
    lattice.coefficients[static_cast<std::size_t>(4 * lattice.columns + 5)] = 1; // at (160, 120)
    CHECK(lattice.at(160, 120) == Approx(4.0 / 9));
    CHECK(lattice.at(160 - 80, 120) == Approx(0).margin(1e-12));
    CHECK(lattice.at(160 + 81, 120) == Approx(0).margin(1e-12));
    CHECK(lattice.at(160, 120 + 79) > 0);
}

TEST_CASE("A level map that makes no sense says why") {
    LevelMap map = varied(1);
    map.scale.lattice.coefficients.pop_back();
    CHECK_THAT(map.check(), Catch::Contains("scale has") && Catch::Contains("37.3 pixels apart"));
    map = varied(1);
    map.offset.lattice.coefficients[2] = NAN;
    CHECK_THAT(map.check(), Catch::Contains("offset holds values that are no numbers"));
    map = {};
    map.scale.value = -1;
    CHECK_THAT(map.check(), Catch::Contains("is -1, not above 0"));
    map = {};
    map.offset.slope_y = INFINITY;
    CHECK_THAT(map.check(), Catch::Contains("offset of a level map is not a number"));
    CHECK(LevelMap{}.check().empty());
}

TEST_CASE("On another canvas a level is what it was at the same place") {
    const LevelMap map = varied(6);
    const bool turned = GENERATE(false, true);
    const double c = turned ? std::cos(0.6) / 0.5 : 1, s = turned ? std::sin(0.6) / 0.5 : 0;
    const Canvas canvas{.width = 60, .height = 50};
    const Affine to_here = turned ? Affine{c, -s, 90.3, s, c, 20.7} : Affine{1, 0, 31, 0, 1, 57};
    const LevelMap there = map.onto(canvas, to_here);
    REQUIRE(there.check().empty());
    CHECK(there.centre == canvas.centre());
    double worst = 0, widest = 0;
    for (int y = 0; y < canvas.height; ++y)
        for (int x = 0; x < canvas.width; ++x) {
            const Point at{static_cast<double>(x), static_cast<double>(y)};
            Point here;
            to_here.apply(at.x, at.y, here.x, here.y);
            worst = std::max(worst, std::abs(there.offset_at(at) - map.offset_at(here)));
            widest = std::max(widest, std::abs(map.offset_at(here) - map.offset_at({116, 70})));
            REQUIRE(there.scale_at(at) == Approx(map.scale_at(here)).margin(4e-4));
        }
    // Coefficients that differ by 15 ADU from one to the next, rougher than any sky.
    CHECK(worst < 0.06);
    CHECK(widest > 10);
    // Planes alone are kept exactly, and need no lattice.
    const LevelMap plane{{116, 70}, {1.1, 1e-4, 0, {}}, {-30, 0.2, -0.1, {}}};
    const LevelMap moved = plane.onto(canvas, to_here);
    CHECK(moved.offset.lattice.empty());
    Point here;
    to_here.apply(7, 41, here.x, here.y);
    CHECK(moved.offset_at({7, 41}) == Approx(plane.offset_at(here)).margin(1e-9));
    CHECK(moved.scale_at({7, 41}) == Approx(plane.scale_at(here)).margin(1e-9));
}

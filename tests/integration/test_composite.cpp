// Several master lights as one image.
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/integration/composite.hpp>
#include <kasane/integration/composite_kind.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

Image field(double sky, double brightness, double noise, std::uint64_t seed) {
    Image image(200, 160, 1, static_cast<float>(sky));
    for (int k = 0; k < 12; ++k)
        add_gaussian_star(image, 20 + 14 * k, 15 + (k * 53) % 130, brightness * (4000 + 700 * k), 3);
    add_noise(image, noise, seed);
    return image;
}

} // namespace

TEST_CASE("A composite is the mean of its parts above their skies, by weight and coverage, and their skies' mean") {
    Composite c(4, 1);
    Image a(4, 1, 1, 130.0f), b(4, 1, 1, 260.0f), full(4, 1, 1, 1.0f), part = full;
    a(2, 0) = kNoData;
    b(2, 0) = kNoData;
    part(1, 0) = 0.5f;
    part(3, 0) = 0;
    c.add(a.plane(), full.plane(), {100, 2, 0.25});
    c.add(b.plane(), part.plane(), {200, 1, 0.75});
    const CompositeImage out = c.finish();
    const double sky = 0.25 * 200 + 0.75 * 200;
    CHECK(out.pixels(0, 0) == Approx(sky + 0.25 * 60 + 0.75 * 60));
    CHECK(out.pixels(1, 0) == Approx(sky + 60)); // both 60 above their skies, whatever they weigh
    CHECK(std::isnan(out.pixels(2, 0)));
    CHECK(out.pixels(3, 0) == Approx(sky + 60));
    CHECK(out.coverage(0, 0) == Approx(1));
    CHECK(out.coverage(1, 0) == Approx(0.25 + 0.375));
    CHECK(out.coverage(2, 0) == 0);
    CHECK(out.coverage(3, 0) == Approx(0.25));
    const Image other(5, 1);
    CHECK_THROWS_AS(c.add(other.plane(), full.plane(), {}), UsageError);
}

TEST_CASE("The noise of a composite is that of inverse-variance means where coverage is told") {
    Composite c(300, 200);
    Image a(300, 200, 1, 500.0f), b(300, 200, 1, 300.0f), full(300, 200, 1, 1.0f);
    add_noise(a, 8, 1);
    add_noise(b, 4, 2);
    c.add(a.plane(), full.plane(), {500, 0.5, 1});
    c.add(b.plane(), full.plane(), {300, 1, 1});
    const CompositeImage out = c.finish();
    double sum = 0, squares = 0;
    for (const float v : out.pixels.pixels())
        sum += v, squares += static_cast<double>(v) * v;
    const double n = 60000, mean = sum / n;
    CHECK(mean == Approx((250 + 300) / 2.0).margin(0.1));
    CHECK(std::sqrt(squares / n - mean * mean) == Approx(4 / std::sqrt(2)).epsilon(0.02));
}

TEST_CASE("The ratio of two images' star fluxes is found, skies and all") {
    const Image a = field(500, 2, 3, 7), b = field(900, 1, 3, 8);
    const StarList stars = detect_stars(a.plane());
    REQUIRE(stars.stars.size() >= 10);
    CHECK(flux_ratio(a.plane(), stars, b.plane()) == Approx(2).epsilon(0.01));
    CHECK(flux_ratio(b.plane(), stars, a.plane()) == Approx(0.5).epsilon(0.01));
    Image empty(200, 160, 1, 500.0f);
    add_noise(empty, 3, 9);
    CHECK(flux_ratio(a.plane(), stars, empty.plane()) == 0);
}

TEST_CASE("Composites are called as they are read") {
    for (const CompositeKind k : kCompositeKinds)
        CHECK(composite_named(composite_name(k)) == k);
    CHECK_FALSE(composite_named("both"));
}

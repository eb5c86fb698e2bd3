// What stars look like: by radius, and together.
#include "support/support.hpp"

#include <kasane/stars/star_shapes.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

Star star_at(double x, double y, double flux) {
    Star s;
    s.x = x, s.y = y, s.flux = flux, s.flux_sigma = 1, s.fwhm = 3;
    return s;
}

} // namespace

TEST_CASE("A star's profile is its light by radius, over the sky around it") {
    Image image(60, 60, 1, 1000.0f);
    constexpr double kSigma = 2, kFlux = 50000;
    add_gaussian_star(image, 30.3, 29.6, kFlux, kSigma * 2.354820045);
    const RadialProfile p = radial_profile(image.plane(), 30.3, 29.6, 10);
    CHECK(p.background == Approx(1000).margin(0.5));
    CHECK(p.step == 0.5);
    const double peak = kFlux / (2 * 3.14159265 * kSigma * kSigma);
    CHECK(p.peak == Approx(peak).epsilon(0.08));
    for (std::size_t k = 4; k < 14; ++k) // rings with several pixels
        CHECK(p.value[k] == Approx(peak * std::exp(-0.5 * std::pow(0.5 * static_cast<double>(k) / kSigma, 2)))
                                .epsilon(0.12)
                                .margin(0.01 * peak));
    // At the edge what is there counts; of nothing nothing is made up.
    const RadialProfile edge = radial_profile(image.plane(), 0, 0, 5);
    CHECK(edge.value[2] == Approx(0).margin(1));
    const RadialProfile beyond = radial_profile(image.plane(), -30, -30, 5);
    CHECK(std::isnan(beyond.value[2]));
}

TEST_CASE("The mean star of a part shows how its stars are drawn out") {
    Image image(300, 200, 1, 500.0f);
    std::vector<Star> stars;
    for (int k = 0; k < 6; ++k) {
        const double x = 30 + 40.3 * k, y = 60 + 10.7 * k;
        for (int i = 0; i <= 20; ++i) // trailed along x by six pixels
            add_gaussian_star(image, x - 3 + 0.3 * i, y, 2000 + 100 * k, 3);
        stars.push_back(star_at(x, y, 42000));
    }
    add_gaussian_star(image, 150, 180, 90000, 3); // round, elsewhere
    stars.push_back(star_at(150, 180, 90000));
    stars.push_back(star_at(153, 180, 60000)); // beside it: neither is alone
    const StarStamp stamp = mean_star(image.plane(), stars, {0, 0, 300, 150}, 41, 3);
    CHECK(stamp.stars == 6);
    REQUIRE(stamp.pixels.width() == 41);
    CHECK(stamp.pixels(20, 20) > 0.9f);
    CHECK(stamp.pixels(20 + 9, 20) > 3 * stamp.pixels(20, 20 + 9)); // three pixels aside
    CHECK(stamp.pixels(0, 0) < 0.03f);
    CHECK(mean_star(image.plane(), stars, {0, 170, 300, 30}, 41, 3).stars == 0);
    CHECK(mean_star(image.plane(), stars, {280, 0, 20, 20}, 41, 3).pixels.empty());
}

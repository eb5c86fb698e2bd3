// The path of a comet, from marks and from what lights show.
#include "support/support.hpp"

#include <kasane/registration/comet.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

std::vector<CometSighting> along(int count, double bend, double sigma, std::uint64_t seed) {
    Image noise(count, 2);
    add_noise(noise, sigma, seed);
    std::vector<CometSighting> out;
    for (int k = 0; k < count; ++k) {
        const double hours = 0.05 * k;
        out.push_back({2e9 + 3600 * hours,
                       {100 + 40 * hours + static_cast<double>(noise(k, 0)),
                        300 - 25 * hours + 0.5 * bend * hours * hours + static_cast<double>(noise(k, 1))},
                       std::max(0.05, sigma)});
    }
    return out;
}

/// Coma with a nucleus, on a sky.
Image picture(Point at, double nucleus, double noise, std::uint64_t seed) {
    Image image(121, 121, 1, 500.0f);
    add_noise(image, noise, seed);
    for (int y = 0; y < 121; ++y)
        for (int x = 0; x < 121; ++x) {
            const double r2 = (std::pow(x - at.x, 2) + std::pow(y - at.y, 2)) / 36;
            image(x, y) += static_cast<float>(0.02 * nucleus * std::pow(1 + r2, -1.5));
        }
    add_gaussian_star(image, at.x, at.y, nucleus, 3);
    return image;
}

} // namespace

TEST_CASE("Two marks make a straight line at one speed, and one place or one time none") {
    const auto fit = fit_comet_path({{1000, {10, 20}}, {4600, {50, 10}}});
    REQUIRE(fit);
    CHECK(fit->path.degree() == 1);
    CHECK(fit->path.at(1000).x == Approx(10));
    CHECK(fit->path.at(2800).x == Approx(30));
    CHECK(fit->path.at(2800).y == Approx(15));
    CHECK(3600 * fit->path.rate(2800).x == Approx(40));
    CHECK(3600 * fit->path.rate(0).y == Approx(-10));
    CHECK_FALSE(fit_comet_path({{1000, {10, 20}}}));
    CHECK_FALSE(fit_comet_path({{1000, {10, 20}}, {1000.5, {50, 10}}}));
    CHECK_FALSE(fit_comet_path({}));
}

TEST_CASE("A path bends where its places do, and not by their noise") {
    const auto straight = fit_comet_path(along(30, 0, 0.2, 4));
    REQUIRE(straight);
    CHECK(straight->path.degree() == 1);
    CHECK(straight->rms == Approx(0.2 * std::sqrt(2)).epsilon(0.25));
    const auto bent = fit_comet_path(along(30, 12, 0.2, 5));
    REQUIRE(bent);
    CHECK(bent->path.degree() == 2);
    for (const double hours : {0.0, 0.7, 1.45}) {
        const Point p = bent->path.at(2e9 + 3600 * hours);
        CHECK(p.x == Approx(100 + 40 * hours).margin(0.2));
        CHECK(p.y == Approx(300 - 25 * hours + 6 * hours * hours).margin(0.2));
    }
    CHECK(3600 * bent->path.rate(2e9 + 3600).y == Approx(-25 + 12).margin(1.5));
}

TEST_CASE("A sighting that is something else does not bend the path") {
    std::vector<CometSighting> seen = along(20, 0, 0.1, 6);
    seen[7].at = {seen[7].at.x + 9, seen[7].at.y - 5};
    seen[19].at = {seen[19].at.x - 7, seen[19].at.y};
    const auto fit = fit_comet_path(seen);
    REQUIRE(fit);
    CHECK_FALSE(fit->used[7]);
    CHECK_FALSE(fit->used[19]);
    CHECK(std::count(fit->used.begin(), fit->used.end(), true) == 18);
    CHECK(fit->path.at(seen[19].time).x == Approx(100 + 40 * 0.95).margin(0.15));
    CHECK(std::hypot(fit->off[7].x, fit->off[7].y) > 8);
}

TEST_CASE("The middle of a comet is found within its error, from a mark that is some pixels off") {
    int beyond = 0;
    for (int k = 0; k < 20; ++k) {
        const Point at{60 + 0.31 * k, 58.2 - 0.17 * k};
        const Image image = picture(at, 3000, 12, 40 + static_cast<std::uint64_t>(k));
        const auto found = find_comet(image.plane(), {at.x + 4, at.y - 5}, 12, {});
        REQUIRE(found);
        const double off = std::hypot(found->at.x - at.x, found->at.y - at.y);
        CHECK(off < 0.5);
        beyond += off > 3 * std::sqrt(2.0) * std::max(0.02, found->sigma);
        CHECK(found->snr > 30);
    }
    CHECK(beyond <= 2);
}

TEST_CASE("A star beside a comet does not draw its middle along, if it is known") {
    const Point at{61.3, 57.4};
    Image image = picture(at, 3000, 12, 70);
    add_gaussian_star(image, at.x + 7, at.y + 2, 9000, 3);
    const std::vector<Disc> stars = {{at.x + 7, at.y + 2, 5}};
    const auto known = find_comet(image.plane(), at, 12, stars), unknown = find_comet(image.plane(), at, 12, {});
    REQUIRE(known);
    CHECK(std::hypot(known->at.x - at.x, known->at.y - at.y) < 0.6);
    CHECK((!unknown || std::hypot(unknown->at.x - at.x, unknown->at.y - at.y) > 3));
}

TEST_CASE("Where there is no comet none is found") {
    Image image(121, 121, 1, 500.0f);
    add_noise(image, 12, 80);
    CHECK_FALSE(find_comet(image.plane(), {60, 60}, 12, {}));
    CHECK_FALSE(find_comet(image.plane(), {-30, 60}, 12, {}));
    const Image far = picture({90, 60}, 3000, 12, 81); // thirty pixels away
    CHECK_FALSE(find_comet(far.plane(), {50, 60}, 12, {}));
}

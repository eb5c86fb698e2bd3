#include "support/support.hpp"

#include <kasane/grading/measures.hpp>
#include <kasane/image/binning.hpp>
#include <kasane/sky/random.hpp>
#include <kasane/stars/streaks.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

Image field(std::uint64_t seed, int stars) {
    Image image(800, 560, 1, 500.0f);
    sky::Random random(seed);
    for (int i = 0; i < stars; ++i)
        add_gaussian_star(image, random.uniform(10, 790), random.uniform(10, 550),
                          600 * std::pow(random.uniform(0.01, 1), -1.2), 3);
    add_noise(image, 10, seed + 1);
    return image;
}

void add_trail(Image& image, double x0, double y0, double x1, double y1, double height) {
    const double length = std::hypot(x1 - x0, y1 - y0), ux = (x1 - x0) / length, uy = (y1 - y0) / length;
    for (int y = 0; y < image.height(); ++y)
        for (int x = 0; x < image.width(); ++x) {
            const double along = (x - x0) * ux + (y - y0) * uy, off = (x - x0) * uy - (y - y0) * ux;
            if (along > 0 && along < length && std::abs(off) < 8)
                image(x, y) += static_cast<float>(height * std::exp(-0.5 * off * off / 1.5));
        }
}

std::vector<Streak> find(const Image& image) {
    const StarList list = detect_stars(image.plane());
    return find_streaks({image.plane(), 1, list.background, list.stars, list.fwhm});
}

} // namespace

TEST_CASE("Star fields alone have no streaks") {
    for (std::uint64_t seed = 1; seed <= 8; ++seed)
        CHECK(find(field(seed, 100 * static_cast<int>(seed))).empty());
}

TEST_CASE("Trails in any direction are found once each, with their ends") {
    const double angle = GENERATE(3.0, 30.0, 45.0, 70.0, 92.0, 140.0, 171.0) * 3.14159265 / 180;
    Image image = field(5, 200);
    const double dx = 220 * std::cos(angle), dy = 220 * std::sin(angle);
    add_trail(image, 400 - dx, 280 - dy, 400 + dx, 280 + dy, 18); // less than two sigma of a pixel
    const auto found = find(image);
    REQUIRE(found.size() == 1);
    const Streak& s = found[0];
    CHECK(std::hypot(s.x1 - s.x0, s.y1 - s.y0) == Approx(440).margin(60));
    CHECK(std::abs((s.x0 - 400) * dy - (s.y0 - 280) * dx) / 220 < 4); // on the line
    CHECK(std::abs((s.x1 - 400) * dy - (s.y1 - 280) * dx) / 220 < 4);
}

TEST_CASE("Two trails are two") {
    Image image = field(9, 150);
    add_trail(image, -10, 100, 810, 300, 40);
    add_trail(image, 100, 570, 600, -10, 25);
    CHECK(find(image).size() == 2);
}

TEST_CASE("Wide and defocused stars are measured on their own scale") {
    Image wide(900, 700, 1, 800.0f), rings(900, 700, 1, 800.0f);
    sky::Random random(3);
    for (int i = 0; i < 60; ++i) {
        const double x = random.uniform(40, 860), y = random.uniform(40, 660), flux = random.uniform(30000, 200000);
        add_gaussian_star(wide, x, y, flux, 7.5);
        for (int v = static_cast<int>(y) - 16; v <= static_cast<int>(y) + 16; ++v) // the shadow of a secondary mirror
            for (int u = static_cast<int>(x) - 16; u <= static_cast<int>(x) + 16; ++u) {
                const double r = std::hypot(u - x, v - y);
                if (r > 5 && r < 13) rings(u, v) += static_cast<float>(flux / 460);
            }
    }
    add_noise(wide, 10, 1);
    add_noise(rings, 10, 2);
    const StarList a = detect_stars(wide.plane());
    CHECK(a.fwhm == Approx(7.55).epsilon(0.03));
    CHECK(a.count > 45);
    const StarList b = detect_stars(rings.plane());
    CHECK(b.fwhm > 12); // plainly out of focus
    CHECK(b.count > 20);
}

TEST_CASE("Drawn-out stars are measured, not lost") {
    Image image(700, 500, 1, 500.0f);
    sky::Random random(8);
    for (int i = 0; i < 80; ++i) {
        const double x = random.uniform(30, 670), y = random.uniform(30, 470), flux = random.uniform(8000, 60000);
        for (int k = -4; k <= 4; ++k) // a gust along the diagonal
            add_gaussian_star(image, x + 0.7 * k, y - 0.7 * k, flux / 9, 3);
    }
    add_noise(image, 10, 4);
    const StarList list = detect_stars(image.plane());
    CHECK(list.count > 60);
    CHECK(list.eccentricity > 0.8);
    CHECK(list.angle == Approx(45).margin(4));
    CHECK(list.alignment > 0.9);
}

#include "support/mosaics.hpp"
#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <array>
#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

/// 90 stars over 600 x 480 pixels on a sky of 800 ADU with a slope; red stars have a third less light.
Image sky_of(int planes, double fwhm, double noise, std::uint64_t seed) {
    sky::Random random(seed);
    Image image(600, 480, planes);
    std::vector<std::array<double, 3>> stars;
    for (int k = 0; k < 90; ++k)
        stars.push_back({20 + 62.0 * (k % 10) + random.uniform(-12, 12), 20 + 54.0 * (k / 10) + random.uniform(-12, 12),
                         random.uniform(8000, 40000)});
    for (int p = 0; p < planes; ++p) {
        Image plane(600, 480);
        for (const auto& [x, y, flux] : stars)
            add_gaussian_star(plane, x, y, flux * (p == 0 && planes == 3 ? 0.667 : 1), fwhm);
        for (int y = 0; y < 480; ++y)
            for (int x = 0; x < 600; ++x)
                plane(x, y) += static_cast<float>(800 + 0.1 * x);
        add_noise(plane, noise, seed + 1 + static_cast<std::uint64_t>(p));
        std::copy(plane.pixels().begin(), plane.pixels().end(), image.plane(p).row(0));
    }
    return image;
}

/// Width of a Gaussian star after the integration over pixels: a square adds 1/12 to the variance.
double as_seen(double fwhm) {
    return std::hypot(fwhm, kFwhmPerSigma / std::sqrt(12.0));
}

/// Mean over the stars of both lists that are the same; the ratio of their light.
double flux_ratio(const Measures& a, const Measures& b) {
    std::vector<float> ratios;
    for (const Star& s : a.stars)
        for (const Star& t : b.stars)
            if (std::hypot(s.x - t.x, s.y - t.y) < 1) ratios.push_back(static_cast<float>(s.flux / t.flux));
    return ratios.empty() ? 0 : median_in_place(ratios);
}

} // namespace

TEST_CASE("One exposure is measured: stars, width, sky, noise, and a preview of the whole") {
    Raster<std::uint8_t> preview;
    const ExposureMeasures m = measure_exposure(view_of(sky_of(1, 3, 10, 1)), {.preview_size = 300}, &preview);
    CHECK(m.main().count == Approx(90).margin(2)); // some touch each other
    CHECK(m.main().fwhm == Approx(as_seen(3)).epsilon(0.02));
    CHECK(m.main().eccentricity < 0.2);
    CHECK(m.main().background == Approx(830).margin(2)); // the slope's middle
    CHECK(m.main().noise == Approx(10).epsilon(0.03));
    CHECK(m.streaks.empty());
    CHECK(preview.width() == 300);
    CHECK(preview.height() == 240);
    CHECK(m.preview_scale.factor == 2);
    // The preview is the sky: a byte in the middle tells its level to a few sigma of a mean of four.
    std::vector<float> levels;
    for (int y = 100; y < 140; ++y)
        for (int x = 140; x < 160; ++x)
            levels.push_back(m.preview_scale.decode(0, preview(x, y)));
    CHECK(median_in_place(levels) == Approx(830).margin(5));
}

TEST_CASE("A mosaic is measured on its own samples: as wide and as bright as the stars are in each colour") {
    const std::string letters = GENERATE(as<std::string>{}, "RGGB", "GBRG");
    const Image truth = sky_of(3, 2.6, 8, 20);
    const ExposureMeasures whole = measure_exposure(view_of(sky_of(3, 2.6, 8, 20)));
    const ExposureMeasures m = measure_exposure(view_of(mosaic_of(truth, CfaPattern(letters)), letters));
    REQUIRE(m.planes.size() == 3);
    CHECK(m.main().fwhm == Approx(as_seen(2.6)).epsilon(0.02)); // demosaicing would add a tenth
    CHECK(m.main().count == Approx(90).margin(4));
    for (const Measures& plane : m.planes)
        CHECK(plane.noise == Approx(8).epsilon(0.05));
    // Half of the samples are green, a quarter red: a flux of 10^4 is known to a few hundred, their median to 1 %.
    CHECK(flux_ratio(m.planes[1], whole.planes[1]) == Approx(1).margin(0.02));
    CHECK(flux_ratio(m.planes[0], m.planes[1]) == Approx(0.667).margin(0.03));
    CHECK(flux_ratio(m.planes[2], m.planes[1]) == Approx(1).margin(0.03));
}

TEST_CASE("Each colour of a mosaic has the sky and the noise of its own pixels, whatever the size and the pattern") {
    const std::string letters =
        GENERATE(as<std::string>{}, "RGGB", "BGGR", "GRBG", "RGBG", "RGBB", "GGRGGBGGBGGRBRGRBGGGBGGRGGRGGBRBGBRG");
    const int width = GENERATE(415, 512), height = GENERATE(352, 287);
    const CfaPattern cfa(letters);
    Image planes(width, height, 3);
    for (int p = 0; p < 3; ++p) {
        Image plane(width, height, 1, static_cast<float>(300 * (p + 1)));
        add_noise(plane, 5 + 3 * p, static_cast<std::uint64_t>(p) + 1);
        std::copy(plane.pixels().begin(), plane.pixels().end(), planes.plane(p).row(0));
    }
    MeasureRoom room; // of a larger one
    (void)measure_exposure(view_of(Image(640, 480, 1, 100.0f), letters), {}, nullptr, &room);
    Raster<std::uint8_t> preview;
    const ExposureMeasures m =
        measure_exposure(view_of(mosaic_of(planes, cfa), letters), {.preview_size = 100}, &preview, &room);
    REQUIRE(m.planes.size() == 3);
    for (std::size_t p = 0; p < 3; ++p) {
        const double level = 300.0 * static_cast<double>(p + 1), noise = 5 + 3.0 * static_cast<double>(p);
        const Background& mesh = m.planes[p].mesh;
        INFO(letters << " " << width << " x " << height << ", colour " << p);
        CHECK(
            (mesh.cell == 64 && mesh.level.width() == (width + 32) / 64 && mesh.level.height() == (height + 32) / 64));
        CHECK(mesh.global_level == Approx(level).margin(0.5));
        CHECK(mesh.global_sigma == Approx(noise).epsilon(0.06));
        for (const float v : mesh.level.pixels())
            CHECK(v == Approx(level).margin(0.25 * noise));
    }
    CHECK((std::max(preview.width(), preview.height()) <= 100 && preview.width() > 60));
}

TEST_CASE("Saturated pixels are counted where they are, and saturated stars do not tell the width") {
    Image pixels = sky_of(1, 3, 10, 40);
    for (int k = 0; k < 12; ++k)
        add_gaussian_star(pixels, 50 + 45 * k, 240, 3e6, 3);
    for (float& v : pixels.pixels())
        v = std::min(v, 20000.0f);
    MeasureOptions o;
    o.detect.saturation = 19000;
    const ExposureMeasures m = measure_exposure(view_of(std::move(pixels)), o);
    CHECK(m.main().fwhm == Approx(as_seen(3)).epsilon(0.02));
    CHECK(std::count_if(m.main().stars.begin(), m.main().stars.end(), [](const Star& s) { return s.saturated; }) >= 12);
    float inside = 0, elsewhere = 0;
    for (int j = 0; j < m.saturated.height(); ++j)
        for (int i = 0; i < m.saturated.width(); ++i)
            (std::abs((j + 0.5) * m.main().mesh.cell - 240) < m.main().mesh.cell ? inside : elsewhere) +=
                m.saturated(i, j);
    CHECK(inside > 0);
    CHECK(elsewhere == 0);
}

TEST_CASE("Frames in which nothing can be measured say so, and nothing fails") {
    Image none(300, 200, 1, 500.0f), full(300, 200, 1, 65535.0f), empty(300, 200, 1, kNoData), tiny(5, 4, 1, 100.0f);
    add_noise(none, 5, 3);
    for (Image* image : {&none, &full, &empty, &tiny}) {
        MeasureOptions o;
        o.detect.saturation = 60000;
        Raster<std::uint8_t> preview;
        const ExposureMeasures m = measure_exposure(view_of(std::move(*image)), o, &preview);
        CHECK(m.main().fwhm == 0);
        CHECK(m.main().count < 3); // by chance
        CHECK(preview.width() == m.width);
    }
}

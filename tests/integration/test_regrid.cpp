// One image on the grid of another: brightness and flux, coarser and finer, and no difference by tiles.
#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/regrid.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

double sum_above(const Image& image, double level) {
    double sum = 0;
    for (const float v : image.pixels())
        if (std::isfinite(v)) sum += v - level;
    return sum;
}

} // namespace

TEST_CASE("Surface brightness is kept on any grid, and fluxes with the area of a pixel") {
    constexpr double kSky = 100, kFlux = 50000;
    Image image(240, 200);
    std::fill(image.pixels().begin(), image.pixels().end(), static_cast<float>(kSky));
    add_gaussian_star(image, 118.3, 101.7, kFlux, 6);
    const auto source = std::make_shared<ImagePlanes>(image);
    for (const double scale : {0.3, 0.8, 1.0, 2.3, 4.6}) { // pixels of the image along one of the grid
        INFO("scale " << scale);
        const int side = static_cast<int>(180 / scale);
        const double c = scale * std::cos(0.4), s = scale * std::sin(0.4);
        const double half = 0.5 * (side - 1);
        const Transform t(Affine{c, s, 118 - (c + s) * half, -s, c, 101 - (c - s) * half});
        const RegriddedImage out = regrid(source, t, reference_canvas(side, side), {}, Quiet().context);
        CHECK(out.area == Approx(scale * scale));
        CHECK(out.parts == std::max(1, static_cast<int>(std::ceil(scale / 1.2))));
        CHECK(out.pixels(2, static_cast<int>(half)) == Approx(kSky).epsilon(1e-4));
        CHECK(sum_above(out.pixels, kSky) * out.area == Approx(kFlux).epsilon(0.003));
    }
}

TEST_CASE("On a coarser grid noise falls as pixels are averaged, none is thrown away") {
    Image noise(800, 800);
    add_noise(noise, 10, 5);
    const auto source = std::make_shared<ImagePlanes>(noise);
    const RegriddedImage out =
        regrid(source, Transform(Affine{4, 0, 1.5, 0, 4, 1.5}), reference_canvas(200, 200), {}, Quiet().context);
    double squares = 0;
    int n = 0;
    for (int y = 5; y < 195; ++y)
        for (int x = 5; x < 195; ++x, ++n)
            squares += std::pow(out.pixels(x, y), 2);
    CHECK(std::sqrt(squares / n) == Approx(10.0 / 4).epsilon(0.06)); // of 16 pixels; a single sample would have 10
}

TEST_CASE("What the image does not show has no data and no coverage, edges a part of it") {
    Image image(100, 80, 3);
    for (int p = 0; p < 3; ++p)
        for (int y = 0; y < 80; ++y)
            std::fill_n(image.plane(p).row(y), 100, static_cast<float>(p + 1));
    const auto source = std::make_shared<ImagePlanes>(image);
    const Transform t(Affine{2.4, 0, -30, 0, 2.4, -20});
    const Quiet wide(3), narrow(1, 64 << 20);
    const RegriddedImage out = regrid(source, t, reference_canvas(90, 70), {}, wide.context),
                         same = regrid(source, t, reference_canvas(90, 70), {}, narrow.context);
    CHECK(std::isnan(out.pixels(0, 0)));
    CHECK(out.coverage(0, 0) == 0);
    CHECK(out.pixels(30, 20, 2) == Approx(3));
    CHECK(out.coverage(30, 20) == 1);
    bool partly = false;
    for (std::size_t i = 0; i < out.coverage.pixels().size(); ++i) {
        partly = partly || (out.coverage.pixels()[i] > 0 && out.coverage.pixels()[i] < 1);
        CHECK((out.coverage.pixels()[i] > 0) == std::isfinite(out.pixels.pixels()[i]));
        CHECK(out.coverage.pixels()[i] == same.coverage.pixels()[i]);
    }
    CHECK(partly);
    CHECK_THROWS_WITH(regrid(source, t, reference_canvas(200000, 200000), {}, wide.context), Catch::Contains("budget"));
}

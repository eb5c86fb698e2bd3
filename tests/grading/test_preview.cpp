#include <kasane/grading/preview.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <limits>

using namespace kasane;

TEST_CASE("A preview's bytes are those of its scale, for every value") {
    sky::Random random(3);
    Image image(300, 200, 3);
    for (int p = 0; p < 3; ++p)
        for (int y = 0; y < image.height(); ++y)
            for (int x = 0; x < image.width(); ++x)
                image(x, y, p) = static_cast<float>(800 + 12 * random.normal());
    for (int k = 0; k < 4000; ++k) // all brightnesses, black pixels, and nonsense
        image(k % 300, k / 300, 1) = static_cast<float>(800 + std::pow(10, random.uniform(-2, 9)) * (k % 3 ? 1 : -1));
    image(5, 150, 1) = std::numeric_limits<float>::quiet_NaN();
    image(6, 150, 1) = std::numeric_limits<float>::infinity();
    image(7, 150, 1) = -std::numeric_limits<float>::infinity();
    const PreviewScale scale = choose_preview_scale(image, 1);
    const Raster<std::uint8_t> bytes = encode_preview(image, scale);
    int wrong = 0;
    for (int p = 0; p < 3; ++p)
        for (int y = 0; y < image.height(); ++y)
            for (int x = 0; x < image.width(); ++x) {
                if (!std::isfinite(image(x, y, p))) continue;
                const int off = std::abs(bytes(x, y, p) - scale.encode(p, image(x, y, p)));
                wrong += off > 1; // on the edge between two, rounding decides
                if (off == 1) {
                    const auto at = static_cast<std::size_t>(p);
                    const double t =
                        (std::asinh((static_cast<double>(image(x, y, p)) - scale.zero[at]) / scale.softness[at]) -
                         scale.low[at]) /
                        (scale.high[at] - scale.low[at]) * 255;
                    wrong += std::abs(t - std::floor(t) - 0.5) > 1e-3;
                }
            }
    CHECK(wrong == 0);
    CHECK(bytes(5, 150, 1) == 0);
    CHECK(bytes(6, 150, 1) == 255);
    CHECK(bytes(7, 150, 1) == 0);
    // And back: a byte tells the value to half a step of the scale.
    const float back = scale.decode(0, bytes(10, 100, 0));
    CHECK(scale.encode(0, back) == bytes(10, 100, 0));
}

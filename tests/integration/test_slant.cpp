#include <kasane/base/units.hpp>
#include <kasane/integration/slant.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

namespace {

Affine turned(double angle, double scale, bool mirrored) {
    const double c = scale * std::cos(radians(angle)), s = scale * std::sin(radians(angle)), m = mirrored ? -1 : 1;
    return {m * c, m * s, 3, -s, c, 5};
}

} // namespace

TEST_CASE("Sixteen pixels of a slanted line lie in two rows of the frame, however that is turned") {
    const double angle = GENERATE(0.0, 3.0, 37.0, 45.0, 60.0, 90.0, 91.0, 135.0, 180.0, 217.0, 271.0, 320.0);
    const double scale = GENERATE(1.0, 0.5, 1.4);
    for (const bool mirrored : {false, true}) {
        INFO(angle << (mirrored ? " degrees, mirrored" : " degrees"));
        const Affine to_frame = turned(angle, scale, mirrored);
        const Slant slant(to_frame);
        CHECK(slant.rise[0] == 0);
        CHECK(slant.lowest() == *std::min_element(slant.rise.begin(), slant.rise.end()));
        CHECK(slant.highest() == *std::max_element(slant.rise.begin(), slant.rise.end()));
        double top = 1e9, bottom = -1e9, least = 1e9;
        double before = 0;
        for (int k = 0; k < kLineLanes; ++k) {
            const std::int32_t rise = slant.rise[static_cast<std::size_t>(k)];
            if (k > 0) CHECK(std::abs(rise - slant.rise[static_cast<std::size_t>(k) - 1]) <= 1);
            double u = 0, v = 0;
            to_frame.apply(slant.steep ? rise : k, slant.steep ? k : rise, u, v);
            top = std::min(top, v), bottom = std::max(bottom, v);
            if (k > 0) least = std::min(least, std::abs(u - before));
            before = u;
        }
        CHECK(bottom - top <= scale * (1 + 1e-9));
        CHECK(least >= scale * 0.7); // along the row, pixel by pixel
    }
}

TEST_CASE("Rows that go across those of the frame are told, what is no number is not") {
    CHECK(Slant::worth_while(turned(37, 1, false)));
    CHECK(Slant::worth_while(turned(-90, 1, true)));
    CHECK_FALSE(Slant::worth_while(turned(1, 1, false)));
    CHECK_FALSE(Slant::worth_while(turned(180, 1, false)));
    CHECK_FALSE(Slant::worth_while(turned(std::nan(""), 1, false)));
}

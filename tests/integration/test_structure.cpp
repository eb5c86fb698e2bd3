#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/integration/structure.hpp>

#include <algorithm>
#include <catch2/catch.hpp>

using namespace kasane;
using namespace kasane::test;

TEST_CASE("Noise has no structure, a star has it in its core and on its flanks") {
    StackExpectation e;
    e.level = 100;
    e.frames.assign(4, {0.25f, 16, 0}); // a mean of noise 2
    Image image(200, 100, 1, 100.0f);
    add_noise(image, 2, 5);
    Structure s;
    measure_structure(image.plane(), e, s);
    const auto bent = std::count_if(s.curvature.begin(), s.curvature.end(), [](float v) { return v > 0; });
    CHECK(bent < 0.05 * 200 * 100); // three sigma of white noise, and the neighbours
    add_gaussian_star(image, 100, 50, 20000, 3);
    measure_structure(image.plane(), e, s);
    const auto at = [](int x, int y) { return static_cast<std::size_t>(y * 200 + x); };
    // Flux / (2 pi s^4) x 2 at the middle of a Gaussian, less for differences over a pixel.
    const double s2 = 9 / (kFwhmPerSigma * kFwhmPerSigma), peak = 20000 / (2 * kPi * s2);
    CHECK(s.curvature[at(100, 50)] > 0.6 * 2 * peak / s2);
    CHECK(s.curvature[at(100, 50)] < 2 * peak / s2);
    CHECK(s.slope[at(101, 50)] > 0.3 * peak);
    CHECK((s.any(at(100, 50)) && s.slope[at(100, 50)] < 0.1 * peak));
    // Nothing is said of the rim, and beside pixels without data.
    for (int y = 48; y <= 52; ++y)
        for (int x = 98; x <= 102; ++x)
            image(x, y) = kNoData;
    measure_structure(image.plane(), e, s);
    CHECK_FALSE(s.any(at(100, 50)));
    CHECK_FALSE(s.any(at(0, 0)));
}

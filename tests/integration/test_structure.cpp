#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/integration/structure.hpp>

#include <algorithm>
#include <array>
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
    measure_structure(image.plane(), {}, e, s);
    const auto bent = std::count_if(s.curvature.begin(), s.curvature.end(), [](float v) { return v > 0; });
    CHECK(bent < 0.05 * 200 * 100); // three sigma of white noise, and the neighbours
    const Structure whole = s;
    const Image all(200, 100, 1, 1.0f);
    measure_structure(image.plane(), all.plane(), e, s);
    CHECK(s.curvature == whole.curvature);
    add_gaussian_star(image, 100, 50, 20000, 3);
    measure_structure(image.plane(), {}, e, s);
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
    measure_structure(image.plane(), {}, e, s);
    CHECK_FALSE(s.any(at(100, 50)));
    CHECK_FALSE(s.any(at(0, 0)));
}

TEST_CASE("Where few of the frames show a place, its noise is no structure") {
    StackExpectation e;
    e.level = 100;
    e.frames.assign(9, {1.0f / 9, 36, 0});
    Image image(200, 100, 1, 100.0f), weight(200, 100, 1, 1.0f);
    for (int y = 0; y < 100; ++y) // one frame on the right, nine on the left
        for (int x = 100; x < 200; ++x)
            weight(x, y) = 1.0f / 9;
    Image noise(200, 100, 1, 0.0f);
    add_noise(noise, 1, 5);
    for (int y = 0; y < 100; ++y)
        for (int x = 0; x < 200; ++x)
            image(x, y) += noise(x, y) * (x < 100 ? 2.0f : 6.0f);
    const auto structured = [&](View<const float> shown) {
        Structure s;
        measure_structure(image.plane(), shown, e, s);
        std::array<double, 2> share{};
        for (int y = 0; y < 100; ++y)
            for (int x = 0; x < 200; ++x)
                share[x < 100 ? 0 : 1] += s.any(static_cast<std::size_t>(y * 200 + x)) ? 1e-4 : 0;
        return share;
    };
    const auto [left, right] = structured(weight.plane());
    CHECK(left < 0.06);
    CHECK(right < 0.06);
    CHECK(structured({})[1] > 0.5);
}

TEST_CASE("What is said of the structure of one image stays in no other") {
    StackExpectation e;
    e.frames.assign(4, {0.25f, 1, 0});
    Structure s;
    for (const auto& [width, height] : {std::pair(90, 70), std::pair(61, 50), std::pair(2, 40), std::pair(40, 1),
                                        std::pair(3, 3), std::pair(90, 70)}) {
        Image image(width, height, 1, 0.0f);
        for (int y = 0; y < height; ++y)
            for (int x = 0; x < width; ++x)
                image(x, y) = static_cast<float>((x * 37 + y * 91) % 64) * 30; // rough everywhere
        Structure fresh;
        measure_structure(image.plane(), {}, e, s);
        measure_structure(image.plane(), {}, e, fresh);
        CHECK(s.curvature == fresh.curvature);
        CHECK(s.slope == fresh.slope);
        CHECK(fresh.curvature.size() == static_cast<std::size_t>(width) * static_cast<std::size_t>(height));
        CHECK_FALSE(s.any(0));
        CHECK_FALSE(s.any(fresh.curvature.size() - 1));
        if (width > 10 && height > 10) CHECK(s.any(static_cast<std::size_t>(5 * width + 5)));
    }
    e.frames.assign(4, {0, 1, 0}); // weights of nothing
    Image image(90, 70, 1, 5.0f);
    measure_structure(image.plane(), {}, e, s);
    CHECK(std::none_of(s.curvature.begin(), s.curvature.end(), [](float v) { return v > 0; }));
}

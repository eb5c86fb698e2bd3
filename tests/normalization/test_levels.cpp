#include "support/support.hpp"

#include <kasane/normalization/levels.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 640, kHeight = 448;

/// A frame of the same 80 stars and a bright cloud of nebula, dimmed by `transparency` over a sky with a slope.
Measures frame(double transparency, double sky, double slope, std::uint64_t seed, double slope_y = 0) {
    Image image(kWidth, kHeight);
    sky::Random random(4);
    for (int i = 0; i < 80; ++i) {
        const double x = random.uniform(20, kWidth - 20), y = random.uniform(20, kHeight - 20);
        add_gaussian_star(image, x, y, transparency * 20000 * std::pow(random.uniform(), -0.8), 3);
    }
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            image(x, y) += static_cast<float>(
                transparency * 400 * std::exp(-(std::pow((x - 250) / 120.0, 2) + std::pow((y - 200) / 90.0, 2))) + sky +
                slope * (x - kWidth / 2) + slope_y * (y - kHeight / 2));
    add_noise(image, 12, seed);
    const auto raw = std::make_shared<MemoryFrame>(std::move(image));
    return measure_exposure(std::make_shared<const CalibratedView>(raw, CalibrationSet{})).main();
}

} // namespace

TEST_CASE("Transparency and sky slope are found from stars and background") {
    const Measures reference = frame(1.0, 800, 0, 1), dim = frame(0.6, 1300, 0.25, 2);
    const LevelFit n =
        fit_level({&reference, {}, 60, kWidth, kHeight}, {&dim, {}, 60, kWidth, kHeight}, {kWidth, kHeight});
    CHECK(n.stars > 40);
    CHECK(n.map.scale.value == Approx(1 / 0.6).epsilon(0.01));
    // At the centre: 800 = scale x 1300 + offset, the nebula cancels. A tenth of the noise of a frame is 1.2 ADU.
    CHECK(n.map.offset.value + n.map.scale.value * 1300 == Approx(800).margin(4));
    CHECK(n.map.offset.slope_x == Approx(-0.25 * n.map.scale.value).epsilon(0.03));
    CHECK(n.map.offset.slope_y == Approx(0).margin(0.01));
}

TEST_CASE("A frame is on its own level already") {
    const Measures reference = frame(1.0, 800, 0, 1);
    const LevelFit n =
        fit_level({&reference, {}, 60, kWidth, kHeight}, {&reference, {}, 60, kWidth, kHeight}, {kWidth, kHeight});
    CHECK(n.map.scale.value == 1);
    CHECK(n.map.offset.value == 0);
}

TEST_CASE("Without common stars the exposure times give the scale") {
    Measures reference = frame(1.0, 800, 0, 1), other = frame(1.0, 800, 0, 2);
    other.stars.clear();
    const LevelFit n =
        fit_level({&reference, {}, 60, kWidth, kHeight}, {&other, {}, 120, kWidth, kHeight}, {kWidth, kHeight});
    CHECK(n.map.scale.value == 0.5);
    CHECK(n.stars == 0);
}

TEST_CASE("A sky that is tilted in both directions is levelled in both, about the middle") {
    const Measures reference = frame(1.0, 800, 0, 1), tilted = frame(1.0, 900, 0.2, 3, -0.3);
    const LevelFit n =
        fit_level({&reference, {}, 60, kWidth, kHeight}, {&tilted, {}, 60, kWidth, kHeight}, {kWidth, kHeight});
    CHECK(n.map.offset.slope_x == Approx(-0.2).epsilon(0.05)); // stars move the meshes by a few percent of the tilt
    CHECK(n.map.offset.slope_y == Approx(0.3).epsilon(0.05));
    CHECK(n.map.offset.value == Approx(-100).margin(2)); // in the middle; an edge is 67 to 64 ADU off
}

TEST_CASE("Frames that overlap in a narrow strip are brought to one offset, without a tilt across it") {
    // Wide frames, so that a plane is tried; one row of samples only is common to both, which tells of no tilt in y.
    constexpr int kWide = 1280, kHigh = 448, kCell = 64, kShift = 348;
    const auto even = [](float level) {
        Measures m;
        m.mesh.cell = kCell;
        m.mesh.level = Image(kWide / kCell, kHigh / kCell, 1, level);
        m.mesh.sigma = Image(kWide / kCell, kHigh / kCell, 1, 5.0f);
        m.mesh.global_level = level;
        return m;
    };
    const Measures reference = even(800), other = even(850);
    const LevelFit n =
        fit_level({&reference, {}, 60, kWide, kHigh}, {&other, Affine{1, 0, 0, 0, 1, -kShift}, 60, kWide, kHigh},
                  reference_canvas(kWide, kHigh));
    CHECK(n.map.check().empty());
    CHECK((n.map.offset.slope_x == 0 && n.map.offset.slope_y == 0));
    CHECK(n.map.offset.value == Approx(-50));
}

// Options of the core check themselves: what makes no sense is refused in words, by the call that takes them.
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/calibration/dark_fit.hpp>
#include <kasane/calibration/defects.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/calibration/own_corrections.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/normalization/levels.hpp>
#include <kasane/registration/register.hpp>
#include <kasane/stars/streaks.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

TEST_CASE("The defaults of all options make sense") {
    CHECK(DetectOptions{}.check().empty());
    CHECK(StreakOptions{}.check().empty());
    CHECK(OwnCorrectionOptions{}.check().empty());
    CHECK(MeasureOptions{}.check().empty());
    CHECK(DefectOptions{}.check().empty());
    CHECK(DarkFitOptions{}.check().empty());
    CHECK(RegistrationOptions{}.check().empty());
    CHECK(LevelOptions{}.check().empty());
    CHECK(CombineOptions{}.check().empty());
    CHECK(IntegrateOptions{}.check().empty());
}

TEST_CASE("Options that make no sense are refused by the call that takes them, with the value") {
    const Image image(64, 48, 1, 100.0f);
    const auto frame = std::make_shared<MemoryFrame>(image);
    const Background background = measure_background(image.plane());
    const std::vector<Star> stars;
    CHECK_THROWS_WITH(detect_stars(image.plane(), {.threshold = -1}), Catch::Contains("threshold (-1)"));
    CHECK_THROWS_WITH(detect_stars(image.plane(), {.area = 12}),
                      Catch::Contains("1 to 9 pixels") && Catch::Contains("12"));
    CHECK_THROWS_WITH(find_streaks({image.plane(), 1, background, stars, 3}, {.size = 4}), Catch::Contains("not 4"));
    CHECK_THROWS_WITH(find_own_corrections(image.plane(), {}, {.lone_sigmas = 0}), Catch::Contains("not 0"));
    MeasureOptions measure;
    measure.detect.border = -3;
    CHECK_THROWS_WITH(measure_exposure(std::make_shared<const CalibratedView>(frame, CalibrationSet{}), measure),
                      Catch::Contains("not -3"));
    CHECK_THROWS_WITH(find_defects(frame.get(), 5, nullptr, {.line_share = 2}), Catch::Contains("2"));
    CHECK_THROWS_WITH(fit_dark_factor(*frame, *frame, nullptr, {.hot_sigmas = NAN}), Catch::Contains("nan"));
    CHECK_THROWS_WITH(register_stars(stars, stars, {.pattern_stars = 2}), Catch::Contains("2 stars with 8 neighbours"));
    const Measures measures;
    const LevelInput input{&measures, {}, 60, 10, 10};
    CHECK_THROWS_WITH(fit_star_scale(input, input, reference_canvas(10, 10), {.least_stars = 0}),
                      Catch::Contains("not 0"));
    CHECK_THROWS_AS(register_stars(stars, stars, {.match_radius = 0}), UsageError);
}

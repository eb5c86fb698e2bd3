// What frames see of the sky at the same places.
#include "support/support.hpp"

#include <kasane/normalization/sky_samples.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 420, kHeight = 300;

/// Of a rough sky, the part that begins at (left, top).
Measures rough(int left, int top, std::uint64_t seed) {
    Image image(kWidth, kHeight);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            image(x, y) = static_cast<float>(1000 + 60 * std::sin((x + left) / 9.0) * std::sin((y + top) / 11.0) +
                                             0.4 * (x + left));
    add_noise(image, 4, seed);
    const auto raw = std::make_shared<MemoryFrame>(std::move(image));
    return measure_exposure(std::make_shared<const CalibratedView>(raw, CalibrationSet{})).main();
}

} // namespace

TEST_CASE("A rough sky is the same to frames of which one ends there") {
    const Measures first = rough(0, 0, 1), second = rough(-130, 40, 2), third = rough(-130, 40, 3);
    const Transform moved(Affine{1, 0, 130, 0, 1, -40});
    const std::vector<LevelInput> frames = {
        {&first, {}, 60, kWidth, kHeight}, {&second, moved, 60, kWidth, kHeight}, {&third, moved, 60, kWidth, kHeight}};
    std::vector<Point> places;
    for (double y = 44; y < kHeight; y += 8)
        for (double x = 4; x < kWidth - 130; x += 8)
            places.push_back({x, y});
    const Quiet quiet;
    std::vector<StarScale> scales(3);
    for (StarScale& s : scales)
        s.scale = 1;
    const auto seen =
        look_at_sky(frames, scales, places, reference_canvas(kWidth, kHeight), false, quiet.context.workers);
    int near_the_edge = 0, both = 0;
    double squares = 0;
    for (std::size_t k = 0; k < places.size(); ++k) {
        const double d = static_cast<double>(seen[0][k]) - seen[1][k];
        if (!std::isfinite(d)) continue;
        squares += d * d;
        ++both;
        near_the_edge += places[k].x < 32;
        INFO(places[k].x << " " << places[k].y);
        CHECK(std::abs(d) < 8); // the sky itself swings by 60
    }
    CHECK(std::sqrt(squares / both) < 1.5);
    CHECK(both > 900);
    CHECK(near_the_edge > 60);
    // Where no frame tells, nothing is told; where one shows it, that one.
    const std::vector<Point> outside = {{-500, 20}, {1e9, 1e9}};
    for (const auto& values :
         look_at_sky(frames, scales, outside, reference_canvas(kWidth, kHeight), false, quiet.context.workers))
        CHECK((std::isnan(values[0]) && std::isnan(values[1])));
}

TEST_CASE("A frame that lies on its side shows the same rectangles") {
    // The second one's rows run down the canvas, and it begins near the left edge of what is compared.
    const auto sky = [](double x, double y) { return 1000 + 80 * std::sin(x / 8) + 0.3 * y; };
    std::vector<Measures> measures(2);
    for (std::size_t k = 0; k < 2; ++k) {
        Image image(k == 0 ? kWidth : kHeight, k == 0 ? kHeight : kWidth);
        for (int y = 0; y < image.height(); ++y)
            for (int x = 0; x < image.width(); ++x)
                image(x, y) = static_cast<float>(k == 0 ? sky(x, y) : sky(y + 110, x));
        add_noise(image, 4, 30 + k);
        const auto raw = std::make_shared<MemoryFrame>(std::move(image));
        measures[k] = measure_exposure(std::make_shared<const CalibratedView>(raw, CalibrationSet{})).main();
    }
    const std::vector<LevelInput> frames = {
        {&measures[0], {}, 60, kWidth, kHeight},
        {&measures[1], Transform(Affine{0, 1, 0, 1, 0, -110}), 60, kHeight, kWidth}};
    std::vector<Point> places;
    for (double y = 40; y < kHeight - 40; y += 8)
        for (double x = 118; x < kWidth - 20; x += 8)
            places.push_back({x, y});
    const Quiet quiet;
    std::vector<StarScale> scales(2);
    scales[0].scale = scales[1].scale = 1;
    const auto seen =
        look_at_sky(frames, scales, places, reference_canvas(kWidth, kHeight), false, quiet.context.workers);
    int both = 0;
    for (std::size_t k = 0; k < places.size(); ++k) {
        const double d = static_cast<double>(seen[0][k]) - seen[1][k];
        if (!std::isfinite(d)) continue;
        ++both;
        INFO(places[k].x << " " << places[k].y);
        CHECK(std::abs(d) < 8);
    }
    CHECK(both > 800);
}

TEST_CASE("A slope of the scale counts where it is asked for") {
    const Measures m = rough(0, 0, 1);
    const Quiet quiet;
    StarScale scale;
    scale.scale = 2;
    scale.slope_x = 1e-3;
    const std::vector<Point> places = {{kWidth / 2 - 50.0, 150}, {kWidth / 2 + 100.0, 150}};
    const Canvas canvas = reference_canvas(kWidth, kHeight);
    const std::vector<LevelInput> frames = {{&m, {}, 60, kWidth, kHeight}};
    const auto plain = look_at_sky(frames, {scale}, places, canvas, false, quiet.context.workers);
    const auto tilted = look_at_sky(frames, {scale}, places, canvas, true, quiet.context.workers);
    for (std::size_t k = 0; k < 2; ++k)
        CHECK(tilted[0][k] / plain[0][k] == Approx(1 + 1e-3 * (places[k].x - canvas.centre().x)));
    CHECK(plain[0][0] == Approx(2 * (1000 + 0.4 * places[0].x)).epsilon(0.02));
}

// What an output shows: its part of the sky, turned, mirrored and scaled.
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/geometry/framing.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

namespace {

constexpr int kWidth = 600, kHeight = 400;

Point shown_at(const Canvas& c, double x, double y) {
    Point p;
    c.to_reference().apply(x, y, p.x, p.y);
    return p;
}

/// Shifted by whole or broken pixels, of the reference's size.
FramedFrame shifted(double dx, double dy, std::size_t stack = 0, double weight = 1) {
    return {Transform(Affine{1, 0, -dx, 0, 1, -dy}), kWidth, kHeight, stack, weight};
}

FramedFrame turned(double angle) {
    const double c = std::cos(radians(angle)), s = std::sin(radians(angle)), x = 299.5, y = 199.5;
    return {Transform(Affine{c, s, x - c * x - s * y, -s, c, y + s * x - c * y}), kWidth, kHeight, 0, 1};
}

bool is_inside(const FramedFrame& f, Point p) {
    const Point q = f.to_frame.map(p);
    return q.x >= 0 && q.y >= 0 && q.x <= f.width - 1 && q.y <= f.height - 1;
}

} // namespace

TEST_CASE("A canvas that nothing is asked of is the reference's grid") {
    const Canvas c = frame_canvas({}, kWidth, kHeight, {shifted(30, 10)});
    CHECK(c == reference_canvas(kWidth, kHeight));
    CHECK(c.on_the_grid());
    CHECK(shown_at(c, 17, 29) == Point{17, 29});
    CHECK_THAT(canvas_text(c), Catch::Equals("what the reference shows, 600 x 400 pixels"));
}

TEST_CASE("Quarter turns and mirrors bring whole pixels onto whole pixels, exactly") {
    // Counter-clockwise as displayed: what was at the upper right comes to the upper left.
    const Canvas left = frame_canvas({.turn = 90}, kWidth, kHeight, {});
    CHECK((left.width == kHeight && left.height == kWidth));
    CHECK(shown_at(left, 0, 0) == Point{599, 0});
    CHECK(shown_at(left, 399, 0) == Point{599, 399});
    CHECK(shown_at(left, 0, 599) == Point{0, 0});
    const Canvas around = frame_canvas({.turn = -180}, kWidth, kHeight, {});
    CHECK(shown_at(around, 0, 0) == Point{599, 399});
    CHECK(shown_at(frame_canvas({.turn = 270}, kWidth, kHeight, {}), 0, 0) == Point{0, 399});
    CHECK(frame_canvas({.turn = -90}, kWidth, kHeight, {}).origin == Point{0, 399});
    const Canvas mirrored = frame_canvas({.mirror = true}, kWidth, kHeight, {});
    CHECK(shown_at(mirrored, 0, 7) == Point{599, 7});
    CHECK(mirrored.to_reference().mirrors());
    // The picture is turned, then mirrored.
    const Canvas both = frame_canvas({.turn = 90, .mirror = true}, kWidth, kHeight, {});
    CHECK(shown_at(both, 0, 0) == Point{599, 399});
    CHECK(shown_at(both, 399, 0) == Point{599, 0});
    CHECK_FALSE(both.on_the_grid());
}

TEST_CASE("A turned canvas holds all of what it shows") {
    const double angle = GENERATE(1.0, 37.0, 90.5, 200.0, -359.0);
    const Canvas c = frame_canvas({.turn = angle, .mirror = true}, kWidth, kHeight, {});
    const Affine to_canvas = c.to_reference().inverse();
    for (const Point corner : {Point{0, 0}, Point{599, 0}, Point{0, 399}, Point{599, 399}}) {
        Point p;
        to_canvas.apply(corner.x, corner.y, p.x, p.y);
        CHECK((p.x > -1 && p.y > -1 && p.x < c.width && p.y < c.height));
    }
    const double a = radians(angle);
    CHECK(c.width == Approx(600 * std::abs(std::cos(a)) + 400 * std::abs(std::sin(a))).margin(1));
    CHECK(c.height == Approx(400 * std::abs(std::cos(a)) + 600 * std::abs(std::sin(a))).margin(1));
    CHECK(c.to_reference().scale() == Approx(1));
}

TEST_CASE("A scale keeps the edges of the picture where they are") {
    const double scale = GENERATE(0.25, 0.5, 2.0, 3.0);
    const Canvas c = frame_canvas({.scale = scale}, kWidth, kHeight, {});
    CHECK((c.width == 600 * scale && c.height == 400 * scale));
    const Point first = shown_at(c, -0.5, -0.5), last = shown_at(c, c.width - 0.5, c.height - 0.5);
    CHECK((first.x == Approx(-0.5).margin(1e-9) && first.y == Approx(-0.5).margin(1e-9)));
    CHECK((last.x == Approx(599.5) && last.y == Approx(399.5)));
    CHECK_THAT(canvas_text(c), Catch::Contains("AT SCALE"));
    // Too small for a pixel, it is one all the same.
    CHECK(frame_canvas({.scale = 0.05}, 3, 2, {}).width == 1);
}

TEST_CASE("Everything is the smallest rectangle of whole pixels that holds all frames") {
    const std::vector<FramedFrame> frames{shifted(30, -10), shifted(-12.5, 44.25), shifted(0, 0, 1)};
    const Canvas c = frame_canvas({.frame = Framing::everything}, kWidth, kHeight, frames);
    CHECK(c.origin == Point{-13, -10});
    CHECK((c.width == 643 && c.height == 455)); // from -13 to 629, from -10 to 444
    CHECK(c.on_the_grid());
    CHECK(grid_around(c, kWidth, kHeight) == Canvas{.width = 643, .height = 455, .origin = {-13, -10}});
    // Without any frame what the reference shows.
    CHECK(frame_canvas({.frame = Framing::everything}, kWidth, kHeight, {}).bounds() == Region{0, 0, 600, 400});
    const Canvas wide = frame_canvas({.frame = Framing::everything}, kWidth, kHeight, {turned(30), turned(-30)});
    CHECK(wide.width == Approx(600 * std::cos(radians(30)) + 400 * std::sin(radians(30))).margin(2));
}

TEST_CASE("What is common lies in frames with the share of the weight, of every stack") {
    const std::vector<FramedFrame> three{shifted(30, 0), shifted(-20, 10), shifted(0, -200, 0, 0.1)};
    const auto common = [&](const std::vector<FramedFrame>& frames, double share) {
        return frame_canvas({.frame = Framing::common, .share = share}, kWidth, kHeight, frames);
    };
    // The third tells little: without it 550 x 390, less two pixels for interpolation on each side.
    const Canvas most = common(three, 0.9);
    CHECK((most.width == Approx(546).margin(2) && most.height == Approx(386).margin(2)));
    CHECK(most.origin.x == Approx(32).margin(1));
    CHECK(most.on_the_grid());
    const Canvas all = common(three, 1);
    CHECK((all.width == Approx(546).margin(2) && all.height == Approx(186).margin(2)));
    // A stack of its own counts by itself, however light its frames.
    std::vector<FramedFrame> two = three;
    two.back().stack = 1;
    CHECK(common(two, 0.9).height == Approx(186).margin(2));

    const std::vector<FramedFrame> around{turned(0), turned(20), turned(-20)};
    const Canvas c = common(around, 1);
    CHECK((c.width > 300 && c.height > 150));
    for (int j = 0; j <= 20; ++j)
        for (int i = 0; i <= 20; ++i)
            for (const FramedFrame& f : around)
                REQUIRE(is_inside(f, shown_at(c, c.width * i / 20.0 - 0.5, c.height * j / 20.0 - 0.5)));
    CHECK(c.width * c.height > 0.5 * 600 * 400);
    // No rectangle about the middle, where the frames turn, is larger.
    double largest = 0;
    for (int x = 0; x < 300; ++x)
        for (int y = 0; y < 200; ++y) {
            bool inside = true;
            for (const FramedFrame& f : around)
                for (const Point corner : {Point{1. * x, 1. * y}, Point{599. - x, 1. * y}, Point{1. * x, 399. - y}})
                    inside = inside && is_inside(f, corner);
            if (inside) largest = std::max(largest, (600. - 2 * x) * (400. - 2 * y));
        }
    CHECK(c.width * c.height > 0.97 * largest);
    CHECK(c.width * c.height <= largest);

    // A landscape, with a tree, is not common sky.
    std::vector<FramedFrame> before_hills{shifted(0, 0), shifted(8, 0)};
    for (FramedFrame& f : before_hills)
        f.hidden = [](Point q) { return q.y > 300 || (std::abs(q.x - 500) < 10 && q.y > 200); };
    const Canvas sky = common(before_hills, 1);
    CHECK((sky.width == Approx(480).margin(10) && sky.height == Approx(298).margin(6)));

    CHECK_THROWS_WITH(common({shifted(0, 0), shifted(700, 0)}, 0.9),
                      Catch::Contains("no rectangle") && Catch::Contains("90 %"));
    CHECK(common({shifted(0, 0), shifted(700, 0)}, 0.5).width > 580);
}

TEST_CASE("A rectangle by hand may reach beyond the reference, but not where nothing is") {
    const auto given = [](const Region& r, const std::vector<FramedFrame>& frames = {shifted(0, 0)}) {
        return frame_canvas({.frame = Framing::given, .region = r}, kWidth, kHeight, frames);
    };
    CHECK(given({100, 50, 200, 80}) ==
          Canvas{.width = 200, .height = 80, .origin = {100, 50}, .framing = Framing::given});
    const Canvas beyond = given({-40, -30, 200, 500});
    CHECK(grid_around(beyond, kWidth, kHeight) == Canvas{.width = 640, .height = 500, .origin = {-40, -30}});
    CHECK(grid_around(given({100, 50, 200, 80}), kWidth, kHeight) == reference_canvas(kWidth, kHeight));
    CHECK_THROWS_WITH(given({700, 0, 50, 50}),
                      Catch::Contains("no light shows anything") && Catch::Contains("600 x 400"));
    CHECK(given({700, 0, 50, 50}, {shifted(300, 0)}).width == 50);
}

TEST_CASE("Framings that make no sense are refused in words") {
    CHECK_THAT((FramingOptions{.share = 0}.check()), Catch::Contains("share"));
    CHECK_THAT((FramingOptions{.turn = 361}.check()), Catch::Contains("turn"));
    CHECK_THAT((FramingOptions{.scale = 0}.check()), Catch::Contains("scale"));
    CHECK_THAT((FramingOptions{.scale = std::nan("")}.check()), Catch::Contains("scale"));
    CHECK_THAT((FramingOptions{.frame = Framing::given}.check()), Catch::Contains("empty"));
    CHECK_THROWS_AS(frame_canvas({.scale = 0}, kWidth, kHeight, {}), UsageError);
    // One frame that was brought far away does not take all memory.
    CHECK_THROWS_WITH(frame_canvas({.frame = Framing::everything}, kWidth, kHeight, {shifted(0, 0), shifted(1e6, 0)}),
                      Catch::Contains("the picture would have"));
}

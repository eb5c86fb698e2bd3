// What stands before the sky: polygons on pixels, and where a standing camera never shows stars.
#include <kasane/grading/landscape.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <deque>

using namespace kasane;

TEST_CASE("A polygon covers the pixels whose centres lie inside, wherever its corners are") {
    Mask m(20, 10);
    fill_polygon({{2, 2}, {6, 2}, {6, 5}, {2, 5}}, m);
    int n = 0;
    for (const auto v : m.pixels())
        n += v;
    CHECK(n == 5 * 3); // rows from above the lower edge
    CHECK(m(2, 2) == 1);
    CHECK(m(6, 4) == 1);
    CHECK(m(7, 4) == 0);
    Mask all(20, 10);
    fill_polygon({{-100, -50}, {500, -50}, {500, 80}, {-100, 80}}, all);
    CHECK(std::all_of(all.pixels().begin(), all.pixels().end(), [](auto v) { return v == 1; }));
    Mask none(20, 10);
    fill_polygon({}, none);
    fill_polygon({{3, 3}, {8, 8}}, none);
    fill_polygon({{30, 1}, {40, 1}, {40, 9}}, none);
    CHECK(std::none_of(none.pixels().begin(), none.pixels().end(), [](auto v) { return v == 1; }));
}

TEST_CASE("A hill along the lower edge is guessed where no star ever shows, and nothing without one") {
    constexpr int kWidth = 600, kHeight = 400;
    std::deque<std::vector<Star>> lists;
    std::vector<const std::vector<Star>*> open, hilly;
    sky::Random random(3);
    for (int frame = 0; frame < 30; ++frame) {
        std::vector<Star> all, above;
        for (int i = 0; i < 250; ++i) {
            Star s;
            s.x = random.uniform(0, kWidth), s.y = random.uniform(0, kHeight);
            all.push_back(s);
            if (s.y < (s.x < 300 ? 300 : 340)) above.push_back(s); // steps of the squares: 25 px
        }
        lists.push_back(all);
        open.push_back(&lists.back());
        lists.push_back(above);
        hilly.push_back(&lists.back());
    }
    CHECK(guess_landscape(open, kWidth, kHeight).hidden.empty());
    const LandscapeGuess g = guess_landscape(hilly, kWidth, kHeight);
    REQUIRE(g.hidden.size() == 1);
    Mask m(kWidth, kHeight);
    fill_polygon(g.hidden[0], m);
    CHECK(m(100, 305) == 1);
    CHECK(m(100, 290) == 0);
    CHECK(m(500, 360) == 1);
    CHECK(m(500, 330) == 0); // nothing that has shown stars
    CHECK(g.share == Approx(0.5 * 0.25 + 0.5 * 0.125).margin(0.03));
    CHECK(guess_landscape({hilly.begin(), hilly.begin() + 3}, kWidth, kHeight).hidden.empty()); // too few to say
    CHECK(guess_landscape({}, kWidth, kHeight).hidden.empty());
}

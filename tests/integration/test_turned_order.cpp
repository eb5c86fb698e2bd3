#include <kasane/base/units.hpp>
#include <kasane/integration/turned_order.hpp>

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

TEST_CASE("Every pixel of a rectangle comes once, sixteen at a time along a row of the frame") {
    const double angle = GENERATE(3.0, 37.0, 45.0, 60.0, 90.0, 91.0, 135.0, 180.0, 217.0, 271.0, 320.0);
    const bool mirrored = GENERATE(false, true);
    const double scale = GENERATE(1.0, 0.5, 1.4);
    const Affine to_frame = turned(angle, scale, mirrored);
    for (const auto& [width, height] : {std::pair{150, 128}, std::pair{31, 70}, std::pair{1, 1}, std::pair{64, 1},
                                        std::pair{1, 64}, std::pair{17, 16}, std::pair{0, 5}, std::pair{5, 0}}) {
        INFO(angle << " degrees, " << width << " x " << height);
        const TurnedOrder order(to_frame, width, height);
        const LineTable table = order.table();
        std::vector<int> told(static_cast<std::size_t>(width * height));
        int whole = 0, all = 0;
        for (const LineGroup& group : order.groups()) {
            REQUIRE((group.count > 0 && group.count <= LineGroup::kTogether));
            REQUIRE((group.first >= 0 && group.first + group.count <= order.length()));
            ++all;
            whole += group.count == LineGroup::kTogether;
            double top = 1e9, bottom = -1e9;
            for (int i = group.first; i < group.first + group.count; ++i) {
                const int across = group.line + table.rise[i], place = table.places[i] + group.line * table.step;
                REQUIRE((across >= 0 && across < order.across()));
                REQUIRE((place >= 0 && place < width * height));
                const int x = place % width, y = place / width;
                REQUIRE(x == (order.steep() ? order.beside(across) : i));
                REQUIRE(y == (order.steep() ? i : order.beside(across)));
                if (i > group.first) REQUIRE(std::abs(2 * (table.rise[i] - table.rise[i - 1]) - 1) == 1);
                told[static_cast<std::size_t>(place)] = 1;
                double u = 0, v = 0;
                to_frame.apply(x, y, u, v);
                top = std::min(top, v), bottom = std::max(bottom, v);
            }
            REQUIRE(bottom - top <= scale * (1 + 1e-9)); // two rows of the frame
        }
        CHECK(std::count(told.begin(), told.end(), 1) == width * height);
        if (width == 150) {
            CHECK(all * LineGroup::kTogether < 1.3 * width * height); // with what is told again
            CHECK(whole > 0.8 * all);
        }
    }
}

TEST_CASE("An order serves maps that are turned alike, and no others") {
    const TurnedOrder order(turned(37, 1, false), 150, 128);
    CHECK(order.fits(turned(37.2, 1.1, false), 150, 128));
    CHECK_FALSE(order.fits(turned(38, 1, false), 150, 128));
    CHECK_FALSE(order.fits(turned(-37, 1, false), 150, 128));
    CHECK_FALSE(order.fits(turned(53, 1, false), 150, 128));
    CHECK_FALSE(order.fits(turned(37, 1, false), 150, 127));
    CHECK_FALSE(TurnedOrder{}.fits(turned(37, 1, false), 150, 128));
    CHECK(TurnedOrder{}.groups().empty());
}

TEST_CASE("Rows that go across those of the frame are told, what is no number is not") {
    CHECK(TurnedOrder::worth_while(turned(37, 1, false)));
    CHECK(TurnedOrder::worth_while(turned(-90, 1, true)));
    CHECK_FALSE(TurnedOrder::worth_while(turned(1, 1, false)));
    CHECK_FALSE(TurnedOrder::worth_while(turned(180, 1, false)));
    CHECK_FALSE(TurnedOrder::worth_while(turned(std::nan(""), 1, false)));
}

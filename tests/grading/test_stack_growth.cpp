// How a stack grew.
#include <kasane/grading/stack_growth.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

TEST_CASE("Noise falls with the square root of the effective exposure, night by night") {
    std::vector<GrowthLight> lights;
    for (int i = 0; i < 10; ++i)
        lights.push_back({"2031-03-14", 300, 0.5});
    for (int i = 0; i < 10; ++i)
        lights.push_back({"2031-03-12", 300, 1});
    lights.push_back({"2031-03-15", 300, 0.5});
    const StackGrowth g = growth_of(lights, 2.0);
    REQUIRE(g.nights.size() == 3);
    CHECK(g.nights[0].night == "2031-03-12"); // by date
    CHECK(g.nights[0].lights == 10);
    CHECK(g.nights[0].effective == 3000);
    CHECK(g.nights[1].seconds_until == 6000);
    CHECK(g.nights[1].effective_until == 4500);
    CHECK(g.nights[2].noise == Approx(2.0)); // of all of them
    CHECK(g.nights[0].noise == Approx(2.0 * std::sqrt(4650.0 / 3000)));
    CHECK(g.worth == Approx(4650.0 / 6300));
    CHECK(g.best_night == Approx(std::sqrt(4650.0 / 7650) - 1));
    CHECK(g.usual_night == Approx(std::sqrt(4650.0 / 6150) - 1));
    CHECK(g.two_hours == Approx(std::sqrt(4650.0 / (4650 + 7200 * g.worth)) - 1));
}

TEST_CASE("Lights of unknown time or worth are not counted, and of none nothing is told") {
    const StackGrowth none = growth_of({{"2031-03-12", 0, 1}, {"2031-03-12", 300, 0}}, 3);
    CHECK(none.nights.empty());
    CHECK(none.two_hours == 0);
    const StackGrowth one = growth_of({{"", 60, 1}, {"", 60, std::nan("")}}, 3);
    REQUIRE(one.nights.size() == 1);
    CHECK(one.nights[0].lights == 1);
    CHECK(one.usual_night == Approx(std::sqrt(0.5) - 1));
}

TEST_CASE("The limiting flux is five sigma in a disc as wide as the stars") {
    CHECK(limiting_flux(2, 4) == Approx(5 * 2 * std::sqrt(3.14159265 * 4)));
    CHECK(limiting_flux(0, 4) == 0);
    CHECK(limiting_flux(2, 0) == 0);
}

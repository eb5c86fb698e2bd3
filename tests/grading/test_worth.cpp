#include <kasane/grading/worth.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

TEST_CASE("Worth is information a second over the best, effective seconds add it up") {
    const std::vector<double> info = {information(1, 10), information(2, 10), information(1, 10) * 2, 0};
    const auto w = worths(info, {60, 60, 120, 60});
    CHECK(w[0] == Approx(1));
    CHECK(w[1] == Approx(0.25)); // half the light
    CHECK(w[2] == Approx(1));    // twice as long
    CHECK(w[3] == 0);
    CHECK(worths({}, {}).empty());
    const auto some = worths({1, 2}, {60, 0}); // nothing can be said a second where there are none
    CHECK(some[0] == Approx(1));
    CHECK(std::isnan(some[1]));
    const auto none = worths({1, 2}, {0, 0});
    CHECK(none[0] == Approx(0.5));
    CHECK(none[1] == Approx(1));
    CHECK(information(0, 10) == 0);
}

TEST_CASE("The forecast follows inverse variances and the sum of profiles") {
    const auto one = [](double noise, double fwhm) { return Contribution{1 / (noise * noise), 100, 1, fwhm}; };
    const std::vector<Contribution> equal(16, one(10, 3));
    const Prediction all = predict(equal, std::vector<bool>(16, true));
    CHECK(all.noise == Approx(2.5));
    CHECK(all.seconds == 1600);
    CHECK(all.fwhm == Approx(3).epsilon(0.002));
    // A wide and a narrow star of equal weight: nearer to the narrow one, whose core stands out.
    const Prediction mixed = predict({one(10, 2), one(10, 4)}, {true, true});
    CHECK(mixed.fwhm > 2);
    CHECK(mixed.fwhm < 2.6);
    CHECK(predict(equal, std::vector<bool>(16, false)).noise == 0);
}

TEST_CASE("The curve begins with everything and ends with the last") {
    std::vector<Contribution> all;
    for (int i = 0; i < 20; ++i)
        all.push_back({0.01, 60, 1, 2.5 + 0.1 * i});
    std::vector<std::size_t> order;
    for (std::size_t i = 20; i-- > 0;)
        order.push_back(i);
    const std::vector<bool> kept(20, true);
    const auto curve = cost_curve(all, kept, order);
    REQUIRE(curve.size() == 21);
    CHECK(curve.front().noise == Approx(predict(all, kept).noise));
    for (std::size_t i = 1; i + 1 < curve.size(); ++i) {
        CHECK(curve[i].noise > curve[i - 1].noise);
        CHECK(curve[i].fwhm <= curve[i - 1].fwhm + 1e-9);
    }
    CHECK(curve[19].fwhm == Approx(2.5).epsilon(0.01));
    CHECK(curve[20].frames == 0);
}

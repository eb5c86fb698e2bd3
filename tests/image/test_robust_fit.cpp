#include <kasane/image/robust_fit.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>

using namespace kasane;

namespace {

/// Samples of 5 + 2 x - 3 y with noise 0.1, of which a share is far off.
std::vector<Equation<3>> plane(double outliers, std::uint64_t seed) {
    sky::Random random(seed);
    std::vector<Equation<3>> all;
    for (int i = 0; i < 400; ++i) {
        const double x = random.uniform(-1, 1), y = random.uniform(-1, 1);
        const double off = random.uniform() < outliers ? 20 + 10 * random.uniform() : 0;
        all.push_back({{1, x, y}, 5 + 2 * x - 3 * y + 0.1 * random.normal() + off});
    }
    return all;
}

} // namespace

TEST_CASE("A robust fit finds the plane under outliers on one side, however they lose their say") {
    const RobustOptions options = GENERATE(RobustOptions{}, RobustOptions{Loss::clip, 8});
    for (const double outliers : {0.0, 0.1, 0.25}) {
        const Eigen::Vector3d p = robust_fit(plane(outliers, 3), options);
        // The error of a mean of 300 samples of noise 0.1 is 0.006, that of a slope 0.01.
        CHECK(p[0] == Approx(5).margin(0.03));
        CHECK(p[1] == Approx(2).margin(0.05));
        CHECK(p[2] == Approx(-3).margin(0.05));
    }
    CHECK(least_squares(plane(0.25, 3))[0] > 7); // which all samples have a say in
}

TEST_CASE("What the samples do not determine is not a number, and nothing is zero") {
    std::vector<Equation<3>> line;
    for (int i = 0; i < 50; ++i)
        line.push_back({{1, 0.02 * i, 0.5}, 1.0 * i}); // one row: no slope across it
    CHECK_FALSE(robust_fit(line).allFinite());
    CHECK_FALSE(least_squares(line).allFinite());
    CHECK(robust_fit(std::vector<Equation<3>>{}) == Eigen::Vector3d::Zero());
    // Small weights, or large numbers, are no reason to give up.
    std::vector<Equation<3>> small = plane(0, 5);
    for (Equation<3>& e : small)
        e.weight = 1e-12;
    CHECK(robust_fit(small)[1] == Approx(2).margin(0.05));
}

TEST_CASE("Weights of outliers fall as the literature has them") {
    CHECK(bisquare_weight(0, 0) == 1);
    CHECK(bisquare_weight(0.5, 0) == Approx(0.5625));
    CHECK(bisquare_weight(1, 1e-9) == 1e-9);
    CHECK(huber_weight(0.5, 1) == 1);
    CHECK(huber_weight(-4, 1) == Approx(0.25));
}

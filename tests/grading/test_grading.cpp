#include <kasane/grading/verdicts.hpp>

#include <catch2/catch.hpp>

using namespace kasane;

namespace {
Measures with_stars(std::size_t n) {
    Measures m;
    m.stars.resize(n);
    return m;
}
} // namespace

TEST_CASE("Only frames with plainly too few stars are dropped, with the reason") {
    const Measures good = with_stars(200), thin = with_stars(90), cloud = with_stars(30), blind = with_stars(2);
    const auto v = judge_by_stars({&good, &good, &thin, &good, &cloud, &blind, &good});
    CHECK(v[0].keep);
    CHECK(v[2].keep);
    CHECK_FALSE(v[4].keep);
    CHECK_THAT(v[4].reason, Catch::Contains("only 30 stars") && Catch::Contains("median is 200"));
    CHECK_FALSE(v[5].keep);
    CHECK_THAT(v[5].reason, Catch::Contains("at least 6"));
}

TEST_CASE("A stack of two is not judged by its median") {
    const Measures a = with_stars(200), b = with_stars(20);
    const auto v = judge_by_stars({&a, &b});
    CHECK((v[0].keep && v[1].keep));
}

TEST_CASE("Worth is signal to noise squared for equal seconds, against the best") {
    // Half the transparency: scale 2. Twice the seconds: twice the information, the same worth.
    const std::vector<double> info = {information(1, 10), information(2, 10), information(1, 10) * 2, 0};
    const auto w = worths(info, {60, 60, 120, 60});
    CHECK(w[0] == Approx(1));
    CHECK(w[1] == Approx(0.25));
    CHECK(w[2] == Approx(1));
    CHECK(w[3] == 0);
    CHECK(worths({}, {}).empty());
}

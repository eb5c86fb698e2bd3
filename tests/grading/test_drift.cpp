#include <kasane/grading/drift.hpp>
#include <kasane/grading/obstruction.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

namespace {

/// A night of exposures every three minutes, guided to 0.3 px.
std::vector<Pose> night(int count, std::uint64_t seed, double scatter = 0.3) {
    sky::Random random(seed);
    std::vector<Pose> out;
    for (int i = 0; i < count; ++i)
        out.push_back({1e9 + 180.0 * i, scatter * random.normal(), scatter * random.normal(), 0.002 * random.normal(),
                       0.35 + 0.03 * random.normal()});
    return out;
}

std::string said(const Drift& d) {
    std::string out;
    for (const std::string& s : d.diagnosis)
        out += s + "\n";
    return out;
}

} // namespace

TEST_CASE("A steady night is called steady, a dithered one dithered, and nothing else") {
    for (std::uint64_t seed = 1; seed <= 20; ++seed) {
        CHECK_THAT(said(diagnose_drift(night(40, seed))), Catch::StartsWith("steady to"));
        CHECK_THAT(said(diagnose_drift(night(40, seed, 8))), Catch::StartsWith("no drift: dithered"));
    }
}

TEST_CASE("Drift, rotation, jumps, periods and gusts are told apart") {
    auto slow = night(40, 3);
    for (Pose& p : slow)
        p.x += 5.0 * (p.time - 1e9) / 3600;
    const Drift d = diagnose_drift(slow, 2);
    CHECK(d.x_rate == Approx(5).epsilon(0.08));
    CHECK(d.y_rate == Approx(0).margin(0.4));
    CHECK_THAT(said(d), Catch::Contains("slow drift") && Catch::Contains("towards the right") && Catch::Contains("\""));

    auto turning = night(40, 4);
    for (Pose& p : turning)
        p.rotation += 0.1 * (p.time - 1e9) / 3600 + (p.time > 1e9 + 3600 ? 180 : 0); // and a turn by the meridian
    CHECK(diagnose_drift(turning).rotation_rate == Approx(0.1).epsilon(0.1));
    CHECK_THAT(said(diagnose_drift(turning)), Catch::Contains("polar axis"));

    auto knocked = night(40, 5);
    for (std::size_t i = 17; i < knocked.size(); ++i)
        knocked[i].y -= 30;
    CHECK(diagnose_drift(knocked).jumps == std::vector<std::size_t>{17});
    CHECK_THAT(said(diagnose_drift(knocked)), Catch::Contains("knocked") && Catch::Contains("the top"));

    auto gear = night(80, 6);
    for (Pose& p : gear)
        p.x += 1.5 * std::sin(2 * 3.14159265 * p.time / 638);
    const Drift g = diagnose_drift(gear);
    CHECK(g.period == Approx(638).epsilon(0.02));
    CHECK(g.amplitude == Approx(1.5).epsilon(0.15));

    auto windy = night(40, 7);
    windy[11].eccentricity = 0.85;
    windy[12].eccentricity = 0.8;
    CHECK(diagnose_drift(windy).elongated == std::vector<std::size_t>{11, 12});
}

TEST_CASE("Few exposures, equal times and no exposures say so") {
    CHECK_THAT(said(diagnose_drift({})), Catch::Contains("too few"));
    CHECK_THAT(said(diagnose_drift(night(4, 1))), Catch::Contains("too few"));
    auto same = night(20, 1);
    for (Pose& p : same)
        p.time = 5;
    CHECK_THAT(said(diagnose_drift(same)), Catch::Contains("no times that differ"));
}

TEST_CASE("A roof, a corner and a cloud's edge are seen, chance, thin cloud and few stars are not") {
    const auto field = [](std::uint64_t seed, int stars, auto hidden, double chance) {
        sky::Random random(seed);
        std::vector<ExpectedStar> out;
        for (int i = 0; i < stars; ++i) {
            const double x = random.uniform(0, 900), y = random.uniform(0, 600);
            out.push_back({x, y, !hidden(x, y) && random.uniform() < chance});
        }
        return obstructed_share(out, 900, 600);
    };
    for (std::uint64_t seed = 1; seed <= 30; ++seed) {
        const auto nothing = [](double, double) { return false; };
        CHECK(field(seed, 200, nothing, 0.95) < 0.1);
        CHECK(field(seed, 150, nothing, 0.6) < 0.1); // evenly thinned by cloud
        CHECK(field(
                  seed, 200, [](double, double y) { return y > 480; }, 0.95) == Approx(0.2).margin(0.09));
        CHECK(field(
                  seed, 200, [](double x, double y) { return x + y < 450; }, 0.95) > 0.08);
        CHECK(field(
                  seed, 120, [](double x, double) { return x > 450; }, 0.9) == Approx(0.5).margin(0.15));
    }
    CHECK(std::isnan(field(
        1, 12, [](double, double) { return false; }, 1)));
}

TEST_CASE("A dark band that ends is in the way, light that falls off slowly is not") {
    const auto with_profile = [](auto profile) {
        Image plane(200, 160);
        for (int y = 0; y < 160; ++y)
            for (int x = 0; x < 200; ++x)
                plane(x, y) = static_cast<float>(1000 * profile(y / 160.0));
        return darkened_edge(plane.plane());
    };
    CHECK(with_profile([](double y) { return y < 0.2 ? 0.1 : 1.0; }) == Approx(0.2).margin(0.01));
    CHECK(with_profile([](double y) { return y > 0.85 ? 0.2 : 1.0; }) == Approx(0.15).margin(0.01));
    CHECK(with_profile([](double y) { return std::min(1.0, 2 * y); }) == 0);
    CHECK(with_profile([](double) { return 1.0; }) == 0);
}

// How likely a match is chance; and how pairs spread.
#include <kasane/base/units.hpp>
#include <kasane/registration/chance.hpp>
#include <kasane/registration/growth.hpp>
#include <kasane/sky/star_views.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

TEST_CASE("The tail of a Poisson law is that of its sum") {
    for (const double mean : {0.01, 0.7, 3.0})
        for (int count = static_cast<int>(mean) + 2; count < 12; ++count) {
            double sum = 0;
            for (int k = count; k < 60; ++k)
                sum += std::exp(-mean + k * std::log(mean) - std::lgamma(k + 1.0));
            // The terms that are left out fall as a geometric row and count too much: an upper bound, not far off.
            CHECK(log_poisson_tail(count, mean) >= std::log(sum) - 1e-9);
            CHECK(log_poisson_tail(count, mean) < std::log(sum) + 0.5);
        }
    CHECK(log_poisson_tail(2, 5) == 0);
    CHECK(log_poisson_tail(0, 0) == 0);
    CHECK(log_poisson_tail(3, 0) < -1e6);
}

TEST_CASE("Density is that of the cluster within one and never less than over all") {
    sky::Random random(4);
    std::vector<Star> stars;
    for (int i = 0; i < 300; ++i) {
        Star s;
        const bool within = i < 200;
        s.x = within ? 500 + 20 * random.normal() : random.uniform(0, 1000);
        s.y = within ? 500 + 20 * random.normal() : random.uniform(0, 1000);
        stars.push_back(s);
    }
    const StarIndex index(stars);
    const StarDensity density(stars, index);
    CHECK(density.overall() == Approx(300.0 / 1e6).epsilon(0.1));
    CHECK(density.at(500, 500) > 0.02); // 200 / (2 pi 400) = 0.08 in its middle, from six stars to 40 %
    CHECK(density.at(100, 900) >= density.overall());
    CHECK(density.at(100, 900) < 0.003);
}

TEST_CASE("What is true is no chance, what is chance is") {
    sky::StarViewOptions o;
    o.stars = 100;
    const sky::StarViews v = sky::star_views(o, 8);
    const StarIndex index(v.frame);
    const StarPair pair{v.reference, v.frame, index};
    const StarDensity density(v.frame, index);
    const auto matches = [&](const Transform& t, double radius) {
        std::vector<StarMatch> out;
        for (std::size_t i = 0; i < v.reference.size(); ++i) {
            const Point p = t.map({v.reference[i].x, v.reference[i].y});
            if (const int j = index.nearest(p.x, p.y, radius); j >= 0) out.push_back({static_cast<int>(i), j});
        }
        return out;
    };
    const auto right = matches(v.truth, 3);
    CHECK(log_chance(pair, density, v.truth, right, 6) < -100);
    CHECK(log_chance_of_brightness(pair, right) < -20);
    int surprising = 0;
    for (int i = 0; i < 200; ++i) { // transforms that have nothing to do with it
        sky::Random random(100 + static_cast<std::uint64_t>(i));
        const double a = random.uniform(0, 2 * kPi);
        const Transform wrong = Affine{std::cos(a),  std::sin(a), random.uniform(-300, 300),
                                       -std::sin(a), std::cos(a), random.uniform(0, 900)};
        surprising += log_chance(pair, density, wrong, matches(wrong, 3), 0) < std::log(0.01);
    }
    CHECK(surprising <= 8); // 2 are expected of a hundredth; 8 in one of a thousand such tests
}

TEST_CASE("Pairs spread over the field through a lens, and no farther than it is true") {
    sky::StarViewOptions o;
    o.width = 3000, o.height = 2000, o.stars = 300, o.distortion = GENERATE(0., 0.02), o.least_overlap = 0.7;
    const sky::StarViews v = sky::star_views(o, 21);
    const StarIndex index(v.frame);
    const StarPair pair{v.reference, v.frame, index};
    std::vector<StarMatch> all, seed;
    for (std::size_t i = 0; i < v.reference.size(); ++i) {
        const Point p = v.truth.map({v.reference[i].x, v.reference[i].y});
        if (const int j = index.nearest(p.x, p.y, 1); j >= 0) all.push_back({static_cast<int>(i), j});
    }
    const Star& first = pair.of_reference(all.front());
    const StarIndex mine(v.reference);
    for (const int i : mine.nearest_many(first.x, first.y, 12))
        for (const StarMatch& m : all)
            if (m.reference == i) seed.push_back(m);
    REQUIRE(seed.size() >= 4);
    const auto grown = grow(pair, seed);
    int right = 0;
    for (const StarMatch& m : grown)
        right += std::find(all.begin(), all.end(), m) != all.end();
    CHECK(right > 0.95 * static_cast<double>(all.size()));
    CHECK(static_cast<int>(grown.size()) - right <= 2);
    CHECK(grow(pair, {}).empty());
}

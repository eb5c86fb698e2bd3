// Which frame leads: sharp, deep, rich, and in the middle of what the others show.
#include <kasane/registration/reference.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <deque>

using namespace kasane;

namespace {

constexpr int kWidth = 800, kHeight = 600;

/// Frames of one sky, each at its own place.
struct Session {
    std::deque<std::vector<Star>> lists;
    std::vector<ReferenceCandidate> frames;
    std::vector<Star> sky;

    explicit Session(std::uint64_t seed) {
        sky::Random random(seed);
        for (int i = 0; i < 900; ++i) {
            Star s;
            s.x = random.uniform(-600, 1400), s.y = random.uniform(-600, 1200);
            s.flux = std::exp(random.uniform(5, 11));
            sky.push_back(s);
        }
        std::sort(sky.begin(), sky.end(), [](const Star& a, const Star& b) { return a.flux > b.flux; });
    }

    void add(double dx, double dy, double fwhm, double noise = 10, double signal = 1, int most = 200) {
        sky::Random random(1000 + lists.size());
        std::vector<Star> list;
        for (Star s : sky) {
            s.x += 0.05 * random.normal() - dx, s.y += 0.05 * random.normal() - dy;
            if (s.x < 0 || s.y < 0 || s.x >= kWidth || s.y >= kHeight) continue;
            s.flux *= signal;
            s.position_sigma = 0.05;
            if (static_cast<int>(list.size()) < most) list.push_back(s);
        }
        lists.push_back(std::move(list));
        frames.push_back({&lists.back(), kWidth, kHeight, fwhm, 0.2, noise});
    }
};

std::size_t best(const Session& s, int threads = 2) {
    return rank_references(s.frames, Workers(threads)).best.front().frame;
}

} // namespace

TEST_CASE("The sharper, the deeper, the more central frame leads, other things being equal") {
    SECTION("sharper") {
        Session s(1);
        for (int i = 0; i < 8; ++i)
            s.add(5.0 * i, 0, i == 5 ? 2.5 : 3.0);
        CHECK(best(s) == 5);
    }
    SECTION("deeper: less noise, or more light") {
        Session s(2);
        for (int i = 0; i < 8; ++i)
            s.add(0, 5.0 * i, 3.0, i == 3 ? 7 : 10, i == 6 ? 2 : 1);
        const ReferenceRanking r = rank_references(s.frames, Workers(2));
        CHECK(r.best[0].frame == 6);
        CHECK(r.best[1].frame == 3);
        CHECK(r.best[1].depth == Approx(0.25 * 100 / 49).epsilon(0.02));
    }
    SECTION("central: a frame at the end of a drift would lose the sky of the others") {
        Session s(3);
        for (int i = 0; i < 9; ++i)
            s.add(60.0 * i, 0, i == 8 ? 2.8 : 3.0);
        const ReferenceRanking r = rank_references(s.frames, Workers(2));
        CHECK(r.best.front().frame >= 3);
        CHECK(r.best.front().frame <= 5);
        for (const ReferenceMerit& m : r.best)
            if (m.frame == 8) CHECK(m.central == Approx(1 - 4.5 * 60 / kWidth).margin(0.03)); // mean of eight overlaps
        CHECK_THAT(r.best.front().text(), Catch::Contains("3.00 px, ") &&
                                              Catch::Contains(" stars, depth 1.00 of the best, shows ") &&
                                              Catch::Contains("% of the others' sky"));
    }
}

TEST_CASE("The sharpest frame of another field does not lead") {
    Session s(4), other(5);
    for (int i = 0; i < 7; ++i)
        s.add(4.0 * i, 3, 3.0);
    other.add(0, 0, 1.5);
    s.frames.insert(s.frames.begin() + 2, other.frames[0]);
    const ReferenceRanking r = rank_references(s.frames, Workers(2));
    CHECK(r.best.front().frame != 2);
    CHECK(r.compared == 7);
    for (const ReferenceMerit& m : r.best)
        CHECK(m.frame != 2);
}

TEST_CASE("The ranking of references does not depend on the threads, and knows what to do with little") {
    Session s(6);
    for (int i = 0; i < 30; ++i)
        s.add(7.0 * (i % 6), 9.0 * (i / 6), 2.5 + 0.01 * ((i * 7) % 30));
    const ReferenceRanking one = rank_references(s.frames, Workers(1)), four = rank_references(s.frames, Workers(4));
    REQUIRE(one.best.size() == four.best.size());
    for (std::size_t k = 0; k < one.best.size(); ++k) {
        CHECK(one.best[k].frame == four.best[k].frame);
        CHECK(one.best[k].score == four.best[k].score);
    }
    CHECK(rank_references({}, Workers(1)).best.empty());
    const std::vector<Star> none;
    const ReferenceRanking empty = rank_references({{&none, kWidth, kHeight, 0, 0, 0}}, Workers(1));
    REQUIRE(empty.best.size() == 1);
    CHECK(empty.best.front().central == 1);
}

TEST_CASE("Widths count on the sky: a camera of larger pixels is not sharper for that") {
    Session s(7);
    for (int i = 0; i < 6; ++i)
        s.add(5.0 * i, 0, 3.0);
    std::vector<Star> coarse;
    for (Star star : *s.frames[0].stars) { // the same field on half as many pixels
        star.x = 0.5 * star.x - 0.25, star.y = 0.5 * star.y - 0.25;
        coarse.push_back(star);
    }
    s.frames.push_back({&coarse, kWidth / 2, kHeight / 2, 2.0, 0.2, 10});
    const ReferenceRanking r = rank_references(s.frames, Workers(2));
    CHECK(r.compared == 7);
    CHECK(r.best.back().frame == 6); // 2 px of its own are 4 px of the others
    CHECK(r.best.back().scale / r.best.front().scale == Approx(0.5).epsilon(0.01));
}

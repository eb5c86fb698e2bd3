// The time that remains of work of several stages, with a clock of the test's own.
#include <kasane/base/remaining_time.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <functional>
#include <string>
#include <vector>

using namespace kasane;

namespace {

/// Work as it turns out: each stage takes `pace` times what was expected of it.
struct Night {
    RemainingTime time;
    double now = 100; // any beginning

    void stage(const std::string& name, double seconds, double after, const std::function<void(double done)>& look,
               double before = 0) {
        constexpr int kUnits = 20;
        time.begin(name, kUnits, now);
        for (int i = 0; i < 10; ++i) {
            now += before / 10;
            look(now);
        }
        for (int i = 0; i < kUnits; ++i) {
            now += seconds / kUnits;
            time.advance(1, now);
            look(now);
        }
        time.end(now);
        for (int i = 0; i < 10; ++i) {
            now += after / 10;
            look(now);
        }
    }
};

const std::vector<StageCost> kPlan = {{"masters", 4},         {"measure", 20},        {"register", 2},
                                      {"integrate A", 10, 5}, {"integrate B", 20, 5}, {"report", 4}};
const std::vector<StageCost> kTrying = {
    {"masters", 4}, {"measure", 20, 0, 2}, {"integrate A", 10, 3, 5}, {"integrate B", 14, 3, 5}, {"report", 4}};

} // namespace

TEST_CASE("What was expected is what remains, and on a machine of another speed so many times as much") {
    const double pace = GENERATE(0.25, 1.0, 7.0);
    const std::vector<StageCost>& plan = GENERATE_REF(from_range(std::vector{kPlan, kTrying}));
    Night n;
    CHECK_FALSE(n.time.expects_any());
    n.time.expect(plan);
    CHECK(n.time.seconds(n.now) == Approx(70));
    const double end = n.now + 70 * pace;
    double worst = 0;
    const auto look = [&](double now) {
        if (now < end - 63 * pace || now > end - 1e-9) return; // from a tenth of it on
        worst = std::max(worst, std::abs(n.time.seconds(now) / (end - now) - 1));
    };
    for (const StageCost& s : plan)
        n.stage(s.stage, pace * s.seconds, pace * s.after, look, pace * s.before);
    CHECK(n.now == Approx(end));
    CHECK(worst < (pace == 1 ? 1e-9 : 0.2)); // what is shown is to be true to a fifth
    CHECK(n.time.seconds(n.now) == Approx(0).margin(1e-9));
}

TEST_CASE("A kind of stage that takes longer than the others is known by its first") {
    Night n;
    n.time.expect(kPlan);
    const auto look = [](double) {};
    n.stage("masters", 4, 0, look);
    n.stage("measure", 20, 0, look);
    n.stage("register", 2, 0, look);
    n.stage("drizzle A", 40, 5, look); // four times as long as "integrate A" would have
    n.time.begin("drizzle B", 10, n.now);
    CHECK(n.time.seconds(n.now) > 0.9 * (4 * 20 + 5 + 4)); // what follows is scaled as well, so that it may be more
    for (int i = 0; i < 5; ++i)
        n.time.advance(1, n.now += 8);
    CHECK(n.time.seconds(n.now) == Approx(40 + 4 * 5 + 2 * 4).epsilon(0.1));
}

TEST_CASE("What is not needed after all does not remain, and what nobody expected is no pace") {
    Night n;
    n.time.expect(kPlan);
    n.time.begin("look", 3, n.now); // not expected
    n.time.advance(1, n.now);
    n.time.end(n.now += 50);
    CHECK(n.time.seconds(n.now) == Approx(70));
    n.time.begin("integrate A", 10, n.now); // all known already
    CHECK(n.time.seconds(n.now) == Approx(44));
    for (int i = 0; i < 5; ++i)
        n.time.advance(1, ++n.now);
    CHECK(n.time.seconds(n.now) == Approx(39));
    n.time.begin("measure", 10, n.now); // needed all the same
    CHECK(n.time.seconds(n.now) > 40);
    n.time.expect({});
    CHECK(n.time.seconds(n.now) == 0);
}

// Fewer rounds to where repeating a step changes nothing.
#include <kasane/normalization/fixed_point.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <functional>

using namespace kasane;

namespace {

/// How far from `there` some rounds of a step lead, from zero.
double left_after(int rounds, FixedPoint* mixing, const std::vector<double>& there,
                  const std::function<std::vector<double>(const std::vector<double>&)>& step) {
    std::vector<double> at(there.size(), 0);
    for (int round = 0; round < rounds; ++round) {
        const std::vector<double> made = step(at);
        at = mixing ? mixing->next(at, made) : made;
    }
    double most = 0;
    for (std::size_t i = 0; i < at.size(); ++i)
        most = std::max(most, std::abs(at[i] - there[i]));
    return most;
}

} // namespace

TEST_CASE("What a repeated step nears by a percent a round is there after a few") {
    const std::vector<double> rates = {0.2, 0.5, 0.9, 0.98, 0.99}, there = {1, -2, 3, 5, -4};
    const auto step = [&](const std::vector<double>& at) {
        std::vector<double> out(at.size());
        for (std::size_t i = 0; i < at.size(); ++i)
            out[i] = there[i] + rates[i] * (at[i] - there[i]);
        return out;
    };
    CHECK(left_after(12, nullptr, there, step) > 3);
    FixedPoint mixing(6);
    CHECK(left_after(12, &mixing, there, step) < 1e-4);
    // With the memory of two rounds it takes longer, and gets there.
    FixedPoint small(2);
    CHECK(left_after(200, &small, there, step) < 1e-4);
}

TEST_CASE("A step that is not linear is followed, and no step at all stays where it is") {
    const std::vector<double> there = {0.7390851332151607, 0.7390851332151607};
    const auto cosine = [](const std::vector<double>& at) {
        return std::vector<double>{std::cos(at[0]), std::cos(at[1])};
    };
    FixedPoint mixing(4);
    CHECK(left_after(10, &mixing, there, cosine) < 1e-8);
    FixedPoint still(4);
    CHECK(left_after(10, &still, {0, 0}, [](const std::vector<double>& at) { return at; }) == 0);
}

TEST_CASE("A row of another length begins anew") {
    FixedPoint mixing(3);
    mixing.next({0, 0}, {1, 1});
    mixing.next({1, 1}, {1.5, 1.5});
    CHECK(mixing.next({0}, {2}) == std::vector<double>{2});
}

#include <kasane/integration/growth.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <limits>

using namespace kasane;

namespace {

constexpr int kSide = 11;
constexpr std::uint32_t kMiddle = 5 * kSide + 5;

/// Planes of three frames of noise 1 about a mean of 0, of which samples are set and rejected.
struct Field {
    explicit Field(std::size_t planes = 1)
        : samples(planes, std::vector<float>(3 * kSide * kSide)), mean(kSide * kSide), rejected(planes) {
        expectation.frames.assign(3, {1, 1, 0});
    }
    void reject(std::size_t plane, std::uint32_t pixel, float value) {
        samples[plane][kSide * kSide + pixel] = value; // of the second frame
        rejected[plane].push_back({pixel, 1, value > 0});
    }
    std::vector<std::vector<RejectedSample>> grown(const GrowthOptions& options = {}) {
        std::vector<JudgedPlane> planes;
        for (std::size_t p = 0; p < samples.size(); ++p)
            planes.push_back({samples[p].data(), mean.data(), &expectation, nullptr, &rejected[p]});
        return growth.grow(options, planes, kSide, kSide);
    }
    std::vector<std::vector<float>> samples;
    std::vector<float> mean;
    std::vector<std::vector<RejectedSample>> rejected;
    StackExpectation expectation;
    Growth growth;
};

int farthest(const std::vector<RejectedSample>& grown) {
    int far = 0;
    for (const RejectedSample& r : grown)
        far = std::max(
            {far, std::abs(static_cast<int>(r.pixel) % kSide - 5), std::abs(static_cast<int>(r.pixel) / kSide - 5)});
    return far;
}

} // namespace

TEST_CASE("What is rejected grows as far as its light is expected to reach, whatever the neighbours hold") {
    Field lone;
    lone.reject(0, kMiddle, 4);
    CHECK(lone.grown()[0].empty()); // as noise does now and then
    Field bright;
    bright.reject(0, kMiddle, 8);
    bright.samples[0][kSide * kSide + kMiddle + 1] = -2; // a dark neighbour goes as well
    const auto near = bright.grown()[0];
    CHECK((near.size() == 8 && farthest(near) == 1)); // 8 x 0.3 = 2.4, then 0.7
    for (const RejectedSample& r : near)
        CHECK((r.frame == 1 && r.high));
    Field brighter;
    brighter.reject(0, kMiddle, 50);
    CHECK((brighter.grown()[0].size() == 24 && brighter.grown({.steps = 1})[0].size() == 8));
    CHECK(brighter.grown({.steps = 0})[0].empty());
    Field low;
    low.reject(0, kMiddle, -50);
    CHECK((low.grown()[0].size() == 24 && !low.grown()[0].front().high));
    Field together; // a faint trail
    together.reject(0, kMiddle, 4);
    together.reject(0, kMiddle + 1, 4);
    CHECK(together.grown()[0].size() == 10);
    Field apart; // to different sides: noise
    apart.reject(0, kMiddle, 4);
    apart.reject(0, kMiddle + 1, -4);
    CHECK(apart.grown()[0].empty());
}

TEST_CASE("Growing stops at the edge and where there is no data, and knows nothing of the tile before") {
    Field f;
    f.reject(0, 0, 50);
    f.samples[0][kSide * kSide + 1] = std::numeric_limits<float>::quiet_NaN();
    CHECK(f.grown()[0].size() == 7); // of 3 x 3 pixels, without itself and the one without data
    CHECK(f.grown()[0].size() == 7);
}

TEST_CASE("What is far off in one colour does not count in the others") {
    Field f(3);
    f.reject(1, kMiddle, 50);
    const auto grown = f.grown();
    CHECK((grown[1].size() == 24 && grown[0].size() == 25 && grown[2].size() == 25));
    Field faint(3);
    faint.reject(1, kMiddle, 4);
    for (const auto& plane : faint.grown())
        CHECK(plane.empty());
}

TEST_CASE("Limits of growth that make no sense are refused in words") {
    CHECK(GrowthOptions{}.check().empty());
    CHECK_THAT((GrowthOptions{.steps = 99}.check()), Catch::Contains("by 0 to 16 pixels, not 99"));
    CHECK_FALSE((GrowthOptions{.seed = 0}.check().empty()));
    CHECK_FALSE((GrowthOptions{.fall = 1}.check().empty()));
}

#include "support/support.hpp"

#include <kasane/integration/halves.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

namespace {

struct Samples {
    std::vector<float> values, mean;
    StackExpectation expectation;
    SampleBlock block;
};

/// Frames of unequal noise over a sky full of structure, weighted by it; `excess` more noise than is expected.
Samples samples_of(int frames, double excess, std::uint64_t seed) {
    constexpr int kPixels = 40000;
    Samples s;
    sky::Random random(seed);
    s.values.resize(static_cast<std::size_t>(frames) * kPixels);
    s.mean.resize(kPixels);
    s.expectation.level = 100;
    for (int f = 0; f < frames; ++f) {
        const float sigma = 4.0f + static_cast<float>(f % 3);
        s.expectation.frames.push_back({1 / (sigma * sigma), sigma * sigma, 0.1f});
    }
    for (int i = 0; i < kPixels; ++i) {
        const double sky = 60 + 400 * std::pow(random.uniform(), 8); // half of it darker than the level
        for (int f = 0; f < frames; ++f) {
            const FrameExpectation& e = s.expectation.frames[static_cast<std::size_t>(f)];
            const double sigma = excess * std::sqrt(e.variance + e.variance_slope * (sky - 100));
            s.values[static_cast<std::size_t>(f * kPixels + i)] = static_cast<float>(sky + sigma * random.normal());
        }
        s.mean[static_cast<std::size_t>(i)] = static_cast<float>(sky);
    }
    s.block = {s.values.data(), frames, kPixels, kPixels};
    return s;
}

} // namespace

TEST_CASE("Halves tell the noise, whatever the sky shows") {
    for (const int frames : {2, 3, 4, 11})
        for (const double excess : {1.0, 1.2, 0.8}) {
            INFO(frames << " frames, " << excess);
            const Samples s = samples_of(frames, excess, 7);
            HalvesScatter h;
            h.add(s.block, s.mean.data(), s.expectation);
            CHECK(h.ratio() == Approx(excess).epsilon(0.02)); // 40000 differences: 0.4 %
        }
}

TEST_CASE("What is not flat counts only where too little is") {
    // In the first pixels halves differ by more than noise, as around sharp stars.
    Samples s = samples_of(6, 1, 9);
    const auto pixels = static_cast<std::size_t>(s.block.pixels);
    Structure structure;
    structure.curvature.assign(pixels, 0);
    structure.slope.assign(pixels, 0);
    const auto ratio = [&](std::size_t structured) {
        Samples shown = s;
        for (std::size_t i = 0; i < structured; ++i) {
            structure.slope[i] = 1;
            for (std::size_t f = 0; f < 6; ++f)
                shown.values[f * pixels + i] += f % 2 == 0 ? 5.0f : -5.0f;
        }
        shown.block.samples = shown.values.data();
        HalvesScatter told, all;
        told.add(shown.block, shown.mean.data(), shown.expectation, &structure);
        all.add(shown.block, shown.mean.data(), shown.expectation);
        return std::pair(told.ratio(), all.ratio());
    };
    const auto [flat, plain] = ratio(20000);
    CHECK(flat == Approx(1).epsilon(0.02));
    CHECK(plain > 1.3);
    const auto [few, same] = ratio(35000); // of 40000: five thousand flat ones are not enough
    CHECK(few > 1.3);
    CHECK(same > 1.3);
}

TEST_CASE("Where enough is as dark as the background, what is brighter does not count") {
    // Faint stars that nothing finds: pixels above the level differ by more than noise.
    const auto ratio = [](double level) {
        Samples s = samples_of(6, 1, 11);
        const auto pixels = static_cast<std::size_t>(s.block.pixels);
        for (std::size_t i = 0; i < pixels; ++i)
            for (std::size_t f = 0; f < 6 && s.mean[i] > 100; ++f)
                s.values[f * pixels + i] += f % 2 == 0 ? 5.0f : -5.0f;
        const double change = level - static_cast<double>(s.expectation.level);
        for (FrameExpectation& e : s.expectation.frames)
            e.variance += e.variance_slope * static_cast<float>(change); // the same noise, told from another level
        s.expectation.level = static_cast<float>(level);
        HalvesScatter h;
        h.add(s.block, s.mean.data(), s.expectation);
        return h.ratio();
    };
    CHECK(ratio(100) == Approx(1).epsilon(0.02));
    CHECK(ratio(60.0001) > 1.05); // too few are darker than that: all count
}

TEST_CASE("Outliers in a few pixels do not count as noise") {
    Samples s = samples_of(6, 1, 8);
    for (std::size_t i = 0; i < 800; ++i)
        s.values[i * 37] += 500;
    HalvesScatter h;
    h.add(s.block, s.mean.data(), s.expectation);
    CHECK(h.ratio() == Approx(1).epsilon(0.02));
}

TEST_CASE("Counts can be added in any order, and samples may be missing") {
    Samples s = samples_of(5, 1.1, 9);
    for (std::size_t i = 0; i < s.values.size(); i += 7)
        s.values[i] = NAN;
    HalvesScatter whole, first, second;
    whole.add(s.block, s.mean.data(), s.expectation);
    SampleBlock half = s.block;
    half.pixels = 13000;
    first.add(half, s.mean.data(), s.expectation);
    SampleBlock rest = s.block;
    rest.samples += 13000;
    rest.pixels -= 13000;
    second.add(rest, s.mean.data() + 13000, s.expectation);
    second.add(first);
    CHECK(second.ratio() == whole.ratio());
    CHECK(whole.ratio() == Approx(1.1).epsilon(0.02));
}

TEST_CASE("One frame, or too few pixels, tell nothing: what is expected stands") {
    Samples s = samples_of(1, 1.5, 10);
    HalvesScatter one;
    one.add(s.block, s.mean.data(), s.expectation);
    CHECK(one.ratio() == 1);
    CHECK(HalvesScatter{}.ratio() == 1);
}

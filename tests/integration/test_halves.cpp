#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/integration/halves.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

namespace {

constexpr int kSide = 200, kPixels = kSide * kSide;
const Region kCanvas{0, 0, kSide, kSide};

struct Samples {
    std::vector<float> values, mean;
    StackExpectation expectation;

    float& at(int frame, int x, int y) { return values[static_cast<std::size_t>(frame * kPixels + y * kSide + x)]; }
    /// Rows from one to before another.
    void add_to(HalvesScatter& h, int from = 0, int to = kSide, const Structure* structure = nullptr) const {
        for (int y = from; y < to; ++y)
            h.add(0, y, {values.data() + y * kSide, static_cast<int>(expectation.frames.size()), kPixels, kSide},
                  mean.data() + y * kSide, expectation, structure, static_cast<std::size_t>(y * kSide));
    }
    double ratio(const Structure* structure = nullptr) const {
        HalvesScatter h(kCanvas);
        add_to(h, 0, kSide, structure);
        return h.ratio();
    }
};

/// Frames of unequal noise over a sky full of structure, weighted by it, whose usual brightness is 100; `excess` more
/// noise than is expected.
Samples samples_of(int frames, double excess, std::uint64_t seed) {
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
        const double u = random.uniform(), sky = 60 + 400 * std::pow(u, 8) + 76.9 * u;
        for (int f = 0; f < frames; ++f) {
            const FrameExpectation& e = s.expectation.frames[static_cast<std::size_t>(f)];
            const double sigma = excess * std::sqrt(e.variance + e.variance_slope * (sky - 100));
            s.values[static_cast<std::size_t>(f * kPixels + i)] = static_cast<float>(sky + sigma * random.normal());
        }
        s.mean[static_cast<std::size_t>(i)] = static_cast<float>(sky);
    }
    return s;
}

} // namespace

TEST_CASE("Halves tell the noise, whatever the sky shows") {
    for (const int frames : {2, 3, 4, 11})
        for (const double excess : {1.0, 1.2, 0.8}) {
            INFO(frames << " frames, " << excess);
            CHECK(samples_of(frames, excess, 7).ratio() == Approx(excess).epsilon(0.02)); // 40000 differences: 0.4 %
        }
}

TEST_CASE("What is not flat counts only where too little is") {
    // In the first pixels halves differ by more than noise, as around sharp stars.
    const Samples s = samples_of(6, 1, 9);
    Structure structure;
    structure.curvature.assign(kPixels, 0);
    structure.slope.assign(kPixels, 0);
    const auto ratio = [&](std::size_t structured) {
        Samples shown = s;
        for (std::size_t i = 0; i < structured; ++i) {
            structure.slope[i] = 1;
            for (std::size_t f = 0; f < 6; ++f)
                shown.values[f * kPixels + i] += f % 2 == i % 2 ? 5.0f : -5.0f;
        }
        return std::pair(shown.ratio(&structure), shown.ratio());
    };
    const auto [flat, plain] = ratio(30000);
    CHECK(flat == Approx(1).epsilon(0.02));
    CHECK(plain > 1.3);
    const auto [few, same] = ratio(39700); // a row and a half is left: less than two hundred pixels of any cell
    CHECK(few > 1.3);
    CHECK(same > 1.3);
}

TEST_CASE("The noise told is that of the usual place, at its usual brightness") {
    Samples s = samples_of(6, 1, 11);
    // A third of the field twice as noisy: a dark corner of the glass.
    Samples dark = s;
    for (int y = 0; y < 64; ++y)
        for (int x = 0; x < kSide; ++x)
            for (int f = 0; f < 6; ++f) {
                const float sky = s.mean[static_cast<std::size_t>(y * kSide + x)];
                dark.at(f, x, y) = sky + 2 * (dark.at(f, x, y) - sky);
            }
    CHECK(dark.ratio() == Approx(1).epsilon(0.03));
    // The same noise, told from a level of 40 below: there it is less.
    double at = 0, below = 0;
    for (FrameExpectation& e : s.expectation.frames) {
        at += static_cast<double>(e.weight) * e.weight * e.variance;
        e.variance -= 40 * e.variance_slope;
        below += static_cast<double>(e.weight) * e.weight * e.variance;
    }
    s.expectation.level = 60;
    CHECK(s.ratio() == Approx(std::sqrt(at / below)).epsilon(0.02));
}

TEST_CASE("A place counts as often as frames show it") {
    // On 128 of 200 columns two frames of twelve, and their noise is higher.
    Samples s = samples_of(12, 1, 12);
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < 128; ++x)
            for (int f = 0; f < 12; ++f) {
                const float sky = s.mean[static_cast<std::size_t>(y * kSide + x)];
                s.at(f, x, y) = f < 2 ? sky + 1.5f * (s.at(f, x, y) - sky) : kNoData;
            }
    CHECK(s.ratio() == Approx(1).epsilon(0.02));
}

TEST_CASE("Outliers in a few pixels do not count as noise") {
    Samples s = samples_of(6, 1, 8);
    for (std::size_t i = 0; i < 800; ++i)
        s.values[i * 37] += 500;
    CHECK(s.ratio() == Approx(1).epsilon(0.02));
}

TEST_CASE("Counts of parts can be added in any order, and samples may be missing") {
    Samples s = samples_of(5, 1.1, 9);
    for (std::size_t i = 0; i < s.values.size(); i += 7)
        s.values[i] = kNoData;
    HalvesScatter first(kCanvas, {0, 0, kSide, 77}), second(kCanvas, {0, 77, kSide, kSide - 77});
    s.add_to(first, 0, 77);
    s.add_to(second, 77, kSide);
    HalvesScatter one(kCanvas), other(kCanvas);
    one.add(first), one.add(second);
    other.add(second), other.add(first);
    CHECK(one.ratio() == s.ratio());
    CHECK(other.ratio() == s.ratio());
    CHECK(one.ratio() == Approx(1.1).epsilon(0.02));
}

TEST_CASE("One frame, or too few pixels, tell nothing: what is expected stands") {
    CHECK(samples_of(1, 1.5, 10).ratio() == 1);
    CHECK(HalvesScatter(kCanvas).ratio() == 1);
    HalvesScatter few(kCanvas);
    samples_of(6, 1.5, 10).add_to(few, 0, 4); // 800 pixels
    CHECK(few.ratio() == 1);
}

#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/combination/combiner.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>
#include <hwy/targets.h>
#include <limits>

using namespace kasane;

namespace {

constexpr int kPixels = 333; // not a multiple of any vector length

struct Stack {
    int frames;
    std::vector<float> samples;
    std::vector<FrameExpectation> expectations;
    SampleBlock block() const { return {samples.data(), frames, kPixels, kPixels}; }
};

Stack make_stack(int frames, std::uint64_t seed, double outliers, double missing) {
    sky::Random random(seed);
    Stack s{frames, std::vector<float>(static_cast<std::size_t>(frames * kPixels)), {}};
    for (int f = 0; f < frames; ++f) {
        const double sigma = 5 + 5 * random.uniform();
        s.expectations.push_back({static_cast<float>(1 / (sigma * sigma)), static_cast<float>(sigma * sigma), 0.5f});
        for (int i = 0; i < kPixels; ++i) {
            double v = 1000 + sigma * random.normal();
            if (random.uniform() < outliers) v += random.uniform() < 0.8 ? 500 : -300;
            if (random.uniform() < missing) v = std::numeric_limits<double>::quiet_NaN();
            s.samples[static_cast<std::size_t>(f * kPixels + i)] = static_cast<float>(v);
        }
    }
    return s;
}

struct Result {
    std::vector<float> mean = std::vector<float>(kPixels), weight = std::vector<float>(kPixels);
    std::vector<std::uint16_t> low = std::vector<std::uint16_t>(kPixels), high = std::vector<std::uint16_t>(kPixels);
    CombinedBlock block() { return {mean.data(), weight.data(), low.data(), high.data()}; }
};

double spread(const std::vector<float>& mean) {
    double squares = 0;
    for (const float m : mean)
        squares += (m - 1000.0) * (m - 1000.0);
    return std::sqrt(squares / kPixels);
}

} // namespace

TEST_CASE("The sorting network sorts any number of values") {
    for (const int n : {1, 2, 3, 7, 16, 33, 100}) {
        sky::Random random(static_cast<std::uint64_t>(n));
        std::vector<double> v(static_cast<std::size_t>(n));
        for (double& x : v)
            x = random.uniform();
        for (const auto& c : sorting_network(n))
            if (v[c.a] > v[c.b]) std::swap(v[c.a], v[c.b]);
        CHECK(std::is_sorted(v.begin(), v.end()));
    }
}

TEST_CASE("The vectorised rejection agrees with the scalar reference") {
    const int frames = GENERATE(1, 2, 3, 4, 5, 8, 15, 64);
    const bool known = GENERATE(true, false);
    const Stack s = make_stack(frames, 40 + static_cast<std::uint64_t>(frames), 0.04, 0.05);
    const StackCombiner combiner(s.expectations, 1000, known);
    Result fast, slow;
    combiner.combine(s.block(), fast.block());
    combiner.combine_reference(s.block(), slow.block());
    int differing = 0;
    for (std::size_t i = 0; i < kPixels; ++i) {
        if (std::isnan(slow.mean[i])) {
            CHECK(std::isnan(fast.mean[i]));
            continue;
        }
        const bool same_choice = fast.low[i] == slow.low[i] && fast.high[i] == slow.high[i];
        differing += !same_choice; // float against double may fall on either side of a limit, very rarely
        if (same_choice) CHECK(fast.mean[i] == Approx(slow.mean[i]).epsilon(1e-5));
    }
    CHECK(differing <= 2);
}

TEST_CASE("Narrow limits fall where the scalar reference has them") {
    const int frames = GENERATE(5, 8, 13, 40);
    const bool known = GENERATE(true, false);
    std::int64_t differing = 0, rejected = 0;
    for (std::uint64_t seed = 1; seed <= 20; ++seed) {
        const Stack s = make_stack(frames, 900 + seed, 0, 0.02);
        const StackCombiner combiner(s.expectations, 1000, known, {2.0f, 2.2f, 4});
        Result fast, slow;
        combiner.combine(s.block(), fast.block());
        combiner.combine_reference(s.block(), slow.block());
        for (std::size_t i = 0; i < kPixels; ++i) {
            differing += fast.low[i] != slow.low[i] || fast.high[i] != slow.high[i];
            rejected += slow.low[i] + slow.high[i];
        }
    }
    REQUIRE(rejected > 500); // so that a limit that lies elsewhere is seen
    CHECK(differing <= 4);   // float against double
}

TEST_CASE("The spread that is found from the samples is that before their tails were cut") {
    std::int64_t rejected = 0;
    for (std::uint64_t seed = 1; seed <= 20; ++seed) {
        const Stack s = make_stack(64, 700 + seed, 0, 0);
        Result r;
        StackCombiner(s.expectations, 1000, false, {2, 2, 8}).combine(s.block(), r.block());
        for (std::size_t i = 0; i < kPixels; ++i)
            rejected += r.low[i] + r.high[i];
    }
    // Of a normal distribution 4.55 % lie beyond two sigma; with a spread that shrinks as tails are cut, far more.
    CHECK(static_cast<double>(rejected) / (20.0 * kPixels * 64) == Approx(0.0455).margin(0.006));
}

TEST_CASE("Outliers leave the mean at the noise of the good samples") {
    for (const int frames : {6, 12, 40}) {
        const Stack clean = make_stack(frames, 7, 0, 0), dirty = make_stack(frames, 7, 0.05, 0);
        Result a, b;
        StackCombiner(clean.expectations, 1000, true).combine(clean.block(), a.block());
        StackCombiner(dirty.expectations, 1000, true).combine(dirty.block(), b.block());
        double weights = 0;
        for (const auto& e : clean.expectations)
            weights += e.weight;
        // The ideal is 1 / sqrt(sum of weights), measured on 333 pixels to 4 %.
        CHECK(spread(a.mean) < 1.12 / std::sqrt(weights));
        CHECK(spread(b.mean) < (frames < 10 ? 1.5 : 1.25) / std::sqrt(weights));
    }
}

TEST_CASE("A star core that differs between frames far beyond the noise is not rejected") {
    Stack s = make_stack(12, 3, 0, 0);
    sky::Random random(8);
    for (int f = 0; f < 12; ++f) {
        const double seeing = random.uniform(0.6, 1.0);
        for (int i = 0; i < kPixels; ++i)
            s.samples[static_cast<std::size_t>(f * kPixels + i)] += static_cast<float>(20000 * seeing);
    }
    Result r;
    StackCombiner(s.expectations, 1000, true).combine(s.block(), r.block());
    int rejected = 0;
    for (std::size_t i = 0; i < kPixels; ++i)
        rejected += r.low[i] + r.high[i];
    CHECK(rejected < kPixels * 12 / 100);
}

TEST_CASE("The order of frames does not matter") {
    Stack s = make_stack(9, 11, 0.05, 0), t = s;
    for (int f = 0; f < 9; ++f) {
        t.expectations[static_cast<std::size_t>(f)] = s.expectations[static_cast<std::size_t>(8 - f)];
        std::copy_n(s.samples.begin() + (8 - f) * kPixels, kPixels, t.samples.begin() + f * kPixels);
    }
    Result a, b;
    StackCombiner(s.expectations, 1000, true).combine(s.block(), a.block());
    StackCombiner(t.expectations, 1000, true).combine(t.block(), b.block());
    for (std::size_t i = 0; i < kPixels; ++i)
        CHECK(a.mean[i] == Approx(b.mean[i]).epsilon(1e-5));
}

TEST_CASE("Pixels without data in all frames have none in the mean") {
    const Stack s = make_stack(5, 2, 0, 1.0);
    Result r;
    StackCombiner(s.expectations, 1000, true).combine(s.block(), r.block());
    CHECK(std::all_of(r.mean.begin(), r.mean.end(), [](float v) { return std::isnan(v); }));
    CHECK(std::all_of(r.weight.begin(), r.weight.end(), [](float v) { return v == 0; }));
}

TEST_CASE("An empty stack is a wrong call") {
    CHECK_THROWS_AS(StackCombiner({}, 0, true), UsageError);
}

namespace {

/// Results by blocks of `step` pixels at a time, as tiles of that size give them.
Result combined_in_blocks(const StackCombiner& combiner, const Stack& s, int step) {
    Result r;
    for (int x = 0; x < kPixels; x += step)
        combiner.combine({s.samples.data() + x, s.frames, kPixels, std::min(step, kPixels - x)},
                         {r.mean.data() + x, r.weight.data() + x, r.low.data() + x, r.high.data() + x});
    return r;
}

bool same_bytes(const Result& a, const Result& b) {
    const auto same = [](const auto& x, const auto& y) {
        return std::memcmp(x.data(), y.data(), x.size() * sizeof(x[0])) == 0;
    };
    return same(a.mean, b.mean) && same(a.weight, b.weight) && same(a.low, b.low) && same(a.high, b.high);
}

} // namespace

TEST_CASE("A pixel's result depends on no other pixel: the same bytes for any tile and every instruction set") {
    const int frames = GENERATE(3, 8, 13, 40);
    const bool known = GENERATE(true, false);
    Stack s = make_stack(frames, 70 + static_cast<std::uint64_t>(frames), 0.02, 0.02);
    // Noise that differs much between frames: there the shortcut and the whole method part.
    for (std::size_t f = 0; f < s.expectations.size(); ++f) {
        s.expectations[f].variance *= f % 2 ? 9.0f : 1.0f;
        s.expectations[f].weight = 1 / s.expectations[f].variance;
    }
    const StackCombiner combiner(s.expectations, 1000, known);
    const Result whole = combined_in_blocks(combiner, s, kPixels);
    for (const int step : {1, 3, 7, 16, 37, 128})
        CHECK(same_bytes(combined_in_blocks(combiner, s, step), whole));
    int targets = 0;
    for (const std::int64_t target : hwy::SupportedAndGeneratedTargets()) {
        hwy::SetSupportedTargetsForTest(target);
        hwy::GetChosenTarget().DeInit();
        INFO(hwy::TargetName(target));
        CHECK(same_bytes(combined_in_blocks(combiner, s, kPixels), whole));
        CHECK(same_bytes(combined_in_blocks(combiner, s, 37), whole));
        ++targets;
    }
    hwy::SetSupportedTargetsForTest(0);
    hwy::GetChosenTarget().DeInit();
    CHECK(targets >= 1);
}

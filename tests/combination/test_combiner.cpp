#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/combination/combiner.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>
#include <limits>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kPixels = 333; // not a multiple of any vector length

struct Stack {
    int frames;
    std::vector<float> samples;
    StackExpectation expected{{}, 1000, true};
    StackExpectation with_noise_known(bool known) const { return {expected.frames, expected.level, known}; }
    SampleBlock block() const { return {samples.data(), frames, kPixels, kPixels}; }
};

Stack make_stack(int frames, std::uint64_t seed, double outliers, double missing) {
    sky::Random random(seed);
    Stack s{frames, std::vector<float>(static_cast<std::size_t>(frames * kPixels))};
    for (int f = 0; f < frames; ++f) {
        const double sigma = 5 + 5 * random.uniform();
        s.expected.frames.push_back({static_cast<float>(1 / (sigma * sigma)), static_cast<float>(sigma * sigma), 0.5f});
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
    std::vector<RejectedSample> rejected;
    CombinedBlock block() { return {mean.data(), weight.data(), low.data(), high.data(), &rejected}; }
};

/// Pixels in which two results are not the same up to a relative error.
int differing(const Result& a, const Result& b, double epsilon) {
    const auto same = [&](float x, float y) {
        return (std::isnan(x) && std::isnan(y)) || std::abs(x - y) <= epsilon * std::abs(y);
    };
    int n = 0;
    for (std::size_t i = 0; i < a.mean.size(); ++i)
        n += a.low[i] != b.low[i] || a.high[i] != b.high[i] || !same(a.mean[i], b.mean[i]) ||
             !same(a.weight[i], b.weight[i]);
    return n;
}

/// Each rejection with each combination that goes with it.
std::vector<CombineOptions> every_way() {
    std::vector<Rejection> rejections{SigmaRejection{2.0f, 0, 6}, WinsorizedRejection{0, 2.5f, 3},
                                      NoiseRejection{2.5f, 0, 4}, EsdRejection{0.2f, 0.2f, 0, 1},
                                      LineRejection{2, 0, 4}};
    for (const std::string_view name : rejection_names())
        rejections.push_back(*rejection_named(name));
    std::vector<CombineOptions> all;
    for (const Combination combination : {Combination::mean, Combination::median, Combination::sum, Combination::max,
                                          Combination::min, Combination::huber, Combination::tukey})
        for (const Rejection& rejection : rejections)
            if (const CombineOptions way{rejection, combination}; way.check().empty()) all.push_back(way);
    return all;
}

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

TEST_CASE("Narrow limits fall where the scalar reference has them, on flat sky, bright and where the image is curved") {
    const Rejection rejection =
        GENERATE(Rejection{SigmaRejection{2.0f, 2.2f, 4}}, Rejection{WinsorizedRejection{2.0f, 2.2f, 4}},
                 Rejection{NoiseRejection{2.0f, 2.2f, 4}}, Rejection{LineRejection{0.5f, 0.6f, 4}},
                 Rejection{EsdRejection{0.4f, 0.3f, 1, 0.9f}});
    const int frames = GENERATE(5, 8, 13, 40);
    const bool known = GENERATE(true, false), structured = GENERATE(true, false);
    INFO(frames << " frames, " << rejection_name(rejection) << (known ? ", known" : "")
                << (structured ? ", curved" : ""));
    std::int64_t differing = 0, rejected = 0;
    for (std::uint64_t seed = 1; seed <= 20; ++seed) {
        Stack s = make_stack(frames, 900 + seed, 0, frames > 20 ? 0.3 : 0.02);
        std::vector<float> curvature(kPixels), slope(kPixels);
        if (structured) {
            sky::Random random(seed);
            s.expected.level = 970; // so that there is signal above it
            for (FrameExpectation& f : s.expected.frames) {
                f.blur = static_cast<float>(random.uniform(0, 2));
                f.shift = static_cast<float>(random.uniform(0, 2));
                f.scale_error = static_cast<float>(random.uniform(0, 0.2));
            }
            for (std::size_t i = 0; i < kPixels; ++i) {
                curvature[i] = static_cast<float>(random.uniform(0, 5));
                slope[i] = static_cast<float>(random.uniform(0, 5));
            }
        }
        const Combiner combiner(s.with_noise_known(known), {rejection});
        SampleBlock block = s.block();
        if (structured) block.curvature = curvature.data(), block.slope = slope.data();
        Result fast, slow;
        combiner.combine(block, fast.block());
        combiner.combine_reference(block, slow.block());
        for (std::size_t i = 0; i < kPixels; ++i) {
            differing += fast.low[i] != slow.low[i] || fast.high[i] != slow.high[i];
            rejected += slow.low[i] + slow.high[i];
        }
    }
    const bool does_something =
        frames >= least_samples(rejection) && (known || !std::holds_alternative<NoiseRejection>(rejection));
    if (does_something) REQUIRE(rejected > 40); // so that a limit that lies elsewhere is seen
    CHECK(differing <= 4);                      // float against double
}

TEST_CASE("The spread that is found from the samples is that before their tails were cut") {
    std::int64_t rejected = 0;
    for (std::uint64_t seed = 1; seed <= 20; ++seed) {
        const Stack s = make_stack(64, 700 + seed, 0, 0);
        Result r;
        Combiner(s.with_noise_known(false), {SigmaRejection{2, 2, 8}}).combine(s.block(), r.block());
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
        Combiner(clean.expected).combine(clean.block(), a.block());
        Combiner(dirty.expected).combine(dirty.block(), b.block());
        double weights = 0;
        for (const auto& e : clean.expected.frames)
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
    Combiner(s.expected).combine(s.block(), r.block());
    int rejected = 0;
    for (std::size_t i = 0; i < kPixels; ++i)
        rejected += r.low[i] + r.high[i];
    CHECK(rejected < kPixels * 12 / 100);
}

TEST_CASE("Pixels without data in all frames have none in the mean") {
    const Stack s = make_stack(5, 2, 0, 1.0);
    Result r;
    Combiner(s.expected).combine(s.block(), r.block());
    CHECK(std::all_of(r.mean.begin(), r.mean.end(), [](float v) { return std::isnan(v); }));
    CHECK(std::all_of(r.weight.begin(), r.weight.end(), [](float v) { return v == 0; }));
}

TEST_CASE("An empty stack is a wrong call") {
    CHECK_THROWS_AS(Combiner({}), UsageError);
}

namespace {

/// Results by blocks of `step` pixels at a time, as tiles of that size give them.
Result combined_in_blocks(const Combiner& combiner, const Stack& s, int step) {
    Result r;
    for (int x = 0; x < kPixels; x += step) {
        const std::size_t before = r.rejected.size();
        combiner.combine({s.samples.data() + x, s.frames, kPixels, std::min(step, kPixels - x)},
                         {r.mean.data() + x, r.weight.data() + x, r.low.data() + x, r.high.data() + x, &r.rejected});
        for (std::size_t i = before; i < r.rejected.size(); ++i)
            r.rejected[i].pixel += static_cast<std::uint32_t>(x);
    }
    return r;
}

bool same_bytes(const Result& a, const Result& b) {
    const auto same = [](const auto& x, const auto& y) {
        return std::memcmp(x.data(), y.data(), x.size() * sizeof(x[0])) == 0;
    };
    return same(a.mean, b.mean) && same(a.weight, b.weight) && same(a.low, b.low) && same(a.high, b.high) &&
           a.rejected == b.rejected;
}

} // namespace

TEST_CASE("A pixel's result depends on no other pixel: the same bytes for any tile and every instruction set") {
    const int frames = GENERATE(2, 3, 8, 13, 40);
    const bool known = GENERATE(true, false);
    const CombineOptions options = GENERATE(from_range(every_way()));
    INFO(rejection_name(options.rejection) << ", " << combination_name(options.combination));
    Stack s = make_stack(frames, 70 + static_cast<std::uint64_t>(frames), 0.02, 0.02);
    // Noise that differs much between frames: there the shortcut and the whole method part.
    for (std::size_t f = 0; f < s.expected.frames.size(); ++f) {
        s.expected.frames[f].variance *= f % 2 ? 9.0f : 1.0f;
        s.expected.frames[f].weight = 1 / s.expected.frames[f].variance;
    }
    const Combiner combiner(s.with_noise_known(known), options);
    const Result whole = combined_in_blocks(combiner, s, kPixels);
    for (const int step : {1, 3, 7, 16, 37, 128})
        CHECK(same_bytes(combined_in_blocks(combiner, s, step), whole));
    const int targets = on_every_instruction_set([&] {
        CHECK(same_bytes(combined_in_blocks(combiner, s, kPixels), whole));
        CHECK(same_bytes(combined_in_blocks(combiner, s, 37), whole));
    });
    CHECK(targets >= 1);
}

TEST_CASE("Every way to combine keeps the properties of a mean") {
    const int frames = GENERATE(1, 2, 3, 5, 8, 20);
    const bool known = GENERATE(true, false);
    const CombineOptions options = GENERATE(from_range(every_way()));
    INFO(frames << " frames, " << rejection_name(options.rejection) << ", " << combination_name(options.combination));
    const Stack s = make_stack(frames, 300 + static_cast<std::uint64_t>(frames), 0.03, 0.05);
    const auto combined = [&](const Stack& stack) {
        Result r;
        Combiner(stack.with_noise_known(known), options).combine(stack.block(), r.block());
        return r;
    };
    const Result r = combined(s);
    SECTION("it agrees with the plain reference in double") {
        Result slow;
        Combiner(s.with_noise_known(known), options).combine_reference(s.block(), slow.block());
        CHECK(differing(r, slow, 1e-5) <= 2); // float falls on the other side of a limit, very rarely
    }
    SECTION("it lies among the samples, and each sample is kept, rejected or absent") {
        const float times = options.combination == Combination::sum ? static_cast<float>(frames) : 1;
        auto one_by_one = r.rejected.begin();
        for (int i = 0; i < kPixels; ++i) {
            const auto at = static_cast<std::size_t>(i);
            int low = 0, high = 0;
            for (; one_by_one != r.rejected.end() && one_by_one->pixel == at; ++one_by_one)
                ++(one_by_one->high ? high : low);
            REQUIRE((low == r.low[at] && high == r.high[at]));
            float least = std::numeric_limits<float>::infinity(), most = -least;
            int there = 0;
            for (int f = 0; f < frames; ++f)
                if (const float v = s.samples[static_cast<std::size_t>(f * kPixels + i)]; !std::isnan(v)) {
                    least = std::min(least, v), most = std::max(most, v);
                    ++there;
                }
            REQUIRE(std::isnan(r.mean[at]) == (there == 0));
            REQUIRE((r.weight[at] > 0) == (there > 0));
            REQUIRE(r.low[at] + r.high[at] <= std::max(0, there - 1)); // one is always left
            const float value = r.mean[at] / times;
            if (there) REQUIRE((value >= least - 1e-3f && value <= most + 1e-3f));
        }
        CHECK(one_by_one == r.rejected.end());
    }
    SECTION("the order of the frames does not matter") {
        Stack turned = s;
        for (int f = 0; f < frames; ++f) {
            const int g = frames - 1 - f;
            turned.expected.frames[static_cast<std::size_t>(f)] = s.expected.frames[static_cast<std::size_t>(g)];
            std::copy_n(s.samples.begin() + g * kPixels, kPixels, turned.samples.begin() + f * kPixels);
        }
        CHECK(differing(r, combined(turned), 1e-5) == 0);
    }
    SECTION("twice the light, twice the result") { // exactly, by powers of two
        Stack doubled = s;
        for (float& v : doubled.samples)
            v *= 2;
        doubled.expected.level *= 2;
        for (FrameExpectation& e : doubled.expected.frames) {
            e.variance *= 4;
            e.variance_slope *= 2;
        }
        Result twice = combined(doubled);
        for (float& v : twice.mean)
            v *= 0.5f;
        CHECK(differing(r, twice, 0) == 0);
    }
    SECTION("a frame without data changes nothing but the order in which the others are added") {
        Stack more = s;
        ++more.frames;
        more.samples.insert(more.samples.end(), kPixels, std::numeric_limits<float>::quiet_NaN());
        more.expected.frames.push_back({1, 1, 0});
        if (std::holds_alternative<PairRejection>(options.rejection)) return; // speaks of stacks of two
        if (options.combination == Combination::sum) return;                  // one frame more is one frame more
        // Scores of ranks lie between those of as many samples as there are frames.
        const int most = std::holds_alternative<LineRejection>(options.rejection) ? 3 : 0;
        CHECK(differing(r, combined(more), 1e-6) <= most);
    }
}

TEST_CASE("The median of what is kept does not follow the weights") {
    Stack s = make_stack(5, 17, 0, 0);
    for (int f = 0; f < 5; ++f)
        std::fill_n(s.samples.begin() + f * kPixels, kPixels, static_cast<float>(1000 + f * f)); // 1000 ... 1016
    s.expected.frames[4].weight = 1000;
    Result r;
    Combiner(s.expected, {NoRejection{}, Combination::median}).combine(s.block(), r.block());
    CHECK(r.mean[0] == 1004);
    s.samples[4 * kPixels] = 5000; // now it is no longer among the samples that count
    Combiner(s.expected, {SigmaRejection{}, Combination::median}).combine(s.block(), r.block());
    CHECK(r.high[0] == 1);
    CHECK(r.mean[0] == 2.5f + 1000);
}

TEST_CASE("Of two frames that disagree the lower counts, where the noise is known") {
    Stack s = make_stack(2, 17, 0, 0);
    s.expected.frames = {{1, 16, 0}, {3, 9, 0}}; // sigma of the difference: 5
    std::fill_n(s.samples.begin(), kPixels, 1000.0f);
    std::fill_n(s.samples.begin() + kPixels, kPixels, 1029.0f);
    s.samples[kPixels + 1] = 1031; // beyond 6 sigma
    Result r;
    Combiner(s.expected, {PairRejection{}}).combine(s.block(), r.block());
    CHECK(r.mean[0] == Approx(1000 + 0.75 * 29));
    CHECK((r.mean[1] == 1000 && r.high[1] == 1 && r.high[0] == 0 && r.weight[1] == 1 && r.weight[0] == 4));
    Combiner(s.with_noise_known(false), {PairRejection{}}).combine(s.block(), r.block());
    CHECK(r.mean[1] == Approx(1000 + 0.75 * 31));
}

TEST_CASE("Options of a rejection that make no sense are refused in words") {
    const Stack s = make_stack(3, 1, 0, 0);
    CHECK_THROWS_WITH(Combiner(s.expected, {SigmaRejection{3, NAN, 4}}), Catch::Contains("must be numbers"));
    CHECK_THROWS_WITH(Combiner(s.expected, {SigmaRejection{3, 3, -1}}), Catch::Contains("0 to 100 iterations, not -1"));
    CHECK_THROWS_WITH(Combiner(s.expected, {PairRejection{0}}), Catch::Contains("more than 0 sigma, not 0"));
    CHECK_THROWS_WITH(Combiner(s.expected, {MinMaxRejection{-1, 1}}), Catch::Contains("0 to 1000 samples"));
    CHECK_THROWS_WITH(Combiner(s.expected, {EsdRejection{1}}), Catch::Contains("between 0 and 1, not at 1"));
    CHECK_THROWS_WITH(Combiner(s.expected, {EsdRejection{0.05f, 0.7f}}), Catch::Contains("up to half"));
    CHECK_THROWS_WITH(Combiner(s.expected, {SigmaRejection{}, Combination::max}), Catch::Contains("the maximum shows"));
    CHECK_THROWS_WITH(Combiner(s.expected, {SigmaRejection{}, Combination::min}), Catch::Contains("the minimum shows"));
    CHECK_NOTHROW(Combiner(s.expected, {SigmaRejection{3, 0, 4}, Combination::max}));
}

namespace {

/// One pixel whose frames all have the same noise.
struct OnePixel {
    std::vector<float> samples;
    double sigma = 1, level = 0;
    bool noise_known = false;
    float curvature = 0, slope = 0;
    FrameExpectation frame{};

    std::vector<bool> kept(const Rejection& rejection) const {
        FrameExpectation e = frame;
        e.weight = 1, e.variance = static_cast<float>(sigma * sigma);
        const auto n = static_cast<int>(samples.size());
        std::vector<FrameExpectation> frames(samples.size(), e);
        float mean = 0, weight = 0;
        std::vector<RejectedSample> out;
        Combiner({frames, static_cast<float>(level), noise_known}, {rejection})
            .combine({samples.data(), n, 1, 1, &curvature, &slope}, {&mean, &weight, nullptr, nullptr, &out});
        std::vector<bool> all(samples.size(), true);
        for (const RejectedSample& r : out)
            all[r.frame] = false;
        return all;
    }
    int rejected(const Rejection& rejection) const {
        const auto all = kept(rejection);
        return static_cast<int>(std::count(all.begin(), all.end(), false));
    }
};

} // namespace

TEST_CASE("Generalised ESD finds the outliers of the data in the paper that describes it") {
    // B. Rosner, Technometrics 25, 1983, table 1: three, by the third of ten, though the first two are masked.
    const OnePixel p{{-0.25f, 0.68f, 0.94f, 1.15f, 1.20f, 1.26f, 1.26f, 1.34f, 1.38f, 1.43f, 1.49f, 1.49f, 1.55f, 1.56f,
                      1.58f,  1.65f, 1.69f, 1.70f, 1.76f, 1.77f, 1.81f, 1.91f, 1.94f, 1.96f, 1.99f, 2.06f, 2.09f, 2.10f,
                      2.14f,  2.15f, 2.23f, 2.24f, 2.26f, 2.35f, 2.37f, 2.40f, 2.47f, 2.54f, 2.62f, 2.64f, 2.90f, 2.92f,
                      2.92f,  2.93f, 3.21f, 3.26f, 3.30f, 3.59f, 3.68f, 4.30f, 4.64f, 5.34f, 5.42f, 6.01f}};
    const auto kept = p.kept(EsdRejection{0.05f, 0.19f});
    CHECK(std::count(kept.begin(), kept.end(), false) == 3);
    CHECK((!kept[53] && !kept[52] && !kept[51] && kept[50]));
    CHECK(p.rejected(EsdRejection{0.05f, 0.04f}) == 0); // up to two: none, they hide each other
    CHECK(p.rejected(EsdRejection{0.05f, 0.19f, 1, 0}) == 0);
}

TEST_CASE("Each method does with its own what it says") {
    OnePixel p{{100, 101, 99, 102, 98, 100, 101, 99, 130, 60}, 1.5, 90, true};
    for (const std::string_view name : {"sigma", "winsorized", "noise", "line", "percentile"}) {
        INFO(name);
        const auto kept = p.kept(*rejection_named(name));
        CHECK((!kept[8] && !kept[9]));
        CHECK(std::count(kept.begin(), kept.end(), false) == 2);
    }
    CHECK(p.rejected(PercentileRejection{0.5f, 0.29f}) == 1);
    CHECK(p.rejected(MinMaxRejection{1, 2}) == 3);
    CHECK(p.rejected(MinMaxRejection{5, 5}) == 0);
    CHECK(p.rejected(EsdRejection{}) == 0); // ten are too few
    p.noise_known = false;
    CHECK(p.rejected(NoiseRejection{}) == 0);
    p.noise_known = true;
    // Of three, an outlier shows by the noise that is expected; their own spread cannot tell it.
    OnePixel few{{100, 101, 130}, 1, 100, true};
    CHECK((few.rejected(NoiseRejection{}) == 1 && few.kept(NoiseRejection{})[2] == false));
    // Photon noise of a bright pixel widens the limits, and so does what flats leave of it.
    few.frame.variance_slope = 10;
    few.level = 0;
    CHECK(few.rejected(NoiseRejection{}) == 0);
    few.frame.variance_slope = 0;
    few.frame.scale_error = 0.1f;
    CHECK(few.rejected(NoiseRejection{}) == 0);
}

TEST_CASE("Where the image is curved or slopes, frames of other seeing and place are given room") {
    OnePixel p{{1000, 1010, 990, 1200}, 5, 0, true};
    CHECK(p.rejected(NoiseRejection{}) == 1);
    p.frame.blur = 0.5f;
    CHECK(p.rejected(NoiseRejection{}) == 1); // flat
    p.curvature = 200;
    CHECK(p.rejected(NoiseRejection{}) == 0);
    CHECK(p.rejected(SigmaRejection{}) == 0);
    p.curvature = 0;
    p.frame.shift = 0.1f;
    p.slope = 1000;
    CHECK(p.rejected(NoiseRejection{}) == 0);
}

TEST_CASE("The maximum and the minimum show every flaw, the sum what all frames hold") {
    Stack s = make_stack(4, 5, 0, 0);
    s.samples[2 * kPixels] = 3000;
    s.samples[3 * kPixels] = 20;
    const auto at_first = [&](Combination combination) {
        Result r;
        Combiner(s.expected, {NoRejection{}, combination}).combine(s.block(), r.block());
        return r.mean[0];
    };
    CHECK(at_first(Combination::max) == 3000);
    CHECK(at_first(Combination::min) == 20);
    CHECK(at_first(Combination::sum) == Approx(4 * at_first(Combination::mean)));
    CHECK(at_first(Combination::tukey) == Approx(1000).margin(30)); // neither counts
}

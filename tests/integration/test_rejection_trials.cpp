#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/integration/rejection_picture.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 300, kHeight = 220;

/// Frames of a star field under changing seeing, with particles.
std::vector<StackFrame> field(int count, double seeing_spread, int particles, std::uint64_t seed,
                              bool seeing_known = true) {
    std::vector<StackFrame> frames;
    for (int f = 0; f < count; ++f) {
        sky::Random random(seed); // the same stars
        sky::Random own(seed + 100 + static_cast<std::uint64_t>(f));
        const double dx = own.uniform(-3, 3), dy = own.uniform(-3, 3);
        const double fwhm = 3 * (1 + seeing_spread * (count > 1 ? 2.0 * f / (count - 1) - 1 : 0.0));
        Image image(kWidth, kHeight, 1, 400.0f);
        for (int i = 0; i < 40; ++i)
            add_gaussian_star(image, random.uniform(10, kWidth - 10) + dx, random.uniform(10, kHeight - 10) + dy,
                              2000 * std::pow(random.uniform(0.02, 1), -1.0), fwhm);
        for (float& v : image.pixels()) // photon noise at one electron a count
            v += static_cast<float>(std::sqrt(std::max(1.0f, v)) * own.normal());
        for (int i = 0; i < particles; ++i)
            image(static_cast<int>(own.uniform(0, kWidth)), static_cast<int>(own.uniform(0, kHeight))) += 3000;
        StackPlane plane{Transform(Affine{1, 0, dx, 0, 1, dy}), {}, 20};
        if (seeing_known) plane.fwhm = fwhm;
        frames.push_back({std::make_shared<const ImagePlanes>(std::move(image)), {plane}, 1});
    }
    return frames;
}

MasterLight combined(const std::vector<StackFrame>& frames, const IntegrateOptions& options = {}, int threads = 2,
                     std::uint64_t memory = 1ull << 30) {
    const Quiet quiet(threads, memory);
    return integrate(frames, {kWidth, kHeight}, {400}, quiet.context, options);
}

/// A frame that cannot be read.
class Unreadable : public PlaneSource {
public:
    explicit Unreadable(int side) : side_(side) {}
    int planes() const override { return 1; }
    int width() const override { return side_; }
    int height() const override { return side_; }
    const std::filesystem::path& path() const override { return path_; }
    void read(const Region&, std::span<const View<float>>, std::span<QualityPlane>) const override {
        throw InputError("is broken", path_, "");
    }

private:
    int side_;
    std::filesystem::path path_ = "broken.fits";
};

double flux_near(const Image& image, double x, double y) {
    double sum = 0;
    for (int j = static_cast<int>(y) - 6; j <= y + 6; ++j)
        for (int i = static_cast<int>(x) - 6; i <= x + 6; ++i)
            sum += image(i, j) - 400;
    return sum;
}

} // namespace

TEST_CASE("The rejection is the one that leaves least of what was added, among those that cost little") {
    const MasterLight m = combined(field(12, 0.1, 20, 3));
    REQUIRE(m.comparison);
    const RejectionComparison& c = *m.comparison;
    REQUIRE(c.trials.size() == 7);
    const RejectionTrial& best = c.trials[c.chosen];
    CHECK((best.loss <= 0.01 && best.left < 0.02 && best.cores <= 0.02));
    CHECK(m.combine.rejection == best.rejection);
    for (const RejectionTrial& t : c.trials) {
        INFO(rejection_name(t.rejection));
        if (std::holds_alternative<NoRejection>(t.rejection)) {
            CHECK((t.left == 1 && t.left_low == 1 && t.loss == 0));
        } else {
            CHECK(t.left < 0.3);
            CHECK(t.loss >= 0);
            // Nothing that costs as little leaves much less.
            if (t.loss <= 0.01 && t.cores <= 0.01)
                CHECK(std::abs(best.left) + 0.2 * std::abs(best.left_low) <=
                      std::abs(t.left) + 0.2 * std::abs(t.left_low) + 0.0031);
        }
    }
    CHECK_THAT(m.made.find("combine")->text, Catch::Contains("the best of 7 ways tried"));
    // The particles that were there are gone: 20 of 3000 a frame, a twelfth of which would be 250.
    double worst = 0;
    const MasterLight clean = combined(field(12, 0.1, 0, 3));
    for (std::size_t i = 0; i < m.pixels.pixels().size(); ++i)
        if (std::isfinite(m.pixels.pixels()[i]) && std::isfinite(clean.pixels.pixels()[i]))
            worst = std::max<double>(worst, m.pixels.pixels()[i] - clean.pixels.pixels()[i]);
    CHECK(worst < 30);
}

TEST_CASE("Of a mosaic the rejection is chosen for what shows its usual place") {
    // Two panels of eight frames that overlap a little, and a strip at the right that two frames alone show.
    std::vector<StackFrame> frames = field(18, 0.05, 20, 5);
    constexpr int kStrip = 40;
    const Canvas canvas{2 * kWidth - 60, kHeight};
    for (int f = 0; f < 18; ++f) {
        const double right = f < 8 ? 0 : f < 16 ? kWidth - 60 - kStrip : kWidth - 60;
        StackPlane& plane = frames[static_cast<std::size_t>(f)].planes.front();
        plane.to_frame = plane.to_frame.shifted(-right, 0);
    }
    const Quiet quiet(2);
    const IntegrateOptions esd{.rejection = EsdRejection{}};
    const MasterLight m = integrate(frames, canvas, {400}, quiet.context, esd);
    // Eighteen would do for this method, ten do not.
    CHECK_THAT(m.made.find("combine")->text,
               Catch::Contains("instead of esd") && Catch::Contains("where 10 show a place"));
    REQUIRE(m.comparison);
    const RejectionTrial& best = m.comparison->trials[m.comparison->chosen];
    CHECK((best.left < 0.03 && best.loss <= 0.01)); // the strip, where nothing can be told, would leave more
    // What a sum is expected to have is that of a place that all frames show, by as much as of a mean.
    IntegrateOptions sum = esd;
    sum.combination = Combination::sum;
    const MasterLight s = integrate(frames, canvas, {400}, quiet.context, sum);
    CHECK(s.expected_noise.front() == Approx(18 * m.expected_noise.front()).epsilon(1e-6));
}

TEST_CASE("The choice is the same for any threads and memory, and so are the bytes of every method for any tile") {
    auto frames = field(16, 0.2, 15, 8);
    frames[3].streaks = {{-20, 30, 320, 180, 7}};
    CHECK(combined(frames).comparison->chosen == combined(frames, {}, 1, 80ull << 20).comparison->chosen);
    for (const std::string_view name : rejection_names())
        for (const Combination c : {Combination::mean, Combination::tukey, Combination::sum}) {
            INFO(name << ", " << combination_name(c));
            IntegrateOptions o{.rejection = rejection_named(name), .combination = c};
            if (name == "pair") o.rejection = SigmaRejection{2, 0, 4};
            const MasterLight a = combined(frames, o, 1);
            o.tile = 37;
            const MasterLight b = combined(frames, o, 3, 80ull << 20);
            const auto same = [](const auto& x, const auto& y) {
                return std::memcmp(x.data(), y.data(), x.size() * sizeof(x[0])) == 0;
            };
            CHECK(same(a.pixels.pixels(), b.pixels.pixels()));
            CHECK(same(a.coverage.pixels(), b.coverage.pixels()));
            CHECK(same(a.rejected.low.pixels(), b.rejected.low.pixels()));
            CHECK(same(a.rejected.high.pixels(), b.rejected.high.pixels()));
            CHECK((a.samples == b.samples && a.rejected_high == b.rejected_high && a.rejected_low == b.rejected_low));
            CHECK((a.cores.samples == b.cores.samples && a.cores.rejected == b.cores.rejected &&
                   a.cores.at_first == b.cores.at_first));
            CHECK(a.noise == b.noise);
        }
}

TEST_CASE("Stars keep their flux whatever the seeing does, and the cores are told of") {
    // FWHM 1.8 to 4.2 pixels.
    const auto known = field(12, 0.4, 0, 5);
    const MasterLight m = combined(known);
    const MasterLight all = combined(known, {.rejection = NoRejection{}});
    const MasterLight narrow = combined(known, {.rejection = NoiseRejection{}, .judge = {.star_cores = false}});
    sky::Random random(5);
    double kept = 0, lost = 0, whole = 0;
    for (int i = 0; i < 40; ++i) {
        const double x = random.uniform(10, kWidth - 10), y = random.uniform(10, kHeight - 10);
        random.uniform(0.02, 1);
        if (x < 20 || y < 20 || x > kWidth - 20 || y > kHeight - 20) continue;
        kept += flux_near(m.pixels, x, y);
        lost += flux_near(narrow.pixels, x, y);
        whole += flux_near(all.pixels, x, y);
    }
    CHECK(kept / whole == Approx(1).margin(0.003));
    CHECK(std::abs(lost / whole - 1) > 0.004); // what it would be without
    CHECK(m.cores.samples > 1000);
    const MasterLight wide = combined(known, {.rejection = NoiseRejection{}});
    CHECK(wide.cores.at_first > 3 * wide.cores.rejected);
    CHECK(narrow.cores.samples == 0); // nobody looked
}

TEST_CASE("What grows leaves two samples of every pixel") {
    std::vector<StackFrame> frames;
    for (int f = 0; f < 3; ++f) {
        Image image(kWidth, kHeight, 1, 400.0f);
        add_noise(image, 5, 60 + static_cast<std::uint64_t>(f));
        if (f < 2) image(50 + 2 * f, 50) += 5000; // two particles, two pixels apart
        frames.push_back({std::make_shared<const ImagePlanes>(std::move(image)), {{{}, {}, 5}}, 0});
    }
    const MasterLight m = combined(frames, {.rejection = NoiseRejection{}});
    CHECK(m.coverage(50, 50) == Approx(2.0 / 3)); // a particle; what the other reaches of it stays
    CHECK(m.coverage(49, 50) == Approx(2.0 / 3)); // beside one of them
    CHECK(m.coverage(51, 50) == Approx(1));       // between both
}

TEST_CASE("What the number of frames does not allow is replaced, and said") {
    const auto text = [](int count, const IntegrateOptions& o) {
        return combined(field(count, 0, 0, 9), o).made.find("combine")->text;
    };
    CHECK_THAT(text(5, {.rejection = EsdRejection{}}), Catch::Contains("instead of esd, which needs 15 frames"));
    CHECK_THAT(text(4, {.rejection = PairRejection{}}), Catch::Contains("instead of pair, which is for two frames"));
    CHECK_THAT(text(2, {.rejection = SigmaRejection{}}), Catch::Contains("instead of sigma, which needs 3 frames"));
    CHECK(text(1, {}) == "a single frame, taken as it is; inverse-variance weights");
    CHECK(text(9, {.combination = Combination::huber}) == "9 frames: huber; inverse-variance weights");
    CHECK(text(9, {.rejection = MinMaxRejection{}, .worth_exponent = 0}) ==
          "9 frames: mean, without the 1 lowest and the 1 highest; weights aside from noise");
}

TEST_CASE("Odd stacks end in a master or a clear reason") {
    // A frame ten times as bright, one of no data, and one that does not overlap with the others.
    auto frames = field(6, 0, 5, 11);
    Image bright = read_planes(*frames[0].source);
    for (float& v : bright.pixels())
        v = 400 + 10 * (v - 400);
    frames[0].source = std::make_shared<const ImagePlanes>(std::move(bright));
    frames[0].planes[0].level.scale.value = 0.1;
    frames[0].planes[0].level.offset.value = 360;
    frames[1].source = std::make_shared<const ImagePlanes>(Image(kWidth, kHeight, 1, kNoData));
    frames[2].planes[0].to_frame = Transform(Affine{1, 0, 10000, 0, 1, 0});
    const MasterLight m = combined(frames);
    CHECK(std::isfinite(m.pixels(150, 110)));
    CHECK((m.shares[1].samples == 0 && m.shares[2].samples == 0 && m.shares[0].samples > 0));
    for (StackFrame& f : frames)
        f.emphasis = 0;
    CHECK_THROWS_WITH(combined(frames), Catch::Contains("weights of all frames together are zero"));
}

TEST_CASE("The noise of a sum, a median and an estimate is told as it is") {
    const auto frames = field(9, 0, 0, 13);
    const double mean = combined(frames, {.rejection = NoRejection{}}).expected_noise[0];
    CHECK(combined(frames, {.rejection = NoRejection{}, .combination = Combination::sum}).expected_noise[0] ==
          Approx(9 * mean));
    // A median of nine is 1.24 times as noisy.
    CHECK(combined(frames, {.combination = Combination::median}).expected_noise[0] ==
          Approx(1.24 * mean).epsilon(0.02));
    CHECK(combined(frames, {.combination = Combination::tukey}).expected_noise[0] == Approx(mean).epsilon(0.02));
    const MasterLight sum = combined(frames, {.combination = Combination::sum});
    CHECK(sum.pixels(20, 200) == Approx(9 * 400).epsilon(0.03));
}

TEST_CASE("The picture of what was rejected is warm above, cold below, and small") {
    RejectionMaps maps{Raster<std::uint16_t>(40, 20), Raster<std::uint16_t>(40, 20)};
    maps.high(3, 4) = 65535 / 4;
    maps.low(30, 10) = 65535 / 4;
    const auto picture = draw_rejected(maps);
    CHECK((picture.width() == 40 && picture.planes() == 3));
    CHECK((picture(3, 4, 0) == 255 && picture(3, 4, 2) < 100));
    CHECK((picture(30, 10, 2) == 255 && picture(30, 10, 0) < 100));
    CHECK((picture(0, 0, 0) == 0 && picture(0, 0, 2) == 0));
    CHECK(draw_rejected(maps, 10).width() == 10);
}

TEST_CASE("Of very many frames some hundred choose the rejection, and a failure names the right one") {
    constexpr int kSide = 40, kFrames = 650;
    std::vector<StackFrame> frames;
    for (int f = 0; f < kFrames; ++f) {
        Image image(kSide, kSide, 1, 400.0f);
        add_noise(image, 20, 900 + static_cast<std::uint64_t>(f));
        image(f % kSide, f / kSide) += 3000;
        frames.push_back({std::make_shared<const ImagePlanes>(std::move(image)), {{Transform(Affine{}), {}, 20}}, 1});
    }
    const Quiet quiet;
    const Canvas canvas{kSide, kSide};
    const MasterLight m = integrate(frames, canvas, {400}, quiet.context, {});
    REQUIRE(m.comparison);
    CHECK_THAT(m.comparison->reason, Catch::Contains("tried on 300 of its 650 frames"));
    CHECK(m.rejected_high >= std::uint64_t{kFrames} * 95 / 100); // a particle each
    for (const float v : m.pixels.pixels())
        CHECK(v == Approx(400).margin(6 * 20 / std::sqrt(kFrames))); // 1600 pixels
    constexpr std::size_t kBroken = 434;                             // one of those that are asked
    frames[kBroken].source = std::make_shared<const Unreadable>(kSide);
    const RejectionComparison c = compare_rejections(frames, canvas, {400}, quiet.context, {});
    REQUIRE(c.failure);
    CHECK((c.failure->frame == kBroken && c.failure->what.file == "broken.fits"));
}

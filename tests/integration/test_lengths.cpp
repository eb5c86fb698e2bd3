// Stacks of several lengths: what the longer one saturates is left to the shorter one.
#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/integration/drizzle.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/integration/length_fade.hpp>
#include <kasane/integration/length_match.hpp>
#include <kasane/integration/lengths.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kSide = 200;
constexpr double kSky = 800, kFull = 50000;
const Point kCore{104.3, 97.8};

/// An image whose pixels stop at a level, and say so.
class FullPlanes final : public PlaneSource {
public:
    FullPlanes(Image image, double full) : image_(std::move(image)), full_(static_cast<float>(full)) {
        for (float& v : image_.pixels())
            v = std::min(v, full_);
    }
    int planes() const override { return 1; }
    int width() const override { return image_.width(); }
    int height() const override { return image_.height(); }
    const std::filesystem::path& path() const override { return path_; }
    void read(const Region& region, std::span<const View<float>> out, std::span<QualityPlane> quality) const override {
        for (QualityPlane& q : quality)
            q.clear(region.width, region.height);
        for (int y = 0; y < region.height; ++y)
            for (int x = 0; x < region.width; ++x) {
                const float v = out[0](x, y) = image_(region.x + x, region.y + y);
                if (v >= 0.9f * full_ && !quality.empty()) quality[0].mark(x, y, quality::kSaturated);
            }
    }

private:
    Image image_;
    float full_;
    std::filesystem::path path_;
};

/// A core two hundred times as bright as full pixels of a long frame, steep but smooth: above the sky.
double core_light(double x, double y) {
    const double r2 = (std::pow(x - kCore.x, 2) + std::pow(y - kCore.y, 2)) / (5.0 * 5.0);
    return 200 * kFull / std::pow(1 + r2, 1.5);
}

struct Taking {
    double seconds = 100; ///< of a hundred, what the light is worth
    double x = 0, y = 0;  ///< by which the sky lies farther right and down
    double light = 1;     ///< transparency, unknown to whoever stacks
    std::uint64_t seed = 1;
    double full = kFull;
};

/// A frame at the level of a long one, as its scale says.
StackFrame taken(const Taking& t, const std::function<double(double, double)>& sky = core_light) {
    constexpr double kRead = 3, kElectrons = 1; // ADU; a piece
    const double share = t.seconds / 100;
    Image image(kSide, kSide), unit(kSide, kSide);
    add_noise(unit, 1, t.seed);
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < kSide; ++x) {
            const double light = share * (kSky + t.light * sky(x - t.x, y - t.y));
            image(x, y) = static_cast<float>(light + std::sqrt(kRead * kRead + light / kElectrons) *
                                                         static_cast<double>(unit(x, y)));
        }
    StackFrame f;
    f.source = std::make_shared<const FullPlanes>(std::move(image), t.full);
    StackPlane plane;
    plane.to_frame = Transform(Affine{1, 0, t.x, 0, 1, t.y});
    plane.level.scale.value = 1 / share;
    plane.noise = std::sqrt(kRead * kRead + share * kSky);
    f.planes = {plane};
    f.electrons_per_adu = kElectrons;
    f.length = t.seconds < 100 ? 1 : 0;
    f.saturation = 0.9 * t.full;
    f.burnt = {{64, 64, 64, 64}};
    return f;
}

std::vector<StackFrame> two_lengths(double light = 1, double full_of_short = kFull) {
    std::vector<StackFrame> frames;
    for (int k = 0; k < 8; ++k)
        frames.push_back(taken({100, 0.37 * k, 0.61 * (k % 3), 1, 10 + static_cast<std::uint64_t>(k)}));
    for (int k = 0; k < 2; ++k)
        frames.push_back(
            taken({0.4, 1.3 - 2.2 * k, 0.45 * k, light, 30 + static_cast<std::uint64_t>(k), full_of_short}));
    return frames;
}

IntegrateOptions plain(int tile = 128) {
    IntegrateOptions o;
    o.rejection = NoRejection{};
    o.tile = tile;
    return o;
}

/// Light above the truth around the core, as a share of it: mean and deviation of a ring.
struct Ring {
    double mean = 0, sigma = 0;
};
Ring ring(const MasterLight& m, double from, double until) {
    std::vector<double> off;
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < kSide; ++x) {
            const double r = std::hypot(x - kCore.x, y - kCore.y), truth = core_light(x, y);
            if (r >= from && r < until) off.push_back((static_cast<double>(m.pixels(x, y)) - kSky) / truth - 1);
        }
    Ring out;
    for (const double v : off)
        out.mean += v / static_cast<double>(off.size());
    for (const double v : off)
        out.sigma += std::pow(v - out.mean, 2) / static_cast<double>(off.size());
    out.sigma = std::sqrt(out.sigma);
    return out;
}

/// Where the longest length half stops.
double border(const MasterLight& m) {
    int pixels = 0;
    for (const std::uint16_t v : m.lengths.pixels())
        pixels += v == 2;
    return std::sqrt(pixels / kPi);
}

} // namespace

TEST_CASE("Lengths are told apart by what they saturate") {
    CHECK(lengths_of({300, 300, 10, 290, 10, 60}) == std::vector<int>{2, 2, 0, 2, 0, 1});
    CHECK(lengths_of({1, 1.4, 1.9, 2.4, 3.2}) == std::vector<int>{0, 0, 0, 0, 1}); // a chain is cut
    CHECK(lengths_of({0, 5, std::nan(""), 50}) == std::vector<int>{0, 0, 0, 1});
    CHECK(lengths_of({}).empty());
}

TEST_CASE("A core far beyond the range of long frames comes from two short ones, without a ring") {
    const Quiet quiet;
    const MasterLight m = integrate(two_lengths(), {kSide, kSide}, {kSky}, quiet.context, plain());
    REQUIRE_FALSE(m.failure);
    CHECK(std::abs(ring(m, 0, 5).mean) < 0.01);
    CHECK(std::abs(ring(m, 5, 15).mean) < 0.003);
    const double edge = border(m);
    CHECK(edge > 27); // 200 times: 5 sqrt(200^(2/3) - 1) = 29 at full, less three pixels
    CHECK(edge < 38);
    for (double r = edge - 8; r < edge + 8; r += 2) {
        const Ring here = ring(m, r, r + 2);
        CHECK(std::abs(here.mean) < 0.4 * here.sigma);
    }
    CHECK(m.lengths(10, 10) == 1);
    CHECK(m.lengths(104, 98) == 2);
    CHECK(m.burnt.pixels() == 0);
    CHECK(m.saturated > 8 * 2500);
    // Outside it is the mean of all, as without a core.
    CHECK(m.coverage(10, 10) == Approx(1).margin(1e-5));
    CHECK(m.coverage(104, 98) < 1e-3);
    CHECK_THAT(m.made.find("combine")->text, Catch::Contains("2 lengths"));

    SECTION("drizzled as well") {
        const DrizzleOptions options{1.5, 0.8, DropShape::square};
        const MasterLight fine = drizzle(two_lengths(), {kSide, kSide}, {kSky}, quiet.context, plain(), options);
        const int x = static_cast<int>(1.5 * (kCore.x + 0.5)), y = static_cast<int>(1.5 * (kCore.y + 0.5));
        CHECK(fine.pixels(x, y) > 0.9 * core_light(kCore.x, kCore.y));
        CHECK(fine.lengths(x, y) == 2);
        CHECK(fine.lengths(20, 20) == 1);
        CHECK(fine.pixels(x + 15, y) == Approx(kSky + core_light(kCore.x + 10, kCore.y)).epsilon(0.15));
    }
}

TEST_CASE("Lengths make the same for any tiles and threads") {
    const Quiet one(1), two(2);
    const MasterLight a = integrate(two_lengths(), {kSide, kSide}, {kSky}, one.context, plain(200)),
                      b = integrate(two_lengths(), {kSide, kSide}, {kSky}, two.context, plain(37));
    CHECK(a.pixels.pixels() == b.pixels.pixels());
    CHECK(a.coverage.pixels() == b.coverage.pixels());
    CHECK(a.lengths.pixels() == b.lengths.pixels());
    CHECK(a.saturated == b.saturated);
}

TEST_CASE("What no length shows is told, and shows no hole") {
    const Quiet quiet;
    const MasterLight m = integrate(two_lengths(1, 8000), {kSide, kSide}, {kSky}, quiet.context, plain());
    const double most = 100 / 0.4 * 8000; // what short frames can tell, at the level of long ones
    CHECK(m.burnt.pixels() > 100);
    const BurntCells::Patch patch = m.burnt.largest();
    CHECK(patch.pixels == m.burnt.pixels());
    CHECK(patch.region.contains({104, 98, 1, 1}));
    CHECK(patch.region.width < 40);
    CHECK(m.lengths(104, 98) == MasterLight::kBurnt + 2);
    for (int y = 90; y < 106; ++y)
        for (int x = 96; x < 113; ++x)
            if (core_light(x, y) > 1.3 * most) {
                CHECK(m.lengths(x, y) == MasterLight::kBurnt + 2);
                CHECK(m.pixels(x, y) > 0.97 * most);
            }
    // Frames of one length alone: nothing leaves, and it is told.
    std::vector<StackFrame> longs = two_lengths();
    longs.resize(8);
    const MasterLight alone = integrate(longs, {kSide, kSide}, {kSky}, quiet.context, plain());
    CHECK(alone.burnt.pixels() > 2000);
    CHECK(alone.lengths.width() == 0);
    CHECK(alone.pixels(104, 98) == Approx(kFull).epsilon(1e-3));
}

TEST_CASE("One saturated sample leaves alone, and the others of its length stay") {
    const Quiet quiet;
    std::vector<StackFrame> frames;
    for (int k = 0; k < 6; ++k) {
        const auto hit = [&](double x, double y) {
            return k == 2 && std::hypot(x - 50, y - 50) < 1.5 ? 2 * kFull : 0.0;
        };
        frames.push_back(taken({100, 0, 0, 1, 50 + static_cast<std::uint64_t>(k)}, hit));
    }
    frames.push_back(taken({0.4, 0, 0, 1, 60}, [](double, double) { return 0.0; }));
    const MasterLight m = integrate(frames, {kSide, kSide}, {kSky}, quiet.context, plain());
    CHECK(m.lengths(50, 50) == 1);
    CHECK(m.pixels(50, 50) == Approx(kSky).margin(60)); // five long frames' noise, not a short one's
    CHECK(m.coverage(50, 50) == Approx(5.0 / 6).epsilon(1e-3));
    CHECK(m.saturated > 8);
    CHECK(m.saturated < 40);
}

TEST_CASE("Where noise decides what is saturated, all of a length leave: the mean of the rest were too low") {
    const Quiet quiet;
    const auto plateau = [](double x, double y) { // half of its samples are full
        return std::hypot(x - 100, y - 100) < 25 ? 0.9 * kFull - kSky : 0.0;
    };
    std::vector<StackFrame> frames;
    for (int k = 0; k < 8; ++k)
        frames.push_back(taken({100, 0, 0, 1, 90 + static_cast<std::uint64_t>(k)}, plateau));
    for (int k = 0; k < 2; ++k)
        frames.push_back(taken({10, 0, 0, 1, 100 + static_cast<std::uint64_t>(k)}, plateau));
    const MasterLight m = integrate(frames, {kSide, kSide}, {kSky}, quiet.context, plain());
    double sum = 0, n = 0;
    for (int y = 80; y <= 120; ++y)
        for (int x = 80; x <= 120; ++x)
            if (std::hypot(x - 100, y - 100) < 20) {
                CHECK(m.lengths(x, y) == 2);
                sum += static_cast<double>(m.pixels(x, y)), ++n;
            }
    CHECK(sum / n == Approx(0.9 * kFull).margin(60)); // the rest lie 170 below
}

TEST_CASE("The wings of a saturated star stay what long frames make them") {
    const Quiet quiet;
    const auto star = [](double x, double y) {
        return 30 * kFull * std::exp(-(std::pow(x - 60, 2) + std::pow(y - 60, 2)) / (2 * 1.2 * 1.2));
    };
    std::vector<StackFrame> frames;
    for (int k = 0; k < 6; ++k)
        frames.push_back(taken({100, 0.3 * k, 0.2 * k, 1, 70 + static_cast<std::uint64_t>(k)}, star));
    for (int k = 0; k < 3; ++k)
        frames.push_back(taken({1, 0.4 * k, 0.1, 1, 80 + static_cast<std::uint64_t>(k)}, star));
    const MasterLight m = integrate(frames, {kSide, kSide}, {kSky}, quiet.context, plain());
    CHECK(m.pixels(60, 60) == Approx(kSky + 30 * kFull).epsilon(0.02));
    CHECK(m.lengths(60, 60) == 2);
    // Saturated out to 2.6 sigma, 3.1 pixels; at 7 pixels nothing is left of it, and long frames alone make the sky.
    int sky = 0;
    for (int y = 50; y <= 70; ++y)
        for (int x = 50; x <= 70; ++x)
            if (const double r = std::hypot(x - 60, y - 60); r > 5.2 && r < 9) {
                CHECK(m.lengths(x, y) == 1);
                if (r > 6.2) CHECK(std::abs(static_cast<double>(m.pixels(x, y)) - kSky) < 80);
                ++sky;
            }
    CHECK(sky > 100);
}

TEST_CASE("Scales of short frames are matched around what long ones saturate") {
    const Quiet quiet;
    std::vector<StackFrame> frames = two_lengths(0.96);
    for (std::size_t k = 8; k < frames.size(); ++k)
        frames[k].planes[0].scale_error = 0.04; // as few stars tell
    const MasterLight before = integrate(frames, {kSide, kSide}, {kSky}, quiet.context, plain());
    const LengthMatches told = match_lengths(frames, {kSide, kSide}, {kSky}, quiet.context);
    REQUIRE_FALSE(told.failure);
    for (std::size_t k = 8; k < frames.size(); ++k) {
        const LengthMatch& m = told.planes[0][k];
        CHECK(m.pixels > 500);
        CHECK(m.error < 0.006);
        CHECK(m.factor == Approx(1 / 0.96).margin(3 * m.error));
        CHECK(frames[k].planes[0].level.scale.value == Approx(250 * m.factor));
        CHECK(frames[k].planes[0].level.scale.value * 0.4 / 100 * kSky + frames[k].planes[0].level.offset.value ==
              Approx(kSky)); // its sky stays where it was
        CHECK(frames[k].planes[0].scale_error < 0.008);
    }
    CHECK(told.planes[0][0].error == 0);
    const MasterLight after = integrate(frames, {kSide, kSide}, {kSky}, quiet.context, plain());
    CHECK(ring(before, 5, 20).mean < -0.03);
    CHECK(std::abs(ring(after, 5, 20).mean) < 0.006);
    // What their stars tell better is left as it is.
    std::vector<StackFrame> known = two_lengths();
    for (StackFrame& f : known)
        f.planes[0].scale_error = 1e-4;
    const LengthMatches none = match_lengths(known, {kSide, kSide}, {kSky}, quiet.context);
    for (const LengthMatch& m : none.planes[0])
        CHECK(m.error == 0);
    CHECK(known[9].planes[0].level.scale.value == Approx(250));
}

TEST_CASE("A scale that is off makes a slope where lengths change, not a step") {
    const Quiet quiet;
    const MasterLight m = integrate(two_lengths(0.8), {kSide, kSide}, {kSky}, quiet.context, plain());
    // Along a row through the core: what is off grows from nothing to a fifth within the fade.
    const auto off = [&](int x) {
        double sum = 0;
        for (int y = 93; y <= 103; ++y)
            sum += (static_cast<double>(m.pixels(x, y)) - kSky) / core_light(x, y) - 1;
        return sum / 11;
    };
    CHECK(std::abs(off(160)) < 0.01);
    CHECK(off(110) == Approx(-0.2).margin(0.02));
    double most = 0;
    for (int x = 112; x < 160; ++x)
        most = std::max(most, std::abs(off(x + 1) - off(x)));
    CHECK(most < 0.11);
}

TEST_CASE("A length fades over four pixels around what it has left") {
    std::vector<std::uint8_t> left(21 * 21);
    left[10 * 21 + 10] = 1;
    LengthFade fade;
    fade.begin(left, 21, 21);
    CHECK(fade.share(0) == 1);
    CHECK(fade.share(10 * 21 + 10) == 1); // nothing more leaves there
    CHECK(fade.share(10 * 21 + 11) == Approx(0.2 * 0.2 * 2.6));
    CHECK(fade.share(10 * 21 + 14) == Approx(0.8 * 0.8 * 1.4));
    CHECK(fade.share(10 * 21 + 15) == 1);
    CHECK(fade.share(13 * 21 + 13) == 1); // farther than four
}

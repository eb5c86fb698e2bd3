// Frames that are turned: no more of them is read than lies under a tile, and what comes out is the same.
#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/integration/parts_under.hpp>
#include <kasane/integration/resampler.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kFrameSide = 500;

/// An image that gives the parts it is asked for, and rubbish in between.
class PartsOnly final : public PlaneSource {
public:
    PartsOnly(Image image, std::vector<std::pair<int, int>> full, bool parts)
        : image_(std::move(image)), full_(std::move(full)), parts_(parts) {}
    int planes() const override { return 1; }
    int width() const override { return image_.width(); }
    int height() const override { return image_.height(); }
    const std::filesystem::path& path() const override { return path_; }
    void read(const Region& region, std::span<const View<float>> out, std::span<QualityPlane> marks) const override {
        std::unique_ptr<ReadMemory> none;
        read_parts(region, {&region, 1}, out, marks, none);
    }
    void read_parts(const Region& region, std::span<const Region> parts, std::span<const View<float>> out,
                    std::span<QualityPlane> marks, std::unique_ptr<ReadMemory>& /*memory*/) const override {
        const Region whole[] = {region};
        if (!parts_) parts = whole;
        marks[0].clear(region.width, region.height);
        Raster<std::uint8_t> read_once(region.width, region.height, 1);
        bool twice = false;
        pixels = 0;
        // Whatever an earlier frame left beside the parts.
        const float left[] = {3e30f, std::numeric_limits<float>::quiet_NaN(), -2000};
        for (int y = 0; parts_ && y < region.height; ++y)
            for (int x = 0; x < region.width; ++x)
                out[0](x, y) = left[(x + y) % 3];
        for (const Region& part : parts) {
            REQUIRE(region.contains(part));
            pixels += part.area();
            for (int y = part.y; y < part.bottom(); ++y)
                for (int x = part.x; x < part.right(); ++x) {
                    twice |= read_once(x - region.x, y - region.y)++ > 0;
                    out[0](x - region.x, y - region.y) = image_(x, y);
                }
            for (const auto& [x, y] : full_)
                if (part.contains({x, y, 1, 1})) marks[0].mark(x - region.x, y - region.y, quality::kSaturated);
        }
        CHECK_FALSE(twice);
        asked = region.area();
    }

    mutable std::int64_t asked = 0, pixels = 0; ///< of the last read

private:
    Image image_;
    std::vector<std::pair<int, int>> full_;
    bool parts_;
    std::filesystem::path path_;
};

struct Sampled {
    Image out;
    std::vector<std::uint32_t> saturated;
    std::vector<std::pair<int, int>> marked;
};

Sampled resampled(const std::shared_ptr<const PlaneSource>& source, const Transform& to_frame, const Region& tile) {
    const StackFrame frame{source, {{to_frame, {}, 10}}, 0};
    Resampler resampler;
    Sampled result{Image(tile.width, tile.height, 1, 3.0f), {}, {}};
    const std::array<float, 1> bright{2000};
    for (int k = 0; k < 2; ++k) // the second time into memory that holds the first
        resampler.resample(frame, tile, 8, {result.out.plane()}, {bright, {}});
    result.saturated = resampler.saturated(0);
    resampler.for_each_marked(frame, tile,
                              [&](std::size_t, int x, int y, quality::Bits) { result.marked.emplace_back(x, y); });
    std::sort(result.marked.begin(), result.marked.end());
    return result;
}

Affine turned(double degrees_, double scale) {
    const double c = scale * std::cos(radians(degrees_)), s = scale * std::sin(radians(degrees_)), m = 0.5 * kFrameSide;
    return {c, s, m - c * m - s * m + 0.3, -s, c, m + s * m - c * m - 0.4};
}

} // namespace

TEST_CASE("Of frames that are turned only what lies under a tile is read, and comes out as the whole would") {
    Image image(kFrameSide, kFrameSide, 1, 500.0f);
    add_noise(image, 10, 4);
    sky::Random random(3);
    std::vector<std::pair<int, int>> full;
    for (int i = 0; i < 60; ++i) {
        const int x = static_cast<int>(random.uniform(3, kFrameSide - 3)),
                  y = static_cast<int>(random.uniform(3, kFrameSide - 3));
        add_gaussian_star(image, x, y, 400000, 3);
        full.emplace_back(x, y);
    }
    const auto in_parts = std::make_shared<PartsOnly>(image, full, true);
    const auto whole = std::make_shared<PartsOnly>(image, full, false);
    const double angle = GENERATE(0.0, 2.0, 12.0, 37.0, 45.0, 90.0, 128.0, 217.0, 300.0);
    const double scale = GENERATE(1.0, 0.45, 1.9);
    const bool through_lens = GENERATE(false, true);
    INFO(angle << " degrees, scale " << scale << (through_lens ? ", a lens" : ""));
    Transform t = turned(angle, scale);
    if (through_lens)
        t = Transform(t.projective(), std::make_shared<const Lens>(Lens{{250, 240}, 350, {0.03, -0.01, 0}, {0, 0}}));
    // In the middle, across edges and corners, beside the frame, and as small as a tile can be.
    for (const Region tile : {Region{150, 140, 200, 210}, Region{-40, -30, 180, 170}, Region{380, 60, 190, 160},
                              Region{-900, -900, 64, 64}, Region{200, 499, 90, 1}, Region{240, 240, 3, 5}}) {
        INFO(tile.x << " " << tile.y);
        const Sampled a = resampled(in_parts, t, tile), b = resampled(whole, t, tile);
        bool same = true;
        for (std::size_t i = 0; i < a.out.pixels().size(); ++i)
            same &= a.out.pixels()[i] == b.out.pixels()[i] ||
                    (std::isnan(a.out.pixels()[i]) && std::isnan(b.out.pixels()[i]));
        CHECK(same);
        CHECK(a.saturated == b.saturated);
        CHECK(std::is_sorted(a.saturated.begin(), a.saturated.end()));
        CHECK(a.marked == b.marked);
    }
    resampled(in_parts, t, {150, 140, 200, 210});
    if (angle == 45.0 && scale == 1)
        CHECK(static_cast<double>(in_parts->pixels) < 0.72 * static_cast<double>(in_parts->asked));
    if (angle == 0.0) CHECK(in_parts->pixels == in_parts->asked);
}

TEST_CASE("A turned frame is interpolated where the formula says, whatever the tile") {
    Image image(kFrameSide, kFrameSide, 1, 500.0f);
    add_noise(image, 10, 4);
    add_gaussian_star(image, 250, 250, 400000, 3);
    const auto source = std::make_shared<PartsOnly>(image, std::vector<std::pair<int, int>>{{250, 250}}, true);
    const double angle = GENERATE(4.0, 37.0, 45.0, 90.0, 128.0, 217.0, 300.0);
    const double scale = GENERATE(1.0, 0.6, 1.3, 2.1); // at 1.3 lines lie in three rows
    const bool mirrored = GENERATE(false, true), through_lens = GENERATE(false, true);
    INFO(angle << " degrees, scale " << scale << (mirrored ? ", mirrored" : "") << (through_lens ? ", a lens" : ""));
    Affine a = turned(angle, scale);
    if (mirrored) a = {-a.a, -a.b, kFrameSide - a.c, a.d, a.e, a.f};
    Transform t = a;
    if (through_lens)
        t = Transform(t.projective(), std::make_shared<const Lens>(Lens{{250, 240}, 350, {0.03, -0.01, 0}, {0, 0}}));
    const Region tile{130, 120, 231, 267}; // more than one band of rows
    const Image out = resampled(source, t, tile).out;
    constexpr double kNoise = 10, kSigmas = 8;
    for (int y = 0; y < tile.height; y += 11)
        for (int x = 0; x < tile.width; x += 7) {
            std::int64_t u = 0, v = 0;
            Transform::Patches patches;
            t.row(tile.x + x, tile.y + y, 1, &u, &v, patches); // how exact these are is tested elsewhere
            const float expected = resample_lanczos3_reference(
                image.plane(), static_cast<double>(u) * 0x1p-32, static_cast<double>(v) * 0x1p-32,
                {static_cast<float>(kSigmas * kNoise), static_cast<float>(0.4 * kNoise)});
            if (std::isnan(expected)) continue;                             // the edge is repeated there
            CHECK(out(x, y) == Approx(expected).epsilon(2e-5).margin(0.1)); // the star peaks at 40 000
        }
    const Region part{170, 203, 90, 101};
    const Image again = resampled(source, t, part).out;
    bool same = true;
    for (int y = 0; y < part.height; ++y)
        for (int x = 0; x < part.width; ++x) {
            const float v = again(x, y), w = out(part.x - tile.x + x, part.y - tile.y + y);
            same &= v == w || (std::isnan(v) && std::isnan(w));
        }
    CHECK(same);
}

TEST_CASE("Parts hold all that a rectangle of the canvas needs, and little else") {
    const double angle = GENERATE(10.0, 37.0, 45.0, 128.0, 200.0, 300.0);
    const bool through_lens = GENERATE(false, true);
    INFO(angle << (through_lens ? " degrees, a lens" : " degrees"));
    Transform t = turned(angle, 1);
    if (through_lens)
        t = Transform(t.projective(), std::make_shared<const Lens>(Lens{{250, 240}, 350, {0.03, -0.01, 0}, {0, 0}}));
    const Region tile{100, 90, 300, 300}, inside{0, 0, kFrameSide, kFrameSide};
    PartsUnder under(inside);
    under.add(t, tile);
    Raster<std::uint8_t> there(kFrameSide, kFrameSide, 1);
    std::int64_t all = 0;
    for (const Region& part : under.parts()) {
        all += part.area();
        for (int y = part.y; y < part.bottom(); ++y)
            for (int x = part.x; x < part.right(); ++x)
                there(x, y) = 1;
    }
    bool missing = false;
    for (int y = tile.y; y < tile.bottom(); ++y)
        for (int x = tile.x; x < tile.right(); ++x) {
            const Point p = t.map({static_cast<double>(x), static_cast<double>(y)});
            for (const int j : {-2, 3})
                for (const int i : {-2, 3}) {
                    const int u = static_cast<int>(std::floor(p.x)) + i, v = static_cast<int>(std::floor(p.y)) + j;
                    if (u >= 0 && v >= 0 && u < kFrameSide && v < kFrameSide) missing |= there(u, v) == 0;
                }
        }
    CHECK_FALSE(missing);
    CHECK(static_cast<double>(all) < 1.25 * static_cast<double>(tile.area())); // the lens stretches, too
    PartsUnder nowhere(inside);
    nowhere.add(Transform(Affine{1, 0, 1e7, 0, 1, 0}), tile); // beyond all reach
    CHECK(nowhere.parts() == std::vector<Region>{inside});
}

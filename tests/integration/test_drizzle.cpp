#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/drizzle.hpp>
#include <kasane/integration/noise_covariance.hpp>
#include <kasane/sky/random.hpp>
#include <kasane/stars/detection.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 150, kHeight = 120;
constexpr float kSky = 400;
const Canvas kCanvas = reference_canvas(kWidth, kHeight);

/// Where the stars of the made-up frames lie on the canvas.
std::vector<Point> places() {
    std::vector<Point> out;
    for (int j = 0; j < 4; ++j)
        for (int i = 0; i < 5; ++i)
            out.push_back({25.3 + 24.7 * i, 22.1 + 24.9 * j});
    return out;
}

/// Dithered and turned a little, with stars of `fwhm` pixels.
std::vector<StackFrame> frames_of(int count, double fwhm, double noise, std::uint64_t seed, double flux = 20000) {
    std::vector<StackFrame> frames;
    sky::Random random(seed);
    for (int f = 0; f < count; ++f) {
        const double angle = radians(random.uniform(-1.5, 1.5)), c = std::cos(angle), s = std::sin(angle);
        const Affine t{c, s, random.uniform(-4, 4), -s, c, random.uniform(-4, 4)};
        Image image(kWidth, kHeight, 1, kSky);
        for (const Point& p : places()) {
            double u = 0, v = 0;
            t.apply(p.x, p.y, u, v);
            add_gaussian_star(image, u, v, flux, fwhm);
        }
        add_noise(image, noise, seed * 1000 + static_cast<std::uint64_t>(f));
        frames.push_back({std::make_shared<const ImagePlanes>(std::move(image)), {{t, {}, noise, fwhm}}, 0});
    }
    return frames;
}

MasterLight drizzled(const std::vector<StackFrame>& frames, const DrizzleOptions& options = {},
                     const IntegrateOptions& integrate = {}, int threads = 2) {
    const Workers workers(threads);
    Progress silent;
    const std::vector<double> levels(frames.front().planes.size(), kSky);
    return drizzle(frames, kCanvas, levels, {workers, default_budget(), silent}, integrate, options);
}

double flux_at(const Image& image, const Point& at, double scale) {
    const double x = (at.x + 0.5) * scale - 0.5, y = (at.y + 0.5) * scale - 0.5, radius = 8 * scale;
    double sum = 0;
    for (int j = static_cast<int>(y - radius) - 1; j <= y + radius + 1; ++j)
        for (int i = static_cast<int>(x - radius) - 1; i <= x + radius + 1; ++i)
            sum += std::clamp(radius + 0.5 - std::hypot(i - x, j - y), 0.0, 1.0) *
                   (static_cast<double>(image(i, j)) - static_cast<double>(kSky));
    return sum / (scale * scale);
}

bool same_bytes(const Image& a, const Image& b) { // NaN as well
    return a.pixels().size() == b.pixels().size() &&
           std::memcmp(a.pixels().data(), b.pixels().data(), a.pixels().size() * sizeof(float)) == 0;
}

} // namespace

TEST_CASE("The fine grid covers the canvas corner to corner") {
    const Canvas fine = drizzled_canvas(kCanvas, 2);
    CHECK(fine.width == 300);
    CHECK(fine.height == 240);
    CHECK(fine.scale == 2);
    CHECK(fine.origin.x == Approx(-0.25));
    double x = 0, y = 0;
    to_coarse(2).apply(299, 239, x, y);
    CHECK(x == Approx(149.25));
    CHECK(y == Approx(119.25));
    fine.to_reference().apply(299, 239, x, y);
    CHECK(x == Approx(149.25));
}

TEST_CASE("Drops keep the flux of stars, on grids and in shapes of all kinds") {
    const auto frames = frames_of(24, 1.6, 2, 5);
    for (const DrizzleOptions& o :
         {DrizzleOptions{}, DrizzleOptions{3, 0.5, DropShape::square}, DrizzleOptions{1.5, 1, DropShape::square},
          DrizzleOptions{2, 0.8, DropShape::gaussian}, DrizzleOptions{1, 2, DropShape::square}}) {
        const MasterLight m = drizzled(frames, o);
        CAPTURE(o.scale, o.drop);
        std::vector<float> ratios;
        for (const Point& p : places())
            ratios.push_back(static_cast<float>(flux_at(m.pixels, p, o.scale) / 20000));
        CHECK(median_in_place(ratios) == Approx(1).margin(0.003));
    }
}

TEST_CASE("Stars smaller than two pixels come out narrower than by interpolation") {
    const auto frames = frames_of(30, 1.3, 3, 6);
    const Quiet quiet;
    const double wide = detect_stars(integrate(frames, kCanvas, {kSky}, quiet.context).pixels.plane()).fwhm;
    const double narrow = detect_stars(drizzled(frames, {3, 0.4, DropShape::square}).pixels.plane()).fwhm / 3;
    CHECK(narrow < 0.93 * wide);
}

TEST_CASE("Noise that neighbours share is told of a pixel and of larger areas") {
    NoiseCovariance known(3), thin(0);
    for (std::uint64_t window = 0; window < 12; ++window) {
        Image white(NoiseCovariance::kWindow + 2, NoiseCovariance::kWindow + 2),
            smooth(NoiseCovariance::kWindow, NoiseCovariance::kWindow);
        add_noise(white, 1, 500 + window);
        for (int y = 0; y < smooth.height(); ++y)
            for (int x = 0; x < smooth.width(); ++x) {
                smooth(x, y) =
                    4 + static_cast<float>(window) + 0.002f * static_cast<float>(x); // a level, which is none
                for (const int j : {0, 1, 2})
                    for (const int i : {0, 1, 2})
                        smooth(x, y) += white(x + i, y + j) / 9;
            }
        smooth(20, 20) = 50; // a particle
        known.add(smooth.plane());
        thin.add(smooth.plane());
    }
    CHECK(known.pixel() == Approx(1.0 / 3).epsilon(0.03));
    CHECK(known.white() == Approx(1).epsilon(0.06));
    CHECK(thin.white() == Approx(1.0 / 3).epsilon(0.03)); // what is farther apart is not asked
    CHECK(NoiseCovariance(2).white() == 0);
}

TEST_CASE("Noise that neighbours share is told by windows of which little is sky as well") {
    NoiseCovariance few(3);
    constexpr int kSide = 20;
    for (std::uint64_t window = 0; window < 600; ++window) {
        Image white(kSide + 2, kSide + 2), smooth(kSide, kSide);
        add_noise(white, 1, 1500 + window);
        for (int y = 0; y < kSide; ++y)
            for (int x = 0; x < kSide; ++x)
                for (const int j : {0, 1, 2})
                    for (const int i : {0, 1, 2})
                        smooth(x, y) += white(x + i, y + j) / 9;
        few.add(smooth.plane());
    }
    CHECK(few.white() == Approx(1).epsilon(0.03)); // 0.94 where a window was taken for a whole one
}

TEST_CASE("Large and sparse drops are told by larger areas as well, and a single frame tells no noise") {
    const double sigma = 10;
    const auto frames = frames_of(25, 2, sigma, 17, 0);
    const MasterLight m = drizzled(frames, {3, 1.6, DropShape::square}, {.rejection = NoRejection{}});
    CHECK(m.noise[0] == Approx(3 * sigma / 5).epsilon(0.1)); // pixels share drops over six of their sides
    CHECK(m.pixel_noise[0] < 0.25 * m.noise[0]);
    // Where a pixel has the drops of few lights, unevenly, it is noisier than the mean; not quieter.
    const MasterLight sparse =
        drizzled(frames_of(10, 2, sigma, 18, 0), {3, 0.3, DropShape::square}, {.rejection = NoRejection{}});
    CHECK(sparse.noise[0] > 0.97 * sparse.expected_noise[0]);
    CHECK(sparse.noise[0] < 1.3 * sparse.expected_noise[0]);
    const MasterLight one = drizzled({frames.front()});
    CHECK(one.noise == one.expected_noise);
    CHECK(one.pixel_noise.empty());
}

TEST_CASE("The noise of a drizzled stack is told as larger areas have it") {
    const double sigma = 10;
    const auto frames = frames_of(25, 2, sigma, 7, 0);
    const MasterLight m = drizzled(frames, {2, 0.7, DropShape::square}, {.rejection = NoRejection{}});
    CHECK(m.expected_noise[0] == Approx(2 * sigma / 5).epsilon(0.01));
    CHECK(m.noise[0] ==
          Approx(1.02 * m.expected_noise[0]).epsilon(0.06)); // samples do not lie evenly; 49000 pixels tell
    CHECK(m.pixel_noise[0] < 0.65 * m.noise[0]);             // drops of 0.7 over pixels of 0.5
    std::vector<float> means, pixels;
    constexpr int kBlock = 16;
    for (int y = 16; y + kBlock <= 224; y += kBlock)
        for (int x = 16; x + kBlock <= 284; x += kBlock) {
            double sum = 0;
            for (int j = y; j < y + kBlock; ++j)
                for (int i = x; i < x + kBlock; ++i) {
                    sum += static_cast<double>(m.pixels(i, j));
                    pixels.push_back(m.pixels(i, j));
                }
            means.push_back(static_cast<float>(sum / (kBlock * kBlock)));
        }
    CHECK(clipped_statistics(means, 4).sigma * kBlock == Approx(m.noise[0]).epsilon(0.12)); // 208 blocks
    CHECK(clipped_statistics(pixels, 4).sigma == Approx(m.pixel_noise[0]).epsilon(0.05));
}

TEST_CASE("Of frames side by side the noise is told as where all of the weight lay") {
    // Every other one lies to the left and to the right; in the middle they overlap.
    std::vector<StackFrame> frames;
    sky::Random random(31);
    for (int f = 0; f < 24; ++f) {
        Image image(kWidth, kHeight, 1, kSky);
        add_noise(image, 10, 3100 + static_cast<std::uint64_t>(f));
        const Affine t{1, 0, (f % 2 ? 60 : -60) + random.uniform(-2, 2), 0, 1, random.uniform(-2, 2)};
        frames.push_back({std::make_shared<const ImagePlanes>(std::move(image)), {{t, {}, 10, 3}}, 0});
    }
    const MasterLight m = drizzled(frames);
    CHECK(m.expected_noise[0] == Approx(2 * 10 / std::sqrt(24.0)).epsilon(0.01));
    CHECK(m.noise[0] == Approx(1.02 * m.expected_noise[0]).epsilon(0.06));
}

TEST_CASE("What single frames hold is left out of a drizzled stack, star cores are not") {
    auto frames = frames_of(20, 1.4, 3, 8);
    const MasterLight clean = drizzled(frames);
    CHECK(clean.rejected_high + clean.rejected_low < clean.samples / 1000);
    double least = 1;
    for (const Point& p : places())
        least = std::min(least, flux_at(clean.pixels, p, 2) / 20000);
    CHECK(least > 0.99);
    // A trail across one frame, and single pixels in all.
    std::vector<StackFrame> dirty = frames;
    sky::Random random(9);
    for (std::size_t f = 0; f < dirty.size(); ++f) {
        Image image = read_planes(*frames[f].source);
        if (f == 3)
            for (int x = 0; x < kWidth; ++x)
                image(x, 60 + x / 10) += 300;
        for (int k = 0; k < 30; ++k)
            image(static_cast<int>(random.uniform(0, kWidth)), static_cast<int>(random.uniform(0, kHeight))) += 200;
        dirty[f].source = std::make_shared<const ImagePlanes>(std::move(image));
    }
    const MasterLight m = drizzled(dirty);
    const auto near_star = [](int x, int y) { // where a frame less changes what pixels make of a star
        const auto all = places();
        return std::any_of(all.begin(), all.end(), [&](const Point& p) {
            return std::hypot((x + 0.5) / 2 - 0.5 - p.x, (y + 0.5) / 2 - 0.5 - p.y) < 5;
        });
    };
    double worst = 0;
    for (int y = 12; y < 228; ++y)
        for (int x = 12; x < 288; ++x)
            if (!near_star(x, y))
                worst = std::max(worst, std::abs(static_cast<double>(m.pixels(x, y)) - clean.pixels(x, y)));
    CHECK(worst < 6); // a trail that is left would be 15, a particle 10 and more
    CHECK(m.shares[3].high > 140);
    double told = 0;
    for (const std::uint16_t v : m.rejected.high.pixels())
        told += v / static_cast<double>(RejectionMaps::kUnit);
    CHECK(told / 4 == Approx(static_cast<double>(m.rejected_high) / 20).epsilon(0.1)); // share of the weight, per pixel
    double in_cells = 0;                                                               // each rejected sample once
    for (const RejectedCells& c : m.cells)
        for (const std::uint8_t v : c.high)
            in_cells += v / RejectedCells::kUnit * c.cell * c.cell;
    CHECK(in_cells == Approx(static_cast<double>(m.rejected_high)).epsilon(0.05));
    const auto& cells = m.cells[3].high;
    CHECK(std::count_if(cells.begin(), cells.end(), [](std::uint8_t v) { return v > 10; }) >= 15);
}

TEST_CASE("Samples that were made of their neighbours are passed over where others stand in") {
    // Defects of the sensor, on a sky that is flat, so that nothing but the mark tells.
    std::vector<std::pair<int, int>> places;
    for (int y = 10; y < kHeight - 10; y += 7)
        for (int x = 10 + y % 5; x < kWidth - 10; x += 9)
            places.emplace_back(x, y);
    const auto passed_over = [&](int count, bool turned) {
        std::vector<StackFrame> frames;
        for (int f = 0; f < count; ++f) {
            Image image(kWidth, kHeight, 1, kSky);
            add_noise(image, 4, 1300 + static_cast<std::uint64_t>(f));
            CalibrationSet set;
            set.defects = std::make_shared<const DefectList>(kHeight, places);
            const auto view =
                std::make_shared<const CalibratedView>(std::make_shared<MemoryFrame>(std::move(image)), set);
            const double side = turned ? -1 : 1;
            const Affine t{side, 0, (turned ? kWidth - 1 : 0) + 0.4 * f, 0, side, (turned ? kHeight - 1 : 0) + 0.3 * f};
            frames.push_back({std::make_shared<const FrameView>(view, ColourMethod::adaptive), {{t, {}, 4, 2}}, 0});
        }
        return drizzled(frames).passed_over;
    };
    for (const bool turned : {false, true}) { // each is counted once, whichever way rows run
        CHECK(passed_over(8, turned) == 8 * places.size());
        CHECK(passed_over(2, turned) == 0); // rather than none
    }
}

TEST_CASE("Colours of a mosaic are drizzled from their own samples") {
    // Red, green and blue are flat and differ: nothing of one may enter another.
    std::vector<StackFrame> frames;
    sky::Random random(11);
    for (int f = 0; f < 30; ++f) {
        Image image(kWidth, kHeight);
        const CfaPattern cfa("RGGB");
        const float levels[] = {300, 900, 500};
        for (int y = 0; y < kHeight; ++y)
            for (int x = 0; x < kWidth; ++x)
                image(x, y) = levels[cfa.colour(x, y)];
        add_noise(image, 4, 1100 + static_cast<std::uint64_t>(f));
        const auto view = std::make_shared<const CalibratedView>(std::make_shared<MemoryFrame>(std::move(image)),
                                                                 CalibrationSet{.cfa = cfa});
        const Affine t{1, 0, random.uniform(-5, 5), 0, 1, random.uniform(-5, 5)};
        const StackPlane plane{t, {}, 4, 2};
        frames.push_back({std::make_shared<const FrameView>(view, ColourMethod::adaptive), {plane, plane, plane}, 0});
    }
    const Workers workers(2);
    Progress silent;
    const MasterLight m =
        drizzle(frames, kCanvas, {300, 900, 500}, {workers, default_budget(), silent}, {}, {2, 0.8, DropShape::square});
    const float levels[] = {300, 900, 500};
    for (int p = 0; p < 3; ++p) {
        double most = 0, coverage = 0;
        for (int y = 20; y < 220; ++y)
            for (int x = 20; x < 280; ++x) {
                most = std::max(most, std::abs(static_cast<double>(m.pixels.plane(p)(x, y)) - levels[p]));
                coverage += static_cast<double>(m.coverage.plane(p)(x, y)) / (200 * 260);
            }
        CHECK(most < 15);
        CHECK(coverage == Approx(1).margin(0.02));
    }
    CHECK(m.rejected_high + m.rejected_low < m.samples / 500);
    CHECK(m.expected_noise[1] == Approx(m.expected_noise[0] / std::sqrt(2.0)).epsilon(0.001)); // twice as many samples
    CHECK(m.expected_noise[0] == Approx(2 * 2 * 4 / std::sqrt(30.0)).epsilon(0.01)); // of four, on half the side
    for (const std::size_t p : {std::size_t{0}, std::size_t{1}, std::size_t{2}})
        CHECK(m.noise[p] == Approx(1.04 * m.expected_noise[p]).epsilon(0.08));
}

TEST_CASE("A drizzled stack has the same bytes for any threads and tiles") {
    const auto frames = frames_of(9, 1.5, 5, 12);
    const MasterLight one = drizzled(frames, {2.5, 0.6, DropShape::square}, {}, 1);
    for (const std::uint64_t megabytes : {std::uint64_t{48}, std::uint64_t{2000}}) {
        const Workers workers(2);
        Progress silent;
        const MasterLight other =
            drizzle(frames, kCanvas, {kSky}, {workers, {megabytes << 20}, silent}, {}, {2.5, 0.6, DropShape::square});
        CHECK(same_bytes(one.pixels, other.pixels));
        CHECK(same_bytes(one.coverage, other.coverage));
        CHECK(one.rejected.high.pixels() == other.rejected.high.pixels());
        CHECK(one.samples == other.samples);
        CHECK(one.noise == other.noise);
    }
}

TEST_CASE("Holes are left as such, and what cannot be drizzled is said") {
    // Three frames without dither on a grid three times as fine: drops of a third of a pixel leave gaps.
    std::vector<StackFrame> frames = frames_of(3, 2, 2, 13);
    for (StackFrame& f : frames)
        f.planes[0].to_frame = Affine{};
    const MasterLight m = drizzled(frames, {3, 0.3, DropShape::square});
    const auto& pixels = m.pixels.pixels();
    const auto holes = std::count_if(pixels.begin(), pixels.end(), [](float v) { return std::isnan(v); });
    CHECK(static_cast<double>(holes) / static_cast<double>(pixels.size()) == Approx(8.0 / 9).margin(0.05));
    CHECK_THROWS_AS(drizzled(frames, {4, 0.5, DropShape::square}), UsageError);
    CHECK_THROWS_AS(drizzled(frames, {2, 0, DropShape::square}), UsageError);
    CHECK_THROWS_AS(drizzled(frames, {}, {.combination = Combination::median}), UsageError);
    CHECK_THROWS_AS(drizzled(std::vector<StackFrame>{StackFrame{}}, {2, std::nan(""), DropShape::square}), UsageError);
}

#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/integration/noise_factors.hpp>
#include <kasane/integration/resampler.hpp>
#include <kasane/io/file_planes.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

std::shared_ptr<const PlaneSource> view_of(Image pixels) {
    return std::make_shared<const ImagePlanes>(std::move(pixels));
}

Affine turn(double degrees_, double cx, double cy, double tx, double ty) {
    const double c = std::cos(radians(degrees_)), s = std::sin(radians(degrees_));
    return {c, s, cx - c * cx - s * cy + tx, -s, c, cy + s * cx - c * cy + ty};
}

/// `count` frames of five stars on a flat sky, seen through different transforms.
std::vector<StackFrame> stack(int count, double rotation, double noise, std::uint64_t seed) {
    std::vector<StackFrame> frames;
    sky::Random random(seed);
    for (int f = 0; f < count; ++f) {
        const Affine t = turn(rotation * f, 100, 80, random.uniform(-5, 5), random.uniform(-5, 5));
        Image image(200, 160, 1, 500.0f);
        for (int i = 0; i < 5; ++i) {
            double u = 0, v = 0;
            t.apply(60 + 20 * i, 50 + 15 * i, u, v);
            add_gaussian_star(image, u, v, 50000, 3);
        }
        add_noise(image, noise, seed * 100 + static_cast<std::uint64_t>(f));
        frames.push_back({view_of(std::move(image)), {{t, {}, noise}}, 0});
    }
    return frames;
}

double star_flux(const Image& image, double x, double y) {
    double sum = 0, area = 0;
    for (int j = static_cast<int>(y) - 12; j <= y + 12; ++j)
        for (int i = static_cast<int>(x) - 12; i <= x + 12; ++i) {
            const double share = std::clamp(8.5 - std::hypot(i - x, j - y), 0.0, 1.0);
            sum += share * image(i, j);
            area += share;
        }
    return sum - area * 500;
}

} // namespace

TEST_CASE("Turned and shifted frames meet star on star, and keep the flux") {
    const Quiet quiet;
    const double rotation = GENERATE(0.0, 0.4, 45.0, 180.0);
    const MasterLight m = integrate(stack(8, rotation, 2, 5), {200, 160}, {500}, quiet.context);
    for (int i = 1; i < 4; ++i) {
        double sx = 0, sy = 0, sum = 0;
        for (int y = 50 + 15 * i - 6; y <= 50 + 15 * i + 6; ++y)
            for (int x = 60 + 20 * i - 6; x <= 60 + 20 * i + 6; ++x) {
                const double v = m.pixels(x, y) - 500;
                sum += v;
                sx += v * x;
                sy += v * y;
            }
        CHECK(sx / sum == Approx(60 + 20 * i).margin(0.02));
        CHECK(sy / sum == Approx(50 + 15 * i).margin(0.02));
        // Noise 2 in 200 pixels of 8 frames: 10 ADU of 50000.
        CHECK(star_flux(m.pixels, 60 + 20 * i, 50 + 15 * i) == Approx(50000).epsilon(0.002));
    }
}

TEST_CASE("The result is the same to the byte for any threads, memory and tile size") {
    const auto frames = stack(6, 7.3, 5, 9);
    const Quiet one(1), three(3, 70ull << 20);
    const MasterLight a = integrate(frames, {200, 160}, {500}, one.context);
    const MasterLight b = integrate(frames, {200, 160}, {500}, three.context, {.tile = 37});
    for (std::size_t i = 0; i < a.pixels.pixels().size(); ++i) {
        const float x = a.pixels.pixels()[i], y = b.pixels.pixels()[i];
        REQUIRE((x == y || (std::isnan(x) && std::isnan(y))));
    }
    CHECK(a.coverage.pixels() == b.coverage.pixels());
    CHECK(a.rejected_high == b.rejected_high);
}

TEST_CASE("One frame that does not move passes through unchanged") {
    const Quiet quiet;
    Image image(50, 40, 1, 300.0f);
    add_noise(image, 5, 1);
    const MasterLight m = integrate({{view_of(image), {{{}, {}, 5}}, 0}}, {50, 40}, {300}, quiet.context);
    for (std::size_t i = 0; i < image.pixels().size(); ++i)
        CHECK(m.pixels.pixels()[i] == Approx(image.pixels()[i]).epsilon(1e-5));
}

TEST_CASE("Weights follow the inverse variance at the common level") {
    const Quiet quiet;
    auto frames = stack(3, 0, 4, 2);
    frames[1].planes[0].noise = 8;
    frames[2].planes[0].level.scale.value = 2;
    const MasterLight m = integrate(frames, {200, 160}, {500}, quiet.context);
    CHECK(m.weights[0][0] / m.weights[0][1] == Approx(4));
    CHECK(m.weights[0][0] / m.weights[0][2] == Approx(4));
    CHECK(m.weights[0][0] + m.weights[0][1] + m.weights[0][2] == Approx(1));
}

TEST_CASE("A trail leaves no trace, and is counted") {
    const Quiet quiet;
    auto frames = stack(10, 0.2, 5, 21);
    const MasterLight clean = integrate(frames, {200, 160}, {500}, quiet.context);
    Image image = read_planes(*frames[4].source);
    for (int x = 0; x < 200; ++x)
        for (int y = 78; y <= 80; ++y)
            image(x, y) += 400;
    frames[4].source = view_of(std::move(image));
    const MasterLight m = integrate(frames, {200, 160}, {500}, quiet.context);
    double worst = 0;
    for (int y = 10; y < 150; ++y)
        for (int x = 10; x < 190; ++x)
            worst = std::max<double>(worst, std::abs(m.pixels(x, y) - clean.pixels(x, y)));
    CHECK(worst < 5); // unrejected it would be 40
    CHECK(m.rejected_high > clean.rejected_high + 400);
}

TEST_CASE("Through a lens the result is the same for any tile and threads, and lies where the lens is undone") {
    constexpr int kSide = 300;
    const auto lens = std::make_shared<Lens>();
    lens->centre = {150, 140};
    lens->radius = 210;
    lens->radial = {-0.01, 0.002, 0}; // two pixels at the corner
    const Transform to_frame = Transform({1, 0, 0.3, 0, 1, -0.2, 1e-6, 0, 1}, lens).shifted(0.25, 0.5);
    Image image(kSide, kSide, 1, 500);
    std::vector<Point> stars; // on the canvas
    for (int y = 30; y < kSide - 30; y += 60)
        for (int x = 30; x < kSide - 30; x += 60) {
            stars.push_back({x + 0.37, y + 0.21});
            const Point p = to_frame.map(stars.back());
            add_gaussian_star(image, p.x, p.y, 20000, 3);
        }
    const std::vector<StackFrame> frames{{view_of(image), {{to_frame, {}, 5}}, 0}};
    const Quiet one(1), three(3);
    const MasterLight a = integrate(frames, {kSide, kSide}, {500}, one.context);
    const MasterLight b = integrate(frames, {kSide, kSide}, {500}, three.context, {.tile = 37});
    CHECK(std::equal(a.pixels.pixels().begin(), a.pixels.pixels().end(), b.pixels.pixels().begin(),
                     [](float p, float q) { return p == q || (p != p && q != q); }));
    double worst = 0;
    for (const Point& star : stars) { // centroids over 13 x 13 pixels
        double sum = 0, sx = 0, sy = 0;
        const int cx = static_cast<int>(star.x), cy = static_cast<int>(star.y);
        for (int y = cy - 6; y <= cy + 6; ++y)
            for (int x = cx - 6; x <= cx + 6; ++x) {
                const double v = a.pixels(x, y) - 500.0;
                sum += v, sx += v * x, sy += v * y;
            }
        worst = std::max(worst, std::hypot(sx / sum - star.x, sy / sum - star.y));
    }
    // Without the lens plain centroids in a window stray by 0.02 as well; the lens moves stars by up to two pixels.
    CHECK(worst < 0.04);
}

TEST_CASE("Where no frame reaches there is no data, and coverage says how much there is elsewhere") {
    const Quiet quiet;
    auto frames = stack(4, 0, 3, 3);
    for (auto& f : frames)
        f.planes[0].to_frame = {};
    frames[0].planes[0].to_frame = Affine{1, 0, 100, 0, 1, 0}; // covers the left half of the canvas only
    const MasterLight m = integrate(frames, {260, 160}, {500}, quiet.context);
    CHECK(std::isnan(m.pixels(230, 80)));
    CHECK(m.coverage(230, 80) == 0);
    CHECK(m.coverage(50, 10) == Approx(1).margin(0.26)); // a chance rejection may take a quarter
    CHECK(m.coverage(150, 10) == Approx(0.75).margin(0.26));
    CHECK(m.coverage(150, 10) < 0.76);
}

TEST_CASE("An empty stack is an error") {
    const Quiet quiet;
    CHECK_THROWS_AS(integrate({}, {10, 10}, {0}, quiet.context), DataError);
}

TEST_CASE("The noise factor of resampling is one where nothing moves and less between pixels") {
    CHECK(resampling_noise_factor({}, {500, 400}) == Approx(1));
    CHECK(resampling_noise_factor(Affine{1, 0, 0.5, 0, 1, 0.5}, {500, 400}) == Approx(0.61).margin(0.03));
    Image noise(300, 300);
    add_noise(noise, 10, 6);
    const StackFrame frame{view_of(noise), {{turn(11, 150, 150, 0.3, 0.4), {}, 10}}, 0};
    Image out(200, 200);
    Resampler().resample(frame, {50, 50, 200, 200}, 1e30, {out.plane()});
    double squares = 0;
    for (const float v : out.pixels())
        squares += static_cast<double>(v) * v;
    CHECK(squares / 40000 / 100 == Approx(resampling_noise_factor(frame.planes[0].to_frame, {300, 300})).epsilon(0.04));
}

TEST_CASE("Levels are applied about the middle of the canvas: scale, offset and both tilts") {
    constexpr int kW = 230, kH = 150; // no multiple of a tile
    const double cx = 0.5 * (kW - 1), cy = 0.5 * (kH - 1);
    Image flat(kW, kH, 1, 500.0f), tilted(kW, kH);
    for (int y = 0; y < kH; ++y)
        for (int x = 0; x < kW; ++x)
            tilted(x, y) = static_cast<float>((500 - 40 + 0.31 * (x - cx) - 0.17 * (y - cy)) / 1.25);
    const LevelMap level{{cx, cy}, {1.25, 0, 0, {}}, {40, -0.31, 0.17, {}}};
    const Quiet quiet;
    const std::vector<StackFrame> frames = {{view_of(flat), {{{}, {}, 1}}, 0}, {view_of(tilted), {{{}, level, 1}}, 0}};
    const MasterLight m = integrate(frames, {kW, kH}, {500}, quiet.context);
    double worst = 0;
    for (const float v : m.pixels.pixels())
        if (std::isfinite(v)) worst = std::max(worst, std::abs(v - 500.0));
    CHECK(worst < 0.01); // float's own steps there are 3e-5, the kernel is good to 1e-5
}

TEST_CASE("A stack is combined as asked, and says how") {
    const Quiet quiet;
    const auto frames = stack(7, 0.3, 3, 4);
    const MasterLight usual = integrate(frames, {200, 160}, {500}, quiet.context);
    CHECK_THAT(usual.made.find("combine")->text, Catch::StartsWith("7 frames: mean, rejecting beyond"));
    CHECK_THAT(usual.made.find("combine")->text, Catch::EndsWith("; inverse-variance weights"));
    const IntegrateOptions median{.rejection = NoRejection{}, .combination = Combination::median};
    const MasterLight m = integrate(frames, {200, 160}, {500}, quiet.context, median);
    CHECK(m.made.find("combine")->text == "7 frames: median; inverse-variance weights");
    CHECK(m.rejected_low + m.rejected_high == 0);
    CHECK(m.pixels(100, 80) != usual.pixels(100, 80));
    CHECK(m.pixels(20, 140) == Approx(500).margin(6)); // the noise of a median of seven frames is 1.4
}

TEST_CASE("A file of any kind is a source: what was written is integrated as what was in memory") {
    const Quiet quiet;
    const TemporaryFolder folder;
    auto frames = stack(4, 3.1, 3, 6);
    const MasterLight in_memory = integrate(frames, {200, 160}, {500}, quiet.context);
    for (std::size_t f = 0; f < frames.size(); ++f) {
        const std::filesystem::path file = folder / (std::to_string(f) + ".fits");
        write_fits(file, {{read_planes(*frames[f].source).plane(), {}}});
        frames[f].source = std::make_shared<const FilePlanes>(open_frame(file));
        CHECK(frames[f].source->path() == file);
    }
    const MasterLight from_files = integrate(frames, {200, 160}, {500}, quiet.context);
    for (std::size_t i = 0; i < in_memory.pixels.pixels().size(); ++i) {
        const float a = in_memory.pixels.pixels()[i], b = from_files.pixels.pixels()[i];
        REQUIRE((a == b || (std::isnan(a) && std::isnan(b))));
    }
}

TEST_CASE("A frame that cannot be read on the way is a value in the result") {
    /// Reads well a few times, then no more.
    class Vanishing final : public PlaneSource {
    public:
        explicit Vanishing(Image image) : planes_(std::move(image)) {}
        int planes() const override { return 1; }
        int width() const override { return planes_.width(); }
        int height() const override { return planes_.height(); }
        const std::filesystem::path& path() const override { return path_; }
        void read(const Region& region, std::span<const View<float>> out,
                  std::span<QualityPlane> quality) const override {
            if (++reads_ > 5) throw InputError("has vanished", path_, "Bring it back");
            planes_.read(region, out, quality);
        }

    private:
        ImagePlanes planes_;
        std::filesystem::path path_ = "gone.fits";
        mutable std::atomic<int> reads_{0};
    };
    const Quiet quiet;
    auto frames = stack(5, 0.3, 3, 4);
    const MasterLight without =
        integrate({frames[0], frames[1], frames[2], frames[4]}, {200, 160}, {500}, quiet.context);
    frames[3].source = std::make_shared<const Vanishing>(read_planes(*frames[3].source));
    const MasterLight m = integrate(frames, {200, 160}, {500}, quiet.context, {.tile = 32});
    REQUIRE(m.failure);
    CHECK(m.failure->frame == 3);
    CHECK((m.failure->what.file == "gone.fits" && m.failure->what.what_failed == "has vanished"));
    CHECK_FALSE(m.failure->what.unfit);
    CHECK_FALSE(without.failure);
}

TEST_CASE("The photon noise of what is bright is expected, not rejected") {
    constexpr int kFrames = 12, kSide = 128;
    constexpr double kBright = 20000, kSky = 500, kNoise = 5; // ADU; one electron each
    const auto rejected_share = [&](double electrons_per_adu) {
        std::vector<StackFrame> frames;
        for (int f = 0; f < kFrames; ++f) {
            // Frames of unlike quality: a dim one has more noise of its own once it is scaled up.
            const double scale = f % 2 ? 1 : 2;
            Image image(kSide, kSide, 1, static_cast<float>(kSky + kBright / scale));
            add_noise(image, std::sqrt(kNoise * kNoise + kBright / scale), 900 + static_cast<std::uint64_t>(f));
            const LevelMap level{{}, {scale, 0, 0, {}}, {kSky - scale * kSky, 0, 0, {}}};
            frames.push_back({view_of(std::move(image)), {{{}, level, kNoise}}, electrons_per_adu});
        }
        const Quiet quiet;
        const MasterLight m = integrate(frames, {kSide, kSide}, {kSky}, quiet.context);
        return static_cast<double>(m.rejected_low + m.rejected_high) / static_cast<double>(m.samples);
    };
    const double known = rejected_share(1), unknown = rejected_share(0);
    INFO(known << " " << unknown);
    CHECK(known < 0.004); // a normal distribution has 0.0027 beyond three sigma
    CHECK(unknown > 2 * known);
}

TEST_CASE("Options that make no sense are refused in words") {
    const auto frames = stack(2, 0, 1, 3);
    const Quiet quiet;
    for (const IntegrateOptions& o : {IntegrateOptions{.tile = 0}, IntegrateOptions{.tile = -5},
                                      IntegrateOptions{.ringing_sigmas = -1}, IntegrateOptions{.real_share = 2}})
        CHECK_THROWS_AS(integrate(frames, {200, 160}, {500}, quiet.context, o), UsageError);
    CHECK_THROWS_AS(integrate(frames, {0, 160}, {500}, quiet.context), UsageError);
    CHECK_THROWS_WITH(integrate(frames, {200, 160}, {500}, quiet.context, {.rejection = PairRejection{-1}}),
                      Catch::Contains("more than 0 sigma, not -1"));
    auto wrong = frames;
    wrong[1].planes[0].level.scale.value = 0;
    CHECK_THROWS_WITH(integrate(wrong, {200, 160}, {500}, quiet.context), Catch::Contains("is 0, not above 0"));
}

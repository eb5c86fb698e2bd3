#include "support/support.hpp"

#include <kasane/normalization/levels.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 640, kHeight = 448;

/// A frame of the same 80 stars and a bright cloud of nebula, dimmed by `transparency` over a sky with a slope.
const Canvas kCanvas = reference_canvas(kWidth, kHeight);

LevelInput input(const Measures& m, double seconds = 60) {
    return {&m, {}, seconds, kWidth, kHeight};
}

StackLevels fit(const std::vector<LevelInput>& frames, const LevelOptions& options = {}) {
    const Quiet quiet;
    return fit_stack_levels(frames, kCanvas, quiet.context.workers, options);
}

/// What a frame's value at a place becomes, less what another's does.
double step_between(const StackLevels& l, std::size_t a, double value_a, std::size_t b, double value_b, Point at) {
    return l.maps[a].scale_at(at) * value_a + l.maps[a].offset_at(at) - l.maps[b].scale_at(at) * value_b -
           l.maps[b].offset_at(at);
}

Measures frame(double transparency, double sky, double slope, std::uint64_t seed, double slope_y = 0) {
    Image image(kWidth, kHeight);
    sky::Random random(4);
    for (int i = 0; i < 80; ++i) {
        const double x = random.uniform(20, kWidth - 20), y = random.uniform(20, kHeight - 20);
        add_gaussian_star(image, x, y, transparency * 20000 * std::pow(random.uniform(), -0.8), 3);
    }
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            image(x, y) += static_cast<float>(
                transparency * 400 * std::exp(-(std::pow((x - 250) / 120.0, 2) + std::pow((y - 200) / 90.0, 2))) + sky +
                slope * (x - kWidth / 2) + slope_y * (y - kHeight / 2));
    add_noise(image, 12, seed);
    const auto raw = std::make_shared<MemoryFrame>(std::move(image));
    return measure_exposure(std::make_shared<const CalibratedView>(raw, CalibrationSet{})).main();
}

} // namespace

TEST_CASE("Transparency and sky slope are found from stars and background") {
    const Measures clear = frame(1.0, 800, 0, 1), dim = frame(0.6, 1300, 0.25, 2);
    const StackLevels l = fit({input(clear), input(dim)});
    CHECK(l.scales[1].stars > 40);
    CHECK(l.maps[1].scale.value / l.maps[0].scale.value == Approx(1 / 0.6).epsilon(0.01));
    CHECK(l.scales[1].error < 0.005);
    // Where the sky is bare both come to the same. A tenth of the noise of a frame is 1.2 ADU.
    for (const Point at : {Point{560, 60}, Point{600, 400}, Point{60, 420}})
        CHECK(step_between(l, 0, 800, 1, 1300 + 0.25 * (at.x - kWidth / 2), at) == Approx(0).margin(1.5));
}

TEST_CASE("Cells of another size at the end of a frame tell the sky in their own middle") {
    // 476 rows are seven cells of 64, the last one of 92. The lower edge of one frame is the upper one of the other.
    constexpr int kOdd = kHeight + 28;
    constexpr double kSlope = 0.5;
    const auto glow = [&](double y) { return 800 + kSlope * (y - kOdd / 2); };
    std::vector<Measures> frames(2);
    for (std::size_t k = 0; k < 2; ++k) {
        Image image(kWidth, kOdd);
        for (int y = 0; y < kOdd; ++y)
            std::fill_n(image.plane().row(y), kWidth, static_cast<float>(glow(y)));
        add_noise(image, 4, 70 + k);
        const auto raw = std::make_shared<MemoryFrame>(std::move(image));
        frames[k] = measure_exposure(std::make_shared<const CalibratedView>(raw, CalibrationSet{})).main();
    }
    const Transform turned(Affine{-1, 0, kWidth - 1, 0, -1, kOdd - 1});
    const Quiet quiet;
    const StackLevels l = fit_stack_levels({{&frames[0], {}, 60, kWidth, kOdd}, {&frames[1], turned, 60, kWidth, kOdd}},
                                           reference_canvas(kWidth, kOdd), quiet.context.workers, {});
    for (const double y : {5.0, 100.0, 400.0, 470.0})
        CHECK(step_between(l, 0, glow(y), 1, glow(kOdd - 1 - y), {300, y}) == Approx(0).margin(1));
}

TEST_CASE("A single frame stays as it is") {
    const Measures alone = frame(1.0, 800, 0, 1);
    const StackLevels l = fit({input(alone)});
    CHECK(l.maps[0].scale.value == 1);
    CHECK(l.maps[0].offset_at({100, 100}) == Approx(0).margin(1e-9));
    CHECK(l.background == Approx(alone.background).epsilon(0.02));
}

TEST_CASE("Without common stars the exposure times give the scale") {
    Measures reference = frame(1.0, 800, 0, 1), other = frame(1.0, 800, 0, 2);
    other.stars.clear();
    const StackLevels l = fit({input(reference, 60), input(other, 120)});
    CHECK(l.maps[1].scale.value / l.maps[0].scale.value == Approx(0.5));
    CHECK(l.scales[1].stars == 0);
}

TEST_CASE("What all frames show stays: only differences are taken away") {
    // A nebula that fills the field, the same in all; gradients that differ, and are gone from all differences.
    std::vector<Measures> frames;
    std::vector<LevelInput> inputs;
    const double slopes[] = {0.1, -0.15, 0.2, -0.05, 0.12};
    for (std::size_t k = 0; k < 5; ++k)
        frames.push_back(frame(1.0, 800 + 40 * static_cast<double>(k), slopes[k], 10 + k));
    for (const Measures& m : frames)
        inputs.push_back(input(m));
    const StackLevels l = fit(inputs);
    // The level is a mean of frames, so each one's offset is the negative of how far it lies from that mean.
    for (const Point at : {Point{100, 100}, Point{320, 224}, Point{600, 400}}) {
        double mean = 0;
        for (std::size_t k = 0; k < 5; ++k)
            mean += l.shares[k] * l.maps[k].offset_at(at) / l.maps[k].scale.value;
        CHECK(mean == Approx(0).margin(0.01));
        for (std::size_t k = 1; k < 5; ++k)
            CHECK(step_between(l, k, 800 + 40 * static_cast<double>(k) + slopes[k] * (at.x - kWidth / 2), 0,
                               800 + slopes[0] * (at.x - kWidth / 2), at) == Approx(0).margin(2.5));
    }
}

TEST_CASE("The level is as flat as the best frames together allow") {
    std::vector<Measures> frames;
    for (const double slope : {0.3, 0.25, -0.2, 0.28})
        frames.push_back(frame(1.0, 800, slope, 30 + frames.size()));
    std::vector<LevelInput> inputs;
    for (const Measures& m : frames)
        inputs.push_back(input(m));
    const StackLevels l = fit(inputs);
    CHECK(l.steepest > 150);              // 0.3 ADU a pixel over 640 pixels, and the nebula's own
    CHECK(l.gradient < 0.3 * l.steepest); // slopes of both signs cancel
    CHECK(l.shares[2] > 0.3);             // the only one that leans the other way
    double sum = 0;
    for (const double s : l.shares)
        sum += s;
    CHECK(sum == Approx(1));
}

TEST_CASE("A model takes away no more than it says") {
    const Measures clear = frame(1.0, 800, 0, 1), dim = frame(0.6, 1300, 0.25, 2);
    const std::vector<LevelInput> both = {input(clear), input(dim)};
    const StackLevels none = fit(both, {.model = LevelModel::none}), scale = fit(both, {.model = LevelModel::scale}),
                      offset = fit(both, {.model = LevelModel::offset}),
                      planes = fit(both, {.model = LevelModel::planes});
    CHECK(none.maps[1] == LevelMap{kCanvas.centre(), {1, 0, 0, {}}, {}});
    CHECK(scale.maps[1].scale.value > 1.2 * scale.maps[0].scale.value);
    CHECK(scale.maps[1].offset == SmoothMap{});
    CHECK((offset.maps[1].offset.value != 0 && offset.maps[1].offset.slope_x == 0));
    CHECK((planes.maps[1].offset.slope_x != 0 && planes.maps[1].offset.lattice.empty()));
    for (const std::string_view name : {"none", "scale", "offset", "planes", "local"})
        CHECK(level_model_name(*level_model_named(name)) == name);
    CHECK(!level_model_named("everything"));
}

TEST_CASE("A sky that bends is followed, smoothly") {
    Measures flat = frame(1.0, 800, 0, 1), bent = frame(1.0, 800, 0, 2);
    const auto bend = [](double x, double y) {
        return 60 * std::exp(-(std::pow((x - 480) / 150.0, 2) + std::pow((y - 330) / 150.0, 2)));
    };
    SkyMeans& means = bent.mesh.means;
    for (int j = 0; j < means.values.height(); ++j)
        for (int i = 0; i < means.values.width(); ++i)
            means.values(i, j) += static_cast<float>(bend((i + 0.5) * means.cell, (j + 0.5) * means.cell));
    const StackLevels l = fit({input(flat), input(bent)});
    const StackLevels planes = fit({input(flat), input(bent)}, {.model = LevelModel::planes});
    double worst = 0, worst_plane = 0;
    for (double y = 40; y < kHeight - 40; y += 23)
        for (double x = 40; x < kWidth - 40; x += 23) {
            worst = std::max(worst, std::abs(step_between(l, 0, 800, 1, 800 + bend(x, y), {x, y})));
            worst_plane = std::max(worst_plane, std::abs(step_between(planes, 0, 800, 1, 800 + bend(x, y), {x, y})));
        }
    CHECK(worst < 5); // of 60; a mean around a place is flatter than what bends there
    CHECK(worst_plane > 25);
}

TEST_CASE("What bends within a cell is the same sky to frames that lie differently") {
    // A small bright cloud, frames moved by parts of a cell, in each of which its cells lie elsewhere on it.
    constexpr int kFrames = 6;
    const auto cloud = [](double x, double y) {
        return 500 * std::exp(-(std::pow((x - 300) / 45.0, 2) + std::pow((y - 210) / 40.0, 2)));
    };
    std::vector<Measures> frames;
    std::vector<LevelInput> inputs;
    for (int k = 0; k < kFrames; ++k) {
        Image image(kWidth, kHeight, 1, 800.0f);
        for (int y = 0; y < kHeight; ++y)
            for (int x = 0; x < kWidth; ++x)
                image(x, y) += static_cast<float>(cloud(x - 5.0 * k, y - 4.0 * k));
        add_noise(image, 6, 90 + static_cast<std::uint64_t>(k));
        const auto raw = std::make_shared<MemoryFrame>(std::move(image));
        frames.push_back(measure_exposure(std::make_shared<const CalibratedView>(raw, CalibrationSet{})).main());
    }
    for (int k = 0; k < kFrames; ++k) {
        inputs.push_back(input(frames[static_cast<std::size_t>(k)]));
        inputs.back().to_frame = Transform(Affine{1, 0, 5.0 * k, 0, 1, 4.0 * k});
    }
    const StackLevels l = fit(inputs);
    for (int k = 1; k < kFrames; ++k)
        for (double y = 60; y < kHeight - 60; y += 23)
            for (double x = 60; x < kWidth - 60; x += 23)
                CHECK(step_between(l, 0, 800, static_cast<std::size_t>(k), 800, {x, y}) == Approx(0).margin(0.6));
}

TEST_CASE("In a corner that two of the frames show, they agree as well as in the middle") {
    // A lamp beyond the corner shines into one frame; the other that shows it reaches a little less far.
    const auto lamp = [](double x, double y) {
        return 300 * std::exp(-(std::pow(x - 700, 2) + std::pow(y + 40, 2)) / (2 * 280.0 * 280.0));
    };
    const auto dithered = [&](std::size_t k) {
        return k < 2 ? 4.0 * static_cast<double>(k) : 90 + 5.0 * static_cast<double>(k);
    };
    constexpr std::size_t kFrames = 6;
    std::vector<Measures> frames(kFrames);
    std::vector<LevelInput> inputs;
    for (std::size_t k = 0; k < kFrames; ++k) {
        Image image(kWidth, kHeight);
        for (int y = 0; y < kHeight; ++y)
            for (int x = 0; x < kWidth; ++x)
                image(x, y) = static_cast<float>(800 + (k == 0 ? lamp(x, y) : 0));
        add_noise(image, 12, 40 + k);
        const auto raw = std::make_shared<MemoryFrame>(std::move(image));
        frames[k] = measure_exposure(std::make_shared<const CalibratedView>(raw, CalibrationSet{})).main();
        inputs.push_back({&frames[k], Transform(Affine{1, 0, dithered(k), 0, 1, 0}), 60, kWidth, kHeight});
    }
    const StackLevels l = fit(inputs);
    for (const Point at : {Point{630, 12}, Point{620, 40}, Point{600, 20}, Point{560, 60}, Point{300, 200}})
        CHECK(step_between(l, 0, 800 + lamp(at.x, at.y), 1, 800, at) == Approx(0).margin(2.4)); // a fifth of the noise
}

TEST_CASE("A region of sky alone tells the offsets where it is given") {
    // The second frame's lower half is lit by something that changes: a landscape.
    Measures clear = frame(1.0, 800, 0, 1), lit = frame(1.0, 830, 0, 2);
    Image& means = lit.mesh.means.values;
    for (int j = means.height() / 2; j < means.height(); ++j)
        for (int i = 0; i < means.width(); ++i)
            means(i, j) += 300;
    LevelOptions o;
    o.model = LevelModel::offset;
    o.sky = {0, 0, kWidth, kHeight / 2 - 64};
    const StackLevels l = fit({input(clear), input(lit)}, o);
    CHECK(step_between(l, 0, 800, 1, 830, {320, 60}) == Approx(0).margin(1.5));
}

TEST_CASE("Frames that overlap in a narrow strip are brought to one offset, without a tilt across it") {
    // One row of places only is common to both, which tells of no tilt in y.
    constexpr int kWide = 1280, kHigh = 448, kCell = 64, kShift = 348;
    const auto even = [](float level) {
        Measures m;
        m.noise = 5;
        m.mesh.cell = kCell;
        m.mesh.level = Image(kWide / kCell, kHigh / kCell, 1, level);
        m.mesh.sigma = Image(kWide / kCell, kHigh / kCell, 1, 5.0f);
        m.mesh.global_level = level;
        return m;
    };
    const Measures reference = even(800), other = even(850);
    const Quiet quiet;
    const StackLevels l = fit_stack_levels(
        {{&reference, {}, 60, kWide, kHigh}, {&other, Affine{1, 0, 0, 0, 1, -kShift}, 60, kWide, kHigh}},
        reference_canvas(kWide, kHigh), quiet.context.workers);
    for (const LevelMap& map : l.maps)
        CHECK(map.check().empty());
    CHECK(step_between(l, 0, 800, 1, 850, {640, 400}) == Approx(0).margin(0.5));
    CHECK(step_between(l, 0, 800, 1, 850, {40, 380}) == Approx(0).margin(0.5));
}

TEST_CASE("Frames that show nothing in common are left with their own sky") {
    const Measures a = frame(1.0, 800, 0, 1), b = frame(1.0, 850, 0, 2);
    const Quiet quiet;
    const StackLevels l =
        fit_stack_levels({{&a, {}, 60, kWidth, kHeight}, {&b, Affine{1, 0, 5000, 0, 1, 0}, 60, kWidth, kHeight}},
                         kCanvas, quiet.context.workers);
    for (const LevelMap& map : l.maps)
        CHECK(map.check().empty());
    CHECK(l.maps[0].offset_at({300, 200}) == Approx(0).margin(1e-6));
    CHECK(l.maps[1].offset_at({300, 200}) == Approx(a.background - b.background).margin(0.01));
}

TEST_CASE("Frames too small for a mesh, or covered by stars, are levelled by their backgrounds") {
    const auto small = [](float level) {
        Measures m;
        m.noise = 5, m.background = level;
        m.mesh = {Image(1, 1, 1, level), Image(1, 1, 1, 5.0f), 64, {}, level, 5};
        return m;
    };
    const Measures a = small(800), b = small(860);
    const Quiet quiet;
    const StackLevels l =
        fit_stack_levels({{&a, {}, 60, 50, 40}, {&b, {}, 60, 50, 40}}, reference_canvas(50, 40), quiet.context.workers);
    CHECK(step_between(l, 0, 800, 1, 860, {20, 20}) == Approx(0).margin(1e-6));
    CHECK(l.background > 790);
    Measures clear = frame(1.0, 800, 0, 1), covered = frame(1.0, 850, 0, 2);
    for (float& v : covered.mesh.means.values.pixels())
        v = NAN;
    const StackLevels c = fit({input(clear), input(covered)});
    CHECK(step_between(c, 0, 800, 1, 850, {560, 60}) == Approx(0).margin(3));
    CHECK_THROWS_WITH(fit({input(clear)}, {.sky = {5000, 0, 10, 10}}), Catch::Contains("outside of the canvas"));
}

TEST_CASE("Levels are the same for any number of threads") {
    std::vector<Measures> frames;
    for (const double slope : {0.3, -0.1, 0.2})
        frames.push_back(frame(1.0, 800, slope, 50 + frames.size()));
    std::vector<LevelInput> inputs;
    for (const Measures& m : frames)
        inputs.push_back(input(m));
    const Workers one(1), three(3);
    CHECK(fit_stack_levels(inputs, kCanvas, one) == fit_stack_levels(inputs, kCanvas, three));
}

TEST_CASE("Panels in a row meet without steps, and nothing adds up from one to the next") {
    constexpr int kPanels = 5, kStep = 540; // pixels from panel to panel
    // The sky of all of them: stars, and a cloud in the middle.
    const auto glow = [&](double x, double y) {
        return 300 * std::exp(-(std::pow((x - 1400) / 500.0, 2) + std::pow((y - 200) / 150.0, 2)));
    };
    const double transparency[] = {1, 0.8, 0.95, 0.7, 0.9}, sky[] = {800, 1300, 700, 1000, 900},
                 slope[] = {0.1, 0.1, 0.12, 0.08, 0.1}; // all of them brighten to the right
    std::vector<Measures> frames;
    std::vector<LevelInput> inputs;
    for (int k = 0; k < kPanels; ++k) {
        Image image(kWidth, kHeight);
        sky::Random random(4);
        for (int i = 0; i < 700; ++i) {
            const double x = random.uniform(0, kStep * kPanels + 200.0) - k * kStep, y = random.uniform(0, kHeight);
            const double flux = transparency[k] * 15000 * std::pow(random.uniform(), -0.8);
            if (x > -20 && x < kWidth + 20) add_gaussian_star(image, x, y, flux, 3);
        }
        for (int y = 0; y < kHeight; ++y)
            for (int x = 0; x < kWidth; ++x)
                image(x, y) +=
                    static_cast<float>(transparency[k] * glow(x + k * kStep, y) + sky[k] + slope[k] * (x - kWidth / 2));
        add_noise(image, 12, 90 + static_cast<std::uint64_t>(k));
        const auto raw = std::make_shared<MemoryFrame>(std::move(image));
        frames.push_back(measure_exposure(std::make_shared<const CalibratedView>(raw, CalibrationSet{})).main());
    }
    for (int k = 0; k < kPanels; ++k)
        inputs.push_back({&frames[static_cast<std::size_t>(k)], Transform(Affine{1, 0, -1.0 * k * kStep, 0, 1, 0}), 60,
                          kWidth, kHeight});
    const Canvas canvas = reference_canvas(kStep * (kPanels - 1) + kWidth, kHeight);
    const Quiet quiet;
    const StackLevels l = fit_stack_levels(inputs, canvas, quiet.context.workers, {});
    const auto sky_of = [&](int k, Point at) { // as the frame shows it, without noise
        return transparency[k] * glow(at.x, at.y) + sky[k] + slope[k] * (at.x - k * kStep - kWidth / 2);
    };
    const auto level_of = [&](int k, Point at) {
        const LevelMap& m = l.maps[static_cast<std::size_t>(k)];
        return m.scale_at(at) * sky_of(k, at) + m.offset_at(at);
    };
    for (int k = 0; k + 1 < kPanels; ++k) {
        const StarScale& told = l.scales[static_cast<std::size_t>(k)];
        CHECK(told.stars > 5);
        for (const double y : {60.0, 220.0, 400.0}) { // a tenth of a frame's noise is 1.2 ADU, once scaled 1.7
            const Point at{kStep * (k + 1) + 0.5 * (kWidth - kStep), y};
            CHECK(level_of(k, at) == Approx(level_of(k + 1, at)).margin(1.7));
        }
    }
    // From end to end: what every panel brightens by is not carried on, and nothing bends.
    const double scale = l.maps[0].scale.value;
    std::vector<double> beyond;
    for (int k = 0; k < kPanels; ++k) {
        const Point middle{kStep * k + 0.5 * kWidth, 400};
        beyond.push_back(level_of(k, middle) - scale * glow(middle.x, middle.y));
    }
    CHECK(beyond.back() - beyond.front() == Approx(0).margin(40)); // 216 would be its slope
    for (int k = 1; k + 1 < kPanels; ++k)
        CHECK(beyond[static_cast<std::size_t>(k)] ==
              Approx(beyond.front() + 0.25 * k * (beyond.back() - beyond.front())).margin(12));
}

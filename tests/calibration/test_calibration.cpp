#include "support/support.hpp"
#include "support/unsteady_frame.hpp"

#include <kasane/base/error.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/calibration/master.hpp>
#include <kasane/calibration/master_frame.hpp>
#include <kasane/calibration/master_window.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/sky/instrument.hpp>
#include <kasane/sky/random.hpp>

#include <atomic>
#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

using Frames = std::vector<std::shared_ptr<const FrameReader>>;

std::shared_ptr<const FrameReader> memory(Image image) {
    return std::make_shared<MemoryFrame>(std::move(image));
}

Image noisy(int width, int height, float level, double sigma, std::uint64_t seed) {
    Image image(width, height, 1, level);
    add_noise(image, sigma, seed);
    return image;
}

double rms(const Image& image, double around) {
    double squares = 0;
    for (const float v : image.pixels())
        squares += (v - around) * (v - around);
    return std::sqrt(squares / static_cast<double>(image.pixels().size()));
}

} // namespace

TEST_CASE("A scaled dark leaves the bias whole, a constant stands in where there is neither") {
    // 100 of bias everywhere; the dark of 300 s holds 60 more in one corner; the light of 100 s a third of that.
    Image raw(20, 20, 1, 1100.0f), dark(20, 20, 1, 100.0f);
    raw(3, 4) += 20;
    dark(3, 4) += 60;
    CalibrationSet set{.dark = memory(dark), .bias = memory(Image(20, 20, 1, 100.0f)), .dark_scale = 1.0f / 3};
    const CalibratedView view(memory(raw), set);
    Image out(20, 20);
    view.read(view.bounds(), out.plane());
    CHECK(out(3, 4) == Approx(1000));
    CHECK(out(10, 10) == Approx(1000));
    const CalibratedView constant(memory(raw), {.offset_level = 100});
    constant.read(constant.bounds(), out.plane());
    CHECK(out(10, 10) == 1000);
}

TEST_CASE("A master dark has the noise of the mean and no cosmic rays") {
    const Quiet quiet;
    constexpr int kFrames = 16;
    Frames frames;
    sky::Random random(5);
    for (int f = 0; f < kFrames; ++f) {
        Image image = noisy(200, 150, 500, 4, 100 + static_cast<std::uint64_t>(f));
        for (int hit = 0; hit < 60; ++hit)
            image(static_cast<int>(random.uniform(0, 200)), static_cast<int>(random.uniform(0, 150))) += 3000;
        frames.push_back(memory(std::move(image)));
    }
    const MasterResult m = build_master(Role::dark, frames, nullptr, quiet.context);
    CHECK(m.frames == kFrames);
    CHECK(m.frame_noise == Approx(4).epsilon(0.03));
    CHECK(m.level == Approx(500).margin(0.2));
    // 30000 pixels: the spread is known to 0.4 %; rejection may cost a little.
    CHECK(rms(m.pixels, 500) < 1.03 * 4 / std::sqrt(kFrames));
    CHECK(m.rejected_share == Approx(60.0 / 30000).epsilon(0.6));
}

TEST_CASE("Flats of very different levels make one flat of mean one, stars and offset removed") {
    const Quiet quiet;
    Image pattern(160, 120);
    for (int y = 0; y < 120; ++y)
        for (int x = 0; x < 160; ++x)
            pattern(x, y) =
                1.0f - 0.3f * static_cast<float>(std::pow((x - 80) / 100.0, 2) + std::pow((y - 60) / 100.0, 2));
    const auto offset = memory(Image(160, 120, 1, 300.0f));
    Frames frames;
    for (int f = 0; f < 12; ++f) {
        Image image = pattern;
        for (float& v : image.pixels())
            v = 300 + v * static_cast<float>(8000 + 2000 * f); // twilight falls
        add_noise(image, 40, static_cast<std::uint64_t>(f));
        add_gaussian_star(image, 20 + 10 * f, 30 + 5 * f, 200000, 3); // and stars come out, dithered
        frames.push_back(memory(std::move(image)));
    }
    const MasterResult m = build_master(Role::flat, frames, offset.get(), quiet.context);
    double sum = 0, truth = 0;
    for (std::size_t i = 0; i < m.pixels.pixels().size(); ++i) {
        sum += m.pixels.pixels()[i];
        truth += pattern.pixels()[i];
    }
    const auto n = static_cast<double>(m.pixels.pixels().size());
    CHECK(sum / n == Approx(1).margin(1e-4));
    double worst = 0;
    for (std::size_t i = 0; i < m.pixels.pixels().size(); ++i)
        worst = std::max(worst, std::abs(m.pixels.pixels()[i] / (pattern.pixels()[i] / (truth / n)) - 1));
    CHECK(worst < 0.012); // noise of a frame 0.4 % to 0.2 %, of the mean about 0.1 %, the largest of 19200
}

TEST_CASE("Masters refuse frames of two sizes, and flats without light") {
    const Quiet quiet;
    const MasterResult sizes =
        build_master(Role::bias, {memory(Image(10, 10)), memory(Image(10, 11))}, nullptr, quiet.context);
    REQUIRE(sizes.failure);
    CHECK((sizes.failure->what.unfit && sizes.pixels.empty()));
    const MasterResult black = build_master(
        Role::flat, {memory(noisy(50, 50, 0, 3, 1)), memory(noisy(50, 50, 0, 3, 2))}, nullptr, quiet.context);
    REQUIRE(black.failure);
    CHECK_THAT(black.failure->what.what_failed, Catch::Contains("no light"));
    CHECK_THROWS_AS(black.failure->what.raise(), UnfitError);
    CHECK_THROWS_AS(build_master(Role::dark, {}, nullptr, quiet.context), DataError);
}

TEST_CASE("Flats in any unit are flats") {
    const Quiet quiet;
    Frames frames;
    for (int f = 0; f < 6; ++f)
        frames.push_back(memory(noisy(80, 60, 0.5f, 0.002, static_cast<std::uint64_t>(f)))); // of full scale 1
    CHECK(build_master(Role::flat, frames, nullptr, quiet.context).pixels(40, 30) == Approx(1).margin(0.01));
}

TEST_CASE("A master flat of any level divides as one of mean one") {
    const CalibratedView view(memory(Image(20, 20, 1, 500.0f)),
                              {nullptr, memory(Image(20, 20, 1, 30000.0f)), {30000.0f, 30000.0f, 30000.0f}, nullptr});
    Image out(20, 20);
    view.read(view.bounds(), out.plane());
    CHECK(out(7, 7) == Approx(500));
}

TEST_CASE("A corner that gets a fifth of the light is calibrated, what gets next to none is made of its neighbours") {
    Image flat(20, 20, 1, 1.0f);
    flat(3, 4) = 0.2f;
    flat(5, 6) = 0.01f;
    const CalibratedView view(memory(Image(20, 20, 1, 100.0f)),
                              {nullptr, memory(std::move(flat)), {1.0f, 1.0f, 1.0f}, nullptr});
    Image out(20, 20);
    view.read(view.bounds(), out.plane());
    CHECK(out(7, 7) == Approx(100));
    CHECK(out(3, 4) == Approx(500));
    CHECK(out(5, 6) == Approx(100));
}

TEST_CASE("A master does not depend on threads or memory") {
    const Quiet one(1), three(3, 70ull << 20);
    Frames frames;
    for (int f = 0; f < 9; ++f)
        frames.push_back(memory(noisy(130, 310, 500, 5, static_cast<std::uint64_t>(f))));
    CHECK(build_master(Role::dark, frames, nullptr, one.context).pixels.pixels() ==
          build_master(Role::dark, frames, nullptr, three.context).pixels.pixels());
}

TEST_CASE("The simulator's hot and dead pixels are found, and little else") {
    sky::Instrument n;
    n.width = 400;
    n.height = 300;
    n.offset_pattern = 2;
    const sky::InstrumentMaps maps = sky::make_maps(n);
    Image dark(400, 300), flat = maps.illumination;
    for (std::size_t i = 0; i < dark.pixels().size(); ++i)
        dark.pixels()[i] = maps.offset.pixels()[i] + 300 * maps.dark.pixels()[i] / static_cast<float>(n.gain);
    add_noise(dark, 1, 3);
    const DefectList found = find_defects(memory(dark).get(), 4.0, memory(flat).get());
    int strong = 0, caught = 0, all = 0;
    for (int y = 0; y < 300; ++y)
        for (int x = 0; x < 400; ++x) {
            const bool bad =
                maps.defects(x, y) == 2 || (maps.defects(x, y) == 1 && 300 * maps.dark(x, y) / n.gain > 300);
            strong += bad;
            caught += bad && found.contains(x, y);
            all += maps.defects(x, y) != 0;
        }
    CHECK(strong > 50);
    CHECK(caught == strong);
    CHECK(static_cast<int>(found.size()) <= all + 5);
}

TEST_CASE("The calibrated view undoes offset, illumination and defects, the same for any rectangle") {
    Image truth = noisy(90, 70, 1000, 3, 1), raw(90, 70), dark = noisy(90, 70, 500, 2, 2), flat(90, 70);
    Mask mask(90, 70);
    for (int y = 0; y < 70; ++y)
        for (int x = 0; x < 90; ++x) {
            flat(x, y) = 1.2f - 0.004f * static_cast<float>(x);
            raw(x, y) = truth(x, y) * flat(x, y) + dark(x, y);
        }
    for (const auto& [x, y] : {std::pair{0, 0}, {40, 30}, {41, 30}, {89, 69}, {44, 31}}) {
        raw(x, y) = 60000;
        mask(x, y) = 1;
    }
    const CalibratedView view(memory(raw),
                              {memory(dark), memory(flat), {1, 1, 1}, std::make_shared<const DefectList>(mask)});
    Image whole(90, 70);
    view.read(view.bounds(), whole.plane());
    for (int y = 0; y < 70; ++y)
        for (int x = 0; x < 90; ++x) {
            if (mask(x, y))
                CHECK(whole(x, y) == Approx(1000).margin(10)); // a median of neighbours with noise 3
            else
                CHECK(whole(x, y) == Approx(truth(x, y)).epsilon(1e-5));
        }
    for (const Region r : {Region{40, 30, 2, 2}, Region{0, 0, 45, 31}, Region{44, 31, 46, 39}}) {
        Image part(r.width, r.height);
        view.read(r, part.plane());
        for (int y = 0; y < r.height; ++y)
            for (int x = 0; x < r.width; ++x)
                CHECK(part(x, y) == whole(r.x + x, r.y + y));
    }
}

TEST_CASE("Lights read one after another around one place come out as each alone, to the bit") {
    const auto dark = memory(noisy(200, 160, 100, 5, 1)), other_dark = memory(noisy(200, 160, 120, 5, 2)),
               bias = memory(noisy(200, 160, 90, 2, 3));
    Image response(200, 160, 1, 0);
    for (int y = 0; y < 160; ++y)
        for (int x = 0; x < 200; ++x)
            response(x, y) =
                x == 70 && y == 80 ? 0.001f : 1.3f - 0.003f * static_cast<float>(x) + (x % 2 ? 0.2f : 0.0f);
    const auto flat = memory(response);
    const CfaPattern cfa("RGGB");
    const std::vector<CalibrationSet> sets = {
        {.dark = dark, .flat = flat},
        {.dark = dark, .flat = flat, .bias = bias, .dark_scale = 0.4f},
        {.dark = dark, .flat = flat, .bias = bias, .dark_scale = 0.7f},
        {.dark = dark, .flat = flat, .second_dark = other_dark, .second_share = 0.3f},
        {.dark = dark, .flat = flat, .flat_level = {1.1f, 0.9f, 1.2f}, .cfa = cfa},
        {.flat = flat},
        {.dark = other_dark},
        {}};
    std::unique_ptr<ReadMemory> memory_of_reads;
    int repaired = 0;
    const std::vector<Region> regions = {
        {40, 50, 64, 48}, {46, 41, 64, 48}, {90, 100, 64, 48}, {0, 0, 30, 20}, {150, 120, 50, 40}};
    const auto compare = [&](std::size_t k, const Region& r) {
        const FrameView view(std::make_shared<const CalibratedView>(
            memory(noisy(200, 160, 1000, 20, 10 + static_cast<std::uint64_t>(k))), sets[k]));
        Image alone(r.width, r.height), along(r.width, r.height);
        std::vector<QualityPlane> quality(1);
        view.read(r, views_of(alone), {});
        view.read_along(r, views_of(along), quality, memory_of_reads);
        CHECK(alone.pixels() == along.pixels());
        if (sets[k].dark || sets[k].flat) { // and by what the masters do to the whole frame
            CalibrationSet known = sets[k];
            const auto raw = view.source().shared_raw();
            known.prepared = std::make_shared<const MasterFrame>(known, *raw);
            Image prepared(r.width, r.height);
            FrameView(std::make_shared<const CalibratedView>(raw, known)).read(r, views_of(prepared), {});
            CHECK(alone.pixels() == prepared.pixels());
        }
        quality[0].for_each([&](int, int, quality::Bits) { ++repaired; });
    };
    for (std::size_t k = 0; k < sets.size(); ++k) // the same masters at other places
        for (const Region& r : regions)
            compare(k, r);
    for (const Region& r : regions) // other masters at the same place
        for (std::size_t k = 0; k < sets.size(); ++k)
            compare(k, r);
    CHECK(repaired > 0);
}

TEST_CASE("A master that cannot be read leaves nothing wrong behind for the next light") {
    const auto flat = std::make_shared<test::UnsteadyFrame>(noisy(64, 64, 1, 0.01, 2));
    const CalibratedView view(memory(noisy(64, 64, 1000, 20, 3)),
                              {.dark = memory(noisy(64, 64, 100, 5, 1)), .flat = flat});
    MasterWindow window(0);
    Image first(32, 32), again(32, 32), alone(32, 32);
    const Region here{0, 0, 32, 32}, there{8, 8, 32, 32};
    view.read(here, first.plane(), 0, nullptr, &window);
    flat->gone = true;
    CHECK_THROWS_AS(view.read(there, again.plane(), 0, nullptr, &window), InputError);
    CHECK_THROWS_AS(view.read(here, again.plane(), 0, nullptr, &window), InputError); // half of it is of elsewhere
    flat->gone = false;
    for (const Region& r : {there, here}) {
        view.read(r, again.plane(), 0, nullptr, &window);
        view.read(r, alone.plane());
        CHECK(again.pixels() == alone.pixels());
    }
}

TEST_CASE("What other masters do to a frame is refused") {
    const auto raw = memory(noisy(60, 40, 1000, 20, 1)), dark = memory(noisy(60, 40, 100, 5, 2)),
               other = memory(noisy(60, 40, 100, 5, 3));
    CalibrationSet set{.dark = dark};
    set.prepared = std::make_shared<const MasterFrame>(set, *raw);
    CHECK_NOTHROW(CalibratedView(raw, set));
    set.dark = other;
    CHECK_THROWS_AS(CalibratedView(raw, set), UsageError);
}

TEST_CASE("Masters of another size cannot calibrate") {
    CHECK_THROWS_WITH(CalibratedView(memory(Image(10, 10)), {memory(Image(10, 9)), nullptr, {1, 1, 1}, nullptr}),
                      Catch::Contains("cannot calibrate"));
}

TEST_CASE("A scaled dark and a mixture of two are taken exactly") {
    constexpr float kBias = 1000;
    Image raw(16, 12), dark(16, 12), second(16, 12), bias(16, 12, 1, kBias);
    for (int y = 0; y < 12; ++y)
        for (int x = 0; x < 16; ++x) {
            dark(x, y) = kBias + 7.0f * static_cast<float>(x);
            second(x, y) = kBias + 3.0f * static_cast<float>(y);
            raw(x, y) = 5000;
        }
    CalibrationSet scaled;
    scaled.dark = memory(dark);
    scaled.bias = memory(bias);
    scaled.dark_scale = 0.6f;
    CalibrationSet mixed;
    mixed.dark = memory(dark);
    mixed.second_dark = memory(second);
    mixed.second_share = 0.35f;
    const CalibratedView a(memory(raw), scaled), b(memory(raw), mixed);
    Image left(16, 12), right(16, 12);
    a.read(a.bounds(), left.plane());
    b.read(b.bounds(), right.plane());
    double worst = 0;
    for (int y = 0; y < 12; ++y)
        for (int x = 0; x < 16; ++x) {
            worst = std::max(worst, std::abs(left(x, y) - (5000.0 - kBias - 0.6 * 7 * x)));
            worst = std::max(worst, std::abs(right(x, y) - (5000.0 - kBias - 0.65 * 7 * x - 0.35 * 3 * y)));
        }
    CHECK(worst < 0.002); // steps of float at 5000: 0.0005
}

TEST_CASE("Building a master tells how far it is by the pixels that it has made") {
    class Count final : public Progress {
    public:
        void advance(std::int64_t units) override { done += units; }
        std::atomic<std::int64_t> done{0};
    } progress;
    Frames frames;
    for (std::uint64_t i = 0; i < 5; ++i)
        frames.push_back(memory(noisy(90, 70, 500, 10, i)));
    const Workers workers(2);
    build_master(Role::dark, frames, nullptr, {workers, {1u << 20}, progress});
    CHECK(progress.done == 90 * 70);
}

// What single lights need beside their masters, and what they tell of their masters.
#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/calibration/dark_fit.hpp>
#include <kasane/calibration/fixed_stars.hpp>
#include <kasane/calibration/flat_fit.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/calibration/master.hpp>
#include <kasane/calibration/own_corrections.hpp>
#include <kasane/calibration/pile_up.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/sky/render.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

std::shared_ptr<const FrameReader> memory(Image image) {
    return std::make_shared<MemoryFrame>(std::move(image));
}

std::shared_ptr<const FrameReader> exposed(const sky::Instrument& n, const sky::InstrumentMaps& maps,
                                           const Image& electrons, double seconds, double temperature,
                                           std::uint64_t seed) {
    const auto counts = sky::expose(electrons, {n, maps}, {seconds, temperature, 0}, seed);
    Image image(n.width, n.height);
    std::copy(counts.pixels().begin(), counts.pixels().end(), image.pixels().begin());
    return memory(std::move(image));
}

Image flat_light(const sky::InstrumentMaps& maps, float electrons) {
    Image e = maps.illumination;
    for (float& v : e.pixels())
        v *= electrons;
    return e;
}

} // namespace

TEST_CASE("Lone hot and cold pixels are found, and no star core, however narrow") {
    const std::string letters = GENERATE(as<std::string>{}, "", "RGGB");
    const double fwhm = GENERATE(1.3, 2.0, 3.5);
    Image image(400, 300, 1, 1000.0f);
    add_noise(image, 10, 7);
    for (int i = 0; i < 60; ++i) // every position within a pixel, bright and faint
        add_gaussian_star(image, 20 + 38.13 * (i % 10), 20 + 47.29 * (i / 10), 200 * std::pow(1.12, i), fwhm);
    Image spoilt = image;
    int hot = 0;
    for (int i = 0; i < 40; ++i, ++hot)
        spoilt(9 + 9 * i, 150 + (i % 5)) += 150 + 30 * static_cast<float>(i);
    spoilt(300, 280) -= 300;
    const CfaPattern cfa(letters);
    const OwnCorrections clean = find_own_corrections(image.plane(), cfa, {.lone_pixels = true});
    CHECK(clean.defects.size() <= 1);
    for (int i = 0; i < 60; ++i)
        CHECK_FALSE(clean.defects.contains(static_cast<int>(std::lround(20 + 38.13 * (i % 10))),
                                           static_cast<int>(std::lround(20 + 47.29 * (i / 10)))));
    const OwnCorrections found = find_own_corrections(spoilt.plane(), cfa, {.lone_pixels = true});
    int caught = 0;
    for (int i = 0; i < 40; ++i)
        caught += found.defects.contains(9 + 9 * i, 150 + (i % 5));
    CHECK(caught >= 36); // a few lie on stars
    CHECK(found.defects.contains(300, 280));
}

TEST_CASE("The spill of a saturated star is no data, its disc stays") {
    Image image(200, 200, 1, 1000.0f);
    add_noise(image, 10, 8);
    for (int y = 0; y < 200; ++y)
        for (int x = 0; x < 200; ++x) {
            const double d = std::hypot(x - 100, y - 90);
            if (d < 6) image(x, y) = 65535;
            if (std::abs(x - 100) <= 1 && y > 40 && y < 150) image(x, y) = 65535;
            if (std::hypot(x - 30, y - 30) < 5) image(x, y) = 65535; // round: no spill
        }
    const OwnCorrections found = find_own_corrections(image.plane(), {}, {.saturation = 60000});
    CHECK(found.defects.contains(100, 45));
    CHECK(found.defects.contains(101, 140));
    CHECK_FALSE(found.defects.contains(100, 90));
    CHECK_FALSE(found.defects.contains(95, 90));
    CHECK_FALSE(found.defects.contains(30, 30));
    CHECK_FALSE(found.defects.contains(120, 45));
}

TEST_CASE("The equaliser takes offsets of whole rows and leaves nebulae alone") {
    Image nebula(640, 200, 1, 800.0f);
    for (int y = 0; y < 200; ++y)
        for (int x = 0; x < 640; ++x) // bands as narrow as rows, across two thirds of the frame, and a wide glow
            nebula(x, y) += (x < 420 ? 25.0f * (y % 7 == 0) : 0.0f) +
                            60 * std::exp(-0.002f * static_cast<float>((y - 100) * (y - 100)));
    Image image = nebula;
    add_noise(image, 8, 9);
    for (int x = 0; x < 640; ++x) {
        image(x, 51) += 12;
        image(x, 120) -= 9;
    }
    const OwnCorrections own = find_own_corrections(image.plane(), {}, {.equalise_rows = true});
    REQUIRE(own.rows.size() == 200);
    CHECK(own.rows[51] == Approx(12).margin(2));
    CHECK(own.rows[120] == Approx(-9).margin(2));
    double taken = 0;
    for (int y = 13; y < 187; ++y)
        if (y != 51 && y != 120) taken = std::max<double>(taken, std::abs(own.rows[static_cast<std::size_t>(y)]));
    CHECK(taken < 5); // of 60: what is left of the glow's curvature over six rows, and the noise of a row's median
}

TEST_CASE("Defects are passed over where other frames have real data, and kept where all lack it") {
    const Quiet quiet;
    Mask mask(60, 50);
    mask(30, 25) = 1;
    const auto stack = [&](double dither) {
        std::vector<StackFrame> frames;
        for (int f = 0; f < 8; ++f) {
            Image image(60, 50);
            for (int y = 0; y < 50; ++y)
                for (int x = 0; x < 60; ++x)
                    image(x, y) = static_cast<float>(500 + 30 * (x - dither * f)); // a slope in the sky, moving with it
            image(30, 25) = 9000;
            CalibrationSet set;
            set.defects = std::make_shared<const DefectList>(mask);
            const auto view = std::make_shared<const CalibratedView>(memory(std::move(image)), set);
            frames.push_back(
                {std::make_shared<const FrameView>(view), {{Affine{1, 0, dither * f, 0, 1, 0}, {}, 2}}, 0});
        }
        return frames;
    };
    const MasterLight dithered = integrate(stack(2), {40, 50}, {500}, quiet.context);
    CHECK(dithered.passed_over > 0);
    CHECK(dithered.pixels(24, 25) == Approx(500 + 30 * 24).epsilon(1e-4));
    const MasterLight still = integrate(stack(0), {60, 50}, {500}, quiet.context);
    CHECK(still.passed_over == 0);
    CHECK(still.coverage(30, 25) > 0.9);
    CHECK(still.pixels(30, 25) == Approx(500 + 30 * 30).epsilon(0.05));
}

TEST_CASE("Columns, cold pixels and clusters are defects too, in mono and in mosaics") {
    const std::string letters = GENERATE(as<std::string>{}, "", "GRBG");
    Image dark(300, 260, 1, 500.0f);
    add_noise(dark, 1, 11);
    for (int y = 40; y < 260; ++y)
        dark(120, y) += y % 3 ? 60 : 5; // two thirds of its pixels plainly
    dark(50, 50) -= 90;
    for (int y = 100; y < 103; ++y)
        for (int x = 200; x < 203; ++x)
            dark(x, y) += 300;
    DefectCounts counts;
    const DefectList found = find_defects(memory(dark).get(), 4, nullptr, {.cfa = CfaPattern(letters)}, &counts);
    CHECK(counts.columns == 1);
    CHECK(found.contains(120, 42)); // y % 3 == 0: one of the weak pixels
    CHECK_FALSE(found.contains(120, 10));
    CHECK(found.contains(50, 50));
    for (int y = 100; y < 103; ++y)
        for (int x = 200; x < 203; ++x)
            CHECK(found.contains(x, y));
    CHECK(found.size() < 260);
    const Workers three(3);
    DefectCounts same;
    const DefectList shared = find_defects(memory(dark).get(), 4, nullptr, {.cfa = CfaPattern(letters)}, &same, &three);
    CHECK(shared.places() == found.places());
    CHECK(same.cold == counts.cold);
}

TEST_CASE("The factor of a dark is measured in the light") {
    sky::Instrument n;
    n.width = 420;
    n.height = 300;
    n.hot_share = 0.006;
    n.cfa = GENERATE(as<std::string>{}, "", "RGGB");
    const auto maps = sky::make_maps(n);
    const Image nothing(n.width, n.height);
    Image sky = flat_light(maps, 400);
    for (int i = 0; i < 100; ++i)
        add_gaussian_star(sky, 20 + 3.8 * i, 20 + 2.6 * ((i * 37) % 100), 300 * std::pow(1.05, i), 3);
    const Quiet quiet;
    const auto master = [&](double seconds, double temperature) {
        std::vector<std::shared_ptr<const FrameReader>> frames;
        for (std::uint64_t i = 0; i < 8; ++i)
            frames.push_back(exposed(n, maps, nothing, seconds, temperature, 50 + i));
        return memory(build_master(Role::dark, frames, nullptr, quiet.context).pixels);
    };
    const auto bias = master(0.001, -10), dark = master(300, -10);
    const CfaPattern cfa(n.cfa);
    // 120 s at -10 C hold 0.4 of the dark; the plan expected 0.55.
    const auto light = exposed(n, maps, sky, 120, -10, 99);
    const DarkFit fit = fit_dark_factor(*light, *dark, bias.get(), {.cfa = cfa, .expected = 0.55});
    REQUIRE(fit.measured());
    CHECK(fit.factor == Approx(0.4).margin(std::max(0.01, 4 * fit.sigma)));
    CHECK_FALSE(fit_dark_factor(*light, *dark, bias.get(), {.cfa = cfa, .expected = 0.4}).measured());
    // Far from what can be: bounded.
    CHECK(fit_dark_factor(*light, *dark, bias.get(), {.cfa = cfa, .expected = 2}).factor == Approx(1));
    // Between two temperatures.
    const auto warmer = master(120, -4), colder = master(120, -10);
    const auto between = exposed(n, maps, sky, 120, -7, 98); // 0.414 of the way in charge
    const DarkFit mixture = fit_dark_mixture(*between, *colder, *warmer, {.cfa = cfa});
    CHECK(mixture.second_share == Approx(0.414).margin(0.05));
    CHECK(fit_dark_mixture(*exposed(n, maps, sky, 120, -10, 97), *colder, *warmer, {.cfa = cfa}).second_share < 0.05);
}

TEST_CASE("A flat that fits is told from one that was turned, is of another night, or over-corrects") {
    sky::Instrument n;
    n.width = 720;
    n.height = 480;
    n.cfa = GENERATE(as<std::string>{}, "", "RGGB");
    const std::vector<sky::DustShadow> dust = {{200, 120, 26, 0.10}, {520, 360, 30, 0.12}, {610, 90, 22, 0.09}};
    const auto maps = sky::make_maps(n, dust);
    const auto other = sky::make_maps(n, {{330, 250, 26, 0.10}, {90, 400, 30, 0.12}});
    Image sky = flat_light(maps, 900);
    for (int y = 0; y < n.height; ++y) // a nebula, which has nothing to do with any flat
        for (int x = 0; x < n.width; ++x)
            sky(x, y) *=
                1 + 0.1f * std::exp(-0.0001f * static_cast<float>((x - 500) * (x - 500) + (y - 150) * (y - 150)));
    const auto light = exposed(n, maps, sky, 60, -10, 3);
    const auto fit = [&](const Image& flat, float offset) {
        CalibrationSet set;
        set.offset_level = offset;
        set.flat = memory(flat);
        set.cfa = CfaPattern(n.cfa);
        const CalibratedView view(light, set);
        const FlatFit direct = fit_flat(view);
        // The same from the blocks of the calibrated light.
        Image calibrated(n.width, n.height);
        view.read(view.bounds(), calibrated.plane());
        CalibrationSet nothing;
        nothing.cfa = set.cfa;
        const BlockLevels after = light_levels(CalibratedView(memory(calibrated), nothing)),
                          of_flat = flat_levels(view, after.block);
        CHECK(of_flat.levels.width() == n.width / of_flat.block);
        const FlatFit indirect = fit_flat(before_flat(after, of_flat), of_flat);
        CHECK(indirect.measured == direct.measured);
        CHECK(indirect.turned == direct.turned);
        CHECK(indirect.doubt.substr(0, 12) == direct.doubt.substr(0, 12)); // figures differ in their last digits
        CHECK(indirect.strength == Approx(direct.strength).margin(0.03));
        CHECK(indirect.fine == Approx(direct.fine).margin(0.1)); // within a block a shadow is not even
        return direct;
    };
    Image turned(n.width, n.height);
    for (int y = 0; y < n.height; ++y)
        for (int x = 0; x < n.width; ++x)
            turned(n.width - 1 - x, n.height - 1 - y) = maps.illumination(x, y);
    const auto offset = static_cast<float>(n.offset);
    const FlatFit right = fit(maps.illumination, offset);
    CHECK(right.measured);
    CHECK(right.doubt.empty());
    CHECK(right.fine == Approx(1).margin(0.15));
    CHECK(fit(turned, offset).turned == 180);
    CHECK_THAT(fit(other.illumination, offset).doubt, Catch::Contains("another night"));
    CHECK_THAT(fit(maps.illumination, -1500).doubt, Catch::Contains("over-corrects")); // an offset left in the light
    // Before and after, as figures.
    Image raw(n.width, n.height), clean(n.width, n.height);
    CalibrationSet set;
    set.offset_level = offset;
    set.cfa = CfaPattern(n.cfa);
    CalibratedView(light, set).read(raw.bounds(), raw.plane());
    set.flat = memory(maps.illumination);
    CalibratedView(light, set).read(raw.bounds(), clean.plane());
    CHECK(measure_illumination(raw.plane(), set.cfa).corner_ratio < 0.85);
    CHECK(measure_illumination(clean.plane(), set.cfa).corner_ratio == Approx(1).margin(0.02));
}

TEST_CASE("Stars that stood still through a sky flat are patched, dust and columns are not") {
    sky::Instrument n;
    n.width = 500;
    n.height = 400;
    const auto maps = sky::make_maps(n, {{300, 60, 26, 0.10}, {200, 300, 14, 0.12}, {90, 330, 9, 0.15}});
    Image flat = maps.illumination;
    add_noise(flat, 0.002, 4);
    for (int y = 0; y < n.height; ++y)
        flat(444, y) *= 1.05f;
    Image untouched = flat;
    CHECK(patch_fixed_stars(untouched.plane(), {}, Workers(1)) == 0);
    for (int i = 0; i < 11; ++i)
        add_gaussian_star(flat, 40 + 36.4 * i, 60 + 24.7 * i, 0.4, 3.1); // 4 % at the peak
    CHECK(patch_fixed_stars(flat.plane(), {}, Workers(2)) > 11 * 60);
    for (int i = 0; i < 11; ++i)
        for (int j = -2; j <= 2; ++j) {
            const int x = static_cast<int>(std::lround(40 + 36.4 * i)) + j,
                      y = static_cast<int>(std::lround(60 + 24.7 * i));
            const double to_dust =
                std::min({std::hypot(x - 300, y - 60), std::hypot(x - 200, y - 300), std::hypot(x - 90, y - 330)});
            if (x != 444 && maps.defects(x, y) == 0 && to_dust > 45)
                CHECK(flat(x, y) == Approx(maps.illumination(x, y)).margin(0.02));
        }
}

TEST_CASE("Photon transfer finds gain and read noise of the simulated camera") {
    sky::Instrument n;
    n.width = 500;
    n.height = 400;
    n.gain = GENERATE(0.35, 1.7);
    n.read_noise = 6;
    n.saturation_adu = 20000;
    const auto maps = sky::make_maps(n);
    std::vector<std::shared_ptr<const FrameReader>> flats, bias;
    for (std::uint64_t i = 0; i < 6; ++i)
        flats.push_back(exposed(n, maps,
                                flat_light(maps, static_cast<float>(n.gain * (9000 + 500.0 * static_cast<double>(i)))),
                                2, -10, 10 + i));
    for (std::uint64_t i = 0; i < 2; ++i)
        bias.push_back(exposed(n, maps, Image(n.width, n.height), 0.001, -10, 30 + i));
    const Workers workers(2);
    const PhotonTransfer t = measure_photon_transfer(flats, bias, bias[0].get(), 0, workers);
    CHECK(t.electrons_per_adu == Approx(n.gain).epsilon(0.03));
    CHECK(t.read_noise == Approx(6).epsilon(0.05));
    CHECK(t.saturation == 0);
    flats.push_back(exposed(n, maps, flat_light(maps, static_cast<float>(n.gain * 40000)), 2, -10, 77));
    flats.push_back(exposed(n, maps, flat_light(maps, static_cast<float>(n.gain * 40000)), 2, -10, 78));
    CHECK(measure_photon_transfer(flats, bias, bias[0].get(), 0, workers).saturation == 20000);
    CHECK(measure_photon_transfer({flats[0]}, bias, nullptr, 0, workers).electrons_per_adu == 0);
}

TEST_CASE("A tinted panel, twilight that tilts and two disagreeing darks leave no trace in masters") {
    const Quiet quiet;
    const CfaPattern cfa("RGGB");
    SECTION("colours have mean one each, whatever the panel") {
        std::vector<std::shared_ptr<const FrameReader>> frames;
        for (std::uint64_t f = 0; f < 6; ++f) {
            Image image(120, 100);
            for (int y = 0; y < 100; ++y)
                for (int x = 0; x < 120; ++x)
                    image(x, y) = std::array{9000.0f, 20000.0f, 5000.0f}[static_cast<std::size_t>(cfa.colour(x, y))] *
                                  (1 + 0.05f * static_cast<float>(f)) * (f % 2 && cfa.colour(x, y) == 0 ? 1.2f : 1.0f);
            add_noise(image, 80, f + 1);
            frames.push_back(memory(std::move(image)));
        }
        const MasterResult m = build_master(Role::flat, frames, nullptr, quiet.context, {.cfa = cfa});
        std::array<double, 3> sum{}, count{};
        for (int y = 0; y < 100; ++y)
            for (int x = 0; x < 120; ++x) {
                sum[static_cast<std::size_t>(cfa.colour(x, y))] += m.pixels(x, y);
                count[static_cast<std::size_t>(cfa.colour(x, y))] += 1;
            }
        for (std::size_t c = 0; c < 3; ++c)
            CHECK(sum[c] / count[c] == Approx(1).margin(1e-3));
        CHECK(m.rejected_share < 0.01); // the red that changes against green is no outlier
        CHECK(m.colour_levels.size() == 3);
    }
    SECTION("each sky flat's own tilt goes, what all have in common stays") {
        std::vector<std::shared_ptr<const FrameReader>> frames;
        for (std::uint64_t f = 0; f < 9; ++f) {
            Image image(240, 200);
            const float tilt = 0.02f * (static_cast<float>(f) - 4), aside = f % 2 ? 0.03f : -0.024f; // sum 0
            for (int y = 0; y < 200; ++y)
                for (int x = 0; x < 240; ++x)
                    image(x, y) =
                        20000 * (1 - 0.1f * std::abs(static_cast<float>(x) / 120 - 1)) *
                        (1 + tilt * (static_cast<float>(y) / 100 - 1) + aside * (static_cast<float>(x) / 120 - 1));
            add_noise(image, 60, f + 1);
            frames.push_back(memory(std::move(image)));
        }
        const MasterResult m = build_master(Role::flat, frames, nullptr, quiet.context);
        CHECK(m.rejected_share < 0.01); // tilts of 8 % against noise of 0.3 %
        CHECK(m.frame_noise == Approx(0.0032).epsilon(0.1));
        for (const int x : {5, 60, 120, 200})
            for (const int y : {5, 100, 195}) {
                double here = 0;
                for (int j = -4; j <= 4; ++j)
                    for (int i = -4; i <= 4; ++i)
                        here += m.pixels(x + i, y + j) / 81;
                CHECK(here == Approx((1 - 0.1 * std::abs(x / 120.0 - 1)) / 0.95).epsilon(0.004));
            }
    }
    SECTION("of two darks the lower counts where a particle hit one") {
        Image a(80, 60, 1, 500.0f), b(80, 60, 1, 500.0f);
        add_noise(a, 4, 1);
        add_noise(b, 4, 2);
        const float clean = b(20, 20);
        a(20, 20) += 900;
        const MasterResult m = build_master(Role::dark, {memory(a), memory(b)}, nullptr, quiet.context);
        CHECK(m.pixels(20, 20) == clean);
        CHECK(m.pixels(21, 20) == Approx(0.5 * (a(21, 20) + b(21, 20))));
    }
}

TEST_CASE("Saturated pixels are told, hot ones that were replaced are not, spilled charge is") {
    Image image(120, 90, 1, 1000.0f);
    image(30, 40) = 60000; // a star's, alone
    image(50, 60) = 65000; // hot, in the list
    for (int y = 20; y < 70; ++y)
        image(90, y) = 64000; // a column that spilled over; the star is in its middle
    CalibrationSet set;
    set.saturation = 58000;
    Mask defects(120, 90);
    defects(50, 60) = 1;
    set.defects = std::make_shared<const DefectList>(defects);
    const OwnCorrections own = find_own_corrections(image.plane(), {}, {.saturation = 58000});
    CHECK(own.spilled.contains(90, 22));
    CHECK(own.spilled.size() == own.defects.size());
    CHECK_FALSE(own.spilled.contains(90, 45));
    set.own = std::make_shared<const OwnCorrections>(own);
    const auto marks = [&](const CalibrationSet& with) {
        const CalibratedView view(memory(image), with);
        Image out(100, 80);
        QualityPlane quality;
        view.read({10, 5, 100, 80}, out.plane(), 0, &quality);
        return quality;
    };
    const QualityPlane q = marks(set);
    CHECK(q.at(20, 35) == quality::kSaturated);
    CHECK(q.at(40, 55) == quality::kRepaired);
    CHECK(q.at(80, 17) == (quality::kRepaired | quality::kSaturated));
    CHECK(q.at(80, 40) == quality::kSaturated);
    CHECK(q.at(60, 20) == 0);
    // Where it is not known what is full, nothing is.
    set.saturation = 0;
    const QualityPlane none = marks(set);
    CHECK(none.at(20, 35) == 0);
    CHECK(none.at(80, 17) == quality::kRepaired);
}

TEST_CASE("A saturated sample of a mosaic is told of all colours around that are made of it") {
    Image mosaic(60, 40, 1, 800.0f);
    mosaic(30, 20) = 60000;
    CalibrationSet set;
    set.saturation = 50000;
    set.cfa = CfaPattern("RGGB");
    const FrameView view(std::make_shared<const CalibratedView>(memory(mosaic), set), ColourMethod::adaptive);
    Image out(40, 30, 3);
    std::vector<QualityPlane> q(3);
    view.read({10, 5, 40, 30}, views_of(out), q);
    for (const QualityPlane& plane : q) {
        CHECK(plane.at(20, 15) == quality::kSaturated);
        CHECK(plane.at(22, 13) == quality::kSaturated);
        CHECK(plane.at(23, 15) == 0);
    }
    // Also from a sample that lies beside the rectangle.
    Image beside(10, 10, 3);
    view.read({32, 18, 10, 10}, views_of(beside), q);
    CHECK(q[0].at(0, 2) == quality::kSaturated);
    CHECK(q[0].at(1, 2) == 0);
}

TEST_CASE("Where pixels pile up is seen, a smooth summit and a bright sky are not") {
    const auto pile = [](const std::function<float(int, int)>& light, float full) {
        Image image(400, 320);
        add_noise(image, 12, 3);
        for (int y = 0; y < 320; ++y)
            for (int x = 0; x < 400; ++x)
                image(x, y) = std::min(full, std::round(image(x, y) + light(x, y)));
        return find_pile_up(*memory(image));
    };
    const auto core = [](double peak, double width) {
        return [=](int x, int y) {
            return static_cast<float>(
                600 + peak * std::exp(-(std::pow(x - 180, 2) + std::pow(y - 150, 2)) / (2 * width * width)));
        };
    };
    for (const float full : {4095.0f, 16383.0f, 61234.0f, 0.98f * 65535}) {
        const PileUp p = pile(core(6 * full, 14), full);
        CHECK(p.piled);
        CHECK(p.top == full);
    }
    CHECK_FALSE(pile(core(40000, 30), 65535).piled);
    CHECK_FALSE(pile(core(40000, 3), 65535).piled);
    CHECK_FALSE(pile([](int, int) { return 30000.0f; }, 65535).piled);
    CHECK_FALSE(pile([](int, int) { return 70000.0f; }, 65535).piled); // all of it is full: nothing can be told
    // A sensor that is full at 50000, give or take.
    const PileUp soft = pile(
        [&](int x, int y) {
            const float light = core(400000, 14)(x, y);
            return std::min(light, 50000.0f + static_cast<float>((7 * x + 13 * y) % 500));
        },
        65535);
    CHECK(soft.piled);
    CHECK(soft.top == Approx(50500).epsilon(0.01));
    CHECK(find_pile_up(*memory(Image(64, 64))).top == 0);
}

TEST_CASE("Zeros, negative values and gaps in masters spoil their own pixels only") {
    Image raw(40, 30, 1, 1500.0f), dark(40, 30, 1, 500.0f), flat(40, 30, 1, 1.0f);
    flat(10, 10) = 0;
    flat(20, 10) = -1;
    flat(30, 10) = kNoData;
    dark(10, 20) = kNoData;
    raw(20, 20) = std::numeric_limits<float>::infinity();
    const CalibratedView view(memory(raw), {.dark = memory(dark), .flat = memory(flat)});
    Image out(40, 30);
    QualityPlane quality;
    view.read(view.bounds(), out.plane(), 0, &quality);
    int repaired = 0;
    quality.for_each([&](int, int, quality::Bits bits) { repaired += bits == quality::kRepaired; });
    CHECK(repaired == 5);
    for (const float v : out.pixels())
        CHECK(v == Approx(1000));
    Image hole(60, 60, 1, kNoData); // more than neighbours can mend stays no data
    hole(3, 3) = 7;
    const CalibratedView wide(memory(hole), {});
    Image rest(60, 60);
    wide.read(wide.bounds(), rest.plane());
    CHECK(std::isnan(rest(30, 30)));
    CHECK(rest(3, 3) == 7);
}

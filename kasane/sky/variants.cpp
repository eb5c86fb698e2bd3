#include <kasane/sky/variants.hpp>

#include <kasane/base/error.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane::sky {

namespace {

/// What is taken when, under which sky.
struct Plan {
    std::string filter;
    double seconds;
    int day;
    double clock, sky; ///< seconds after noon; electrons per second and pixel
};

/// A light of an ordinary guided night.
Shot light(const std::string& path, const Plan& plan, Random& random) {
    const auto& [filter, seconds, day, clock, sky] = plan;
    Shot shot;
    shot.path = path;
    shot.filter = filter;
    shot.seconds = seconds;
    shot.start = evening_time(day, clock);
    Conditions& c = shot.conditions;
    c.transparency = 0.95 + 0.02 * random.normal();
    c.sky = sky;
    c.gradient_x = 0.04 * random.normal();
    c.gradient_y = 0.04 * random.normal();
    c.fwhm = 2.9 * std::exp(0.05 * random.normal());
    c.ellipticity = 0.05;
    c.cosmic_rays = 0.02 * seconds;
    c.pointing.offset_x = 7 * random.normal();
    c.pointing.offset_y = 7 * random.normal();
    return shot;
}

/// One-shot colour, flats of the twilight with every exposure time another, bias only.
Scenario colour() {
    Scenario s;
    s.seed = 31;
    s.scene = {.seed = 20, .width = 600, .height = 400, .filters = {"R", "G", "B"}, .stars = 340};
    s.instrument = {.width = 600,
                    .height = 400,
                    .seed = 8,
                    .camera = "Simulated colour camera",
                    .telescope = "Simulated 360 mm astrograph",
                    .focal_length_mm = 360,
                    .cfa = "RGGB"};
    s.dust = {{{210, 160, 22, 0.09}, {520, 330, 17, 0.10}}};
    Random random(s.seed, 1);
    for (int i = 0; i < 14; ++i)
        s.shots.push_back(
            light(fmt::format("lights/light_{:03}.fits", i + 1), {"", 120, 12, 8.4 * 3600 + i * 132, 1.6}, random));
    for (int i = 0; i < 16; ++i) { // the sky darkens, exposures grow
        Shot f;
        f.role = Shot::Role::flat;
        f.path = fmt::format("flats/skyflat_{:03}.fits", i + 1);
        f.seconds = std::round(60 * std::exp2(0.25 * i)) / 100;
        f.start = evening_time(12, 6.6 * 3600 + i * 14);
        f.under_sky = true;
        f.conditions.sky = 22000 * (1 + 0.08 * random.normal()) / f.seconds;
        f.conditions.gradient_y = 0.02;
        f.conditions.fwhm = 3;
        f.conditions.pointing.offset_x = 60 * random.normal(); // the telescope does not track
        f.conditions.pointing.offset_y = 60 * random.normal();
        s.shots.push_back(std::move(f));
    }
    add_calibration(s, {Shot::Role::bias, "bias", "bias", 20, 0.0001, 12, 20 * 3600});
    return s;
}

/// A camera without cooling: its temperature falls through the night; a library of darks at five temperatures; no
/// flats.
Scenario dslr() {
    Scenario s;
    s.seed = 32;
    s.iso = 1600;
    s.scene = {.seed = 20, .width = 600, .height = 400, .filters = {"R", "G", "B"}, .stars = 340};
    s.instrument = {.width = 600,
                    .height = 400,
                    .seed = 9,
                    .camera = "Mirror box 24",
                    .telescope = "Simulated 200 mm lens",
                    .focal_length_mm = 200,
                    .pixel_um = 3.9,
                    .cfa = "RGGB",
                    .gain = 0.6,
                    .offset = 512,
                    .read_noise = 3,
                    .dark_rate = 0.3,
                    .reference_temperature = 10,
                    .glow = 0.05,
                    .saturation_adu = 16383};
    s.dust = {{{300, 200, 24, 0.08}}};
    Random random(s.seed, 1);
    constexpr int kLights = 18;
    for (int i = 0; i < kLights; ++i) {
        Shot shot = light(fmt::format("IMG_{:04}.dng", 4201 + i), {"", 90, 12, 8.6 * 3600 + i * 97, 1.1}, random);
        shot.temperature = std::round(10 * (18 - 10.0 * i / (kLights - 1) + 0.2 * random.normal())) / 10;
        s.shots.push_back(std::move(shot));
    }
    for (const int warmth : {5, 8, 11, 14, 18})
        for (int k = 0; k < 5; ++k) {
            Shot dark;
            dark.role = Shot::Role::dark;
            dark.path = fmt::format("dark library/{:02} degrees/DARK_{:02}{}.dng", warmth, warmth, k + 1);
            dark.seconds = 90;
            dark.temperature = warmth + 0.3 * k - 0.6;
            dark.start = evening_time(2, warmth * 3600.0 / 4 + k * 95);
            dark.conditions.cosmic_rays = 1;
            s.shots.push_back(std::move(dark));
        }
    return s;
}

/// One heap of files whose headers and names say nothing.
Scenario silent() {
    Scenario s;
    s.seed = 33;
    s.scene = {.seed = 20, .width = 640, .height = 480, .filters = {"L"}, .stars = 300};
    s.instrument = {.width = 640, .height = 480, .seed = 10, .hot_share = 0.004};
    s.dust = {{{190, 200, 20, 0.09}, {450, 300, 15, 0.11}}};
    Random random(s.seed, 1);
    int number = 0;
    const auto next = [&] { return fmt::format("heap/img_{:04}.fits", 100 + ++number); };
    for (int i = 0; i < 8; ++i)
        s.shots.push_back(light(next(), {"L", 180, 12, 8.0 * 3600 + i * 190, 4}, random));
    const std::size_t first = s.shots.size();
    add_calibration(s, {Shot::Role::flat, "heap", "flat", 8, 2.5, 12, 7 * 3600, "L", 0, 24000});
    for (int i = 0; i < 4; ++i) {
        Shot f;
        f.role = Shot::Role::flat;
        f.filter = "L";
        f.seconds = 3;
        f.start = evening_time(12, 6.8 * 3600 + 20 * i);
        f.under_sky = true;
        f.conditions.sky = 7000 * (1 + 0.1 * i);
        f.conditions.pointing.offset_x = 40 * random.normal();
        f.conditions.pointing.offset_y = 40 * random.normal();
        s.shots.push_back(std::move(f));
    }
    add_calibration(s, {Shot::Role::dark, "heap", "dark", 8, 180, 12, 18 * 3600});
    add_calibration(s, {Shot::Role::bias, "heap", "bias", 8, 0.001, 12, 20 * 3600});
    for (std::size_t i = first; i < s.shots.size(); ++i)
        s.shots[i].path = next();
    for (Shot& shot : s.shots)
        shot.silent = true;
    return s;
}

/// One night in which much went wrong. Every mistake is marked with the code of the finding that it deserves.
Scenario mistakes() {
    Scenario s;
    s.seed = 34;
    s.scene = {.seed = 20, .width = 640, .height = 480, .filters = {"L", "R", "Ha"}, .stars = 300};
    s.instrument = {.width = 640, .height = 480, .seed = 11};
    s.dust = {{{190, 200, 20, 0.09}, {450, 300, 15, 0.11}}};
    Random random(s.seed, 1);
    double clock = 8.2 * 3600;
    const auto sequence = [&](const std::string& filter, int count, double seconds) {
        for (int i = 0; i < count; ++i, clock += seconds + 12)
            s.shots.push_back(light(fmt::format("lights/{}_{:03}.fits", filter, i + 1),
                                    {filter, seconds, 12, clock, filter_sky(filter)}, random));
    };
    sequence("L", 8, 120);
    sequence("R", 7, 120);
    sequence("Ha", 6, 300);
    const auto find = [&](const std::string& path) -> Shot& {
        return *std::find_if(s.shots.begin(), s.shots.end(), [&](const Shot& shot) { return shot.path == path; });
    };
    Shot& capped = find("lights/L_001.fits"); // the cap was on
    capped.capped = true;
    capped.mistake = "light-looks-dark";
    Shot& early = find("lights/R_006.fits"); // the clock was set back by two hours
    early.start = evening_time(12, 8.4 * 3600);
    early.mistake = "clock-jump";
    Shot& other = find("lights/L_008.fits"); // the gain was left at zero
    other.claims = {{"GAIN", 0}};
    other.mistake = "gain-mixed";
    const std::size_t flats = s.shots.size();
    add_calibration(s, {Shot::Role::flat, "flats", "flat-L", 10, 2.5, 12, 7.5 * 3600, "L", 0, 60000});
    for (std::size_t i = flats; i < s.shots.size(); ++i) // burnt out
        s.shots[i].mistake = "flat-saturated";
    const std::size_t turned = s.shots.size();
    add_calibration(s, {Shot::Role::flat, "flats", "flat-R", 10, 2.5, 12, 7.6 * 3600, "R", 0, 24000});
    for (std::size_t i = turned; i < s.shots.size(); ++i) { // exported by a program that turned them
        s.shots[i].turned = true;
        s.shots[i].mistake = "orientation-differs";
    }
    // No flats in Ha, no darks of 300 s; the bias was taken in the warm room.
    add_calibration(s, {Shot::Role::dark, "darks", "dark", 12, 120, 12, 20 * 3600});
    const std::size_t bias = s.shots.size();
    add_calibration(s, {Shot::Role::bias, "bias", "bias", 20, 0.001, 12, 22 * 3600, "", 0, 0, 12});
    for (std::size_t i = bias; i < s.shots.size(); ++i)
        s.shots[i].mistake = "bias-warmer";
    for (Shot& shot : s.shots)
        if (shot.path.starts_with("lights/Ha")) shot.mistake = "flat-missing";
    s.copies = {{"lights/R_003.fits", "lights/copy/R_003 copy.fits", 1, "duplicate-files"},
                {"lights/R_004.fits", "lights/R_008.fits", 0.4, "file-unreadable"}};
    return s;
}

/// A camera with a wide lens on a tripod: the sky turns over a hill and a tree, the lens bends it.
Scenario tripod() {
    Scenario s;
    s.seed = 35;
    constexpr int kWidth = 600, kHeight = 400;
    s.scene = {.seed = 20,
               .width = kWidth,
               .height = kHeight,
               .margin = 160,
               .filters = {"R", "G", "B"},
               .stars = 620,
               .faintest_rate = 110,
               .brightest_rate = 150000,
               .nebula = 14,
               .galaxy = 30};
    s.instrument = {.width = kWidth,
                    .height = kHeight,
                    .seed = 12,
                    .camera = "Simulated still camera",
                    .telescope = "Simulated 24 mm lens",
                    .focal_length_mm = 24,
                    .pixel_um = 60,
                    .cfa = "RGGB",
                    .lens = Lens{{304, 196}, 360, {-0.034, 0.006, 0}, {0.0006, -0.0004}},
                    .vignetting = 0.1,
                    .read_noise = 3,
                    .dark_rate = 0.5};
    // Hills from left to right, and a tree on them.
    const std::vector<Point> skyline = {{0, 330},   {60, 322},  {120, 338}, {190, 345}, {260, 336},
                                        {330, 340}, {390, 330}, {430, 322}, {452, 268}, {470, 238},
                                        {488, 250}, {505, 282}, {520, 316}, {560, 326}, {600, 312}};
    Random random(s.seed, 1);
    constexpr int kLights = 36;
    const double focal = s.instrument.focal_length_mm * 1000 / s.instrument.pixel_um; // pixels
    for (int i = 0; i < kLights; ++i) {
        const double clock = 9.2 * 3600 + i * 33;
        Shot shot = light(fmt::format("lights/IMG_{:04}.fits", 7301 + i), {"", 5, 12, clock, 26}, random);
        Conditions& c = shot.conditions;
        c.pointing = {};
        c.pointing.sky = sky_turn(focal, -120, -420, (clock - 9.37 * 3600) * 15 / 3600);
        c.fwhm = 2.3 * std::exp(0.03 * random.normal());
        c.transparency = 0.97 + 0.01 * random.normal();
        c.gradient_y = 0.1; // the sky is brighter below
        c.skyline = skyline;
        s.shots.push_back(std::move(shot));
    }
    add_calibration(s, {Shot::Role::dark, "darks", "dark", 12, 5, 12, 13 * 3600});
    std::string hills;
    for (const Point& p : skyline) // a little above what stands there
        hills += fmt::format("{:.0f}, {:.0f}, ", p.x, p.y - 6);
    s.texts = {{"kasane.toml", fmt::format("# What stands before the sky: hills and a tree.\n[[files]]\nmatch = "
                                           "\"lights/**\"\nhide = [[{}600, 400, 0, 400]]\n",
                                           hills)}};
    return s;
}

/// Large pixels behind a short lens: stars smaller than two of them, moved a little from light to light.
Scenario sparse_pixels() {
    Scenario s;
    s.seed = 36;
    s.scene = {.seed = 20, .width = 480, .height = 360, .filters = {"L"}, .stars = 420, .nebula = 12, .galaxy = 30};
    s.instrument = {.width = 480,
                    .height = 360,
                    .seed = 13,
                    .camera = "Simulated camera with large pixels",
                    .telescope = "Simulated 135 mm lens",
                    .focal_length_mm = 135,
                    .pixel_um = 9};
    s.dust = {{{190, 200, 20, 0.08}, {350, 120, 15, 0.1}}};
    Random random(s.seed, 1);
    constexpr int kLights = 40;
    for (int i = 0; i < kLights; ++i) {
        Shot shot = light(fmt::format("lights/light_{:03}.fits", i + 1), {"L", 60, 12, 8.4 * 3600 + i * 71, 5}, random);
        shot.conditions.fwhm = 1.3 * std::exp(0.03 * random.normal());
        s.shots.push_back(std::move(shot));
    }
    add_calibration(s, {Shot::Role::flat, "flats", "flat", 12, 2.5, 12, 7.5 * 3600, "L", 0, 24000});
    add_calibration(s, {Shot::Role::dark, "darks", "dark", 12, 60, 12, 20 * 3600});
    add_calibration(s, {Shot::Role::bias, "bias", "bias", 12, 0.001, 12, 22 * 3600});
    s.texts = {{"kasane.toml", "# Finer pixels where that gains.\n[drizzle]\nscale = \"auto\"\n"}};
    return s;
}

/// A flame in the lantern, two hundred times too bright for long exposures; four of a second show it, on another night.
Scenario bright_core() {
    Scenario s;
    s.seed = 37;
    s.scene = {.seed = 20,
               .width = 640,
               .height = 480,
               .filters = {"L"},
               .stars = 340,
               .nebula = 6,
               .galaxy = 20,
               .flame = 40000};
    s.instrument = {.width = 640, .height = 480, .seed = 14};
    s.dust = {{{190, 200, 20, 0.08}, {450, 300, 15, 0.1}}};
    Random random(s.seed, 1);
    for (int i = 0; i < 14; ++i)
        s.shots.push_back(light(fmt::format("lights/long_{:03}.fits", i + 1),
                                {"L", 240, 12, 8.2 * 3600 + i * 255, filter_sky("L")}, random));
    for (int i = 0; i < 4; ++i)
        s.shots.push_back(light(fmt::format("lights/short_{:03}.fits", i + 1),
                                {"L", 1, 13, 8.4 * 3600 + i * 6, filter_sky("L")}, random));
    for (const int day : {12, 13})
        add_calibration(
            s, {Shot::Role::flat, fmt::format("flats/{}", day), "flat", 12, 2.5, day, 7.5 * 3600, "L", 0, 24000});
    add_calibration(s, {Shot::Role::dark, "darks", "dark240", 12, 240, 12, 19 * 3600});
    add_calibration(s, {Shot::Role::dark, "darks", "dark001", 12, 1, 13, 20 * 3600});
    add_calibration(s, {Shot::Role::bias, "bias", "bias", 12, 0.001, 12, 22 * 3600});
    return s;
}

/// A comet that crosses the field within an evening, in two filters; marked by hand on the first light and the last.
Scenario comet() {
    Scenario s;
    s.seed = 38;
    s.target = "Comet before the Paper Lantern Nebula";
    s.scene = {
        .seed = 21, .width = 640, .height = 480, .filters = {"L", "G"}, .stars = 420, .nebula = 0.6, .galaxy = 4};
    s.instrument = {.width = 640, .height = 480, .seed = 15};
    s.dust = {{{190, 200, 20, 0.08}, {450, 300, 15, 0.1}}};
    Random random(s.seed, 1);
    constexpr double kRateX = 88, kRateY = -35, kBend = 6; // pixels an hour; pixels an hour squared
    const auto comet_at = [&](double hours) {
        Comet c;
        c.x = -70 + kRateX * hours, c.y = 40 + kRateY * hours + 0.5 * kBend * hours * hours;
        c.nucleus = 260, c.coma = 3.2, c.size = 7, c.tail = 1.1, c.length = 110, c.tail_angle = 24;
        return c;
    };
    std::string marks;
    double clock = 8.4 * 3600;
    constexpr int kLights = 27;
    for (int i = 0; i < kLights; ++i, clock += 128) {
        const bool green = i % 3 == 2;
        const double seconds = 100, hours = (i * 128 + 0.5 * seconds) / 3600;
        Shot shot = light(fmt::format("lights/{}_{:03}.fits", green ? "G" : "L", i + 1),
                          {green ? "G" : "L", seconds, 12, clock, filter_sky(green ? "G" : "L")}, random);
        Comet c = comet_at(hours);
        c.moved_x = kRateX * seconds / 3600, c.moved_y = kRateY * seconds / 3600;
        shot.conditions.comet = c;
        if (i == 0 || i + 1 == kLights) { // as a hand does it
            const Point at = pixel_of(shot.conditions.pointing, s.instrument, {c.x, c.y});
            marks += fmt::format("    [\"{}\", {:.0f}, {:.0f}],\n", shot.path, at.x + 1.5, at.y - 1.2);
        }
        s.shots.push_back(std::move(shot));
    }
    for (const char* filter : {"L", "G"})
        add_calibration(
            s, {Shot::Role::flat, fmt::format("flats/{}", filter), "flat", 12, 2.5, 12, 7.5 * 3600, filter, 0, 24000});
    add_calibration(s, {Shot::Role::dark, "darks", "dark", 12, 100, 12, 20 * 3600});
    add_calibration(s, {Shot::Role::bias, "bias", "bias", 12, 0.001, 12, 22 * 3600});
    s.texts = {
        {"kasane.toml", fmt::format("# Where the comet is on two of the lights; the rest is found.\n[comet]\nmarks "
                                    "= [\n{}]\n",
                                    marks)}};
    return s;
}

/// Three panels by two through a short lens, on two evenings; the camera was turned a little in between, and once by
/// half.
Scenario panels() {
    Scenario s;
    s.seed = 39;
    constexpr int kColumns = 3, kRows = 2, kWidth = 400, kHeight = 300, kStepX = 340, kStepY = 252;
    s.scene = {.seed = 22,
               .width = kStepX * (kColumns - 1) + kWidth,
               .height = kStepY * (kRows - 1) + kHeight,
               .filters = {"L", "R"},
               .stars = 2600,
               .nebula = 9,
               .galaxy = 25};
    s.instrument = {.width = kWidth,
                    .height = kHeight,
                    .seed = 16,
                    .camera = "Simulated small camera",
                    .telescope = "Simulated 50 mm lens",
                    .focal_length_mm = 50,
                    .pixel_um = 9,
                    .lens = Lens{{202, 147}, 250, {-0.007, 0, 0}, {0, 0}}};
    s.dust = {{{190, 200, 20, 0.08}, {300, 100, 15, 0.1}}};
    Random random(s.seed, 1);
    const double focal = s.instrument.focal_length_mm * 1000 / s.instrument.pixel_um; // pixels
    for (int row = 0; row < kRows; ++row) {
        double clock = 8.2 * 3600;
        for (int column = 0; column < kColumns; ++column) {
            const int number = row * kColumns + column + 1;
            const double haze = 1 + 0.25 * random.uniform();
            for (const auto& [filter, count] : {std::pair("L", 6), std::pair("R", 4)})
                for (int i = 0; i < count; ++i, clock += 102) {
                    Shot shot = light(fmt::format("panel {}/{}_{:03}.fits", number, filter, i + 1),
                                      {filter, 90, 12 + row, clock, haze * filter_sky(filter)}, random);
                    shot.target = fmt::format("{} panel {}", s.target, number);
                    Pointing& p = shot.conditions.pointing;
                    p.sky = sky_pointed(focal, (column - 0.5 * (kColumns - 1)) * kStepX + p.offset_x,
                                        (row - 0.5 * (kRows - 1)) * kStepY + p.offset_y);
                    p.offset_x = p.offset_y = 0;
                    p.rotation = (row == 1 ? 1.3 : 0) + (number == kColumns * kRows ? 180 : 0);
                    shot.conditions.fwhm = 2.6 * std::exp(0.05 * random.normal());
                    s.shots.push_back(std::move(shot));
                }
        }
    }
    for (const int day : {12, 13})
        for (const char* filter : {"L", "R"})
            add_calibration(s, {Shot::Role::flat, fmt::format("flats/{}", day), fmt::format("flat-{}", filter), 12, 2.5,
                                day, 7.5 * 3600, filter, 0, 24000});
    add_calibration(s, {Shot::Role::dark, "darks", "dark", 12, 90, 12, 19 * 3600});
    add_calibration(s, {Shot::Role::bias, "bias", "bias", 12, 0.001, 12, 22 * 3600});
    return s;
}

} // namespace

const std::vector<Variant>& demo_variants() {
    static const std::vector<Variant> variants = {
        {"nights", "Three nights on the Paper Lantern Nebula with a cooled mono camera and five filters.",
         demo_scenario},
        {"colour", "One-shot colour: sky flats of all exposure times, and bias only.", colour},
        {"dslr", "A DSLR on a lens: DNG files, a drifting temperature, a library of darks, no flats.", dslr},
        {"silent", "A heap of files whose headers and names say nothing.", silent},
        {"tripod", "A still camera with a wide lens on a tripod: the sky turns over hills and a tree.", tripod},
        {"sparse-pixels", "Large pixels on a short lens: forty dithered lights of stars smaller than two pixels.",
         sparse_pixels},
        {"bright-core", "A core two hundred times too bright for long exposures, and four short ones of another night.",
         bright_core},
        {"comet", "A comet that moves by a few pixels from light to light, through two filters.", comet},
        {"panels", "Six panels of one field through two filters, on two evenings.", panels},
        {"mistakes", "A night with half a dozen mistakes, which 'kasane check' names.", mistakes},
    };
    return variants;
}

const Variant& demo_variant(const std::string& name) {
    for (const Variant& v : demo_variants())
        if (v.name == name) return v;
    throw UsageError(fmt::format("there is no demo called {}", name), {}, "See 'kasane demo --help'");
}

} // namespace kasane::sky

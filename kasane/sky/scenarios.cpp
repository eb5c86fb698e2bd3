// The scenarios themselves: what happened on which night.
#include <kasane/sky/scenario.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane::sky {

namespace {

struct Sequence {
    std::string filter;
    int count;
    double seconds;
};

/// What goes wrong on a night, as spans of the running number of the light.
struct Span {
    std::string flaw;
    int first, last;
    bool holds(int i) const { return i >= first && i <= last; }
};

struct Night {
    int number, day, dust;
    double moon;     ///< factor on the sky
    double seeing;   ///< pixels
    double rotation; ///< degrees: the camera was put on by hand
    int flip_at;     ///< running number of the first light after the meridian
    std::vector<Sequence> sequences;
    std::vector<Span> flaws;
    std::vector<int> trails;
};

Trail random_trail(Random& random, const Instrument& n, bool aircraft) {
    Trail t;
    t.x0 = -10;
    t.x1 = n.width + 10;
    t.y0 = random.uniform(0.05, 0.95) * n.height;
    t.y1 = random.uniform(0.05, 0.95) * n.height;
    t.electrons = aircraft ? 3500 : random.uniform(250, 1500);
    t.width = aircraft ? 2.2 : 1.3;
    t.blink = aircraft ? 35 : 0;
    return t;
}

/// Which light of a night, and behind what.
struct Moment {
    int i, count;
    double filter_sky;
};

Conditions weather(const Night& night, const Moment& moment, Random& random, const Instrument& n) {
    const auto& [i, count, filter_sky] = moment;
    Conditions c;
    const double hour = static_cast<double>(i) / std::max(1, count - 1); // 0..1 through the night
    c.transparency = 0.97 - 0.12 * hour + 0.015 * random.normal();
    c.sky = filter_sky * night.moon * (1 + 0.25 * hour);
    c.gradient_x = 0.05 * std::cos(3 * hour + night.number);
    c.gradient_y = 0.06 * std::sin(2 * hour + night.number);
    c.fwhm = night.seeing * (1 + 0.10 * std::sin(5 * hour)) * std::exp(0.03 * random.normal());
    c.ellipticity = std::abs(0.04 + 0.02 * random.normal());
    c.ellipticity_angle = random.uniform(0, 180);
    c.cosmic_rays = 6;
    // Dithering, slow drift with periodic error, and a little field rotation.
    c.pointing.offset_x = 9 * random.normal() + 10 * hour + 1.5 * std::sin(2 * 3.14159265 * i / 4.7);
    c.pointing.offset_y = 9 * random.normal() - 7 * hour;
    c.pointing.rotation = night.rotation + 0.12 * hour + (i >= night.flip_at ? 180 : 0);
    for (const Span& span : night.flaws) {
        if (!span.holds(i)) continue;
        c.flaws.push_back(span.flaw);
        const double depth = std::sin(3.14159265 * (i - span.first + 1.0) / (span.last - span.first + 2.0));
        if (span.flaw == "cloud") {
            c.transparency *= 1 - 0.93 * depth;
            c.sky *= 1 + 0.9 * depth;
            c.gradient_x += 0.12 * depth;
        } else if (span.flaw == "twilight") {
            c.sky *= 2.5 + 3.0 * (i - span.first);
            c.gradient_y += 0.10;
        } else if (span.flaw == "wind") {
            c.fwhm *= 1.5;
            c.ellipticity = 0.45;
            c.ellipticity_angle = 20;
        } else if (span.flaw == "obstruction") {
            c.obstruction = 0.18 + 0.27 * (i - span.first);
        }
    }
    if (std::find(night.trails.begin(), night.trails.end(), i) != night.trails.end()) {
        c.trails.push_back(random_trail(random, n, i % 5 == 0));
        c.flaws.emplace_back("trail");
    }
    return c;
}

} // namespace

std::string evening_time(int day, double seconds_after_noon) {
    auto total = static_cast<long>(std::lround(seconds_after_noon)) + 12 * 3600;
    day += static_cast<int>(total / 86400);
    total %= 86400;
    return fmt::format("2031-03-{:02}T{:02}:{:02}:{:02}", day, total / 3600, total / 60 % 60, total % 60);
}

double filter_sky(const std::string& filter) {
    return filter == "L" ? 4.0 : filter == "Ha" ? 0.10 : 1.4;
}

void add_calibration(Scenario& s, const CalibrationSeries& c) {
    Random random(s.seed, 77, s.shots.size());
    for (int i = 0; i < c.count; ++i) {
        Shot shot;
        shot.role = c.role;
        shot.path = fmt::format("{}/{}_{:03}.fits", c.folder, c.stem, i + 1);
        shot.filter = c.filter;
        shot.seconds = c.seconds;
        shot.temperature = c.temperature;
        shot.start = evening_time(c.day, c.clock + i * (c.seconds + 3));
        shot.dust = c.dust;
        shot.flat_electrons = c.level * (1 + 0.02 * random.normal()); // the panel flickers
        shot.conditions.cosmic_rays = 0.01 * c.seconds;
        s.shots.push_back(std::move(shot));
    }
}

Scenario demo_scenario() {
    Scenario s;
    s.instrument.dust.clear();
    s.dust = {
        {{260, 190, 26, 0.10}, {640, 420, 18, 0.08}, {770, 120, 34, 0.06}, {120, 480, 14, 0.12}},
        {{260, 190, 26, 0.10}, {640, 420, 18, 0.08}, {430, 300, 22, 0.09}, {820, 520, 16, 0.10}},
        {{330, 470, 30, 0.08}, {640, 420, 18, 0.08}, {560, 90, 20, 0.09}},
    };
    const std::vector<Night> nights = {
        {1,
         12,
         0,
         1.0,
         2.9,
         0.0,
         14,
         {{"L", 9, 180}, {"R", 5, 180}, {"G", 5, 180}, {"B", 5, 180}},
         {{"cloud", 17, 20}},
         {3, 10, 15}},
        {2, 13, 1, 1.3, 3.2, 1.4, 9, {{"L", 8, 180}, {"Ha", 9, 300}}, {{"wind", 4, 4}, {"twilight", 15, 16}}, {2, 11}},
        {3,
         15,
         2,
         0.9,
         2.7,
         -0.8,
         11,
         {{"Ha", 7, 300}, {"R", 5, 180}, {"G", 5, 180}, {"B", 5, 180}, {"L", 3, 180}},
         {{"obstruction", 23, 24}},
         {5, 12, 18}},
    };
    for (const Night& night : nights) {
        const std::string folder = fmt::format("night-{}", night.number);
        int total = 0, i = 0;
        for (const Sequence& q : night.sequences)
            total += q.count;
        double clock = 8.2 * 3600;
        Random random(s.seed, 5, static_cast<std::uint64_t>(night.number));
        for (const Sequence& q : night.sequences)
            for (int k = 0; k < q.count; ++k, ++i) {
                Shot shot;
                shot.path = fmt::format("{}/lights/{}_{:03}.fits", folder, q.filter, k + 1);
                shot.filter = q.filter;
                shot.seconds = q.seconds;
                shot.start = evening_time(night.day, clock);
                shot.dust = night.dust;
                shot.conditions = weather(night, {i, total, filter_sky(q.filter)}, random, s.instrument);
                clock += q.seconds + 12 + (i + 1 == night.flip_at ? 600 : 0);
                s.shots.push_back(std::move(shot));
            }
        for (const Sequence& q : night.sequences)
            add_calibration(s, {Shot::Role::flat, folder + "/flats", "flat-" + q.filter, 10, 2.5, night.day, 7.5 * 3600,
                                q.filter, night.dust, 24000});
    }
    add_calibration(s, {Shot::Role::bias, "darks", "bias", 20, 0.001, 16, 1 * 3600});
    add_calibration(s, {Shot::Role::dark, "darks", "dark-180s", 12, 180, 16, 2 * 3600});
    add_calibration(s, {Shot::Role::dark, "darks", "dark-300s", 12, 300, 16, 4 * 3600});
    return s;
}

Scenario plain_scenario(const PlainOptions& o) {
    Scenario s;
    s.target = "Paper Lantern Field";
    s.seed = o.seed;
    s.scene.seed = o.seed;
    s.scene.width = s.instrument.width = o.width;
    s.scene.height = s.instrument.height = o.height;
    s.scene.filters = {o.filter};
    s.scene.stars = o.stars;
    s.scene.nebula = o.nebula;
    s.scene.galaxy = o.galaxy;
    s.scene.extended_step = o.extended_step;
    s.scene.margin = static_cast<int>(40 + 4 * o.dither + (o.rotation > 0 ? 0.25 * o.width : 0));
    s.dust = {{{0.3 * o.width, 0.4 * o.height, 20, 0.09}, {0.7 * o.width, 0.65 * o.height, 15, 0.11}}};
    Random random(o.seed, 3);
    for (int i = 0; i < o.lights; ++i) {
        Shot shot;
        shot.path = fmt::format("night-1/lights/{}_{:03}.fits", o.filter, i + 1);
        shot.filter = o.filter;
        shot.seconds = o.seconds;
        shot.start = evening_time(12, 9 * 3600 + i * (o.seconds + 10));
        Conditions& c = shot.conditions;
        c.transparency = random.uniform(o.transparency_low, 1.0);
        c.sky = filter_sky(o.filter) * (1 + o.sky_spread * random.uniform());
        c.gradient_x = o.gradient * random.uniform(-1, 1);
        c.gradient_y = o.gradient * random.uniform(-1, 1);
        c.fwhm = o.fwhm * (1 + o.fwhm_spread * random.uniform());
        c.pointing.offset_x = o.dither * random.normal();
        c.pointing.offset_y = o.dither * random.normal();
        c.pointing.rotation = o.rotation * random.uniform(-1, 1) + (o.flip && i >= o.lights / 2 ? 180 : 0);
        c.cosmic_rays = o.cosmic_rays;
        if (i < o.trails) {
            c.trails.push_back(random_trail(random, s.instrument, i % 3 == 2));
            c.flaws.emplace_back("trail");
        }
        s.shots.push_back(std::move(shot));
    }
    if (o.calibration > 0) {
        add_calibration(s, {Shot::Role::flat, "night-1/flats", "flat-" + o.filter, o.calibration, 2.5, 12, 8 * 3600,
                            o.filter, 0, 26000});
        add_calibration(s, {Shot::Role::bias, "darks", "bias", o.calibration, 0.001, 12, 18 * 3600});
        add_calibration(s, {Shot::Role::dark, "darks", "dark", o.calibration, o.seconds, 12, 19 * 3600});
    }
    return s;
}

} // namespace kasane::sky

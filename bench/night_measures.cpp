// How well the standard limits judge nights that they were not set on.
#include "fidelity_measures.hpp"
#include "simulated.hpp"

#include <kasane/project/grade.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane::bench {

namespace {

/// A night in one filter: weather that wanders, and one to three things that go wrong for a while.
sky::Scenario random_night(std::uint64_t seed) {
    sky::Random random(seed, 41);
    const auto chance = [&](double p) { return random.uniform() < p; };
    const std::string filter = chance(0.25) ? "Ha" : chance(0.5) ? "R" : "L";
    const int lights = 14 + static_cast<int>(random.uniform(0, 16));
    sky::PlainOptions o{.width = 480, .height = 360, .lights = lights, .calibration = 6, .seed = seed};
    o.stars = static_cast<int>(random.uniform(150, 700));
    o.seconds = filter == "Ha" ? 300 : random.uniform(30, 180);
    o.nebula = random.uniform(0, 2);
    o.galaxy = chance(0.3) ? 6 : 0;
    o.dither = random.uniform(0, 10);
    o.flip = chance(0.4);
    o.cosmic_rays = 3;
    o.filter = filter;
    o.fwhm = random.uniform(2.0, 4.2);
    sky::Scenario s = sky::plain_scenario(o);
    std::vector<sky::Conditions*> c;
    for (sky::Shot& shot : s.shots)
        if (shot.role == sky::Shot::Role::light) c.push_back(&shot.conditions);
    const auto n = static_cast<double>(c.size());
    const double phase = random.uniform(0, 6), fall = random.uniform(0, 0.15), moon = random.uniform(0, 0.35),
                 swing = random.uniform(0, 0.12);
    for (std::size_t i = 0; i < c.size(); ++i) {
        const double hour = static_cast<double>(i) / n;
        c[i]->transparency = (0.97 - fall * hour) * (1 + 0.02 * random.normal());
        c[i]->sky *= 1 + moon * hour;
        c[i]->gradient_x = 0.06 * std::cos(2 * hour + phase);
        c[i]->gradient_y = 0.06 * std::sin(3 * hour + phase);
        c[i]->fwhm *= (1 + swing * std::sin(5 * hour + phase)) * std::exp(0.03 * random.normal());
        c[i]->ellipticity = std::abs(0.05 + 0.03 * random.normal());
        c[i]->ellipticity_angle = random.uniform(0, 180);
        if (chance(0.15)) {
            const bool aircraft = chance(0.3);
            c[i]->trails.push_back({-10, random.uniform(20, 340), 490, random.uniform(20, 340),
                                    aircraft ? 3000.0 : random.uniform(200, 1200), 1.4, aircraft ? 30.0 : 0.0});
        }
    }
    const int flaws = 1 + static_cast<int>(random.uniform(0, 3));
    for (int k = 0; k < flaws; ++k) {
        const auto length = static_cast<std::size_t>(random.uniform(1, 1 + 0.2 * n));
        const std::size_t end =
            c.size() -
            (chance(0.5) ? 0 : static_cast<std::size_t>(random.uniform(0, n - static_cast<double>(length) - 1)));
        const int kind = static_cast<int>(random.uniform(0, 4));
        const std::size_t last = kind == 1 || kind == 3 ? c.size() : end; // dawn and roofs come at the end
        for (std::size_t i = last - length; i < last; ++i) {
            const double depth = static_cast<double>(i - (last - length) + 1) / static_cast<double>(length);
            if (kind == 0) {
                c[i]->transparency *= random.uniform(0.05, 0.6);
                c[i]->sky *= random.uniform(1, 2);
                c[i]->flaws.emplace_back("cloud");
            } else if (kind == 1) {
                c[i]->sky *= 2.2 + random.uniform(0, 6) * depth;
                c[i]->gradient_y += 0.1;
                c[i]->flaws.emplace_back("twilight");
            } else if (kind == 2) {
                c[i]->ellipticity = random.uniform(0.42, 0.62);
                c[i]->fwhm *= random.uniform(1.1, 1.7);
                c[i]->flaws.emplace_back("wind");
            } else {
                c[i]->obstruction = 0.15 + random.uniform(0, 0.5) * depth;
                c[i]->flaws.emplace_back("obstruction");
            }
        }
    }
    return s;
}

} // namespace

std::vector<Figure> verdict_errors(const Context& context, std::uint64_t first_seed, int nights) {
    int flawed = 0, missed = 0, good = 0, lost = 0;
    for (int k = 0; k < nights; ++k) {
        const sky::Scenario s = random_night(first_seed + static_cast<std::uint64_t>(k));
        const TemporaryFolder folder;
        sky::write_scenario(s, folder.path() / "p", context);
        GradeOptions o;
        o.run.folder = folder.path() / "p";
        const GradeReport report = grade_project(o, context);
        for (const StackGrade& stack : report.stacks)
            for (const FrameGrade& f : stack.frames)
                for (const sky::Shot& shot : s.shots) {
                    if (shot.path != f.path) continue;
                    const sky::Conditions& c = shot.conditions;
                    const bool bad = !c.flaws.empty();
                    (bad ? flawed : good) += 1;
                    missed += bad && f.verdict.keep;
                    lost += !bad && !f.verdict.keep;
                    if (bad == f.verdict.keep)
                        fmt::print(stderr,
                                   "seed {} {} {}: {} (transparency {:.2f}, sky {:.2f}, fwhm {:.2f}, ellipticity "
                                   "{:.2f}, obstruction {:.2f}) measured transparency {:.2f} sky {:.3f} fwhm {:.2f} "
                                   "ecc {:.2f} obstructed {:.2f} worth {:.2f} stars {:.0f}; {}\n",
                                   first_seed + static_cast<std::uint64_t>(k), f.path, bad ? c.flaws.front() : "good",
                                   f.verdict.keep ? "kept" : "dropped", c.transparency, c.sky, c.fwhm, c.ellipticity,
                                   c.obstruction, f.figures[Measure::transparency], f.figures[Measure::sky],
                                   f.figures[Measure::fwhm], f.figures[Measure::eccentricity],
                                   f.figures[Measure::obstructed], f.figures[Measure::worth], f.figures[Measure::stars],
                                   f.verdict.reason);
                }
    }
    const auto percent = [](int part, int all) { return 100.0 * part / std::max(1, all); };
    return {{"verdicts",
             fmt::format("exposures spoilt by cloud, dawn, wind or a roof that are kept ({} of {}, {} nights)", missed,
                         flawed, nights),
             percent(missed, flawed), "%", 2},
            {"verdicts", fmt::format("good exposures that are dropped ({} of {})", lost, good), percent(lost, good),
             "%", 2}};
}

} // namespace kasane::bench

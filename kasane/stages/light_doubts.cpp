#include <kasane/stages/light_doubts.hpp>

#include <kasane/base/error.hpp>
#include <kasane/calibration/cfa_phase.hpp>
#include <kasane/calibration/flat_fit.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace kasane {

namespace {

/// The sky of a calibrated light as it was measured on a grid whose pixels have so many of the sensor's along a side,
/// by blocks about as large as light_levels has them. None where it was not, or by much larger ones.
BlockLevels sky_levels(const ExposureMeasures& measures, int pixels) {
    const SkyMeans& sky = measures.main().mesh.means;
    if (sky.empty()) return {};
    const int cell = pixels * sky.cell, side = block_side(pixels * sky.width, pixels * sky.height),
              cells = std::max(1, (side + cell / 2) / cell);
    constexpr int kTooLarge = 2; // times: shadows of dust drown
    if (cell > kTooLarge * side) return {};
    BlockLevels out;
    out.block = cells * cell;
    out.noise = pixels * measures.main().noise;
    out.levels = Image(sky.width / (cells * sky.cell), sky.height / (cells * sky.cell));
    std::vector<float> values;
    for (int j = 0; j < out.levels.height(); ++j)
        for (int i = 0; i < out.levels.width(); ++i) {
            values.clear();
            for (int y = j * cells; y < (j + 1) * cells; ++y)
                for (int x = i * cells; x < (i + 1) * cells; ++x)
                    if (const float v = sky.values(x, y); std::isfinite(v)) values.push_back(v);
            out.levels(i, j) = values.empty() ? kNoData : median_in_place(values);
        }
    return out;
}

class Doubting {
public:
    Doubting(const Session& session, Calibrations& calibrations, std::vector<StackDoubt>& doubts)
        : s_(session), calibrations_(calibrations), doubts_(doubts) {}

    /// A few lights of each flat tell whether it fits them, by what was measured of them.
    void check_flats(const StackPlan& plan, const std::vector<Light>& lights) {
        constexpr std::size_t kAsked = 3;
        std::map<std::size_t, std::vector<const Light*>> by_flat;
        for (const Light& l : lights)
            if (l.measures && l.plan->flat && s_.masters[*l.plan->flat]) by_flat[*l.plan->flat].push_back(&l);
        for (const auto& [flat, all] : by_flat) {
            std::vector<std::string> doubted;
            std::string why;
            const std::size_t asked = std::min(kAsked, all.size());
            const auto light = [&, &of = all](std::size_t k) -> const Light& {
                return *of[(2 * k + 1) * of.size() / (2 * asked)];
            };
            BlockLevels of_flat;
            for (std::size_t k = 0; k < asked; ++k) {
                BlockLevels shown;
                (void)attempt([&] { // what fails is told where it is integrated
                    const auto view = calibrations_.view(*light(k).plan);
                    if (view->source().planes() != 1) return;
                    const BlockLevels sky = sky_levels(*light(k).measures, view->cell());
                    const bool told = !sky.levels.empty(); // else by its pixels
                    const BlockLevels own = told ? sky : light_levels(view->source());
                    if (of_flat.block != own.block) of_flat = flat_levels(view->source(), own.block);
                    shown = told ? before_flat(own, of_flat) : own;
                });
                const std::string doubt = fit_flat(shown, of_flat).doubt;
                if (doubt.empty()) continue;
                doubted.push_back(light(k).exposure->path);
                why = doubt;
            }
            if (2 * doubted.size() > asked)
                doubts_.push_back(
                    {"flat-does-not-fit", doubted,
                     fmt::format("the flat {} does not fit {} of the {} lights of {} that were asked: {}",
                                 s_.pairing.masters[flat].name, doubted.size(), asked, plan.name, why),
                     "Look at one with 'kasane show'; pair other flats in the recipe, or take them again"});
        }
    }

    /// Calibrated skies below zero: the dark holds more than the light.
    void check_darks(const StackPlan& plan, const std::vector<Light>& lights) {
        std::vector<std::string> below;
        for (const Light& l : lights)
            if (l.measures && l.plan->dark && l.measures->main().background < -0.5 * l.measures->main().noise)
                below.push_back(l.exposure->path);
        if (!below.empty())
            doubts_.push_back(
                {"dark-brighter-than-light", below,
                 fmt::format(
                     "the sky of {} lights of {} lies below zero after their dark: it was taken warmer, longer, "
                     "with light on it, or at another offset",
                     below.size(), plan.name),
                 "Check the dark's exposure, temperature and offset with 'kasane check'"});
    }

    /// Both in a mosaic's flat and in its sky the two greens must be alike.
    void check_phase(const std::vector<Light>& lights) {
        for (const Light& l : lights) {
            if (!l.measures || l.exposure->cfa.empty()) continue;
            std::string allowed;
            (void)attempt([&] { // what fails is told where it is integrated
                allowed = contradicted_phase(*s_.open(l.plan->exposure), CfaPattern(l.exposure->cfa));
            });
            if (!allowed.empty())
                doubts_.push_back(
                    {"cfa-phase",
                     {l.exposure->path},
                     fmt::format("its colour filter pattern is given as {} ({}), but the pixels look like {}",
                                 l.exposure->cfa, l.exposure->source(Field::cfa).text(), allowed),
                     "Give the right one with cfa in [assume] or [[files]] of kasane.toml"});
            return; // one light speaks for all
        }
    }

private:
    const Session& s_;
    Calibrations& calibrations_;
    std::vector<StackDoubt>& doubts_;
};

} // namespace

std::vector<StackDoubt> find_doubts(const Session& session, Calibrations& calibrations, const StackPlan& plan,
                                    const std::vector<Light>& lights) {
    std::vector<StackDoubt> doubts;
    Doubting doubting(session, calibrations, doubts);
    doubting.check_darks(plan, lights);
    doubting.check_flats(plan, lights);
    doubting.check_phase(lights);
    return doubts;
}

} // namespace kasane

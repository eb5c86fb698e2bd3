#include <kasane/stages/light_doubts.hpp>

#include <kasane/base/error.hpp>
#include <kasane/calibration/cfa_phase.hpp>
#include <kasane/calibration/flat_fit.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace kasane {

namespace {

class Doubting {
public:
    Doubting(const Session& session, Calibrations& calibrations, std::vector<StackDoubt>& doubts)
        : s_(session), calibrations_(calibrations), doubts_(doubts) {}

    /// A few lights of each flat tell whether it fits them.
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
            std::vector<std::shared_ptr<const FrameView>> views(asked); // one after another: they share masters
            std::vector<std::string> doubts(asked);
            for (std::size_t k = 0; k < asked; ++k) // what fails is told where it is integrated
                (void)attempt([&] { views[k] = calibrations_.view(*light(k).plan); });
            const auto pixels = static_cast<std::uint64_t>(light(0).exposure->width) *
                                static_cast<std::uint64_t>(light(0).exposure->height);
            constexpr std::uint64_t kBytes = 12; // a pixel: a light, or its flat, and what is made of it
            std::vector<BlockLevels> shown(asked);
            BlockLevels of_flat;
            const auto first = std::find_if(views.begin(), views.end(), [](const auto& v) { return v != nullptr; });
            if (first == views.end()) continue;
            s_.context.workers.for_each(
                asked + 1,
                [&](std::size_t k) {
                    (void)attempt([&] {
                        if (k == asked)
                            of_flat = flat_levels((*first)->source());
                        else if (views[k] && views[k]->source().planes() == 1)
                            shown[k] = light_levels(views[k]->source());
                    });
                },
                s_.context.memory.fitting(kBytes * pixels, s_.context.workers.threads()));
            for (std::size_t k = 0; k < asked; ++k)
                doubts[k] = fit_flat(shown[k], of_flat).doubt;
            for (std::size_t k = 0; k < asked; ++k)
                if (!doubts[k].empty()) {
                    doubted.push_back(light(k).exposure->path);
                    why = doubts[k];
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

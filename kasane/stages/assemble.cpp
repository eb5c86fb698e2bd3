#include <kasane/stages/assemble.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/binned_frame.hpp>
#include <kasane/integration/lengths.hpp>
#include <kasane/io/watched_frame.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/shared_frames.hpp>
#include <kasane/stages/stack_basis.hpp>
#include <kasane/stages/stack_levels.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

void drop(Light& l, const FileFailure& failure) {
    l.verdict = {false, Author::impossible, failure.what_failed + ". " + failure.remedy, {}};
    l.unread = !failure.unfit;
    l.measures.reset();
    l.registration = {};
}

LevelInput level_input(const Light& l, std::size_t plane) {
    return {&l.measures->planes[plane], l.to_frame[plane],  l.exposure->seconds.value_or(0),
            l.measures->width,          l.measures->height, &l.measures->streaks};
}

LevelInput main_level_input(const Light& l) {
    return level_input(l, static_cast<std::size_t>(l.main_plane()));
}

bool usable(const Light& l) {
    return l.verdict.keep && l.registration.result.has_value();
}

/// The frame that the others are brought to: of those kept, the one whose stars stand out most.
const Light* level_reference(const std::vector<Light>& lights) {
    const Light* best = nullptr;
    for (const Light& l : lights)
        if (usable(l) && (!best || l.contribution.information > best->contribution.information)) best = &l;
    return best;
}

/// The same view; reading through it draws the exposure as it came.
std::shared_ptr<const FrameView> drawing(const FrameView& view, const std::shared_ptr<SmallFrame>& small) {
    return with_raw(view, std::make_shared<const WatchedFrame>(view.source().shared_raw(), [small](const Region& read) {
                        small->draw(read.y, read.bottom());
                    }));
}

/// What the recipe weighs beside the noise; a light of which a measure is not known counts as the median in it.
void emphasise(const Session& s, Assembly& a) {
    for (const auto& [measure, exponent] : s.recipe.integration.weights) {
        if (measure == Measure::worth) continue;
        std::vector<float> known;
        for (const Light* l : a.lights)
            if (const double v = l->figures[measure]; v > 0 && std::isfinite(v)) known.push_back(static_cast<float>(v));
        if (known.empty()) continue;
        const double usual = median_in_place(known);
        for (std::size_t k = 0; k < a.frames.size(); ++k) {
            const double v = a.lights[k]->figures[measure];
            if (v > 0 && std::isfinite(v)) a.frames[k].emphasis *= std::pow(v / usual, exponent);
        }
    }
}

} // namespace

double density_of(const Light& l) {
    return pixel_density(l.to_frame[static_cast<std::size_t>(l.main_plane())], l.measures->width, l.measures->height);
}

int binned_by(const Light& l, const StackFrame& frame) {
    return std::max(1, l.measures->width / std::max(1, frame.source->width()));
}

Assembler::Assembler(Session& session, const ReferenceGroup& group, Calibrations& calibrations,
                     const GradedLights& graded, const GroupCanvas& at)
    : s_(session), group_(group), calibrations_(calibrations), graded_(graded), at_(at),
      usable_(session, graded.lights) {
    for (const std::vector<Light>& lights : graded.lights)
        if (const auto best = best_kept(lights)) shown_.insert(lights[*best].exposure);
}

std::vector<Light> Assembler::lights_of(const JointStack& stack) const {
    std::vector<Light> out;
    const Light* first = nullptr; // whose scale it is
    for (const std::size_t part : stack.parts) {
        const auto at = std::find(group_.stacks.begin(), group_.stacks.end(), part) - group_.stacks.begin();
        const std::vector<Light>& graded = graded_.lights[static_cast<std::size_t>(at)];
        std::vector<Light> lights = graded;
        const Light* here = level_reference(graded);
        if (!first) first = here;
        if (here && here != first) {
            const StarScale s = fit_star_scale(main_level_input(*first), main_level_input(*here), graded_.canvas);
            const double denser = density_of(*here) / density_of(*first);
            for (Light& l : lights)
                l.contribution.information *= denser / (s.scale * s.scale);
        }
        out.insert(out.end(), std::make_move_iterator(lights.begin()), std::make_move_iterator(lights.end()));
    }
    return out;
}

Assembly Assembler::assemble_unmatched(const StackPlan& plan, std::vector<Light>& lights, std::uint64_t spare) const {
    Assembly a;
    std::vector<std::shared_ptr<const FrameView>> views;
    for (Light& l : lights) {
        if (!usable(l)) continue;
        StackFrame f;
        // Beside its place by what its stars are off beyond their own errors.
        const double rms = l.registration->rms, own = l.registration->expected;
        const double beside = std::max(StackPlane{}.misplaced, std::sqrt(std::max(0.0, rms * rms - own * own)));
        for (std::size_t p = 0; p < l.measures->planes.size(); ++p)
            f.planes.push_back({l.to_frame[p].after(at_.canvas.to_reference()),
                                {},
                                l.measures->planes[p].noise,
                                l.measures->planes[p].fwhm,
                                beside});
        f.electrons_per_adu = account().electrons_of(l);
        f.streaks = l.measures->streaks;
        f.burnt = burnt_regions(*l.measures);
        const double usable = usable_.of(*l.exposure);
        f.saturation = std::max(0.0, usable - account().level_without_light(l));
        const auto failure = attempt([&] {
            views.push_back(calibrations_.view(
                *l.plan, std::shared_ptr<const OwnCorrections>(l.measures, &l.measures->own), usable));
        });
        if (failure) {
            drop_or_raise(l, *failure);
            continue;
        }
        if (shown_.count(l.exposure)) {
            a.drawn.emplace_back(&l, std::make_shared<SmallFrame>(as_it_came(*views.back())));
            views.back() = drawing(*views.back(), a.drawn.back().second);
        }
        a.frames.push_back(std::move(f));
        a.lights.push_back(&l);
    }
    if (a.frames.empty()) return a;
    SharedFrames shared(views, spare);
    for (std::size_t k = 0; k < a.frames.size(); ++k) {
        a.frames[k].source = views[k];
        // A master that cannot be read is told of where a frame is read.
        (void)attempt([&] { a.frames[k].source = shared.prepared(k, views[k], &s_.context.workers); });
    }
    a.held = shared.bytes();
    for (std::size_t p = 0; p < a.frames.front().planes.size(); ++p) {
        std::vector<LevelInput> inputs;
        std::vector<std::string> sources;
        const Affine grid = at_.level_grid.to_reference();
        for (const Light* l : a.lights) {
            inputs.push_back(level_input(*l, p));
            inputs.back().to_frame = inputs.back().to_frame.after(grid);
            sources.push_back(measure_key(s_, calibrations_, *l->plan));
        }
        LevelOptions options = level_options(s_, plan, a.frames.front().planes.size() == 3 ? static_cast<int>(p) : -1);
        if (!options.sky.empty()) { // of the reference's grid
            options.sky.x -= static_cast<int>(std::lround(grid.c));
            options.sky.y -= static_cast<int>(std::lround(grid.f));
        }
        a.levels.push_back(levels_of_stack(s_, inputs, sources, p, at_.level_grid, options));
        a.backgrounds.push_back(a.levels.back().background);
        const bool same = at_.canvas == at_.level_grid;
        for (std::size_t k = 0; k < a.frames.size(); ++k) {
            const LevelMap& map = a.levels.back().maps[k];
            a.frames[k].planes[p].level = same ? map : map.onto(at_.canvas, at_.to_level_grid);
            double& off = a.frames[k].planes[p].scale_error; // by its flat, so far
            off = std::hypot(off, a.levels.back().scales[k].error);
        }
    }
    emphasise(s_, a);
    for (std::size_t k = 0; k < a.frames.size(); ++k) {
        for (const StackPlane& p : a.frames[k].planes)
            if (const std::string wrong = p.level.check(); !wrong.empty()) { // one such spoils the others' levels
                drop_or_raise(*a.lights[k], {s_.path_of(a.lights[k]->plan->exposure),
                                             "could not be brought to the level of the others: " + wrong,
                                             "Look at it with 'kasane show'", true});
                return assemble_unmatched(plan, lights, spare);
            }
        a.frames[k] = binned_to_canvas(std::move(a.frames[k]));
    }
    settle_lengths(a);
    return a;
}

Assembly Assembler::assemble(const StackPlan& plan, std::vector<Light>& lights, std::uint64_t spare) const {
    for (;;) {
        Assembly a = assemble_unmatched(plan, lights, spare);
        if (count_lengths(a.frames) < 2) return a;
        for (std::size_t k = 0; k < a.frames.size(); ++k)
            for (std::size_t p = 0; a.frames[k].length > 0 && p < a.frames[k].planes.size(); ++p) {
                constexpr double kByTime = 0.1; // by the exposure times a scale is not known well
                const StarScale& scale = a.levels[p].scales[k];
                if (scale.stars == 0) a.frames[k].planes[p].scale_error = kByTime;
            }
        a.matches = match_lengths(a.frames, at_.canvas, a.backgrounds, beside(a, s_.context));
        if (!a.matches.failure) return a;
        drop_or_raise(*a.lights[a.matches.failure->frame], a.matches.failure->what);
    }
}

Context beside(const Assembly& a, const Context& context) {
    const std::uint64_t all = context.memory.bytes;
    return {context.workers, {all > a.held ? all - a.held : 0}, context.progress, context.scratch};
}

IntegrateOptions Assembler::options_for(const StackPlan& plan, const Assembly& a) const {
    IntegrateOptions o = integrate_options(s_, plan);
    o.feather /= binned_by(*a.lights.front(), a.frames.front());
    return o;
}

void Assembler::drop_or_raise(Light& l, const FileFailure& failure) const {
    if (failure.file != s_.path_of(l.plan->exposure)) failure.raise();
    drop(l, failure);
}

} // namespace kasane

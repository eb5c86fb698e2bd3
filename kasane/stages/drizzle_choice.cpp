#include <kasane/stages/drizzle_choice.hpp>

#include <kasane/calibration/cfa.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/drizzle.hpp>
#include <kasane/integration/integrate.hpp>

#include <algorithm>
#include <fmt/format.h>

namespace kasane {

namespace {

constexpr std::size_t kFewest = 3;                          // lights from which drizzling is spoken of at all
constexpr double kUndersampled = DrizzleLimits{}.most_fwhm; // above it nobody need be told

/// Of lights that are not drizzled though the recipe leaves it open.
std::string why_not(const SamplingReport& s, std::size_t lights, const Canvas& canvas) {
    if (canvas.scale < 1) return "the canvas is smaller than the lights";
    if (lights < kFewest) return "too few for drizzling";
    if (!(s.fwhm > 0)) return "how sharp they are is not known, so that drizzling may gain nothing";
    if (s.fwhm > kUndersampled) return "drizzling would gain nothing, stars are sampled finely enough";
    if (s.phase_cells < DrizzleLimits{}.least_cells(2))
        return fmt::format("too few of those are filled for drizzling, which takes {:g}",
                           DrizzleLimits{}.least_cells(2));
    return "drizzling would gain too little for what it costs";
}

std::optional<double> own_drop(const Session& s) {
    const DrizzleRecipe& d = s.recipe.drizzle;
    return d.own_drop ? std::optional(d.options.drop) : std::nullopt;
}

std::optional<bool> own_restore(const Session& s) {
    const DrizzleRecipe& d = s.recipe.drizzle;
    return d.own_restore ? std::optional(d.options.restore) : std::nullopt;
}

} // namespace

std::optional<DrizzleRecipe> drizzle_wanted(const Session& s) {
    if (!s.recipe.drizzle.wanted || s.options.preview) return std::nullopt;
    return s.recipe.drizzle;
}

std::vector<SampledFrame> sampled_frames(const std::vector<Light>& lights, const Canvas& canvas) {
    std::vector<SampledFrame> out;
    for (const Light& l : lights) {
        if (!l.verdict.keep || !l.registration || !l.measures) continue;
        SampledFrame f;
        for (const Transform& t : l.to_frame)
            f.to_frame.push_back(t.after(canvas.to_reference()));
        const Measures& main = l.measures->main();
        f.fwhm = main.fwhm;
        f.weight = l.contribution.information > 0 ? l.contribution.information : 1;
        f.width = l.measures->width, f.height = l.measures->height;
        if (l.to_frame.size() == 3 && !l.exposure->cfa.empty())
            f.plane_of = [cfa = CfaPattern(l.exposure->cfa)](int x, int y) { return cfa.colour(x, y); };
        out.push_back(std::move(f));
    }
    return out;
}

std::optional<DrizzleOptions> choose_drizzle(const Session& s, const std::vector<std::vector<Light>>& stacks,
                                             const Canvas& canvas, int planes) {
    const auto wanted = drizzle_wanted(s);
    if (!wanted) return std::nullopt;
    if (wanted->automatic && canvas.scale < 1)
        return std::nullopt; // smaller than the lights: the opposite is asked for
    std::vector<std::vector<SampledFrame>> frames;
    for (const std::vector<Light>& lights : stacks)
        if (std::vector<SampledFrame> f = sampled_frames(lights, canvas); f.size() >= kFewest)
            frames.push_back(std::move(f));
    const auto restoring = [&](std::optional<DrizzleOptions> o) {
        return o ? std::optional(advise_restoring(frames, canvas, *o, own_restore(s))) : std::nullopt;
    };
    if (!wanted->automatic) return restoring(wanted->options);
    DrizzleLimits limits;
    while (limits.most_scale > 1 &&
           result_bytes(drizzled_canvas(canvas, limits.most_scale), planes) > s.context.memory.for_buffers())
        --limits.most_scale;
    return restoring(advise_drizzle(frames, canvas, wanted->options.shape, own_drop(s), limits));
}

SamplingReport describe_sampling(const Session& s, const std::vector<Light>& lights, const Canvas& canvas,
                                 const std::optional<DrizzleOptions>& drizzled, PhaseCoverage* phases) {
    SamplingReport out;
    const std::vector<SampledFrame> frames = sampled_frames(lights, canvas);
    const auto wanted = drizzle_wanted(s);
    std::vector<float> widths;
    for (const SampledFrame& f : frames)
        if (f.fwhm > 0) widths.push_back(static_cast<float>(f.fwhm));
    out.fwhm = widths.empty() ? 0 : static_cast<double>(median_in_place(widths));
    *phases = phase_coverage(frames, canvas);
    out.phase_cells = phases->cells;
    const std::string seen =
        fmt::format("stars of {:.2f} px, pixels of {} light{} that fill {:.1f} of 16 quarter-pixel phases", out.fwhm,
                    frames.size(), frames.size() == 1 ? "" : "s", out.phase_cells);
    const auto tell = [&](const DrizzlePrediction& p) {
        out.scale = p.options.scale, out.drop = p.options.drop, out.restored = p.options.restore;
        out.drizzled_fwhm = p.fwhm, out.interpolated_fwhm = p.interpolated;
        out.gain = p.gain, out.cost = p.cost, out.holes = p.holes;
        return prediction_text(p);
    };
    if (drizzled) {
        const DrizzlePrediction p = predict_drizzle(frames, canvas, *drizzled);
        out.drizzled = true;
        out.text = seen + ": " + tell(p);
        const DrizzleLimits limits;
        std::vector<std::string> against;
        if (frames.size() < kFewest) against.push_back("too few lights");
        if (out.phase_cells < limits.least_cells(drizzled->scale))
            against.push_back("the phases are not filled, so that less is gained than that");
        if (p.gain < limits.least_gain) against.push_back("little or nothing is gained");
        if (p.uneven > limits.most_cost) against.push_back("it costs much noise");
        if (p.holes > limits.most_holes) against.push_back("there are holes");
        if (!against.empty())
            out.text += fmt::format(". AGAINST THE ADVICE: {}; {}", fmt::join(against, ", "),
                                    p.uneven > limits.most_cost || p.holes > limits.most_holes ||
                                            out.phase_cells < limits.least_cells(drizzled->scale)
                                        ? "more lights, dithered, a larger drop or a smaller scale would help"
                                        : "scale = \"none\" is as good");
        return out;
    }
    const bool open = wanted && wanted->automatic;
    const Combination made_by = s.recipe.integration.combination;
    const bool can = made_by == Combination::mean || made_by == Combination::sum;
    if (!open && (!can || s.options.preview || canvas.scale < 1 || frames.size() < kFewest || !(out.fwhm > 0) ||
                  out.fwhm > kUndersampled))
        return out;
    std::optional<DrizzleOptions> best;
    if (canvas.scale >= 1) best = advise_drizzle({frames}, canvas, s.recipe.drizzle.options.shape, own_drop(s));
    if (best) best = advise_restoring({frames}, canvas, *best, own_restore(s));
    if (best)
        out.text = seen + ": drizzled, " + tell(predict_drizzle(frames, canvas, *best)) +
                   (open ? ". Not done: not all master lights of this grid would gain so, or memory has no room for it"
                         : ". Ask for it by [drizzle] scale = \"auto\"");
    else if (open)
        out.text = seen + ": " + why_not(out, frames.size(), canvas) + ". Interpolated";
    return out;
}

} // namespace kasane

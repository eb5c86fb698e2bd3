#include <kasane/integration/integrate.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/combination/account.hpp>
#include <kasane/combination/combiner.hpp>
#include <kasane/combination/efficiency.hpp>
#include <kasane/integration/expected_stack.hpp>
#include <kasane/integration/rejection_trials.hpp>
#include <kasane/integration/resample_pass.hpp>
#include <kasane/integration/tile_engine.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

void require_sound(const std::vector<StackFrame>& frames, const Canvas& canvas, std::size_t levels) {
    if (frames.empty()) throw DataError("there are no frames to integrate", {}, {});
    if (canvas.width < 1 || canvas.height < 1)
        throw UsageError(fmt::format("a master light of {} x {} pixels makes no sense", canvas.width, canvas.height),
                         {}, "Both sides must be positive");
    const std::size_t planes = frames.front().planes.size();
    for (const StackFrame& f : frames) {
        if (f.planes.size() != planes || f.source->planes() != static_cast<int>(planes) || levels != planes)
            throw UsageError("the frames of a stack differ in their number of planes", f.source->path(),
                             "Stack mono and colour exposures apart");
        for (const StackPlane& p : f.planes)
            if (const std::string wrong = p.level.check(); !wrong.empty())
                throw UsageError(wrong, f.source->path(), {});
    }
}

/// The steps of an integration, with all that decides them.
Provenance account_of(const Canvas& canvas, const CombinationChoice& choice, const IntegrateOptions& options) {
    Provenance made;
    Provenance::Step& resample = made.step("resample");
    resample.text = fmt::format("Lanczos-3 onto {} x {} pixels, ringing clamped from {:g} sigma", canvas.width,
                                canvas.height, options.ringing_sigmas);
    resample.set("ringing_sigmas", fmt::format("{:g}", options.ringing_sigmas));
    made.step("level").text = "a scale and an offset of each frame, smooth over the canvas";
    Provenance::Step combine = combine_step(choice);
    if (options.worth_exponent == 1)
        combine.text += "; inverse-variance weights";
    else
        combine.text += options.worth_exponent == 0 ? "; weights aside from noise"
                                                    : fmt::format("; weights by the inverse variance to the power {:g}",
                                                                  options.worth_exponent);
    if (options.feather > 0) combine.text += fmt::format("; edges of frames fade over {:g} pixels", options.feather);
    combine.set("feather", fmt::format("{:g}", options.feather));
    combine.set("real_share", fmt::format("{:g}", options.real_share));
    combine.set("worth_exponent", fmt::format("{:g}", options.worth_exponent));
    combine.set("grow", std::to_string(options.judge.growth.steps));
    combine.set("star_cores", options.judge.star_cores ? "yes" : "no");
    combine.set("streaks", options.mask_streaks ? "masked" : "judged");
    made.steps.push_back(std::move(combine));
    return made;
}

/// Which rejection, and why.
struct Settled {
    CombinationChoice choice;
    std::optional<RejectionComparison> comparison;
};

Settled settle_rejection(const TrialStack& stack, const IntegrateOptions& options, const Context& context) {
    const auto count = static_cast<int>(stack.frames.size());
    const auto fixed = [&](const Rejection& rejection, const std::string& why) {
        const CombineOptions combine{rejection, options.combination};
        return CombinationChoice{combine, combination_text(combine, count) + why};
    };
    std::string instead;
    if (options.rejection) {
        const int least = least_samples(*options.rejection);
        const bool none = std::holds_alternative<NoRejection>(*options.rejection);
        const bool pair = std::holds_alternative<PairRejection>(*options.rejection);
        if (none || count == 1 || (count >= least && !(pair && count > 2))) return {fixed(*options.rejection, ""), {}};
        instead =
            pair ? "; instead of pair, which is for two frames"
                 : fmt::format("; instead of {}, which needs {} frames", rejection_name(*options.rejection), least);
    }
    if (count == 1) return {fixed(NoRejection{}, instead), {}};
    if (options.combination != Combination::mean && options.combination != Combination::sum)
        return {fixed(NoRejection{}, instead), {}};
    RejectionComparison comparison = compare_rejections(stack, options, context);
    if (comparison.failure) return {fixed(NoRejection{}, instead), std::move(comparison)};
    Settled settled{fixed(comparison.trials[comparison.chosen].rejection, instead + " (" + comparison.reason + ")"),
                    {}};
    settled.comparison = std::move(comparison);
    return settled;
}

} // namespace

std::string IntegrateOptions::check() const {
    if (tile < 1) return fmt::format("tiles have a side of 1 pixel or more, not {}", tile);
    if (!(ringing_sigmas >= 0)) return fmt::format("ringing is clamped from 0 sigma or more, not {:g}", ringing_sigmas);
    if (!(real_share >= 0 && real_share <= 1))
        return fmt::format("the share of real frames lies between 0 and 1, not at {:g}", real_share);
    if (!(worth_exponent >= 0 && worth_exponent <= 10))
        return fmt::format("the exponent of the worth lies between 0 and 10, not at {:g}", worth_exponent);
    if (!(feather >= 0 && feather <= 10000)) return fmt::format("edges fade over 0 to 10000 pixels, not {:g}", feather);
    if (feather > 0 && combination != Combination::mean && combination != Combination::sum)
        return fmt::format("edges of frames fade in means and sums, not in what \"{}\" makes",
                           combination_name(combination));
    if (std::string wrong = judge.check(); !wrong.empty()) return wrong;
    return rejection ? CombineOptions{*rejection, combination}.check() : std::string{};
}

Transform to_plane(const StackFrame& frame, std::size_t plane) {
    const auto shift = frame.source->shift(static_cast<int>(plane));
    return frame.planes[plane].to_frame.shifted(-shift[0], -shift[1]);
}

double pixel_density(const Transform& to_frame, int width, int height) {
    const double density = std::abs(to_frame.at(to_frame.unmap({0.5 * (width - 1), 0.5 * (height - 1)})).determinant());
    return density > 0 ? density : 1; // nothing of the frame's middle can be shown
}

std::uint64_t result_bytes(const Canvas& canvas, int planes) {
    return static_cast<std::uint64_t>(canvas.bounds().area()) *
           (2 * sizeof(float) * static_cast<std::uint64_t>(planes) + 2 * sizeof(std::uint16_t));
}

MasterLight integrate(const std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                      const Context& context, const IntegrateOptions& options) {
    require_sound(frames, canvas, levels.size());
    require_sense(options);
    const std::size_t planes = levels.size();
    const int n = static_cast<int>(planes);
    MasterLight result;
    result.pixels = Image(canvas.width, canvas.height, n, kNoData);
    result.coverage = Image(canvas.width, canvas.height, n);
    const StackNoiseFactors noise(frames);
    std::vector<ExpectedStack> expected;
    for (std::size_t p = 0; p < planes; ++p)
        expected.push_back(expect_stack(frames, p, noise, canvas, levels[p], options.worth_exponent));
    const auto main = static_cast<std::size_t>(main_plane(n));
    Settled settled = settle_rejection({frames, canvas, expected[main].expectation, main}, options, context);
    if (settled.comparison && settled.comparison->failure) {
        result.failure = std::move(settled.comparison->failure);
        return result;
    }
    result.comparison = std::move(settled.comparison);
    result.made = account_of(canvas, settled.choice, options);
    // Sums are means until the end.
    CombineOptions combine = settled.choice.options;
    result.combine = combine;
    std::vector<Combiner> combiners;
    for (std::size_t p = 0; p < planes; ++p) {
        result.weights.push_back(std::move(expected[p].weights));
        const double factor = measure_efficiency(expected[p].expectation, combine).noise_factor;
        result.expected_noise.push_back(factor * expected[p].noise);
        CombineOptions as_mean = combine;
        if (combine.combination == Combination::sum) as_mean.combination = Combination::mean;
        combiners.emplace_back(std::move(expected[p].expectation), as_mean);
    }
    result.rejected = {Raster<std::uint16_t>(canvas.width, canvas.height),
                       Raster<std::uint16_t>(canvas.width, canvas.height)};
    ResamplePass pass(frames, combiners, combine, options, result);
    run_tiles(pass, canvas.bounds(), {options.tile, result_bytes(canvas, n) + pass.kept_bytes()}, context);
    pass.finish();
    return result;
}

RejectionComparison compare_rejections(const std::vector<StackFrame>& frames, const Canvas& canvas,
                                       const std::vector<double>& levels, const Context& context,
                                       const IntegrateOptions& options) {
    require_sound(frames, canvas, levels.size());
    require_sense(options);
    const auto main = static_cast<std::size_t>(main_plane(static_cast<int>(levels.size())));
    const StackNoiseFactors noise(frames);
    const ExpectedStack expected = expect_stack(frames, main, noise, canvas, levels[main], options.worth_exponent);
    return compare_rejections({frames, canvas, expected.expectation, main}, options, context);
}

} // namespace kasane

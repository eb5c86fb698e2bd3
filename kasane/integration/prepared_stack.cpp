#include <kasane/integration/prepared_stack.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/combination/account.hpp>
#include <kasane/combination/efficiency.hpp>
#include <kasane/integration/expected_stack.hpp>
#include <kasane/integration/lengths.hpp>
#include <kasane/integration/rejection_trials.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

/// The steps of an integration, with all that decides them.
Provenance account_of(const Canvas& canvas, const CombinationChoice& choice, const IntegrateOptions& options,
                      int lengths) {
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
    if (lengths > 1)
        combine.text += fmt::format("; {} lengths, each leaves what it saturates to a shorter one", lengths);
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
        const int least = least_samples(*options.rejection), shown = static_cast<int>(stack.usual.frames.size());
        const bool none = std::holds_alternative<NoRejection>(*options.rejection);
        const bool pair = std::holds_alternative<PairRejection>(*options.rejection);
        if (none || count == 1 || (shown >= least && !(pair && count > 2))) return {fixed(*options.rejection, ""), {}};
        instead = pair ? "; instead of pair, which is for two frames"
                       : fmt::format("; instead of {}, which needs {} frames{}", rejection_name(*options.rejection),
                                     least, shown < count ? fmt::format(" where {} show a place", shown) : "");
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

void require_sound(const std::vector<StackFrame>& frames, const Canvas& canvas, std::size_t levels) {
    if (frames.empty()) throw DataError("there are no frames to integrate", {}, {});
    if (canvas.width < 1 || canvas.height < 1)
        throw UsageError(fmt::format("a master light of {} x {} pixels makes no sense", canvas.width, canvas.height),
                         {}, "Both sides must be positive");
    const std::size_t planes = frames.front().planes.size();
    for (const StackFrame& f : frames) {
        if (f.length < 0 || f.length > 99)
            throw UsageError(fmt::format("lengths are numbered from 0 to 99, not {}", f.length), f.source->path(), {});
        if (f.planes.size() != planes || f.source->planes() != static_cast<int>(planes) || levels != planes)
            throw UsageError("the frames of a stack differ in their number of planes", f.source->path(),
                             "Stack mono and colour exposures apart");
        for (const StackPlane& p : f.planes)
            if (const std::string wrong = p.level.check(); !wrong.empty())
                throw UsageError(wrong, f.source->path(), {});
    }
}

PreparedStack prepare_stack(const std::vector<StackFrame>& frames, const Canvas& canvas,
                            const std::vector<double>& levels, const Context& context,
                            const IntegrateOptions& options) {
    require_sound(frames, canvas, levels.size());
    require_sense(options);
    const std::size_t planes = levels.size();
    PreparedStack stack;
    MasterLight& result = stack.begun;
    const StackNoiseFactors noise(frames);
    std::vector<ExpectedStack> expected;
    for (std::size_t p = 0; p < planes; ++p)
        expected.push_back(expect_stack(frames, p, noise, canvas, levels[p], options.worth_exponent));
    const auto main = static_cast<std::size_t>(main_plane(static_cast<int>(planes)));
    std::vector<StackExpectation> usual;
    for (std::size_t p = 0; p < planes; ++p)
        usual.push_back(expect_usual_place(expected[p].expectation, frames, p, canvas));
    Settled settled =
        settle_rejection({frames, canvas, expected[main].expectation, usual[main], main}, options, context);
    if (settled.comparison && settled.comparison->failure) {
        result.failure = std::move(settled.comparison->failure);
        return stack;
    }
    result.comparison = std::move(settled.comparison);
    result.made = account_of(canvas, settled.choice, options, count_lengths(frames));
    const CombineOptions combine = settled.choice.options;
    result.combine = combine;
    for (std::size_t p = 0; p < planes; ++p) {
        result.weights.push_back(std::move(expected[p].weights));
        double factor = 1;
        if (p == main && result.comparison && combine.combination == Combination::mean) // known from the trials
            factor = std::sqrt(1 + result.comparison->trials[result.comparison->chosen].loss);
        else
            factor = measure_efficiency(usual[p], combine).noise_factor;
        if (combine.combination == Combination::sum) // every place as if all frames showed it
            factor *= static_cast<double>(frames.size()) / static_cast<double>(usual[p].frames.size());
        result.expected_noise.push_back(factor * expected[p].noise);
        CombineOptions as_mean = combine;
        if (combine.combination == Combination::sum) as_mean.combination = Combination::mean;
        stack.combiners.emplace_back(std::move(expected[p].expectation), as_mean);
    }
    return stack;
}

void make_room(MasterLight& result, const Canvas& canvas, int planes, int lengths, const Context& context) {
    std::shared_ptr<Scratch> scratch;
    if (!context.scratch.empty()) scratch = std::make_shared<Scratch>(context.scratch, context.memory);
    const auto settle = [&] { // each is filled faster than a busy machine may notice
        if (scratch) scratch->release();
    };
    const auto counts = [&] {
        settle();
        return Raster<std::uint16_t>(canvas.width, canvas.height, 1, 0, scratch);
    };
    result.pixels = Image(canvas.width, canvas.height, planes, 0, scratch);
    settle();
    result.coverage = Image(canvas.width, canvas.height, planes, 0, scratch);
    result.rejected.low = counts();
    result.rejected.high = counts();
    result.burnt = BurntCells(canvas.width, canvas.height);
    if (lengths > 1) result.lengths = counts();
}

} // namespace kasane

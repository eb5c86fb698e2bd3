#include <kasane/integration/integrate.hpp>

#include <kasane/base/units.hpp>
#include <kasane/integration/expected_stack.hpp>
#include <kasane/integration/lengths.hpp>
#include <kasane/integration/prepared_stack.hpp>
#include <kasane/integration/rejection_trials.hpp>
#include <kasane/integration/resample_pass.hpp>
#include <kasane/integration/tile_engine.hpp>

#include <cmath>
#include <fmt/format.h>

namespace kasane {

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
           (2 * sizeof(float) * static_cast<std::uint64_t>(planes) + 3 * sizeof(std::uint16_t));
}

std::uint64_t held_bytes(const Canvas& canvas, int planes, const Context& context) {
    const std::uint64_t all = result_bytes(canvas, planes);
    // Of a file the pages that were touched last stay until the budget asks for them.
    return context.scratch.empty() ? all : std::min(all, context.memory.for_buffers() / 4);
}

MasterLight integrate(const std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                      const Context& context, const IntegrateOptions& options, RejectedPixels* rejected) {
    PreparedStack stack = prepare_stack(frames, canvas, levels, context, options);
    MasterLight result = std::move(stack.begun);
    if (result.failure) return result;
    make_room(result, canvas, static_cast<int>(levels.size()), count_lengths(frames), context);
    ResamplePass pass(frames, stack.combiners, result.combine, options, result, rejected);
    run_tiles(pass, canvas.bounds(),
              {options.tile, held_bytes(canvas, static_cast<int>(levels.size()), context) + pass.kept_bytes()},
              context);
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
    const StackExpectation usual = expect_usual_place(expected.expectation, frames, main, canvas);
    return compare_rejections({frames, canvas, expected.expectation, usual, main}, options, context);
}

} // namespace kasane

#include <kasane/integration/drizzle.hpp>

#include <kasane/base/error.hpp>
#include <kasane/integration/drizzle_pass.hpp>
#include <kasane/integration/lengths.hpp>
#include <kasane/integration/prepared_stack.hpp>

#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

constexpr int kTile = 374; // pixels of the canvas along the side of a tile

} // namespace

std::string DrizzleOptions::check() const {
    if (!(scale >= 1 && scale <= 3)) return fmt::format("drizzling makes pixels 1 to 3 times as fine, not {:g}", scale);
    if (!(drop >= 0.1 && drop <= 2)) return fmt::format("drops are 0.1 to 2 pixels wide, not {:g}", drop);
    return {};
}

Canvas drizzled_canvas(const Canvas& c, double scale) {
    Canvas fine = c;
    fine.width = std::max(1, static_cast<int>(std::lround(c.width * scale)));
    fine.height = std::max(1, static_cast<int>(std::lround(c.height * scale)));
    fine.scale = c.scale * scale;
    const Point first = {to_coarse(scale).c, to_coarse(scale).f};
    double x = 0, y = 0;
    c.to_reference().apply(first.x, first.y, x, y);
    fine.origin = {x, y};
    return fine;
}

Affine to_coarse(double scale) {
    const double first = 0.5 / scale - 0.5; // the corners of the first pixels are one
    return {1 / scale, 0, first, 0, 1 / scale, first};
}

MasterLight drizzle(const std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                    const Context& context, const IntegrateOptions& integrate, const DrizzleOptions& options) {
    require_sense(options);
    if (integrate.combination != Combination::mean && integrate.combination != Combination::sum)
        throw UsageError(fmt::format("what \"{}\" makes cannot be drizzled", combination_name(integrate.combination)),
                         {}, "Drizzle means or sums");
    PreparedStack stack = prepare_stack(frames, canvas, levels, context, integrate);
    MasterLight result = std::move(stack.begun);
    if (result.failure) return result;
    const Canvas fine = drizzled_canvas(canvas, options.scale);
    make_room(result, fine, static_cast<int>(levels.size()), count_lengths(frames), context);
    Provenance::Step& step = result.made.step("drizzle");
    step.text = fmt::format("{} drops of {:g} pixels onto pixels {:g} times as fine", drop_shape_name(options.shape),
                            options.drop, options.scale);
    step.set("scale", fmt::format("{:g}", options.scale));
    step.set("drop", fmt::format("{:g}", options.drop));
    step.set("shape", std::string(drop_shape_name(options.shape)));
    if (options.restore) {
        step.text += ", the blur of pixels and drops taken out";
        step.set("restored", "true");
    }
    const std::vector<double> noise = result.expected_noise; // of the stack that judges
    for (std::size_t p = 0; p < noise.size(); ++p) {         // the same light on pixels as much smaller
        double squares = 0, all = 0;
        for (std::size_t f = 0; f < frames.size(); ++f) {
            const StackPlane& plane = frames[f].planes[p];
            const double own = std::pow(result.weights[p][f] * plane.level.scale.value * plane.noise, 2);
            squares += own / share_of_samples(*frames[f].source, p);
            all += own;
        }
        result.expected_noise[p] *= options.scale * (all > 0 ? std::sqrt(squares / all) : 1);
    }
    DrizzlePass pass({frames, canvas, stack.combiners, result.combine, noise}, integrate, options, result);
    const int tile = static_cast<int>(std::lround(kTile * options.scale));
    run_tiles(pass, fine.bounds(),
              {tile, held_bytes(fine, static_cast<int>(levels.size()), context) + pass.kept_bytes()}, context);
    pass.measure_noise(context);
    pass.finish(context);
    return result;
}

} // namespace kasane

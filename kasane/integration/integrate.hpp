// From exposures to a master light, tile by tile, in one pass, with no image in between on disk.
//
//   stack.hpp          what goes in (sources, transforms, level maps) and what comes out
//   noise_factors.hpp  what resampling does to the noise of a frame
//   resampler.hpp      a rectangle of a frame on the canvas
//   resample_pass.hpp  the pass that resamples, levels and combines
//   halves.hpp         the noise of a stack by its own samples
//   regrid.hpp         one image on the grid of another
//   binned_frame.hpp   frames of much finer pixels than the canvas
//   tile_engine.hpp    schedule, memory and cancellation of any pass
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/combination/choice.hpp>
#include <kasane/integration/stack.hpp>

#include <optional>
#include <string>
#include <vector>

namespace kasane {

struct IntegrateOptions {
    std::optional<CombineOptions> combine; ///< unset: chosen by the number of frames
    double ringing_sigmas = 20;            ///< contrast, in units of the frame's noise, from which ringing is clamped
    int tile = 128; ///< side, pixels; made smaller where memory asks for it (the result does not change)
    /// Frames with real data, as a share of all, from which pixels made of neighbours (defects) do not count.
    double real_share = 0.25;
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// Integrates a stack onto a canvas: calibrate, resample (Lanczos-3), bring to one level, reject, weighted mean with
/// inverse-variance weights. `levels` are the backgrounds of the stack's level, ADU, one a plane. Results do not depend
/// on threads, memory or tile size. All sources have the same number of planes. A frame that cannot be read on the
/// way is told in the result (MasterLight::failure). Throws DataError for an empty stack, UsageError for what makes no
/// sense.
MasterLight integrate(const std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                      const Context& context, const IntegrateOptions& options = {});

} // namespace kasane

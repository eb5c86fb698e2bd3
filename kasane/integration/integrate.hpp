// From exposures to a master light, tile by tile, in one pass, with no image in between on disk.
//
//   stack.hpp            what goes in (sources, transforms, level maps) and what comes out
//   noise_factors.hpp    what resampling does to the noise of a frame
//   expected_stack.hpp   what the frames weigh, and what is expected of their samples
//   resampler.hpp        a rectangle of a frame on the canvas; slant.hpp, parts_under.hpp: where that is turned
//   streak_mask.hpp      trails that were found, on the canvas
//   tile_samples.hpp     the samples of all frames of a tile
//   structure.hpp, structure_kernel.hpp  where an image is curved or slopes
//   growth.hpp           what is rejected beside what was found
//   tile_judge.hpp       which samples of a tile count, and what they make together
//   prepared_stack.hpp   what is settled before pixels are looked at
//   rejection_trials.hpp the rejection chosen by trying all on a sample of the stack
//   resample_pass.hpp    the pass that resamples, levels and combines
//   drizzle.hpp, drizzle_options.hpp  the same onto a finer grid, from the frames' own samples
//   drizzle_pass.hpp     the pass that does
//   pixel_response.hpp   taking out again what pixels and drops blurred
//   drop_kernel.hpp      what a sample's drop gives to a pixel
//   drop_samples.hpp     the samples of a frame, judged against the interpolated stack
//   noise_covariance.hpp what the noise of neighbouring pixels has in common
//   lengths.hpp          frames of several lengths: which leaves a pixel to which
//   length_match.hpp     their scales, from what is bright around that which the longer one saturates
//   length_fade.hpp      a length fades before it leaves
//   length_map.hpp       which length makes each pixel
//   burnt_cells.hpp      what is saturated in all of them
//   moving_light.hpp     a comet, or the stars past it, taken out of frames
//   comet_light.hpp      a comet told from what it moves before
//   edge_feather.hpp, edge_feather_kernel.hpp  frames that fade out towards their edges
//   sample_counts.hpp    how samples fared
//   rejected_cells.hpp   where samples of each frame were rejected, in squares
//   rejected_pixels.hpp  each of them
//   sampling.hpp         whether drizzling gains, and what it costs
//   drop_gather.hpp      what drops give to pixels, row by row
//   drop_stretch.hpp     samples of a row at the level of their stack, looked at for the first time
//   rejection_picture.hpp what was rejected, to look at
//   composite.hpp, composite_kind.hpp  several master lights together
//   halves.hpp           the noise of a stack by its own samples
//   regrid.hpp           one image on the grid of another
//   binned_frame.hpp     frames of much finer pixels than the canvas
//   growing_stack.hpp    a mean in small that grows by one frame at a time
//   tile_engine.hpp      schedule, memory and cancellation of any pass
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/combination/choice.hpp>
#include <kasane/integration/rejected_pixels.hpp>
#include <kasane/integration/stack.hpp>
#include <kasane/integration/tile_judge.hpp>

#include <optional>
#include <string>
#include <vector>

namespace kasane {

struct IntegrateOptions {
    /// Unset: the one that does best on a sample of the stack, of those that lose little (rejection_trials.hpp).
    std::optional<Rejection> rejection;
    Combination combination = Combination::mean;
    JudgeOptions judge;        ///< what is rejected beside, and the cores of stars
    bool mask_streaks = true;  ///< trails that were found do not count where other frames stand in
    double worth_exponent = 1; ///< of the inverse variance, for the weights; 0: frames weigh alike
    double ringing_sigmas = 8; ///< contrast, in units of the frame's noise, from which ringing is clamped to 0.4 of it
    /// Side of a tile, pixels; made smaller where memory or threads ask for it (the result does not change). With the
    /// usual rim of 5 pixels around it rows are whole vectors.
    int tile = 374;
    /// Frames with real data, as a share of all, from which pixels made of neighbours (defects) do not count.
    double real_share = 0.25;
    /// Pixels of a frame, from its edges inwards, over which its weight falls; of means and sums.
    double feather = 0;
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// Bytes that the images of a master light take.
std::uint64_t result_bytes(const Canvas& canvas, int planes);
/// Those of them that are held in memory: nearly none where the context has a folder for them.
std::uint64_t held_bytes(const Canvas& canvas, int planes, const Context& context);

/// Integrates a stack onto a canvas: calibrate, resample (Lanczos-3), bring to one level, reject, combine. Frames weigh
/// as the inverse variance of their background at the common level. `levels` are the backgrounds of the stack's level,
/// ADU, one a plane. Results do not depend on threads, memory or tile size. All sources have the same number of planes.
/// A frame that cannot be read on the way is told in the result (MasterLight::failure). Throws DataError for an empty
/// stack, UsageError for what makes no sense. A rejection that the number of frames does not allow is replaced by the
/// choice, which `made` tells. `rejected`, of the canvas, the frames and planes, takes each sample that was rejected or
/// lies under a trail; what it holds in memory is beside what is counted here.
MasterLight integrate(const std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                      const Context& context, const IntegrateOptions& options = {}, RejectedPixels* rejected = nullptr);

/// What each rejection would do to a stack, and which one `integrate` would take, without integrating it. Throws as it
/// does; a frame that cannot be read is told in the result.
RejectionComparison compare_rejections(const std::vector<StackFrame>& frames, const Canvas& canvas,
                                       const std::vector<double>& levels, const Context& context,
                                       const IntegrateOptions& options = {});

} // namespace kasane

// From raw exposures to a master light, tile by tile, in one pass, with no image in between on disk.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/calibration/calibrated_view.hpp>
#include <kasane/image/stack_combine.hpp>
#include <kasane/normalization/levels.hpp>
#include <kasane/registration/transform.hpp>

#include <functional>
#include <memory>
#include <vector>

namespace kasane {

/// One exposure of a stack.
struct StackFrame {
    std::shared_ptr<const CalibratedView> view;
    Affine to_frame;              ///< from output pixels to the frame's pixels
    Normalization level;          ///< brings it to the stack's level
    double noise = 0;             ///< of a background pixel, ADU
    double electrons_per_adu = 0; ///< 0: unknown
};

struct IntegrateOptions {
    RejectionOptions rejection;
    double ringing_sigmas = 20; ///< contrast, in units of the frame's noise, from which ringing is clamped
    int tile = 128;             ///< side, pixels; made smaller where memory asks for it (the result does not change)
};

struct MasterLight {
    Image pixels;                ///< ADU of the stack's level; NaN where no frame has data
    Image coverage;              ///< share of the stack's whole weight that each pixel received, 0..1
    std::vector<double> weights; ///< of the frames, sum 1
    std::uint64_t samples = 0;   ///< with data
    std::uint64_t rejected_low = 0, rejected_high = 0;
};

/// Integrates a stack onto a grid of `width` x `height` pixels: calibrate, resample (Lanczos-3), normalise, reject,
/// weighted mean with inverse-variance weights. `level` is the background of the stack's level, ADU. Results do not
/// depend on threads, memory or tile size. Throws DataError for an empty stack, InputError if a file cannot be read on
/// the way.
MasterLight integrate(const std::vector<StackFrame>& frames, int width, int height, double level,
                      const Context& context, const IntegrateOptions& options = {});

/// Resamples a rectangle of one calibrated frame onto the output grid; NaN where the frame has no data. `scratch` is
/// reused between calls. Exposed for tests and measurements.
void resample_region(const StackFrame& frame, const Region& region, double ringing_contrast, Image& scratch,
                     View<float> out);

/// Mean of the squared interpolation weights over a frame: by how much resampling lowers the variance of white noise.
double resampling_noise_factor(const Affine& to_frame, int width, int height);

} // namespace kasane

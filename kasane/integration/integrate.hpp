// From raw exposures to a master light, tile by tile, in one pass, with no image in between on disk.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/combination/choice.hpp>
#include <kasane/geometry/canvas.hpp>
#include <kasane/normalization/levels.hpp>

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// One plane of an exposure.
struct StackPlane {
    Transform to_frame;  ///< from the canvas to pixels of the view's grid
    Normalization level; ///< brings it to the stack's level
    double noise = 0;    ///< of a background sample (Measures::noise), ADU
};

/// One exposure of a stack.
struct StackFrame {
    std::shared_ptr<const FrameView> view;
    std::vector<StackPlane> planes; ///< as the view has them
    double electrons_per_adu = 0;   ///< 0: unknown
};

struct IntegrateOptions {
    std::optional<CombineOptions> combine; ///< unset: chosen by the number of frames
    double ringing_sigmas = 20;            ///< contrast, in units of the frame's noise, from which ringing is clamped
    int tile = 128; ///< side, pixels; made smaller where memory asks for it (the result does not change)
    /// Frames with real data, as a share of all, from which pixels made of neighbours (defects) do not count.
    double real_share = 0.25;
};

struct MasterLight {
    Image pixels;            ///< one plane or three, ADU of the stack's level; NaN where no frame has data
    Image coverage;          ///< share of the stack's whole weight that each pixel received, 0..1; planes as `pixels`
    std::string combination; ///< how the samples were combined, and why so
    std::vector<std::vector<double>> weights; ///< by plane, of the frames, sum 1
    std::uint64_t samples = 0;                ///< with data
    std::uint64_t rejected_low = 0, rejected_high = 0;
    std::uint64_t passed_over = 0; ///< samples made of neighbours that others with real data stood in for
};

/// Integrates a stack onto a canvas: calibrate, resample (Lanczos-3), normalise, reject,
/// weighted mean with inverse-variance weights. `levels` are the backgrounds of the stack's level, ADU, one a plane.
/// Results do not depend on threads, memory or tile size. All views have the same number of planes. Throws DataError
/// for an empty stack, InputError if a file cannot be read on the way.
MasterLight integrate(const std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                      const Context& context, const IntegrateOptions& options = {});

/// A rectangle of an exposure's planes, read once and resampled plane by plane.
class Resampler {
public:
    /// Resamples all planes of a rectangle onto the output grid into `out`; NaN where the frame has no data.
    /// `ringing_sigmas` as in IntegrateOptions. Adds to `doubtful` the output pixels (indices into the rectangle, by
    /// plane) that lie on a defect.
    void resample(const StackFrame& frame, const Region& region, double ringing_sigmas,
                  const std::vector<View<float>>& out, std::vector<std::vector<std::uint32_t>>* doubtful = nullptr);
    /// The part of the frame that the last call read.
    const Region& source() const { return inside_; }

private:
    std::vector<float> pixels_;
    std::vector<Doubtful> doubtful_;
    Region inside_;
};

/// Mean of the squared interpolation weights over a frame: by how much resampling lowers the variance of white noise.
double resampling_noise_factor(const Transform& to_frame, const Canvas& canvas);

/// The same for the planes of a kind of view: of demosaiced ones with what demosaicing does to white noise, in units of
/// the variance of a sensor pixel, from a simulation of it that is the same on every machine.
class NoiseFactors {
public:
    explicit NoiseFactors(const FrameView& view);
    double factor(int plane, const Transform& to_frame, const Canvas& canvas) const;

private:
    std::vector<Image> fields_; ///< demosaiced white noise of variance 1
};

} // namespace kasane

// What an integration is made of: the frames of a stack, each with its way to the canvas and its level; and what comes
// out.
#pragma once

#include <kasane/base/error.hpp>
#include <kasane/base/provenance.hpp>
#include <kasane/geometry/canvas.hpp>
#include <kasane/image/plane_source.hpp>
#include <kasane/normalization/level_map.hpp>

#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

namespace kasane {

/// One plane of an exposure.
struct StackPlane {
    Transform to_frame; ///< from the canvas to pixels of the source's grid
    LevelMap level;     ///< brings it to the stack's level
    double noise = 0;   ///< of a background sample (Measures::noise), ADU
};

/// One exposure of a stack.
struct StackFrame {
    std::shared_ptr<const PlaneSource> source;
    std::vector<StackPlane> planes; ///< as the source has them
    double electrons_per_adu = 0;   ///< 0: unknown
};

/// The transform to a plane's own samples.
Transform to_plane(const StackFrame& frame, std::size_t plane);

/// Pixels of a frame in one of the canvas, where the frame's centre lies: a frame of so many samples of one noise tells
/// so much more of a patch of sky.
double pixel_density(const Transform& to_frame, int width, int height);

/// A frame that could not be read while it was integrated.
struct FrameFailure {
    std::size_t frame = 0;
    FileFailure what; ///< which file, its own or a master's, and why
};

struct MasterLight {
    Image pixels;    ///< one plane or three, ADU of the stack's level; NaN where no frame has data
    Image coverage;  ///< share of the stack's whole weight that each pixel received, 0..1; planes as `pixels`
    Provenance made; ///< the steps resample, level and combine, with their settings
    std::vector<std::vector<double>> weights; ///< by plane, of the frames, sum 1
    /// By plane, of the background, ADU, as it were without resampling: as its frames let expect, and as one half of
    /// them against the other tells it.
    std::vector<double> expected_noise, noise;
    std::uint64_t samples = 0; ///< with data
    std::uint64_t rejected_low = 0, rejected_high = 0;
    std::uint64_t passed_over = 0; ///< samples made of neighbours that others with real data stood in for
    /// Set: this frame could not be read on the way, and the pixels are not finished. Integrate again without it.
    std::optional<FrameFailure> failure;
};

} // namespace kasane

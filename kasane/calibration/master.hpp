// Building calibration masters: many frames of one kind into one, band by band, with outliers rejected.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/image/stack_combine.hpp>
#include <kasane/io/reader.hpp>

#include <filesystem>
#include <memory>
#include <vector>

namespace kasane {

struct MasterOptions {
    RejectionOptions rejection = {.low = 3.5f, .high = 3.5f}; ///< in units of a pixel's own spread
    float offset_level = 0; ///< flats without an offset frame: a constant to be subtracted, ADU
};

/// A finished master and what can be said of it. Units: ADU for bias and darks; flats are ratios with mean 1.
struct MasterResult {
    Image pixels;
    int frames = 0;
    double level = 0;          ///< median of the frames, offset removed for flats; ADU
    double frame_noise = 0;    ///< of a single frame (flats: after scaling to mean 1), from differences between frames
    double rejected_share = 0; ///< of all samples
};

/// Combines frames of one kind. Flats have `offset` subtracted (may be null) and are scaled to one level before
/// rejection, so that neither panel flicker nor twilight biases it, and the result is scaled to mean 1.
/// Memory: the result plus bands within the budget, whatever the number of frames.
/// Throws InputError, which names the frame, if one cannot be read, has another size, or is a flat without light;
/// DataError if there are no frames.
MasterResult build_master(Role role, const std::vector<std::shared_ptr<const FrameReader>>& frames,
                          const FrameReader* offset, const Context& context, const MasterOptions& options = {});

} // namespace kasane

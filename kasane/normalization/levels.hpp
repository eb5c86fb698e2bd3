// Putting the frames of a stack on one level: a factor from their stars, a tilted plane from their sky.
#pragma once

#include <kasane/geometry/canvas.hpp>
#include <kasane/grading/measures.hpp>

namespace kasane {

/// normalised = scale * value + offset + slope_x * x + slope_y * y, with (x, y) in pixels of the canvas from its
/// centre.
struct Normalization {
    double scale = 1;
    double offset = 0, slope_x = 0, slope_y = 0;
    int stars = 0; ///< that gave the scale; 0: from the exposure times
};

struct LevelOptions {
    int least_stars = 5;       ///< fewer: weaker ones are taken, at least three; else the ratio of the exposure times
    double least_snr = 10;     ///< of a star's flux
    double match_radius = 1.5; ///< pixels
};

/// One frame, as far as levels are concerned.
struct LevelInput {
    const Measures* measures = nullptr;
    Transform to_frame; ///< from the canvas to this frame's pixels
    double seconds = 0;
    int width = 0, height = 0; ///< of the frame
};

/// The scale alone; the frame's own is 1.
Normalization fit_star_scale(const LevelInput& reference, const LevelInput& frame, const LevelOptions& options = {});

/// Brings `frame` to the level of `reference`.
Normalization fit_normalization(const LevelInput& reference, const LevelInput& frame, const Canvas& canvas,
                                const LevelOptions& options = {});

} // namespace kasane

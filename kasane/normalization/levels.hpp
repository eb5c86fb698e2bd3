// Putting the frames of a stack on one level: a factor from their stars, a level map from their sky.
//
//   level_map.hpp   what a level is made of, and how it is applied
//   this            how it is found: today a scale and a tilted plane, each frame against one
#pragma once

#include <kasane/geometry/canvas.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/normalization/level_map.hpp>

namespace kasane {

struct LevelOptions {
    int least_stars = 5;       ///< fewer: weaker ones are taken, at least three; else the ratio of the exposure times
    double least_snr = 10;     ///< of a star's flux
    double match_radius = 1.5; ///< pixels
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// One frame, as far as levels are concerned.
struct LevelInput {
    const Measures* measures = nullptr;
    Transform to_frame; ///< from the canvas to this frame's pixels
    double seconds = 0;
    int width = 0, height = 0; ///< of the frame
};

/// What a frame's values are multiplied by, from the fluxes of common stars.
struct StarScale {
    double scale = 1;
    int stars = 0; ///< that gave it; 0: from the exposure times
};

/// The scale that brings `frame` to the level of `reference`; the reference's own is 1.
StarScale fit_star_scale(const LevelInput& reference, const LevelInput& frame, const LevelOptions& options = {});

struct LevelFit {
    LevelMap map;
    int stars = 0; ///< that gave the scale; 0: from the exposure times
};

/// Brings `frame` to the level of `reference`.
LevelFit fit_level(const LevelInput& reference, const LevelInput& frame, const Canvas& canvas,
                   const LevelOptions& options = {});

} // namespace kasane

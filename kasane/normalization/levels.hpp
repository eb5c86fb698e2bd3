// Putting the frames of a stack on one level: factors from their stars, level maps from their sky; all frames together.
//
//   level_map.hpp    what a level is made of, and how it is applied
//   level_model.hpp  what is brought to one level
//   star_scales.hpp  factors from common stars
//   sky_samples.hpp  what the frames see of the sky at the same places
//   smooth_fit.hpp   a smooth map through scattered values
//   fixed_point.hpp  fewer rounds to where all agree
//   this             levels of a stack
//
// Only differences between frames are touched. What all of them show, a nebula that fills the field as well, stays.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/geometry/canvas.hpp>
#include <kasane/normalization/level_map.hpp>
#include <kasane/normalization/level_model.hpp>
#include <kasane/normalization/smooth_fit.hpp>
#include <kasane/normalization/star_scales.hpp>

#include <string>
#include <vector>

namespace kasane {

struct LevelOptions {
    LevelModel model = LevelModel::local;
    ScaleOptions scales;
    Region sky; ///< of the canvas: the only part that offsets are told from; empty: all of it
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// The levels of one plane of all frames of a stack.
struct StackLevels {
    LevelModel model = LevelModel::local;
    std::vector<LevelMap> maps;    ///< as the frames were given
    std::vector<StarScale> scales; ///< the same, relative to the stack's level
    std::vector<double> shares;    ///< of each frame in that level, sum 1
    double background = 0;         ///< of the level, ADU
    double gradient = 0;           ///< of the level's background, from edge to edge, greatest; ADU
    double steepest = 0;           ///< the same of the frame that has most
    bool operator==(const StackLevels&) const = default;
};

/// Brings all frames to one level. The level is a mean of the best frames (those that tell at least half of what the
/// best one does, and show nearly all of the canvas), with shares such that its background is as flat as they allow.
/// Offsets are solved for all frames together: alternately the sky that they have in common on a grid of places, and
/// what each frame differs by from it, smoothly. Throws UsageError for options that make no sense.
StackLevels fit_stack_levels(const std::vector<LevelInput>& frames, const Canvas& canvas, const Workers& workers,
                             const LevelOptions& options = {});

} // namespace kasane

// Factors between the frames of a stack, from the fluxes of the stars that they have in common.
//
// Why all frames together: a ratio of two frames rests on what happened to both (a trail over a star, a particle in
// one); among many frames such a flux stands out, and every frame is compared on the same stars.
#pragma once

#include <kasane/geometry/canvas.hpp>
#include <kasane/grading/measures.hpp>

#include <string>
#include <vector>

namespace kasane {

/// One frame, as far as levels are concerned.
struct LevelInput {
    const Measures* measures = nullptr;
    Transform to_frame; ///< from the canvas to this frame's pixels
    double seconds = 0;
    int width = 0, height = 0;                    ///< of the frame
    const std::vector<Streak>* streaks = nullptr; ///< stars under them are passed over; may be null
};

struct ScaleOptions {
    int least_stars = 5;       ///< fewer: weaker ones are taken, at least three; else the ratio of the exposure times
    double least_snr = 10;     ///< of a star's flux, median of the frames
    double match_radius = 1.5; ///< pixels of the canvas
    int most_stars = 300;      ///< those seen in most frames, of these the brightest
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// What a frame's values are multiplied by.
struct StarScale {
    double scale = 1;
    int stars = 0;                   ///< that gave it; 0: from the exposure times
    double error = 0;                ///< of the scale, relative; 0: not known
    double slope_x = 0, slope_y = 0; ///< of the scale, relative, per pixel of the canvas, about its centre; 0: not seen
    bool operator==(const StarScale&) const = default;
};

/// The scales that bring all frames to one level; that of `lead` is 1. Stars that are saturated in any frame, or seen
/// by less than 60 % of those that should, do not count. Magnitudes of stars and scales of frames are solved
/// alternately to the least squares of all their logarithmic fluxes, outliers weighed down (Tukey's bisquare). A tilt
/// of the scale is told where the stars show it beyond four times its error.
std::vector<StarScale> fit_star_scales(const std::vector<LevelInput>& frames, const Canvas& canvas, std::size_t lead,
                                       const ScaleOptions& options = {});

/// The scale of the level that the best frames have together: the geometric mean of those that tell at least half of
/// what the best one does (`informations`, worth.hpp). 1 without any.
double common_scale(const std::vector<double>& scales, const std::vector<double>& informations);

/// Of two frames: the scale that brings `frame` to the level of `reference`.
StarScale fit_star_scale(const LevelInput& reference, const LevelInput& frame, const Canvas& canvas,
                         const ScaleOptions& options = {});

} // namespace kasane

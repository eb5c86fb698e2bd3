// Whether a stack gains by being drizzled, measured before it is: how finely the lights sample their stars, how evenly
// their pixels fill the grid of each other, and what that does to sharpness, noise and holes.
#pragma once

#include <kasane/geometry/canvas.hpp>
#include <kasane/integration/drizzle_options.hpp>
#include <kasane/integration/stack.hpp>

#include <array>
#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// A light of a stack, as far as its sampling goes.
struct SampledFrame {
    std::vector<Transform> to_frame; ///< from the canvas, by plane
    double fwhm = 0;                 ///< of its stars, pixels of the frame; 0: not known
    double weight = 1;               ///< of its samples in the mean
    int width = 0, height = 0;
    /// Which plane a sample belongs to; empty: each plane has all samples.
    std::function<int(int x, int y)> plane_of{};
};

/// What a way of drizzling would do to a stack.
struct DrizzlePrediction {
    DrizzleOptions options;
    double fwhm = 0;         ///< of stars, pixels of the canvas
    double interpolated = 0; ///< the same of the interpolated stack
    double gain = 0;         ///< 1 - fwhm / interpolated
    /// Noise of areas of a few pixels over that of samples that fill the grid evenly, less 1: they count unevenly.
    double uneven = 0;
    double cost = 0;  ///< the same, with what restoring does to the noise of a star's light (restoring_cost)
    double holes = 0; ///< share of the pixels that no sample reaches
};

/// How the pixels of a stack's lights lie in each other.
struct PhaseCoverage {
    static constexpr int kSide = 4;   ///< cells of a quarter of a pixel
    static constexpr int kPlaces = 3; ///< places along the side of the canvas
    double cells = 0;                 ///< of the 16, those that hold a light's pixel; mean over the places
    std::array<std::vector<Point>, static_cast<std::size_t>(kPlaces) * kPlaces> phases; ///< 0 to 1, by place
};

/// FWHM of a star of that FWHM in its frames, pixels, after many of them, lying anyhow, were interpolated by Lanczos-3
/// and averaged: the width at half maximum of a Gaussian convolved with the kernel.
double interpolated_fwhm(double fwhm);

/// The same laid down in drops, and restored where that is asked for: the variances of star, drop and output pixel
/// together, or as restored_fwhm tells.
double drizzled_fwhm(double fwhm, const DrizzleOptions& options);

/// From what the drops of all lights give to the pixels around a few places of the canvas (drop_kernel.hpp), of the
/// plane that is worst off. Lights without FWHM take part with the others'; no light: nothing is gained.
DrizzlePrediction predict_drizzle(const std::vector<SampledFrame>& frames, const Canvas& canvas,
                                  const DrizzleOptions& options);

/// The usual FWHM of the lights' stars, in pixels of the canvas; 0: not known.
double fwhm_on_canvas(const std::vector<SampledFrame>& frames, const Canvas& canvas);

PhaseCoverage phase_coverage(const std::vector<SampledFrame>& frames, const Canvas& canvas);

/// Within what drizzling is advised.
struct DrizzleLimits {
    double least_gain = 0.04; ///< of the FWHM
    double most_cost = 0.1;   ///< of the noise, by uneven samples
    double most_fwhm = 2;     ///< pixels of a light: beyond it pixels blur nothing that is worth restoring
    double most_holes = 1e-4; ///< of the pixels
    double most_scale = 3;
    /// Of the 16 phase cells those that are filled at least: without them nothing more is known than by one light.
    double least_cells(double scale) const { return scale > 2 ? 12 : 8; }
};

/// For stacks that shall lie on one grid, each weighed by its lights: what gains most within the limits, which hold for
/// every one of them; nothing: interpolating is as good. A scale of 3 where it is sharper than 2 by a share of 0.03.
/// `drop`: of that size only.
std::optional<DrizzleOptions> advise_drizzle(const std::vector<std::vector<SampledFrame>>& stacks, const Canvas& canvas,
                                             DropShape shape, std::optional<double> drop,
                                             const DrizzleLimits& limits = {});

/// `options`, restored where `wish` says so; without one where stacks that are drizzled so gain by it: all of them have
/// stars that are small enough, and phases that are filled. As smooth as the smallest stars need it.
DrizzleOptions advise_restoring(const std::vector<std::vector<SampledFrame>>& stacks, const Canvas& canvas,
                                const DrizzleOptions& options, std::optional<bool> wish,
                                const DrizzleLimits& limits = {});

/// "at scale 2 with drops of 0.5 px 7 % sharper (FWHM 1.61 instead of 1.73 px), 4 % more noise a resolution element,
/// holes in 0.0 % of the pixels".
std::string prediction_text(const DrizzlePrediction& prediction);

/// Where in a pixel the lights have theirs, at nine places of the canvas: squares of a pixel each with its sixteen
/// cells, a dot for each light. Three planes of 8 bits.
Raster<std::uint8_t> draw_phases(const PhaseCoverage& coverage);

} // namespace kasane

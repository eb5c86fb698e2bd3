// A stack on a finer grid, from the frames' own samples: variable-pixel linear reconstruction (A. Fruchter and R. Hook,
// PASP 114, 2002).
//
// Why: where stars are smaller than two pixels, interpolation blurs what dithered frames know together. Every sample
// is laid down on a finer grid as a drop smaller than its pixel, and nothing is interpolated; a mosaic of colours gives
// each colour its own samples. Which samples count is decided against the interpolated stack, brought back to the place
// of each sample: within what noise, seeing and the steepness of the image there allow.
#pragma once

#include <kasane/integration/drizzle_options.hpp>
#include <kasane/integration/integrate.hpp>

#include <vector>

namespace kasane {

/// The grid that comes out, for frames that lie on `canvas`.
Canvas drizzled_canvas(const Canvas& canvas, double scale);
/// From its pixels to those of `canvas`.
Affine to_coarse(double scale);

/// Drizzles a stack. Frames, canvas and levels are those that `integrate` takes; the images of the result are
/// `options.scale` times as fine, and restored where that is asked for (pixel_response.hpp). Means and sums alone can
/// be drizzled. Weights are those of the mean; noise is told of a pixel of the result as it were if neighbours shared
/// none (MasterLight::pixel_noise has what its pixels scatter by). Results do not depend on threads, memory or tile
/// size. Throws as `integrate` does.
MasterLight drizzle(const std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                    const Context& context, const IntegrateOptions& integrate, const DrizzleOptions& options);

} // namespace kasane

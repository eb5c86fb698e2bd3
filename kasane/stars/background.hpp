// The sky under the stars: a mesh of robust levels.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/image/image.hpp>
#include <kasane/image/statistics.hpp>

namespace kasane {

struct BackgroundOptions {
    int cell = 64;                           ///< side of a cell, pixels
    float clip = 2.5f;                       ///< sigma clipping inside a cell
    NoiseSteps noise = NoiseSteps::apart(2); ///< such that neighbours so far apart share none
    int step = 2;                            ///< of the samples along a row; 1 where most pixels have no data
};

/// Level and noise by cells. Cell (i, j) covers `cell` x `cell` pixels from (i, j) x cell; its value holds at its
/// centre.
struct Background {
    Image level; ///< cells that stand out from their neighbours (a bright star) take their median
    Image sigma; ///< noise of a pixel within the cell, structure apart
    int cell = 64;
    Image mean; ///< means of the sky without stars (sky_mean.hpp); NaN where they cover it, empty: not taken

    float global_level = 0; ///< median of the cells
    float global_sigma = 0;
    /// How much more differences over twice the distance tell, median of the cells: above 1 where stars and nebula take
    /// part in what the pixels show as noise.
    float texture = 1;

    /// Bilinear between cell centres, constant beyond the outermost.
    float level_at(double x, double y) const;
    float sigma_at(double x, double y) const;
    /// The same of the means; of the levels where none were taken. NaN beside a cell without one.
    float mean_at(double x, double y) const;
    /// A whole row into `out` (width values).
    void level_row(int y, int width, float* out) const;
    void sigma_row(int y, int width, float* out) const;
};

/// Robust background of an image (NaN pixels ignored).
Background measure_background(View<const float> image, const BackgroundOptions& options = {});

} // namespace kasane

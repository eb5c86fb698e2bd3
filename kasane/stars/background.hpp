// The sky under the stars: a mesh of robust levels.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/image/image.hpp>

namespace kasane {

struct BackgroundOptions {
    int cell = 64;     ///< side of a cell, pixels
    float clip = 2.5f; ///< sigma clipping inside a cell
    int lag = 2;       ///< pixels between the samples whose differences tell the noise: a mosaic's period
    int step = 2;      ///< of the samples along a row; 1 where most pixels have no data
};

/// Level and noise by cells. Cell (i, j) covers `cell` x `cell` pixels from (i, j) x cell; its value holds at its
/// centre.
struct Background {
    Image level; ///< cells that stand out from their neighbours (a bright star) take their median
    Image sigma; ///< noise of a pixel within the cell, structure apart
    int cell = 64;

    float global_level = 0; ///< median of the cells
    float global_sigma = 0;

    /// Bilinear between cell centres, constant beyond the outermost.
    float level_at(double x, double y) const;
    float sigma_at(double x, double y) const;
    /// A whole row into `out` (width values).
    void level_row(int y, int width, float* out) const;
    void sigma_row(int y, int width, float* out) const;
};

/// Robust background of an image (NaN pixels ignored).
Background measure_background(View<const float> image, const BackgroundOptions& options = {});

} // namespace kasane

// The sky under the stars: a mesh of robust levels.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/image/image.hpp>

namespace kasane {

struct BackgroundOptions {
    int cell = 64;     ///< side of a cell, pixels
    float clip = 2.5f; ///< sigma clipping inside a cell
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
    /// A whole row into `out` (width values).
    void level_row(int y, int width, float* out) const;
};

/// Robust background of an image (NaN pixels ignored).
Background measure_background(View<const float> image, const BackgroundOptions& options = {});

} // namespace kasane

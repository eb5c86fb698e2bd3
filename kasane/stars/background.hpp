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
    int step = 2; ///< of so many rows one is looked at for levels; 1 where most pixels have no data
};

/// Means of the sky without stars by small cells (sky_mean.hpp); NaN where stars cover it.
struct SkyMeans {
    Image values;
    int cell = 16;             ///< side of a cell, pixels; the last ones end with the image
    int width = 0, height = 0; ///< of the image
    bool empty() const { return values.empty(); }
    /// The sky around a place: a plane through the cells up to so many pixels away across and down, each counting the
    /// less the farther it lies, where that goes through the place. Where the sky is curved that depends on the place
    /// alone, not on how the cells lie. NaN where less than 40 % of what counts is known.
    float at(double x, double y, double reach_x, double reach_y) const;
    float at(double x, double y, double reach) const { return at(x, y, reach, reach); }
};

/// Level and noise by cells. Cell (i, j) covers `cell` x `cell` pixels from (i, j) x cell; its value holds at its
/// centre.
struct Background {
    Image level; ///< cells that stand out from their neighbours (a bright star) take their median
    Image sigma; ///< noise of a pixel within the cell, structure apart
    int cell = 64;
    SkyMeans means; ///< empty: not taken

    float global_level = 0; ///< median of the cells
    float global_sigma = 0;
    /// How much more differences over twice the distance tell, median of the cells: above 1 where stars and nebula take
    /// part in what the pixels show as noise.
    float texture = 1;

    /// Bilinear between cell centres, constant beyond the outermost.
    float level_at(double x, double y) const;
    float sigma_at(double x, double y) const;
    /// A row from column `first` on into `out` (`count` values).
    void level_row(int y, int first, int count, float* out) const;
    /// What sigma_at tells of none of `count` pixels of a row from column `first` on to be below.
    float least_sigma(int y, int first, int count) const;
    /// A row of pixels without the level; 0 where one is no number.
    void above_level_row(int y, int first, int count, const float* pixels, float* out) const;
};

/// Robust background of an image (NaN pixels ignored).
Background measure_background(View<const float> image, const BackgroundOptions& options = {});

} // namespace kasane

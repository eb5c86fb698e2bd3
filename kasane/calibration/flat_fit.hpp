// Does a flat fit a light? Told from the light itself: what the flat takes out must have been in it.
#pragma once

#include <kasane/calibration/calibrated_view.hpp>

#include <string>

namespace kasane {

/// Figures of how evenly a frame is lit, from the levels of its blocks.
struct Illumination {
    double corner_ratio = 0; ///< level of the corners over that of the middle
    double unevenness = 0;   ///< RMS of block levels about a tilted plane, relative to the level
    int defects = 0;         ///< pixels that stand out from their neighbours and are no stars
};

struct FlatFit {
    bool measured = false; ///< the flat has structure enough, and the light is bright enough, to tell
    double strength = 0;   ///< power of the flat that fits the light best: 1 where it is right, 0 where it has no part
    double sigma = 0;      ///< its error, from how parts of the frame disagree
    double fine = 0;       ///< the same from dust shadows and other small structure alone; NaN where there is none
    double fine_sigma = 0; ///< its error
    int turned = 0;        ///< clockwise degrees by which the flat would fit better, where it plainly does
    std::string doubt;     ///< what is wrong, in words; empty: nothing
};

/// Levels of blocks of a whole frame.
struct BlockLevels {
    Image levels;     ///< of blocks, each about a hundredth of the longer side
    int block = 0;    ///< pixels along the side of one
    double noise = 0; ///< of a pixel of the frame
};

/// Those of the light, offset and dark removed, not divided by its flat. Reads it whole. Throws InputError.
BlockLevels light_levels(const CalibratedView& view);
/// Those of its flat, which other lights may have in common, by blocks of `block` pixels, as the light's. Reads it
/// whole, a row of blocks at a time. Throws InputError.
BlockLevels flat_levels(const CalibratedView& view, int block);
/// Those of a light before its flat was taken out: `calibrated`, by the flat's blocks, times the flat's. As many as
/// both have across and down. To a factor: a fit asks for none.
BlockLevels before_flat(const BlockLevels& calibrated, const BlockLevels& flat);
/// The side of a block as light_levels has them, pixels; even.
int block_side(int width, int height);

/// Compares the light (offset and dark removed, not divided by the flat) with the flat in blocks: after planes are
/// taken off both, the slope of one's structure on the other's (robust least squares) is the power of the flat that the
/// light really holds. Nebulae and stars have no structure in common with a flat and only add scatter; a slope far from
/// one in all quarters of the frame means another flat, one that was turned, or an offset left in either.
FlatFit fit_flat(const BlockLevels& light, const BlockLevels& flat);
/// The same of a light that is calibrated with its flat; both are read whole. Throws InputError.
FlatFit fit_flat(const CalibratedView& view);

/// Figures of a whole plane (ADU, offset removed).
Illumination measure_illumination(View<const float> plane, const CfaPattern& cfa);

} // namespace kasane

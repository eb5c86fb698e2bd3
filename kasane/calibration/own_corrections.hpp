// What one exposure alone needs beside its masters: lone hot and cold pixels, charge spilled from saturated stars, and
// on request the offsets of rows and columns that the masters left.
#pragma once

#include <kasane/calibration/calibrated_view.hpp>

#include <span>
#include <string>

namespace kasane {

struct OwnCorrectionOptions {
    bool lone_pixels = false;   ///< hot and cold ones; for lights that no dark fits
    double lone_sigmas = 6;     ///< excess over the same-coloured neighbours from which a pixel is looked at
    bool spills = true;         ///< of saturated stars
    float saturation = 0;       ///< ADU after calibration; 0: unknown, spills are not looked for
    bool equalise_rows = false; ///< take out offsets of whole rows
    bool equalise_columns = false;
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// Examines a whole calibrated plane (ADU; a mosaic with its pattern, else `cfa` empty).
///
/// Lone pixels: those that stand `lone_sigmas` above or below their neighbours of the same colour while the four pixels
/// beside them do not share the excess. A point seen through any glass, integrated over pixels, lifts its four
/// neighbours together at least as much as itself, down to a FWHM of 1.3 pixels; so star cores are never taken.
/// Of a mosaic behind a narrow filter, where one colour alone sees stars, the next pixels of that colour must share
/// instead, which holds from a FWHM of about 2.5 pixels.
///
/// Spills: connected saturated pixels that reach much further along the columns than across: what lies beyond the
/// star's own disc.
///
/// Offsets: the median of each row (column) less the mean of rows on both sides, where eight parts of the row agree on
/// it within their noise. Anything that does not cross the whole frame evenly, and anything more than a dozen rows
/// high, is left as it is.
/// `tops`: the highest value of each row where they are known already, else empty.
OwnCorrections find_own_corrections(View<const float> plane, const CfaPattern& cfa, const OwnCorrectionOptions& options,
                                    std::span<const float> tops = {});

} // namespace kasane

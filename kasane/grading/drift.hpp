// How the telescope moved through a night, and what that usually means.
//
// Steps are told from dithering by medians before and after; what remains is a line (P. Sen, JASA 63, 1968) and, where
// its chance probability is small, one period (N. Lomb, Ap&SS 39, 1976; J. Scargle, ApJ 263, 1982).
#pragma once

#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// Where one exposure looked, on the reference's grid, so that a turn by the meridian changes nothing.
struct Pose {
    double time = 0;         ///< seconds, any origin
    double x = 0, y = 0;     ///< pixels
    double rotation = 0;     ///< degrees, modulo 180
    double eccentricity = 0; ///< of its stars
};

struct Drift {
    int exposures = 0;
    double hours = 0;                   ///< from the first to the last
    double x_rate = 0, y_rate = 0;      ///< pixels an hour; 0 unless more than chance
    double rotation_rate = 0;           ///< degrees an hour, the same
    double scatter = 0;                 ///< of what is left, pixels: dithering, guiding
    double period = 0, amplitude = 0;   ///< seconds, pixels; 0: none
    std::vector<std::size_t> jumps;     ///< the first exposure after each, by index
    std::vector<std::size_t> elongated; ///< exposures whose stars are drawn out against the others
    std::vector<std::string> diagnosis; ///< sentences; never empty
};

/// Diagnoses the exposures of one night in order of time. `arcsec` of a pixel, 0 unknown, adds angles to the words.
/// Fewer than six exposures, or times that are all the same, give no rates.
Drift diagnose_drift(const std::vector<Pose>& poses, double arcsec = 0);

} // namespace kasane

// How a stack grew through its nights, and what more of them would add.
#pragma once

#include <string>
#include <vector>

namespace kasane {

/// A light of a stack that was used.
struct GrowthLight {
    std::string night;
    double seconds = 0;
    double worth = 0; ///< 0..1; 0: not known, it is not counted
};

/// What a night brought.
struct NightGain {
    std::string night;
    int lights = 0;
    double seconds = 0, effective = 0;             ///< of its lights; the same, each times its worth
    double seconds_until = 0, effective_until = 0; ///< with all nights before
    double noise = 0;                              ///< of the mean of all lights until then, unit as given
};

struct StackGrowth {
    std::vector<NightGain> nights; ///< by their names, which are dates
    double worth = 0;              ///< of a second, mean
    /// Relative change of the noise if as much came once more as the best night brought, as the median one, and two
    /// hours of such lights; 0: not known.
    double best_night = 0, usual_night = 0, two_hours = 0;
};

/// Noise falls with the square root of the effective exposure (worth.hpp); `noise` is that of all lights together.
StackGrowth growth_of(const std::vector<GrowthLight>& lights, double noise);

/// The flux that stands out of the noise by five sigma in a disc as wide as the FWHM of the stars, unit of the noise
/// times pixels: how deep an image goes. `noise` is that of a pixel, as it were without resampling. 0: not known.
double limiting_flux(double noise, double fwhm);

/// The same as a magnitude, where that of a flux of 1 is known. NaN: not known.
double limiting_magnitude(double noise, double fwhm, double zero_point);

} // namespace kasane

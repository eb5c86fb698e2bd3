// What is measured of every exposure, once.
#pragma once

#include <kasane/calibration/calibrated_view.hpp>
#include <kasane/stars/detection.hpp>

#include <string>
#include <vector>

namespace kasane {

struct Measures {
    std::vector<Star> stars; ///< brightest first
    double fwhm = 0;         ///< pixels; 0 when no star could be fitted
    double eccentricity = 0;
    double background = 0; ///< ADU, median over the frame
    double noise = 0;      ///< ADU, of a background pixel
    Background mesh;
};

struct MeasureOptions {
    DetectOptions detect;
    int kept_stars = 500; ///< of the list, for registration and normalisation
};

/// Calibrates the whole exposure in memory, measures it and forgets the pixels. Memory: 4 bytes a pixel. Throws
/// InputError.
Measures measure_exposure(const CalibratedView& view, const MeasureOptions& options = {});

} // namespace kasane

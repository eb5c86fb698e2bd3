// What is measured of every exposure, once.
#pragma once

#include <kasane/calibration/frame_view.hpp>
#include <kasane/calibration/own_corrections.hpp>
#include <kasane/stars/detection.hpp>

#include <string>
#include <vector>

namespace kasane {

/// Of one plane; positions on the grid of the view.
struct Measures {
    std::vector<Star> stars; ///< brightest first
    double fwhm = 0;         ///< pixels; 0 when no star could be fitted
    double eccentricity = 0;
    double background = 0; ///< ADU, median over the frame
    double noise = 0;      ///< ADU, of a background sample: of a sensor pixel where planes are demosaiced
    Background mesh;
};

/// Of all planes, with what the exposure needs beside its masters.
struct ExposureMeasures {
    std::vector<Measures> planes; ///< one, or red, green and blue
    OwnCorrections own;
    /// The plane that stands for the exposure: green of three.
    const Measures& main() const { return planes[planes.size() == 3 ? 1 : 0]; }
};

struct MeasureOptions {
    DetectOptions detect;
    OwnCorrectionOptions own; ///< its saturation is detect's
    int kept_stars = 500;     ///< of the list, for registration and normalisation
};

/// Calibrates the whole exposure in memory, measures it and forgets the pixels. In three planes stars are found in
/// green and their fluxes measured in all, unless the view's colours are separate: then each plane has its own list.
/// Memory: 4 bytes a pixel and plane. Throws InputError.
ExposureMeasures measure_exposure(const FrameView& view, const MeasureOptions& options = {});

} // namespace kasane

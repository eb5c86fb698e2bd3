// What is measured of every exposure, once.
#pragma once

#include <kasane/calibration/frame_view.hpp>
#include <kasane/calibration/own_corrections.hpp>
#include <kasane/calibration/pile_up.hpp>
#include <kasane/grading/frame_noise.hpp>
#include <kasane/grading/preview.hpp>
#include <kasane/stars/detection.hpp>
#include <kasane/stars/streaks.hpp>

#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// Of one plane; positions on the grid of the view.
struct Measures {
    std::vector<Star> stars; ///< brightest first
    double count = 0;        ///< of all stars above the threshold, also of those that are not in the list
    double threshold = 0;    ///< of the weakest star looked for, in units of noise
    double fwhm = 0;         ///< pixels; 0 when no star could be fitted
    double eccentricity = 0;
    double angle = 0;              ///< of the stars' common direction, degrees counter-clockwise as displayed
    double alignment = 0;          ///< share of the elongation that all stars have in common, 0..1
    double background = 0;         ///< ADU, median over the frame
    double noise = 0;              ///< ADU, of a background sample: of a sensor pixel where planes are demosaiced
    bool noise_from_level = false; ///< told by its level, not by its pixels
    double flat_noise_share = 0;   ///< by how much the noise of the master flat raises it, relative; 0 also: not known
    Background mesh;
};

/// Of all planes, with what the exposure needs beside its masters.
struct ExposureMeasures {
    std::vector<Measures> planes; ///< one, or red, green and blue
    OwnCorrections own;
    PileUp pile;                 ///< of its raw pixels
    int width = 0, height = 0;   ///< of the grid of the view
    std::vector<Streak> streaks; ///< of the plane that stands for the exposure
    Image saturated;             ///< share of saturated pixels by cells of the mesh
    double darkened_edge = 0; ///< share of the field, see obstruction.hpp; means nothing where the offset is not known
    PreviewScale preview_scale; ///< of the preview that was made with these measures
    /// The plane that stands for the exposure: green of three.
    const Measures& main() const {
        return planes[static_cast<std::size_t>(main_plane(static_cast<int>(planes.size())))];
    }
};

struct MeasureOptions {
    DetectOptions detect;     ///< its saturation of raw pixels; lower where the exposure shows it
    OwnCorrectionOptions own; ///< its saturation is detect's
    StreakOptions streaks;
    SensorNoise sensor;     ///< what is known of the noise beside the pixels
    int kept_stars = 500;   ///< of the list, for registration, normalisation and grading
    int preview_size = 900; ///< longer side, pixels, at most
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// Memory that measuring one exposure leaves to the next of the same size: the system need not clear new pages for it.
/// Of one thread.
struct MeasureRoom {
    Image pixels;
    Image samples, filled, quarter; ///< of mosaics: one colour; green everywhere; a colour that has one pixel in four
    Mask cover;
};

/// Calibrates the whole exposure in memory, measures it and forgets the pixels. In three planes stars are found in
/// green and their fluxes measured in all, unless the view's colours are separate: then each plane has its own list.
/// A mosaic that integration will demosaic is measured as it is, each colour on its own samples. `preview`, if given,
/// receives the whole frame in small; `room` is used, and left for the next. Memory: 16 bytes a pixel of a mosaic, 8
/// bytes a pixel and plane otherwise. Throws InputError.
ExposureMeasures measure_exposure(const FrameView& view, const MeasureOptions& options = {},
                                  Raster<std::uint8_t>* preview = nullptr, MeasureRoom* room = nullptr);

} // namespace kasane
